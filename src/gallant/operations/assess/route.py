"""The route of one system to its aim, what was refused on the way, and the ways out of a recalled release."""

from __future__ import annotations

from collections.abc import Iterable

from gallant.core.assess.recalls import FORWARD, WayOut
from gallant.core.assess.routes import Refusal, Route, find_route
from gallant.core.catalog.products import Product, Release
from gallant.core.errors import GallantError, WrongUse
from gallant.core.estate.aiming import aim_for
from gallant.core.estate.aims import choose, parse_aim
from gallant.core.estate.notes import notes_on
from gallant.core.estate.systems import Note, System
from gallant.core.plan.targets import target_of
from gallant.core.readings import Reading
from gallant.core.records import Record, replace
from gallant.operations.assess.plannable import ways_to_plan
from gallant.operations.ground.last import last_readings, product_of, slowest, ways_out_of
from gallant.operations.ground.workplace import Workplace


class RouteAnswer(Record):
    """The route of one system, why newer or shorter choices were refused, the ways out of a recalled release that some
    node runs, and what the site noted about it."""

    system: str
    product: str
    start: str
    aim: str
    route: Route
    refused: tuple[Refusal, ...]
    ways_out: tuple[WayOut, ...] = ()
    notes: tuple[Note, ...] = ()


def route(place: Workplace, system_name: str, start: str | None = None, to: str | None = None) -> RouteAnswer:
    """The route of a system from what its slowest node runs (or `start`) to its aim (or `to`)."""
    system = place.systems([system_name])[0]
    product = product_of(place, system)
    readings, _ = last_readings(place, [system.name])
    asked = start is not None
    if start is None:
        if not readings:
            raise GallantError(
                f"{system.name} was never read, so where its route starts is not known.",
                next=f"gallant survey {system.name}",
            )
        start = slowest(product, [r.version for r in readings.values()])
    aim, target, passed = _route_target(place, system, product, to)
    site = place.estate.sites[system.site]
    try:
        answer = find_route(product, start, target, delivery=system.delivery, hands=site.hands)
    except ValueError as error:
        raise WrongUse(f"{error}.") from None
    return RouteAnswer(
        system=system.name,
        product=product.name,
        start=start,
        aim=aim,
        route=answer,
        refused=(*passed, *answer.refused),
        ways_out=() if asked else _ways_out(place, system, product, readings.values(), target),
        notes=tuple(notes_on(place.estate, system, product, [(hop.from_, hop.to) for hop in answer.hops])),
    )


def _route_target(
    place: Workplace, system: System, product: Product, to: str | None
) -> tuple[str, Release, tuple[Refusal, ...]]:
    """A system's aim; the release that a route leads to, `to` or
    what the aim comes to; and newer ones that it passes over."""
    now = place.clock.now()
    aim = aim_for(place.estate, system, next(iter(system.nodes)), bundles=place.bundles)
    if to is None:
        choice = choose(parse_aim(aim), product, now, place.bundles)
        passed = tuple(Refusal(version=v, why=w) for v, w in choice.passed_over)
        # An aim that cannot be kept has a target all the same: the route says why nothing leads there.
        return aim, choice.release or target_of(place.estate, system, product, place.routes()), passed
    target = product.resolve(to)
    if target is None:
        raise WrongUse(
            f"{to} is not a release of {product.name}.", next=f"gallant catalog show {product.name} lists them."
        )
    return aim, target, ()


def _ways_out(
    place: Workplace, system: System, product: Product, readings: Iterable[Reading], target: Release
) -> tuple[WayOut, ...]:
    """The ways out, each with a next step that is not refused for what other systems run."""
    found = ways_out_of(place, system, product, readings, target)
    plan = next(iter(ways_to_plan(place, [system.name])), None) if found else None
    return tuple(replace(way, next=plan) if way.way == FORWARD and way.open else way for way in found)
