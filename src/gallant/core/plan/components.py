"""The components of a system on their way: which go together behind one restart, and which stay."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

from gallant.core.assess.compat import OrderedHop
from gallant.core.assess.routes import find_route, why_not_enter
from gallant.core.catalog.products import Product, Release, version_of
from gallant.core.errors import Refused
from gallant.core.estate.systems import System
from gallant.core.plan.ground import Ground, PartGoal
from gallant.core.plan.layers import FORMAT, RESTART, Layer, Move, Pass, find_passes
from gallant.core.readings import IMAGE, Component, Reading
from gallant.core.records import replace
from gallant.core.versions import parse_range
from gallant.core.work.plan import (
    Part,
)


class NoOrder(Refused):
    """No order of work keeps every requirement; `systems` are those of the plan that
    are in each other's way, or whose releases ask for what nobody knows."""

    def __init__(self, what: str, why: str, next: str, systems: Sequence[str]) -> None:
        super().__init__(what, why, next)
        self.systems = tuple(systems)


def legs_of(
    ground: Ground, system: System, ordered: Sequence[OrderedHop]
) -> tuple[list[tuple[OrderedHop, tuple[Part, ...]]], dict[str, str]]:
    """The image's hops with the components that go with each, and between and after them hops of components alone."""
    layers, left = _layers(ground, system)
    own = _image_layer(ground, system, ordered)
    found = find_passes([own, *layers, *_staying(ground, system, own.stations, layers)])
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
    by_name, waiting, at = {layer.component: layer for layer in layers}, list(ordered), own.running
    for number, one in enumerate(_split(found.passes, by_name), 1):
        if any(move.component == IMAGE for move in one.switched):
            leg = waiting.pop(0)
            at = leg.to
        else:
            leg = OrderedHop(id=f"{system.name}.parts{number}", system=system.name, from_=at, to=at)
        made.append((leg, _parts(ground, system, one, by_name)))
    return made, left | found.stuck


def _image_layer(ground: Ground, system: System, ordered: Sequence[OrderedHop]) -> Layer:
    """The image as the layer that all others go along with: each of its stations needs a restart."""
    image = ground.image_of(system)
    stations = (release for leg in ordered if (release := image.resolve(leg.to)) is not None)
    runs = [reading.version for reading in ground.of(system).values()]
    return Layer(
        component=IMAGE,
        kind="system image",
        product=image,
        running=ordered[0].from_ if ordered else _oldest(image, runs),
        stations=tuple(replace(release, restart=RESTART) for release in stations),
    )


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
    barred = {layer.component: why for layer in made if (why := _first_unmet(ground, system, layer, own)) is not None}
    return [layer for layer in made if layer.component not in barred], left | barred


def _first_unmet(ground: Ground, system: System, layer: Layer, own: set[str]) -> str | None:
    """What the first of a component's releases needs that nothing of this system can give it."""
    return next((why for release in layer.stations if (why := unmet(ground, system, release, own)) is not None), None)


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


def unmet(ground: Ground, system: System, release: Release, own: set[str]) -> str | None:
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
