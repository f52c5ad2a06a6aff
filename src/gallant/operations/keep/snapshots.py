"""Restore points: taken under a name that says what for, seen to be there, reverted to, and taken away again."""

from __future__ import annotations

import contextlib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import timedelta

from gallant.core.decide.ledger import BEGUN, FAILED, REMOVED, REVERTED, TAKEN
from gallant.core.errors import GallantError, Refused, Stopped, WrongUse, worst_exit
from gallant.core.estate.snapshots import RestorePoint, is_for, is_of_roll, roll_reason, snapshot_name, snapshots_of
from gallant.core.estate.systems import System, node_name
from gallant.core.ports import Act, AnswerLost, DeviceRefused, Driver, NotReached
from gallant.core.readings import IMAGE, Reading
from gallant.core.records import Record, clean
from gallant.core.shapes import SHAPES
from gallant.operations.ground.acting import POLL_S, carry_out
from gallant.operations.ground.deciding import end_roll, record
from gallant.operations.ground.heard import keep_readings
from gallant.operations.ground.keepers import drivers_of, keepers_of, keeps
from gallant.operations.ground.workplace import Ask, Workplace

BACK_WITHIN_S = 900.0  # estate time: how long a system may take to be back after a revert


class Made(Record):
    """A restore point of one system that was taken, or why there is none."""

    system: str
    name: str
    keeper: str
    error: str | None = None
    next: str | None = None
    exit_code: int = 0


@dataclass(frozen=True)
class KeeperWay:
    """Who keeps a system's restore points: the driver of itself or of the host below it, and which node is asked."""

    driver: Driver
    keeper: System
    node: str
    of: str


async def read_kept(
    place: Workplace, system: System, drivers: Mapping[str, Driver]
) -> tuple[list[RestorePoint], dict[str, Reading]]:
    """A system's restore points now, and the readings of its own nodes."""
    own = {node: await drivers[system.name].read(node) for node in system.nodes}
    hosts = {}
    for name, host in keepers_of(place, system).items():
        hosts[name] = await drivers[host.name].read(name.partition("/")[2])
    limit = timedelta(days=place.estate.limits.snapshot_days)
    return snapshots_of(system.name, own.values(), hosts, place.clock.now(), limit), own


async def _kept_by_those_that_answer(
    place: Workplace, system: System, drivers: Mapping[str, Driver]
) -> tuple[list[RestorePoint], list[GallantError]]:
    """A system's restore points, of those of its nodes and hosts that answer; and what the others came to."""
    own, hosts, silent = dict[str, Reading](), dict[str, Reading](), list[GallantError]()
    asked = [(own, node, drivers[system.name], node) for node in system.nodes]
    asked += [
        (hosts, name, drivers[host.name], name.partition("/")[2]) for name, host in keepers_of(place, system).items()
    ]
    for into, name, driver, node in asked:
        try:
            into[name] = await driver.read(node)
        except GallantError as error:
            silent.append(error)
    limit = timedelta(days=place.estate.limits.snapshot_days)
    return snapshots_of(system.name, own.values(), hosts, place.clock.now(), limit), silent


def way_of(place: Workplace, system: System, drivers: Mapping[str, Driver], own: Mapping[str, Reading]) -> KeeperWay:
    """Through the system itself where it can, else through the host
    that carries it; raises `Refused` where neither can."""
    serving = SHAPES[system.shape].head(system.nodes, {n: r.role for n, r in own.items()})
    if keeps(place, system, guests=False):
        return KeeperWay(drivers[system.name], system, serving, "")
    for name, host in keepers_of(place, system).items():
        return KeeperWay(drivers[host.name], host, name.partition("/")[2], system.name)
    raise Refused(
        f"{system.name} cannot be snapshotted: neither its profile nor a host below it knows how.",
        next=f"gallant backup take {system.name} is its way back",
    )


def _still_can(place: Workplace, system: System, own: Mapping[str, Reading]) -> None:
    product = place.products.get(system.product)
    for reading in own.values():
        release = product.resolve(reading.version) if product is not None else None
        if release is not None and not release.snapshots:
            raise Refused(
                f"{system.name} runs {reading.version}, on which it cannot be snapshotted any more, as its publisher"
                " says.",
                next=f"gallant backup take {system.name} is its way back",
            )


async def take(place: Workplace, terms: Sequence[str], reason: str) -> tuple[list[Made], int]:
    """A restore point of every selected system, seen to be there; failures first, and the exit code."""
    if not terms:
        raise WrongUse("Nothing is selected.", next="gallant snapshot take SYSTEM --reason TEXT")
    systems, rows = place.systems(terms), []
    async with drivers_of(place, systems) as drivers:
        for system in systems:
            name = snapshot_name(reason, place.user, place.clock.now())
            try:
                rows.append(await _take_one(place, system, drivers, name))
            except GallantError as error:
                told = " ".join(p for p in (error.what, error.why) if p)
                rows.append(
                    Made(
                        system=system.name, name=name, keeper="", error=told, next=error.next, exit_code=error.exit_code
                    )
                )
    rows.sort(key=lambda r: r.error is None)
    return rows, worst_exit([r.exit_code for r in rows])


async def _take_one(place: Workplace, system: System, drivers: Mapping[str, Driver], name: str) -> Made:
    before, own = await read_kept(place, system, drivers)
    _quiet(system, own)
    way = way_of(place, system, drivers, own)
    if (
        way.keeper == system
    ):  # one that was taken on an earlier release can be taken away, and reverted to, all the same
        _still_can(place, system, own)
    if any(k.snapshot.name == name for k in before):
        raise Refused(f"{system.name} has a restore point {name} already.", next=f"gallant snapshot list {system.name}")
    _left_alone(place, way)
    await _order(place, way, "snapshot", name)
    after, _ = await read_kept(place, system, drivers)
    if all(k.snapshot.name != name for k in after):
        raise Stopped(
            f"{system.name}: the order was taken, and no restore point {name} is to be seen.",
            "One that nobody can see is none.",
            f"Look at the console of {node_name(way.keeper, way.node)}",
        )
    keep_readings(place, own.values())  # what a revert has to bring back
    days = place.estate.limits.snapshot_days
    record(place, "snapshot", system.name, target=name, state=TAKEN, reason=f"to be removed within {days:g} d")
    return Made(system=system.name, name=name, keeper=node_name(way.keeper, way.node))


async def _order(place: Workplace, way: KeeperWay, kind: str, name: str) -> None:
    await carry_out(place, way.driver, way.node, Act(kind=kind, reason=name, package=way.of))


def _left_alone(place: Workplace, way: KeeperWay) -> None:
    """A host that a roll is working on right now is not given another order meanwhile."""
    if not way.of:
        return
    for row in place.journal.open_rolls(way.keeper.name):
        if way.of not in row.plan.systems and place.journal.is_running(row.id):
            raise Refused(
                f"{row.id} works on {way.keeper.name}, which carries {way.of}.",
                next=f"Wait until it ends: gallant history {row.id}",
            )


def _quiet(system: System, own: Mapping[str, Reading]) -> None:
    for reading in own.values():
        if reading.running_jobs:
            raise Refused(
                f"{reading.name} is busy: {reading.running_jobs[0].kind}.",
                next=f"Wait, then: gallant check {system.name}",
            )


async def listed(place: Workplace, terms: Sequence[str]) -> tuple[list[RestorePoint], list[str], int]:
    """Every restore point of the selected systems, the oldest first; what could not be read, and the exit code."""
    systems, found, failed, codes = place.systems(terms), [], [], []
    async with drivers_of(place, systems) as drivers:
        for system in systems:
            kept, silent = await _kept_by_those_that_answer(place, system, drivers)
            found += kept
            failed += [error.what for error in silent]
            codes += [error.exit_code for error in silent]
    found.sort(key=lambda k: k.age, reverse=True)
    return found, failed, worst_exit([*codes, 1 if any(k.overdue for k in found) else 0])


async def remove(place: Workplace, system_name: str, name: str, sure: Ask) -> RestorePoint:
    """Take a restore point away; raises `WrongUse` where there is no such one."""
    system = _one(place, system_name)
    async with drivers_of(place, [system]) as drivers:
        kept, _ = await read_kept(place, system, drivers)
        found = _named(system, kept, name)
        if not sure(f"Remove the restore point {found.snapshot.name} of {system.name}?"):
            raise Refused("Nothing was removed.", next=f"gallant snapshot list {system.name}")
        await _remove_one(place, system, drivers, found.snapshot.name)
    return found


async def _remove_one(place: Workplace, system: System, drivers: Mapping[str, Driver], name: str) -> None:
    _, own = await read_kept(place, system, drivers)
    await _order(place, way_of(place, system, drivers, own), "remove_snapshot", name)
    left, _ = await read_kept(place, system, drivers)
    if any(k.snapshot.name == name for k in left):
        raise Stopped(f"{system.name}: {name} is still there.", next=f"gallant snapshot list {system.name}")
    record(place, "snapshot", system.name, target=name, state=REMOVED)


class NodeBack(Record):
    """What a node runs after a revert, by component (None: it does not answer), and
    what it ran when the restore point was taken (None: that is not known)."""

    node: str
    runs: dict[str, str] | None
    ran: dict[str, str] | None

    @property
    def is_back(self) -> bool:
        """Whether the node runs what it ran when the restore point was taken."""
        return self.runs is not None and not self.others

    @property
    def others(self) -> tuple[str, ...]:
        """The components that run something else than then."""
        runs, ran = self.runs or {}, self.ran or {}
        return tuple(name for name, version in ran.items() if self.runs is not None and runs.get(name) != version)


class Reverted(Record):
    """A restore point that was gone back to, and every node as it was read afterwards."""

    point: RestorePoint
    nodes: tuple[NodeBack, ...]

    @property
    def exit_code(self) -> int:
        """4 where some node is not back."""
        return 0 if all(one.is_back for one in self.nodes) else 4


async def revert(place: Workplace, system_name: str, name: str, sure: Ask) -> Reverted:
    """Go back to a restore point, and read every node: everything since is
    lost on the system. A `single` alone, unless its profile is asked.

    A member of several that share data would come back older than the others, so only a system of one node is reverted.
    """
    system = _one(place, system_name)
    rolls = place.journal.open_rolls(system.name)
    if rolls and (place.journal.is_running(rolls[0].id) or len(rolls[0].plan.systems) > 1):
        raise Refused(
            f"{rolls[0].id} of {', '.join(rolls[0].plan.systems)} is not finished.",
            next=f"gallant history {rolls[0].id}; gallant hold {rolls[0].id} --for-good --reason WHY ends it",
        )
    async with drivers_of(place, [system]) as drivers:
        kept, own = await read_kept(place, system, drivers)
        found = _named(system, kept, name)
        _quiet(system, own)
        if len(system.nodes) > 1 and "revert_snapshot" not in drivers[system.name].capabilities():
            raise Refused(
                f"{system.name} has {len(system.nodes)} nodes: one that went back would be older than the others.",
                next=f"gallant backup list {system.name}",
            )
        age = f"{found.age.total_seconds() / 3600:.1f} h"
        ends = f" {rolls[0].id}, which is not finished, ends with it." if rolls else ""
        if not sure(
            f"Revert {system.name} to {found.snapshot.name}? Everything of the last {age} is lost on it.{ends}"
        ):
            raise Refused("Nothing was reverted.", next=f"gallant snapshot list {system.name}")
        record(place, "snapshot", system.name, target=found.snapshot.name, state=BEGUN, reason="to be reverted to")
        await _order(place, way_of(place, system, drivers, own), "revert_snapshot", found.snapshot.name)
        if rolls:
            end_roll(place, rolls[0].id, f"{system.name} was reverted to {found.snapshot.name}")
        ran = place.readings.as_of(found.snapshot.taken)
        back = Reverted(point=found, nodes=tuple(await _all_back(place, system, drivers[system.name], ran)))
    state, wrong = FAILED if back.exit_code else REVERTED, [one.node for one in back.nodes if not one.is_back]
    told = f"{', '.join(wrong)} did not go back" if wrong else ""
    record(place, "snapshot", system.name, target=found.snapshot.name, state=state, reason=told)
    return back


async def _all_back(place: Workplace, system: System, driver: Driver, ran: Mapping[str, Reading]) -> list[NodeBack]:
    """Every node as it is once all of them are back; those that are not within `BACK_WITHIN_S`, as they are then."""
    until = place.clock.now() + timedelta(seconds=BACK_WITHIN_S)
    while True:
        readings = dict[str, Reading]()
        for node in system.nodes:
            with contextlib.suppress(GallantError):
                readings[node] = await driver.read(node)
        found = [_node_back(node, readings.get(node), ran.get(node_name(system, node))) for node in system.nodes]
        if all(one.is_back for one in found) or place.clock.now() >= until:
            keep_readings(place, readings.values())
            return found
        await place.clock.sleep(POLL_S)


def _node_back(node: str, now: Reading | None, then: Reading | None) -> NodeBack:
    return NodeBack(node=node, runs=_runs(now), ran=_runs(then))


def _runs(reading: Reading | None) -> dict[str, str] | None:
    if reading is None:
        return None
    return {IMAGE: reading.version} | {part.name: part.version for part in reading.components}


class PlaceRestorePoints:
    """The engine's `RestorePoints`: the same taking as the command's. Of a roll's
    hops only the newest one is kept: each that stays slows its system down."""

    def __init__(self, place: Workplace, drivers: Mapping[str, Driver]) -> None:
        self._place, self._drivers = place, drivers

    async def take(self, system: System, *, by: str, roll: str, before: str) -> str:
        kept, _ = await read_kept(self._place, system, self._drivers)
        reason = roll_reason(roll, before)
        name = next((k.snapshot.name for k in kept if is_for(k.snapshot.name, reason)), None)
        if name is None:
            name = snapshot_name(reason, by, self._place.clock.now())
            await _take_one(self._place, system, self._drivers, name)
        for earlier in [k.snapshot.name for k in kept if is_of_roll(k.snapshot.name, roll) and k.snapshot.name != name]:
            await _remove_one(self._place, system, self._drivers, earlier)
        return name

    async def there(self, system: System, *, roll: str, before: str) -> str | None:
        """Each of its nodes knows, and so does the host below it; one of them has to answer."""
        own = {node_name(system, node): self._drivers[system.name] for node in system.nodes}
        hosts = {name: self._drivers[host.name] for name, host in keepers_of(self._place, system).items()}
        silent: Exception | None = None
        for name, driver in [*own.items(), *hosts.items()]:
            try:
                reading = await driver.read(name.partition("/")[2])
            except (NotReached, AnswerLost) as error:
                silent = error
                continue
            for snapshot in reading.snapshots or ():
                if snapshot.of in (None, system.name) and is_for(snapshot.name, roll_reason(roll, before)):
                    return snapshot.name
        if silent is not None:
            raise silent
        return None

    async def revert(self, system: System, *, by: str, roll: str, before: str) -> None:
        """A restore point of one roll, gone back to by another."""
        name = await self.there(system, roll=roll, before=before)
        if name is None:
            raise DeviceRefused(f"The restore point of {system.name} that {roll} took before {before} is gone.")
        _, own = await read_kept(self._place, system, self._drivers)
        way = way_of(self._place, system, self._drivers, own)
        _left_alone(self._place, way)
        record(self._place, "snapshot", system.name, target=name, state=BEGUN, reason="to be reverted to")
        await _order(self._place, way, "revert_snapshot", name)
        record(self._place, "snapshot", system.name, target=name, state=REVERTED)


class Settled(Record):
    """What became of a restore point after the work: removed, or kept until its soak time is over; or why neither."""

    system: str
    name: str
    what: str


async def settle(place: Workplace, systems: Sequence[System]) -> list[Settled]:
    """After systems were found well: take away the restore points
    that Gallant took of them, once the soak time is over.

    Those that somebody else took are theirs, and are left.
    """
    done: list[Settled] = []
    ours = _ours(place)
    for system in [s for s in systems if any(name == s.name for name, _ in ours)]:
        try:
            kept, _, _ = await listed(place, [system.name])
            for one in [k for k in kept if (system.name, k.snapshot.name) in ours]:
                what = _stays(place, one)
                if what is None:
                    await remove(place, system.name, one.snapshot.name, lambda _: True)
                    what = "removed: all is well without it"
                done.append(Settled(system=system.name, name=one.snapshot.name, what=what))
        except GallantError as error:
            done.append(
                Settled(system=system.name, name="", what=f"its snapshots could not be looked at: {error.what}")
            )
    return done


def _stays(place: Workplace, kept: RestorePoint) -> str | None:
    """Why a restore point is still needed; None where it is not."""
    for roll in place.journal.open_rolls(kept.system):
        if is_of_roll(kept.snapshot.name, roll.id):
            return f"stays: {roll.id} is not finished"
    left = timedelta(hours=place.estate.limits.soak_hours) - kept.age
    return f"stays for another {left.total_seconds() / 3600:.0f} h" if left > timedelta(0) else None


def _ours(place: Workplace) -> set[tuple[str, str]]:
    """System and name of every restore point that Gallant took and did not take away, by the ledger."""
    found: set[tuple[str, str]] = set()
    for kept in place.ledger.about(["snapshot"]):
        entry = kept.entry
        if entry.target is None:
            continue
        if entry.state == TAKEN:
            found.add((entry.subject, entry.target))
        elif entry.state == REMOVED:
            found.discard((entry.subject, entry.target))
    return found


def _one(place: Workplace, name: str) -> System:
    return place.systems([name])[0]


def _named(system: System, kept: Sequence[RestorePoint], name: str) -> RestorePoint:
    found = [k for k in kept if k.snapshot.name == name] or [k for k in kept if k.snapshot.name.startswith(name)]
    if len(found) != 1:
        what = "no restore point" if not found else f"{len(found)} restore points that begin with"
        raise WrongUse(f"{system.name} has {what} {clean(name, 80)!r}.", next=f"gallant snapshot list {system.name}")
    return found[0]
