"""A simulated night: the engine on a world without sockets, in virtual time, killed wherever a test wants it.

The promises are asserted inside the world, at the moment at which something happens to it, from its own truth.
"""

from __future__ import annotations

import asyncio
import hashlib
import selectors
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta

from gallant.core.backups import Backup, Item
from gallant.core.catalog import Minutes, Package, Product, Release
from gallant.core.errors import GallantError
from gallant.core.estate import Estate, parse_estate
from gallant.core.events import Entry, Event
from gallant.core.outages import Sample
from gallant.core.plan import Plan, make_plan
from gallant.core.ports import Accepted, AnswerLost, DeviceRefused, NotReached
from gallant.core.readings import Component, Job, PackagePresent, Reading
from gallant.core.snapshots import is_for, roll_reason, snapshot_name
from gallant.engine.executor import End, Means, Orders, Roll
from gallant.engine.journal import grammar_problems, replay
from gallant.standin.shoal import Denied, Image, ShoalNode, ShoalPair
from gallant.standin.world import Fault, World

BEGAN = datetime(2026, 11, 25, 22, 0, tzinfo=UTC)
SPEED = 20.0  # of the world's clock over the real one; only what is unscaled notices
ORDERS = {"install": "install", "restart": "restart", "handover": "yield", "failback": "reclaim"}
KINDS = {order: kind for kind, order in ORDERS.items()}

ESTATE = """
gallant: estate/1
name: simulated
sites: {harbour: {}}
limits: {steady_s: 60}
aims: [{for: default, aim: newest}]
systems:
  tickets:
    product: ostrel/shoal
    shape: pair
    site: harbour
    driver: http
    profile: ostrel-shoal
    nodes:
      a: {address: "https://10.1.0.1", serial: SA}
      b: {address: "https://10.1.0.2", serial: SB}
    usual: {active: a, standby: b}
    services: {blocks: {address: "10.2.0.1:860"}}
"""


class Killed(BaseException):
    """The process ends here, and nothing of it runs any more."""


class VirtualLoop(asyncio.SelectorEventLoop):
    """An event loop in which waiting costs nothing: its clock jumps to the next thing that is due."""

    def __init__(self, at: float) -> None:
        self._at = at
        loop = self

        class Jumping(selectors.SelectSelector):
            def select(self, timeout: float | None = None) -> list:
                if timeout:
                    loop._at += timeout
                return super().select(0)

        super().__init__(Jumping())

    def time(self) -> float:
        return self._at


class VirtualClock:
    floor_s = 0.0
    ahead = timedelta()  # by how much the clock on the wall was set since the night began

    def now(self) -> datetime:
        return BEGAN + self.ahead + timedelta(seconds=asyncio.get_running_loop().time())

    def real(self) -> float:
        return asyncio.get_running_loop().time() / SPEED

    def wall(self) -> float:
        return 1000.0 + self.real()

    def estate_s(self, real_seconds: float) -> float:
        return real_seconds * SPEED

    async def sleep(self, seconds: float) -> None:
        await asyncio.sleep(seconds)

    async def pause(self, real_seconds: float) -> None:
        await asyncio.sleep(real_seconds * SPEED)


def body(version: str) -> bytes:
    return f"package {version}".encode()


def make_product(versions: dict[str, str | None]) -> Product:
    """Releases by version, each with the range that it installs on."""
    releases = [
        Release(
            version=version,
            released=BEGAN - timedelta(days=400 - i),
            from_range=from_range,
            minutes=Minutes(install=8, restart=5, sync=4),
            packages=(
                Package(
                    name=f"shoal-{version}.pkg",
                    url="x",
                    bytes=len(body(version)),
                    sha256=hashlib.sha256(body(version)).hexdigest(),
                ),
            ),
        )
        for i, (version, from_range) in enumerate(versions.items())
    ]
    return Product(name="ostrel/shoal", scheme="dotted", releases=tuple(releases))


TWO_HOPS = {"2.8.5": None, "2.11.3": "vers:dotted/>=2.8.0", "3.2.4": "vers:dotted/>=2.11.3"}


@dataclass
class Night:
    """A world, a plan, and a journal that outlives whoever writes it."""

    versions: dict[str, str | None] = field(default_factory=lambda: dict(TWO_HOPS))
    running: dict[str, str] = field(default_factory=lambda: {"a": "2.8.5", "b": "2.8.5"})
    active: str = "a"
    estate_text: str = ESTATE
    faults: list[Fault] = field(default_factory=list)
    snapshots: bool = True

    def __post_init__(self) -> None:
        self.estate: Estate = parse_estate("estate.yaml", self.estate_text)
        self.in_service = self.estate.systems["tickets"].in_service
        self.catalog = make_product(self.versions)
        self.world = World(BEGAN, SPEED)
        self.world.faults = self.faults
        images = {
            r.version: Image(
                version=r.version,
                build="1",
                label="x",
                sha256=r.packages[0].sha256,
                bytes=r.packages[0].bytes,
                install_s=480,
                restart_s=300,
                sync_s=240,
                from_range=r.from_range,
            )
            for r in self.catalog.releases
        }
        nodes = {n: ShoalNode(n, f"S{n.upper()}", "10.1.0.0/24", v) for n, v in self.running.items()}
        self.pair = ShoalPair(self.world, "tickets", nodes, images, self.active)
        self.backups: list[Backup] = []
        self.events: list[Event] = []
        self.acts: list[tuple[str, str, str]] = []
        self.kill_at: tuple[str, int] | None = None
        self.passed = {"append": 0, "act": 0}
        self.hold_reason: str | None = None
        self.full_from: int | None = None  # from this many events on, the disk takes no more
        self.clock_set = timedelta()  # by how much the clock on the wall is set for the processes to come
        self.broken: list[str] = []

    # --- the moments at which a night may be cut off

    def moment(self, kind: str, when: str) -> None:
        if when == "before":
            self.passed[kind] += 1
        if self.kill_at == (f"{when} {kind}", self.passed[kind]):
            self.kill_at = None
            raise Killed

    # --- running it

    def plan(self) -> Plan:
        readings = {f"tickets/{n}": self._reading(n) for n in self.pair.nodes}
        return make_plan(
            self.estate,
            list(self.estate.systems.values()),
            readings,
            {self.catalog.name: self.catalog},
            {"ostrel-shoal": "p"},
            by="tester",
            now=BEGAN,
            snapshotted={"tickets"} if self.snapshots else set(),
        )

    def run(self, plan: Plan, orders: Orders | None = None, downtime: float = 0.0) -> End:
        """One process's life: until it ends or is killed (`Killed`)."""
        loop = VirtualLoop(self.world.now + downtime)
        try:
            return loop.run_until_complete(self._roll(plan, orders or Orders(by="tester")).carry_out())
        finally:
            for task in asyncio.all_tasks(loop):
                task.cancel()
            loop.run_until_complete(asyncio.sleep(0))
            self.world.advance(loop.time())
            loop.close()

    def _roll(self, plan: Plan, orders: Orders) -> Roll:
        self.clock = VirtualClock()
        self.clock.ahead = self.clock_set
        means = Means(
            estate=self.estate,
            clock=self.clock,
            drivers={"tickets": SimDriver(self)},
            vault=SimVault(self),
            restore_points=SimRestorePoints(self),
            releases=self,
            prober=SimProber(self),
            journal=SimJournal(self),
            listener=Deaf(),
        )
        return Roll("roll-0001", plan, means, orders)

    def finish(self, plan: Plan, downtime: float = 30.0, most: int = 20) -> End:
        """Run, and resume after every kill, until it ends otherwise."""
        for _ in range(most):
            if last_state(self) == "finished":  # killed after the last word was written
                return End(state="finished", message="")
            try:
                return self.run(plan, downtime=downtime)
            except Killed:
                continue
        raise AssertionError("killed more often than planned")

    def current(self, product: str, version: str) -> Release | None:
        return self.catalog.resolve(version)

    def product(self, name: str) -> Product | None:
        return self.catalog

    # --- what is true

    def now(self) -> None:
        self.world.advance(asyncio.get_running_loop().time())

    def _reading(self, name: str) -> Reading:
        node = self.pair.nodes[name]
        word, left = self.pair.replica()
        role = {"serving": "active", "shadowing": "standby"}.get(self.pair.role(name), "unknown")
        return Reading(
            system="tickets",
            node=name,
            taken=self.world.moment,
            serial=node.serial,
            product="ostrel/shoal",
            version=node.version,
            boot=node.boot,
            role=role,
            state="in_service",
            next_version=node.next_version,
            in_sync=word == "matched",
            sync_word=word,
            sync_remaining_s=left,
            components=(Component(name="image", kind="system image", product="ostrel/shoal", version=node.version),),
            packages=tuple(PackagePresent(name=n, sha256=d, bytes=s) for n, (d, s) in node.packages.items()),
            jobs=tuple(
                Job(
                    id=str(t.number),
                    kind=KINDS[t.what],
                    state={"busy": "running", "complete": "done", "broken": "failed"}[t.state],
                    percent=t.percent(self.world.now),
                    message=t.words(self.world.now),
                    release=t.release,
                )
                for t in node.tasks
            ),
        )

    def judge(self, node: str, kind: str) -> None:
        """The promises that an act could break, from the world's truth, at the moment in which it arrives."""
        mine, other = self.pair.nodes[node], self.pair.other(node)
        whole = other.up and self.pair.replica()[0] == "matched"
        if kind in ("restart", "handover", "failback") and self.in_service and not whole:
            self.broken.append(f"I2: {kind} of {node} while the pair is {self.pair.replica()[0]}")
        if kind == "restart" and not any(b.versions[node] == mine.version for b in self.backups):
            self.broken.append(f"I3: restart of {node} without a backup of {mine.version}")
        if kind in ("install", "restart") and self.snapshots and not self.pair.snapshots:
            self.broken.append(f"I3: {kind} of {node} without the restore point that the plan asks for")
        if kind == "restart" and self.pair.active == node and self.in_service:
            self.broken.append(f"I1: restart of {node}, which serves")
        beside = self.pair.nodes.values() if self.in_service else [mine]
        if kind == "install" and any(t.state == "busy" for n in beside for t in n.tasks):
            self.broken.append(f"I13: install on {node} beside another job")

    def all_well(self) -> list[str]:
        """Everything that is not as promised; empty after a good night."""
        said = list(self.broken) + (self.pair.broken if self.in_service else []) + grammar_problems(self.events)
        installs = [a for a in self.acts if a[1] == "install"]
        installs += [a for a in self.acts if a[1] == "snapshot"]
        said += [f"I5: {a} was done {installs.count(a)} times" for a in set(installs) if installs.count(a) > 1]
        if len(self.pair.snapshots) > 1:
            said.append(f"{len(self.pair.snapshots)} restore points are left")
        return said

    def end_state(self) -> dict[str, tuple[str, str]]:
        return {n: (node.version, self.pair.role(n)) for n, node in self.pair.nodes.items()}


class SimDriver:
    request_timeout_s = 10.0

    def __init__(self, night: Night) -> None:
        self.night = night

    def lands_within_s(self, kind: str) -> float:
        return 20.0

    def capabilities(self) -> frozenset[str]:
        return frozenset({"export", "preload", "install", "restart", "handover", "failback"})

    def _up(self, node: str) -> None:
        self.night.now()
        if not self.night.pair.nodes[node].up:
            raise NotReached(f"tickets/{node} cannot be reached.")

    async def read(self, node: str) -> Reading:
        await asyncio.sleep(0.02)
        self._up(node)
        return self.night._reading(node)

    async def job(self, node: str, handle: str) -> Job:
        self._up(node)
        return next(j for j in self.night._reading(node).jobs if j.id == handle)

    async def act(self, node, act, *, send_by, progress=None) -> Accepted:
        night = self.night
        await asyncio.sleep(0.02)
        self._up(node)
        night.moment("act", "before")
        full = f"tickets/{node}"
        order = ORDERS.get(act.kind, "upload")
        night.world.count(full, order)
        if night.world.fault("never_acts", full, order):
            await asyncio.sleep(10.0)
            raise AnswerLost(f"{full} gave no answer.")
        if late := night.world.fault("acts_late", full, order):  # and whoever asked is gone
            night.world.after(late.value, lambda: self._late(node, act))
            raise Killed
        try:
            handle = self._do(node, act)
        except Denied as denied:
            raise DeviceRefused(
                f"{full} refuses: {denied.message}", meaning="already" if "already" in denied.message else "refused"
            ) from None
        night.acts.append((node, act.kind, act.release))
        night.moment("act", "after")
        if night.world.fault("answer_lost", full, order):
            raise AnswerLost(f"{full} gave no answer.")
        return Accepted(handle=handle)

    def _late(self, node: str, act) -> None:
        self._do(node, act)
        self.night.acts.append((node, act.kind, act.release))

    def _do(self, node: str, act) -> str | None:
        if act.kind == "preload":
            self.night.pair.keep(node, act.package, body(act.release))
            return None
        self.night.judge(node, act.kind)
        return str(self.night.pair.order(node, ORDERS[act.kind], act.package).number)


class SimVault:
    def __init__(self, night: Night) -> None:
        self.night = night

    async def take(self, system, *, by, comment, progress=None) -> Backup:
        await asyncio.sleep(5.0)
        night = self.night
        night.now()
        made = Backup(
            id=f"b{len(night.backups)}",
            system=system.name,
            taken=night.clock.now(),
            by=by,
            comment=comment,
            tool="t",
            versions={n: node.version for n, node in night.pair.nodes.items()},
            items=(Item(name="x", node="a", bytes=1, sha256="0"),),
            archive="x",
            bytes=1,
            blake3="0",
            sealed=night.world.moment,
        )
        night.backups.append(made)
        return made

    def backups(self, system: str) -> list[Backup]:
        return self.night.backups


class SimRestorePoints:
    def __init__(self, night: Night) -> None:
        self.night = night

    async def take(self, system, *, by, roll, before) -> str:
        night, reason = self.night, roll_reason(roll, before)
        await asyncio.sleep(3.0)
        night.now()
        name = await self.there(system, roll=roll, before=before)
        if name is None:
            night.moment("act", "before")
            name = snapshot_name(reason, by, night.world.moment)
            night.pair.snapshot(name)
            night.acts.append(("pair", "snapshot", before))
            night.moment("act", "after")
        for earlier in [str(s["name"]) for s in night.pair.snapshots if s["name"] != name]:
            night.pair.forget_snapshot(earlier)
        return name

    async def there(self, system, *, roll, before) -> str | None:
        self.night.now()
        names = [str(s["name"]) for s in self.night.pair.snapshots]
        return next((n for n in names if is_for(n, roll_reason(roll, before))), None)


class SimProber:
    def __init__(self, night: Night) -> None:
        self.night = night

    def start(self) -> None: ...

    def take(self) -> list[Sample]:
        self.night.now()
        return [
            Sample(
                service="blocks",
                at=self.night.world.moment,
                real=self.night.world.now / SPEED,
                ok=self.night.pair.serving is not None,
            )
        ]

    async def stop(self) -> None: ...


class SimJournal:
    lease_s = 60.0

    def __init__(self, night: Night) -> None:
        self.night = night

    def events(self) -> list[Event]:
        return list(self.night.events)

    def append(self, entry: Entry) -> Event:
        self.night.moment("append", "before")
        if self.night.full_from is not None and len(self.night.events) >= self.night.full_from:
            raise GallantError("state/journal.db cannot be written: disk full.")
        event = Event(seq=len(self.night.events) + 1, entry=entry)
        self.night.events.append(event)
        self.night.moment("append", "after")
        return event

    def intend(self, entry: Entry, system: str) -> Event:
        return self.append(entry)

    def hold_wanted(self) -> str | None:
        return self.night.hold_reason

    def renew(self) -> None: ...


class Deaf:
    def event(self, event): ...
    def progress(self, step, percent, message): ...
    def sample(self, sample): ...
    def waiting(self, began, ended, step): ...


def last_state(night: Night) -> str:
    return replay(night.events).state
