"""What a roll answers when it is detached, has ended, or is asked to hold."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from gallant.views.assess.lookup import match_lines
from gallant.views.ground.parts import Drawn, Listed, View
from gallant.views.ground.rows import ListRow
from gallant.views.ground.tables import next_steps
from gallant.views.ground.words import (
    BOLD,
    DIM,
    OFF,
    duration,
    mark,
    plain,
    said,
)
from gallant.views.roll.outages import outage_lines
from gallant.views.roll.runs import STATE_MARKS, RunRow
from gallant.views.roll.unlike import unlike_lines

if TYPE_CHECKING:
    from gallant.operations.after.history import Run
    from gallant.operations.roll.carrying import RollEnded
    from gallant.operations.roll.detaching import Detached
    from gallant.operations.roll.holding import HoldAsked


class HoldRow(ListRow):
    """A roll that was asked to hold, or ended for good; and what keeps its process from doing so."""

    run: str
    state: str
    trouble: str | None = None


DETACHED: Listed[Detached] = Listed("detached", "roll --detach")
ROLLED: Listed[RunRow] = Listed("roll", "roll, resume", beside=("message", "next", "unlike", "like"))
HELD: Listed[HoldRow] = Listed("hold", "hold")


def detached_view(done: Detached) -> View:
    def text() -> Drawn:
        yield (
            f"{said('going', str(done.roll))}  goes on by itself; the terminal is yours. {DIM}What it says is in"
            f" {plain(done.log)}{OFF}"
        )
        yield from next_steps(
            f"gallant roll --follow {done.roll}", f"gallant hold {done.roll}", f"gallant history {done.roll}"
        )

    return DETACHED.view([done], text)


def rolled_view(result: RollEnded, run: Run) -> View:
    rows = [RunRow.of(run)]

    def text() -> Drawn:
        length = f" after {duration((run.ended - run.began).total_seconds())}" if run.ended else ""
        yield ""
        yield f"{BOLD}{result.id}{OFF} {said(STATE_MARKS[result.end.state], result.end.state)}{length}"
        yield plain(result.end.message)
        yield from outage_lines(run)
        yield from (f"{mark('note')} {plain(remark)}" for remark in result.end.remarks)
        yield from unlike_lines(result.unlike)
        yield from match_lines([result.like] if result.like is not None else [])
        yield from next_steps(result.end.next)

    more = {"message": result.end.message, "next": result.end.next, "unlike": result.unlike, "like": result.like}
    return ROLLED.view(rows, text, more)


def asked_view(asked: Sequence[HoldAsked], now: bool) -> View:
    """What was asked of each roll; that it holds is seen in its history."""
    when = "as soon as the act under way has ended" if now else "at its next safe stop"

    def text() -> Drawn:
        for one in asked:
            if not one.running:
                yield said("note", f"No process carries {one.run} out; it stands still already.")
            elif one.trouble is not None:
                yield said("bad", f"{one.run} was asked to hold, and does not: {one.trouble}.")
            else:
                yield said("going", f"{one.run} was asked to hold {when}.")
        yield from next_steps(
            *(one.next for one in asked), f"gallant history{f' {asked[0].run}' if len(asked) == 1 else ''}"
        )

    rows = [HoldRow(run=one.run, state="holding" if one.running else "still", trouble=one.trouble) for one in asked]
    return HELD.view(rows, text)
