"""How a plan is made from readings, aims and catalogs.

The waves of a hop are derived by `hop_waves`, which the engine calls again at the start of each hop with the roles that it
observes then: the same function, so the plan cannot promise one order and the roll follow another.
"""

from __future__ import annotations

import itertools
from collections.abc import Iterator, Mapping, Sequence, Set
from datetime import datetime
from types import MappingProxyType

from gallant.core.assess.compat import OrderedHop, find_order
from gallant.core.assess.requirements import requirements
from gallant.core.assess.routes import Route, find_route
from gallant.core.catalog.products import Bundle, Package, Product, Release, release_digest
from gallant.core.errors import Refused
from gallant.core.estate.aims import choose, parse_aim
from gallant.core.estate.order import FAILBACK, HANDOVER, SHAPES, WORK, Roles, Turn, turns
from gallant.core.estate.systems import Estate, System, aim_for, node_name
from gallant.core.readings import Reading
from gallant.core.records import Record, replace
from gallant.core.work.estimate import deadline_seconds
from gallant.core.work.plan import (
    Basis,
    Hop,
    HopWork,
    Knows,
    Lane,
    NothingToDo,
    Plan,
    Step,
    Track,
    Wave,
    shape_words,
    steps_of,
    waves_seconds,
)
from gallant.core.work.steps import BACKUP, KINDS, NEEDS_PEERS, SNAPSHOT, STEADY

# How long a pair may be left, in seconds of estate time, at a point where both nodes serve and agree.
MAY_REST_S = 7 * 24 * 3600.0
# A service address is nowhere for about this long while it moves, in real seconds; a profile may know better.
HANDOVER_GAP_S = 1.0
REVERT = "revert to the restore point"

# --- the steps of a hop ---------------------------------------------------------------------------------------------


def hop_todo(product: Product, versions: Mapping[str, str], release: Release) -> list[str]:
    """The nodes that a hop works on: those that run an older release, or one that the catalog does not know.

    Nodes that are ahead are left alone. The planner and the engine both go by this.
    """
    goal = product.key(release)
    known = {node: product.resolve(text) for node, text in versions.items()}
    return [node for node, at in known.items() if at is None or product.key(at) < goal]


def touched(waves: Sequence[Wave]) -> set[str]:
    """The nodes on which steps of these waves change something."""
    return {step.node for step in steps_of(waves) if KINDS[step.kind].touches}


def hop_turns(system: System, todo: Sequence[str], roles: Roles) -> tuple[Turn, ...]:
    """The turns of one hop; none for a system that is not in service, which has no order. Raises `NotSafe`."""
    return turns(system.shape, tuple(system.nodes), todo, roles, system.usual) if todo and system.in_service else ()


def hop_waves(
    system: System, work: HopWork, roles: Roles, todo: Sequence[str], waiting: Sequence[str] = ()
) -> tuple[Wave, ...]:
    """The waves of one hop: a backup, packages and a restore point first, then one wave a turn of the rolling order.

    `roles` are as observed; `todo` the nodes that do not run the release yet; `waiting` those of them that have it
    installed already and only wait for a restart. Raises `NotSafe`. A system that is not in service has no order: all of
    its nodes are worked on at once.
    """
    if not todo:
        return ()
    if not system.in_service:
        return _all_at_once(system, work, todo, waiting)
    first = SHAPES[system.shape].head(system.nodes, roles)
    order = hop_turns(system, todo, roles)
    return (
        *_preparation(system, work, first, todo, waiting),
        *(_turn_wave(system, work, turn, turn.node in waiting) for turn in order),
    )


def _preparation(
    system: System, work: HopWork, first: str, todo: Sequence[str], waiting: Sequence[str]
) -> Iterator[Wave]:
    prepare = []
    for node in system.nodes:
        kinds = [BACKUP] if node == first else []
        if work.preloads and node in todo and node not in waiting:
            kinds.append("preload")
        if kinds:
            prepare.append(Track(node=node, steps=tuple(_step(system, work, kind, node) for kind in kinds)))
    yield Wave(why="backup, package", tracks=tuple(prepare))
    if work.restore_point:  # last of all, since it slows the system down from then on
        yield Wave(why="restore point", tracks=(Track(node=first, steps=(_step(system, work, SNAPSHOT, first),)),))


def _all_at_once(system: System, work: HopWork, todo: Sequence[str], waiting: Sequence[str]) -> tuple[Wave, ...]:
    """No one depends on these nodes yet: all are installed and restarted at the same time, then all are looked at."""
    first = next(iter(system.nodes))
    tracks = []
    for node in todo:
        steps = (_step(system, work, kind, node) for kind in _kinds(WORK, node in waiting)[:-1])
        tracks.append(Track(node=node, steps=tuple(_by_itself(step) for step in steps)))
    return (
        *_preparation(system, work, first, todo, waiting),
        Wave(why=f"{len(todo)} at once: not in service", tracks=tuple(tracks)),
        Wave(why="all nodes again", tracks=(Track(node=first, steps=(_step(system, work, STEADY, first),)),)),
    )


def _by_itself(step: Step) -> Step:
    return replace(step, alone=True, interrupts_s=0, guards=tuple(g for g in step.guards if g not in NEEDS_PEERS))


class _TurnWork(Record):
    """What one kind of turn comes to: its steps, what the plan says it is for, and how its last step is told apart."""

    kinds: tuple[str, ...]
    why: str
    suffix: str = ""


_TURNS = {
    WORK: _TurnWork(kinds=("install", "restart", STEADY), why="{node} to {to}"),
    HANDOVER: _TurnWork(kinds=("handover", STEADY), why="{node} hands over", suffix=".handover"),
    FAILBACK: _TurnWork(kinds=("failback", STEADY), why="{node} to its usual place", suffix=".failback"),
}


def _kinds(turn: str, waiting: bool) -> tuple[str, ...]:
    """A node that has the release installed already is not installed again."""
    return tuple(kind for kind in _TURNS[turn].kinds if not (waiting and KINDS[kind].carries))


def _turn_wave(system: System, work: HopWork, turn: Turn, waiting: bool) -> Wave:
    row = _TURNS[turn.kind]
    steps = []
    for kind in _kinds(turn.kind, waiting):
        step = _step(system, work, kind, turn.node, row.suffix)
        if turn.kind != WORK and kind == STEADY:  # nothing was restarted: a replica that is whole stays whole
            step = replace(step, estimate_s=work.steady_s, ends_node=False)
        steps.append(step)
    why = row.why.format(node=turn.node, to=work.release.version)
    return Wave(why=why, tracks=(Track(node=turn.node, steps=tuple(steps)),))


def _step(system: System, work: HopWork, kind: str, node: str, suffix: str = "") -> Step:
    row, release, package = KINDS[kind], work.release, work.package
    estimate = row.estimate(work)
    carries = package is not None and row.carries
    # The restore point is of the whole system: where that is one node, it is that node's way back.
    reverts = work.restore_point and len(system.nodes) == 1 and row.alters
    expects, undo = row.slotted if row.slotted is not None and work.knows.slots > 1 else (row.expects, row.undo)
    return Step(
        id=f"{work.hop_id}.{node}.{kind}{suffix if kind == STEADY else ''}",
        hop=work.hop_id,
        kind=kind,
        system=system.name,
        node=node,
        to=release.version,
        guards=tuple(g for g in row.guards if work.applies(g)),
        expects=expects,
        repeat=work.knows.repeat.get(kind, row.repeat),
        undo=REVERT if reverts else undo,
        reverts=reverts,
        disturbs=(node_name(system, node),) if row.disturbs else (),
        interrupts_s=HANDOVER_GAP_S if row.interrupts and system.services else 0,
        safe_stop_s=MAY_REST_S if row.safe else None,
        ends_node=row.ends_node,
        estimate_s=estimate,
        deadline_s=deadline_seconds(estimate),
        package=package.name if package and carries else None,
        sha256=package.sha256 if package and carries else None,
        bytes=package.bytes if package and carries else 0,
        despite_recall=work.despite_recall,
    )


# --- the plan -------------------------------------------------------------------------------------------------------


class Ground(Record):
    """What a plan rests on. `readings` are by node name; `despite` has, by system, a recalled release that a named person lets
    it finish (see `ways_out` in core/assess/recalls.py); `knows` what each system's driver knows, where that is known; `snapshotted`
    the systems of which a snapshot can be taken, by themselves or by the host below them."""

    estate: Estate
    readings: dict[str, Reading]
    products: dict[str, Product]
    now: datetime
    bundles: tuple[Bundle, ...] = ()
    despite: dict[str, str] = {}
    knows: dict[str, Knows] = {}
    snapshotted: frozenset[str] = frozenset()

    def of(self, system: System) -> dict[str, Reading]:
        """The system's readings by the nodes' own names."""
        return {node: self.readings[node_name(system, node)] for node in system.nodes}

    def known_of(self, system: System) -> Knows:
        return self.knows.get(system.name, EVERYTHING)


# What is taken for granted of a driver that was not asked.
EVERYTHING = Knows(capabilities=frozenset(kind for kind, row in KINDS.items() if not row.ours))


def make_plan(
    estate: Estate,
    systems: Sequence[System],
    readings: Mapping[str, Reading],
    products: Mapping[str, Product],
    profiles: Mapping[str, str],
    *,
    by: str,
    now: datetime,
    bundles: Sequence[Bundle] = (),
    despite: Mapping[str, str] = MappingProxyType({}),
    knows: Mapping[str, Knows] = MappingProxyType({}),
    snapshotted: Set[str] = frozenset(),
    identity: str = "",
) -> Plan:
    """The plan that takes `systems` to their aims, for the estate of this `identity`; the rest is what a `Ground` has.

    `profiles` are digests by profile name. Raises `Refused` where a node is unread or a system has no route, `NotSafe` where
    the roles allow no order, `NothingToDo` where all is current.
    """
    ground = Ground(
        estate=estate,
        readings=dict(readings),
        products=dict(products),
        now=now,
        bundles=tuple(bundles),
        despite=dict(despite),
        knows=dict(knows),
        snapshotted=frozenset(snapshotted),
    )
    targets = {system.name: _target(ground, system) for system in systems}
    routes = {system.name: _route_of_all(ground, system, targets[system.name]) for system in systems}
    ordered = _ordered(ground, {name: route.target for name, route in routes.items()})
    lanes = []
    for system in systems:
        _really_idle(estate, system)
        _on_the_way(system, ground.products[system.product], ground.of(system), ordered[system.name])
        hops = lane_hops(ground, system, ordered[system.name])
        if hops:
            lanes.append(Lane(system=system.name, slots=ground.known_of(system).slots, hops=hops))
    if not lanes:
        names = [s.name for s in systems]
        raise NothingToDo(
            f"{', '.join(names)}: nothing to do, every node runs what its aim asks for.",
            next="gallant verify looks closer.",
            systems=names,
        )
    basis = _basis(ground, [s for s in systems if s.name in {lane.system for lane in lanes}], lanes, profiles, identity)
    made = Plan(made=now, by=by, estate=estate.name, basis=basis, lanes=tuple(lanes)).named()
    _able(made, knows)
    return made


def _basis(
    ground: Ground, planned: Sequence[System], lanes: Sequence[Lane], profiles: Mapping[str, str], identity: str
) -> Basis:
    nodes = [(s, n) for s in planned for n in s.nodes]
    products = {s.name: ground.products[s.product] for s in planned}
    entered = [(products[lane.system], hop.to) for lane in lanes for hop in lane.hops]
    return Basis(
        estate=identity,
        nodes={node_name(s, n): s.nodes[n].serial for s, n in nodes},
        shapes={s.name: shape_words(s) for s in planned},
        runs_on={node_name(s, n): r for s, n in nodes if (r := s.nodes[n].runs_on) is not None},
        versions={node_name(s, n): ground.readings[node_name(s, n)].version for s, n in nodes},
        releases={
            f"{product.name} {to}": release_digest(release)
            for product, to in entered
            if (release := product.resolve(to)) is not None
        },
        profiles={s.profile: profiles[s.profile] for s in planned},
    )


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


def _able(plan: Plan, knows: Mapping[str, Knows]) -> None:
    """Raise `Refused` where a step asks for what the system's driver, with its profile, does not know."""
    for lane in plan.lanes:
        if lane.system not in knows:
            continue
        kinds = dict.fromkeys(s.kind for hop in lane.hops for s in steps_of(hop.waves) if not KINDS[s.kind].ours)
        missing = [kind for kind in kinds if kind not in knows[lane.system].capabilities]
        if missing:
            raise Refused(
                f"{lane.system}: its profile knows no {', no '.join(missing)}, and the plan needs it.",
                "Nothing was begun.",
                "Teach its profile the calls (docs/profiles.md), or update this system by hand.",
            )


def _target(ground: Ground, system: System) -> Release:
    product = ground.products.get(system.product)
    if product is None:
        raise Refused(
            f"{system.name}: no catalog here lists {system.product}.",
            next="gallant catalog add, then gallant catalog sync.",
        )
    finishing = product.resolve(ground.despite[system.name]) if system.name in ground.despite else None
    return finishing or target_of(ground.estate, system, product, ground.now, ground.bundles)


def target_of(
    estate: Estate, system: System, product: Product, now: datetime, bundles: Sequence[Bundle] = ()
) -> Release:
    """The one release that all nodes of a system should run; raises `Refused` where the aims differ or fit nothing."""
    aims = {aim_for(estate, system, node, bundles=bundles) for node in system.nodes}
    if len(aims) > 1:
        raise Refused(
            f"{system.name}: its nodes have different aims ({', '.join(sorted(aims))}).",
            "Nodes of one system run one release.",
            "Give the whole system one aim in estate.yaml.",
        )
    aim = next(iter(aims))
    choice = choose(parse_aim(aim), product, now, bundles)
    if choice.release is None:
        raise Refused(
            f"{system.name}: no release of {product.name} fits the aim {aim}.",
            choice.refused and f"{choice.refused[0].upper()}{choice.refused[1:]}.",
            f"gallant gaps {system.name} says why.",
        )
    if choice.refused is not None:
        raise Refused(
            f"{system.name}: {choice.release.version}, what the aim {aim} comes to, cannot be kept: {choice.refused}.",
            next=f"Give {system.name} an aim at a release where its updater stops, in estate.yaml.",
        )
    return choice.release


def _ordered(ground: Ground, targets: Mapping[str, str]) -> dict[str, list[OrderedHop]]:
    """The hops of each system, in an order in which no rule between products ever breaks.

    Raises `Refused` where a requirement of a release on the way is not known to hold, or where there is no such order.
    """
    known, despite = requirements(ground.estate, ground.readings, ground.products, targets), ground.despite
    tasks = [replace(t, despite=(despite[t.system],)) if t.system in despite else t for t in known.tasks]
    order = find_order(tasks, known.rules)
    for conflict in order.conflicts:
        if set(conflict.systems) & set(targets):
            nearest = ", ".join(f"{name} {version}" for name, version in conflict.nearest.items() if name in targets)
            raise Refused(
                f"{', '.join(n for n in conflict.systems if n in targets)}: no order of work keeps every requirement: "
                f"{'; '.join(rule.words for rule in conflict.rules) or 'no chain of releases leads to the aim'}.",
                f"The nearest that is possible: {nearest}."
                if nearest
                else "Dropping any one of these would make it possible."
                if not conflict.others
                else "That is one of the reasons; the others are: "
                + "; or: ".join("; ".join(rule.words for rule in reason) for reason in conflict.others)
                + ".",
                "Pin what is possible in estate.yaml, or bring the other product to what is needed first.",
            )
    entered = {(hop.system, hop.to) for hop in order.hops if hop.system in targets}
    for one in known.unknown:
        if (one.system, one.release) in entered:
            raise Refused(
                f"{one.words}.",
                "A requirement that nobody has looked at is not kept.",
                f"Survey it, or write under declared: in estate.yaml:  {one.product}: {{version: …, by: …, date: …}}",
            )
    return {name: [hop for hop in order.hops if hop.system == name] for name in targets}


def lane_hops(ground: Ground, system: System, ordered: Sequence[OrderedHop]) -> tuple[Hop, ...]:
    """The hops of one system with all of their waves. Raises `NotSafe`."""
    product, read, shape = ground.products[system.product], ground.of(system), SHAPES[system.shape]
    roles = {n: r.role for n, r in read.items()}
    versions = {n: r.version for n, r in read.items()}
    hops: list[Hop] = []
    for index, leg in enumerate(ordered, 1):
        release = product.resolve(leg.to)
        assert release is not None  # an order is made of the catalog's own releases
        todo = hop_todo(product, versions, release)
        waiting = [n for n in todo if index == 1 and product.same(read[n].next_version, release.version)]
        work = _work(ground, system, leg, release)
        hops.append(
            Hop(
                id=leg.id,
                system=system.name,
                from_=leg.from_,
                to=leg.to,
                build=release.build,
                one_way=release.one_way,
                one_way_because=release.one_way_because,
                snapshots=release.snapshots,
                restore_point=work.restore_point,
                package=work.package,
                despite_recall=work.despite_recall,
                needs=leg.needs,
                waves=hop_waves(system, work, roles, todo, waiting),
            )
        )
        versions.update(dict.fromkeys(todo, release.version))
        roles = shape.roles_after(roles, hop_turns(system, todo, roles))
    return tuple(hops)


def _work(ground: Ground, system: System, leg: OrderedHop, release: Release) -> HopWork:
    product = ground.products[system.product]
    at = product.resolve(leg.from_)
    return hop_work(
        ground.estate,
        system,
        release,
        ground.known_of(system),
        hop_id=leg.id,
        package=release.package_on(product.key(at) if at else None, system.delivery),
        despite_recall=leg.to == ground.despite.get(system.name),
        restore_point=system.name in ground.snapshotted and at is not None and at.snapshots,
    )


def hop_work(
    estate: Estate,
    system: System,
    release: Release,
    knows: Knows,
    *,
    hop_id: str,
    package: Package | None,
    despite_recall: bool,
    restore_point: bool,
) -> HopWork:
    """What a hop's waves are made from: in a plan, and once more in its roll."""
    return HopWork(
        hop_id=hop_id,
        release=release,
        package=package,
        mbit_per_s=estate.sites[system.site].sends_mbit_per_s,
        steady_s=estate.limits.steady_s,
        knows=knows,
        despite_recall=despite_recall,
        restore_point=restore_point,
    )


def lane_seconds(ground: Ground, system: System, releases: Sequence[Release]) -> float:
    """How long it takes to bring a system through `releases`, by the same steps as a plan's. Raises `NotSafe`."""
    read = ground.of(system)
    stations = [next(iter(read.values())).version, *(r.version for r in releases)]
    legs = [
        OrderedHop(id=f"{system.name}.{n}", system=system.name, from_=a, to=b)
        for n, (a, b) in enumerate(itertools.pairwise(stations), 1)
    ]
    return sum(waves_seconds(hop.waves) for hop in lane_hops(ground, system, legs))


def _route_of_all(ground: Ground, system: System, target: Release) -> Route:
    """The route of the node that has the longest way, as if no other product mattered; `Refused` where a node has none."""
    product, readings = ground.products[system.product], ground.readings
    despite = frozenset([ground.despite[system.name]] if system.name in ground.despite else [])
    for node in system.nodes:
        if node_name(system, node) not in readings:
            raise Refused(
                f"{node_name(system, node)} was never read; what is not known is not planned.",
                next=f"gallant survey {system.name}",
            )
    routes: list[Route] = []
    for node in system.nodes:
        here, reading = node_name(system, node), readings[node_name(system, node)]
        running = product.resolve(reading.version)
        if running is None:
            raise Refused(
                f"{here} runs {reading.version}, which is not in the catalog of {product.name}.",
                "No route is planned from a version whose publisher is silent about it.",
                f"gallant gaps {system.name} says where it lies; update it by hand to a known release.",
            )
        if product.key(running) > product.key(target):
            raise Refused(
                f"{here} runs {reading.version}, newer than its aim {target.version}; Gallant does not plan downgrades.",
                next=f"Change the aim of {system.name} in estate.yaml.",
            )
        route = find_route(product, running.version, target, delivery=system.delivery, despite=despite)
        if not route.found:
            why = "; ".join(f"{r.version}: {r.why}" for r in route.rules)
            raise Refused(
                f"{here}: no route from {reading.version} to {target.version}.", why, f"gallant route {system.name}"
            )
        routes.append(route)
    return max(routes, key=lambda r: len(r.hops))


def _on_the_way(system: System, product: Product, read: Mapping[str, Reading], ordered: Sequence[OrderedHop]) -> None:
    """Every node stands at a station of the way, and would start nothing that is not the next one; else `Refused`."""
    running = {node: product.resolve(reading.version) for node, reading in read.items()}
    oldest = min((r for r in running.values() if r is not None), key=product.key)
    stations = [oldest, *(r for hop in ordered if (r := product.resolve(hop.to)) is not None)]
    way = " → ".join(r.version for r in stations)
    for node, reading in read.items():
        here, now = node_name(system, node), running[node]
        if now not in stations:
            raise Refused(
                f"{here} runs {reading.version}, which is not a release on the route {way} of its other nodes.",
                next=f"Bring {'its nodes' if len(system.nodes) > 2 else 'both nodes'} to one release by hand, then: gallant plan {system.name}",
            )
        following = stations[min(stations.index(now) + 1, len(stations) - 1)]
        awaited = reading.next_version
        if awaited is not None and awaited != reading.version and not product.same(awaited, following.version):
            raise Refused(
                f"{here} would run {awaited} from its next restart on; the plan wants {following.version} next.",
                next=f"Restart {here} or take {awaited} off it first; then gallant survey {system.name}.",
            )
