"""The packages that components of a system need on their way, besides its image's."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator, Mapping, Sequence

from gallant.core.catalog.products import Package, Product, Release, version_of
from gallant.core.errors import GallantError
from gallant.core.estate.systems import System
from gallant.core.plan.alike import Routes
from gallant.core.readings import IMAGE, Reading
from gallant.core.work.knows import Knows
from gallant.core.work.plan import Plan, steps_of
from gallant.operations.decide.notices import parts_behind
from gallant.operations.ground.workplace import Workplace, knows_of

# A package that is to be in stock: its product and release, and whether it is for the route or for recovery.
ForStock = tuple[Product, Release, str, Package]


def packages_of_parts(
    place: Workplace, systems: Sequence[System], readings: Mapping[str, Sequence[Reading]], routes: Routes
) -> Iterator[tuple[str, ForStock]]:
    """By system, what is to be kept in stock for the components that are behind, can be brought, and do not get theirs
    by themselves: on their route, and for recovery. `readings` are by system; what alike systems need is looked for
    once."""
    from gallant.drivers.profile_reading import load_profile

    by_name = {system.name: system for system in systems}
    knows = dict[str, Knows]()
    for profile in {system.profile for system in systems}:
        with contextlib.suppress(GallantError):  # of a profile that cannot be read nothing can be brought
            knows[profile] = knows_of(load_profile(profile, place.folder))
    found: dict[tuple[str, str, tuple[str, ...], str | None], list[ForStock]] = {}
    for one in parts_behind(place, list(by_name)):
        first, part, verdict = one.rows[0]
        system, product = by_name[first.system], place.products.get(part.product)
        if product is None or verdict.target is None or system.profile not in knows:
            continue
        parts = [p for r in readings[system.name] for p in r.components if p.name == part.name]
        known = knows[system.profile]
        brought = tuple(
            dict.fromkeys(
                p.version for p in parts if known.brings(p.name, p.kind) and not known.is_fetched(p.name, p.kind)
            )
        )
        key = (product.name, verdict.target, brought, system.delivery)
        if key not in found:
            found[key] = list(_on_the_way(product, brought, verdict.target, system.delivery, routes))
        yield from ((system.name, wanted) for wanted in found[key])


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
    product: Product, versions: Sequence[str], target: str, delivery: str | None, routes: Routes
) -> Iterator[ForStock]:
    goal = product.resolve(target)
    if goal is None:
        return
    for text in versions:
        at, running = version_of(product, text), product.resolve(text)
        kept = running.package_on(None, delivery) if running is not None else None
        if running is not None and kept is not None:
            yield product, running, "recovery", kept
        for hop in routes.route(product, text, goal, delivery).hops:
            release = product.resolve(hop.to)
            package = release.package_on(at, delivery) if release is not None else None
            if release is not None and package is not None:
                yield product, release, "route", package
            at = product.key(release) if release is not None else at
