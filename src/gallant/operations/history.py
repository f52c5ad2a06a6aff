"""History: past rolls and their steps, from the journal alone."""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from datetime import datetime
from typing import NamedTuple

from gallant.core.after.claims import Claim
from gallant.core.assess.outages import Outage
from gallant.core.errors import GallantError
from gallant.core.records import Record
from gallant.core.work.events import OUTAGE, RESUMED, Event
from gallant.core.work.learning import Spread
from gallant.core.work.plan import Hop, Plan, Step, Wave, brought, steps_of
from gallant.core.work.steps import doing
from gallant.engine.journal import RollState, grammar_problems, replay
from gallant.operations.claims import claims_of
from gallant.operations.workplace import Workplace


class Run(Record):
    """One roll. `state` is running, cut off, held, stopped, finished or ended; `undoes` is the roll that it takes back.

    `watched` are the services that were probed (None: not known), `unwatched` the systems of which none was; `blind_s` is
    for how long nothing was probed between its beginning and its end, because no process carried it out.
    `estimate_s` is how long its plan said, `spread` in half and in nine of ten cases (None: not said then);
    `planned_outage_s` is the longest that its plan counted on for one service, in real seconds.
    """

    run: str
    plan: str
    began: datetime
    ended: datetime | None
    state: str
    systems: tuple[str, ...]
    outages: tuple[Outage, ...]
    watched: tuple[str, ...] | None = None
    unwatched: tuple[str, ...] = ()
    blind_s: float = 0
    planned_outage_s: float = 0
    estimate_s: float = 0
    spread: Spread | None = None
    undoes: str | None = None
    message: str = ""
    next: str | None = None


class StepRow(Record):
    """One step as the journal has it; times are estate time, `seconds` between its last intent and its outcome. `wave` counts from 1 in
    its `hop`, which brings `system` `from` one release to another; `doing` is what it does, in a word or two."""

    step: str
    kind: str
    subject: str
    to: str
    system: str
    hop: str
    brings: str
    wave: int
    why: str
    doing: str
    state: str
    attempts: int
    began: datetime | None
    ended: datetime | None
    seconds: float | None
    estimate: float
    message: str


def history(place: Workplace) -> tuple[list[Run], list[GallantError]]:
    """Newest first; and what is to be said of those that cannot be read any more."""
    rows, wrong = place.journal.rolls()
    found = []
    for row in rows:
        try:
            found.append(_run(place, row.id, row.plan, row.began, row.ended))
        except GallantError as error:
            wrong.append(error)
    return found, wrong


def one(place: Workplace, run: str) -> tuple[Run, list[StepRow]]:
    """One roll and its steps, in the order of the work; steps that did not come up yet are as the plan has them."""
    row = place.journal.roll(run)
    state = replay(place.journal.events(run))
    steps = [
        _step(step, state, hop, number, wave)
        for lane in row.plan.lanes
        for hop in lane.hops
        for number, wave in enumerate(state.waves.get(hop.id, hop.waves), 1)
        for step in steps_of((wave,))
    ]
    return _run(place, row.id, row.plan, row.began, row.ended), steps


def claims(place: Workplace, run: str) -> tuple[Claim, ...]:
    """What a roll saw that the publishers of its releases do not say."""
    return claims_of(place, place.journal.roll(run))


def verify(place: Workplace, run: str) -> tuple[int, list[str]]:
    """The number of events of a roll's journal, and everything in which they break its grammar."""
    place.journal.roll(run)
    events = place.journal.events(run)
    return len(events), grammar_problems(events)


def _run(place: Workplace, run: str, plan: Plan, began: datetime, ended: datetime | None) -> Run:
    events = place.journal.events(run)
    state = replay(events)
    shown: str = state.state
    if state.state == "open":
        shown = "running" if place.journal.is_running(run) else "cut off"
    elif state.state in ("held", "stopped") and place.journal.is_running(run):
        shown = "running"
    outages = tuple(
        event.entry.outage for event in events if event.entry.kind == OUTAGE and event.entry.outage is not None
    )
    following = f"gallant resume {run}" if shown == "cut off" else state.next
    last = events[-1].entry.at if ended is None and events and shown in ("held", "stopped") else ended
    watch = _watch(plan, events)
    return Run(
        run=run,
        plan=plan.id,
        began=began,
        ended=last,
        state=shown,
        systems=plan.systems,
        outages=outages,
        watched=watch.watched,
        unwatched=watch.unwatched,
        blind_s=watch.blind_s,
        estimate_s=plan.estimate_s,
        spread=plan.spread,
        planned_outage_s=max((step.interrupts_s for step in plan.steps()), default=0.0),
        undoes=plan.undoes,
        message=state.message,
        next=following,
    )


class _Watch(NamedTuple):
    watched: tuple[str, ...] | None
    unwatched: tuple[str, ...]
    blind_s: float


def _watch(plan: Plan, events: Sequence[Event]) -> _Watch:
    """What was probed, and for how long nothing was: between the last word of one process and the first of the next."""
    known = [event.entry.watched for event in events if event.entry.watched is not None]
    watched = None if not known else tuple(dict.fromkeys(one.service for ones in known for one in ones))
    seen = {one.system for ones in known for one in ones}
    pairs = itertools.pairwise(events)
    blind = sum((b.entry.at - a.entry.at).total_seconds() for a, b in pairs if b.entry.kind == RESUMED)
    unwatched = () if watched is None else tuple(name for name in plan.systems if name not in seen)
    return _Watch(watched, unwatched, max(0.0, blind))


def _step(step: Step, state: RollState, hop: Hop, number: int, wave: Wave) -> StepRow:
    known = state.step(step.id)
    began = known.intent.entry.at if known.intent else None
    ended = known.outcome.entry.at if known.outcome else None
    result = "open" if known.open else (known.outcome.entry.result or "" if known.outcome else "to come")
    return StepRow(
        step=step.id,
        kind=step.kind,
        subject=step.subject,
        to=step.to,
        system=hop.system,
        hop=hop.id,
        brings=brought(hop),
        wave=number,
        why=wave.why,
        doing=doing(step) if step.system == hop.system else f"{doing(step)} {step.subject}",
        state=result,
        attempts=known.attempts,
        began=began,
        ended=ended,
        seconds=(ended - began).total_seconds() if began and ended else None,
        estimate=step.estimate_s,
        message=known.outcome.entry.message if known.outcome else "",
    )
