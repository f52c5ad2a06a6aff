"""What a plan says of the way back: what a back-out finds at each of its steps, by the
planner that will make it then, on the ground as the roll will have left it."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from typing import TypeAlias

from gallant.core.estate.systems import System, node_name
from gallant.core.plan.back.case import Did, Obstacle, did
from gallant.core.plan.back.lane import lane_back
from gallant.core.plan.back.order import ties_of, way_of_lanes
from gallant.core.plan.ground import Ground
from gallant.core.plan.todo import Runs, runs_of
from gallant.core.readings import IN_SERVICE, RUNNING, AtHand, Reading
from gallant.core.records import replace
from gallant.core.shapes import NotSafe
from gallant.core.steps.kinds import (
    KINDS,
    NEXT_IMAGE,
    NEXT_PART,
    OTHER_SLOT,
    REWIND,
    RUNS_PART,
    SNAPSHOT,
    STARTED,
    UPDATE_ALL,
    doing,
    nodes_of,
)
from gallant.core.work.plan import Back, Hop, Lane, Plan, Step, steps_of, waves_seconds

LOST = "nothing that can be taken back is left of it"
Readings: TypeAlias = dict[str, Reading]


def with_ways_back(plan: Plan, ground: Ground) -> Plan:
    """The plan with what a back-out finds once each of its steps is done, under the name that it has then."""
    found: dict[str, list[Back]] = {}
    for system, back in _backs(plan, ground):
        found.setdefault(system, []).append(back)
    return replace(plan, lanes=tuple(replace(n, back=tuple(found.get(n.system, ()))) for n in plan.lanes)).named()


def no_way_back(lane: Lane, begun: Collection[str]) -> tuple[str, ...]:
    """Why there is no way back from some steps, of whichever lanes;
    empty where there is one, or nothing is known of it."""
    found: dict[str, None] = {}
    for back in (back for back in lane.back if back.step in begun):
        # What one step leaves without a way a later one may give one again.
        found = {} if back.does else found | dict.fromkeys(back.why)
    return tuple(found)


class _TiedSystems:
    """Systems of a plan that ask something of one another, with what they were last found to have of a way back."""

    def __init__(self, ground: Ground, names: Sequence[str], ties: Collection[frozenset[str]]) -> None:
        near = dict.fromkeys(names)
        near |= dict.fromkeys(name for tie in ties if tie & near.keys() for name in sorted(tie))
        systems = {name: ground.estate.systems[name] for name in near}
        self.nodes = tuple(node_name(system, node) for system in systems.values() for node in system.nodes)
        plain = replace(ground, parts={}, still=frozenset(), chosen={}, wishes={}, despite={})
        self.ground = replace(plain, estate=replace(ground.estate, systems=systems))
        self.begun: list[Step] = []
        self.points: set[tuple[str, str]] = set()  # system, and the release that a restore point was taken before
        self.lanes: dict[str, Lane | None] = {}
        self.own: dict[str, tuple[Obstacle, ...]] = {}
        self.before: dict[str, dict[tuple[str, str], str]] = {}  # by why and node

    def after(self, readings: Readings, plan: Plan, step: Step) -> Iterator[tuple[str, Back]]:
        """What there is of a way back for the step's system, and for those of which that has changed with it."""
        ground = replace(self.ground, readings={name: readings[name] for name in self.nodes if name in readings})
        done = did(self.begun, self.points)
        system = ground.estate.systems[step.system]
        try:
            self.lanes[system.name], self.own[system.name] = _lane(ground, plan, done, system)
        except NotSafe as error:
            yield system.name, Back(step=step.id, component=step.component, waits=error.what)
            return
        way = way_of_lanes(ground, [one for one in self.lanes.values() if one is not None])
        for name, own in self.own.items():
            bars = [*own, *(bar for bar in way.obstacles if bar.system == name)]
            barred = {(bar.why, node): bar.why for bar in bars for node in bar.nodes or ("",)}
            why = tuple(dict.fromkeys(words for key, words in barred.items() if key not in self.before.get(name, {})))
            if why or name == system.name:
                yield name, _back(step, name, None if barred else self.lanes[name], why)
            self.before[name] = barred


def _lane(ground: Ground, plan: Plan, done: Did, system: System) -> tuple[Lane | None, tuple[Obstacle, ...]]:
    lane, against = lane_back(ground, plan, done, system.name, tuple(system.nodes))
    if lane is None and not against:
        return None, (Obstacle(system=system.name, nodes=(), why=LOST),)
    return lane, against


def _backs(plan: Plan, ground: Ground) -> Iterator[tuple[str, Back]]:
    """Of each step that alters what nodes run, or takes a way back away, in
    the order in which the hops are over; what they run goes along."""
    groups, readings = _groups(plan, ground), dict(ground.readings)
    for lane, hop in _in_order(plan):
        for step in steps_of(hop.waves):
            _leave(ground, readings, step)
            if (group := groups.get(step.system)) is None:
                continue
            group.begun.append(step)
            if step.kind == SNAPSHOT:
                # The newest alone is kept: what the one before led back from may have no way any more.
                group.points.add((lane.system, hop.to))
                if any(KINDS[one.kind].leaves and one.system == step.system for one in group.begun):
                    yield from (one for one in group.after(readings, plan, step) if one[1].why)
            elif KINDS[step.kind].leaves:
                yield from group.after(readings, plan, step)


def _groups(plan: Plan, ground: Ground) -> dict[str, _TiedSystems]:
    """By system of those lanes that go to an aim."""
    names, ties = [lane.system for lane in plan.lanes if lane.enters], ties_of(ground)
    left, found = dict.fromkeys(names), dict[str, _TiedSystems]()
    while left:
        own = [next(iter(left))]
        for name in own:  # grows while it is gone through
            left.pop(name)
            own += [other for other in left if frozenset((name, other)) in ties and other not in own]
        found |= dict.fromkeys(own, _TiedSystems(ground, own, ties))
    return found


def _in_order(plan: Plan) -> list[tuple[Lane, Hop]]:
    ends = plan.ends_s
    hops = [(lane, hop) for lane in plan.lanes for hop in lane.hops]
    return sorted(hops, key=lambda one: ends[one[1].id])


def _back(step: Step, system: str, made: Lane | None, why: tuple[str, ...]) -> Back:
    component = step.component if step.system == system else ""
    if made is None:
        return Back(step=step.id, component=component, why=why)
    lasts = sum(waves_seconds(hop.waves) for hop in made.hops)
    return Back(step=step.id, component=component, does=_does(made, step), lasts_s=lasts)


def _does(made: Lane, step: Step) -> str:
    """What becomes of the step's node first, in words."""
    for hop in made.hops:
        own = [s for s in steps_of(hop.waves) if KINDS[s.kind].alters and set(nodes_of(s)) & set(nodes_of(step))]
        if own:
            return ", ".join(dict.fromkeys(_words(s) for s in own))
    return "take it back into service"


_SAID = {REWIND: "revert to the restore point", "fall_back": "fall back to {to}", UPDATE_ALL: "update all to {to}"}


def _words(step: Step) -> str:
    words = _SAID.get(step.kind, "{doing}" if KINDS[step.kind].leaves == STARTED else "{doing} {to}")
    return words.format(doing=doing(step), to=step.to)


def _leave(ground: Ground, readings: Readings, step: Step) -> None:
    """What the nodes say once a step is done."""
    row, system = KINDS[step.kind], ground.estate.systems[step.system]
    leaves = _LEAVES.get(row.leaves)
    serves = row.takes_back or (row.leaves == STARTED and not step.aside)
    for name in (node_name(system, node) for node in nodes_of(step)):
        now = readings[name] if not serves else replace(readings[name], state=IN_SERVICE)
        runs = leaves(runs_of(now), step, ground.known_of(system).slots) if leaves is not None else None
        readings[name] = _with(now, runs) if runs is not None else now


def _next_image(now: Runs, step: Step, slots: int) -> Runs:
    return replace(now, next_version=step.to, other_slot=step.to if slots > 1 else now.other_slot)


def _next_part(now: Runs, step: Step, slots: int) -> Runs:
    return replace(now, parts={**now.parts, step.component: (now.parts[step.component][0], step.to)})


def _runs_part(now: Runs, step: Step, slots: int) -> Runs:
    return replace(now, parts={**now.parts, step.component: (step.to, None)})


def _started(now: Runs, step: Step, slots: int) -> Runs:
    """All that waited runs. What ran before lies in the other slot, where there is one and the image is another."""
    left = now.version if slots > 1 and now.version != step.to else now.other_slot
    parts = {**now.parts, **{one.component: (one.version, None) for one in step.brings}}
    return Runs(version=step.to, next_version=step.to, other_slot=left, parts=parts)


def _other_slot(now: Runs, step: Step, slots: int) -> Runs:
    return replace(now, other_slot=step.to)


_LEAVES: Mapping[str, Callable[[Runs, Step, int], Runs]] = {
    NEXT_IMAGE: _next_image,
    NEXT_PART: _next_part,
    RUNS_PART: _runs_part,
    STARTED: _started,
    OTHER_SLOT: _other_slot,
}


def _with(reading: Reading, runs: Runs) -> Reading:
    """A reading of a node that runs something else. What it ran it could be given again, where it says so."""
    left = [
        AtHand(name=part.name, version=part.version)
        for part in reading.components
        if part.name in runs.parts and runs.parts[part.name][0] != part.version and part.name not in reading.not_at_hand
    ]
    parts = tuple(
        replace(part, version=runs.parts[part.name][0], next_version=runs.parts[part.name][1])
        if part.name in runs.parts
        else part
        for part in reading.components
    )
    return replace(
        reading,
        version=runs.version,
        next_version=runs.next_version,
        other_slot=runs.other_slot,
        components=parts,
        at_hand=None if reading.at_hand is None else (*reading.at_hand, *left),
        facets=tuple(
            f for f in reading.facets if f.name != RUNNING
        ),  # a plan saves what is not, or says that it is lost
    )
