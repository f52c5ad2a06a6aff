"""What is not as it was before."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

from gallant.core.after.picture import BETTER, LOST, OTHER, PLANNED, Unlike
from gallant.views.ground.words import (
    BOLD,
    DIM,
    OFF,
    mark,
    moment,
    plain,
)

if TYPE_CHECKING:
    pass


MOST_UNLIKE = 20


_MEANS = {LOST: "bad", OTHER: "work", BETTER: "good", PLANNED: "quiet"}


def unlike_lines(found: Sequence[Unlike]) -> Iterator[str]:
    """What is not as it was, losses first; what was planned is no news."""
    shown = [one for one in found if one.means != PLANNED]
    for one in shown[:MOST_UNLIKE]:
        whose = f"{one.system}/{one.node}" if one.node else one.system
        yield (
            f"{mark(_MEANS.get(one.means, 'work'))} {BOLD}{plain(whose)}{OFF} {plain(one.about)}:"
            f" {plain(one.before or 'none')} → {plain(one.after or 'gone')}  {DIM}{one.means}, since"
            f" {moment(one.since)}{OFF}"
        )
    if len(shown) > MOST_UNLIKE:
        yield f"{mark('work')} {len(shown) - MOST_UNLIKE} more differ; --json has them."
