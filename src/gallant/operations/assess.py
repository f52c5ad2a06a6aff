"""What runs where, what should, and by which route: readings and catalogs through the core, for the commands that show it."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime

from gallant.core.aims import choose, parse_aim
from gallant.core.catalog import Product, Release
from gallant.core.compat import breaches
from gallant.core.errors import GallantError, WrongUse
from gallant.core.estate import System, aim_for, node_name
from gallant.core.gaps import Gap, find_gaps
from gallant.core.plan import target_of
from gallant.core.readings import Reading
from gallant.core.records import Record
from gallant.core.requirements import requirements
from gallant.core.routes import Refusal, Route, find_route
from gallant.operations.workplace import Workplace


class InventoryRow(Record):
    """One component of one node as last read; `error` says how the newest try failed, if it did."""

    system: str
    node: str
    component: str | None = None
    kind: str | None = None
    product: str | None = None
    version: str | None = None
    next_version: str | None = None
    build: str | None = None
    role: str | None = None
    state: str | None = None
    read_at: datetime | None = None
    error: str | None = None


def inventory(place: Workplace, terms: Sequence[str]) -> list[InventoryRow]:
    """In the order of the estate; a node that was never read has one row that says so."""
    newest = place.readings.newest()
    rows: list[InventoryRow] = []
    for system, nodes in place.select(terms):
        for node in nodes:
            last = newest.get(node_name(system, node))
            if last is None or last.reading is None:
                error = last.error if last else "never read"
                rows.append(InventoryRow(system=system.name, node=node, product=system.product, error=error))
                continue
            reading = last.reading
            rows += [
                InventoryRow(
                    system=system.name,
                    node=node,
                    component=c.name,
                    kind=c.kind,
                    product=c.product,
                    version=c.version,
                    next_version=c.next_version,
                    build=c.build,
                    role=reading.role,
                    state=reading.state,
                    read_at=reading.taken,
                    error=last.error,
                )
                for c in reading.components
            ]
    return rows


class Gaps(Record):
    """All gaps, worst first, and what the assessment rests on: nodes without a reading, catalogs with their age."""

    gaps: tuple[Gap, ...]
    unread: tuple[str, ...]
    catalogs: tuple[tuple[str, datetime | None, str | None], ...]

    @property
    def exit_code(self) -> int:
        return 1 if self.unread or any(g.needs_work for g in self.gaps) else 0


class ConflictRow(Record):
    """A requirement that does not hold between what runs now, or of which nobody knows: `standing` is broken or unknown."""

    system: str
    running: str
    needs: str
    range: str
    other_running: str | None
    standing: str
    said_by: str


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
        for b in breaches(known.tasks, known.rules)
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
    newest = place.readings.newest()
    found: dict[str, Reading] = {}
    unread: list[str] = []
    for system, nodes in place.select(terms):
        for node in nodes:
            name = node_name(system, node)
            last = newest.get(name)
            if last is None or last.reading is None:
                unread.append(name)
            else:
                found[name] = last.reading
    return found, unread


def gaps(place: Workplace, terms: Sequence[str]) -> Gaps:
    readings, unread = last_readings(place, terms)
    found = find_gaps(place.estate, readings.values(), place.products, place.clock.now())
    catalogs = tuple((s.name, s.fetched, s.problem) for s in place.readings.sources())
    return Gaps(gaps=tuple(found), unread=tuple(unread), catalogs=catalogs)


class RouteAnswer(Record):
    """The route of one system, and why newer or shorter choices were refused."""

    system: str
    product: str
    start: str
    aim: str
    route: Route
    refused: tuple[Refusal, ...]


def route(place: Workplace, system_name: str, start: str | None = None, to: str | None = None) -> RouteAnswer:
    """The route of a system from what its slowest node runs (or `start`) to its aim (or `to`)."""
    system = place.systems([system_name])[0]
    product = product_of(place, system)
    readings, _ = last_readings(place, [system.name])
    if start is None:
        if not readings:
            raise GallantError(
                f"{system.name} was never read, so where its route starts is not known.",
                next=f"gallant survey {system.name}",
            )
        start = slowest(product, [r.version for r in readings.values()])
    aim = aim_for(place.estate, system, next(iter(system.nodes)))
    passed: tuple[Refusal, ...] = ()
    if to is None:
        target = target_of(place.estate, system, product, place.clock.now())
        choice = choose(parse_aim(aim), product, place.clock.now())
        passed = tuple(Refusal(version=v, why=w) for v, w in choice.passed_over)
    else:
        found = product.resolve(to)
        if found is None:
            raise WrongUse(
                f"{to} is no release of {product.name}.", next=f"gallant catalog show {product.name} lists them."
            )
        target = found
    try:
        answer = find_route(product, start, target)
    except ValueError as error:
        raise WrongUse(f"{error}.") from None
    return RouteAnswer(
        system=system.name, product=product.name, start=start, aim=aim, route=answer, refused=(*passed, *answer.refused)
    )


def product_of(place: Workplace, system: System) -> Product:
    product = place.products.get(system.product)
    if product is None:
        raise GallantError(
            f"{system.name}: no catalog here lists {system.product}.",
            next="gallant catalog list shows what there is; gallant catalog sync refreshes it.",
        )
    return product


def slowest(product: Product, versions: Sequence[str]) -> str:
    """The oldest of some running versions; those that the catalog does not know count as they are written."""

    def key(text: str) -> tuple[int, object]:
        release = product.resolve(text)
        return (0, product.key(release)) if release else (1, text)

    known = [v for v in versions if product.resolve(v)]
    return min(known or versions, key=key) if known else versions[0]


def releases_ahead(place: Workplace, system: System, versions: Sequence[str]) -> tuple[list[Release], list[Release]]:
    """The releases that a system's route goes through, and those it runs now, as far as the catalog has them."""
    product = place.products.get(system.product)
    if product is None:
        return [], []
    running = [r for v in dict.fromkeys(versions) if (r := product.resolve(v)) is not None]
    try:
        target = target_of(place.estate, system, product, place.clock.now())
        answer = find_route(product, slowest(product, versions), target)
    except (GallantError, ValueError):
        return [], running
    return [r for hop in answer.hops if (r := product.resolve(hop.to)) is not None], running
