"""Following a roll that another process carries out."""

from __future__ import annotations

import asyncio
import contextlib
import signal

from gallant.core.work.plan import Plan, steps_of
from gallant.engine.journal import RollState, replay
from gallant.engine.journal import after as replay_on
from gallant.engine.means import End
from gallant.operations.ground.workplace import Workplace
from gallant.operations.roll.carrying import RollEnded, Show
from gallant.operations.roll.rolling import FOLLOW_S
from gallant.store.leases import LEASE_S


async def follow(place: Workplace, roll_id: str, show: Show) -> RollEnded:
    """Show a roll that another process carries out, here or on another machine, until it comes to rest or nobody writes
    its journal any more; ctrl-C ends the looking, never the roll."""
    row, events = place.journal.roll(roll_id), place.journal.events(roll_id)
    speed = place.estate.simulation.speed if place.estate.simulation else None
    enough, heard = asyncio.Event(), place.clock.real()
    loop = asyncio.get_running_loop()
    loop.add_signal_handler(signal.SIGINT, enough.set)
    show.begin(roll_id, row.plan, speed, events)
    state, last = replay(events), len(events)
    try:
        while not enough.is_set():
            running = place.journal.is_running(roll_id)
            if state.state in ("finished", "ended") or not (running or place.clock.real() - heard < LEASE_S):
                break
            if state.state in ("held", "stopped") and not running:
                break
            _show_progress(place, row.plan, state, show)
            with contextlib.suppress(TimeoutError):
                await asyncio.wait_for(enough.wait(), FOLLOW_S)
            for event in place.journal.events(roll_id, last):
                show.event(event)
                state, last, heard = replay_on(state, event), event.seq, place.clock.real()
    finally:
        loop.remove_signal_handler(signal.SIGINT)
    return RollEnded(id=roll_id, plan=row.plan.id, end=_seen_to_end(roll_id, state, enough.is_set()))


def _show_progress(place: Workplace, plan: Plan, state: RollState, show: Show) -> None:
    """How far the steps under way are by their estimates; only the process that carries them out knows more."""
    now, steps = place.clock.now(), {s.id: s for waves in state.waves.values() for s in steps_of(waves)}
    for name, step in steps.items():
        known = state.step(name)
        if known.open and known.intent is not None:
            began = known.intent.entry.at
            elapsed = (now - began).total_seconds()
            percent = min(99.0, 100 * elapsed / step.estimate_s) if step.estimate_s else 0.0
            show.progress(name, percent, known.accepted.entry.message if known.accepted is not None else "")
            show.waiting(began, now, name)


def _seen_to_end(roll_id: str, state: RollState, enough: bool) -> End:
    if enough:
        return End(state="followed", message=f"{roll_id} goes on without you.", next=f"gallant roll --follow {roll_id}")
    if state.state == "open":
        return End(
            state="held",
            message=f"{roll_id} was cut off: no process carries it out.",
            next=f"gallant resume {roll_id}",
        )
    return End(state=state.state, message=state.message or f"{roll_id} is {state.state}.", next=state.next)
