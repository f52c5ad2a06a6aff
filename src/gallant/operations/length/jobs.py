"""How long the work on a system takes, no matter who asks: a check
of a booking, the booking itself. A plan's own steps say it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from gallant.core.catalog.products import Release
from gallant.core.errors import Refused
from gallant.core.estate.stacks import systems_above
from gallant.core.estate.systems import System
from gallant.core.plan.ground import Ground
from gallant.core.plan.lane_hops import lane_seconds
from gallant.core.readings import Reading
from gallant.operations.ground.keepers import can_snapshot
from gallant.operations.ground.last import last_readings, releases_ahead
from gallant.operations.ground.workplace import Workplace, knows_of
from gallant.operations.length.durations import learned


def job_seconds(
    place: Workplace, system: System, readings: Mapping[str, Reading], releases: Sequence[Release]
) -> tuple[float, float] | None:
    """Seconds of estate time to bring a system through `releases`, and those of a window with room for it; `readings`
    are by the nodes' own names. None where no such work could be planned now."""
    from gallant.drivers.profile_reading import load_profile

    if not releases or readings.keys() != system.nodes.keys():
        return None
    above = [place.estate.systems[name] for name in systems_above(place.estate, system)]
    stacked, unread = last_readings(place, [s.name for s in above]) if above else ({}, [])
    if unread:
        return None
    ground = Ground(
        estate=place.estate,
        readings={**stacked, **{reading.name: reading for reading in readings.values()}},
        products=place.products,
        now=place.clock.now(),
        knows={s.name: knows_of(load_profile(s.profile, place.folder)) for s in (system, *above)},
        snapshotted=frozenset([system.name] if can_snapshot(place, system) else []),
        learned=learned(place),
    )
    try:
        return lane_seconds(ground, system, releases)
    except Refused:
        return None


def image_room(place: Workplace, system: System) -> float | None:
    """How long a window has to be for the whole way to the system's aim, as it was last read."""
    readings, _ = last_readings(place, [system.name])
    own = {node: readings[name] for node in system.nodes if (name := f"{system.name}/{node}") in readings}
    if not own:
        return None
    ahead = releases_ahead(place, system, [reading.version for reading in own.values()])
    found = job_seconds(place, system, own, [release for release, _ in ahead.entered])
    return found[1] if found is not None else None
