"""One restart for both layers of a machine: where a system and the machines that it stands on are both due, its release
is laid on its nodes, the restart of each machine enters it, and the node is taken out of service once.

That is done where each of the two has one hop that restarts nodes, and neither has to be finished before the other: an
order of work that lets them run side by side lets a node enter both at the same moment.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from gallant.core.estate.capacity import standing_of
from gallant.core.estate.stacks import carried
from gallant.core.estate.systems import Estate, System, node_name, nodes_below
from gallant.core.plan.ground import Ground, work_now
from gallant.core.plan.hops import hop_waves
from gallant.core.plan.lanes import lane_of, leads_to
from gallant.core.plan.todo import Runs, hop_todo, runs_of
from gallant.core.records import Record, replace
from gallant.core.steps.kinds import KINDS
from gallant.core.work.plan import Hop, Lane, steps_of


class _Pair(Record):
    """Two lanes whose hops share their restarts: the machines' and
    that of what stands on them, by their places in the lanes."""

    lower: Lane
    upper: Lane
    low: int
    up: int

    @property
    def machines(self) -> Hop:
        return self.lower.hops[self.low]

    @property
    def system(self) -> Hop:
        return self.upper.hops[self.up]


def share_restarts(ground: Ground, lanes: Sequence[Lane]) -> list[Lane]:
    """The lanes, those that can share their restarts changed so that
    they do; of three layers, the two lowest. Raises `NotSafe`."""
    done = {lane.system: lane for lane in lanes}
    for name in sorted(done, key=lambda name: _layers_below(ground.estate, name)):
        system = ground.estate.systems[name]
        above = [other for other in carried(ground.estate, system) if other in done]
        if len(above) == 1 and (pair := _pair(ground, list(done.values()), done[name], done[above[0]])) is not None:
            lower, upper = _shared(ground, pair)
            done |= {lower.system: lower, upper.system: upper}
    return list(done.values())


def _pair(ground: Ground, lanes: Sequence[Lane], lower: Lane, upper: Lane) -> _Pair | None:
    low, up = _restarting(lower), _restarting(upper)
    systems = [ground.estate.systems[lane.system] for lane in (lower, upper)]
    if low is None or up is None or not all(system.in_service for system in systems):
        return None
    hop, knows = upper.hops[up], ground.known_of(systems[1])
    able = "install" in knows.capabilities and not knows.updates_all and not (upper.by_device or lower.by_device)
    bound = leads_to(lanes, lower, upper) or leads_to(lanes, upper, lower)
    if not able or bound or not _is_plain(hop):
        return None
    return _Pair(lower=lower, upper=upper, low=low, up=up)


def _is_plain(hop: Hop) -> bool:
    """Whether a hop brings an image to all of its nodes and does nothing besides: the rest has an order of its own."""
    return hop.image and not (hop.renews_spare or hop.parts or hop.nodes or hop.serves)


def _layers_below(estate: Estate, name: str) -> int:
    """On how many machines, one on the other, a node of this system stands at most."""
    system = estate.systems[name]
    return max(len(nodes_below(estate, node_name(system, node))) for node in system.nodes)


def _restarting(lane: Lane) -> int | None:
    """The one hop of a lane that takes nodes away; None where there are more, or none."""
    found = [n for n, hop in enumerate(lane.hops) if any(KINDS[step.kind].away for step in steps_of(hop.waves))]
    return found[0] if len(found) == 1 else None


def _shared(ground: Ground, pair: _Pair) -> tuple[Lane, Lane]:
    """Both lanes anew: laid, then entered with the machines, then looked at."""
    system, machines = (ground.estate.systems[lane.system] for lane in (pair.upper, pair.lower))
    whole = pair.system
    laid_id = f"{whole.id}.laid"
    laid = hop_entered(ground, system, replace(whole, id=laid_id, lays=True, settings=()), {})
    below = replace(
        pair.machines, serves={system.name: whole.to}, needs=tuple(dict.fromkeys([*pair.machines.needs, laid_id]))
    )
    below = hop_entered(ground, machines, below, {})
    last = replace(whole, served=True, restore_point=False, needs=(*whole.needs, below.id))
    last = hop_entered(ground, system, last, dict.fromkeys(restarted_with(ground, machines, below, system), whole.to))
    upper = (*pair.upper.hops[: pair.up], laid, last, *pair.upper.hops[pair.up + 1 :])
    lower = (*pair.lower.hops[: pair.low], below, *pair.lower.hops[pair.low + 1 :])
    return _again(ground, machines, pair.lower, lower), _again(ground, system, pair.upper, upper)


def restarted_with(ground: Ground, machines: System, below: Hop, system: System) -> list[str]:
    """The nodes of a system that are restarted by a hop of the machines below it."""
    on = carried(ground.estate, machines)[system.name]
    away = (step for step in steps_of(below.waves) if KINDS[step.kind].away and step.system == machines.name)
    return [on[step.node] for step in away if step.node in on]


def hop_entered(ground: Ground, system: System, hop: Hop, entered: Mapping[str, str]) -> Hop:
    """A hop with its waves, where some nodes run a release already by then."""
    read = ground.of(system)
    standing = replace(standing_of(system, read, ground.estate.limits), wish=hop.wish)
    product = ground.image_of(system)
    release = product.resolve(hop.to) if hop.image else None
    work = work_now(ground, system, hop, release)
    runs = {n: Runs(version=entered[n]) if n in entered else runs_of(reading) for n, reading in read.items()}
    return replace(hop, waves=hop_waves(system, work, standing, hop_todo(work, product, ground.products, runs)))


def _again(ground: Ground, system: System, lane: Lane, hops: tuple[Hop, ...]) -> Lane:
    return lane_of(ground, system, hops, lane.left, lane.also, lane.kind)
