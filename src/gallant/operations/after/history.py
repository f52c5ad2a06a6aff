"""History: past rolls and their steps, from the journal alone."""

from __future__ import annotations

import itertools
from collections import Counter
from collections.abc import Mapping, Sequence
from datetime import datetime, timedelta
from typing import NamedTuple

from gallant.core.after.claims import Claim
from gallant.core.documents import suggestion
from gallant.core.errors import GallantError, WrongUse
from gallant.core.estate.calendar import windows_of_all
from gallant.core.outages import Outage, Watched
from gallant.core.records import Record, clean
from gallant.core.steps.kinds import doing
from gallant.core.windows.rules import open_at
from gallant.core.work.events import OUTAGE, RESUMED, Event, RollRow
from gallant.core.work.paces import Spread
from gallant.core.work.plan import Hop, Plan, Step, Wave, brought, steps_of
from gallant.engine.journal import RollState, grammar_problems, replay
from gallant.operations.decide.claims import claims_of
from gallant.operations.ground.sealing import seal_problem
from gallant.operations.ground.workplace import Workplace


class WasDown(Record):
    """A system that a plan takes down: for how long in all somebody accepted that
    (`planned_s`), and for how long it was so, by the service that was away longest, or by
    its own address (`by`; empty: it was not watched). Seconds of estate time."""

    system: str
    planned_s: float
    by: str = ""
    seen_s: float = 0
    goes_on: bool = False


class Run(Record):
    """One roll. `state` is running, cut off, held, stopped, finished or ended; `undoes` is the roll that it takes back.

    `outages` are those of services, `downs` what its plan takes down. `watched` are the services that
    were probed (None: not known), `unwatched` the systems of which none was; `blind_s` is for how long
    nothing was probed between its beginning and its end, because no process carried it out. `estimate_s`
    is how long its plan said, `spread` in half and in nine of ten cases (None: not said then);
    `planned_outage_s` is the longest that its plan counted on for one service, in real seconds.
    """

    run: str
    plan: str
    began: datetime
    ended: datetime | None
    state: str
    systems: tuple[str, ...]
    outages: tuple[Outage, ...]
    downs: tuple[WasDown, ...] = ()
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
    """One step as the journal has it; times are estate time, `seconds` between its last
    intent and its outcome. `wave` counts from 1 in its `hop`, which brings `system`
    `from` one release to another; `doing` is what it does, in a word or two."""

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


STATES = ("running", "cut off", "held", "stopped", "finished", "ended")


class OutMonth(Record):
    """How often and for how long a service was out in a month, in seconds."""

    month: str
    service: str
    outages: int
    seconds: float


class Totals(Record):
    """What some rolls come to: how many by state, outages by month and service, and of
    those that have windows how many finished in the one that they began in."""

    states: dict[str, int]
    outages: tuple[OutMonth, ...]
    in_window: int
    with_windows: int


def history(
    place: Workplace,
    systems: Sequence[str] = (),
    since: timedelta | None = None,
    states: Sequence[str] = (),
    most: int | None = None,
) -> tuple[list[Run], list[GallantError]]:
    """Newest first, of some systems, of a stretch of time, in some states, and no more than `most`; and what is to be
    said of those that cannot be read any more. A journal is replayed only of what is given. Raises `WrongUse` for a
    system that neither the estate nor any roll knows."""
    first, found = place.clock.now() - since if since is not None else None, list[Run]()
    if systems:
        _known_to_any(place, systems)
    rows, wrong = place.journal.rolls(systems or None, most=None if states else most, since=first)
    for row in rows:
        if len(found) == most:
            break
        if _is_before(row, first):
            continue
        try:
            run = _run(place, row.id, row.plan, row.began, row.ended)
        except GallantError as error:
            wrong.append(error)
            continue
        if not states or run.state in states:
            found.append(run)
    return found, wrong


def _known_to_any(place: Workplace, systems: Sequence[str]) -> None:
    """Raise `WrongUse` for a system that neither the estate nor any roll knows."""
    if all(name in place.estate.systems for name in systems):
        return
    known = {*place.estate.systems, *(name for row in place.journal.rolls()[0] for name in row.plan.systems)}
    for name in (name for name in systems if name not in known):
        raise WrongUse(
            f"No system and no roll is of {clean(name, 60)!r}{suggestion(name, sorted(known))}.",
            next="gallant history lists all",
        )


def _is_before(row: RollRow, first: datetime | None) -> bool:
    return first is not None and (row.ended or row.began) < first


def totals(place: Workplace, runs: Sequence[Run]) -> Totals:
    """How rolls ended, how long services were out in each month, and how many rolls kept their windows."""
    ended = Counter(run.state for run in runs)
    out: dict[tuple[str, str], list[float]] = {}
    for outage in (o for run in runs for o in run.outages):
        out.setdefault((f"{outage.began:%Y-%m}", outage.service), []).append(outage.measured or outage.seconds or 0.0)
    kept = [_in_window(place, run) for run in runs if run.state == "finished" and run.ended is not None]
    return Totals(
        states={state: ended[state] for state in STATES if ended[state]},
        outages=tuple(
            OutMonth(month=month, service=service, outages=len(seconds), seconds=sum(seconds))
            for (month, service), seconds in sorted(out.items(), reverse=True)
        ),
        in_window=kept.count(True),
        with_windows=len(kept) - kept.count(None),
    )


def _in_window(place: Workplace, run: Run) -> bool | None:
    """Whether a roll ended in the window in which it began, by the
    estate as it is; None where none of its systems has any."""
    systems = [place.estate.systems[name] for name in run.systems if name in place.estate.systems]
    spans = windows_of_all(place.estate, systems, run.began - timedelta(days=1), run.began + timedelta(days=2))
    if spans is None or run.ended is None:
        return None
    span = open_at(spans, run.began)
    return span is not None and run.ended <= span.end


def newest(place: Workplace) -> str:
    """The roll that began last. Raises `WrongUse` where there is none."""
    names = place.journal.names()
    if not names:
        raise WrongUse("No roll was begun here yet.", next="gallant plan")
    return names[0]


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
    """The number of events of a roll's journal, and everything in which they
    differ from what the ledger has of them, or break its grammar."""
    place.journal.roll(run)
    events = place.journal.events(run)
    changed = seal_problem(place, run, events)
    return len(events), [*([f"It was changed: {changed}."] if changed is not None else []), *grammar_problems(events)]


def _run(place: Workplace, run: str, plan: Plan, began: datetime, ended: datetime | None) -> Run:
    events = place.journal.events(run)
    state = replay(events)
    shown = _state_shown(place, run, state.state)
    seen = [e.entry.outage for e in events if e.entry.kind == OUTAGE and e.entry.outage is not None]
    probed = {w.service: w for event in events for w in event.entry.watched or ()}
    addresses = {name for name, watched in probed.items() if watched.is_address}
    watch = _watch(plan, events)
    return Run(
        run=run,
        plan=plan.id,
        began=began,
        ended=events[-1].entry.at if ended is None and events and shown in ("held", "stopped") else ended,
        state=shown,
        systems=plan.systems,
        outages=tuple(outage for outage in seen if outage.service not in addresses),
        downs=tuple(_was_down(name, seconds, probed, seen) for name, seconds in plan.down_s.items()),
        watched=watch.watched,
        unwatched=watch.unwatched,
        blind_s=watch.blind_s,
        estimate_s=plan.estimate_s,
        spread=plan.spread,
        planned_outage_s=max((step.interrupts_s for step in plan.steps()), default=0.0),
        undoes=plan.undoes,
        message=state.message,
        next=f"gallant resume {run}" if shown == "cut off" else state.next,
    )


def _state_shown(place: Workplace, run: str, state: str) -> str:
    """How a roll stands: what its journal says, and whether a process carries it out."""
    if state not in ("open", "held", "stopped"):
        return state
    if place.journal.is_running(run):
        return "running"
    return "cut off" if state == "open" else state


def _was_down(system: str, planned_s: float, probed: Mapping[str, Watched], seen: Sequence[Outage]) -> WasDown:
    """What was seen of a system that the plan takes down."""
    found = [
        WasDown(
            system=system,
            planned_s=planned_s,
            by="its own address" if watched.is_address else name,
            seen_s=sum((o.measured if watched.unscaled else o.seconds) or 0.0 for o in own),
            goes_on=any(o.ended is None for o in own),
        )
        for name, watched in probed.items()
        if watched.system == system
        for own in ([o for o in seen if o.service == name],)
    ]
    return max(found, key=lambda one: (one.goes_on, one.seen_s), default=WasDown(system=system, planned_s=planned_s))


class _Watch(NamedTuple):
    watched: tuple[str, ...] | None
    unwatched: tuple[str, ...]
    blind_s: float


def _watch(plan: Plan, events: Sequence[Event]) -> _Watch:
    """What was probed, and for how long nothing was: between the last word of one process and the first of the next."""
    known = [event.entry.watched for event in events if event.entry.watched is not None]
    every = [one for ones in known for one in ones]
    watched = None if not known else tuple(dict.fromkeys(one.service for one in every if not one.is_address))
    seen = {one.system for one in every}
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
