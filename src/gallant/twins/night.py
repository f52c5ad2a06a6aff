"""One night of a rehearsal: the engine carries the plan out on the
twins, from its beginning until it is finished, held or stopped."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable, Sequence
from contextvars import ContextVar
from datetime import datetime
from typing import TypeVar

from gallant.core.catalog.products import Product, Release
from gallant.core.errors import GallantError
from gallant.core.estate.backups import Backup, Item
from gallant.core.estate.snapshots import roll_reason, snapshot_name
from gallant.core.estate.systems import System
from gallant.core.length.rehearsing import FINISHED, HELD, STOPPED, NightEnd, Where, where
from gallant.core.outages import Sample, Watched
from gallant.core.ports import Accepted, Act, DeviceRefused, NotReached, Progress
from gallant.core.readings import Job, Reading
from gallant.core.steps.kinds import KINDS, REWIND
from gallant.core.work import events as e
from gallant.core.work.events import Entry, Event, HoldWanted
from gallant.core.work.knows import Knows
from gallant.core.work.plan import Step, steps_of
from gallant.engine.means import End, Means, Orders
from gallant.engine.roll import Roll
from gallant.twins.effects import EFFECTS, STANDS, begins, restarts, rewinds, told, updates_all, works
from gallant.twins.loop import VirtualLoop
from gallant.twins.world import AT_WORK, DRAWN, Cast, TwinWorld, Work

T = TypeVar("T")
LONG_S = 1e9  # longer than any night
WHO, ROLL = "a rehearsal", "rehearsal"
MOST_WORDS = 20  # how often a person says in one night what they did
WATCHES: ContextVar[bool] = ContextVar("WATCHES", default=False)  # the task that takes the samples


class TwinClock:
    """Estate time is the loop's. Who sleeps while nothing can be seen of what it waits for sleeps until something
    can."""

    floor_s = 0.0

    def __init__(self, world: TwinWorld) -> None:
        self.world = world

    def now(self) -> datetime:
        return self.world.now

    def real(self) -> float:
        return self.world.loop.time()

    def stood_s(self) -> float:
        return 0.0

    def estate_s(self, real_seconds: float) -> float:
        return real_seconds

    async def sleep(self, seconds: float) -> None:
        now, work = self.world.loop.time(), AT_WORK.get()
        turn = work.after(now) if work is not None else None
        if work is not None and turn is not None:
            seconds = min(turn - now, max(seconds, self.world.unseen_s[work.step.system]))
        await asyncio.sleep(seconds)

    async def pause(self, real_seconds: float) -> None:
        if not WATCHES.get():
            await asyncio.sleep(real_seconds)
            return
        await self.world.heard.wait()
        self.world.heard.clear()


class TwinDriver:
    """The nodes of one system."""

    request_timeout_s = 30.0
    acts = True

    def __init__(self, world: TwinWorld, system: str) -> None:
        self.world, self.system = world, system

    def lands_within_s(self, kind: str) -> float:
        return 0.0

    def capabilities(self) -> frozenset[str]:
        return self.world.cast.knows[self.system].capabilities

    def knows(self) -> Knows:
        return self.world.cast.knows[self.system]

    async def read(self, node: str, closely: bool = False) -> Reading:
        if (self.system, node) in self.world.away:
            raise NotReached(f"{self.system}/{node} does not answer.")
        return self.world.nodes[self.system][node]

    async def job(self, node: str, handle: str) -> Job:
        raise DeviceRefused(f"{self.system}/{node} lists all that it knows.")

    async def act(self, node: str, act: Act, *, send_by: float, progress: Progress | None = None) -> Accepted:
        work = self.world.of(self.system, node)
        if act.kind in STANDS:
            told(self.world, self._whole(), act)
            return Accepted()
        if act.kind == "preload":
            return await self._upload(work, act)
        if KINDS[work.step.kind].whole:
            return Accepted(handle=updates_all(self.world, work))
        if KINDS[work.step.kind].away:
            restarts(self.world, work)
            return Accepted()
        return Accepted(handle=works(self.world, work, act))

    def _whole(self) -> Work:
        every = (work for (system, _), work in self.world.work.items() if system == self.system)
        return next(work for work in every if KINDS[work.step.kind].whole)

    async def _upload(self, work: Work, act: Act) -> Accepted:
        await asyncio.sleep(work.lasts)
        if work.fails:
            raise DeviceRefused(f"{work.step.subject} does not take {act.package}: {DRAWN}.")
        EFFECTS[act.kind](self.world, work, act)
        return Accepted()


class TwinVault:
    def __init__(self, world: TwinWorld) -> None:
        self.world = world
        self.taken: dict[str, list[Backup]] = {}

    async def take(
        self, system: System, *, by: str, roll: str, before: str, progress: Progress | None = None
    ) -> Backup:
        await asyncio.sleep(_lasts())
        readings = self.world.nodes[system.name]
        made = Backup(
            id=self.world.name(),
            system=system.name,
            taken=self.world.now,
            by=by,
            comment="",
            before=before,
            roll=roll,
            tool="",
            versions={node: reading.version for node, reading in readings.items()},
            items=(Item(name="twin", node=next(iter(readings)), bytes=0, sha256=""),),
            archive="twin",
            bytes=0,
            blake3="",
            sealed=self.world.now,
        )
        self.taken.setdefault(system.name, []).append(made)
        return made

    def backups(self, system: str) -> list[Backup]:
        return self.taken.get(system, [])


class TwinRestorePoints:
    """Those of the night, and those of the roll that the plan takes back."""

    def __init__(self, world: TwinWorld) -> None:
        self.world = world
        self.taken: dict[tuple[str, str, str], str] = {}

    async def take(self, system: System, *, by: str, roll: str, before: str) -> str:
        await asyncio.sleep(_lasts())
        name = snapshot_name(roll_reason(roll, before), by, self.world.now)
        self.taken[system.name, roll, before] = name
        return name

    async def there(self, system: System, *, roll: str, before: str) -> str | None:
        if roll == self.world.cast.plan.undoes:
            return snapshot_name(roll_reason(roll, before), WHO, self.world.cast.begins)
        return self.taken.get((system.name, roll, before))

    async def revert(self, system: System, *, by: str, roll: str, before: str) -> None:
        work = AT_WORK.get()
        assert work is not None and work.step.kind == REWIND
        if work.fails:
            raise DeviceRefused(f"{system.name} does not go back to its restore point: {DRAWN}.")
        rewinds(self.world, work)


def _lasts() -> float:
    """For how long what the engine itself does now takes."""
    work = AT_WORK.get()
    assert work is not None  # it is written down before it is done
    return work.lasts


class TwinProber:
    """Samples at the moments at which a service comes or goes; each stands until the next."""

    pause_s = LONG_S

    def __init__(self, world: TwinWorld) -> None:
        self.world = world
        self.watches: Sequence[Watched] = world.cast.watches

    def start(self) -> None:
        WATCHES.set(True)

    def hurry(self, services: frozenset[str]) -> None: ...

    def take(self) -> Sequence[Sample]:
        taken, self.world.samples = self.world.samples, []
        return taken

    async def stop(self) -> None: ...


class TwinJournal:
    """In memory alone. What the engine writes of a step is how the world hears that it begins."""

    lease_s = LONG_S
    sole_since = 0.0

    def __init__(self, world: TwinWorld) -> None:
        self.world = world
        self.written: list[Event] = []

    def events(self) -> list[Event]:
        return list(self.written)

    async def append(self, entry: Entry, system: str | None = None) -> Event:
        if entry.kind == e.DERIVED:
            self.world.steps |= {step.id: step for step in steps_of(entry.waves or ())}
        elif entry.kind == e.INTENT:
            begins(self.world, self.world.steps[entry.step or ""])
        event = Event(seq=len(self.written) + 1, entry=entry)
        self.written.append(event)
        return event

    def hold_wanted(self) -> HoldWanted | None:
        return None

    async def renew(self) -> Sequence[str]:
        return ()


class TwinReleases:
    def __init__(self, world: TwinWorld) -> None:
        self.products = world.cast.products

    def product(self, name: str) -> Product | None:
        return self.products.get(name)

    def current(self, product: str, version: str) -> Release | None:
        found = self.products.get(product)
        return None if found is None else found.resolve(version)


class _Nobody:
    """Nobody looks."""

    def event(self, event: Event) -> None: ...
    def progress(self, step: str, percent: float, message: str) -> None: ...
    def unanswered(self, step: str, what: str) -> None: ...
    def sample(self, sample: Sample) -> None: ...
    def waiting(self, began: datetime, ended: datetime, step: str) -> None: ...


async def _in_turn(nodes: Sequence[str], ask: Callable[[str], Awaitable[T]]) -> dict[str, T]:
    """A twin answers in no time, so that nothing is won by asking several at once."""
    return {node: await ask(node) for node in nodes}


class Night:
    """One night: what the engine works with, and what came of it."""

    def __init__(self, cast: Cast, number: int, draw: Callable[[], float]) -> None:
        self.cast, self.loop = cast, VirtualLoop()
        self.world = TwinWorld(cast, number, draw, self.loop)
        self.journal = TwinJournal(self.world)
        world = self.world
        self.means = Means(
            estate=cast.estate,
            clock=TwinClock(world),
            drivers={name: TwinDriver(world, name) for name in world.nodes},  # type: ignore[misc]
            vault=TwinVault(world),
            restore_points=TwinRestorePoints(world),
            releases=TwinReleases(world),
            prober=TwinProber(world),
            journal=self.journal,
            listener=_Nobody(),
            before=cast.readings,
            ask_all=_in_turn,
        )

    def through(self) -> NightEnd:
        """From the beginning to the end; what a person is to do, or to look at, is done after as long as that takes."""
        answers: dict[str, bool] = {}
        try:
            for _ in range(MOST_WORDS):
                roll = Roll(ROLL, self.cast.plan, self.means, self._orders(answers))
                try:
                    end = self.loop.run_until_complete(roll.carry_out())
                except GallantError as error:  # it may not even begin
                    return NightEnd(state=STOPPED, at_s=self.loop.time(), why=error.what)
                person = [
                    s for s in roll.attempts.known.steps() if KINDS[s.kind].by_person and roll.log.state.step(s.id).open
                ]
                if not person:
                    break
                answers = {step.id: True for step in person}
                self.loop.run_until_complete(asyncio.sleep(max(self.world.of(s.system, s.node).lasts for s in person)))
            return self._ended(roll, end)
        finally:
            self._close()

    def _orders(self, answers: dict[str, bool]) -> Orders:
        windows = {name: tuple(spans) for name, spans in self.cast.windows.items()}
        return Orders(by=WHO, consents=self.cast.consents, windows=windows, answers=answers)

    def _close(self) -> None:
        for task in asyncio.all_tasks(self.loop):
            task.cancel()
        self.loop.run_until_complete(asyncio.sleep(0))
        self.loop.close()

    def _ended(self, roll: Roll, end: End) -> NightEnd:
        self.world.at_an_end()
        state = end.state if end.state in (FINISHED, HELD) else STOPPED
        short = next(((name, one) for name, one in roll.ends.items() if one.state == state), None)
        place, why = (
            (None, "") if short is None or state == FINISHED else (self._stands(roll, short[0]), short[1].message)
        )
        return NightEnd(
            state=state,
            at_s=self.loop.time(),
            away_s=self.world.away_s,
            down_s=self.world.down_s,
            stop=place if state == STOPPED else None,
            hold=place if state == HELD else None,
            why=why,
            decides=self._decides(roll),
        )

    def _stands(self, roll: Roll, system: str) -> Where | None:
        """The step at which a lane stands: the first that is not done."""
        return next((where(step) for step in self._steps(roll, system) if not roll.log.state.step(step.id).done), None)

    def _steps(self, roll: Roll, system: str) -> list[Step]:
        lane = next(lane for lane in self.cast.plan.lanes if lane.system == system)
        waves = roll.log.state.waves
        return [step for hop in lane.hops for step in steps_of(waves.get(hop.id, hop.waves))]

    def _decides(self, roll: Roll) -> Where | None:
        """What took most longer than usual, of the lane that was done last."""
        last, found = next(reversed(roll.ends), None), list[tuple[float, Step]]()
        for step in self._steps(roll, last) if last is not None else ():
            known = roll.log.state.step(step.id)
            if known.intent is not None and known.outcome is not None:
                took = known.outcome.entry.at - known.intent.entry.at
                over = took.total_seconds() - self.cast.usual.get(step.id, step.estimate_s)
                found.append((over, step))
        late = [(over, step) for over, step in found if over > 0]
        return where(max(late, key=lambda one: one[0])[1]) if late else None
