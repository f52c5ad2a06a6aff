"""How a plan is made from readings, aims and catalogs: routes,
requirements across systems, the components that go with them."""

from __future__ import annotations

import itertools
from collections.abc import Iterable, Iterator, Mapping, Sequence
from datetime import datetime

from gallant.core.assess.compat import Conflict, OrderedHop, find_order
from gallant.core.assess.requirements import requirements
from gallant.core.assess.routes import Route, find_route, why_not_enter
from gallant.core.catalog.products import Bundle, Product, Release, release_digest, version_of
from gallant.core.errors import Refused
from gallant.core.estate.aiming import aim_for
from gallant.core.estate.aims import choose, parse_aim
from gallant.core.estate.capacity import standing_of
from gallant.core.estate.order import SHAPES, NotSafe
from gallant.core.estate.stacks import systems_above
from gallant.core.estate.systems import Estate, RoundRule, System, moving_service, node_name
from gallant.core.estate.terms import matches
from gallant.core.readings import IMAGE, Component, Reading
from gallant.core.records import replace
from gallant.core.versions import parse_range
from gallant.core.work.ground import Ground, PartGoal, all_read, work_now
from gallant.core.work.hops import Runs, Todo, closed_channels, hop_rounds, hop_todo, hop_waves, runs_of
from gallant.core.work.lanes import lane_of, one_after_the_other
from gallant.core.work.layers import FORMAT, RESTART, Layer, Move, Pass, find_passes
from gallant.core.work.learning import Pace, hop_key, paces_of
from gallant.core.work.plan import (
    Basis,
    Hop,
    HopWork,
    Lane,
    NothingToDo,
    Part,
    Plan,
    Round,
    shape_words,
    steps_of,
    waves_seconds,
)
from gallant.core.work.sharing import share_restarts
from gallant.core.work.spread import room_s
from gallant.core.work.steps import DISABLE_CHANNEL, ENABLE_CHANNEL, KINDS, OWN_ADDRESS, RENEW_SPARE

# --- the plan -------------------------------------------------------------------------------------------------------


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
        _on_the_way(system, ground.products[system.product], ground.worked_on(system), ordered[system.name])
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
    products = {s.name: ground.image_of(s) for s in planned}
    entered = [(products[lane.system], hop.to) for lane in lanes for hop in lane.hops if hop.image]
    parts = {(lane.system, part.component, part.product) for lane in lanes for hop in lane.hops for part in hop.parts}
    entered += [(ground.products[p.product], p.to) for lane in lanes for hop in lane.hops for p in hop.parts]
    return Basis(
        estate=identity,
        nodes={node_name(s, n): s.nodes[n].serial for s, n in nodes},
        shapes={s.name: shape_words(s) for s in planned},
        runs_on={node_name(s, n): r for s, n in nodes if (r := s.nodes[n].runs_on) is not None},
        versions={
            **{node_name(s, n): ground.readings[node_name(s, n)].version for s, n in nodes},
            **{
                f"{node_name(s, n)}:{part.name}": part.version
                for s, n in nodes
                for part in ground.readings[node_name(s, n)].components
                if (s.name, part.name, part.product) in parts
            },
        },
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


def _target(ground: Ground, system: System) -> Release:
    product = ground.products.get(system.product)
    if product is None:
        raise Refused(
            f"{system.name}: no catalog here lists {system.product}.",
            next="gallant catalog add NAME SOURCE --key FILE",
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


def needed_with(ground: Ground, systems: Sequence[System]) -> tuple[System, ...]:
    """The other systems that have to come along to their own aims, so that an order of work keeps every requirement.

    Empty where none has to, or where none helps.
    """
    chosen, along = list(systems), list[System]()
    while True:
        targets = {system.name: goal_of(ground, system) for system in chosen}
        conflicts = _conflicts(ground, targets)
        if not conflicts:
            return tuple(along)
        named = dict.fromkeys(n for c in conflicts for rule in c.rules for n in (rule.system, rule.other))
        more = [other for n in named if n not in targets and (other := _with_an_aim(ground, n)) is not None]
        if not more:
            return ()
        chosen += more
        along += more


def _way_to_an_order(ground: Ground, systems: Sequence[System]) -> str:
    pin = "pin what is possible in estate.yaml, or bring the other product to what is needed first"
    if along := needed_with(ground, systems):
        names = " ".join(system.name for system in systems)
        return f"gallant plan {names} --with-needed takes {' and '.join(s.name for s in along)} along; or {pin}."
    return f"{pin[0].upper()}{pin[1:]}."


def _with_an_aim(ground: Ground, name: str) -> System | None:
    """A system that has somewhere to go."""
    system = ground.estate.systems.get(name)
    try:
        return system if system is not None and _route_of_all(ground, system, _target(ground, system)).hops else None
    except Refused:
        return None


def _conflicts(ground: Ground, targets: Mapping[str, str]) -> list[Conflict]:
    known, despite = requirements(ground.estate, ground.readings, ground.products, targets), ground.despite
    tasks = [replace(t, despite=(despite[t.system],)) if t.system in despite else t for t in known.tasks]
    return [c for c in find_order(tasks, known.rules).conflicts if set(c.systems) & set(targets)]


class NoOrder(Refused):
    """No order of work keeps every requirement; `systems` are those of the plan that
    are in each other's way, or whose releases ask for what nobody knows."""

    def __init__(self, what: str, why: str, next: str, systems: Sequence[str]) -> None:
        super().__init__(what, why, next)
        self.systems = tuple(systems)


def goal_of(ground: Ground, system: System) -> str:
    """The release that a system is to come to, and has a route to; `Refused` where there is none."""
    return _route_of_all(ground, system, _target(ground, system)).target


def order_of(ground: Ground, systems: Sequence[System], targets: Mapping[str, str]) -> dict[str, list[OrderedHop]]:
    """The hops of each system, in an order in which no rule between products ever breaks.

    Raises `NoOrder` where a requirement of a release on the way is not known to hold, or where there is no such order.
    """
    known, despite = requirements(ground.estate, ground.readings, ground.products, targets), ground.despite
    tasks = [replace(t, despite=(despite[t.system],)) if t.system in despite else t for t in known.tasks]
    order = find_order(tasks, known.rules)
    for conflict in order.conflicts:
        if own := [name for name in conflict.systems if name in targets]:
            nearest = ", ".join(f"{name} {version}" for name, version in conflict.nearest.items() if name in targets)
            raise NoOrder(
                f"{', '.join(own)}: no order of work keeps every requirement: "
                f"{'; '.join(rule.words for rule in conflict.rules) or 'no chain of releases leads to the aim'}.",
                (
                    f"The nearest that is possible: {nearest}."
                    if nearest
                    else (
                        "Dropping any one of these would make it possible."
                        if not conflict.others
                        else "That is one of the reasons; the others are: "
                        + "; or: ".join("; ".join(rule.words for rule in reason) for reason in conflict.others)
                        + "."
                    )
                ),
                _way_to_an_order(ground, systems),
                own,
            )
    entered = {(hop.system, hop.to) for hop in order.hops if hop.system in targets}
    for one in known.unknown:
        if (one.system, one.release) in entered:
            raise NoOrder(
                f"{one.words}.",
                "A requirement that nobody has looked at is not kept.",
                f"Survey it, or write under declared: in estate.yaml:  {one.product}: {{version: …, by: …, date: …}}",
                [one.system],
            )
    return {name: [hop for hop in order.hops if hop.system == name] for name in targets}


def lane_hops(ground: Ground, system: System, ordered: Sequence[OrderedHop]) -> tuple[tuple[Hop, ...], dict[str, str]]:
    """The hops of one system with all of their waves, and the components
    that stay behind, each with the reason. Raises `NotSafe`."""
    _not_by_halves(ground, system)
    legs, left = _legs(ground, system, ordered)
    last = max((n for n, (leg, _) in enumerate(legs) if leg.from_ != leg.to), default=None)
    planned = list[tuple[Hop, Release | None]]()
    for number, (leg, parts) in enumerate(legs):
        hop, release = _planned(ground, system, leg, parts)
        renews = number == last and RENEW_SPARE in ground.known_of(system).capabilities
        planned.append((replace(hop, renews_spare=renews), release))
    return with_waves(ground, system, planned), left


def with_waves(ground: Ground, system: System, planned: Iterable[tuple[Hop, Release | None]]) -> tuple[Hop, ...]:
    """Those hops of one system on which there is anything to do, with all of their waves, each from the roles and the
    versions that the one before it leaves. Raises `NotSafe`."""
    product, read, shape = ground.image_of(system), ground.of(system), SHAPES[system.shape]
    standing = standing_of(system, read, ground.estate.limits)
    runs = {node: runs_of(reading) for node, reading in read.items()}
    hops: list[Hop] = []
    for hop, release in planned:
        standing = replace(standing, wish=hop.wish)
        work = work_now(ground, system, hop, release)
        todo = hop_todo(work, product, ground.products, runs)
        if todo:
            _none_is_taken_back(system, work, product, runs, todo)
            if opens := _opened(ground, system, hop, release, todo):
                hop, work = replace(hop, channels=opens), replace(work, channels=opens)
            hops.append(replace(hop, waves=hop_waves(system, work, standing, todo)))
        taken = [t for together in hop_rounds(system, todo, standing) for t in together]
        out = () if any(work.has_turn for work in todo.values()) else standing.out
        standing = replace(standing, roles=shape.roles_after(tuple(system.nodes), standing.roles, taken), out=out)
        runs = {node: after_hop(now, todo[node], hop.to) if node in todo else now for node, now in runs.items()}
    return tuple(hops)


def _opened(
    ground: Ground, system: System, hop: Hop, release: Release | None, todo: Mapping[str, Todo]
) -> dict[str, tuple[str, ...]]:
    """The channels that are to be opened for a hop, by node, where the profile knows how to open and close one."""
    if not ground.known_of(system).capabilities.issuperset((ENABLE_CHANNEL, DISABLE_CHANNEL)):
        return {}
    return closed_channels(ground.of(system), hop, release, todo)


def _not_by_halves(ground: Ground, system: System) -> None:
    """Raise `NotSafe` where some nodes, or an order of them, are asked of a device that decides that by itself."""
    chosen, wish = ground.chosen.get(system.name, ()), ground.wishes.get(system.name, ())
    if ground.known_of(system).updates_all and system.name not in ground.still and (chosen or wish):
        raise NotSafe(
            f"{system.name} updates all of its nodes by one order, in an order of its own.",
            f"It cannot be told {'which of them' if chosen else 'in which order'}.",
            f"gallant plan {system.name}",
        )


def _none_is_taken_back(
    system: System, work: HopWork, product: Product, runs: Mapping[str, Runs], todo: Mapping[str, Todo]
) -> None:
    """Raise `NotSafe` where an order for all nodes would reach one that is ahead of it."""
    if not (work.image and work.knows.updates_all and any(one.image for one in todo.values())):
        return
    ahead = [n for n, now in runs.items() if n not in todo and not product.same(now.version, work.to)]
    if ahead:
        raise NotSafe(
            f"{system.name} brings all of its nodes to {work.to}, and {ahead[0]} runs {runs[ahead[0]].version}.",
            "Its one order would take that back.",
            f"Bring the others of {system.name} to {runs[ahead[0]].version} by hand",
        )


def after_hop(now: Runs, todo: Todo, to: str) -> Runs:
    """What a node runs once its part of a hop is done; what waits for a restart in vain still waits."""
    parts = {**now.parts, **{part.component: (part.to, None) for part in (*todo.parts, *todo.awaiting)}}
    if todo.image or todo.waiting:
        return Runs(version=to, parts=parts)
    return replace(now, parts=parts)


# --- components


def _legs(
    ground: Ground, system: System, ordered: Sequence[OrderedHop]
) -> tuple[list[tuple[OrderedHop, tuple[Part, ...]]], dict[str, str]]:
    """The image's hops with the components that go with each, and between and after them hops of components alone."""
    layers, left = _layers(ground, system)
    image = ground.image_of(system)
    stations = tuple(r for leg in ordered if (r := image.resolve(leg.to)) is not None)
    running = ordered[0].from_ if ordered else _oldest(image, [r.version for r in ground.of(system).values()])
    own = Layer(
        component=IMAGE,
        kind="system image",
        product=image,
        running=running,
        stations=tuple(replace(release, restart=RESTART) for release in stations),
    )
    found = find_passes([own, *layers, *_staying(ground, system, stations, layers)])
    if IMAGE in found.stuck:
        reasons = (f"{name} does not come along: {why}." for name, why in left.items())
        raise NoOrder(
            f"{system.name}: no order of work keeps every requirement: {found.stuck[IMAGE]}.",
            " ".join(reasons) or "A component that does not come along stays at what it runs.",
            f"gallant gaps {system.name} shows what is behind; a plan without --only and --without takes all of it"
            " along.",
            [system.name],
        )
    made: list[tuple[OrderedHop, tuple[Part, ...]]] = []
    by_name, waiting = {layer.component: layer for layer in layers}, list(ordered)
    at = running
    for number, one in enumerate(_split(found.passes, by_name), 1):
        parts = _parts(ground, system, one, by_name)
        if any(move.component == IMAGE for move in one.switched):
            leg = waiting.pop(0)
            at = leg.to
        else:
            leg = OrderedHop(id=f"{system.name}.parts{number}", system=system.name, from_=at, to=at)
        made.append((leg, parts))
    return made, left | found.stuck


def _split(passes: Sequence[Pass], layers: Mapping[str, Layer]) -> Iterator[Pass]:
    """A format is raised by itself, when every node runs what came before it."""
    for one in passes:
        waiting: list[Move] = []
        for move in one.first:
            if move.component in layers and layers[move.component].kind == FORMAT:
                if waiting:
                    yield Pass(first=tuple(waiting))
                    waiting = []
                yield Pass(first=(move,))
            else:
                waiting.append(move)
        if waiting or one.switched:
            yield Pass(first=tuple(waiting), switched=one.switched)


def _parts(ground: Ground, system: System, one: Pass, layers: Mapping[str, Layer]) -> tuple[Part, ...]:
    """The components of one pass in their order. What comes after
    one that takes a service down waits for its turn with it."""
    made: list[Part] = []
    in_turn = False
    for move in (*one.first, *one.switched):
        if move.component == IMAGE:
            continue
        layer = layers[move.component]
        release = layer.stations[move.station]
        in_turn = in_turn or release.restart != "none"
        before = layer.running if not move.station else layer.stations[move.station - 1].version
        fetched = ground.known_of(system).is_fetched(layer.component, layer.kind)
        key = version_of(layer.product, before)
        made.append(
            Part(
                component=layer.component,
                kind=layer.kind,
                product=layer.product.name,
                from_=before,
                to=release.version,
                restart=release.restart,
                in_turn=in_turn,
                raised=layer.kind == FORMAT,
                install_s=release.minutes.install * 60,
                package=None if fetched else release.package_on(key, system.delivery),
                one_way_because=one_way_of(ground, system, layer.component, layer.kind, layer.product, release),
                channel=release.channel,
            )
        )
    return tuple(made)


def one_way_of(
    ground: Ground, system: System, component: str, kind: str, product: Product, release: Release
) -> str | None:
    """Why there is no way back from a component's release: by its
    publisher's word, or since it changes another by itself."""
    if release.one_way:
        return release.one_way_because or ""
    key = product.key(release)
    for one in ground.known_of(system).migrations(component, kind):
        if one.releases and key not in parse_range(one.releases):
            continue
        runs = {p.version for r in ground.worked_on(system).values() for p in r.components if p.name == one.component}
        if before := sorted(runs - {one.to}):
            return (
                f"it takes {one.component} from {', '.join(before)} to {one.to} by its own migration; only a backup has"
                " what was before"
            )
    return None


def _layers(ground: Ground, system: System) -> tuple[list[Layer], dict[str, str]]:
    """The components that are to come along, each with its way; those that cannot, with the reason."""
    made, left = list[Layer](), dict[str, str]()
    for goal in ground.parts.get(system.name, ()):
        parts = [p for r in ground.worked_on(system).values() for p in r.components if p.name == goal.component]
        found = _layer(ground, system, goal, parts)
        if isinstance(found, str):
            left[goal.component] = found
        else:
            made.append(found)
    own = {system.product, *(layer.product.name for layer in made)}
    for layer in list(made):
        why = next((w for release in layer.stations if (w := _unmet(ground, system, release, own)) is not None), None)
        if why is not None:
            made.remove(layer)
            left[layer.component] = why
    return made, left


def _staying(ground: Ground, system: System, stations: Sequence[Release], layers: Sequence[Layer]) -> Iterator[Layer]:
    """The components that the image's releases require something of,
    and that do not come along: they stay at what they run."""
    wanted = {need.product: need.range for release in stations for need in release.requires}
    moved = {layer.product.name for layer in layers}
    staying = {
        (part.name, part.product, part.version): part
        for reading in ground.of(system).values()
        for part in reading.components
        if part.product in wanted and part.product not in moved
    }
    for part in staying.values():
        plain = Product(name=part.product, scheme=parse_range(wanted[part.product]).scheme, releases=())
        product = ground.products.get(part.product, plain)
        yield Layer(component=part.name, kind=part.kind, product=product, running=part.version, stations=())


def _layer(ground: Ground, system: System, goal: PartGoal, parts: Sequence[Component]) -> Layer | str:
    """A component's way to its goal, or why there is none."""
    product = ground.products.get(parts[0].product) if parts else None
    if product is None:
        return "no catalog here lists it"
    target = product.resolve(goal.target)
    if target is None:
        return f"{goal.target} is not in its catalog"
    kind, knows = parts[0].kind, ground.known_of(system)
    if kind == FORMAT and ground.chosen.get(system.name):
        return "a format is raised when all nodes are, and only some were chosen"
    older = [p for p in parts if (at := version_of(product, p.version)) is None or at < product.key(target)]
    running = _oldest(product, [part.version for part in older])
    if older and all(product.same(part.next_version, target.version) for part in older):
        stations: tuple[Release, ...] = (replace(target, restart=RESTART),)
    elif running and version_of(product, running) is None:
        return f"it runs {running}, which has no place among its releases"
    elif not knows.brings(goal.component, kind):
        return "its profile does not know how to bring it"
    else:
        route = find_route(product, running, target, delivery=system.delivery, explain=False)
        if not route.found:
            why = why_not_enter(target)
            return f"{target.version}: {why}" if why else f"no route leads from {running} to {target.version}"
        stations = tuple(r for hop in route.hops if (r := product.resolve(hop.to)) is not None)
    return Layer(component=goal.component, kind=kind, product=product, running=running, stations=stations)


def _unmet(ground: Ground, system: System, release: Release, own: set[str]) -> str | None:
    """A requirement on what this plan does not move, and that does not hold by what was read last."""
    for need in release.requires:
        if need.product in own:
            continue
        known = ground.products.get(need.product)
        running = [
            text for reading in ground.readings.values() for name, text in _versions(reading) if name == need.product
        ]
        allowed = parse_range(need.range)
        versions = [version_of(known, text) for text in running] if known is not None else []
        if not versions or any(v is None or v not in allowed for v in versions):
            said = f", which runs {', '.join(sorted(set(running)))}" if running else ", and what that runs is not known"
            return f"{release.version} needs {need.product} on {allowed.words()}{said}"
    return None


def _versions(reading: Reading) -> Iterator[tuple[str, str]]:
    yield reading.product, reading.version
    for part in reading.components:
        yield part.product, part.version


def _oldest(product: Product, texts: Sequence[str]) -> str:
    """The oldest of some versions, as it is written; one that cannot be compared counts as older than all."""
    known = {text: version_of(product, text) for text in texts}
    unknown = [text for text, version in known.items() if version is None]
    return unknown[0] if unknown else min(known, key=lambda text: known[text])  # type: ignore[arg-type,return-value]


# --- the work of a hop


def _planned(ground: Ground, system: System, leg: OrderedHop, parts: tuple[Part, ...]) -> tuple[Hop, Release | None]:
    """A hop before it has waves, and the release that its image enters."""
    product = ground.image_of(system)
    at, image = product.resolve(leg.from_), leg.from_ != leg.to
    release = product.resolve(leg.to) if image else None
    hop = Hop(
        id=leg.id,
        system=system.name,
        from_=leg.from_,
        to=leg.to,
        image=release is not None,
        parts=parts,
        build=release.build if release is not None else None,
        one_way=release is not None and release.one_way,
        one_way_because=release.one_way_because if release is not None else None,
        snapshots=release is None or release.snapshots,
        restore_point=system.name in ground.snapshotted and at is not None and at.snapshots,
        package=release.package_on(product.key(at) if at else None, system.delivery) if release is not None else None,
        despite_recall=image and leg.to == ground.despite.get(system.name),
        needs=leg.needs,
        settings=release.settings if release is not None else (),
        nodes=ground.chosen.get(system.name, ()),
        paces=paces_for(ground, system, leg.from_, leg.to, parts),
        wish=ground.wishes.get(system.name, ()),
        waves=(),
    )
    return hop, release


def paces_for(ground: Ground, system: System, from_: str, to: str, parts: Sequence[Part]) -> dict[str, Pace]:
    """What was learned of the steps that such a hop has."""
    others = [(part.component, part.product, hop_key(part.from_, part.to)) for part in parts]
    return dict(paces_of(ground.learned, system.name, system.product, hop_key(from_, to), others))


def lane_seconds(ground: Ground, system: System, releases: Sequence[Release]) -> tuple[float, float]:
    """How long it takes to bring a system through `releases`, by the same steps as a plan's; and how long a window has
    to be in which none of its stretches is put off. Raises `NotSafe`."""
    read = ground.of(system)
    stations = [next(iter(read.values())).version, *(r.version for r in releases)]
    legs = [
        OrderedHop(id=f"{system.name}.{n}", system=system.name, from_=a, to=b)
        for n, (a, b) in enumerate(itertools.pairwise(stations), 1)
    ]
    hops = lane_hops(ground, system, legs)[0]
    return float(sum(waves_seconds(hop.waves) for hop in hops)), room_s(hops)


def _route_of_all(ground: Ground, system: System, target: Release) -> Route:
    """The route of the node that has the longest way, as if no other product mattered; `Refused` where a node has
    none."""
    product = ground.products[system.product]
    despite = frozenset([ground.despite[system.name]] if system.name in ground.despite else [])
    all_read(ground, system)
    routes: list[Route] = []
    for node, reading in ground.worked_on(system).items():
        here = node_name(system, node)
        running = product.resolve(reading.version)
        if running is None:
            raise Refused(
                f"{here} runs {reading.version}, which is not in the catalog of {product.name}.",
                "No route is planned from a version whose publisher is silent about it.",
                f"gallant gaps {system.name} says where it lies; update it by hand to a known release.",
            )
        if product.key(running) > product.key(target):
            raise Refused(
                f"{here} runs {reading.version}, newer than its aim {target.version}; Gallant does not plan"
                " downgrades.",
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
        following = _next_station(product, now, stations, system.delivery) if now is not None else None
        if following is None:
            raise Refused(
                f"{here} runs {reading.version}, from which no hop of the route {way} of its other nodes goes on.",
                next=(
                    f"Bring {'its nodes' if len(system.nodes) > 2 else 'both nodes'} to one release by hand, then:"
                    f" gallant plan {system.name}"
                ),
            )
        awaited = reading.next_version
        if awaited is not None and awaited != reading.version and not product.same(awaited, following.version):
            raise Refused(
                f"{here} would run {awaited} from its next restart on; the plan wants {following.version} next.",
                next=f"Restart {here} or take {awaited} off it first; then gallant survey {system.name}.",
            )


def _next_station(product: Product, now: Release, stations: Sequence[Release], delivery: str | None) -> Release | None:
    """The station that a node's next hop leads to, from wherever it stands: the next newer one, where one hop and the
    same package take it there. The last station itself has none further. None: the way does not pass by here."""
    if now in stations:
        return stations[min(stations.index(now) + 1, len(stations) - 1)]
    ahead = [n for n, station in enumerate(stations) if product.key(station) > product.key(now)]
    if not ahead or not ahead[0]:
        return None
    to, before = stations[ahead[0]], stations[ahead[0] - 1]
    direct = len(find_route(product, now.version, to, delivery=delivery, explain=False).hops) == 1
    same = to.package_on(product.key(now), delivery) == to.package_on(product.key(before), delivery)
    return to if direct and same else None
