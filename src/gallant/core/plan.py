"""Plans: lanes, hops, waves, tracks and steps, as values; and how one is made from readings, aims and catalogs.

A plan is a document named by the hash of its content. The waves of a hop are derived by `hop_waves`, which the engine
calls again at the start of each hop with the roles it observes then: the same function, so the plan cannot promise one
order and the roll follow another.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence, Set
from datetime import datetime
from types import MappingProxyType

from gallant.core.aims import choose, parse_aim
from gallant.core.catalog import Bundle, Package, Product, Release, release_digest
from gallant.core.compat import OrderedHop, find_order
from gallant.core.errors import GallantError, Refused
from gallant.core.estate import Estate, System, aim_for, node_name
from gallant.core.estimate import deadline_seconds, step_seconds
from gallant.core.order import FAILBACK, HANDOVER, WORK, Turn, turns
from gallant.core.readings import Reading
from gallant.core.records import Record, as_read_back, digest, replace
from gallant.core.requirements import requirements
from gallant.core.routes import Route, find_route

# How long a pair may be left, in seconds of estate time, at a point where both nodes serve and agree.
MAY_REST_S = 7 * 24 * 3600.0
# A service address is nowhere for about this long while it moves, in real seconds; a profile may know better.
HANDOVER_GAP_S = 1.0


class Step(Record):
    """The smallest unit that is journalled.

    `expects` is the observable condition that makes it done, in words; `disturbs` the nodes it may take out; `repeat`
    is `safe`, `if_absent` or `never`; `deadline_s` and `estimate_s` are seconds of estate time; `interrupts_s` is how
    long the service address may be unreachable; `safe_stop_s` how long the system may be left after it (None: not).
    A step that is `alone` is judged by its own node: the others, which nobody depends on, may be in the midst of theirs.
    """

    id: str
    hop: str
    kind: str
    system: str
    node: str
    to: str
    guards: tuple[str, ...]
    expects: str
    disturbs: tuple[str, ...] = ()
    repeat: str = "if_absent"
    deadline_s: float
    estimate_s: float
    interrupts_s: float = 0
    undo: str | None = None
    safe_stop_s: float | None = None
    package: str | None = None
    sha256: str | None = None
    bytes: int = 0
    ends_node: bool = False
    despite_recall: bool = False
    alone: bool = False

    @property
    def subject(self) -> str:
        return f"{self.system}/{self.node}"


class Track(Record):
    """One node's steps within a wave, one after the other."""

    node: str
    steps: tuple[Step, ...]


class Wave(Record):
    """Tracks that may go on together. `why` says what the wave is for."""

    why: str
    tracks: tuple[Track, ...]


class Hop(Record, rename={"from_": "from"}):
    """One release to the next on every node of the lane; `needs` are hops of any lane that must be finished first.

    `restore_point`: a snapshot of the system is taken before anything is disturbed; `snapshots`: the release that is entered
    can be snapshotted too.
    """

    id: str
    system: str
    from_: str
    to: str
    build: str | None = None
    one_way: bool = False
    one_way_because: str | None = None
    snapshots: bool = True
    restore_point: bool = False
    package: Package | None = None
    despite_recall: bool = False
    needs: tuple[str, ...] = ()
    waves: tuple[Wave, ...]


class Lane(Record):
    """One system's part of a plan. `windows` is empty where the estate declares none."""

    system: str
    kind: str = "update"
    hops: tuple[Hop, ...]
    windows: tuple[str, ...] = ()


class Basis(Record):
    """What must match at the roll. `nodes` and `versions` are by node, `releases` and `profiles` are digests; `estate` is
    its identity, which two estates of one name do not share."""

    estate: str = ""
    nodes: dict[str, str]
    shapes: dict[str, str]
    runs_on: dict[str, str]
    versions: dict[str, str]
    releases: dict[str, str]
    profiles: dict[str, str]


class Plan(Record):
    """The ordered work, named by its content: `id` is the hash of everything else."""

    schema: str = "gallant.plan/1"
    id: str = ""
    made: datetime
    by: str
    estate: str
    basis: Basis
    lanes: tuple[Lane, ...]

    def named(self) -> Plan:
        """The plan under the name that its content gives it, as it comes back from a file."""
        plain = as_read_back(replace(self, id=""))
        return replace(plain, id=f"plan-{digest(plain)[:12]}")

    @property
    def is_whole(self) -> bool:
        """Whether the content still is what the name says."""
        return self.id == self.named().id

    @property
    def systems(self) -> tuple[str, ...]:
        return tuple(lane.system for lane in self.lanes)

    def steps(self) -> Iterator[Step]:
        for lane in self.lanes:
            for hop in lane.hops:
                yield from steps_of(hop.waves)

    @property
    def estimate_s(self) -> float:
        """Lanes run side by side; hops and waves one after the other; tracks of a wave side by side."""
        return max((sum(waves_seconds(hop.waves) for hop in lane.hops) for lane in self.lanes), default=0)


def shape_words(system: System) -> str:
    """The shape, and whether anybody depends on it: a plan made for machines in preparation is not for ones in service."""
    return system.shape if system.in_service else f"{system.shape}, not in service"


def steps_of(waves: Sequence[Wave]) -> Iterator[Step]:
    for wave in waves:
        for track in wave.tracks:
            yield from track.steps


def waves_seconds(waves: Sequence[Wave]) -> float:
    return sum(max((sum(s.estimate_s for s in t.steps) for t in wave.tracks), default=0) for wave in waves)


class NothingToDo(GallantError):
    """Every selected system runs what its aim asks for."""

    exit_code = 0


# --- the steps of a hop ---------------------------------------------------------------------------------------------

_ALWAYS = ("right_machine", "own_address", "no_unknown_job", "versions_as_expected", "not_recalled")
GUARDS = {
    "backup": ("right_machine",),
    "snapshot": ("right_machine", "no_unknown_job", "versions_as_expected"),
    "preload": ("right_machine", "not_recalled"),
    "install": (*_ALWAYS, "peers_healthy", "backup_sealed", "restore_point_there", "package_verified"),
    "restart": (*_ALWAYS, "peers_healthy", "backup_sealed", "restore_point_there", "not_serving", "awaits_target"),
    "handover": (*_ALWAYS, "everyone_healthy", "backup_sealed"),
    "failback": (*_ALWAYS, "everyone_healthy", "backup_sealed"),
    "steady": (),
}
# What Gallant does itself; everything else is an act of the node.
OUR_OWN = ("backup", "snapshot", "steady")
REVERT = "revert to the restore point"
# Where nobody depends on a system, nothing is asked of the nodes beside the one that is worked on.
NEEDS_PEERS = ("peers_healthy", "everyone_healthy", "not_serving")


class _Template(Record):
    expects: str
    repeat: str = "if_absent"
    undo: str | None = None
    disturbs: bool = False
    interrupts: bool = False
    safe: bool = False
    ends_node: bool = False


_TEMPLATES = {
    "backup": _Template(expects="a sealed backup of the running version", repeat="safe", safe=True),
    "snapshot": _Template(expects="a restore point of the system, seen to be there", undo="remove it", safe=True),
    "preload": _Template(
        expects="the package on the node, its digest as in the catalog", repeat="safe", undo="unload it", safe=True
    ),
    "install": _Template(
        expects="the release in the spare slot, to run from the next restart on",
        safe=True,
        undo="fall back to the running slot",
    ),
    "restart": _Template(
        expects="the node back in service on the release", disturbs=True, undo="fall back to the other slot"
    ),
    "steady": _Template(
        expects="every node in service and in sync, in every sample", repeat="safe", safe=True, ends_node=True
    ),
    "handover": _Template(expects="the other node active", interrupts=True, undo="hand back"),
    "failback": _Template(expects="the node active again", interrupts=True, undo="hand over"),
}


class HopWork(Record):
    """What `hop_waves` needs to know beside the roles: the release, the package that brings it, how the system is set up.

    Where a device keeps no packages (`preloads` is false), its install brings the package along. `restore_point`: a snapshot
    is taken first, which for a system of one node is the way back.
    """

    hop_id: str
    release: Release
    package: Package | None
    mbit_per_s: float | None
    steady_s: float
    despite_recall: bool = False
    preloads: bool = True
    restore_point: bool = False

    def applies(self, guard: str) -> bool:
        """Whether a guard has anything to look at in this hop."""
        return {"package_verified": self.preloads, "restore_point_there": self.restore_point}.get(guard, True)


def hop_todo(product: Product, versions: Mapping[str, str], release: Release) -> list[str]:
    """The nodes that a hop works on: those that run an older release, or one that the catalog does not know.

    Nodes that are ahead are left alone. The planner and the engine both go by this.
    """
    goal = product.key(release)
    known = {node: product.resolve(text) for node, text in versions.items()}
    return [node for node, at in known.items() if at is None or product.key(at) < goal]


def touched(waves: Sequence[Wave]) -> set[str]:
    """The nodes that steps of these waves install something on, or restart."""
    return {step.node for step in steps_of(waves) if step.kind in ("preload", "install", "restart")}


def hop_waves(
    system: System, work: HopWork, roles: Mapping[str, str], todo: Sequence[str], waiting: Sequence[str] = ()
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
    order = turns(system.shape, tuple(system.nodes), todo, roles, system.usual)
    first = next((n for n in system.nodes if roles.get(n) == "active"), next(iter(system.nodes)))
    return (
        *_preparation(system, work, first, todo, waiting),
        *(_turn_wave(system, work, turn, turn.node in waiting) for turn in order),
    )


def _preparation(
    system: System, work: HopWork, first: str, todo: Sequence[str], waiting: Sequence[str]
) -> Iterator[Wave]:
    prepare = []
    for node in system.nodes:
        kinds = ["backup"] if node == first else []
        if work.preloads and node in todo and node not in waiting:
            kinds.append("preload")
        if kinds:
            prepare.append(Track(node=node, steps=tuple(_step(system, work, kind, node) for kind in kinds)))
    yield Wave(why="backup, package", tracks=tuple(prepare))
    if work.restore_point:  # last of all, since it slows the system down from then on
        yield Wave(why="restore point", tracks=(Track(node=first, steps=(_step(system, work, "snapshot", first),)),))


def _all_at_once(system: System, work: HopWork, todo: Sequence[str], waiting: Sequence[str]) -> tuple[Wave, ...]:
    """Nobody depends on these nodes yet: each is installed and restarted beside the others, then all are looked at."""
    first = next(iter(system.nodes))
    tracks = []
    for node in todo:
        steps = (_step(system, work, kind, node) for kind in _kinds(node in waiting)[:-1])
        tracks.append(Track(node=node, steps=tuple(_by_itself(step) for step in steps)))
    return (
        *_preparation(system, work, first, todo, waiting),
        Wave(why=f"{len(todo)} at once: not in service", tracks=tuple(tracks)),
        Wave(why="all nodes again", tracks=(Track(node=first, steps=(_step(system, work, "steady", first),)),)),
    )


def _by_itself(step: Step) -> Step:
    return replace(step, alone=True, interrupts_s=0, guards=tuple(g for g in step.guards if g not in NEEDS_PEERS))


def _kinds(waiting: bool) -> tuple[str, ...]:
    return ("restart", "steady") if waiting else ("install", "restart", "steady")


def _turn_wave(system: System, work: HopWork, turn: Turn, waiting: bool) -> Wave:
    kinds = {
        WORK: _kinds(waiting),
        HANDOVER: ("handover", "steady"),
        FAILBACK: ("failback", "steady"),
    }[turn.kind]
    why = {
        WORK: f"{turn.node} to {work.release.version}",
        HANDOVER: f"{turn.node} hands over",
        FAILBACK: f"{turn.node} to its usual place",
    }[turn.kind]
    steps = []
    for kind in kinds:
        step = _step(system, work, kind, turn.node, suffix="" if turn.kind == WORK else f".{turn.kind}")
        if turn.kind != WORK and kind == "steady":  # nothing was restarted: a replica that is whole stays whole
            step = replace(step, estimate_s=work.steady_s, ends_node=False)
        steps.append(step)
    return Wave(why=why, tracks=(Track(node=turn.node, steps=tuple(steps)),))


def _step(system: System, work: HopWork, kind: str, node: str, suffix: str = "") -> Step:
    template, release = _TEMPLATES[kind], work.release
    package = work.package
    estimate = step_seconds(
        kind, release, steady_s=work.steady_s, package_bytes=package.bytes if package else 0, mbit_per_s=work.mbit_per_s
    )
    carries = package is not None and kind in ("preload", "install")
    tail = suffix if kind == "steady" else ""
    reverts = work.restore_point and len(system.nodes) == 1 and kind in ("install", "restart")
    return Step(
        id=f"{work.hop_id}.{node}.{kind}{tail}",
        hop=work.hop_id,
        kind=kind,
        system=system.name,
        node=node,
        to=release.version,
        guards=tuple(g for g in GUARDS[kind] if work.applies(g)),
        expects=template.expects,
        repeat=template.repeat,
        undo=REVERT if reverts else template.undo,
        disturbs=(node_name(system, node),) if template.disturbs else (),
        interrupts_s=HANDOVER_GAP_S if template.interrupts and system.services else 0,
        safe_stop_s=MAY_REST_S if template.safe else None,
        ends_node=template.ends_node,
        estimate_s=estimate,
        deadline_s=deadline_seconds(estimate),
        package=package.name if package and carries else None,
        sha256=package.sha256 if package and carries else None,
        bytes=package.bytes if package and carries else 0,
        despite_recall=work.despite_recall,
    )


# --- the plan -------------------------------------------------------------------------------------------------------


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
    capabilities: Mapping[str, Set[str]] = MappingProxyType({}),
    snapshotted: Set[str] = frozenset(),
    identity: str = "",
) -> Plan:
    """The plan that takes `systems` to their aims, for the estate of this `identity`.

    `capabilities` are what each system's driver knows, where that is known; `snapshotted` the systems of which a snapshot can
    be taken, by themselves or by the host below them.

    `despite` has, by system, a recalled release that a named person lets it finish; see `ways_out` in core/recalls.py.
    `readings` are by node name, `profiles` are digests by profile name. Raises `Refused` where a node is unread or a
    system has no route, `NotSafe` where the roles allow no order, `NothingToDo` where all is current.
    """
    lanes: list[Lane] = []
    releases: dict[str, str] = {}
    targets = {system.name: _target(estate, system, products, now, bundles, despite) for system in systems}
    routes = {
        system.name: _route_of_all(
            estate,
            system,
            readings,
            products,
            targets[system.name],
            frozenset(v for n, v in despite.items() if n == system.name),
        )
        for system in systems
    }
    ordered = _ordered(estate, readings, products, {name: route.target for name, route in routes.items()}, despite)
    for system in systems:
        _really_idle(estate, system)
        lane = _lane(
            estate,
            system,
            readings,
            products[system.product],
            ordered[system.name],
            releases,
            despite.get(system.name, ""),
            system.name not in capabilities or "preload" in capabilities[system.name],
            system.name in snapshotted,
        )
        if lane is not None:
            lanes.append(lane)
    if not lanes:
        names = ", ".join(s.name for s in systems)
        raise NothingToDo(
            f"{names}: nothing to do, every node runs what its aim asks for.", next="gallant verify looks closer."
        )
    planned = [s for s in systems if s.name in {lane.system for lane in lanes}]
    nodes = [(s, n) for s in planned for n in s.nodes]
    basis = Basis(
        estate=identity,
        nodes={node_name(s, n): s.nodes[n].serial for s, n in nodes},
        shapes={s.name: shape_words(s) for s in planned},
        runs_on={node_name(s, n): r for s, n in nodes if (r := s.nodes[n].runs_on) is not None},
        versions={node_name(s, n): readings[node_name(s, n)].version for s, n in nodes},
        releases=releases,
        profiles={s.profile: profiles[s.profile] for s in planned},
    )
    made = Plan(made=now, by=by, estate=estate.name, basis=basis, lanes=tuple(lanes)).named()
    _able(made, capabilities)
    return made


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


def _able(plan: Plan, capabilities: Mapping[str, Set[str]]) -> None:
    """Raise `Refused` where a step asks for what the system's driver, with its profile, does not know."""
    for lane in plan.lanes:
        if lane.system not in capabilities:
            continue
        kinds = dict.fromkeys(s.kind for hop in lane.hops for s in steps_of(hop.waves) if s.kind not in OUR_OWN)
        missing = [kind for kind in kinds if kind not in capabilities[lane.system]]
        if missing:
            raise Refused(
                f"{lane.system}: its profile knows no {', no '.join(missing)}, and the plan needs it.",
                "Nothing was begun.",
                "Teach its profile the calls (docs/profiles.md), or update this system by hand.",
            )


def _target(
    estate: Estate,
    system: System,
    products: Mapping[str, Product],
    now: datetime,
    bundles: Sequence[Bundle],
    despite: Mapping[str, str],
) -> Release:
    product = products.get(system.product)
    if product is None:
        raise Refused(
            f"{system.name}: no catalog here lists {system.product}.",
            next="gallant catalog add, then gallant catalog sync.",
        )
    finishing = product.resolve(despite[system.name]) if system.name in despite else None
    return finishing or target_of(estate, system, product, now, bundles)


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


def _ordered(
    estate: Estate,
    readings: Mapping[str, Reading],
    products: Mapping[str, Product],
    targets: Mapping[str, str],
    despite: Mapping[str, str],
) -> dict[str, list[OrderedHop]]:
    """The hops of each system, in an order in which no rule between products ever breaks.

    Raises `Refused` where a requirement of a release on the way is not known to hold, or where there is no such order.
    """
    known = requirements(estate, readings, products, targets)
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
                else "Dropping any one of these would make it possible.",
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


def _lane(
    estate: Estate,
    system: System,
    readings: Mapping[str, Reading],
    product: Product,
    ordered: Sequence[OrderedHop],
    releases: dict[str, str],
    despite: str,
    preloads: bool,
    snapshotted: bool,
) -> Lane | None:
    read = {node: readings[node_name(system, node)] for node in system.nodes}
    _on_the_way(system, product, read, ordered)
    roles = {n: r.role for n, r in read.items()}
    versions = {n: r.version for n, r in read.items()}
    site = estate.sites[system.site]
    hops: list[Hop] = []
    for index, leg in enumerate(ordered, 1):
        release = product.resolve(leg.to)
        assert release is not None  # an order is made of the catalog's own releases
        todo = hop_todo(product, versions, release)
        waiting = [n for n in todo if index == 1 and _same(product, read[n].next_version, release)]
        at = product.resolve(leg.from_)
        package = release.package_on(product.key(at) if at else None, system.delivery)
        work = HopWork(
            hop_id=leg.id,
            release=release,
            package=package,
            mbit_per_s=site.sends_mbit_per_s,
            steady_s=estate.limits.steady_s,
            despite_recall=leg.to == despite,
            preloads=preloads,
            restore_point=snapshotted and at is not None and at.snapshots,
        )
        waves = hop_waves(system, work, roles, todo, waiting)
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
                package=package,
                despite_recall=leg.to == despite,
                needs=leg.needs,
                waves=waves,
            )
        )
        releases[f"{product.name} {release.version}"] = release_digest(release)
        versions.update(dict.fromkeys(todo, release.version))
        if "active" in system.usual:
            roles = {n: "active" if n == system.usual["active"] else "standby" for n in system.nodes}
        elif len(todo) == len(system.nodes):
            roles = {n: {"active": "standby", "standby": "active"}.get(r, r) for n, r in roles.items()}
    return Lane(system=system.name, hops=tuple(hops)) if hops else None


def _same(product: Product, text: str | None, release: Release) -> bool:
    return text is not None and product.resolve(text) == release


def _route_of_all(
    estate: Estate,
    system: System,
    readings: Mapping[str, Reading],
    products: Mapping[str, Product],
    target: Release,
    despite: frozenset[str],
) -> Route:
    """The route of the node that has the longest way, as if no other product mattered; `Refused` where a node has none."""
    product = products[system.product]
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
                f"{here} runs {reading.version}, which is no station of the route {way} of the other node.",
                next=f"Bring both nodes to one release by hand, then plan {system.name}.",
            )
        following = stations[min(stations.index(now) + 1, len(stations) - 1)]
        awaited = reading.next_version
        if awaited is not None and awaited != reading.version and not _same(product, awaited, following):
            raise Refused(
                f"{here} would run {awaited} from its next restart on; the plan wants {following.version} next.",
                next=f"Restart {here} or take {awaited} off it first; then gallant survey {system.name}.",
            )


def basis_differences(planned: Basis, now: Basis) -> list[str]:
    """What no longer is as the plan took it, in words; empty where all matches."""
    if planned.estate != now.estate:
        return ["it was made for another estate"]
    said: list[str] = []
    for title, before, after in (
        ("serial", planned.nodes, now.nodes),
        ("shape", planned.shapes, now.shapes),
        ("runs_on", planned.runs_on, now.runs_on),
        ("version", planned.versions, now.versions),
        ("release", planned.releases, now.releases),
        ("profile", planned.profiles, now.profiles),
    ):
        for key in sorted(before.keys() | after.keys()):
            if before.get(key) != after.get(key):
                if title in ("release", "profile"):
                    said.append(f"{key}: what the {'catalog' if title == 'release' else 'profile'} says has changed")
                else:
                    said.append(f"{key}: {title} was {before.get(key, 'none')}, is {after.get(key, 'none')}")
    return said
