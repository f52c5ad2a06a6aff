"""How a plan is made from readings, aims and catalogs: routes,
requirements across systems, the components that go with them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from gallant.core.assess.compat import OrderedHop
from gallant.core.catalog.products import release_digest
from gallant.core.errors import Refused
from gallant.core.estate.stacks import systems_above
from gallant.core.estate.systems import Estate, RoundRule, System, moving_service, node_name
from gallant.core.plan.ground import Ground, all_read
from gallant.core.plan.lane_hops import lane_hops
from gallant.core.plan.lanes import lane_of, one_after_the_other
from gallant.core.plan.sharing import share_restarts
from gallant.core.plan.targets import goal_of, on_the_way, order_of
from gallant.core.readings import IMAGE
from gallant.core.steps.kinds import KINDS, OWN_ADDRESS
from gallant.core.terms import matches
from gallant.core.work.plan import (
    Basis,
    Lane,
    NothingToDo,
    Plan,
    Round,
    shape_words,
    steps_of,
)


def make_plan(
    ground: Ground, systems: Sequence[System], profiles: Mapping[str, str], by: str, identity: str = ""
) -> Plan:
    """The plan that takes `systems` to their aims, for the estate of this `identity`.

    `profiles` are digests by profile name. Raises `Refused` where a node is unread or a system has no route, `NotSafe`
    where the roles allow no order, `NothingToDo` where all is current.
    """
    moving = [system for system in systems if system.name not in ground.still]
    targets = {system.name: goal_of(ground, system) for system in moving}
    ordered = order_of(ground, moving, targets)
    made = {system.name: lane_for(ground, system, ordered) for system in systems}
    lanes = [lane for lane, _ in made.values() if lane is not None]
    if not lanes:
        names = [s.name for s in systems]
        raise NothingToDo(
            f"{', '.join(names)}: nothing to do, every node runs what its aim asks for.",
            next="gallant verify looks closer.",
            systems=names,
            left={name: left for name, (_, left) in made.items()},
        )
    lanes = one_after_the_other(ground.estate, share_restarts(ground, lanes))
    return plan_of(ground, lanes, profiles, by, identity, rounds=_rounds(ground.estate, lanes))


def plan_of(
    ground: Ground,
    lanes: Sequence[Lane],
    profiles: Mapping[str, str],
    by: str,
    identity: str,
    *,
    rounds: tuple[Round, ...] = (),
    undoes: str | None = None,
    reason: str = "",
) -> Plan:
    """The plan that some lanes make, named, on what it rests on.
    Raises `Refused` where a driver does not know a step of it."""
    for lane in lanes:
        able(ground, lane)
    return Plan(
        made=ground.now,
        by=by,
        estate=ground.estate.name,
        basis=_basis(ground, lanes, profiles, identity),
        lanes=tuple(lanes),
        rounds=rounds,
        undoes=undoes,
        reason=reason,
    ).named()


def lane_for(
    ground: Ground, system: System, ordered: Mapping[str, list[OrderedHop]]
) -> tuple[Lane | None, dict[str, str]]:
    """A system's lane (None: there is nothing to do), and the components that stay behind, each with the reason.

    Raises `Refused` where what it runs, or how its nodes stand, allows none.
    """
    _really_idle(ground.estate, system)
    if system.name in ordered:
        on_the_way(system, ground.products[system.product], ground.worked_on(system), ordered[system.name])
    else:
        all_read(ground, system)
    also = systems_above(ground.estate, system) if system.in_service else ()
    for name in also:
        all_read(ground, ground.estate.systems[name])
    hops, left = lane_hops(ground, system, ordered.get(system.name, []))
    if not hops:
        return None, left
    return lane_of(ground, system, hops, left, also), left


def _rounds(estate: Estate, lanes: Sequence[Lane]) -> tuple[Round, ...]:
    """The rounds that the estate asks for, of the systems in this plan. One that an earlier round's lane needs comes
    along with that; none where all would be one round."""
    left, found = {lane.system: lane for lane in lanes}, list[Round]()
    owners = {hop.id: lane.system for lane in lanes for hop in lane.hops}
    for rule in estate.rounds:
        chosen = [name for name in left if name in systems_of(estate, rule)]
        for name in chosen:  # grows while it is gone through
            needed = [owners[need] for hop in left[name].hops for need in hop.needs if need in owners]
            chosen += [other for other in dict.fromkeys(needed) if other in left and other not in chosen]
        if chosen:
            soak = rule.soak_minutes * 60
            found.append(Round(name=rule.name, systems=tuple(chosen), soak_s=soak, may_fail=rule.may_fail))
            left = {name: lane for name, lane in left.items() if name not in chosen}
    if left:
        found.append(Round(name="rest", systems=tuple(left)))
    return tuple(found) if len(found) > 1 else ()


def systems_of(estate: Estate, rule: RoundRule) -> set[str]:
    """The systems that a round's rule means; those of an earlier one are not left out."""
    return {system.name for system in estate.systems.values() if any(matches(term, system) for term in rule.terms)}


def _basis(ground: Ground, lanes: Sequence[Lane], profiles: Mapping[str, str], identity: str) -> Basis:
    """What must match at the roll, of the systems of the lanes and of those that stand on them."""
    names = dict.fromkeys([*(lane.system for lane in lanes), *(name for lane in lanes for name in lane.also)])
    planned = [ground.estate.systems[name] for name in names]
    nodes = [(s, n) for s in planned for n in s.nodes]
    return Basis(
        estate=identity,
        nodes={node_name(s, n): s.nodes[n].serial for s, n in nodes},
        shapes={s.name: shape_words(s) for s in planned},
        runs_on={node_name(s, n): r for s, n in nodes if (r := s.nodes[n].runs_on) is not None},
        versions=_versions_now(ground, lanes, nodes),
        releases=_digests(ground, lanes),
        profiles={s.profile: profiles[s.profile] for s in planned},
    )


def _versions_now(ground: Ground, lanes: Sequence[Lane], nodes: Sequence[tuple[System, str]]) -> dict[str, str]:
    """What each node runs, and of its components those that a lane moves."""
    moved = {(lane.system, part.component, part.product) for lane in lanes for hop in lane.hops for part in hop.parts}
    found = {node_name(s, n): ground.readings[node_name(s, n)].version for s, n in nodes}
    for system, node in nodes:
        here = node_name(system, node)
        for part in ground.readings[here].components:
            if (system.name, part.name, part.product) in moved:
                found[f"{here}:{part.name}"] = part.version
    return found


def _digests(ground: Ground, lanes: Sequence[Lane]) -> dict[str, str]:
    """The digest of each release that a lane enters: one that is issued anew under its old name is another."""
    hops = [(lane.system, hop) for lane in lanes for hop in lane.hops]
    entered = [(ground.image_of(ground.estate.systems[name]), hop.to) for name, hop in hops if hop.image]
    entered += [(ground.products[part.product], part.to) for _, hop in hops for part in hop.parts]
    found = ((product, to, product.resolve(to)) for product, to in entered)
    return {f"{product.name} {to}": release_digest(release) for product, to, release in found if release is not None}


def _really_idle(estate: Estate, system: System) -> None:
    """Raise `Refused` where a system that is declared as not in service carries one that is."""
    if system.in_service:
        return
    own = {node_name(system, node) for node in system.nodes}
    for other in estate.systems.values():
        if other.in_service and (system.name in other.uses or any(n.runs_on in own for n in other.nodes.values())):
            raise Refused(
                f"{system.name} is declared as not in service, and {other.name}, which is, stands on it.",
                "All of its nodes would be worked on at once.",
                f"Take in_service: no away from {system.name} in estate.yaml, or say it of {other.name} too",
            )


def able(ground: Ground, lane: Lane) -> None:
    """Raise `Refused` where a step asks for what the system's driver, with its
    profile, does not know, or would be sent to an address that moves."""
    knows = ground.knows
    for step in (s for hop in lane.hops for s in steps_of(hop.waves) if OWN_ADDRESS in KINDS[s.kind].guards):
        moving = moving_service(ground.estate.systems[step.system], step.node)
        if moving is not None:
            raise Refused(
                f"{step.subject} is reached at the address of its service {moving}, which moves.",
                "What is sent to it may meet another node.",
                f"Write the node's own address under {step.system} in estate.yaml, or leave {moving} out of its"
                " services",
            )
    kinds = dict.fromkeys(
        (s.system, s.kind)
        for hop in lane.hops
        for s in steps_of(hop.waves)
        if s.component == IMAGE and KINDS[s.kind].driven
    )
    missing = [kind for name, kind in kinds if name in knows and kind not in knows[name].capabilities]
    if missing:
        raise not_taught(lane.system, missing)


def not_taught(system: str, missing: Sequence[str]) -> Refused:
    """What a plan needs and the system's profile does not know."""
    return Refused(
        f"{system}: its profile knows no {', no '.join(missing)}, and the plan needs it.",
        "Nothing was begun.",
        "Teach its profile the calls (docs/profiles.md), or update this system by hand.",
    )
