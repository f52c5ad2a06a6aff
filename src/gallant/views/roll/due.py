"""What `gallant due` began, left and will begin; and what was prepared."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import datetime
from typing import TYPE_CHECKING, Annotated

from gallant.views.ground.parts import Drawn, Listed, View
from gallant.views.ground.rows import ListRow, Says
from gallant.views.ground.tables import Grid, next_steps, table
from gallant.views.ground.words import BOLD, OFF, WordMarks, duration, many, mark, plain, said

if TYPE_CHECKING:
    from gallant.core.work.plan import Plan
    from gallant.engine.desk import DueLook, DueRow
    from gallant.operations.plan.preparing import Prepared

MARKS = WordMarks({"begun": "going", "under way": "going", "left": "bad", "to come": "note"})
ORDER = ("left", "begun", "under way", "to come")
MOST_TO_COME = 20


class BookedRow(ListRow):
    """A plan that is prepared by gallant due."""

    plan: str
    at: Annotated[datetime, Says("from when on")]


DUE: Listed[DueRow] = Listed(
    "due",
    "due",
    beside=("busy", "hangs"),
    headings={"about": "subject", "because": "what", "stands": "did", "from": "at", "in": "at"},
)
PREPARED: Listed[Prepared] = Listed("plan prepare", "plan --prepare now", beside=("plan",))
BOOKED: Listed[BookedRow] = Listed("plan prepare", "plan --prepare TIME")


def due_view(turn: DueLook, now: datetime, began: bool) -> View:
    """`began`: it was asked to begin what is due, and not only to show it."""
    rows = sorted(turn.rows, key=lambda row: ORDER.index(row.did))
    return DUE.view(rows, lambda: _due_text(turn, rows, now, began), {"busy": turn.busy, "hangs": turn.hangs})


def _due_text(turn: DueLook, rows: Sequence[DueRow], now: datetime, began: bool) -> Drawn:
    if turn.hangs is not None:
        yield said("bad", f"Nothing was done here: {turn.hangs}.")
        yield from next_steps(turn.way_out, "gallant doctor")
        return
    if turn.busy:
        yield f"{mark('note')} Another gallant due is running; nothing was done here."
        return
    if not rows:
        yield said("note", "Nothing is due, and nothing is booked.")
        yield from next_steps("gallant notice list", "gallant plan --all")
        return
    groups = _groups(rows)
    coming = [one for one in groups if one[0].did == "to come"]
    yield _due_table([*(one for one in groups if one[0].did != "to come"), *coming[:MOST_TO_COME]], now, began)
    if len(coming) > MOST_TO_COME:
        yield f"{mark('note')} {len(coming) - MOST_TO_COME} more to come; --json names them."
    yield from _whys(groups)
    yield from next_steps(*(row.next for row in rows), None if began else "gallant init --timer user")


def _due_table(groups: Sequence[tuple[DueRow, list[str]]], now: datetime, began: bool) -> Grid:
    shown = table("about", "because", "stands", "from", "in", "roll", right=("in",), optional=("roll",))
    for row, names in groups:
        wait = (row.at - now).total_seconds() if row.at is not None else None
        due_now = not began and row.did == "to come" and wait is not None and wait <= 0
        shown.add_row(
            _called(names),
            plain(row.what + (f" by {row.by}" if row.by else "")),
            said("work", "due now") if due_now else said(MARKS[row.did], row.did),
            f"{row.at:%a %Y-%m-%d %H:%M} UTC" if row.at is not None else "no window to come",
            duration(wait) if wait is not None and wait > 0 else "–",
            plain(row.roll or "–"),
        )
    return shown


def _whys(groups: Sequence[tuple[DueRow, list[str]]]) -> Iterator[str]:
    """Each reason once, with all that it is true of."""
    whys = dict[tuple[str, str], list[str]]()
    for row, names in groups:
        if row.why:
            whys.setdefault((row.did, row.why), []).append(_called(names))
    for (did, why), whose in whys.items():
        yield f"{mark(MARKS[did])} {', '.join(whose)} {did}: {plain(why)}"


def _groups(rows: Sequence[DueRow]) -> list[tuple[DueRow, list[str]]]:
    """Rows that say the same of one system's components are one."""
    found: dict[tuple[object, ...], tuple[DueRow, list[str]]] = {}
    for row in rows:
        system, colon, _ = row.subject.partition(":")
        key = (row.did, row.what, row.by, row.at, row.roll, row.why, system, "" if colon else row.subject)
        found.setdefault(key, (row, []))[1].append(row.subject)
    return list(found.values())


def _called(names: Sequence[str]) -> str:
    system, colon, _ = names[0].partition(":")
    if len(names) == 1 or not colon:
        return f"{BOLD}{plain(names[0])}{OFF}"
    parts = sorted((name.partition(":")[2] for name in names), key=lambda part: part != "image")
    more = f" and {len(parts) - 2} more" if len(parts) > 2 else ""
    return f"{BOLD}{plain(system)}{OFF} {plain(', '.join(parts[:2]))}{more}"


def booked_preparation_view(plan: Plan, at: datetime) -> View:
    def text() -> Drawn:
        yield said("good", f"{plain(plan.id)} is prepared from {at:%a %Y-%m-%d %H:%M} UTC on, by gallant due:")
        yield (
            f"  its packages are brought and laid onto the nodes, and a backup of {plain(', '.join(plan.systems))} is"
            " taken."
        )
        yield from next_steps("gallant due --list")

    return BOOKED.view([BookedRow(plan=plan.id, at=at)], text)


def prepared_view(plan: Plan, rows: Sequence[Prepared]) -> View:
    def text() -> Drawn:
        shown = table("what", "of", "state")
        for row in rows:
            shown.add_row(
                row.what, f"{BOLD}{plain(row.subject)}{OFF}", said("bad" if row.exit_code else "good", row.state)
            )
        yield shown
        failed = [row for row in rows if row.exit_code]
        yield from (f"{mark('bad')} {BOLD}{plain(row.subject)}{OFF}: {plain(row.error or row.state)}" for row in failed)
        if failed:
            yield f"{mark('bad')} {many(len(failed), 'thing')} of {plain(plan.id)} could not be prepared."
            yield from next_steps(*(row.next for row in failed))
        else:
            yield said("good", f"All that {plain(plan.id)} needs is here and saved.")
            yield from next_steps(f"gallant plan --show {plan.id}")

    return PREPARED.view(rows, text, {"plan": plan.id})
