"""Where each system goes, by which releases, and in an order in which no requirement is ever broken."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from gallant.core.assess.compat import Conflict, OrderedHop, find_order
from gallant.core.assess.requirements import requirements
from gallant.core.assess.routes import Route, find_route
from gallant.core.catalog.products import Product, Release
from gallant.core.errors import Refused
from gallant.core.estate.aiming import aim_for
from gallant.core.estate.systems import Estate, System, node_name
from gallant.core.plan.alike import Routes
from gallant.core.plan.components import NoOrder
from gallant.core.plan.ground import Ground, all_read
from gallant.core.readings import Reading
from gallant.core.records import replace


def _target(ground: Ground, system: System) -> Release:
    product = ground.products.get(system.product)
    if product is None:
        raise Refused(
            f"{system.name}: no catalog here lists {system.product}.",
            next="gallant catalog add NAME SOURCE --key FILE",
        )
    finishing = product.resolve(ground.despite[system.name]) if system.name in ground.despite else None
    return finishing or target_of(ground.estate, system, product, ground.routes)


def target_of(estate: Estate, system: System, product: Product, routes: Routes) -> Release:
    """The one release that all nodes of a system should run; raises `Refused` where the aims differ or fit nothing."""
    aims = {aim_for(estate, system, node, bundles=routes.bundles) for node in system.nodes}
    if len(aims) > 1:
        raise Refused(
            f"{system.name}: its nodes have different aims ({', '.join(sorted(aims))}).",
            "Nodes of one system run one release.",
            "Give the whole system one aim in estate.yaml.",
        )
    aim = next(iter(aims))
    choice = routes.choice(product, aim)
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
        more = _could_come(ground, conflicts, targets)
        if not more:
            return ()
        chosen += more
        along += more


def _could_come(ground: Ground, conflicts: Sequence[Conflict], targets: Mapping[str, str]) -> list[System]:
    """The systems that these conflicts name, that are not yet moved, and that have an aim to go to."""
    named = dict.fromkeys(name for one in conflicts for rule in one.rules for name in (rule.system, rule.other))
    found = (_with_an_aim(ground, name) for name in named if name not in targets)
    return [system for system in found if system is not None]


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
            raise _conflict_error(ground, systems, targets, conflict, own)
    entered = {(hop.system, hop.to) for hop in order.hops if hop.system in targets}
    if one := next((one for one in known.unknown if (one.system, one.release) in entered), None):
        raise NoOrder(
            f"{one.words}.",
            "A requirement that nobody has looked at is not kept.",
            f"Survey it, or write under declared: in estate.yaml:  {one.product}: {{version: …, by: …, date: …}}",
            [one.system],
        )
    found: dict[str, list[OrderedHop]] = {name: [] for name in targets}
    for hop in order.hops:
        if hop.system in found:
            found[hop.system].append(hop)
    return found


def _conflict_error(
    ground: Ground, systems: Sequence[System], targets: Mapping[str, str], conflict: Conflict, own: Sequence[str]
) -> NoOrder:
    """Which rules are against each other, what the nearest is that is possible, and the way to an order."""
    nearest = ", ".join(f"{name} {version}" for name, version in conflict.nearest.items() if name in targets)
    if nearest:
        why = f"The nearest that is possible: {nearest}."
    elif conflict.others:
        others = "; or: ".join("; ".join(rule.words for rule in reason) for reason in conflict.others)
        why = f"That is one of the reasons; the others are: {others}."
    else:
        why = "Dropping any one of these would make it possible."
    return NoOrder(
        f"{', '.join(own)}: no order of work keeps every requirement: "
        f"{'; '.join(rule.words for rule in conflict.rules) or 'no chain of releases leads to the aim'}.",
        why,
        _way_to_an_order(ground, systems),
        own,
    )


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
        route = ground.routes.route(product, running.version, target, system.delivery, despite)
        if not route.found:
            why = "; ".join(f"{r.version}: {r.why}" for r in route.rules)
            raise Refused(
                f"{here}: no route from {reading.version} to {target.version}.", why, f"gallant route {system.name}"
            )
        routes.append(route)
    return max(routes, key=lambda r: len(r.hops))


def on_the_way(system: System, product: Product, read: Mapping[str, Reading], ordered: Sequence[OrderedHop]) -> None:
    """Every node stands at a station of the way, and would start nothing that is not the next one; else `Refused`."""
    running = {node: product.resolve(reading.version) for node, reading in read.items()}
    oldest = min((r for r in running.values() if r is not None), key=product.key)
    stations = [oldest, *(r for hop in ordered if (r := product.resolve(hop.to)) is not None)]
    for node, reading in read.items():
        here, now = node_name(system, node), running[node]
        following = _next_station(product, now, stations, system.delivery) if now is not None else None
        if following is None:
            way = " → ".join(r.version for r in stations)
            raise Refused(
                f"{here} runs {reading.version}, from which no hop of the route {way} of its other nodes goes on.",
                next=(
                    f"Bring {'its nodes' if len(system.nodes) > 2 else 'both nodes'} to one release by hand, then:"
                    f" gallant plan {system.name}"
                ),
            )
        _starts_nothing_else(system, product, here, reading, following)


def _starts_nothing_else(system: System, product: Product, here: str, reading: Reading, following: Release) -> None:
    """Raise `Refused` where a node would start another release than the next of its way."""
    awaited = reading.next_version
    if awaited in (None, reading.version) or product.same(awaited, following.version):
        return
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
