"""Rolls: started from a plan, held, resumed, ended. This wires the ports and the signals; the engine does the work."""

from __future__ import annotations

import asyncio
import contextlib
import signal
from collections import Counter
from collections.abc import Collection, Iterator, Mapping, Sequence
from contextlib import AbstractAsyncContextManager, contextmanager
from datetime import datetime
from typing import Protocol
from urllib.parse import urlsplit

from gallant.core.after.picture import LOST, Picture, Unlike
from gallant.core.assess.checks import CHECKS, check_named
from gallant.core.assess.findings import Finding
from gallant.core.assess.lookup import Match
from gallant.core.assess.notices import Bar
from gallant.core.assess.outages import Watched
from gallant.core.catalog.products import Product, Release, release_digest
from gallant.core.documents import suggestion
from gallant.core.errors import GallantError, Refused, Unreached, WrongUse
from gallant.core.estate.services import SLOW_S, Service
from gallant.core.estate.systems import Node, System, node_name
from gallant.core.ports import Driver, Listener, OneRoll
from gallant.core.readings import Reading
from gallant.core.records import Record, clean, replace
from gallant.core.work.beside import broken_beside
from gallant.core.work.consents import Consent, parse_consent
from gallant.core.work.deriving import derived
from gallant.core.work.events import Event
from gallant.core.work.lanes import dependents
from gallant.core.work.plan import Basis, Plan, Step, basis_differences, shape_words, steps_of
from gallant.core.work.steps import doing
from gallant.core.work.undoing import beyond_undoing
from gallant.drivers.greeting import NETCONF_PORT
from gallant.drivers.probe import SocketProber
from gallant.engine.journal import RollState, replay
from gallant.engine.journal import after as replay_on
from gallant.engine.means import End, Hears, Means, Orders
from gallant.engine.roll import Roll, need_consents
from gallant.operations.assess.lookup import look_up
from gallant.operations.checks import keeping
from gallant.operations.checks.check import check_with, drifted
from gallant.operations.checks.keeping import PictureKept
from gallant.operations.checks.surroundings import PORTS
from gallant.operations.decide import notices
from gallant.operations.decide.approving import refuse_unapproved
from gallant.operations.ground.deciding import end_here, end_roll, record
from gallant.operations.ground.heard import keep_readings
from gallant.operations.ground.keepers import drivers_of
from gallant.operations.ground.last import last_readings
from gallant.operations.ground.sealing import refuse_altered, seal_now
from gallant.operations.ground.survey import survey_with
from gallant.operations.ground.workplace import Workplace
from gallant.operations.keep.backups import PlaceVault
from gallant.operations.keep.components import not_in_stock
from gallant.operations.keep.snapshots import PlaceRestorePoints
from gallant.operations.plan.making import ground_of
from gallant.operations.plan.recorded import refuse_replaced
from gallant.operations.plan.windows import only_booked, refuse_closed, windows_of_plan
from gallant.operations.roll.detaching import say_begun
from gallant.operations.roll.notifying import Message, message_of, notify
from gallant.store.leases import LEASE_S


class Show(Listener, Protocol):
    """Anyone who shows a roll also shows these."""

    def begin(self, roll_id: str, plan: Plan, simulated: float | None, events: list[Event]) -> None: ...
    def notice(self, text: str) -> None: ...


class RollEnded(Record):
    """How a run of a roll ended; what is not as it was before it, where it
    finished; what is known that is most `like` it, where it stopped."""

    id: str
    plan: str
    end: End
    unlike: tuple[Unlike, ...] = ()
    like: Match | None = None

    @property
    def exit_code(self) -> int:
        if self.end.state not in ("finished", "followed"):
            return 4
        return 1 if any(one.means == LOST for one in self.unlike) else 0


class HoldRules(Record):
    """How far a run goes by itself: it holds after each `hold_after` (step, node, wave,
    hop), or from `hold_at` on, at once with `stop_others` when any lane stops. `outside`
    is a person's reason for which no window counts; `unbooked`: no booking does."""

    hold_after: str | None = None
    hold_at: datetime | None = None
    stop_others: bool = False
    outside: str = ""
    unbooked: bool = False


def pace_of(
    place: Workplace, plan: Plan, hold_after: str | None, hold_at: str | None, stop_others: bool, outside: str = ""
) -> HoldRules:
    """What a person asked for; a time without a zone is that of the first system's site. Raises `WrongUse`."""
    at = notices.moment_of(place, plan.systems[0], hold_at) if hold_at is not None else None
    if at is not None and at <= place.clock.now():
        raise WrongUse(
            f"{hold_at} is past; it is {place.clock.now():%Y-%m-%d %H:%M}Z now.", next="Name a time to come."
        )
    return HoldRules(hold_after=hold_after, hold_at=at, stop_others=stop_others, outside=outside)


def _orders(
    place: Workplace,
    plan: Plan,
    pace: HoldRules,
    consents: tuple[str, ...] = (),
    answers: dict[str, bool] | None = None,
    again: tuple[str, ...] = (),
) -> Orders:
    return Orders(
        by=place.user,
        hold_after=pace.hold_after,
        hold_at=pace.hold_at,
        stop_others=pace.stop_others,
        consents=consents,
        answers=answers or {},
        again=again,
        windows=(
            {}
            if pace.outside
            else {name: tuple(spans) for name, spans in windows_of_plan(place, plan, not pace.unbooked).items()}
        ),
        booked=only_booked(place, plan),
    )


class PlaceReleases:
    """The engine's `Releases`: the catalogs as they are in the store now."""

    def __init__(self, place: Workplace) -> None:
        self.place = place

    def current(self, product: str, version: str) -> Release | None:
        found = self.product(product)
        return None if found is None else found.resolve(version)

    def product(self, name: str) -> Product | None:
        return self.place.products.get(name)


async def roll(
    place: Workplace,
    plan: Plan,
    show: Show,
    *,
    pace: HoldRules,
    consents: Sequence[str],
    detach: bool,
    despite_booking: str | None = None,
    despite: Mapping[str, str] | None = None,
    decided_at: int | None = None,
) -> RollEnded:
    """Carry out a plan from its beginning: what must match is compared, checks are run, then the engine starts.

    `despite_booking` is a named person's reason for which bookings for another time do not
    count, `despite` has theirs for passing the stop of a check, by its name. `decided_at`
    is the ledger's entry after which nobody may have decided on what it brings.
    """
    despite = despite or {}
    _may_begin(place, plan, despite)
    systems = systems_of(place, plan)
    _known_systems(plan, [parse_consent(text) for text in consents])
    _refuse_newer(place, plan, decided_at)
    set_aside = _refuse_decided(place, plan, despite_booking)
    if not pace.outside:
        refuse_closed(place, plan, bookings=despite_booking is None)
    async with _drivers(place, plan, systems) as drivers:
        need_consents(plan, drivers, set(consents))
        _refuse_missing(place, plan)
        _have_secrets(place, systems)
        passed = await _looked_at(place, plan, systems, drivers, despite, show, set(consents))
        pace = replace(pace, unbooked=despite_booking is not None)
        orders = _orders(place, plan, pace, consents=tuple(consents))  # what is under way is not booked any more
        before = await keeping.take(place, keeping.around(place, systems), drivers)
        if plan.undoes is not None:
            _end_undone(place, plan.undoes)
        with place.journal.new_roll(plan, place.clock.now(), show.notice) as journal:
            _refuse_newer(place, plan, decided_at, journal)
            words = {one.notice: f"set aside for {journal.id}: {despite_booking}" for one in set_aside}
            _write_down(place, plan, "despite-booking", words)
            words = {
                f"{f.check}:{f.system}": f"{f.message}, passed for {journal.id}: {despite[f.check]}" for f in passed
            }
            _write_down(place, plan, "despite-check", words)
            _write_down(place, plan, "consent", dict.fromkeys(consents, journal.id))
            _write_down(place, plan, "roll", {journal.id: _begun(plan)})
            _write_down(place, plan, "outside-window", {journal.id: pace.outside} if pace.outside else {})
            known = _keep_before(place, journal.id, before, plan, show)
            return await _run(place, plan, drivers, journal, show, orders, detach, known)


def _may_begin(place: Workplace, plan: Plan, despite: Mapping[str, str]) -> None:
    """Raise `Refused` where nothing has to be read to know that a plan may not begin."""
    _may_be_passed(despite)
    _refuse_beyond_undoing(place, plan)
    refuse_unapproved(place, plan)
    place.journal.refuse_open(plan, but=plan.undoes)
    _refuse_beside(place, plan)


def _refuse_beyond_undoing(place: Workplace, plan: Plan) -> None:
    """Raise `Refused` for a plan that takes a roll back by its own word, and does something else."""
    if plan.undoes is None:
        return
    row = place.journal.roll(plan.undoes)
    if beyond := beyond_undoing(plan, row.plan, place.estate, place.products):
        raise Refused(
            f"{plan.id} does more than to take {row.id} back: {'; '.join(beyond[:3])}.",
            "A plan that takes a roll back waits for nobody, so it does nothing else.",
            f"gallant backout {row.id} makes one that does",
        )


def _refuse_beside(place: Workplace, plan: Plan) -> None:
    """Raise `Refused` while a roll is open beside which this one could break what one system asks of another (I7)."""
    for row in (row for row in place.journal.open_rolls() if row.id != plan.undoes):
        readings = last_readings(place, list(dict.fromkeys([*plan.systems, *row.plan.systems])))[0]
        rule = broken_beside(place.estate, readings, place.products, plan, row.plan)
        if rule is not None:
            raise Refused(
                f"{row.id} is not finished, and beside it this could break a requirement: {rule.words}.",
                "Each is in order by itself; which of them is how far at which moment is not.",
                f"gallant resume {row.id} carries on; gallant hold {row.id} --for-good --reason WHY ends it where it"
                " stands.",
            )


def _write_down(place: Workplace, plan: Plan, kind: str, reasons: Mapping[str, str]) -> None:
    """Into the ledger, by what each entry is about."""
    for subject, reason in reasons.items():
        record(place, kind, subject, target=plan.id, reason=reason)


async def _looked_at(
    place: Workplace,
    plan: Plan,
    systems: Sequence[System],
    drivers: Mapping[str, Driver],
    despite: Mapping[str, str],
    show: Show,
    consents: set[str],
) -> list[Finding]:
    """Check and read everything a plan is about; raises `Refused` where it may not begin, also for want of a consent
    that what is known now asks for, whatever the plan says of it. Gives the stops that a person passes with a reason."""
    own = [system for system in systems if system.name in plan.systems]
    findings, survey = await check_with(
        place, own, drivers, own_roll=plan.undoes, entering=_enters(plan), still=_still(plan)
    )
    stacked = [(s, tuple(s.nodes)) for s in systems if s not in own]
    above = await survey_with(place, stacked, drivers) if stacked else None
    passed = [f for f in findings if f.level == "stop" and f.check in despite]
    if plan.undoes is None:
        _refuse_stops(plan, [f for f in findings if f not in passed], survey.exit_code)
        _say_stops(passed, show)
    else:  # what is not well may be what is taken back; before each step its guards look
        _say_stops(findings, show)
    for one in drifted(place, own, findings, plan.made):
        show.notice(f"{one.what} since the plan was made: {one.finding.level} {one.finding.message}")
    read = {**survey.readings(), **(above.readings() if above is not None else {})}
    _refuse_differences(plan, _basis_now(place, plan, read))
    knows = {system.name: drivers[system.name].knows() for system in systems}
    ground = replace(ground_of(place, systems, survey, above), knows=knows)
    need_consents(derived(plan, ground), drivers, consents)
    return passed


def _enters(plan: Plan) -> bool:
    return any(lane.enters for lane in plan.lanes)


def _still(plan: Plan) -> list[str]:
    """The systems whose image stays as it is, whatever moves beside it."""
    return [lane.system for lane in plan.lanes if not any(hop.image for hop in lane.hops)]


def _begun(plan: Plan) -> str:
    why = f", since {plan.reason}" if plan.reason else f", to take {plan.undoes} back" if plan.undoes else ""
    return f"begun: {', '.join(plan.systems)}{why}"


def _say_stops(findings: Sequence[Finding], show: Show) -> None:
    for one in (f for f in findings if f.level == "stop"):
        show.notice(f"{one.message}{f' ({one.evidence})' if one.evidence else ''}: this goes on all the same.")


def _may_be_passed(despite: Mapping[str, str]) -> None:
    """Raise `WrongUse` for what is no check, and `Refused` for one that is about a promise."""
    for name in despite:
        check = check_named(name)
        if check is None:
            raise WrongUse(
                f"No check {clean(name, 60)!r}{suggestion(name, [c.id for c, _ in CHECKS])}.",
                next="gallant check --list",
            )
        if check.firm:
            raise Refused(
                f"--despite cannot override {name}: {check.looks_at}.",
                "What is installed, given twice or done by two at once cannot be taken back.",
                f"gallant check --explain {name}",
            )


def _end_undone(place: Workplace, roll_id: str) -> None:
    """The roll that is taken back ends here; a finished one has ended already."""
    if place.journal.roll(roll_id).ended is None:
        end_roll(place, roll_id, "it is taken back")


async def resume(
    place: Workplace,
    roll_id: str,
    show: Show,
    *,
    pace: HoldRules,
    answers: dict[str, bool],
    again: Sequence[str],
    detach: bool,
) -> RollEnded:
    """Carry on a roll that was held, stopped or cut off; the journal says where, and the nodes what really happened."""
    row = place.journal.roll(roll_id)
    if row.ended is not None:
        raise WrongUse(f"{roll_id} has ended; there is nothing to carry on.", next=f"gallant history {roll_id}")
    refuse_replaced(place, row.plan, roll_id)
    refuse_altered(place, roll_id)
    systems = systems_of(place, row.plan)
    known = {name: serial for s in systems for n in s.nodes for name, serial in [(node_name(s, n), s.nodes[n].serial)]}
    basis = _basis_of(place, row.plan, known, row.plan.basis.versions)
    async with _drivers(place, row.plan, systems) as drivers:
        _refuse_differences(row.plan, basis)
        _have_secrets(place, systems)
        with place.journal.take_up(roll_id, show.notice) as journal:
            record(place, "roll", roll_id, target=row.plan.id, reason="taken up again")
            _write_down(place, row.plan, "outside-window", {roll_id: pace.outside} if pace.outside else {})
            return await _run(
                place,
                row.plan,
                drivers,
                journal,
                show,
                _orders(place, row.plan, pace, answers=answers, again=tuple(again)),
                detach,
                _kept_before(place, roll_id),
            )


def _keep_before(place: Workplace, roll_id: str, before: Picture, plan: Plan, show: Show) -> PictureKept | None:
    try:
        return keeping.keep(place, f"{roll_id}.{keeping.BEFORE}", before, plan)
    except GallantError as error:  # the work goes on; only the comparison is lost
        show.notice(f"How it was before is not kept: {error.what}")
        return None


def _kept_before(place: Workplace, roll_id: str) -> PictureKept | None:
    """How all was before a roll; None for one of a time when that was not kept, or where it is gone."""
    try:
        return keeping.kept(place, f"{roll_id}.{keeping.BEFORE}")
    except GallantError:
        return None


FOLLOW_S = 0.5  # real seconds between two looks at a journal that somebody else writes


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


def _drivers(place: Workplace, plan: Plan, systems: Sequence[System]) -> AbstractAsyncContextManager[dict[str, Driver]]:
    """Those of the hosts too, where they keep the restore points."""
    asked = any(hop.restore_point or hop.rewinds for lane in plan.lanes for hop in lane.hops)
    return drivers_of(place, systems) if asked else place.drivers(systems)


def _have_secrets(place: Workplace, systems: Sequence[System]) -> None:
    """A secret that cannot be had, or has to be typed, comes up before anything begins and before the screen is
    taken."""
    for system in systems:
        place.credentials(system, "act")


class _Kept(Hears):
    """What the engine reads is what everybody reads: the newest of
    each node is kept whenever a hop or a lane has ended."""

    def __init__(self, place: Workplace, show: Show, roll: str) -> None:
        self._place, self._show, self._roll = place, show, roll
        self._new = dict[str, Reading]()
        self._telling = set[asyncio.Task[None]]()

    def reading(self, reading: Reading) -> None:
        self._new[reading.name] = reading

    def rest(self) -> None:
        new, self._new = self._new, {}
        try:
            keep_readings(self._place, new.values())
        except GallantError as error:  # the work is not stopped by it
            self._show.notice(f"What was read was not kept: {error.what}")

    def late(self, step: Step, words: str) -> None:
        """Tell people, beside the work."""
        text = f"{step.subject}: {doing(step)} to {step.to} {words}."
        message = message_of(
            self._place, self._roll, (step.system,), "late", text, f"gallant roll --follow {self._roll}"
        )
        task = asyncio.ensure_future(_tell(self._place, self._show, message))
        self._telling.add(task)
        task.add_done_callback(self._telling.discard)

    async def all_told(self) -> None:
        await asyncio.gather(*self._telling)


async def _tell(place: Workplace, show: Show, message: Message) -> None:
    for told in await notify(place, message):
        if told.error is not None:
            show.notice(f"{told.place} was not told: {told.error}.")


async def _run(
    place: Workplace,
    plan: Plan,
    drivers: Mapping[str, Driver],
    journal: OneRoll,
    show: Show,
    orders: Orders,
    detach: bool,
    before: PictureKept | None,
) -> RollEnded:
    services, watches = watched(place, systems_of(place, plan), plan.down_s)
    answers = before.picture.answers if before is not None else {}
    kept = _Kept(place, show, journal.id)
    means = Means(
        estate=place.estate,
        clock=place.clock,
        drivers=drivers,
        vault=PlaceVault(place, drivers),
        restore_points=PlaceRestorePoints(place, drivers),
        releases=PlaceReleases(place),
        prober=SocketProber(services, place.clock, watches=watches, folder=place.folder),
        journal=journal,
        listener=show,
        before=before.picture.readings if before is not None else {},
        hears=kept,
        answered={
            (w.system, w.service): answers[key]
            for w in watches
            if (key := f"{w.system} {w.service.removeprefix(w.system + ' ')}") in answers
        },
    )
    place.refusals.stop()
    running = Roll(journal.id, plan, means, orders)
    say_begun(journal.id)
    show.begin(journal.id, plan, place.estate.simulation.speed if place.estate.simulation else None, journal.events())
    task = asyncio.ensure_future(running.carry_out())
    with place.clock.beating(), _signals(running, task, show, detach):
        try:
            end = await task
        except asyncio.CancelledError:
            end = End(
                state="stopped",
                message=f"{journal.id} was cut off at once, as asked. What was begun goes on at the nodes.",
                next=f"gallant resume {journal.id} looks what became of it and carries on.",
            )
        means.hears.rest()  # of lanes that were cut off
        told = f"{end.state}: {end.message}"
        record(place, "roll", journal.id, target=plan.id, reason=told, seal=seal_now(journal))
        if end.opens is not None and place.estate.due.rests:
            record(place, "book", journal.id, target=plan.id, start=end.opens, reason="what did not fit any more")
            show.notice(f"The rest is booked for {end.opens:%Y-%m-%d %H:%M} UTC; gallant due carries it on then.")
        found = await _keep(place, journal.id, plan, drivers, show, end, before)
        message = message_of(place, journal.id, plan.systems, end.state, end.message, end.next or "gallant history")
        await _tell(place, show, message)
        await kept.all_told()
    like = look_up(place, end.message, most=1, but=journal.id) if end.state == "stopped" else []
    return RollEnded(id=journal.id, plan=plan.id, end=end, unlike=tuple(found), like=like[0] if like else None)


async def _keep(
    place: Workplace,
    roll_id: str,
    plan: Plan,
    drivers: Mapping[str, Driver],
    show: Show,
    end: End,
    before: PictureKept | None,
) -> list[Unlike]:
    """What a roll leaves behind: how all is now, for the next plan and
    against how it was, and copies of what cannot be had again."""
    found = list[Unlike]()
    if end.state == "finished":
        with contextlib.suppress(GallantError, OSError):
            after = await keeping.take_settled(place, keeping.around(place, systems_of(place, plan)), before, drivers)
            keeping.keep(place, f"{roll_id}.{keeping.AFTER}", after, plan)
            found = keeping.compared(place, before, after) if before is not None else []
        if plan.undoes is None:
            closed = notices.close(place, plan, roll_id)
            if closed:
                show.notice(f"Closed: {', '.join(closed)}.")
    try:
        place.journal.keep_copy()
        place.ledger.keep_copy()
    except GallantError as error:
        show.notice(f"{error.what} {error.next or ''}")
    return found


def watched(
    place: Workplace, systems: Sequence[System], falls: Collection[str]
) -> tuple[dict[str, Service], list[Watched]]:
    """What is probed all through a roll, of its systems and of all that depend on them: each service by its name, with
    its system's where two systems have one of a name. Of those that fall and have no service, each node's own
    address."""
    hit = dict.fromkeys(name for system in systems for name in dependents(place.estate, system))
    all_of_them = [*systems, *(place.estate.systems[n] for n in hit if n not in {s.name for s in systems})]
    every = [(s, name) for s in all_of_them if s.in_service for name in s.services]
    names = Counter(name for _, name in every)
    watches = [
        Watched(
            system=s.name,
            service=n if names[n] == 1 else f"{s.name} {n}",
            budget_s=s.services[n].budget_s,
            unscaled=s.services[n].unscaled,
        )
        for s, n in every
    ]
    services = {w.service: s.services[n] for w, (s, n) in zip(watches, every, strict=True)}
    for system in (place.estate.systems[name] for name in falls if name in place.estate.systems):
        for node, said in system.nodes.items() if system.in_service and not system.services else ():
            if (address := _own_address(system, said)) is not None:
                name = node_name(system, node)
                services[name] = Service(address=address, every_s=SLOW_S)
                watches.append(Watched(system=system.name, service=name, is_address=True))
    return services, watches


def _own_address(system: System, node: Node) -> str | None:
    """Where a node is reached, as HOST:PORT; None where nothing is sent to it over any network."""
    usual = NETCONF_PORT if system.driver == "netconf" else PORTS.get(urlsplit(node.address).scheme)
    host, port = node.host, node.port or usual
    return None if not host or port is None else f"[{host}]:{port}" if ":" in host else f"{host}:{port}"


@contextmanager
def _signals(running: Roll, task: asyncio.Future[End], show: Show, detach: bool) -> Iterator[None]:
    """A terminal that goes away, a ctrl-C and a polite kill all ask for a hold; a second ctrl-C cuts off at once, and
    any after that finds it done. Anyone who started Gallant with hang-ups ignored (nohup) means it to go on."""
    loop = asyncio.get_running_loop()
    asked = 0

    def hold(reason: str) -> None:
        running.hold(reason)
        show.notice(f"{reason[0].upper()}{reason[1:]}: {running.id} holds at its next safe stop.")

    def hang_up() -> None:
        if detach:
            show.notice(f"The terminal went away: {running.id} goes on, as asked with --detach.")
        else:
            hold("the terminal went away")

    def interrupt() -> None:
        nonlocal asked
        asked += 1
        if asked == 1:
            hold("ctrl-C")
            show.notice(
                "Ctrl-C once more cuts it off at once; nothing is lost by that, gallant resume finds out where it was."
            )
        elif asked == 2:
            task.cancel()
        else:
            show.notice(f"{running.id} is being cut off already; what was begun is being written down.")

    handlers = {signal.SIGHUP: hang_up, signal.SIGTERM: lambda: hold("asked to end"), signal.SIGINT: interrupt}
    if signal.getsignal(signal.SIGHUP) == signal.SIG_IGN:
        del handlers[signal.SIGHUP]
    for sign, handler in handlers.items():
        loop.add_signal_handler(sign, handler)
    try:
        yield
    finally:
        for sign in handlers:
            loop.remove_signal_handler(sign)


class HoldAsked(Record):
    """A roll that was asked to hold: whether a process is there that
    carries it out (`running`), and what keeps that from doing anything."""

    run: str
    running: bool
    trouble: str | None = None
    next: str | None = None


def ask_to_hold(place: Workplace, name: str, now: bool = False) -> HoldAsked:
    """Ask a roll to hold at its next safe stop, or right after the act under way."""
    row = place.journal.roll(name)
    if row.ended is not None:
        raise WrongUse(f"{name} has ended.", next=f"gallant history {name}")
    place.journal.request_hold(name, f"asked for by {place.user}", now)
    carrier = place.journal.carrier(name) if (running := place.journal.is_running(name)) else None
    trouble = carrier.trouble if carrier is not None else None
    return HoldAsked(
        run=name, running=running, trouble=trouble, next=carrier.way_out if carrier is not None and trouble else None
    )


def open_names(place: Workplace) -> list[str]:
    """Every roll that is open, by its name."""
    rolls = place.journal.open_rolls()
    if not rolls:
        raise WrongUse("No roll is open.", next="gallant history lists them.")
    return [roll.id for roll in rolls]


def end_for_good(place: Workplace, roll_id: str | None, reason: str) -> str:
    """End a roll where it stands, so that its systems are free for another plan. Raises `Refused` while it is
    running."""
    name = roll_id or _only_open(place)
    end_roll(place, name, reason)
    return name


def open_roll(place: Workplace, roll_id: str | None) -> str:
    return roll_id or _only_open(place)


def _only_open(place: Workplace) -> str:
    rolls = place.journal.open_rolls()
    if len(rolls) == 1:
        return rolls[0].id
    what = "No roll is open." if not rolls else f"{len(rolls)} rolls are open: {', '.join(r.id for r in rolls)}."
    raise WrongUse(what, next="gallant history lists them; name one.")


def systems_of(place: Workplace, plan: Plan) -> list[System]:
    missing = [name for name in plan.every if name not in place.estate.systems]
    if missing:
        raise Refused(f"{', '.join(missing)}: no longer in the estate.", next="Make a new plan.")
    return [place.estate.systems[name] for name in plan.every]


def _basis_now(place: Workplace, plan: Plan, readings: dict[str, Reading]) -> Basis:
    parts = {f"{n}:{part.name}": part.version for n, r in readings.items() for part in r.components}
    planned = {key: parts.get(key, "gone") for key in plan.basis.versions if ":" in key}
    versions = {**{n: r.version for n, r in readings.items()}, **planned}
    return _basis_of(place, plan, {n: r.serial for n, r in readings.items()}, versions)


def _basis_of(place: Workplace, plan: Plan, serials: dict[str, str], versions: dict[str, str]) -> Basis:
    systems = systems_of(place, plan)
    releases = {}
    for key in plan.basis.releases:
        product, _, version = key.rpartition(" ")
        found = place.products[product].resolve(version) if product in place.products else None
        releases[key] = release_digest(found) if found else "not in the catalog"
    runs_on = {
        node_name(s, n): node.runs_on for s in systems for n, node in s.nodes.items() if node.runs_on is not None
    }
    return Basis(
        estate=place.identity,
        nodes=serials,
        shapes={s.name: shape_words(s) for s in systems},
        runs_on=runs_on,
        versions=versions,
        releases=releases,
        profiles=place.profile_digests(systems),
    )


def _refuse_differences(plan: Plan, now: Basis) -> None:
    said = basis_differences(plan.basis, now)
    if said:
        raise Refused(
            f"{plan.id} does not fit any more: {'; '.join(said)}.",
            "What was approved is no longer what would happen.",
            f"gallant plan {' '.join(plan.systems)} makes a new one.",
        )


def _known_systems(plan: Plan, given: Sequence[Consent]) -> None:
    """A consent for a system that the plan does not have accepts nothing, and somebody believes that it did."""
    for consent in given:
        if consent.whose not in plan.every:
            raise WrongUse(
                f"--consent {consent.words}: {plan.id} has no system {consent.system}"
                f"{suggestion(consent.system, plan.every)}.",
                next=f"It has {', '.join(plan.every)}.",
            )


def _refuse_decided(place: Workplace, plan: Plan, despite_booking: str | None) -> list[Bar]:
    """Raise `Refused` where somebody has decided otherwise; gives the bookings that are set aside."""
    found = notices.bars(place, plan)
    against = [one for one in found if not (one.booked and despite_booking)]
    if against:
        raise Refused(
            f"{plan.id} did not start: {'; '.join(one.what for one in against)}.",
            " ".join(dict.fromkeys(one.why for one in against)),
            against[0].next,
        )
    return found


def _refuse_newer(place: Workplace, plan: Plan, decided_at: int | None, journal: OneRoll | None = None) -> None:
    """Raise `Refused` where somebody decided on it since; a roll that stands in the journal already ends with that. Who
    decides after it is there hears of it (`notices`)."""
    newer = notices.decided_since(place, plan, decided_at) if decided_at is not None else None
    if newer is None:
        return
    e = newer.entry
    what = f"{e.by} decided on {e.subject} meanwhile: {e.kind}"
    if journal is not None:
        end_here(place, journal, what)
    raise Refused(f"{plan.id} did not start: {what}.", "Nothing was touched.", "gallant notice list")


def _refuse_missing(place: Workplace, plan: Plan) -> None:
    if missing := not_in_stock(place, plan):
        raise Refused(
            f"{plan.id} did not start: {', '.join(missing)} {'is' if len(missing) == 1 else 'are'} not in stock.",
            "Nothing was touched.",
            f"gallant stock fetch --plan {plan.id}",
        )


def _refuse_stops(plan: Plan, findings: list[Finding], survey_code: int) -> None:
    stops = [f for f in findings if f.level == "stop"]
    if stops:
        told = "; ".join(f"{f.message} ({f.evidence})" if f.evidence else f.message for f in stops)
        kind = (
            Unreached if survey_code == Unreached.exit_code else Refused
        )  # what cannot be reached is the cause of the rest
        raise kind(f"{plan.id} did not start: {told}.", "Nothing was touched.", stops[0].next)
