"""Systems whose releases do not go together."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from gallant.core.versions import parse_range
from gallant.views.ground.parts import Drawn, Listed, View
from gallant.views.ground.tables import next_steps, table
from gallant.views.ground.words import (
    BOLD,
    OFF,
    plain,
    said,
)

if TYPE_CHECKING:
    from gallant.operations.ground.last import ConflictRow

CONFLICTS: Listed[ConflictRow] = Listed(
    "gaps-conflicts",
    "gaps --conflicts",
    headings={"runs": "running", "on": "range", "which runs": "other_running"},
)


def conflicts_view(rows: Sequence[ConflictRow]) -> View:
    def text() -> Drawn:
        if not rows:
            yield said("good", "Every requirement between products that is known here holds.")
            return
        shown = table("system", "runs", "standing", "needs", "on", "which runs", "said by")
        for r in rows:
            shown.add_row(
                f"{BOLD}{r.system}{OFF}",
                plain(r.running),
                said("bad" if r.standing == "broken" else "work", r.standing),
                r.needs,
                plain(parse_range(r.range).words()),
                plain(r.other_running or "–"),
                plain(r.said_by),
            )
        yield shown
        yield from next_steps(*(f"gallant plan {r.system}" for r in rows if r.standing == "broken"))

    return CONFLICTS.view(rows, text)
