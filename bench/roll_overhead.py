"""Fifty lanes of three nodes in one roll: what they cost beyond
the time of their devices, and what the live view takes.

The devices are a world in this process, so that what is measured is Gallant: reading,
guarding, a journal on the disk, the order of the work. Their time is scaled (`--speed`) and
shortened (`--pace`). Polls and the time for which all has to be steady are shown apart: they
are policy. The live view draws a hundred lanes into nothing, as often as on a terminal.

    python bench/roll_overhead.py        # about three minutes
"""

from __future__ import annotations

import argparse
import asyncio
import hashlib
import io
import resource
import sys
import tempfile
import time
from datetime import UTC, datetime, timedelta
from pathlib import Path

from short import sized
from spans import Timing, length, union

from gallant.core.catalog.products import Minutes, Package, Product, Release
from gallant.core.estate.backups import Backup
from gallant.core.estate.reading import parse_estate
from gallant.core.estate.systems import Estate
from gallant.core.plan.ground import Ground
from gallant.core.plan.planning import make_plan
from gallant.core.ports import Accepted, Act
from gallant.core.readings import Job, PackagePresent, Reading
from gallant.core.work.events import Entry, Event
from gallant.core.work.knows import Knows
from gallant.core.work.plan import Plan, steps_of
from gallant.drivers.probe import SocketProber
from gallant.engine.means import Means, Orders
from gallant.engine.roll import Roll
from gallant.operations.ground.clock import EstateClock
from gallant.standin.cluster import Cluster, Member
from gallant.standin.shoal import Image
from gallant.standin.world import World
from gallant.store.journal import JournalStore
from gallant.views.roll.live import FRAMES, LiveShow

ORDERS = {"install": "install", "restart": "restart", "handover": "hand-over", "failback": "lead"}
KINDS = {order: kind for kind, order in ORDERS.items()}
ROLES = {"leading": "leader", "following": "member"}


def estate_of(lanes: int, speed: float, since: datetime) -> Estate:
    systems = "".join(
        f"  s{n}:\n    product: a/b\n    shape: quorum\n    site: here\n    driver: http\n    profile: p\n    nodes:\n"
        + "".join(f'      {m}: {{address: "https://127.{n}.0.{i}", serial: S{n}{m}}}\n' for i, m in enumerate("abc", 1))
        for n in range(1, lanes + 1)
    )
    return parse_estate(
        "estate.yaml",
        f"gallant: estate/1\nname: bench\nsites: {{here: {{}}}}\nlimits: {{steady_s: 60}}\n"
        f"aims: [{{for: default, aim: newest}}]\nsimulation: {{speed: {speed}, since: {since:%Y-%m-%dT%H:%M:%SZ}}}\nsystems:\n{systems}",
    )


def product() -> Product:
    return Product(
        name="a/b",
        scheme="dotted",
        releases=tuple(
            Release(
                version=version,
                released=datetime(2026, 1, day, tzinfo=UTC),
                minutes=Minutes(install=8, restart=5, sync=2),
                packages=(Package(name=version, url="x", bytes=len(version), sha256=digest(version)),),
            )
            for day, version in enumerate(("1.0", "2.0"), 1)
        ),
    )


def digest(text: str) -> str:
    return hashlib.sha256(text.encode()).hexdigest()


class Devices:
    """All clusters on one world, which goes by the estate's clock; each is a `Driver` of its system by `of`."""

    def __init__(self, estate: Estate, clock: EstateClock, pace: float) -> None:
        self.clock, self.began = clock, clock.now()
        self.world = World(self.began, clock.speed)
        images = {
            v: Image(
                version=v,
                build="1",
                label=v,
                sha256=digest(v),
                bytes=len(v),
                install_s=480 * pace,
                restart_s=300 * pace,
                sync_s=0,
            )
            for v in ("1.0", "2.0")
        }
        self.clusters = {
            name: Cluster(
                self.world,
                name,
                {n: Member(n, node.serial, "1.0") for n, node in system.nodes.items()},
                images,
                "a",
                sync_s=120 * pace,
            )
            for name, system in estate.systems.items()
        }

    def now(self) -> None:
        self.world.advance((self.clock.now() - self.began).total_seconds())

    def of(self, name: str) -> OneDriver:
        return OneDriver(self, name)


class OneDriver:
    request_timeout_s = 10.0

    def __init__(self, devices: Devices, name: str) -> None:
        self.devices, self.name, self.cluster = devices, name, devices.clusters[name]

    def lands_within_s(self, kind: str) -> float:
        return 20.0

    def capabilities(self) -> frozenset[str]:
        return frozenset({*ORDERS, "preload", "export"})

    def knows(self) -> Knows:
        return Knows(capabilities=self.capabilities())

    async def read(self, node: str) -> Reading:
        self.devices.now()
        await asyncio.sleep(0)
        member = self.cluster.members[node]
        if not member.up:
            from gallant.core.ports import NotReached

            raise NotReached(f"{self.name}/{node} cannot be reached.")
        word, left = self.cluster.sync(node)
        return Reading(
            system=self.name,
            node=node,
            taken=self.devices.world.moment,
            serial=member.serial,
            product="a/b",
            version=member.version,
            boot=member.boot,
            role=ROLES[self.cluster.role(node)],
            state="in_service",
            next_version=member.next_version,
            in_sync=word == "level",
            sync_remaining_s=left,
            packages=tuple(PackagePresent(name=n, sha256=d, bytes=s) for n, (d, s) in member.packages.items()),
            jobs=tuple(
                Job(
                    id=str(t.number),
                    kind=KINDS[t.what],
                    state={"busy": "running", "complete": "done", "broken": "failed"}[t.state],
                    percent=t.percent(self.devices.world.now),
                    remaining_s=max(0.0, t.began + t.lasts - self.devices.world.now),
                )
                for t in member.tasks
            ),
        )

    async def act(self, node: str, act: Act, *, send_by: float, progress: object = None) -> Accepted:
        self.devices.now()
        if act.kind == "preload":
            self.cluster.keep(node, act.package, act.release.encode())
            return Accepted()
        return Accepted(handle=str(self.cluster.order(node, ORDERS[act.kind], act.package).number))


class Backups:
    def __init__(self, devices: Devices) -> None:
        self.devices, self.made = devices, dict[str, list[Backup]]()

    async def take(self, system, *, by, roll, before, progress=None) -> Backup:
        now = self.devices.clock.now()
        versions = {n: m.version for n, m in self.devices.clusters[system.name].members.items()}
        made = Backup(
            id=f"{system.name}-{before}",
            system=system.name,
            taken=now,
            by=by,
            comment="",
            tool="t",
            versions=versions,
            items=(),
            archive="x",
            bytes=1,
            blake3="0",
            sealed=now,
        )
        self.made.setdefault(system.name, []).append(made)
        return made

    def backups(self, system: str) -> list[Backup]:
        return self.made.get(system, [])


class Catalogs:
    def __init__(self, known: Product) -> None:
        self.known = known

    def current(self, name: str, version: str) -> Release | None:
        return self.known.resolve(version)

    def product(self, name: str) -> Product | None:
        return self.known


def plan_of(estate: Estate, devices: Devices, known: Product) -> Plan:
    readings = {f"{s}/{n}": asyncio.run(devices.of(s).read(n)) for s in estate.systems for n in "abc"}
    knows = {name: devices.of(name).knows() for name in estate.systems}
    ground = Ground(
        estate=estate, readings=readings, products={known.name: known}, now=devices.clock.now(), knows=knows
    )
    return make_plan(ground, list(estate.systems.values()), {"p": "x"}, "bench", "e")


def rolled(lanes: int, speed: float, pace: float, folder: Path) -> None:
    estate = estate_of(lanes, speed, datetime.now(UTC) - timedelta(seconds=1))
    clock, known = EstateClock(estate), product()
    devices = Devices(estate, clock, pace)
    plan, show = plan_of(estate, devices, known), Timing()
    backups = Backups(devices)
    began, used = clock.now().timestamp(), time.process_time()
    with JournalStore(folder, "e").new_roll(plan, clock.now()) as journal:
        means = Means(
            estate=estate,
            clock=clock,
            drivers={name: devices.of(name) for name in estate.systems},
            vault=backups,
            restore_points=None,
            releases=Catalogs(known),
            prober=SocketProber({}, clock),
            journal=journal,
            listener=show,
        )
        end = asyncio.run(Roll(journal.id, plan, means, Orders(by="bench")).carry_out())
        events = len(journal.events())
    used, wall = time.process_time() - used, clock.now().timestamp() - began
    assert end.state == "finished", end
    start = devices.began.timestamp()
    by_lane = {
        name: union([(start + b.began, start + b.ended) for b in devices.world.busy if b.node.startswith(f"{name}/")])
        for name in estate.systems
    }
    slowest = max(by_lane, key=lambda name: length(by_lane[name]))
    device = by_lane[slowest]
    polls, steady = show.apart(device, f"{slowest}.")
    real = wall / speed
    print(f"{lanes} lanes of 3 nodes, {events} entries of the journal on the disk")
    print(f"wall time of the roll        {real:6.1f} s real   {wall / 60:7.1f} min of estate time")
    print(f"device time, slowest lane    {length(device) / speed:6.1f} s real")
    print(f"its polls                    {polls / speed:6.1f} s real")
    print(f"seeing it steady             {steady / speed:6.1f} s real")
    ratio = (wall - polls - steady) / length(device)
    print(f"ratio {ratio:.3f} (wall time without those, to device time; goal: 1.02)")
    print(f"{100 * used / real:.0f} % of a core (goal: under 100 %)")
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / (1024 if sys.platform != "darwin" else 1024**2)
    print(f"memory at most {peak:.0f} MB (goal: under 200)")


def drawn(lanes: int, frames: int) -> None:
    """The live view of so many lanes, each in the midst of something."""
    estate = estate_of(lanes, 1.0, datetime.now(UTC) - timedelta(seconds=1))
    clock = EstateClock(estate)
    devices = Devices(estate, clock, 1.0)
    plan = plan_of(estate, devices, product())
    show = LiveShow(io.StringIO())
    show.seen.roll, show.seen.plan = "roll-0001", plan
    now, seq = clock.now(), 0
    for n, lane in enumerate(plan.lanes):
        steps = list(steps_of(lane.hops[0].waves))
        for step in steps[: n % len(steps)]:
            for kind, result in (("intent", None), ("outcome", "done")):
                seq += 1
                show.event(
                    Event(seq=seq, entry=Entry(kind=kind, at=now, wall=0.0, step=step.id, hop=step.hop, result=result))
                )
        seq += 1
        step = steps[n % len(steps)]
        show.event(Event(seq=seq, entry=Entry(kind="intent", at=now, wall=0.0, step=step.id, hop=step.hop)))
    used = time.process_time()
    for n in range(frames):
        show.progress(step.id, float(n % 100), "writing")
        show._console.print(show._screen())
    each = (time.process_time() - used) / frames
    share = 100 * each * FRAMES
    print(
        f"live view of {lanes} lanes: {each * 1000:.1f} ms a frame, {share:.1f} % of a core at {FRAMES} a second (goal: under 5 %)"
    )


def main() -> None:
    options = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    options.add_argument("--lanes", type=int, default=sized(50, 5))
    options.add_argument("--speed", type=float, default=sized(20.0, 400.0))
    options.add_argument("--pace", type=float, default=sized(0.7, 0.3))
    options.add_argument("--short", action="store_true", help="only as large as shows that it runs")
    asked = options.parse_args()
    with tempfile.TemporaryDirectory(prefix="gallant-bench-") as name:
        rolled(asked.lanes, asked.speed, asked.pace, Path(name))
    drawn(sized(100, 10), sized(50, 3))


if __name__ == "__main__":
    main()
