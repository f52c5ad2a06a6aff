"""Simulated nights by the hundred keep every promise; and a
deliberately broken engine is caught, once for each promise."""

from __future__ import annotations

import asyncio
import itertools
from collections.abc import Callable, Iterator

import pytest

import gallant.engine.means
import gallant.engine.overseer
import gallant.engine.roll
from gallant.core.ports import LeaseLost
from gallant.core.work import events as e
from gallant.core.work.events import Event
from gallant.engine.attempt import Attempts
from gallant.engine.guards import GUARDS
from gallant.engine.roll import Roll

from . import night as nights
from .dice import Case, carried_out, drawn, judged, shrunk

RUNS, PACK = 20, 10  # many more by make simulate, which also replays some under another hash seed


@pytest.mark.parametrize("first", range(1, RUNS + 1, PACK))
def test_no_night_breaks_a_promise(first):
    for seed in range(first, first + PACK):
        outcome = judged(drawn(seed))
        assert outcome.broken == [], f"make simulate SEED={seed} RUNS=1: {outcome.broken[:3]}"


def test_a_night_is_the_same_byte_for_byte_when_it_is_drawn_again():
    for seed in range(7000, 7005):
        assert carried_out(drawn(seed)).journal == carried_out(drawn(seed)).journal != b""


def test_the_nights_are_not_all_of_one_kind():
    cases = [drawn(seed) for seed in range(1, 501)]
    assert {case.family for case in cases} == {"pairs", "cluster", "stacked", "led"}
    assert {case.shape for case in cases} == {"pair", "single", "fabric", "quorum", "pool"}
    assert {case.route for case in cases} == {0, 1, 2, 3}
    assert sum(len(case.faults) == 2 for case in cases) > 50
    assert sum(len(case.kills) > 1 for case in cases) > 100
    assert all(any(getattr(case, name) is not None for case in cases) for name in ("recall", "lost_after", "full_after", "hold_after", "defect_after"))  # fmt: skip


# --- the checker is proven by engines that break a promise each


def passes(name: str) -> Callable[[pytest.MonkeyPatch], None]:
    return lambda patch: patch.setitem(GUARDS, name, lambda scene, same: None)  # type: ignore[arg-type]


def several(*patches: Callable[[pytest.MonkeyPatch], None]) -> Callable[[pytest.MonkeyPatch], None]:
    def all_of_them(patch: pytest.MonkeyPatch) -> None:
        for one in patches:
            one(patch)

    return all_of_them


def replaced(where: object, name: str, by: object) -> Callable[[pytest.MonkeyPatch], None]:
    return lambda patch: patch.setattr(where, name, by)


NO_GUARD = several(*(passes(name) for name in GUARDS))


async def every_wave_at_once(self, lane, hop):
    waves = self.log.state.waves.get(hop.id) or await self._derive(lane, hop)
    await asyncio.gather(*(self._wave(lane.system, wave) for wave in waves))
    return True


async def does_nothing(self, *given):
    return None


async def says_done(self, step, system):
    await self.log.outcome(step, e.DONE, "steady")


async def says_backed_up(self, step, system):
    await self.log.outcome(step, e.DONE, "sealed")


async def does_it_again(self, step, known):
    await self.log.outcome(step, e.NOT_STARTED, "again")
    return False


async def believes_it_done(self, step, known):
    await self.log.outcome(step, e.DONE, "surely")
    return True


async def nothing_lost(self, lane, system, now):
    return ""


async def appends_whatever(self, entry, system=None):
    event = Event(seq=len(self.night.events) + 1, entry=entry)
    self.night.events.append(event)
    return event


class Broken:
    """An engine that breaks a promise: what is changed in it, and in which cases that can be seen."""

    def __init__(
        self,
        change: Callable[[pytest.MonkeyPatch], None],
        cases: Callable[[Case], bool],
        promises: tuple[str, ...] = (),
    ) -> None:
        self.change, self.cases, self.promises = change, cases, promises


def many(case: Case) -> bool:
    return case.nodes > 2 and case.shape in ("quorum", "fabric") and not case.aside


BROKEN = {
    "I1": Broken(several(NO_GUARD, replaced(Roll, "_hop", every_wave_at_once)), many),
    "I2": Broken(several(NO_GUARD, replaced(Attempts, "_steady", says_done), replaced(Attempts, "settle", does_nothing)), many),
    "I3": Broken(several(passes("backup_sealed"), replaced(Attempts, "_backup", says_backed_up)), lambda c: c.exports),
    "I4": Broken(several(passes("not_recalled"), passes("package_verified")), lambda c: c.recall is not None or any(f.name == "corrupt_package" for f in c.faults)),
    "I5": Broken(several(NO_GUARD, replaced(Attempts, "_reconcile", does_it_again)), lambda c: any(f.name in ("answer_lost", "lands_late", "acts_late") for f in c.faults) or bool(c.kills)),
    "I6": Broken(replaced(Attempts, "_reconcile", believes_it_done), lambda c: len(c.kills) > 0 and not c.mishaps.timed, ("I6", "I10", "I3", "I5", "I2", "I1")),
    "I7": Broken(replaced(Roll, "_needs", does_nothing), lambda c: c.requires and c.others > 0),
    "I8": Broken(replaced(Roll, "_in_window", lambda *given: None), lambda c: c.window is not None),
    "I9": Broken(replaced(Roll, "_needs", does_nothing), lambda c: c.requires and c.others > 0),
    "I10": Broken(replaced(Roll, "_lost_since", nothing_lost), lambda c: c.loses_facet),
    "I11": Broken(replaced(gallant.engine.roll, "need_consents", lambda *given: None), lambda c: not c.consents and "layout" in c.extras),
    "I12": Broken(several(*(replaced(place, "in_words", str) for place in (gallant.engine.means, gallant.engine.roll, gallant.engine.overseer) if hasattr(place, "in_words"))), lambda c: c.defect_after is not None),
    "I13": Broken(several(replaced(nights.SimJournal, "append", appends_whatever), replaced(Roll, "_keep_leases", does_nothing)), lambda c: c.lost_after is not None),
}  # fmt: skip
TRIED = 40  # nights of the right kind in which a broken engine has to be seen


def of_a_kind(wanted: Callable[[Case], bool]) -> Iterator[Case]:
    return itertools.islice((case for seed in range(1, 20_000) if wanted(case := drawn(seed))), TRIED)


@pytest.mark.parametrize("promise", BROKEN)
def test_an_engine_that_breaks_a_promise_is_caught(promise, monkeypatch):
    broken = BROKEN[promise]
    assert judged(next(of_a_kind(broken.cases))).broken == []
    broken.change(monkeypatch)
    for case in of_a_kind(broken.cases):
        try:
            found = judged(case).broken
        except (BaseExceptionGroup, LeaseLost, AssertionError, AttributeError, KeyError):
            continue  # so broken that it falls over: that would be seen too
        if any(one.partition(":")[0] in (broken.promises or (promise,)) for one in found):
            return
    pytest.fail(f"nobody saw that {promise} is broken")


def test_a_failing_case_is_shrunk_to_what_matters(monkeypatch):
    BROKEN["I3"].change(monkeypatch)
    case = next(c for s in range(1, 2000) if (c := drawn(s)).exports and c.kills and c.faults and judged(c).broken)
    small = shrunk(case)
    assert judged(small).broken
    assert (small.faults, small.kills, small.lag_s) == ((), (), 0.0)


def test_a_night_left_alone_ends_well_whatever_is_drawn_of_its_estate():
    import dataclasses

    ends = set()
    for seed in range(2000, 2030):
        case = dataclasses.replace(drawn(seed), faults=(), kills=(), recall=None, lost_after=None, full_after=None, hold_after=None, defect_after=None, consents=True)  # fmt: skip
        ends.add(carried_out(case).end)
    assert ends <= {"finished", "not planned", "refused", "stopped"}
    assert "finished" in ends
