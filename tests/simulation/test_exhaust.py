"""All of the small worlds, a part of it each time: which, the date says."""

from __future__ import annotations

from datetime import UTC, datetime

import pytest

from .exhaust import KILLED, TWO, WORLDS, carried_through, faults_of, units

PIECES = 10
TODAY = datetime.now(UTC).toordinal() % PIECES  # another tenth each day


@pytest.mark.long
@pytest.mark.parametrize("number", range(TODAY, len(units()), PIECES))
def test_a_tenth_of_all_small_nights_keeps_every_promise(number):
    unit = units()[number]
    assert carried_through(unit).broken == [], unit


@pytest.mark.parametrize("world", WORLDS)
def test_every_order_of_a_small_world_meets_every_fault_that_may_hit_it(world):
    met = {(fault.node, fault.act) for fault in faults_of(world)}
    nodes = {f"tickets/{'abc'[n]}" for n in range(WORLDS[world].nodes)}
    assert {(node, act) for node in nodes for act in ("install", "restart", "upload")} <= met
    assert len(met) == len({(f.node, f.act) for f in faults_of(world) if f.name == "answer_lost"})


def test_units_have_every_fault_with_a_kill_after_every_entry_and_every_two_faults():
    one = next(u for u in units() if u.what == KILLED and faults_of(u.world)[u.fault].name == "late_return")
    found = carried_through(one)
    assert (found.broken, found.ends.total()) == ([], found.nights)
    assert found.nights > 25  # alone, and killed after each entry of its journal
    pairs = [
        (u.world, u.fault, n) for u in units() if u.what == TWO for n in range(u.fault + 1, len(faults_of(u.world)))
    ]
    assert len(pairs) == sum(len(faults_of(w)) * (len(faults_of(w)) - 1) // 2 for w in WORLDS)


def test_a_unit_with_an_engine_that_forgets_is_not_well(monkeypatch):
    """The judge is asked in each of its nights, and the end of a killed one is held against that of one left alone."""
    from gallant.core.work import events as e
    from gallant.engine.attempt import Attempts

    async def believes_it_done(self, step, known):
        await self.log.outcome(step, e.DONE, "surely")
        return True

    monkeypatch.setattr(Attempts, "_reconcile", believes_it_done)
    unit = next(u for u in units() if u.what == KILLED and faults_of(u.world)[u.fault].name == "late_return")
    assert carried_through(unit).broken
