"""What runs where, what should, and by which route: readings and
catalogs through the core, for the commands that show it."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from gallant.core.assess.compat import breaches
from gallant.core.assess.issues import Concern, concerns_of, worst_concerns
from gallant.core.assess.recalls import WayOut, ways_out
from gallant.core.assess.requirements import own_breaches, requirements
from gallant.core.catalog.products import Package, Product, Release
from gallant.core.errors import GallantError
from gallant.core.estate.facts import facts_of
from gallant.core.estate.systems import System, node_name
from gallant.core.plan.alike import Routes
from gallant.core.plan.targets import target_of
from gallant.core.readings import Reading
from gallant.core.records import Record
from gallant.operations.ground.workplace import Workplace


def every_reading(place: Workplace) -> dict[str, Reading]:
    """The last good reading of every node; none in an estate that has no
    systems yet, where nothing is looked at but its catalogs."""
    return last_readings(place, [])[0] if place.estate.systems else {}


class ConflictRow(Record):
    """A requirement that does not hold between what runs now, or of
    which nobody knows: `standing` is broken or unknown."""

    system: str
    running: str
    needs: str
    range: str
    other_running: str | None
    standing: str
    said_by: str

    @property
    def words(self) -> str:
        other = f"it runs {self.other_running}" if self.other_running else "what it runs is not known"
        return f"{self.said_by} needs {self.needs} {self.range}; {other}"


def conflicts(place: Workplace, terms: Sequence[str]) -> list[ConflictRow]:
    """Breaches of requirements that exist today, then what is not known; of the selected systems."""
    readings, _ = last_readings(place, [])
    chosen = {system.name for system in place.systems(terms)}
    known = requirements(place.estate, readings, place.products, {})
    running = {task.system: task.running for task in known.tasks}
    rows = [
        ConflictRow(
            system=b.rule.system,
            running=b.running,
            needs=b.rule.other,
            range=b.rule.range,
            other_running=b.other_running,
            standing="broken",
            said_by=b.rule.said_by,
        )
        for b in (*breaches(known.tasks, known.rules), *own_breaches(place.estate, readings, place.products))
    ]
    rows += [
        ConflictRow(
            system=u.system,
            running=u.release,
            needs=u.product,
            range=u.range,
            other_running=None,
            standing="unknown",
            said_by=f"{place.estate.systems[u.system].product} {u.release}",
        )
        for u in known.unknown
        if running.get(u.system) == u.release
    ]
    return [row for row in rows if row.system in chosen or row.needs in chosen]


def last_readings(place: Workplace, terms: Sequence[str]) -> tuple[dict[str, Reading], list[str]]:
    """The last good reading of every selected node, and the nodes that have none."""
    chosen = place.select(terms)
    newest = place.readings.newest([system.name for system, _ in chosen] if terms else None)
    found: dict[str, Reading] = {}
    unread: list[str] = []
    for system, nodes in chosen:
        for node in nodes:
            name = node_name(system, node)
            last = newest.get(name)
            if last is None or last.reading is None:
                unread.append(name)
            else:
                found[name] = last.reading
    return found, unread


def ways_out_of(
    place: Workplace, system: System, product: Product, readings: Iterable[Reading], target: Release | None
) -> tuple[WayOut, ...]:
    """The ways out of a recalled release that nodes of a system run; empty where none does."""
    site = place.estate.sites[system.site]
    rows = list(readings)
    running = {r.node: release for r in rows if (release := product.resolve(r.version)) is not None}
    return ways_out(
        system.name, product, running, target, {r.node: facts_of(r, system, site) for r in rows}, system.delivery
    )


def product_of(place: Workplace, system: System) -> Product:
    """The catalog of a system's image. Raises `Refused` where none is here."""
    product = place.products.get(system.product)
    if product is None:
        raise GallantError(
            f"{system.name}: no catalog here lists {system.product}.",
            next=(
                "gallant catalog list shows which are followed; gallant catalog add NAME SOURCE --key FILE follows"
                " another"
            ),
        )
    return product


def slowest(product: Product, versions: Sequence[str]) -> str:
    """The oldest of some running versions; those that the catalog does not know count as they are written."""

    def key(text: str) -> tuple[int, object]:
        release = product.resolve(text)
        return (0, product.key(release)) if release else (1, text)

    known = [v for v in versions if product.resolve(v)]
    return min(known or versions, key=key) if known else versions[0]


def issues_here(
    place: Workplace, system: System, product: Product, releases: Iterable[Release], readings: Iterable[Reading]
) -> list[Concern]:
    """The known issues of some releases, and which nodes of a system each would concern there; worst first."""
    site, rows = place.estate.sites[system.site], list(readings)
    facts = {r.name: facts_of(r, system, site) for r in rows}
    return worst_concerns(concern for release in releases for concern in concerns_of(product, release, facts))


class Ahead(Record):
    """What a system's route enters, each release with the package that brings it, and what it runs now."""

    entered: tuple[tuple[Release, Package], ...]
    running: tuple[Release, ...]

    @property
    def packages(self) -> tuple[Package, ...]:
        return tuple(package for _, package in self.entered)


def releases_ahead(place: Workplace, system: System, versions: Sequence[str], routes: Routes | None = None) -> Ahead:
    """As far as the catalog has them; nothing is entered where there is no route. `routes` are those of all systems
    that are looked at together."""
    routes = routes or place.routes()
    product = place.products.get(system.product)
    if product is None:
        return Ahead(entered=(), running=())
    running = tuple(r for v in dict.fromkeys(versions) if (r := product.resolve(v)) is not None)
    try:
        target = target_of(place.estate, system, product, routes)
        answer = routes.route(product, slowest(product, versions), target, system.delivery)
    except (GallantError, ValueError):
        return Ahead(entered=(), running=running)
    releases = [r for hop in answer.hops if (r := product.resolve(hop.to)) is not None]
    packages = [
        next((p for p in r.packages if p.name == hop.package), None)
        for r, hop in zip(releases, answer.hops, strict=True)
    ]
    entered = tuple((r, p) for r, p in zip(releases, packages, strict=True) if p is not None)
    return Ahead(entered=entered, running=running)
