"""Pictures of systems, kept to be compared with: before and after a roll, and whenever somebody asks for one."""

from __future__ import annotations

import asyncio
import contextlib
import re
import statistics
from collections.abc import Mapping, Sequence
from datetime import datetime, timedelta

import msgspec

from gallant.core.after.picture import Picture, Unlike, first_seen, losses, moved_by, unlike
from gallant.core.after.settling import Series
from gallant.core.documents import suggestion
from gallant.core.errors import GallantError, Refused, WrongUse
from gallant.core.estate.systems import System, node_name
from gallant.core.plan.lanes import dependents
from gallant.core.ports import Driver
from gallant.core.records import Record, clean, replace
from gallant.core.work.events import RollRow
from gallant.core.work.plan import Plan
from gallant.disk import make_folder, put_whole, why_not
from gallant.operations.checks.check import probe_answers
from gallant.operations.ground.survey import Surveyed, survey_with
from gallant.operations.ground.workplace import Workplace
from gallant.store.database import state_folder

NAME = re.compile(r"[a-zA-Z0-9][a-zA-Z0-9._-]{0,59}")
BEFORE, AFTER = "before", "after"
OF_A_ROLL = re.compile(r"roll-\d+\.(?:before|after)")
MOST_KEPT = 200  # pictures, two of each roll


class PictureKept(Record):
    """A picture under a name, by whom; `moved` is what a roll was to change (node,
    component, version), where it is of one; `unlike` what a comparison with it has
    shown so far. `series` are its numbers over a while, where it was sampled."""

    schema: str = "gallant.kept/1"
    name: str
    by: str
    picture: Picture
    moved: tuple[tuple[str, str, str], ...] = ()
    unlike: tuple[Unlike, ...] = ()
    series: tuple[Series, ...] = ()

    @property
    def planned(self) -> dict[tuple[str, str], str]:
        return {(node, component): version for node, component, version in self.moved}


def around(place: Workplace, systems: Sequence[System]) -> list[System]:
    """Some systems, those that use them or stand on them, and those
    that they stand on: whatever work on them may touch."""
    estate, names = place.estate, dict.fromkeys(system.name for system in systems)
    for system in systems:
        names |= dict.fromkeys(dependents(estate, system))
        names |= dict.fromkeys(node.runs_on.partition("/")[0] for node in system.nodes.values() if node.runs_on)
    return [estate.systems[name] for name in names if name in estate.systems]


async def take(
    place: Workplace,
    systems: Sequence[System],
    drivers: Mapping[str, Driver] | None = None,
    seen: Sequence[Surveyed] = (),
) -> Picture:
    """Read some systems and probe their services. A node that does not answer is in
    it with the reason; systems that were `seen` just now are not read again."""
    known = {node.system for node in seen}
    to_read = [system for system in systems if system.name not in known]
    nodes, errors = await _read(place, to_read, drivers or {})
    nodes = [*seen, *nodes]
    served = [s for s in systems if s.in_service]
    probes = await asyncio.gather(*(probe_answers(place, s) for s in served))
    answered = {
        f"{s.name} {name}": some for s, found in zip(served, probes, strict=True) for name, some in found.items()
    }
    return Picture(
        at=place.clock.now(),
        readings={n.reading.name: n.reading for n in nodes if n.reading is not None},
        errors=errors | {node_name(n.system, n.node): clean(n.error or "", 200) for n in nodes if n.reading is None},
        services={name: some[-1].ok for name, some in answered.items()},
        answers={
            name: statistics.median(one.answer_s for one in some)
            for name, some in answered.items()
            if all(one.ok for one in some)
        },
    )


async def _read(
    place: Workplace, systems: Sequence[System], drivers: Mapping[str, Driver]
) -> tuple[Sequence[Surveyed], dict[str, str]]:
    """Some systems read, and why nodes of others could not be: what only stands beside the work does not stop it."""
    every, errors = dict(drivers), dict[str, str]()
    async with contextlib.AsyncExitStack() as stack:
        for system in (s for s in systems if s.name not in drivers):
            try:
                if place.has_to_ask(system, "read"):
                    raise Refused(f"{system.name} was not looked at: its secret would have to be typed.")
                every |= await stack.enter_async_context(place.drivers([system]))
            except GallantError as error:
                errors |= {node_name(system, node): clean(error.what, 200) for node in system.nodes}
        readable = [(s, tuple(s.nodes)) for s in systems if s.name in every]
        nodes = (await survey_with(place, readable, every, closely=True)).nodes if readable else ()
    return nodes, errors


LOOK_AGAIN_S = 10.0  # estate seconds between two looks at what may still come


async def take_settled(
    place: Workplace,
    systems: Sequence[System],
    before: PictureKept | None,
    drivers: Mapping[str, Driver] | None = None,
    seen: Sequence[Surveyed] = (),
) -> Picture:
    """A picture; what is missing in it may still be on its way (a link that is held down, a
    replica that fills), and is looked at again for as long as a condition has to hold before it
    counts; what a profile knows to pass by itself, for as long as that says after the work."""
    picture, began = await take(place, systems, drivers, seen), place.clock.now()
    while before is not None and (lost := losses(before.picture, picture, before.planned)):
        until = max(_until(place, one, before, began) for one in lost)
        if place.clock.now() >= until:
            break
        await place.clock.sleep(LOOK_AGAIN_S)
        picture = await take(place, systems, drivers)
    return picture


def _until(place: Workplace, lost: Unlike, before: PictureKept, began: datetime) -> datetime:
    """How long a loss is waited for before it counts; `began` is when it was first looked at."""
    from gallant.drivers.profile_reading import load_profile

    steady = began + timedelta(seconds=place.estate.limits.steady_s)
    system = place.estate.systems.get(lost.system)
    if system is None:
        return steady
    ended = _ended(place, before) or began
    known = [r.within_s for r in load_profile(system.profile, place.folder).passing if r.knows(lost.after)]
    return max([steady, *(ended + timedelta(seconds=within_s) for within_s in known)])


def _ended(place: Workplace, before: PictureKept) -> datetime | None:
    """When the roll was over that a picture was taken before; None where it is of none."""
    if not OF_A_ROLL.fullmatch(before.name):
        return None
    with contextlib.suppress(GallantError):
        return place.journal.roll(before.name.partition(".")[0]).ended
    return None


def keep(
    place: Workplace, name: str, picture: Picture, plan: Plan | None = None, series: Sequence[Series] = ()
) -> PictureKept:
    """Keep a picture. Raises `WrongUse` for a name that is none."""
    if not NAME.fullmatch(name):
        raise WrongUse(
            f"{clean(name, 60)!r} is no name for a picture.",
            next="Letters, digits, dots and dashes: --keep before-monday",
        )
    moved = () if plan is None else tuple(_moved(place, plan))
    kept = PictureKept(name=name, by=place.user, picture=picture, moved=moved, series=tuple(series))
    _write(place, kept)
    _prune(place)
    return kept


def _prune(place: Workplace) -> None:
    """Only those of the newest rolls stay; what a person named does."""
    of_rolls = [name for name in names(place) if OF_A_ROLL.fullmatch(name)]
    for name in of_rolls[MOST_KEPT:]:
        (state_folder(place.folder) / "kept" / f"{name}.json").unlink(missing_ok=True)


def _write(place: Workplace, kept: PictureKept) -> None:
    folder = state_folder(place.folder) / "kept"
    try:
        make_folder(folder)
        put_whole(folder / f"{kept.name}.json", msgspec.json.encode(kept))
    except OSError as error:
        raise GallantError(f"{folder} cannot be written: {why_not(error, folder)}.") from None


def _moved(place: Workplace, plan: Plan) -> list[tuple[str, str, str]]:
    lanes = ((lane, place.estate.systems.get(lane.system)) for lane in plan.lanes)
    found = [moved_by(lane.hops, system) for lane, system in lanes if system is not None]
    return [(node, component, to) for moved in found for (node, component), to in moved.items()]


def names(place: Workplace) -> list[str]:
    """The pictures that are kept, newest first."""
    folder = state_folder(place.folder) / "kept"
    paths = sorted(folder.glob("*.json"), key=lambda p: p.stat().st_mtime, reverse=True) if folder.is_dir() else []
    return [path.name.removesuffix(".json") for path in paths]


def kept(place: Workplace, name: str) -> PictureKept:
    """A picture by its name, a roll's own being the one before it. Raises
    `WrongUse` where there is none, `Refused` where it cannot be read."""
    known = names(place)
    wanted = next((one for one in (name, f"{name}.{BEFORE}") if one in known), None)
    if wanted is None or not NAME.fullmatch(wanted):
        raise WrongUse(
            f"No picture {clean(name, 60)!r} is kept{suggestion(name, known)}.",
            next="gallant verify --keep NAME keeps one",
        )
    try:
        return msgspec.json.decode(
            (state_folder(place.folder) / "kept" / f"{wanted}.json").read_bytes(), type=PictureKept
        )
    except (OSError, msgspec.MsgspecError, ValueError) as error:
        raise Refused(f"The picture {wanted} cannot be read any more: {clean(str(error), 120)}.") from None


def newest_for(place: Workplace, systems: Sequence[str]) -> PictureKept | None:
    """What was kept before the newest roll of any of some systems; None where there was none, or it is gone."""
    rolls = place.journal.rolls(systems)[0]
    for row in sorted(rolls, key=_began, reverse=True)[:1]:
        with contextlib.suppress(GallantError):
            return kept(place, f"{row.id}.{BEFORE}")
    return None


def _began(row: RollRow) -> datetime:
    return row.began


def compared(place: Workplace, before: PictureKept, after: Picture) -> list[Unlike]:
    """What is not as it was, each with since when; kept with the picture, so that the next comparison knows."""
    found = first_seen(unlike(before.picture, after, before.planned), before.unlike)
    _write(place, replace(before, unlike=tuple(found)))
    return found
