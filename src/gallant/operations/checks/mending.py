"""Mends: what Gallant can do about a finding, each asked for before it is done, and the checks run again afterwards."""

from __future__ import annotations

from collections.abc import Awaitable, Callable, Sequence

from gallant.core.checks.facts import Finding
from gallant.core.errors import GallantError, Refused, Stopped
from gallant.core.estate.systems import System, node_name
from gallant.core.ports import Act, Driver
from gallant.core.readings import Reading
from gallant.core.records import Record
from gallant.core.shapes import SHAPES
from gallant.operations.ground.acting import SHOWN_WITHIN_S, carry_out, shown
from gallant.operations.ground.last import releases_ahead
from gallant.operations.ground.workplace import Ask, Workplace
from gallant.operations.keep import snapshots
from gallant.operations.keep.backups import take_one
from gallant.operations.keep.preloading import take_off


class Mended(Record):
    """What was done about one finding, or why nothing was."""

    system: str
    check: str
    did: str
    error: str | None = None
    next: str | None = None


async def mend(place: Workplace, findings: Sequence[Finding], sure: Ask) -> list[Mended]:
    """Clear what can be cleared, asking for each; a failure stops no other."""
    wanted = {(f.system, f.mend, f.node if f.mend in BY_NODE else None): f for f in findings if f.mend is not None}
    done: list[Mended] = []
    systems = [place.estate.systems[name] for name in dict.fromkeys(f.system for f in wanted.values())]
    async with place.drivers(systems) as drivers:
        for (name, kind, _), finding in wanted.items():
            system = place.estate.systems[name]
            try:
                if place.journal.open_rolls(name):
                    raise Refused(
                        f"A roll of {name} is not finished; nothing else is done to it.", next="gallant history"
                    )
                did = await MENDS[kind or ""](place, system, drivers[name], finding, sure)
            except GallantError as error:
                done.append(Mended(system=name, check=finding.check, did="", error=error.what, next=error.next))
            else:
                if did:
                    done.append(Mended(system=name, check=finding.check, did=did))
    return done


async def _read(system: System, driver: Driver) -> dict[str, Reading]:
    return {node: await driver.read(node) for node in system.nodes}


def _can(system: System, driver: Driver, kind: str) -> None:
    if kind not in driver.capabilities():
        raise Refused(f"{system.name}: its profile knows no {kind}.", next=f"Do it at the console of {system.name}")


async def _backup(place: Workplace, system: System, driver: Driver, finding: Finding, sure: Ask) -> str:
    if not sure(f"Take a backup of {system.name}?"):
        return ""
    backup = await take_one(place, system, driver, place.user, "a check asked for it")
    return f"{backup.id} is taken and sealed"


async def _save(place: Workplace, system: System, driver: Driver, finding: Finding, sure: Ask) -> str:
    _can(system, driver, "save_config")
    node = finding.node or next(iter(system.nodes))
    if not sure(f"Save the running configuration of {node_name(system, node)}, so that it starts with it?"):
        return ""
    await carry_out(place, driver, node, Act(kind="save_config"))

    async def saved() -> bool:
        return not (await driver.read(node)).unsaved

    if not await shown(place, saved):
        raise Stopped(
            f"{node_name(system, node)} took the order to save, and runs something else than it would start with.",
            next=f"Save it at the console of {node_name(system, node)}",
        )
    return f"{node_name(system, node)} starts with what it runs"


async def _roles(place: Workplace, system: System, driver: Driver, finding: Finding, sure: Ask) -> str:
    """Back to the usual places: only where every node is well, since the role is nowhere for a moment."""
    kind = "failback" if "failback" in driver.capabilities() else "handover"
    _can(system, driver, kind)
    readings = await _read(system, driver)
    unwell = next((r for r in readings.values() if not r.healthy), None)
    if unwell is not None:
        raise Refused(
            f"{unwell.name} is not in service and in sync; roles are not moved.", next=f"gallant check {system.name}"
        )
    leading = next((role for role in SHAPES[system.shape].heads if role in system.usual), None)
    if leading is None:
        return ""
    usual = system.usual[leading]
    holder = next((n for n, r in readings.items() if r.role == leading), None)
    if holder in (usual, None):
        return ""
    target = usual if kind == "failback" else holder
    services = " Its services are nowhere for about a second." if system.services else ""
    if not sure(f"Give {node_name(system, usual)} its usual role back ({leading})?{services}"):
        return ""
    await carry_out(place, driver, target, Act(kind=kind))

    async def there() -> bool:
        return (await driver.read(usual)).role == leading

    if await shown(place, there, 2 * SHOWN_WITHIN_S):
        return f"{node_name(system, usual)} is {leading} again"
    raise Stopped(f"{node_name(system, usual)} is not {leading} yet.", next=f"gallant check {system.name}")


async def _snapshots(place: Workplace, system: System, driver: Driver, finding: Finding, sure: Ask) -> str:
    kept, _, _ = await snapshots.listed(place, [system.name])
    gone = []
    for one in kept:
        if sure(
            f"Remove the snapshot {one.snapshot.name} of {system.name}, {one.age.total_seconds() / 86400:.1f} d old?"
        ):
            await snapshots.remove(place, system.name, one.snapshot.name, lambda _: True)
            gone.append(one.snapshot.name)
    return f"removed {', '.join(gone)}" if gone else ""


async def _packages(place: Workplace, system: System, driver: Driver, finding: Finding, sure: Ask) -> str:
    """Take packages off a node that nothing on its route needs."""
    _can(system, driver, "unload")
    node = finding.node or next(iter(system.nodes))
    reading = await driver.read(node)
    wanted = {p.sha256 for p in releases_ahead(place, system, [reading.version]).packages}
    gone = []
    for package in reading.packages:
        if package.sha256 in wanted or not sure(f"Take {package.name} off {node_name(system, node)}?"):
            continue
        await take_off(place, system, driver, node, package)
        gone.append(package.name)
    return f"took {', '.join(gone)} off {node_name(system, node)}" if gone else ""


BY_NODE = ("saved", "packages")
MENDS: dict[str, Callable[[Workplace, System, Driver, Finding, Ask], Awaitable[str]]] = {
    "backup": _backup,
    "saved": _save,
    "roles": _roles,
    "snapshots": _snapshots,
    "packages": _packages,
}
