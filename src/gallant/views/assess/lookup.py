"""What is known of a message: issues of publishers, and what was noted here."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

from gallant.core.assess.lookup import Match
from gallant.views.ground.parts import Drawn, View
from gallant.views.ground.tables import next_steps
from gallant.views.ground.words import (
    BOLD,
    DIM,
    OFF,
    mark,
    plain,
    said,
)

if TYPE_CHECKING:
    pass


def match_lines(found: Sequence[Match]) -> Iterator[str]:
    """What is known that is like a message, and what helped then."""
    for one in found:
        helped = f"; then: {plain(one.known.helped)}" if one.known.helped else ""
        source = (
            f"{plain(one.known.source)} of {BOLD}{plain(one.known.about)}{OFF}"
            if one.known.source != "roll"
            else f"{BOLD}{plain(one.known.about)}{OFF}"
        )
        by = f"  {DIM}{plain(one.known.by)}{OFF}" if one.known.by else ""
        yield f"{mark('note')} {source}, {100 * one.likeness:.0f} % alike: {plain(one.known.text)}{helped}{by}"


def found_view(text: str, found: Sequence[Match]) -> View:
    def told() -> Drawn:
        if not found:
            yield said("note", "Nothing that is known here is like it.")
            yield from next_steps("gallant note add PRODUCT|SYSTEM TEXT keeps what you learn of it")
            return
        yield from match_lines(found)

    rows = [
        {
            "likeness": m.likeness,
            "source": m.known.source,
            "about": m.known.about,
            "text": m.known.text,
            "helped": m.known.helped,
            "by": m.known.by,
        }
        for m in found
    ]
    return View("catalog find", rows, told, {"asked": text})
