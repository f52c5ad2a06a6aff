"""How a plan is made for work that no aim asks for: every node
restarted as it is, or worked on by hand, in the order of its shape."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from gallant.core.errors import Refused
from gallant.core.estate.capacity import standing_of
from gallant.core.estate.stacks import systems_above
from gallant.core.estate.systems import System, node_name
from gallant.core.plan.ground import Ground, all_read, work_now
from gallant.core.plan.hops import hop_waves
from gallant.core.plan.lane_hops import paces_for
from gallant.core.plan.lanes import lane_of, one_after_the_other
from gallant.core.plan.planning import plan_of
from gallant.core.plan.todo import hop_todo, runs_of
from gallant.core.records import replace
from gallant.core.work.plan import BY_HAND, RESTART, Hop, Plan


def make_errand(
    ground: Ground,
    systems: Sequence[System],
    profiles: Mapping[str, str],
    by: str,
    reason: str,
    by_hand: str = "",
    identity: str = "",
) -> Plan:
    """The plan that restarts the systems, or has a person do `by_hand` at each of their nodes.

    Raises `Refused` where a restart would enter something that
    nobody asked for, `NotSafe` where the roles allow no order.
    """
    lanes = []
    for system in systems:
        also = systems_above(ground.estate, system) if system.in_service else ()
        for each in (system, *(ground.estate.systems[name] for name in also)):
            all_read(ground, each)
        lanes.append(
            lane_of(ground, system, (_hop(ground, system, by_hand),), {}, also, BY_HAND if by_hand else RESTART)
        )
    lanes = one_after_the_other(ground.estate, lanes)
    return plan_of(ground, lanes, profiles, by, identity, reason=reason)


def _hop(ground: Ground, system: System, by_hand: str) -> Hop:
    product, read = ground.image_of(system), ground.of(system)
    for node, reading in ground.worked_on(system).items():
        following = reading.next_version
        if following is not None and following != reading.version and not product.same(following, reading.version):
            raise Refused(
                f"{node_name(system, node)} would run {following} from its next restart on, and it runs"
                f" {reading.version}.",
                "This would enter a release by the way.",
                f"gallant plan {system.name} brings it in order, or take {following} off the node first",
            )
    first = next(iter(ground.worked_on(system).values()))
    wish = ground.wishes.get(system.name, ())
    hop = Hop(
        id=f"{system.name}.{'hand' if by_hand else 'restart'}",
        system=system.name,
        from_=first.version,
        to=first.version,
        image=False,
        nodes=ground.chosen.get(system.name, ()),
        wish=wish,
        restarts=not by_hand,
        by_hand=by_hand,
        paces=paces_for(ground, system, first.version, first.version, ()),
        waves=(),
    )
    work = work_now(ground, system, hop, None)
    standing = replace(standing_of(system, read, ground.estate.limits), wish=wish)
    runs = {node: runs_of(reading) for node, reading in read.items()}
    return replace(hop, waves=hop_waves(system, work, standing, hop_todo(work, product, ground.products, runs)))
