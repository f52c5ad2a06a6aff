"""Survey: contact nodes, keep what they say; a node that fails stops nobody else."""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Sequence
from datetime import datetime

from gallant.core.errors import GallantError, worst_exit
from gallant.core.estate import System, node_name
from gallant.core.ports import WrongMachine
from gallant.core.readings import Reading
from gallant.core.records import Record, replace
from gallant.operations.workplace import Workplace

BATCH = 50
Tick = Callable[[int, int], None]  # nodes done, of all


class Surveyed(Record):
    """One node: its reading, or why there is none. `alike` is the node of the estate as which it answers instead."""

    system: str
    node: str
    reading: Reading | None
    error: str | None = None
    next: str | None = None
    alike: str | None = None
    last: datetime | None = None
    exit_code: int = 0
    took_s: float = 0


class Survey(Record):
    """A whole survey; failures first, then in the order of the estate."""

    began: datetime
    nodes: tuple[Surveyed, ...]

    @property
    def exit_code(self) -> int:
        return worst_exit([n.exit_code for n in self.nodes])

    def readings(self) -> dict[str, Reading]:
        return {node_name(n.system, n.node): n.reading for n in self.nodes if n.reading is not None}


async def survey(place: Workplace, terms: Sequence[str], tick: Tick | None = None) -> Survey:
    """Read every selected node, no more at once than the estate's limit; all of it goes into the store in short batches."""
    chosen = place.select(terms)
    async with place.drivers([system for system, _ in chosen]) as drivers:
        return await survey_with(place, chosen, drivers, tick)


async def survey_with(
    place: Workplace, chosen: Sequence[tuple[System, tuple[str, ...]]], drivers: object, tick: Tick | None = None
) -> Survey:
    began = place.clock.now()
    wanted = [(system, node) for system, nodes in chosen for node in nodes]
    gate = asyncio.Semaphore(place.estate.limits.at_once)
    number = place.readings.begin_survey(began)
    found: list[Surveyed] = []
    waiting: list[Surveyed] = []

    def keep() -> None:
        place.readings.add(
            number,
            (
                (s.system, s.node, s.reading.taken if s.reading else place.clock.now(), s.reading, s.error)
                for s in waiting
            ),
        )
        waiting.clear()

    async def one(system: System, node: str) -> None:
        async with gate:
            seen = await _read(place, system, node, drivers[system.name])  # type: ignore[index]
        found.append(seen)
        waiting.append(seen)
        if len(waiting) >= BATCH:
            keep()
        if tick is not None:
            tick(len(found), len(wanted))

    try:
        await asyncio.gather(*(one(system, node) for system, node in wanted))
    finally:
        keep()
    place.readings.end_survey(number, place.clock.now())
    last = place.readings.newest()
    order = {node_name(s, n): i for i, (s, n) in enumerate(wanted)}
    found.sort(key=lambda s: (s.error is None, order[node_name(s.system, s.node)]))
    return Survey(began=began, nodes=tuple(_with_last(s, last) for s in found))


def _with_last(seen: Surveyed, last: dict[str, object]) -> Surveyed:
    known = last.get(node_name(seen.system, seen.node))
    reading = getattr(known, "reading", None)
    return replace(seen, last=reading.taken if reading is not None else None)


async def _read(place: Workplace, system: System, node: str, driver: object) -> Surveyed:
    real = place.clock.real()
    try:
        reading = await driver.read(node)  # type: ignore[attr-defined]
    except WrongMachine as error:
        alike = _who_is(place, error)
        what = (
            f"{error.what.split(' answers as ')[0]} answers as {alike}: two addresses lead to one machine."
            if alike
            else error.what
        )
        return Surveyed(
            system=system.name,
            node=node,
            reading=None,
            error=what,
            next=error.next,
            alike=alike,
            exit_code=5,
            took_s=place.clock.real() - real,
        )
    except GallantError as error:
        what = error.what if error.why is None else f"{error.what} {error.why}"
        return Surveyed(
            system=system.name,
            node=node,
            reading=None,
            error=what,
            next=error.next,
            exit_code=3 if error.exit_code == 4 else error.exit_code,
            took_s=place.clock.real() - real,
        )
    return Surveyed(system=system.name, node=node, reading=reading, took_s=place.clock.real() - real)


def _who_is(place: Workplace, error: WrongMachine) -> str | None:
    """The node of the estate whose serial was given instead, if any."""
    return next(
        (
            node_name(s, n)
            for s in place.estate.systems.values()
            for n, node in s.nodes.items()
            if node.serial == error.serial
        ),
        None,
    )
