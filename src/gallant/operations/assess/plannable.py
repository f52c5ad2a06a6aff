"""What cannot be planned, by what every system ran when it was last
read: nothing that is offered as a next step is then refused."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from operator import attrgetter

from gallant.core.assess.gaps import NO_GAP, Gaps, find_gaps
from gallant.core.errors import GallantError, Refused
from gallant.core.estate.systems import System
from gallant.core.plan.ground import Ground
from gallant.core.plan.planning import not_taught
from gallant.core.plan.sifting import Barred, barred_by, sift
from gallant.core.readings import Reading
from gallant.operations.ground.last import last_readings
from gallant.operations.ground.workplace import Workplace

SYSTEM = attrgetter("system")


def barred_here(
    place: Workplace, moving: Mapping[str, bool], readings: dict[str, Reading] | None = None
) -> dict[str, Barred]:
    """What bars those of some systems that cannot be planned; `moving` says of each whether its image is to be moved,
    or components alone; `readings` are the last ones of all nodes, for who has them already.

    Nothing is contacted: how the nodes stand to one another when a plan is made is not looked at.
    """
    systems = [place.estate.systems[name] for name in sorted(moving)]
    if not systems:
        return {}
    rolls = {name: row.id for row in reversed(place.journal.open_rolls()) for name in row.plan.systems}
    found = {
        one.system: one
        for system in systems
        if (one := _barred_alone(place, system, moving[system.name], rolls.get(system.name)))
    }
    rest = [system for system in systems if system.name not in found]
    ground = Ground(
        estate=place.estate,
        readings=_read_with(place, rest) if readings is None else readings,
        products=place.products,
        now=place.clock.now(),
        bundles=tuple(place.bundles),
        still=frozenset(system.name for system in rest if not moving[system.name]),
    )
    return found | {one.system: one for one in sift(ground, rest, lanes=False)[1]}


def _read_with(place: Workplace, systems: Sequence[System]) -> dict[str, Reading]:
    """The last readings of some systems, and of all others where a release may ask something of them."""
    ties = any(need.product != p.name for p in place.products.values() for r in p.releases for need in r.requires)
    return last_readings(place, [] if ties or not systems else [system.name for system in systems])[0]


def _barred_alone(place: Workplace, system: System, image: bool, roll: str | None) -> Barred | None:
    """A roll that is open, or a profile that cannot bring its image to another release."""
    from gallant.drivers.shelf import brings_releases

    if roll is not None:
        return barred_by(system.name, not_beside(system, roll))
    try:
        if image and not brings_releases(system.profile, place.folder):
            return barred_by(system.name, not_taught(system.name, ["install"]))
    except GallantError as error:
        return barred_by(system.name, error)
    return None


def open_roll(place: Workplace, system: System) -> Refused | None:
    """What to say of a system of which a roll is not finished: a plan
    would take what that left half-way for how it is meant."""
    rolls = place.journal.open_rolls(system.name)
    return not_beside(system, rolls[0].id) if rolls else None


def not_beside(system: System, roll: str) -> Refused:
    """Why no plan of a system is made while a roll of it is open."""
    return Refused(
        f"{roll} of {system.name} is not finished; no second plan is made beside it.",
        next=(
            f"gallant resume {roll} carries it on; gallant hold {roll} --for-good --reason WHY ends it where it stands"
        ),
    )


def moved_by(place: Workplace, gaps: Gaps) -> dict[str, bool]:
    """The systems of which some gap is work to be planned, and of each whether its image is among that."""
    images = {system.name: system.product for system in place.estate.systems.values()}
    found: dict[str, bool] = {}
    for standing, readings, parts in gaps.standings():
        if standing not in NO_GAP:
            names = list(map(SYSTEM, readings))
            found = dict.fromkeys(names, False) | found
            found |= {name: True for name, part in zip(names, parts, strict=True) if part.product == images[name]}
    return found


def ways_to_plan(place: Workplace, names: Sequence[str], readings: dict[str, Reading] | None = None) -> tuple[str, ...]:
    """The next step towards a plan of some systems: of those that can
    be planned together, and what bars each of the others."""
    every = last_readings(place, [])[0] if readings is None else readings
    own = [reading for reading in every.values() if reading.system in names]
    gaps = find_gaps(place.estate, own, place.products, place.clock.now(), place.bundles)
    moved = moved_by(place, gaps)
    listed = moved.keys() | {n for n in names if place.estate.systems[n].product in place.products}
    barred = barred_here(place, moved | {name: True for name in names if name not in listed}, every)
    free = [name for name in names if name not in barred]
    steps = [f"gallant plan {' '.join(free)}"] if free else []
    return (*steps, *(one.next for name, one in barred.items() if name in names and one.next))
