"""Stock: bring the packages of every route and the running releases' own for
recovery, keep them right, and put them onto the nodes ahead of time."""

from __future__ import annotations

import asyncio
import contextlib
import dataclasses
import hashlib
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from gallant.core.catalog.products import Package, Release
from gallant.core.errors import GallantError, Refused, Stopped, WrongUse, worst_exit
from gallant.core.estate.systems import System, node_name
from gallant.core.ports import Act, Driver, Stock
from gallant.core.readings import PackagePresent, Reading
from gallant.core.records import Record, clean, replace
from gallant.core.work.consents import roll_command
from gallant.core.work.plan import Plan
from gallant.operations.assess.plannable import ways_to_plan
from gallant.operations.ground.acting import carry_out, shown
from gallant.operations.ground.deciding import record
from gallant.operations.ground.last import last_readings, product_of, releases_ahead
from gallant.operations.ground.survey import survey_with
from gallant.operations.ground.workplace import Workplace
from gallant.operations.keep.components import packages_of_parts, packages_of_plan
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
        for known, release, why, package in packages_of_parts(place, system):
            found.setdefault(package.sha256, (known.name, release.version, why, package))
    return list(found.values())


async def fetch(
    place: Workplace, terms: Sequence[str], meter: Meter | None = None, plan: Plan | None = None
) -> tuple[list[PackageFetched], int]:
    """Fetch what is not here, several at once; one row a package, failures first, and the exit code. One failure stops
    no other; nothing starts that would not fit into the quota. With a `plan`: what that needs, and nothing else."""
    from gallant.drivers.http import new_session

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
    found: dict[str, list[str]] = {}
    for system in place.estate.systems.values():
        with contextlib.suppress(GallantError):
            for _, _, _, package in wanted(place, [system.name]):
                found.setdefault(package.sha256, []).append(system.name)
    for roll in place.journal.open_rolls():
        for step in roll.plan.steps():
            if step.sha256 is not None:
                found.setdefault(step.sha256, []).append(step.system)
    return found


# --- by hand --------------------------------------------------------------------------------------------------------


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


# --- onto the nodes -------------------------------------------------------------------------------------------------


class Preloaded(Record):
    """One package on one node: `state` is preloaded, sent (the node lists none), present, unloaded, failed; `by` how it
    was verified: digest, its list, or bytes sent."""

    node: str
    package: str
    release: str
    bytes: int
    state: str
    by: str = ""
    seconds: float = 0
    error: str | None = None
    next: str | None = None
    exit_code: int = 0


async def preload(place: Workplace, terms: Sequence[str], meter: Meter | None = None) -> tuple[list[Preloaded], int]:
    """Put the next hop's package on every node of the selected systems, ahead of the window; failures first.

    Verified by the node's own digest where it computes one, else by
    the bytes that were sent. A recalled release is refused.
    """
    systems, rows = place.systems(terms), []
    async with place.drivers(systems) as drivers:
        for system in systems:
            try:
                package, release = _next_package(place, system, drivers[system.name])
            except GallantError as error:
                rows.append(_failed(system.name, "", "", 0, error))
                continue
            if package is None or release is None:
                continue
            gate = asyncio.Semaphore(place.estate.limits.at_once_per_system)

            async def one(node: str, system: System = system, package: Package = package, version: str = release.version, gate: asyncio.Semaphore = gate) -> Preloaded:  # fmt: skip
                async with gate:
                    return await _preload_one(place, system, drivers[system.name], node, package, version, meter)

            rows += await asyncio.gather(*(one(node) for node in system.nodes))
            await survey_with(
                place, [(system, tuple(system.nodes))], drivers
            )  # so that the inventory says what lies where
    rows.sort(key=lambda r: r.state != "failed")
    return rows, worst_exit([r.exit_code for r in rows])


def _next_package(place: Workplace, system: System, driver: Driver) -> tuple[Package | None, Release | None]:
    """What the system's next hop needs on its nodes; None where nothing is ahead of it."""
    if "preload" not in driver.capabilities():
        raise Refused(
            f"{system.name}: its profile knows no preload; it gets its package with the install.",
            next=f"gallant plan {system.name}",
        )
    if place.journal.open_rolls(system.name):
        raise Refused(
            f"A roll of {system.name} is not finished; it brings its packages itself.", next="gallant history"
        )
    readings, unread = last_readings(place, [system.name])
    if unread:
        raise GallantError(f"{unread[0]} was never read.", next=f"gallant survey {system.name}")
    entered = releases_ahead(place, system, [r.version for r in readings.values()]).entered
    if not entered:
        return None, None
    release, package = entered[0]
    if release.recall is not None:
        raise Refused(
            f"{system.name}: {release.version} was {release.recall.words}; it goes onto no node.",
            next=f"gallant route {system.name}",
        )
    if not place.stock.has(package):
        raise Refused(f"{package.name} is not in stock.", next=f"gallant stock fetch {system.name}")
    return package, release


async def _preload_one(
    place: Workplace, system: System, driver: Driver, node: str, package: Package, release: str, meter: Meter | None
) -> Preloaded:
    name, began = node_name(system, node), place.clock.real()
    row = Preloaded(node=name, package=package.name, release=release, bytes=package.bytes, state="preloaded")
    try:
        reading = await driver.read(node)
        if _is_there(reading, package):
            return replace(row, state="present", by="digest")
        act = Act(kind="preload", release=release, package=package.name, sha256=package.sha256, bytes=package.bytes)

        def progress(percent: float, _: str) -> None:
            if meter is not None:
                meter(name, int(package.bytes * percent / 100), package.bytes)

        await carry_out(place, driver, node, act, progress)
        seconds = place.clock.real() - began
        there = await _listed(place, driver, node, package.name)
    except GallantError as error:
        return _failed(name, package.name, release, package.bytes, error)
    if there is None and "packages" in driver.capabilities():
        missing = Stopped(
            f"{name} took {package.name}, and does not list it.",
            next=f"Look at its console, then: gallant survey {name}",
        )
        return _failed(name, package.name, release, package.bytes, missing)
    if there is not None and there.sha256 and there.sha256 != package.sha256:
        wrong = Stopped(
            f"{package.name} was altered on its way to {name}: it computes {there.sha256[:12]}…, the catalog says "
            f"{package.sha256[:12]}….",
            next=f"gallant stock unload {system.name}",
        )
        return _failed(name, package.name, release, package.bytes, wrong)
    if there is None:
        return replace(row, state="sent", by="bytes sent", seconds=seconds)
    return replace(row, by="digest" if there.sha256 else "its list", seconds=seconds)


async def _listed(place: Workplace, driver: Driver, node: str, name: str) -> PackagePresent | None:
    """A package as the node lists it, once it does; not waited for where the node lists none at all."""
    found: list[PackagePresent] = []

    async def there() -> bool:
        found[:] = [p for p in (await driver.read(node)).packages if p.name == name]
        return bool(found) or "packages" not in driver.capabilities()

    await shown(place, there)
    return found[0] if found else None


async def unload(place: Workplace, terms: Sequence[str]) -> tuple[list[Preloaded], int]:
    """Take packages off the selected nodes again; those that a node runs or would run next stay its own."""
    chosen, rows = place.select(terms), []
    async with place.drivers([system for system, _ in chosen]) as drivers:
        for system, nodes in chosen:
            driver = drivers[system.name]
            if "unload" not in driver.capabilities():
                error = Refused(f"{system.name}: its profile knows no unload.", next=f"gallant inventory {system.name}")
                rows.append(_failed(system.name, "", "", 0, error))
                continue
            if place.journal.open_rolls(system.name):
                error = Refused(f"A roll of {system.name} is not finished.", next="gallant history")
                rows.append(_failed(system.name, "", "", 0, error))
                continue
            for node in nodes:
                rows += await _unload_node(place, system, driver, node)
            await survey_with(place, [(system, tuple(nodes))], drivers)
    rows.sort(key=lambda r: r.state != "failed")
    return rows, worst_exit([r.exit_code for r in rows])


async def _unload_node(place: Workplace, system: System, driver: Driver, node: str) -> list[Preloaded]:
    name, rows = node_name(system, node), []
    try:
        for package in (await driver.read(node)).packages:
            await take_off(place, system, driver, node, package)
            rows.append(Preloaded(node=name, package=package.name, release="", bytes=package.bytes, state="unloaded"))
    except GallantError as error:
        rows.append(_failed(name, "", "", 0, error))
    return rows


async def take_off(place: Workplace, system: System, driver: Driver, node: str, package: PackagePresent) -> None:
    """Have a node forget a package, and see that it has. Raises `Stopped` where it is there still."""
    await carry_out(place, driver, node, Act(kind="unload", package=package.name, sha256=package.sha256))

    async def gone() -> bool:
        return all(p.name != package.name for p in (await driver.read(node)).packages)

    if not await shown(place, gone):
        raise Stopped(
            f"{node_name(system, node)} took the order to remove {package.name}, and lists it still.",
            next=f"Look at its console, then: gallant stock unload {system.name}",
        )


def _is_there(reading: Reading, package: Package) -> bool:
    return any(p.name == package.name and p.sha256 == package.sha256 for p in reading.packages)


def _failed(node: str, package: str, release: str, size: int, error: GallantError) -> Preloaded:
    return Preloaded(
        node=node,
        package=package,
        release=release,
        bytes=size,
        state="failed",
        error=" ".join(p for p in (error.what, error.why) if p),
        next=error.next,
        exit_code=error.exit_code,
    )
