"""The facts around a system that checks look at: other ways in, what Gallant itself stands on, what is booked."""

from __future__ import annotations

import asyncio
import contextlib
import ipaddress
import socket
from collections.abc import Iterable, Mapping, Sequence
from datetime import timedelta
from pathlib import Path
from urllib.parse import urlsplit

from gallant.core.checks.facts import AroundFacts, BookedTime, Followed, HalfRestored, Rescue, SnapshotRoom
from gallant.core.decide.ledger import BEGUN, FAILED
from gallant.core.errors import GallantError
from gallant.core.estate.snapshots import RestorePoint, snapshots_of
from gallant.core.estate.systems import Estate, System, node_name
from gallant.core.ports import Driver
from gallant.core.readings import Reading
from gallant.core.records import replace
from gallant.core.shapes import SHAPES
from gallant.operations.ground.keepers import can_snapshot, keepers_of
from gallant.operations.ground.secrets import unattended
from gallant.operations.ground.workplace import Workplace, knows_of
from gallant.operations.keep.backups import store_of

PORTS = {"https": 443, "http": 80, "ssh": 22}
CONSOLE_S = 3.0


async def around(
    place: Workplace,
    system: System,
    readings: Mapping[str, Reading],
    hosts: Mapping[str, Reading],
    own_roll: str | None,
) -> AroundFacts:
    """Everything that lies around a system; `own_roll` is the roll that asks, which does not stand in its own way."""
    snapshots, can_be = kept_snapshots(place, system, readings, hosts)
    rolls = [r.id for r in place.journal.open_rolls(system.name) if r.id != own_roll]
    return AroundFacts(
        backups=tuple(store_of(place).all(system.name)),
        copy_places=tuple(copy.to for copy in place.estate.backups.copies),
        snapshots=snapshots,
        can_snapshot=can_be,
        snapshot_room=room_for_snapshot(place, system, readings, hosts, snapshots) if can_be else None,
        can_export=can_export(place, system),
        sources=followed(place, system),
        channels_unknown_here=system.product not in place.products and bool(place.products),
        rescue=await rescue(place, system),
        own_path=own_path(place.estate, system, place.folder),
        open_roll=rolls[0] if rolls else None,
        booked=(next_booked := booked(place, system)),
        unattended=tuple(unattended(place.estate, system, place.folder)) if next_booked is not None else (),
        half_restored=half_restored(place, system),
        writable=place.writable,
    )


async def may_act(place: Workplace, driver: Driver, system: System, nodes: Iterable[str]) -> dict[str, str | None]:
    """By node, why the account for the work was not let in; nothing where there is none, or where it would be typed."""
    account = system.accounts.get("act") or place.estate.accounts.get("act")
    if account is None or account.secret == "ask" or not driver.acts:
        return {}
    found: dict[str, str | None] = {}
    for node in nodes:
        try:
            await driver.let_in(node, "act")
            found[node] = None
        except GallantError as error:
            found[node] = " ".join(p for p in (error.what, error.why) if p)
    return found


async def rescue(place: Workplace, system: System) -> dict[str, Rescue]:
    """By node, the other way into it: its console, its host, or the people on site."""
    hands = place.estate.sites[system.site].hands
    return dict(zip(system.nodes, await asyncio.gather(*(_way(system, n, hands) for n in system.nodes)), strict=True))


async def _way(system: System, name: str, hands: bool) -> Rescue:
    node = system.nodes[name]
    if node.console is None:
        if node.runs_on is not None:
            return Rescue(how=f"its host {node.runs_on}")
        return Rescue(how=f"somebody is at {system.site}" if hands else "")
    parts = urlsplit(node.console if "//" in node.console else f"//{node.console}")
    if not parts.hostname:
        return Rescue(how=node.console)
    try:
        async with asyncio.timeout(CONSOLE_S):
            _, writer = await asyncio.open_connection(parts.hostname, parts.port or PORTS.get(parts.scheme, 443))
            writer.close()
    except (OSError, TimeoutError) as error:
        why = error.strerror if isinstance(error, OSError) and error.strerror else f"no answer within {CONSOLE_S:g} s"
        return Rescue(how=node.console, answers=False, why=why.lower())
    return Rescue(how=node.console, answers=True)


def followed(place: Workplace, system: System) -> tuple[Followed, ...]:
    """The catalog that a system is judged by, and how old it is."""
    source = place.source_of(system.product)
    return () if source is None else (Followed(name=source.name, state=source.state, why=source.problem),)


async def read_hosts(
    place: Workplace, systems: Sequence[System], drivers: Mapping[str, Driver], read: Mapping[str, Reading]
) -> dict[str, Reading]:
    """The machines that guests live on: as `read` just now, else as they are, else as they were last read."""
    wanted = {name: host for system in systems for name, host in keepers_of(place, system).items()}
    newest = place.readings.newest([host.name for host in wanted.values()]) if wanted else {}
    last = {name: row.reading for name, row in newest.items() if name in wanted and row.reading is not None}
    found = last | {name: reading for name, reading in read.items() if name in wanted}
    for name, host in wanted.items():
        if name not in read and host.name in drivers:
            with contextlib.suppress(GallantError):  # then what is known of it has to do; its own check says the rest
                found[name] = await drivers[host.name].read(name.partition("/")[2])
    return found


def kept_snapshots(
    place: Workplace, system: System, readings: Mapping[str, Reading], hosts: Mapping[str, Reading]
) -> tuple[tuple[RestorePoint, ...], bool]:
    """A system's restore points, and whether it can be snapshotted; `hosts` are the machines that guests live on."""
    hosts = {name: hosts[name] for name in keepers_of(place, system) if name in hosts}
    limit = timedelta(days=place.estate.limits.snapshot_days)
    kept = snapshots_of(system.name, readings.values(), hosts, place.clock.now(), limit)
    return tuple(kept), can_snapshot(place, system)


def room_for_snapshot(
    place: Workplace,
    system: System,
    readings: Mapping[str, Reading],
    hosts: Mapping[str, Reading],
    kept: Sequence[RestorePoint],
) -> SnapshotRoom | None:
    """The room on what will keep the next restore point: the host
    that carries the system, else the node that speaks for it."""
    roles = {node: reading.role for node, reading in readings.items()}
    own = readings.get(SHAPES[system.shape].head(system.nodes, roles))
    keeper = next((hosts[name] for name in keepers_of(place, system) if name in hosts), None) or own
    if keeper is None:
        return None
    largest = max((one.snapshot.bytes or 0 for one in kept), default=0)
    needed = max(largest, place.estate.limits.snapshot_room_gb * 1e9)
    return SnapshotRoom(keeper=keeper.name, free=keeper.gauge("free space"), needed=needed)


def can_export(place: Workplace, system: System) -> bool:
    """Whether a configuration backup can be taken."""
    from gallant.drivers.profile_reading import load_profile

    return "export" in knows_of(load_profile(system.profile, place.folder)).capabilities


def booked(place: Workplace, system: System) -> BookedTime | None:
    """The next booking of any of a system's notices that was not taken
    back since; None where there is none, or it has no end."""
    found: dict[str, BookedTime] = {}
    for kept in place.ledger.about(["book", "skip", "reopen", "cancel"], f"{system.name}:"):
        entry = kept.entry
        if entry.kind == "book" and entry.start and entry.end:
            found[entry.subject] = BookedTime(notice=entry.subject, start=entry.start, end=entry.end)
        elif entry.kind != "book":
            found.pop(entry.subject, None)
    ahead = [b for b in found.values() if b.end > place.clock.now()]
    return min(ahead, key=lambda b: b.start, default=None)


def half_restored(place: Workplace, system: System) -> tuple[HalfRestored, ...]:
    """The nodes of a system whose last restore was begun and did not end well, by the ledger."""
    open_: dict[str, HalfRestored] = {}
    for kept in place.ledger.about(["restore"], f"{system.name}/"):
        entry = kept.entry
        node = entry.subject.partition("/")[2]
        if entry.state == BEGUN:
            open_[node] = HalfRestored(node=node, backup=entry.target or "", began=entry.at, why="it was cut off")
        elif entry.state == FAILED and node in open_:
            open_[node] = replace(open_[node], why=entry.reason)
        else:
            open_.pop(node, None)
    return tuple(open_.values())


def own_path(estate: Estate, system: System, folder: Path) -> tuple[str, ...]:
    """In what Gallant's own host, files and names depend on a system."""
    own = {node_name(system, node) for node in system.nodes}
    addresses = {node.host for node in system.nodes.values() if node.host}
    addresses |= {service.endpoint[0] for service in system.services.values()}
    said = []
    if below := own & set(_stands_on(estate, estate.gallant_on)):
        said.append(f"it runs on {sorted(below)[0]}")
    said += [f"{address} is this host's own address" for address in sorted(addresses) if _is_ours(address)]
    said += [f"names are resolved by {address}" for address in sorted(addresses & set(_resolvers()))]
    said += [f"{folder} lies on {address}" for address in sorted(addresses & {_server_of(folder)})]
    return tuple(said)


def _stands_on(estate: Estate, node: str | None) -> list[str]:
    """A node, and the nodes below it."""
    found: list[str] = []
    while node is not None and node not in found:
        found.append(node)
        system = estate.systems.get(node.partition("/")[0])
        member = system.nodes.get(node.partition("/")[2]) if system is not None else None
        node = member.runs_on if member is not None else None
    return found


def _is_ours(address: str) -> bool:
    """Whether an address is one of this host's: only then can a socket be bound to it. Loopback is everybody's."""
    try:
        if ipaddress.ip_address(address).is_loopback:
            return False
        family = socket.AF_INET6 if ":" in address else socket.AF_INET
        with socket.socket(family, socket.SOCK_DGRAM) as probe:
            probe.bind((address, 0))
    except (ValueError, OSError):
        return False
    return True


def _resolvers() -> list[str]:
    with contextlib.suppress(OSError):
        rows = [line.split() for line in Path("/etc/resolv.conf").read_text("utf-8", "replace").splitlines()]
        return [row[1] for row in rows if len(row) > 1 and row[0] == "nameserver"]
    return []


def _server_of(folder: Path) -> str:
    """The host that serves the file system a folder lies on, where one does: `10.0.0.5:/export`, `//10.0.0.5/share`."""
    with contextlib.suppress(OSError):
        best, source = "", ""
        for line in Path("/proc/self/mounts").read_text("utf-8", "replace").splitlines():
            where = line.split(" ")
            inside = str(folder).startswith(where[1].rstrip("/") + "/") if len(where) > 1 else False
            if inside and len(where[1]) >= len(best):
                best, source = where[1], where[0]
        if source.startswith("//"):
            return source[2:].partition("/")[0]
        return source.partition(":/")[0] if ":/" in source else ""
    return ""
