"""What is still wanted after the work: by the devices' own lists, by
catalogs as they are now, for a restart, of backups and of packages."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from datetime import timedelta

from gallant.core.after.still import BACKUP, CATALOG, HOP, OFFER, PACKAGE, RESTART, Still
from gallant.core.catalog.products import Product
from gallant.core.errors import GallantError
from gallant.core.estate.systems import System
from gallant.core.ports import Driver
from gallant.core.readings import Reading
from gallant.operations.catalogs import syncing
from gallant.operations.ground.last import releases_ahead
from gallant.operations.ground.workplace import Workplace
from gallant.operations.keep import backups, stock

FRESH = timedelta(hours=1)  # a catalog that was asked for within this is as it is now
RESTART_FACET = ("restart", "wanted")  # the condition by which a host says so


async def fresh_catalogs(place: Workplace, systems: Sequence[System]) -> list[Still]:
    """Ask the publishers of what these systems run, where that is
    longer ago than `FRESH`; gives those that could not be had."""
    now, products = place.clock.now(), {system.product for system in systems}
    old = [
        source.name
        for source, catalog in place.catalogs
        if products & {p.name for p in catalog.products} and (source.checked is None or now - source.checked > FRESH)
    ]
    if not old:
        return []
    rows, _ = await syncing.sync(place, old)
    for cached in ("catalogs", "products", "bundles"):
        place.__dict__.pop(cached, None)
    return [
        Still(
            about=CATALOG,
            what=f"the catalog {row.name} could not be asked again, and is taken as it was: {row.problem}",
            next=row.next or f"gallant catalog sync {row.name}",
        )
        for row in rows
        if not row.ok
    ]


def still_wanted(
    place: Workplace, systems: Sequence[System], readings: Mapping[str, Reading], drivers: Mapping[str, Driver]
) -> list[Still]:
    """Of some systems, as they were just read."""
    found = list[Still]()
    for system in systems:
        own = {n: readings[f"{system.name}/{n}"] for n in system.nodes if f"{system.name}/{n}" in readings}
        if own:
            found += [
                *_hops(place, system, own),
                *_of_nodes(place, system, own),
                *_backups(place, system, own, drivers),
            ]
    return [*found, *_stock(place)]


def _hops(place: Workplace, system: System, own: Mapping[str, Reading]) -> Iterator[Still]:
    entered = releases_ahead(place, system, [r.version for r in own.values()]).entered
    if entered:
        names = " → ".join(release.version for release, _ in entered)
        yield Still(
            about=HOP,
            system=system.name,
            what=f"its way to its aim goes on: {names}",
            next=_plan(place, system, ""),
        )


def _plan(place: Workplace, system: System, options: str) -> str:
    """A plan for what is still wanted; while a roll is not finished, none is made beside it."""
    rolls = place.journal.open_rolls(system.name)
    return f"gallant history {rolls[0].id}" if rolls else f"gallant plan {system.name}{options}"


def _of_nodes(place: Workplace, system: System, own: Mapping[str, Reading]) -> Iterator[Still]:
    product = place.products.get(system.product)
    wanted = _packages_wanted(place, system, own)
    for node, reading in own.items():
        if waits := _waiting(reading):
            yield Still(
                about=RESTART,
                system=system.name,
                node=node,
                what="it waits for a restart" if waits == ["restart"] else f"{', '.join(waits)} wait for a restart",
                next=_plan(place, system, ' --restart --reason "a restart is wanted"'),
            )
        for text in _unlisted_offers(reading, product):
            yield Still(
                about=OFFER,
                system=system.name,
                node=node,
                what=f"its own list of updates has {text}, which no catalog here has",
                next=f"gallant catalog sync; gallant gaps {system.name}",
            )
        for package in (p for p in reading.packages if wanted is not None and p.name not in wanted):
            yield Still(
                about=PACKAGE,
                system=system.name,
                node=node,
                what=f"{package.name} lies on it ({package.bytes / 1e6:.3g} MB), and is no longer needed",
            )


def _waiting(reading: Reading) -> list[str]:
    """What of a node runs from its next restart on."""
    facets = [f.name for f in reading.facets if (f.name, f.state) == RESTART_FACET]
    return facets + [p.name for p in reading.components if p.next_version is not None and p.next_version != p.version]


def _unlisted_offers(reading: Reading, product: Product | None) -> Iterator[str]:
    """What a node's own list of updates has and no catalog here."""
    for text in reading.offers or ():
        if text != reading.version and (product is None or product.resolve(text) is None):
            yield text


def _packages_wanted(place: Workplace, system: System, own: Mapping[str, Reading]) -> set[str] | None:
    """The packages of the releases that a system runs, keeps in another slot
    or has before it; None where no catalog says what is of which."""
    product = place.products.get(system.product)
    if product is None:
        return None
    ahead = releases_ahead(place, system, [r.version for r in own.values()])
    texts = {v for r in own.values() for v in (r.version, r.next_version, r.other_slot) if v}
    kept = [release for text in texts if (release := product.resolve(text)) is not None]
    return {p.name for release in (*kept, *(r for r, _ in ahead.entered)) for p in release.packages}


def _backups(
    place: Workplace, system: System, own: Mapping[str, Reading], drivers: Mapping[str, Driver]
) -> Iterator[Still]:
    if "export" in drivers[system.name].capabilities():
        runs = {node: reading.version for node, reading in own.items()}
        taken = backups.store_of(place).all(system.name)
        if not any(all(b.versions.get(node) == version for node, version in runs.items()) for b in taken):
            yield Still(
                about=BACKUP,
                system=system.name,
                what=f"there is no backup of what it runs now ({', '.join(dict.fromkeys(runs.values()))})",
                next=f"gallant verify {system.name} --backup",
            )


def _stock(place: Workplace) -> Iterator[Still]:
    try:
        idle = [row for row in stock.prune(place, dry=True) if row.kept is None]
    except GallantError:
        return  # an unread stock is no finding about the work
    if idle:
        size = sum(row.bytes for row in idle)
        yield Still(
            about=PACKAGE,
            what=(
                f"{len(idle)} package{'' if len(idle) == 1 else 's'} in stock ({size / 1e6:.3g} MB) that no system"
                " needs any more"
            ),
            next="gallant stock prune",
        )
