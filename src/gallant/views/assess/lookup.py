"""What is known of a message: issues of publishers, and what was noted here."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Annotated

from gallant.core.assess.lookup import Known, Match
from gallant.core.estate.systems import Note
from gallant.core.records import fields_of
from gallant.views.ground.parts import Drawn, Listed, View
from gallant.views.ground.rows import ListRow, Says
from gallant.views.ground.tables import next_steps
from gallant.views.ground.words import (
    BOLD,
    DIM,
    OFF,
    mark,
    plain,
    said,
)


class FoundRow(ListRow):
    """Something that is known and is like the words that were asked about; the likest first."""

    likeness: Annotated[float, Says("1 is the same")]
    source: Annotated[str, Says("a known issue, a recall, a note or a roll")]
    about: str
    text: str
    helped: str
    by: str


FOUND: Listed[FoundRow] = Listed("catalog find", "catalog find", beside=("asked",))
NOTED: Listed[Note] = Listed("note add", "note add")


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

    rows = [FoundRow(likeness=m.likeness, **fields_of(m.known, Known)) for m in found]
    return FOUND.view(rows, told, {"asked": text})
