"""What the doctor found, the worst first, each with what would mend it."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from gallant.views.ground.parts import Drawn, Listed, View
from gallant.views.ground.tables import LEVEL_MARKS, next_steps, table
from gallant.views.ground.words import BOLD, OFF, many, mark, plain, said

if TYPE_CHECKING:
    from gallant.operations.setup.doctor import Examined

EXAMINED: Listed[Examined] = Listed(
    "doctor", "doctor", beside=("mended",), headings={"what": "subject", "what mends it": "would"}
)


def examined_view(rows: Sequence[Examined], done: Sequence[tuple[Examined, str]] = ()) -> View:
    def text() -> Drawn:
        for row, what in done:
            yield f"{said('good', row.subject)}  {plain(what)}"
        wrong = [row for row in rows if row.level != "pass"]
        if wrong:
            shown = table("level", "about", "what", "seen", "what mends it")
            for row in wrong:
                shown.add_row(
                    said(LEVEL_MARKS[row.level], row.level),
                    row.about,
                    f"{BOLD}{plain(row.subject)}{OFF}",
                    plain(row.seen),
                    plain(row.would or "–"),
                )
            yield shown
        yield f"{mark('good')} {len(rows) - len(wrong)} of {many(len(rows), 'thing')} are well: {plain(_well(rows))}."
        if any(row.mend for row in rows):
            group = next((f" --group {row.subject}" for row in rows if row.mend and row.group is not None), "")
            yield from next_steps(f"gallant doctor --mend{group} asks before each")

    return EXAMINED.view(rows, text, {"mended": [row.subject for row, _ in done]})


def _well(rows: Sequence[Examined]) -> str:
    return ", ".join(dict.fromkeys(row.about for row in rows if row.level == "pass")) or "none"
