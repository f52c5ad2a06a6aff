"""Sampling what systems say of themselves for a while, and holding it against the time before the work."""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import Callable, Iterator, Mapping, Sequence
from datetime import datetime
from typing import TypeAlias

from gallant.core.after.picture import ANSWER
from gallant.core.after.settling import AT_REST, RUNNING_OUT, Judged, Point, Series, joined, judge_all, judge_twice
from gallant.core.errors import WrongUse
from gallant.core.estate.systems import System
from gallant.core.ports import Driver
from gallant.core.records import Record
from gallant.operations.checks.check import probe_services
from gallant.operations.checks.keeping import PictureKept
from gallant.operations.ground.survey import survey_with
from gallant.operations.ground.workplace import Workplace

SAMPLES, FEWEST = 30, 8  # of one stretch; where each takes long it goes on until there are the fewest
EVERY_S = (5.0, 120.0)  # of estate time, between two: no oftener, no more seldom
LEAST_S, MOST_S = 60.0, 24 * 3600.0
Tick: TypeAlias = Callable[[int, int], None]
Key: TypeAlias = tuple[str, str, str, str]  # system, node, what it is about, its unit


class Settling(Record):
    """What numbers have become after the work, the worst first, with
    what was sampled and what is known of the time before."""

    began: datetime
    ended: datetime
    judged: tuple[Judged, ...]
    before: tuple[Series, ...]
    after: tuple[Series, ...]

    @property
    def settled(self) -> bool:
        """Whether every value has come to rest."""
        return all(one.state in AT_REST for one in self.judged)


async def sample(
    place: Workplace,
    systems: Sequence[System],
    drivers: Mapping[str, Driver],
    lasts_s: float,
    tick: Tick = lambda done, of: None,
) -> list[Series]:
    """Read some systems and probe their services again and again. Raises
    `WrongUse` for a time that is too short or too long to tell anything."""
    if not LEAST_S <= lasts_s <= MOST_S:
        raise WrongUse("To tell whether it is settled takes one minute to one day.", next="--settle 30m")
    every = min(max(lasts_s / SAMPLES, EVERY_S[0]), EVERY_S[1])
    began, points, taken = place.clock.now(), dict[Key, list[Point]](), 0
    while True:
        taken += 1
        at = place.clock.now()
        gone = (at - began).total_seconds()
        tick(min(int(gone), int(lasts_s)), int(lasts_s))
        for key, value in await _one(place, systems, drivers):
            points.setdefault(key, []).append((at.timestamp(), value))
        left = lasts_s - (place.clock.now() - began).total_seconds()
        if left <= 0 and taken >= FEWEST:
            return _series(points)
        await place.clock.sleep(min(every, left) if left > 0 else EVERY_S[0])


async def _one(place: Workplace, systems: Sequence[System], drivers: Mapping[str, Driver]) -> list[tuple[Key, float]]:
    seen = await survey_with(place, [(s, tuple(s.nodes)) for s in systems], drivers)
    probes = await asyncio.gather(*(probe_services(place, s) for s in systems if s.in_service))
    found = [((r.system, r.node, g.name, g.unit), g.value) for r in seen.readings().values() for g in r.gauges]
    for system, samples in zip((s for s in systems if s.in_service), probes, strict=True):
        found += [((system.name, "", f"{ANSWER} {name}", "s"), one.answer_s) for name, one in samples.items() if one.ok]
    return found


def before_the_work(
    place: Workplace, systems: Sequence[System], kept: PictureKept | None, began: datetime
) -> list[Series]:
    """The numbers of the days before a picture was taken (None: before
    `began`), with those of the picture, and what was sampled for it."""
    until, points = kept.picture.at if kept is not None else began, dict[Key, list[Point]]()
    for system in systems:
        for node, at, gauges in place.readings.gauged(system.name, until):
            for g in gauges:
                points.setdefault((system.name, node, g.name, g.unit), []).append((at.timestamp(), g.value))
    for key, point in _of_picture(kept) if kept is not None else ():
        own = points.setdefault(key, [])
        if all(at != point[0] for at, _ in own):
            own.append(point)
    for one in kept.series if kept is not None else ():
        own = points.setdefault((one.system, one.node, one.about, one.unit), [])
        known = {at for at, _ in own}
        own += [point for point in one.points if point[0] not in known]
    names = {s.name for s in systems}
    return [one for one in _series(points) if one.system in names]


def _of_picture(kept: PictureKept) -> Iterator[tuple[Key, Point]]:
    at = kept.picture.at.timestamp()
    for r in kept.picture.readings.values():
        for g in r.gauges:
            yield (r.system, r.node, g.name, g.unit), (r.taken.timestamp(), g.value)
    for name, seconds in kept.picture.answers.items():
        system, _, service = name.partition(" ")
        yield (system, "", f"{ANSWER} {service}", "s"), (at, seconds)


def _series(points: Mapping[Key, Sequence[Point]]) -> list[Series]:
    return [
        Series(system=system, node=node, about=about, unit=unit, points=tuple(sorted(own)))
        for (system, node, about, unit), own in points.items()
    ]


async def settling(
    place: Workplace,
    systems: Sequence[System],
    lasts_s: float,
    kept: PictureKept | None,
    tick: Tick = lambda done, of: None,
) -> Settling:
    """Sample for a while, and judge by the time before. Where something seems to run out, for as long again."""
    began = place.clock.now()
    before = before_the_work(place, systems, kept, began)
    async with contextlib.AsyncExitStack() as stack:
        drivers = await stack.enter_async_context(place.drivers(systems))
        after = await sample(place, systems, drivers, lasts_s, tick)
        judged = judge_all(before, after)
        if any(one.state == RUNNING_OUT for one in judged):
            second = await sample(place, systems, drivers, lasts_s, tick)
            judged, after = judge_twice(before, after, second), joined(after, second)
    return Settling(
        began=began, ended=place.clock.now(), judged=tuple(judged), before=tuple(before), after=tuple(after)
    )
