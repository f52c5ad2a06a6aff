"""Stock: bring the packages of every route, and the running releases' own for recovery."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from gallant.core.catalog import Package
from gallant.core.errors import GallantError, worst_exit
from gallant.core.records import Record
from gallant.operations.assess import last_readings, product_of, releases_ahead
from gallant.operations.workplace import Workplace
from gallant.stock.shelf import Held, Shelf, Way

Meter = Callable[[str, int, int], None]


class Fetched(Record):
    """One package: `state` is fetched, present or failed; `why` is route or recovery; `seconds` real."""

    package: str
    product: str
    release: str
    why: str
    bytes: int
    sha256: str
    state: str
    seconds: float = 0
    error: str | None = None
    next: str | None = None
    exit_code: int = 0


def wanted(place: Workplace, terms: Sequence[str]) -> list[tuple[str, str, str, Package]]:
    """What the selected systems need in stock: (product, release, why, package), each once."""
    found: dict[str, tuple[str, str, str, Package]] = {}
    readings, _ = last_readings(place, terms)
    for system in place.systems(terms):
        versions = [r.version for r in readings.values() if r.system == system.name]
        if not versions:
            raise GallantError(
                f"{system.name} was never read, so what it needs is not known.", next=f"gallant survey {system.name}"
            )
        product = product_of(place, system)
        ahead = releases_ahead(place, system, versions)
        recovery = [(r, p) for r in ahead.running if (p := r.package_on(None, system.delivery)) is not None]
        for why, pairs in (("route", ahead.entered), ("recovery", recovery)):
            for release, package in pairs:
                found.setdefault(package.sha256, (product.name, release.version, why, package))
    return list(found.values())


async def fetch(place: Workplace, terms: Sequence[str], meter: Meter | None = None) -> tuple[list[Fetched], int]:
    """Fetch what is not here; one row a package, failures first, and the exit code. One failure stops no other."""
    from gallant.drivers.http import new_session

    shelf, rows = Shelf(place.folder), []
    async with new_session() as session:
        for product, release, why, package in wanted(place, terms):
            present = shelf.has(package)
            began = place.clock.real()
            fields = {
                "package": package.name,
                "product": product,
                "release": release,
                "why": why,
                "bytes": package.bytes,
                "sha256": package.sha256,
            }
            try:
                url = place.package_url(product, package)
                await shelf.fetch(
                    session,
                    url,
                    package,
                    lambda done, whole, name=package.name: meter(name, done, whole) if meter else None,
                    _way(place, product, package, url),
                )
            except GallantError as error:
                rows.append(
                    Fetched(
                        **fields,
                        state="failed",
                        error=" ".join(p for p in (error.what, error.why) if p),
                        next=error.next,
                        exit_code=error.exit_code,
                    )
                )
            else:
                rows.append(
                    Fetched(**fields, state="present" if present else "fetched", seconds=place.clock.real() - began)
                )
    rows.sort(key=lambda r: r.state != "failed")
    return rows, worst_exit([r.exit_code for r in rows])


def _way(place: Workplace, product: str, package: Package, url: str) -> Way:
    """How a package is reached: as its catalog's source is, or straight from the medium."""
    from gallant.catalogs.medium import opened

    if url.startswith("file:"):
        return Way(opened=lambda: opened(url))
    source = place.source_of(product, package)
    return Way(options=place.reach(source.source, source.access).options(url)) if source else Way()


def held(place: Workplace) -> list[tuple[Held, str | None, bool]]:
    """What lies in stock: each with the release it is (None: no catalog knows it), and whether its bytes are right now."""
    names = {
        p.sha256: f"{product.name} {r.version}"
        for product in place.products.values()
        for r in product.releases
        for p in r.packages
    }
    shelf = Shelf(place.folder)
    return [(h, names.get(h.sha256), shelf.verified(h.name, h.sha256)) for h in shelf.held()]
