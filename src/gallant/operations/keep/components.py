"""The packages that components of a system need on their way, besides its image's."""

from __future__ import annotations

from collections.abc import Iterator

from gallant.core.assess.routes import find_route
from gallant.core.catalog.products import Package, Product, Release, version_of
from gallant.core.estate.systems import System
from gallant.core.readings import IMAGE, Component
from gallant.core.work.plan import Plan, steps_of
from gallant.operations.decide.notices import left_out
from gallant.operations.ground.last import last_readings
from gallant.operations.ground.workplace import Workplace, knows_of


def packages_of_parts(place: Workplace, system: System) -> Iterator[tuple[Product, Release, str, Package]]:
    """What is to be kept in stock for the components that are behind, can be brought, and do not get theirs by
    themselves: on their route, and for recovery."""
    from gallant.drivers.profile_reading import load_profile

    knows = knows_of(load_profile(system.profile, place.folder))
    readings, _ = last_readings(place, [system.name])
    for notice in left_out(place, [system.name]):
        parts = [p for r in readings.values() for p in r.components if p.name == notice.component]
        product = place.products.get(notice.product)
        brought = [p for p in parts if knows.brings(p.name, p.kind) and not knows.is_fetched(p.name, p.kind)]
        if product is not None and notice.target is not None:
            yield from _on_the_way(product, brought, notice.target, system.delivery)


def not_in_stock(place: Workplace, plan: Plan) -> list[str]:
    """The packages that a plan needs and that are not in stock, each once: of its components, and of the images that it
    goes back to. Those of a route forward are a finding of the checks."""
    of_images = {hop.package.sha256 for lane in plan.lanes for hop in lane.hops if hop.package and not hop.back}
    return [
        package.name
        for _, _, package in packages_of_plan(plan)
        if package.sha256 not in of_images and not place.stock.has(package)
    ]


def packages_of_plan(plan: Plan) -> list[tuple[str, str, Package]]:
    """Every package that some step of a plan brings, each once, with its product and release."""
    found: dict[str, tuple[str, str, Package]] = {}
    for hop in (hop for lane in plan.lanes for hop in lane.hops):
        steps = list(steps_of(hop.waves))
        own = next((step.product for step in steps if step.system == hop.system and step.component == IMAGE), "")
        known = [(own, hop.to, hop.package), *((part.product, part.to, part.package) for part in hop.parts)]
        brought = {step.sha256 for step in steps}
        for product, release, package in known:
            if package is not None and package.sha256 in brought:
                found.setdefault(package.sha256, (product, release, package))
    return list(found.values())


def _on_the_way(
    product: Product, parts: list[Component], target: str, delivery: str | None
) -> Iterator[tuple[Product, Release, str, Package]]:
    goal = product.resolve(target)
    for text in dict.fromkeys(part.version for part in parts) if goal is not None else ():
        at, running = version_of(product, text), product.resolve(text)
        kept = running.package_on(None, delivery) if running is not None else None
        if running is not None and kept is not None:
            yield product, running, "recovery", kept
        for hop in find_route(product, text, goal, delivery=delivery, explain=False).hops if goal is not None else ():
            release = product.resolve(hop.to)
            package = release.package_on(at, delivery) if release is not None else None
            if release is not None and package is not None:
                yield product, release, "route", package
            at = product.key(release) if release is not None else at
