"""Survey: contact nodes, keep what they say; a node that fails stops no other."""

from __future__ import annotations

import asyncio
import random
from collections.abc import Callable, Iterator, Mapping, Sequence
from datetime import datetime, timedelta

from gallant.core.errors import GallantError, worst_exit
from gallant.core.estate.systems import System, node_name
from gallant.core.ports import AnswerLost, Driver, NotReached, WrongMachine
from gallant.core.readings import Last, Reading
from gallant.core.records import Record, replace
from gallant.operations.ground.pace import SurveyGates
from gallant.operations.ground.workplace import Workplace

BATCH = 50
RETRY_AFTER_S = 0.3
Chosen = tuple[System, tuple[str, ...]]
Learn = Callable[[str, str, str], bool]  # node, kind of key, fingerprint → whether a person trusts it
Hands = Callable[[str], str | None]
Tick = Callable[[int, int], None]  # nodes done, of all


class Surveyed(Record):
    """One node: its reading, or why there is none; `cause` is that in a few words that
    other nodes may share. `alike` is the node of the estate as which it answers instead;
    `passing` says that it may be reached yet, `late` that it did not answer in time."""

    system: str
    node: str
    reading: Reading | None
    error: str | None = None
    cause: str = ""
    site: str = ""
    next: str | None = None
    alike: str | None = None
    last: datetime | None = None
    exit_code: int = 0
    took_s: float = 0
    passing: bool = False
    late: bool = False


class Survey(Record):
    """A whole survey; failures first, then in the order of the estate.
    `sighted` are nodes that are known by their first sight alone."""

    began: datetime
    nodes: tuple[Surveyed, ...]
    sighted: tuple[str, ...] = ()

    @property
    def exit_code(self) -> int:
        """3 where some nodes were not reached, as the worst of them says."""
        return worst_exit([n.exit_code for n in self.nodes])

    def readings(self) -> dict[str, Reading]:
        """By node name: the readings of those that answered."""
        return {node_name(n.system, n.node): n.reading for n in self.nodes if n.reading is not None}


async def survey(
    place: Workplace,
    terms: Sequence[str],
    tick: Tick | None = None,
    *,
    older_than: timedelta | None = None,
    failed: bool = False,
    learn: Learn | None = None,
    hands: Hands | None = None,
) -> Survey:
    """Read every selected node, no more at once than the limits; all of it goes into the store in short batches.

    `older_than` and `failed` narrow the selection to nodes that were not read for so long, or whose last try failed.
    """
    chosen = place.select(terms)
    if older_than is not None or failed:
        chosen = _due(place, chosen, older_than, failed)
    async with place.drivers([system for system, _ in chosen], remembering=True, learn=learn, hands=hands) as drivers:
        patient = learn is not None or any(system.driver == "manual" for system, _ in chosen)
        found = await survey_with(place, chosen, drivers, tick, patient)
    return _confirmed(place, found, learn) if learn is not None else found


def _confirmed(place: Workplace, found: Survey, learn: Learn) -> Survey:
    """The same, once somebody was asked of each node whose serial was taken at first sight."""
    serials = {n: r.serial for n, r in found.readings().items()}
    said = [name for name in found.sighted if learn(name, "serial", serials[name])]
    for name in said:
        place.confirm(name)
    place.hold_to_pins()
    return replace(found, sighted=tuple(name for name in found.sighted if name not in said))


def _due(place: Workplace, chosen: Sequence[Chosen], older_than: timedelta | None, failed: bool) -> list[Chosen]:
    last, now = place.readings.newest(), place.clock.now()

    def is_due(name: str) -> bool:
        known = last.get(name)
        if known is None or known.reading is None:
            return True
        old = older_than is not None and now - known.reading.taken > older_than
        return old or (failed and known.error is not None)

    narrowed = [(s, tuple(n for n in nodes if is_due(node_name(s, n)))) for s, nodes in chosen]
    return [(system, nodes) for system, nodes in narrowed if nodes]


async def survey_with(
    place: Workplace,
    chosen: Sequence[Chosen],
    drivers: Mapping[str, Driver],
    tick: Tick | None = None,
    patient: bool = False,
    closely: bool = False,
) -> Survey:
    """The survey itself; a `patient` one waits for people, and gives
    no node a deadline; `closely`: to compare it with another."""
    began, limits = place.clock.now(), place.estate.limits
    wanted = [(system, node) for system, nodes in chosen for node in nodes]
    pace = SurveyGates(limits.at_once, limits.at_once_per_site, limits.at_once_per_system)
    kept = _Batches(place, place.readings.begin_survey(began))
    queue = iter(wanted)

    async def worker() -> None:
        for system, node in queue:
            async with pace.turn(system.site, system.name):
                seen = await _in_time(place, system, node, drivers[system.name], pace, patient, closely)
            kept.take(seen)
            if tick is not None:
                tick(len(kept.found), len(wanted))

    try:
        # A worker for each place at the gate, and some that wait at a
        # system's: not a task for each of ten thousand nodes.
        async with asyncio.TaskGroup() as group:
            for _ in range(min(len(wanted), limits.at_once * 2)):
                group.create_task(worker())
    except BaseExceptionGroup as several:
        raise several.exceptions[0] from None
    finally:
        kept.flush()
    place.readings.end_survey(kept.number, place.clock.now())
    place.readings.prune(place.clock.now() - timedelta(days=limits.keep_days))
    order = {node_name(s, n): i for i, (s, n) in enumerate(wanted)}
    found = sorted(kept.found, key=lambda s: (s.error is None, order[node_name(s.system, s.node)]))
    last = place.readings.newest() if any(s.reading is None for s in found) else {}
    return Survey(began=began, nodes=tuple(_with_last(s, last) for s in found), sighted=tuple(_sighted(place, found)))


def _sighted(place: Workplace, found: Sequence[Surveyed]) -> Iterator[str]:
    """The nodes that were read, and that nothing but their first sight says who they are."""
    place.hold_to_pins()
    for seen in found:
        if seen.reading is not None and place.estate.systems[seen.system].nodes[seen.node].held_by == "sight":
            yield node_name(seen.system, seen.node)


class _Batches:
    """What a survey has found so far, written to the store in short batches."""

    def __init__(self, place: Workplace, number: int) -> None:
        self.number, self.found, self._place = number, list[Surveyed](), place
        self._waiting: list[Surveyed] = []

    def take(self, seen: Surveyed) -> None:
        self.found.append(seen)
        self._waiting.append(seen)
        if len(self._waiting) >= BATCH:
            self.flush()

    def flush(self) -> None:
        now = self._place.clock.now()
        rows = ((s.system, s.node, s.reading.taken if s.reading else now, s.reading, s.error) for s in self._waiting)
        self._place.readings.add(self.number, rows)
        self._waiting.clear()


async def _in_time(
    place: Workplace, system: System, node: str, driver: Driver, pace: SurveyGates, patient: bool, closely: bool
) -> Surveyed:
    """A node read within its time; one that was not reached is tried again, after a while that differs for each."""
    limits, real = place.estate.limits, place.clock.real()
    until = real + limits.node_deadline_s
    attempt = 0
    while True:
        try:
            async with asyncio.timeout(None if patient else until - place.clock.real()):
                seen = await _read(place, system, node, driver, closely)
                await driver.done(node)
        except TimeoutError:
            pace.late()
            return Surveyed(
                system=system.name,
                node=node,
                reading=None,
                error=f"{node_name(system, node)} was not read within {limits.node_deadline_s:g} s.",
                cause="not read in time",
                site=system.site,
                next=f"gallant survey {node_name(system, node)}",
                exit_code=3,
                took_s=place.clock.real() - real,
            )
        if seen.reading is not None:
            pace.answered()
            return replace(seen, took_s=place.clock.real() - real)
        attempt += 1
        pause = RETRY_AFTER_S * attempt * (1 + random.random())  # not all at once again
        if not seen.passing or attempt > limits.retries or place.clock.real() + pause >= until:
            return replace(seen, took_s=place.clock.real() - real)
        if seen.late:
            pace.late()
        await place.clock.pause(pause)


def _with_last(seen: Surveyed, last: Mapping[str, Last]) -> Surveyed:
    known = last.get(node_name(seen.system, seen.node))
    reading = known.reading if known is not None else None
    return replace(seen, last=reading.taken if reading is not None else None)


async def _read(place: Workplace, system: System, node: str, driver: Driver, closely: bool) -> Surveyed:
    real, name = place.clock.real(), node_name(system, node)
    blank = Surveyed(system=system.name, node=node, reading=None, site=system.site)
    try:
        seen = replace(blank, reading=await driver.read(node, closely))
    except WrongMachine as error:
        alike = _who_is(place, error)
        what = f"{name} answers as {alike}: two addresses lead to one machine." if alike else error.what
        seen = replace(blank, error=what, cause=error.cause, next=error.next, alike=alike, exit_code=5)
    except GallantError as error:
        seen = replace(
            blank,
            error=error.what if error.why is None else f"{error.what} {error.why}",
            cause=error.cause,
            next=error.next,
            exit_code=3 if error.exit_code == 4 else error.exit_code,
            passing=isinstance(error, (NotReached, AnswerLost)),
            late=isinstance(error, (NotReached, AnswerLost)) and error.late,
        )
    except Exception as error:  # one node's answer that nobody foresaw takes no other node's away
        seen = replace(
            blank,
            error=f"{name} could not be understood: {type(error).__name__} in its driver.",
            next="Please report it: gallant survey --profile FILE --address ADDRESS --show-calls shows what it says.",
            exit_code=3,
        )
    return replace(seen, took_s=place.clock.real() - real)


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
