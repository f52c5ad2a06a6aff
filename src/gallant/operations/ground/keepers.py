"""Who keeps a system's restore points: the driver of itself, or of the hosts below it."""

from __future__ import annotations

from collections.abc import AsyncIterator, Sequence
from contextlib import asynccontextmanager

from gallant.core.estate.systems import System
from gallant.core.ports import Driver
from gallant.operations.ground.workplace import Workplace, knows_of


def keepers_of(place: Workplace, system: System) -> dict[str, System]:
    """The machines that a system's nodes live on and that can keep restore points of them, by name."""
    below = [node.runs_on for node in system.nodes.values() if node.runs_on is not None]
    hosts = {name: place.estate.systems[name.partition("/")[0]] for name in below}
    return {name: host for name, host in hosts.items() if keeps(place, host, guests=True)}


def keeps(place: Workplace, system: System, guests: bool) -> bool:
    """Whether a system's driver keeps restore points: of its guests, or of itself."""
    from gallant.drivers.profile_reading import load_profile

    knows = knows_of(load_profile(system.profile, place.folder))
    return "snapshot" in knows.capabilities and knows.keeps_guests == guests


def can_snapshot(place: Workplace, system: System) -> bool:
    """Whether its profile, or that of a host below it, knows how."""
    return keeps(place, system, guests=False) or bool(keepers_of(place, system))


@asynccontextmanager
async def drivers_of(place: Workplace, systems: Sequence[System]) -> AsyncIterator[dict[str, Driver]]:
    """Drivers of the systems, and of the hosts that keep their restore points."""
    every = {s.name: s for system in systems for s in (system, *keepers_of(place, system).values())}
    async with place.drivers(list(every.values())) as drivers:
        yield drivers
