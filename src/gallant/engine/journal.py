"""What a journal says: the state of a roll and its steps derived
from its events, and the grammar that events must keep.

Per step: `(intent accepted? told* outcome)*`, where only the last outcome may be `done`,
unless `again` follows it, and only the last attempt may be open, and only while the roll is.
Per roll: `opened` first, `seq` from 1 without a gap, nothing after a terminal event.
"""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from typing import Literal

from gallant.core.records import Record, replace
from gallant.core.work import events as e
from gallant.core.work.events import Event
from gallant.core.work.plan import Wave, steps_of

State = Literal["open", "held", "stopped", "finished", "ended"]


class StepState(Record):
    """What the journal knows of one step: `intent` without `outcome` is a step whose end is not known here."""

    attempts: int = 0
    intent: Event | None = None
    accepted: Event | None = None
    outcome: Event | None = None

    @property
    def done(self) -> bool:
        return self.outcome is not None and self.outcome.entry.result == e.DONE

    @property
    def failed(self) -> bool:
        return self.outcome is not None and self.outcome.entry.result == e.FAILED

    @property
    def open(self) -> bool:
        return self.intent is not None and self.outcome is None


_NOTHING = StepState()


class RollState(Record):
    """A roll as its journal has it so far. `set_aside` are jobs (system, node, id) of steps of which a person said that
    they did not take effect: whatever the node still says of them, they are none."""

    state: State = "open"
    steps: dict[str, StepState] = {}
    waves: dict[str, tuple[Wave, ...]] = {}
    set_aside: frozenset[tuple[str, str, str]] = frozenset()
    consents: tuple[str, ...] = ()
    order: tuple[str, ...] = ()
    message: str = ""
    next: str | None = None
    opens: datetime | None = None

    def step(self, step_id: str) -> StepState:
        return self.steps.get(step_id, _NOTHING)


_ROLL_STATES: dict[str, State] = {
    e.OPENED: "open",
    e.RESUMED: "open",
    e.HELD: "held",
    e.STOPPED: "stopped",
    e.FINISHED: "finished",
    e.ENDED: "ended",
}


def replay(events: Sequence[Event]) -> RollState:
    """The state that the events lead to; raises nothing, a journal with a broken grammar gives what it can."""
    state = RollState()
    for event in events:
        state = after(state, event)
    return state


def after(state: RollState, event: Event) -> RollState:
    """The state with one more event."""
    entry = event.entry
    if entry.kind in _ROLL_STATES:
        consents = tuple(dict.fromkeys((*state.consents, *entry.consents)))
        return replace(
            state,
            state=_ROLL_STATES[entry.kind],
            message=entry.message,
            next=entry.next,
            opens=entry.opens,
            consents=consents,
        )
    if entry.kind == e.DERIVED and entry.hop is not None and entry.waves is not None:
        return replace(state, waves={**state.waves, entry.hop: entry.waves})
    if entry.step is None:
        return state
    known = state.step(entry.step)
    if entry.kind == e.INTENT:
        known = StepState(attempts=known.attempts + 1, intent=event)
    elif entry.kind == e.ACCEPTED:
        known = replace(known, accepted=event)
    elif entry.kind == e.OUTCOME:
        known = replace(known, outcome=event)
        if entry.by is not None and entry.result == e.NOT_STARTED:
            state = replace(state, set_aside=state.set_aside | _job_of(state, entry.step, known))
    elif entry.kind == e.AGAIN:
        known = StepState(attempts=known.attempts)
    order = state.order if entry.step in state.order else (*state.order, entry.step)
    return replace(state, steps={**state.steps, entry.step: known}, order=order)


def _job_of(state: RollState, step_id: str, known: StepState) -> frozenset[tuple[str, str, str]]:
    handle = known.accepted.entry.handle if known.accepted is not None else None
    steps = (step for waves in state.waves.values() for step in steps_of(waves) if step.id == step_id)
    return frozenset((step.system, step.node, handle) for step in steps if handle is not None)


def grammar_problems(events: Sequence[Event]) -> list[str]:
    """Everything in which the events break the grammar; empty for a valid journal."""
    problems: list[str] = []
    if not events:
        return ["the journal is empty"]
    was_never_opened = [event.entry.kind for event in events] == [e.ENDED]  # taken back before its first step
    if events[0].entry.kind != e.OPENED and not was_never_opened:
        problems.append(f"it begins with {events[0].entry.kind}, not with opened")
    ended: Event | None = None
    steps: dict[str, StepState] = {}
    for place, event in enumerate(events, 1):
        entry = event.entry
        if event.seq != place:
            problems.append(f"seq {event.seq} stands where {place} should")
        if ended is not None:
            problems.append(f"seq {event.seq}: {entry.kind} after the roll {ended.entry.kind} at seq {ended.seq}")
        if entry.kind == e.OPENED and place > 1:
            problems.append(f"seq {event.seq}: opened twice")
        if entry.kind in e.TERMINAL:
            ended = ended or event
            problems += [
                f"{name} is left open when the roll {entry.kind}"
                for name, s in steps.items()
                if s.open and entry.kind == e.FINISHED
            ]
        if entry.step is not None:
            problems += _step_problem(event, steps.get(entry.step, StepState()))
            steps = after(RollState(steps=steps), event).steps
    return problems


def _step_problem(event: Event, known: StepState) -> list[str]:
    entry, at = event.entry, f"seq {event.seq}: {event.entry.step}"
    if entry.kind == e.INTENT:
        if known.open:
            return [f"{at}: a new intent before the outcome of the last"]
        if known.done:
            return [f"{at}: an intent after it was done"]
        if entry.attempt != known.attempts + 1:
            return [f"{at}: attempt {entry.attempt}, expected {known.attempts + 1}"]
    elif entry.kind == e.ACCEPTED and (not known.open or known.accepted is not None):
        return [f"{at}: accepted without an open intent"]
    elif entry.kind == e.LATE and not known.open:
        return [f"{at}: late without an open intent"]
    elif entry.kind == e.TOLD and not known.open:
        return [f"{at}: its device was told something without an open intent"]
    elif entry.kind == e.AGAIN and not known.done:
        return [f"{at}: to be done again, and it was not done"]
    elif entry.kind == e.OUTCOME and not known.open:
        return [f"{at}: an outcome without an open intent"]
    elif entry.kind == e.OUTCOME and entry.result not in (e.DONE, e.FAILED, e.NOT_STARTED, e.NOT_SENT):
        return [f"{at}: no such outcome: {entry.result}"]
    return []


def taken_up(events: Sequence[Event]) -> tuple[int, ...]:
    """Where in a journal the roll was taken up again."""
    return tuple(event.seq for event in events if event.entry.kind == e.RESUMED)


def watched_through(known: StepState, again: Sequence[int]) -> bool:
    """Whether the time between a step's beginning and its end is the device's: no
    process ended and none stood still meanwhile, in which nobody looked."""
    if known.intent is None or known.outcome is None or known.outcome.entry.stood_s:
        return False
    return not any(known.intent.seq < seq < known.outcome.seq for seq in again)
