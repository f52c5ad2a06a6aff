"""Packages laid onto nodes ahead of their work, and taken off again."""

from __future__ import annotations

import asyncio
from collections.abc import Coroutine, Sequence
from typing import TYPE_CHECKING

from gallant.core.catalog.products import Package, Release
from gallant.core.errors import GallantError, Refused, Stopped, worst_exit
from gallant.core.estate.systems import System, node_name
from gallant.core.ports import Act, Driver
from gallant.core.readings import PackagePresent, Reading
from gallant.core.records import Record, replace
from gallant.operations.ground.acting import carry_out, shown
from gallant.operations.ground.last import last_readings, releases_ahead
from gallant.operations.ground.survey import survey_with
from gallant.operations.ground.workplace import Workplace

if TYPE_CHECKING:
    pass
from gallant.operations.keep.stock import Meter


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
            rows += await asyncio.gather(
                *(
                    _behind(gate, _preload_one(place, system, drivers[system.name], node, package, release, meter))
                    for node in system.nodes
                )
            )
            await survey_with(
                place, [(system, tuple(system.nodes))], drivers
            )  # so that the inventory says what lies where
    rows.sort(key=lambda r: r.state != "failed")
    return rows, worst_exit([r.exit_code for r in rows])


async def _behind(gate: asyncio.Semaphore, work: Coroutine[None, None, Preloaded]) -> Preloaded:
    async with gate:
        return await work


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
    place: Workplace, system: System, driver: Driver, node: str, package: Package, target: Release, meter: Meter | None
) -> Preloaded:
    name, began, release = node_name(system, node), place.clock.real(), target.version
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
