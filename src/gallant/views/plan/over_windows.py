"""All that is behind in the windows to come: when each begins, what it waits for, what somebody has to accept for
it."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from typing import TYPE_CHECKING

from gallant.views.ground.parts import Drawn, Listed, View
from gallant.views.ground.tables import Grid, barred_lines, next_steps, table
from gallant.views.ground.words import BOLD, DIM, OFF, duration, many, mark, plain, said

if TYPE_CHECKING:
    from gallant.operations.plan.over_windows import OverWindows, Slot

SLOTS: Listed[Slot] = Listed("plan --all", "plan --all", beside=("plan", "path", "gap", "barred"))


def over_windows_view(found: OverWindows, now: datetime) -> View:
    more = {"plan": found.plan, "path": found.path, "gap": found.gap, "barred": found.barred}
    return SLOTS.view(found.slots, lambda: _over_windows_text(found), more)


def _over_windows_text(found: OverWindows) -> Drawn:
    placed = [slot for slot in found.slots if slot.span is not None]
    yield (
        f"{BOLD}{plain(found.plan)}{OFF} over the windows to come: {BOLD}{len(placed)}{OFF} of"
        f" {many(len(found.slots), 'piece')} of work have their place  {DIM}{plain(found.path)}{OFF}"
    )
    yield _slot_table(placed)
    for slot in (slot for slot in found.slots if slot.span is None):
        yield (
            f"{mark('bad')} {BOLD}{plain(slot.piece)}{OFF} ({duration(slot.length_s)}) has no place: {plain(slot.why)}."
        )
    for slot in (slot for slot in placed if slot.not_booked):
        yield f"{mark('bad')} {BOLD}{plain(slot.piece)}{OFF} is not booked: {plain(slot.not_booked)}"
    if any(slot.parts > 1 for slot in placed) and not found.rests:
        yield (
            f"{mark('work')} What goes over several windows rests between them; somebody resumes it, or the estate"
            " books its rest (due: {rests: yes})."
        )
    yield from barred_lines(found.barred)
    if found.gap is not None:
        yield _how_good(found.gap)
    yield from next_steps(*_steps(found))


def _slot_table(placed: Sequence[Slot]) -> Grid:
    """What has its place, in the order of its beginning; a day is named once."""
    columns = ("begins, UTC", "over by", "system", "long", "window ends", "after", "stands")
    shown = table(*columns, right=("long",), optional=("window ends",))
    day = ""
    for slot in placed:
        assert slot.span is not None
        own = f"{slot.span.begin:%a %Y-%m-%d}"
        shown.add_row(
            f"{f'{own} ' if own != day else ' ' * (len(own) + 1)}{BOLD}{slot.span.begin:%H:%M}{OFF}",
            f"{slot.span.end:%H:%M}",
            f"{BOLD}{plain(slot.piece.replace('+', ', '))}{OFF}",
            duration(slot.length_s),
            f"{slot.window.end:%a %H:%M}" if slot.window is not None and slot.window.length.days < 2 else "–",
            plain(", ".join(slot.needs)) or "–",
            _stands(slot),
        )
        day = own
    return shown


def _how_good(gap: float) -> str:
    """How far from the best a schedule is at most, as a share of what the best could be worth."""
    if gap > 0.0005:
        return f"{mark('note')} At most {100 * gap:.1f} % better is possible: the severe first, early before late."
    return f"{mark('note')} No better schedule exists: the severe first, early before late."


def _stands(slot: Slot) -> str:
    if slot.booked:
        return said("good", "booked")
    if slot.not_booked:
        return said("bad", "not booked")
    return f"needs {plain(' '.join(slot.consents))}" if slot.consents else "–"


def _steps(found: OverWindows) -> list[str]:
    if found.asked:
        failed = [slot.next for slot in found.slots if slot.not_booked and slot.next]
        done = ["gallant due --list"] if any(slot.booked for slot in found.slots) else []
        return [*dict.fromkeys(failed), *done]
    words = dict.fromkeys(word for slot in found.slots if slot.span is not None for word in slot.consents)
    return [
        " ".join(["gallant plan --all --book", *(f"--consent {word}" for word in words)]),
        f"gallant plan --show {found.plan}",
    ]
