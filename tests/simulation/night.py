"""A simulated night: the engine on a world without sockets, in virtual time, killed wherever a test wants it.

The promises are asserted inside the world, at the moment at which something happens to it, from its own truth.
"""

from __future__ import annotations

import asyncio
import contextlib
import hashlib
from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta

from gallant.core.catalog.products import Minutes, Package, Product, Release, Requirement
from gallant.core.errors import GallantError
from gallant.core.estate.backups import Backup, Item
from gallant.core.estate.reading import parse_estate
from gallant.core.estate.snapshots import is_for, roll_reason, snapshot_name
from gallant.core.estate.systems import Estate, System
from gallant.core.outages import Sample, Watched
from gallant.core.plan.ground import Ground
from gallant.core.plan.planning import make_plan
from gallant.core.plan.returning import with_ways_back
from gallant.core.ports import Accepted, AnswerLost, DeviceRefused, LeaseLost, Listener, NotReached, NotSent
from gallant.core.readings import Component, Gauge, Job, PackagePresent, Reading
from gallant.core.versions import parse, parse_range
from gallant.core.work.events import Entry, Event, HoldWanted
from gallant.core.work.knows import Knows
from gallant.core.work.plan import Plan
from gallant.engine.journal import grammar_problems, replay
from gallant.engine.means import End, Means, Orders
from gallant.engine.roll import Roll
from gallant.standin.shoal import Denied, Image, PairTask, ShoalNode, ShoalPair
from gallant.standin.world import Fault, World
from gallant.twins.loop import VirtualLoop

BEGAN = datetime(2026, 11, 25, 22, 0, tzinfo=UTC)
SPEED = 20.0  # of the world's clock over the real one; only what is unscaled notices
ORDERS = {"install": "install", "restart": "restart", "handover": "yield", "failback": "reclaim"}
KINDS = {order: kind for kind, order in ORDERS.items()}

HEAD = """
gallant: estate/1
name: simulated
sites: {harbour: {}}
limits: {steady_s: 60}
aims: [{for: default, aim: newest}]
systems:
"""
PAIR = """
  {name}:
    product: {product}
    shape: pair
    site: harbour
    driver: http
    profile: ostrel-shoal
    nodes:
      a: {{address: "https://10.{n}.0.1", serial: {letter}A}}
      b: {{address: "https://10.{n}.0.2", serial: {letter}B}}
    usual: {{active: a, standby: b}}
    services: {{{service}: {{address: "10.{n}.1.1:860"}}}}
"""
TICKETS = PAIR.format(name="tickets", product="ostrel/shoal", n=1, letter="S", service="blocks")
ESTATE = HEAD + TICKETS


def estate_of(*others: str) -> str:
    """The estate with more pairs, each of a product of its own: `spit` is an `ostrel/spit`."""
    more = (
        PAIR.format(name=name, product=f"ostrel/{name}", n=n, letter=name[0].upper(), service=f"{name}-blocks")
        for n, name in enumerate(others, 2)
    )
    return ESTATE + "".join(more)


class Killed(BaseException):
    """The process ends here, and nothing of it runs any more."""


class VirtualClock:
    """The clock of one process. `ahead`: by how much the clock on the wall was set since the night began."""

    floor_s = 0.0

    def __init__(self, loop: VirtualLoop, ahead: timedelta) -> None:
        self.loop, self.ahead = loop, ahead
        self.stood = 0.0

    def now(self) -> datetime:
        return BEGAN + self.ahead + timedelta(seconds=self.loop.time())

    def real(self) -> float:
        return 1000.0 + self.loop.time() / SPEED

    def stood_s(self) -> float:
        return self.stood

    def halt(self, seconds: float) -> None:
        """The process stands still for so long (estate s), and the world goes on without it; it knows that
        afterwards."""
        self.loop.pass_over(seconds)
        self.stood += seconds / SPEED

    def estate_s(self, real_seconds: float) -> float:
        return real_seconds * SPEED

    async def sleep(self, seconds: float) -> None:
        await asyncio.sleep(seconds)

    async def pause(self, real_seconds: float) -> None:
        await asyncio.sleep(real_seconds * SPEED)


def body(version: str) -> bytes:
    return f"package {version}".encode()


def make_product(
    versions: dict[str, str | None],
    name: str = "ostrel/shoal",
    requires: dict[str, tuple[Requirement, ...]] | None = None,
) -> Product:
    """Releases by version, each with the range that it installs on and what it requires of others."""
    releases = [
        Release(
            version=version,
            label=f"Tide {version}",
            released=BEGAN - timedelta(days=400 - i),
            from_range=from_range,
            minutes=Minutes(install=8, restart=5, sync=4),
            requires=(requires or {}).get(version, ()),
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
    return Product(name=name, scheme="dotted", releases=tuple(releases))


def images_of(product: Product) -> dict[str, Image]:
    """What the devices know of a product's releases."""
    return {
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
        for r in product.releases
    }


STATES = {"busy": "running", "pausing": "running", "paused": "paused", "complete": "done", "broken": "failed"}


def jobs_of(tasks: Sequence[PairTask], now: float, kinds: Mapping[str, str]) -> tuple[Job, ...]:
    """A device's tasks as a reading has them, by what its orders are called."""
    return tuple(
        Job(
            id=str(t.number),
            kind=kinds[t.what],
            state=STATES[t.state],
            percent=t.percent(now),
            message=t.words(now),
            release=t.release,
        )
        for t in tasks
    )


TWO_HOPS = {"2.8.5": None, "2.11.3": "vers:dotted/>=2.8.0", "3.2.4": "vers:dotted/>=2.11.3"}


@dataclass
class Night:
    """A world, a plan, and a journal that outlives its writers.

    `others` are more pairs, with what their nodes run; `requires` what releases of
    `ostrel/shoal` require. `lag_s`: devices tell what was so up to that long ago. `forgets`: a
    job is not listed any more once it has ended. `trouble` is called at every read, act, append
    and renewal, with (what, system or kind of entry, node, how many so far), and may raise.
    """

    versions: dict[str, str | None] = field(default_factory=lambda: dict(TWO_HOPS))
    running: dict[str, str] = field(default_factory=lambda: {"a": "2.8.5", "b": "2.8.5"})
    active: str = "a"
    estate_text: str = ESTATE
    faults: list[Fault] = field(default_factory=list)
    snapshots: bool = True
    others: dict[str, dict[str, str]] = field(default_factory=dict)
    requires: dict[str, tuple[Requirement, ...]] = field(default_factory=dict)
    exports: bool = True
    repeat: dict[str, str] = field(default_factory=dict)
    lag_s: float = 0
    forgets: bool = False
    trouble: Callable[[str, str, str, int], None] = lambda what, name, node, n: None
    listener: Listener | None = None
    slow: Callable[[Entry], float] = lambda entry: 0.0  # how long the disk takes for an entry
    bend: Callable[[Reading], Reading] = lambda reading: reading  # what a node tells instead of the truth
    wishes: dict[str, tuple[str, ...]] = field(default_factory=dict)
    chosen: dict[str, tuple[str, ...]] = field(default_factory=dict)
    sessions: Callable[[str], float] | None = None  # how many are logged in on a node
    edit: Callable[[str], str] = lambda text: text  # of the estate's file
    out: Callable[[str], bool] = lambda service: False  # whether a service is out for a reason of its own
    probes_every_s: float = 0.4  # real seconds
    read_s: float = 0.02  # how long a node takes to be read

    def __post_init__(self) -> None:
        if self.others:
            self.estate_text = self.edit(estate_of(*self.others))
        self.estate: Estate = parse_estate("estate.yaml", self.estate_text)
        self.in_service = self.estate.systems["tickets"].in_service
        self.catalogs = {"ostrel/shoal": make_product(self.versions, requires=self.requires)}
        self.catalogs |= {f"ostrel/{name}": make_product(self.versions, f"ostrel/{name}") for name in self.others}
        self.catalogs |= self.more_catalogs()
        self.world = World(BEGAN, SPEED)
        self.world.faults = self.faults
        self.pairs = {
            system.name: self._pair(system, self.others.get(system.name, self.running))
            for system in self.estate.systems.values()
        }
        self.pair = self.pairs["tickets"]
        self.backups: list[Backup] = []
        self.events: list[Event] = []
        self.acts: list[tuple[str, str, str]] = []  # of tickets: node, kind, release
        self.every_act: list[tuple[str, str, str, str]] = []
        self.orders: list[tuple[str, str, str, str]] = []  # the same, each with the step that it was for
        self.kill_at: tuple[str, int] | None = None
        self.halts: dict[tuple[str, int], float] = {}  # where the process stands still, and for how many seconds
        self.passed: Counter[str] = Counter(append=0, act=0)
        self.seen: Counter[str] = Counter()
        self.hold_reason: str | None = None
        self.hold_now = False
        self.full_from: int | None = None  # from this many events on, the disk takes no more
        self.clock_set = timedelta()  # by how much the clock on the wall is set for the processes to come
        self.lost: set[str] = set()  # systems whose lease another has taken
        self.renewed = 0
        self.dead = False
        self.broken: list[str] = []
        self._told: dict[str, Reading] = {}
        self.before: dict[str, Reading] = {}  # how all was before the first run

    def more_catalogs(self) -> dict[str, Product]:
        return {}

    @property
    def catalog(self) -> Product:
        return self.catalogs["ostrel/shoal"]

    @catalog.setter
    def catalog(self, product: Product) -> None:
        self.catalogs["ostrel/shoal"] = product

    def _pair(self, system: System, running: dict[str, str]) -> ShoalPair:
        images = images_of(self.catalogs[system.product])
        nodes = {n: ShoalNode(n, system.nodes[n].serial, "10.1.0.0/24", v) for n, v in running.items()}
        return ShoalPair(self.world, system.name, nodes, images, self.active)

    def pair_of(self, system: str, node: str) -> ShoalPair:
        """The pair that a node belongs to."""
        return self.pairs[system]

    def happens(self, what: str, name: str, node: str = "") -> None:
        """Something is about to be done: the test may have it go wrong."""
        self.alive()
        self.seen[f"{what} {name} {node}"] += 1
        self.trouble(what, name, node, self.seen[f"{what} {name} {node}"])

    # --- the moments at which a night may be cut off

    def moment(self, kind: str, when: str) -> None:
        self.alive()
        if when == "before":
            self.passed[kind] += 1
        if stood_s := self.halts.pop((f"{when} {kind}", self.passed[kind]), 0.0):
            self.clock.halt(stood_s)
        if self.kill_at == (f"{when} {kind}", self.passed[kind]):
            self.kill_at = None
            self.die()

    def die(self) -> None:
        """The process ends: whatever of it still runs, nothing of it comes through any more."""
        self.dead = True
        raise Killed

    def alive(self) -> None:
        if self.dead:
            raise Killed

    # --- running it

    def plan(self) -> Plan:
        ground = self.ground()
        return with_ways_back(make_plan(ground, self.planned(), {"ostrel-shoal": "p"}, by="tester"), ground)

    def planned(self) -> list[System]:
        return list(self.estate.systems.values())

    def ground(self) -> Ground:
        readings = {f"{s}/{n}": self._reading(s, n) for s, pair in self.pairs.items() for n in pair.nodes}
        return Ground(
            estate=self.estate,
            readings=readings,
            products=self.catalogs,
            now=BEGAN,
            snapshotted=frozenset(self.pairs if self.snapshots else ()),
            wishes=self.wishes,
            chosen=self.chosen,
            knows={name: self.driver(name).knows() for name in self.pairs},
        )

    def driver(self, system: str) -> SimDriver:
        return SimDriver(self, system)

    def run(self, plan: Plan, orders: Orders | None = None, downtime: float = 0.0) -> End:
        """One process's life: until it ends or is killed (`Killed`)."""
        loop = VirtualLoop(self.world.now + downtime)
        self.clock, self.dead = VirtualClock(loop, self.clock_set), False
        try:
            return loop.run_until_complete(self._roll(plan, orders or Orders(by="tester")).carry_out())
        except BaseExceptionGroup:
            assert self.dead  # nothing else may come out of the roll in a group
            raise Killed from None
        finally:
            self.dead = True
            for task in asyncio.all_tasks(loop):
                task.cancel()
            loop.run_until_complete(asyncio.sleep(0))
            self.world.advance(loop.time())
            loop.close()

    def _roll(self, plan: Plan, orders: Orders) -> Roll:
        if not self.before:
            for name, system in self.estate.systems.items():
                self.before |= {r.name: r for n in system.nodes if (r := self.bend(self._reading(name, n)))}
        means = Means(
            estate=self.estate,
            clock=self.clock,
            drivers={name: self.driver(name) for name in self.pairs},
            vault=SimVault(self),
            restore_points=SimRestorePoints(self),
            releases=self,
            prober=SimProber(self),
            journal=SimJournal(self),
            listener=self.listener or Deaf(),
            before=self.before,
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
        known = self.catalogs.get(product)
        return None if known is None else known.resolve(version)

    def product(self, name: str) -> Product | None:
        return self.catalogs.get(name)

    # --- what is true

    def now(self) -> None:
        """The world as it is at this moment; once the process is gone it goes on by itself."""
        try:
            loop = asyncio.get_running_loop()
        except RuntimeError:
            return
        self.world.advance(loop.time())

    def tell(self, system: str, name: str) -> Reading:
        """What a node tells now: with a lag, what was so when it last looked at itself."""
        full, now = f"{system}/{name}", self._reading(system, name)
        told = self._told.get(full)
        if told is None or told.boot != now.boot or (now.taken - told.taken).total_seconds() >= self.lag_s:
            self._told[full] = told = now
        return self.bend(told)

    def _reading(self, system: str, name: str) -> Reading:
        pair = self.pair_of(system, name)
        node = pair.nodes[name]
        word, left = pair.replica()
        role = {"serving": "active", "shadowing": "standby"}.get(pair.role(name), "unknown")
        product = self.estate.systems[system].product
        return Reading(
            system=system,
            node=name,
            taken=self.world.moment,
            serial=node.serial,
            product=product,
            version=node.version,
            boot=node.boot,
            role=role,
            state="in_service",
            next_version=node.next_version,
            gauges=() if self.sessions is None else (Gauge(name="sessions", value=self.sessions(name), unit=""),),
            in_sync=word == "matched",
            sync_word=word,
            sync_remaining_s=left,
            components=(Component(name="image", kind="system image", product=product, version=node.version),),
            packages=tuple(PackagePresent(name=n, sha256=d, bytes=s) for n, (d, s) in node.packages.items()),
            jobs=jobs_of(
                [t for t in node.tasks if not (self.forgets and t.state in ("complete", "broken"))],
                self.world.now,
                KINDS,
            ),
        )

    def judge(self, system: str, node: str, kind: str, release: str) -> None:
        """The promises that an act could break, from the world's truth, at the moment in which it arrives."""
        pair = self.pair_of(system, node)
        mine, other = pair.nodes[node], pair.other(node)
        whole = other.up and pair.replica()[0] == "matched"
        name = f"{system}/{node}"
        if kind in ("restart", "handover", "failback") and self.in_service and not whole:
            self.broken.append(f"I2: {kind} of {name} while the pair is {pair.replica()[0]}")
        backups = [b for b in self.backups if b.system == system]
        if kind == "restart" and self.exports and not any(b.versions[node] == mine.version for b in backups):
            self.broken.append(f"I3: restart of {name} without a backup of {mine.version}")
        if kind in ("install", "restart") and self.snapshots and not pair.snapshots:
            self.broken.append(f"I3: {kind} of {name} without the restore point that the plan asks for")
        if kind == "restart" and pair.active == node and self.in_service:
            self.broken.append(f"I1: restart of {name}, which serves")
        beside = pair.nodes.values() if self.in_service else [mine]
        if kind == "install" and any(t.state == "busy" for n in beside for t in n.tasks):
            self.broken.append(f"I13: install on {name} while another job runs")
        if kind == "restart":
            self._requirements(system, release)

    def _requirements(self, system: str, release: str) -> None:
        """I7: no restart enters a release whose requirement of another system does not hold at that moment."""
        entered = self.catalogs[self.estate.systems[system].product].resolve(release)
        for needed in entered.requires if entered is not None else ():
            for other in self.estate.systems.values():
                versions = {n.version for n in self.pairs[other.name].nodes.values()}
                if other.product == needed.product and not all(
                    parse("dotted", v) in parse_range(needed.range) for v in versions
                ):
                    self.broken.append(f"I7: {system} enters {release}, and {other.name} runs {versions}")

    def all_well(self) -> list[str]:
        """Everything that is not as promised; empty after a good night."""
        said = list(self.broken) + grammar_problems(self.events)
        for name, pair in self.pairs.items():
            said += [f"{name}: {words}" for words in pair.broken if self.in_service]
            if len(pair.snapshots) > 1:
                said.append(f"{name}: {len(pair.snapshots)} restore points are left")
        once = [a for a in self.orders if a[2] in ("install", "snapshot", "restart")]
        said += [f"I5: {a} was done {once.count(a)} times" for a in dict.fromkeys(once) if once.count(a) > 1]
        return said

    def end_state(self, system: str = "tickets") -> dict[str, tuple[str, str]]:
        pair = self.pairs[system]
        return {n: (node.version, pair.role(n)) for n, node in pair.nodes.items()}

    def plainly(self, system: str, release: str) -> str:
        """A release by its version, by whatever name an order has it."""
        known = self.catalogs[self.estate.systems[system].product].resolve(release)
        return known.version if known is not None else release

    def acted(self, system: str, node: str, kind: str, release: str, why: str = "") -> None:
        self.every_act.append((system, node, kind, release))
        self.orders.append((system, node, kind, f"{release} {why}"))
        if system == "tickets":
            self.acts.append((node, kind, release))


class SimDriver:
    request_timeout_s = 10.0
    orders = ORDERS
    kinds = KINDS
    can = frozenset({"preload", "install", "restart", "handover", "failback"})

    def __init__(self, night: Night, system: str) -> None:
        self.night, self.system = night, system

    def lands_within_s(self, kind: str) -> float:
        return 20.0

    def capabilities(self) -> frozenset[str]:
        exports = {"export"} if self.night.exports else set()
        return self.can | exports

    def knows(self) -> Knows:
        return Knows(capabilities=self.capabilities(), slots=2, repeat=self.night.repeat)

    def _up(self, node: str) -> None:
        self.night.now()
        if not self.night.pairs[self.system].nodes[node].up:
            raise NotReached(f"{self.system}/{node} cannot be reached.")

    async def read(self, node: str, closely: bool = False) -> Reading:
        if self.night.read_s:
            await asyncio.sleep(self.night.read_s)
        self.night.happens("read", self.system, node)
        self._up(node)
        return self.night.tell(self.system, node)

    async def job(self, node: str, handle: str) -> Job:
        self._up(node)
        tasks = self.night.pairs[self.system].nodes[node].tasks  # also those that are listed no more
        found = next((j for j in jobs_of(tasks, self.night.world.now, self.kinds) if j.id == handle), None)
        if found is None:
            raise DeviceRefused(f"{self.system}/{node} knows no job {handle}.")
        return found

    async def act(self, node, act, *, send_by, progress=None) -> Accepted:
        night = self.night
        await asyncio.sleep(0.02)
        night.happens("act", self.system, node)
        self._up(node)
        full = f"{self.system}/{node}"
        order = self.orders.get(act.kind, "upload")
        if wait := night.world.fault("sent_late", full, order):  # after a login that took its time
            await asyncio.sleep(wait.value)
        if night.clock.real() > send_by:  # as every driver does right before it sends
            raise NotSent(f"{full}: its time was over.")
        night.moment("act", "before")
        night.world.count(full, order)
        if night.world.fault("never_acts", full, order):
            await asyncio.sleep(10.0)
            raise AnswerLost(f"{full} gave no answer.")
        if late := night.world.fault("acts_late", full, order):  # and the one who asked is gone
            night.world.after(late.value, lambda: self._late(node, act))
            night.die()
        if late := night.world.fault("lands_late", full, order):  # the one who asked waits for its time-out
            night.world.after(late.value, lambda: self._late(node, act))
            await asyncio.sleep(SPEED * self.request_timeout_s)
            raise AnswerLost(f"{full} gave no answer.")
        handle = self._do(node, act)
        night.acted(self.system, node, act.kind, _named(act), act.reason)
        if again := night.world.fault("arrives_twice", full, order):  # sent once, and carried over the network twice
            night.world.after(again.value, lambda: self._again(node, act))
        night.moment("act", "after")
        if night.world.fault("answer_lost", full, order):
            raise AnswerLost(f"{full} gave no answer.")
        return Accepted(handle=handle)

    def _late(self, node: str, act) -> None:
        if not self.night.pairs[self.system].nodes[node].up:
            return
        try:
            self._do(node, act)
        except DeviceRefused:
            return
        self.night.acted(self.system, node, act.kind, _named(act), act.reason)

    def _again(self, node: str, act) -> None:
        """What the device makes of a copy of an order: it refuses most, and nobody asked for it."""
        if self.night.pairs[self.system].nodes[node].up and act.kind in self.orders:
            with contextlib.suppress(Denied):
                self.night.pairs[self.system].order(node, self.orders[act.kind], act.package)

    def _do(self, node: str, act) -> str | None:
        pair = self.night.pairs[self.system]
        if act.kind == "preload":
            pair.keep(node, act.package, body(act.release))
            return None
        self.night.judge(self.system, node, act.kind, self.night.plainly(self.system, act.release))
        try:
            return str(pair.order(node, self.orders[act.kind], act.package).number)
        except Denied as denied:
            raise DeviceRefused(
                f"{self.system}/{node} refuses: {denied.message}",
                meaning="already" if "already" in denied.message else "refused",
            ) from None


def _named(act) -> str:
    return act.release if act.component == "image" else f"{act.component} {act.release}"


class SimVault:
    def __init__(self, night: Night) -> None:
        self.night = night

    async def take(self, system, *, by, roll, before, progress=None) -> Backup:
        await asyncio.sleep(5.0)
        night = self.night
        night.now()
        made = Backup(
            id=f"b{len(night.backups)}",
            system=system.name,
            taken=night.clock.now(),
            by=by,
            comment=f"before {before}",
            before=before,
            roll=roll,
            tool="t",
            versions={n: node.version for n, node in night.pairs[system.name].nodes.items()},
            items=(Item(name="x", node="a", bytes=1, sha256="0"),),
            archive="x",
            bytes=4_000_000,
            blake3="0",
            sealed=night.world.moment,
        )
        night.backups.append(made)
        return made

    def backups(self, system: str) -> list[Backup]:
        return [b for b in self.night.backups if b.system == system]


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
            night.pairs[system.name].snapshot(name)
            night.acted(system.name, "pair", "snapshot", before)
            night.moment("act", "after")
        pair = night.pairs[system.name]
        for earlier in [s.name for s in pair.snapshots if s.name != name]:
            pair.forget_snapshot(earlier)
        return name

    async def there(self, system, *, roll, before) -> str | None:
        self.night.now()
        names = [s.name for s in self.night.pairs[system.name].snapshots]
        return next((n for n in names if is_for(n, roll_reason(roll, before))), None)

    async def revert(self, system, *, by, roll, before) -> None:
        await asyncio.sleep(3.0)
        name = await self.there(system, roll=roll, before=before)
        if name is None:
            raise DeviceRefused("It is gone.")
        self.night.moment("act", "before")
        self.night.pairs[system.name].revert(name)
        self.night.acted(system.name, next(iter(system.nodes)), "rewind", before)
        self.night.moment("act", "after")


class SimProber:
    def __init__(self, night: Night) -> None:
        self.night, self.pause_s = night, night.probes_every_s
        systems = night.estate.systems.values()
        self.watches = [
            Watched(system=s.name, service=n, budget_s=service.budget_s)
            for s in systems
            if s.in_service
            for n, service in s.services.items()
        ]

    def start(self) -> None: ...

    def hurry(self, services: frozenset[str]) -> None:
        self.pause_s = min(0.08, self.night.probes_every_s) if services else self.night.probes_every_s

    def take(self) -> list[Sample]:
        night = self.night
        night.now()
        return [
            Sample(
                service=watched.service,
                at=night.world.moment,
                real=night.clock.real(),
                ok=night.pairs[watched.system].serving is not None and not night.out(watched.service),
            )
            for watched in self.watches
        ]

    async def stop(self) -> None: ...


class SimJournal:
    lease_s = 60.0

    def __init__(self, night: Night) -> None:
        self.night = night
        self.sole_since = night.clock.real()

    def events(self) -> list[Event]:
        return list(self.night.events)

    async def append(self, entry: Entry, system: str | None = None) -> Event:
        self.night.happens("append", entry.kind, system or "")
        if system in self.night.lost or (system is None and self.night.lost >= set(self.night.pairs)):
            raise LeaseLost(f"The lease of {system or 'every system'} is no longer held here.")
        if pause := self.night.slow(entry):
            await asyncio.sleep(pause)
        self.night.moment("append", "before")
        if self.night.full_from is not None and len(self.night.events) >= self.night.full_from:
            raise GallantError("state/journal.db cannot be written: disk full.")
        event = Event(seq=len(self.night.events) + 1, entry=entry)
        self.night.events.append(event)
        self.night.moment("append", "after")
        return event

    def hold_wanted(self) -> HoldWanted | None:
        reason = self.night.hold_reason
        return HoldWanted(reason=reason, now=self.night.hold_now) if reason is not None else None

    async def renew(self) -> list[str]:
        self.night.happens("renew", "", "")
        self.night.renewed += 1
        return sorted(self.night.lost)


class Deaf:
    def event(self, event): ...
    def progress(self, step, percent, message): ...
    def unanswered(self, step, what): ...
    def sample(self, sample): ...
    def waiting(self, began, ended, step): ...


def last_state(night: Night) -> str:
    return replay(night.events).state
