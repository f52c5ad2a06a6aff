"""A roll that runs: what the engine is given, what is shown and told meanwhile, and what a signal does."""

from __future__ import annotations

import asyncio
import contextlib
import signal
from collections import Counter
from collections.abc import Collection, Iterator, Mapping, Sequence
from contextlib import contextmanager
from typing import Protocol
from urllib.parse import urlsplit

from gallant.core.after.picture import LOST, Unlike
from gallant.core.assess.lookup import Match
from gallant.core.catalog.products import Product, Release
from gallant.core.errors import GallantError
from gallant.core.estate.services import SLOW_S, Service
from gallant.core.estate.systems import Node, System, node_name
from gallant.core.outages import Watched
from gallant.core.plan.lanes import dependents
from gallant.core.ports import Driver, Listener, OneRoll
from gallant.core.readings import Reading
from gallant.core.records import Record
from gallant.core.steps.kinds import doing
from gallant.core.work.events import Event
from gallant.core.work.plan import Plan, Step
from gallant.drivers.greeting import NETCONF_PORT
from gallant.drivers.probe import SocketProber
from gallant.engine.means import End, Hears, Means, Orders
from gallant.engine.roll import Roll
from gallant.operations.assess.lookup import look_up
from gallant.operations.checks import keeping
from gallant.operations.checks.keeping import PictureKept
from gallant.operations.checks.surroundings import PORTS
from gallant.operations.decide import notices
from gallant.operations.ground.deciding import record
from gallant.operations.ground.heard import keep_readings
from gallant.operations.ground.sealing import seal_now
from gallant.operations.ground.workplace import Workplace
from gallant.operations.keep.backups import PlaceVault
from gallant.operations.keep.snapshots import PlaceRestorePoints
from gallant.operations.roll.detaching import say_begun
from gallant.operations.roll.notifying import Message, message_of, notify
from gallant.operations.roll.refusing import (
    systems_of,
)


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
        """4 where it held or stopped; 1 where it finished and something is not as before."""
        if self.end.state not in ("finished", "followed"):
            return 4
        return 1 if any(one.means == LOST for one in self.unlike) else 0


class PlaceReleases:
    """The engine's `Releases`: the catalogs as they are in the store now."""

    def __init__(self, place: Workplace) -> None:
        self.place = place

    def current(self, product: str, version: str) -> Release | None:
        found = self.product(product)
        return None if found is None else found.resolve(version)

    def product(self, name: str) -> Product | None:
        return self.place.products.get(name)


class RollKept(Hears):
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


async def run(
    place: Workplace,
    plan: Plan,
    drivers: Mapping[str, Driver],
    journal: OneRoll,
    show: Show,
    orders: Orders,
    detach: bool,
    before: PictureKept | None,
) -> RollEnded:
    """Carry a roll out until it finishes, holds or stops."""
    kept = RollKept(place, show, journal.id)
    means = _means(place, plan, drivers, journal, show, kept, before)
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
        kept.rest()  # of lanes that were cut off
        _write_end(place, plan, journal, show, end)
        found = await _keep(place, journal.id, plan, drivers, show, end, before)
        message = message_of(place, journal.id, plan.systems, end.state, end.message, end.next or "gallant history")
        await _tell(place, show, message)
        await kept.all_told()
    like = look_up(place, end.message, most=1, but=journal.id) if end.state == "stopped" else []
    return RollEnded(id=journal.id, plan=plan.id, end=end, unlike=tuple(found), like=like[0] if like else None)


def _means(
    place: Workplace,
    plan: Plan,
    drivers: Mapping[str, Driver],
    journal: OneRoll,
    show: Show,
    kept: RollKept,
    before: PictureKept | None,
) -> Means:
    """What the engine works with: this place's devices, stores and services, and how they were before."""
    services, watches = watched(place, systems_of(place, plan), plan.down_s)
    answers = before.picture.answers if before is not None else {}
    return Means(
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


def _write_end(place: Workplace, plan: Plan, journal: OneRoll, show: Show, end: End) -> None:
    """How it ended, into the ledger; and where the rest has to wait for a window, the booking of it."""
    told = f"{end.state}: {end.message}"
    record(place, "roll", journal.id, target=plan.id, reason=told, seal=seal_now(journal))
    if end.opens is not None and place.estate.due.rests:
        record(place, "book", journal.id, target=plan.id, start=end.opens, reason="what did not fit any more")
        show.notice(f"The rest is booked for {end.opens:%Y-%m-%d %H:%M} UTC; gallant due carries it on then.")


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
