"""What a plan means for those who have to accept it, derived once more when it begins: from the catalogs, the estate
and what was read just now, and from nothing that the plan says of itself but what it moves."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from gallant.core.estate.stacks import systems_above
from gallant.core.estate.systems import System
from gallant.core.plan.components import one_way_of
from gallant.core.plan.ground import Ground
from gallant.core.plan.lane_hops import with_waves
from gallant.core.plan.lanes import lane_of
from gallant.core.plan.returning import with_ways_back
from gallant.core.plan.sharing import hop_entered, restarted_with
from gallant.core.records import replace
from gallant.core.work.plan import Hop, Lane, Part, Plan


def derived(plan: Plan, ground: Ground) -> Plan:
    """The plan, under its name, with everything anew that a person has to accept by name: what has no way back, what is
    down and for how long, what is lost. Raises `NotSafe` where the roles allow none of its hops."""
    lanes = {lane.system: tuple(_as_known(ground, lane, hop) for hop in lane.hops) for lane in plan.lanes}
    waved: dict[str, dict[str, Hop]] = {name: dict(_waved(ground, name, hops)) for name, hops in lanes.items()}
    for lane in plan.lanes:
        for hop in (hop for hop in lanes[lane.system] if hop.served):
            waved[lane.system][hop.id] = _served(ground, hop, waved)
    made = tuple(_lane(ground, lane, waved[lane.system]) for lane in plan.lanes)
    return replace(with_ways_back(replace(plan, lanes=made), ground), id=plan.id)


def _lane(ground: Ground, lane: Lane, waved: Mapping[str, Hop]) -> Lane:
    system = ground.estate.systems[lane.system]
    also = systems_above(ground.estate, system) if system.in_service else ()
    hops = tuple(waved[hop.id] for hop in lane.hops if hop.id in waved)
    return lane_of(ground, system, hops, lane.left, also, lane.kind)


def _waved(ground: Ground, name: str, hops: tuple[Hop, ...]) -> Iterator[tuple[str, Hop]]:
    """The hops with their waves, but for those that another system's restart enters."""
    system, image = ground.estate.systems[name], ground.image_of(ground.estate.systems[name])
    alone = [(hop, image.resolve(hop.to) if hop.image else None) for hop in hops if not _is_shared(hop)]
    yield from ((hop.id, hop) for hop in with_waves(ground, system, alone))
    yield from ((hop.id, hop_entered(ground, system, hop, {})) for hop in hops if hop.lays or hop.serves)


def _is_shared(hop: Hop) -> bool:
    """Whether one restart serves two systems, of which it is a part."""
    return hop.lays or hop.served or bool(hop.serves)


def _served(ground: Ground, hop: Hop, waved: Mapping[str, Mapping[str, Hop]]) -> Hop:
    """A hop that the restart of the machines below enters."""
    system, systems = ground.estate.systems[hop.system], ground.estate.systems
    entered = dict[str, str]()
    for below in (below for hops in waved.values() for below in hops.values() if hop.system in below.serves):
        entered |= dict.fromkeys(restarted_with(ground, systems[below.system], below, system), hop.to)
    return hop_entered(ground, system, hop, entered)


def _as_known(ground: Ground, lane: Lane, hop: Hop) -> Hop:
    """A hop with what catalogs and profiles say of what it moves."""
    system = ground.estate.systems[lane.system]
    release = ground.image_of(system).resolve(hop.to) if hop.image else None
    on = release if not hop.back else None  # what ran before is gone back to whatever it says of its own way back
    return replace(
        hop,
        one_way=on is not None and on.one_way,
        one_way_because=on.one_way_because if on is not None else None,
        despite_recall=hop.despite_recall or (release is not None and release.recall is not None),
        parts=tuple(part if hop.back else _part(ground, system, part) for part in hop.parts),
        channels={},
    )


def _part(ground: Ground, system: System, part: Part) -> Part:
    product = ground.products.get(part.product)
    release = product.resolve(part.to) if product is not None else None
    if product is None or release is None:
        return part
    return replace(part, one_way_because=one_way_of(ground, system, part.component, part.kind, product, release))
