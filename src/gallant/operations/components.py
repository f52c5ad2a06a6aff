"""The packages that components of a system need on their way, besides its image's."""

from __future__ import annotations

from collections.abc import Iterator

from gallant.core.assess.routes import find_route
from gallant.core.catalog.products import Package, Product, Release
from gallant.core.estate.systems import System
from gallant.core.readings import Component
from gallant.core.work.layers import version_of
from gallant.core.work.plan import Plan, steps_of
from gallant.operations.assess import last_readings
from gallant.operations.notices import left_out
from gallant.operations.workplace import Workplace, knows_of


def packages_of_parts(place: Workplace, system: System) -> Iterator[tuple[Product, Release, Package]]:
    """What is to be kept in stock for the components that are behind, can be brought, and do not get theirs by themselves."""
    from gallant.drivers.profile import load_profile

    knows = knows_of(load_profile(system.profile, place.folder))
    readings, _ = last_readings(place, [system.name])
    for notice in left_out(place, [system.name]):
        parts = [p for r in readings.values() for p in r.components if p.name == notice.component]
        product = place.products.get(notice.product)
        brought = [p for p in parts if knows.brings(p.name, p.kind) and not knows.is_fetched(p.name, p.kind)]
        if product is not None and notice.target is not None:
            yield from _on_the_way(product, brought, notice.target, system.delivery)


def not_in_stock(place: Workplace, plan: Plan) -> list[str]:
    """The packages that a plan needs and that are not in stock, each once: of its components, and of the images that it goes back to."""
    hops = [hop for lane in plan.lanes for hop in lane.hops]
    steps = {step.sha256 for hop in hops for step in steps_of(hop.waves)}
    wanted = [part.package for hop in hops for part in hop.parts]
    wanted += [hop.package for hop in hops if hop.back and hop.package is not None and hop.package.sha256 in steps]
    packages = {package.sha256: package for package in wanted if package is not None}
    return [package.name for package in packages.values() if not place.stock.has(package)]


def _on_the_way(
    product: Product, parts: list[Component], target: str, delivery: str | None
) -> Iterator[tuple[Product, Release, Package]]:
    goal = product.resolve(target)
    for text in dict.fromkeys(part.version for part in parts) if goal is not None else ():
        at = version_of(product, text)
        for hop in find_route(product, text, goal, delivery=delivery, explain=False).hops if goal is not None else ():
            release = product.resolve(hop.to)
            package = release.package_on(at, delivery) if release is not None else None
            if release is not None and package is not None:
                yield product, release, package
            at = product.key(release) if release is not None else at
