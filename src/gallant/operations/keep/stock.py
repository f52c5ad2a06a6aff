"""Stock: bring the packages of every route and the running releases' own for
recovery, keep them right, and put them onto the nodes ahead of time."""

from __future__ import annotations

import asyncio
import dataclasses
import hashlib
from collections.abc import Callable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from gallant.core.catalog.products import Package, Release
from gallant.core.decide.consents import roll_command
from gallant.core.errors import GallantError, Refused, WrongUse, worst_exit
from gallant.core.estate.systems import System
from gallant.core.ports import Stock
from gallant.core.readings import Reading
from gallant.core.records import Record, clean, replace
from gallant.core.work.plan import Plan
from gallant.operations.assess.plannable import ways_to_plan
from gallant.operations.ground.deciding import record
from gallant.operations.ground.last import last_readings, product_of, releases_ahead
from gallant.operations.ground.workplace import Workplace
from gallant.operations.keep.components import ForStock, packages_of_parts, packages_of_plan
from gallant.stock.stockroom import Stockroom, Throttle, Way

if TYPE_CHECKING:
    from aiohttp import ClientSession

Meter = Callable[[str, int, int], None]


class PackageFetched(Record):
    """One package: `state` is fetched, present or failed; `why` is route, recovery or plan; `seconds` real."""

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
    """What the selected systems need in stock: (product, release, why, package), each once. Raises `GallantError` for a
    system of which nothing is known."""
    from gallant.drivers.profile_reading import load_profile

    systems, readings = place.systems(terms), _by_system(place, terms)
    for system in systems:
        if not readings.get(system.name):
            raise GallantError(
                f"{system.name} was never read, so what it needs is not known.", next=f"gallant survey {system.name}"
            )
        product_of(place, system)
        load_profile(system.profile, place.folder)
    found: dict[str, tuple[str, str, str, Package]] = {}
    for _, (product, release, why, package) in _each_wanted(place, systems, readings):
        found.setdefault(package.sha256, (product.name, release.version, why, package))
    return list(found.values())


def _by_system(place: Workplace, terms: Sequence[str]) -> dict[str, list[Reading]]:
    readings: dict[str, list[Reading]] = {}
    for reading in last_readings(place, terms)[0].values():
        readings.setdefault(reading.system, []).append(reading)
    return readings


def _each_wanted(
    place: Workplace, systems: Sequence[System], readings: Mapping[str, Sequence[Reading]]
) -> Iterator[tuple[str, ForStock]]:
    """What each of these systems needs, by its name; nothing of one that was never read or that no catalog lists."""
    known = [system for system in systems if readings.get(system.name) and system.product in place.products]
    routes = place.routes()
    for system in known:
        product = place.products[system.product]
        ahead = releases_ahead(place, system, [reading.version for reading in readings[system.name]], routes)
        recovery = [(r, p) for r in ahead.running if (p := r.package_on(None, system.delivery)) is not None]
        for why, pairs in (("route", ahead.entered), ("recovery", recovery)):
            yield from ((system.name, (product, release, why, package)) for release, package in pairs)
    yield from packages_of_parts(place, known, readings, routes)


async def fetch(
    place: Workplace, terms: Sequence[str], meter: Meter | None = None, plan: Plan | None = None
) -> tuple[list[PackageFetched], int]:
    """Fetch what is not here, several at once; one row a package, failures first, and the exit code. One failure stops
    no other; nothing starts that would not fit into the quota. With a `plan`: what that needs, and nothing else."""
    from gallant.drivers.http.driver import new_session

    stockroom, limits = Stockroom(place.folder), place.estate.limits
    needed = wanted(place, terms) if plan is None else [(p, r, "plan", k) for p, r, k in packages_of_plan(plan)]
    _within_quota(place, stockroom, [p for _, _, _, p in needed if not stockroom.has(p)])
    throttle = Throttle(limits.fetch_mbit_per_s * 125_000 if limits.fetch_mbit_per_s else None)
    gate = asyncio.Semaphore(limits.fetches_at_once)
    async with new_session() as session:

        async def one(product: str, release: str, why: str, package: Package) -> PackageFetched:
            async with gate:
                return await _fetch_one(place, stockroom, session, throttle, product, release, why, package, meter)

        rows = list(await asyncio.gather(*(one(*row) for row in needed)))
    if (
        not terms and plan is None and all(r.state != "failed" for r in rows)
    ):  # what broke off once and nobody wants any more
        for part in stockroom.unfinished():
            part.unlink(missing_ok=True)
    rows.sort(key=lambda r: r.state != "failed")
    return rows, worst_exit([r.exit_code for r in rows])


SLOW_MBIT_PER_S = 10  # a site's link below which a package is better sent ahead than in the night


def after_fetch(place: Workplace, terms: Sequence[str], plan: Plan | None) -> tuple[str, ...]:
    """The next steps when all of it is here: packages sent ahead over slow links, then a plan; or the roll of the
    plan."""
    if plan is not None:
        return (roll_command(plan),)
    systems = place.systems(terms)
    ways = ways_to_plan(place, [s.name for s in systems]) if terms else ("gallant plan",)
    slow = [s.name for s in systems if _is_sent_ahead(place, s)]
    return (*(f"gallant stock preload {name}" for name in slow), *ways)


def _is_sent_ahead(place: Workplace, system: System) -> bool:
    """Whether something is to be brought to a system over a slow link, and can be laid there before the night."""
    from gallant.drivers.shelf import can

    rate = place.estate.sites[system.site].sends_mbit_per_s
    if rate is None or rate > SLOW_MBIT_PER_S or not can(system.profile, place.folder, "preload"):
        return False
    readings = last_readings(place, [system.name])[0]
    return bool(releases_ahead(place, system, [r.version for r in readings.values()]).entered) if readings else False


def _within_quota(place: Workplace, stockroom: Stock, missing: Sequence[Package]) -> None:
    quota = place.estate.limits.stock_gb
    total = stockroom.bytes + sum(p.bytes for p in missing)
    if quota is not None and total > quota * 1e9 and missing:
        raise Refused(
            f"The stock would come to {total / 1e9:.1f} GB; its limit is {quota:g} GB.",
            "Nothing was fetched.",
            "gallant stock prune takes away what no system needs",
        )


async def _fetch_one(
    place: Workplace,
    stockroom: Stockroom,
    session: ClientSession,
    throttle: Throttle,
    product: str,
    release: str,
    why: str,
    package: Package,
    meter: Meter | None,
) -> PackageFetched:
    present, began = stockroom.has(package), place.clock.real()
    row = PackageFetched(
        package=package.name,
        product=product,
        release=release,
        why=why,
        bytes=package.bytes,
        sha256=package.sha256,
        state="present" if present else "fetched",
    )
    try:
        url = place.package_url(product, package)
        way = dataclasses.replace(_way(place, product, package, url), throttle=throttle)
        await stockroom.fetch(
            session, url, package, lambda done, whole: meter(package.name, done, whole) if meter else None, way
        )
    except GallantError as error:
        told = " ".join(p for p in (error.what, error.why) if p)
        return replace(row, state="failed", error=told, next=error.next, exit_code=error.exit_code)
    return replace(row, seconds=place.clock.real() - began)


def _way(place: Workplace, product: str, package: Package, url: str) -> Way:
    """How a package is reached: as its catalog's source is, or straight from the medium."""
    from gallant.catalogs.medium import opened

    if url.startswith("file:"):
        return Way(opened=lambda: opened(url))
    source = place.source_of(product, package)
    return Way(options=place.reach(source.source, source.access).options(url)) if source else Way()


class InStock(Record):
    """A package that lies here: `release` is what it is of (None: no catalog knows it), `ok` whether its bytes are
    right now, `recalled` the publisher's words since then, `vouched` who answers for it, `needed` which systems do."""

    package: str
    release: str | None
    bytes: int
    sha256: str
    ok: bool
    recalled: str | None = None
    vouched: str | None = None
    needed: tuple[str, ...] = ()


def held(place: Workplace) -> list[InStock]:
    """What lies in stock; what is wrong or recalled first."""
    stockroom, known, needed = place.stock, _known(place), _needed(place)
    rows = []
    for one in stockroom.held():
        product, release = known.get(one.sha256, (None, None))
        rows.append(
            InStock(
                package=one.name,
                release=f"{product} {release.version}" if release is not None else None,
                bytes=one.bytes,
                sha256=one.sha256,
                ok=stockroom.verified(one.name, one.sha256),
                recalled=release.recall.words if release is not None and release.recall is not None else None,
                vouched=stockroom.vouched(one.name, one.sha256),
                needed=tuple(needed.get(one.sha256, ())),
            )
        )
    return sorted(rows, key=lambda r: (r.ok, r.recalled is None, r.package))


def _known(place: Workplace) -> dict[str, tuple[str, Release]]:
    """By digest: the product and the release that a catalog lists a package for."""
    return {
        p.sha256: (product.name, r) for product in place.products.values() for r in product.releases for p in r.packages
    }


def _needed(place: Workplace) -> dict[str, list[str]]:
    """By digest: the systems whose route enters the package's release, or that run it now, or whose open roll needs
    it."""
    found: dict[str, dict[str, None]] = {}
    systems = list(place.estate.systems.values())
    for name, (_, _, _, package) in _each_wanted(place, systems, _by_system(place, [])):
        found.setdefault(package.sha256, {})[name] = None
    for roll in place.journal.open_rolls():
        for step in roll.plan.steps():
            if step.sha256 is not None:
                found.setdefault(step.sha256, {})[step.system] = None
    return {digest: list(names) for digest, names in found.items()}


class PackageCarriedIn(Record):
    """A file that was carried in; `vouched` is who answers for one that no catalog knows."""

    package: str
    release: str | None
    bytes: int
    sha256: str
    vouched: str | None = None


def add(place: Workplace, files: Sequence[Path], vouch: str | None) -> list[PackageCarriedIn]:
    """Take files that were carried in. What no catalog knows is refused, unless a named person answers for it, with a
    reason, which goes into the ledger."""
    stockroom, known, rows = place.stock, _known(place), []
    for file in files:
        try:
            with file.open("rb") as opened:
                sha256, size = hashlib.file_digest(opened, "sha256").hexdigest(), opened.tell()
        except OSError as error:
            raise WrongUse(f"{file} cannot be read: {error.strerror}.") from None
        product, release = known.get(sha256, (None, None))
        if release is None and not vouch:
            raise Refused(
                f"{file.name} is in no catalog: nobody says what it is, or that it is whole (SHA-256 {sha256[:16]}…).",
                "Nothing of it goes to any node.",
                f'Sync the publisher\'s catalog; or answer for it yourself: gallant stock add {file} --vouch "REASON"',
            )
        package = next((p for p in release.packages if p.sha256 == sha256), None) if release is not None else None
        name = package.name if package is not None else clean(file.name, 120).replace("/", "_").lstrip(".") or "package"
        if release is None:
            record(place, "vouch", name, target=sha256, reason=clean(vouch or ""))
        vouched = f"{place.user}: {clean(vouch or '')}" if release is None else None
        stockroom.take_in(file, name, sha256, vouched)
        said = f"{product} {release.version}" if release is not None else None
        rows.append(PackageCarriedIn(package=name, release=said, bytes=size, sha256=sha256, vouched=vouched))
    return rows


class Pruned(Record):
    """A package, and why it stays (None: it goes)."""

    package: str
    bytes: int
    sha256: str
    kept: str | None


def prune(place: Workplace, dry: bool) -> list[Pruned]:
    """Take away what no system needs, and what broke off; what goes first."""
    stockroom, rows = place.stock, []
    for one in held(place):
        kept = f"needed by {', '.join(dict.fromkeys(one.needed))}" if one.needed else None
        kept = f"vouched for by {one.vouched}" if kept is None and one.vouched else kept
        rows.append(Pruned(package=one.package, bytes=one.bytes, sha256=one.sha256, kept=kept))
        if kept is None and not dry:
            stockroom.remove(one.package, one.sha256)
    if not dry:
        for part in stockroom.unfinished():
            part.unlink(missing_ok=True)
    return sorted(rows, key=lambda r: r.kept is not None)
