"""Whether a lane that has ended is where it should be, who serves then, and what leads back where it is not."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from datetime import datetime, timedelta

from gallant.core.after.picture import Picture, losses, moved_by
from gallant.core.catalog.products import Product
from gallant.core.errors import Refused, Stopped
from gallant.core.estate.systems import System, node_name
from gallant.core.plan.returning import no_way_back
from gallant.core.plan.todo import hop_todo, runs_of
from gallant.core.readings import IN_SERVICE, Reading
from gallant.core.records import replace
from gallant.core.shapes import SHAPES
from gallant.core.steps.kinds import KINDS
from gallant.core.work.plan import (
    BACKOUT,
    BY_HAND,
    DEVICE_LED,
    RESTART,
    UPDATE,
    Hop,
    Lane,
    Plan,
)
from gallant.engine.attempt import Attempts
from gallant.engine.means import End, Log, Means, awake
from gallant.engine.watch import Watch

AGAIN_S = 10.0  # estate seconds between two looks at what may still come back


def _picture(at: datetime, readings: Mapping[str, Reading]) -> Picture:
    return Picture(at=at, readings=dict(readings))


# What a lane that leaves the image as it is has come to.
_ENDS = {
    UPDATE: "runs the new releases of its components",
    DEVICE_LED: "runs the new releases of its components",
    BACKOUT: "runs what it ran before",
    RESTART: "was restarted",
    BY_HAND: "has had its work by hand",
}


def _targets(lane: Lane, system: System) -> dict[str, str]:
    """The release that each node's image ends on, of those that the lane moves."""
    return {node: hop.to for hop in lane.hops if hop.image for node in hop.nodes or tuple(system.nodes)}


def _not_in_service(system: System, readings: Mapping[str, Reading], above: Sequence[Reading]) -> Iterator[str]:
    """What keeps a system that was in service from serving as it did: its nodes, what stands on it, its roles."""
    yield from (f"{r.name} is not in service and in sync" for r in readings.values() if not r.healthy)
    yield from (f"{r.name}, which stands on it, is not well" for r in above if not r.healthy)
    for role, node in system.usual.items():
        if readings[node].role != role:
            yield f"{system.name}/{node} is {readings[node].role}, its usual place is {role}"


def _comes_to(lane: Lane, system: System, targets: Mapping[str, str]) -> str:
    chosen = {node for hop in lane.hops for node in hop.nodes or tuple(system.nodes)}
    own = f"runs {' and '.join(dict.fromkeys(targets.values()))}" if targets else _ENDS[lane.kind]
    some = len(chosen) < len(system.nodes)
    where = f"on {', '.join(n for n in system.nodes if n in chosen)}" if some else "on every node"
    return f"{system.name} {own} {where}"


class Ends:
    """Judges the end of lanes."""

    def __init__(self, roll_id: str, plan: Plan, means: Means, log: Log, watch: Watch, attempts: Attempts) -> None:
        self.id, self.plan, self.means = roll_id, plan, means
        self.clock, self.log, self.watch, self.attempts = means.clock, log, watch, attempts
        self._lane_of = {hop.id: lane for lane in plan.lanes for hop in lane.hops}

    def _products(self, lane: Lane, hop: Hop) -> dict[str, Product]:
        """The catalogs of what a hop moves. Raises `Refused` where one is gone."""
        own = self._system(lane.system).product
        above = (self._system(name).product for name in hop.serves)
        names = dict.fromkeys([own, *(part.product for part in hop.parts), *above])
        found = {name: self.means.releases.product(name) for name in names}
        if not hop.image and found[own] is None:  # nobody asks what its image could be
            found[own] = Product(name=own, scheme="dotted", releases=())
        if gone := [name for name, product in found.items() if product is None]:
            raise Refused(f"{lane.system}: no catalog lists {gone[0]} any more.", next="gallant catalog sync")
        return {name: product for name, product in found.items() if product is not None}

    async def _read_system(self, system: str) -> Mapping[str, Reading]:
        return await self.attempts.read_all(self._system(system))

    async def _final(self, lane: Lane) -> End:
        """`finished` means: every node at its target, roles in their usual places, in sync, services answering."""
        system = self._system(lane.system)
        readings = await self.attempts.read_all(system)
        targets = _targets(lane, system)
        now = {r.name: r for r in readings.values()}
        wrong = [
            f"{readings[node].name} runs {readings[node].version}"
            for node, target in targets.items()
            if not self.means.same(system.product, readings[node].version, target)
        ]
        wrong += self._parts_short(lane, readings)
        if system.in_service:
            above = [r for name in lane.also for r in (await self._read_system(name)).values()]
            now |= {r.name: r for r in above}
            wrong += _not_in_service(system, readings, above)
        await self.watch.look()
        wrong += [f"the service {name} does not answer" for name in self.watch.unanswered(system.name)]
        if wrong:
            raise Stopped(
                f"{system.name} is not as it should be after the last step: {'; '.join(wrong)}.",
                next=f"gallant verify {system.name}",
            )
        lost = await self._lost_since(lane, system, now)
        return End(
            state="finished",
            message=f"{_comes_to(lane, system, targets)}.{lost}",
            next=f"gallant verify {system.name}",
        )

    async def _lost_since(self, lane: Lane, system: System, now: Mapping[str, Reading]) -> str:
        """What is not any more as it was before the roll, in words; nothing where all is (I10). What is missing may
        still be on its way, and is looked at again for as long as a condition has to hold."""
        before = {name: reading for name, reading in self.means.before.items() if name in now}
        began = self.clock.now()
        until = awake(self.clock) + timedelta(seconds=self.means.estate.limits.steady_s)
        found = losses(_picture(began, before), _picture(began, now), moved_by(lane.hops, system)) if before else []
        while found and awake(self.clock) < until:
            await self.clock.sleep(AGAIN_S)
            for name in (lane.system, *lane.also):
                now = {**now, **{r.name: r for r in (await self.attempts.read_all(self._system(name))).values()}}
            found = losses(_picture(began, before), _picture(self.clock.now(), now), moved_by(lane.hops, system))
        return f" Not as before: {'; '.join(one.words for one in found)}." if found else ""

    def _parts_short(self, lane: Lane, readings: Mapping[str, Reading]) -> Iterator[str]:
        """The components that are still older than what the lane was to bring them to."""
        goals = {(part.component, hop.nodes): (hop, part) for hop in lane.hops for part in hop.parts}
        for hop, part in goals.values():
            alone = replace(hop, image=False, parts=(part,))
            products = self._products(lane, alone)
            runs = {node: runs_of(reading) for node, reading in readings.items()}
            for node in hop_todo(alone, products[self._system(lane.system).product], products, runs):
                yield f"{readings[node].name} runs {part.component} {runs[node].parts[part.component][0]}"

    def _way_back(self, lane: Lane) -> str | None:
        """What else there is than to go on, where something of the lane was begun that can be taken back."""
        own = (s for s in self.attempts.known.steps() if self._lane_of[s.hop] is lane and KINDS[s.kind].alters)
        if self.plan.undoes is not None or not any(self.log.state.step(s.id).attempts for s in own):
            return None
        begun = [s.id for s in self.attempts.known.steps() if self.log.state.step(s.id).attempts]
        if why := no_way_back(lane, begun):
            return (
                f"There is no going back by a plan: {'; '.join(why)}. gallant backup list {lane.system} has what was"
                " kept of before."
            )
        return f"To go back instead: gallant backout {self.id} {lane.system} plans what that takes."

    async def _who_serves(self, system_name: str) -> str:
        """For anyone who reads the message in the night: who carries the load now."""
        system = self._system(system_name)
        if not system.in_service:
            return f"{system_name} is not in service, so nobody waits for it. Nothing else was started."
        read, silent = [], []
        for node in system.nodes:
            try:
                read.append(await self.attempts.read(system, node))
            except Exception:  # it may be what stopped the lane
                silent.append(node_name(system, node))
        serving = [r for r in SHAPES[system.shape].serving(read) if r.state == IN_SERVICE]
        if not serving:
            return f"No node of {system_name} says that it serves; look at once. Nothing else was started."
        names = " and ".join(r.name for r in serving) if len(serving) < 3 else f"{len(serving)} nodes of {system_name}"
        alone = " alone" if silent and len(serving) == 1 else ""
        return f"{names} serve{'s' if len(serving) == 1 else ''}{alone}; nothing else was started."

    def _system(self, name: str) -> System:
        return self.means.estate.systems[name]
