"""Deadlines of a whole plan: a night in which nothing is wrong is not stopped by them, whatever number of steps it
has."""

from __future__ import annotations

import numpy as np
import pytest

from gallant.core.length.patience import with_patience
from gallant.core.length.rehearsing import MOST_RUNS, lasting
from gallant.core.work.paces import OVERHEAD_S, Observation

from ..simulation.night import Night


def seen(times: int, seed: int = 3) -> tuple[Observation, ...]:
    """Installs and restarts that took about what was announced, each time."""
    random = np.random.default_rng(seed)
    return tuple(
        Observation(
            product="ostrel/shoal",
            hop="2.8.5 > 2.11.3",
            kind=kind,
            component="image",
            system=f"s{n % 4}",
            announced_s=480.0,
            took_s=float((480.0 + OVERHEAD_S) * np.exp(0.2 * random.standard_normal()) - OVERHEAD_S),
        )
        for n in range(times)
        for kind in ("install", "restart", "steady", "handover")
    )


def late(plan, observations, seed: int) -> float:
    """The part of the nights that could be in which some step is not done by its deadline."""
    lasts = lasting(plan, observations, MOST_RUNS, seed)
    return float(np.mean(np.any([lasts[s.id] > s.deadline_s for s in plan.steps()], axis=0)))


@pytest.mark.parametrize("times", [0, 12])
@pytest.mark.parametrize("others", [0, 8])
def test_all_deadlines_together_stop_fewer_than_one_sound_night_of_a_hundred(times, others):
    pairs = {f"spit-{n}": {"a": "2.8.5", "b": "2.8.5"} for n in range(others)}
    alone, observations = Night(others=pairs).plan(), seen(times)
    plan = with_patience(alone, observations)
    nights = [late(plan, observations, seed) for seed in (11, 12, 13)]
    assert np.mean(nights) < 0.01, nights
    if others:
        assert late(alone, observations, 11) > 0.05  # what each step by itself would come to


def test_a_plan_is_given_no_less_time_than_its_steps_have_alone_and_no_more_than_it_needs():
    plan = with_patience(Night().plan(), ())
    assert plan.is_whole
    factors = {hop.patience for lane in plan.lanes for hop in lane.hops}
    assert len(factors) == 1
    assert min(factors) >= 1.0
    shorter = [step.deadline_s * 0.7 for step in plan.steps()]
    lasts = lasting(plan, (), MOST_RUNS, 11)
    over = np.mean(np.any([lasts[s.id] > d for s, d in zip(plan.steps(), shorter, strict=True)], axis=0))
    assert over > 0.005 or min(factors) == 1.0


def test_the_steps_that_a_roll_makes_anew_have_the_same_deadlines():
    night = Night(others={f"spit-{n}": {"a": "2.8.5", "b": "2.8.5"} for n in range(8)})
    plan = with_patience(night.plan(), ())
    assert next(hop.patience for lane in plan.lanes for hop in lane.hops) > 1.0
    assert night.run(plan).state == "finished"
    derived = [s for x in night.events if x.entry.waves for w in x.entry.waves for t in w.tracks for s in t.steps]
    planned = {step.id: step.deadline_s for step in plan.steps()}
    assert derived
    assert {s.id: pytest.approx(s.deadline_s) for s in derived} == {s.id: planned[s.id] for s in derived}
