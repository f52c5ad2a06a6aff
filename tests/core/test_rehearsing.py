"""A rehearsal keeps the rules of a roll, adds up, and says before what nights of the same world come to."""

from __future__ import annotations

import math
import random
from datetime import timedelta

import msgspec
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from gallant.core.estate.windows import Span
from gallant.core.work.plan import Plan, Round, steps_of
from gallant.core.work.rehearsing import MOST_RUNS, Rehearsal, Tried, rehearse
from gallant.engine.journal import replay
from gallant.operations.durations import _of_roll

from ..simulation.night import BEGAN, Night
from ..simulation.test_rounds import many

SURE = {
    kind: Tried(kind=kind, times=10**9, failed=0) for kind in ("install", "restart", "handover", "failback", "preload")
}


def of(night: Night, plan: Plan | None = None, runs: int = 300, seed: int = 1, **more) -> Rehearsal:
    said = {
        "observations": (),
        "tried": SURE,
        "windows": {},
        "begins": BEGAN,
        "runs": runs,
        "draw": random.Random(seed).random,
        **more,
    }
    return rehearse(plan or night.plan(), night.estate, **said)


def test_every_night_of_a_plan_that_nothing_stops_finishes():
    found = of(Night())
    assert (found.finished, found.stopped, found.held, found.in_window) == (1.0, 0.0, 0.0, 1.0)
    assert found.p50_s < found.p90_s
    assert found.until is None
    assert len(found.ends_s) == 300


def test_half_and_nine_of_ten_are_those_of_the_plan_where_nothing_stops_it():
    from gallant.core.work.spread import spread_of

    plan = Night().plan()
    whole, found = spread_of(plan, ()).whole, of(Night(), plan, MOST_RUNS)
    assert found.p50_s == pytest.approx(whole.p50_s, rel=0.02)
    assert found.p90_s == pytest.approx(whole.p90_s, rel=0.02)


def test_what_fails_here_stops_it_and_is_named():
    tried = {**SURE, "restart": Tried(kind="restart", times=200, failed=100)}
    found = of(Night(), tried=tried)
    assert found.stopped > 0.5
    assert found.finished + found.stopped + found.held == pytest.approx(1.0)
    assert {one.kind for one in found.stops} == {"restart"}
    assert sum(one.share for one in found.stops) == pytest.approx(found.stopped, abs=0.01)


def test_of_what_was_never_seen_little_is_believed_to_fail():
    altering = sum(s.kind in ("install", "restart", "handover", "failback") for s in Night().plan().steps())
    assert of(Night(), tried={}, runs=MOST_RUNS).stopped == pytest.approx(1 - (1 - 0.5 / 200) ** altering, abs=0.02)


def test_a_window_that_is_too_short_holds_it_where_it_would_not_be_at_rest_again():
    def window(minutes: float) -> dict[str, list[Span]]:
        return {"tickets": [Span(begin=BEGAN, end=BEGAN + timedelta(minutes=minutes))]}

    wide, narrow, shut = (of(Night(), windows=window(m)) for m in (600, 60, 1))
    assert (wide.in_window, wide.held) == (1.0, 0.0)
    assert (shut.finished, shut.held) == (0.0, 1.0)
    assert 0 < narrow.held <= 1
    assert {one.kind for one in narrow.holds} <= {"restart", "handover", "failback", "install"}
    late = of(Night(), windows=window(600), begins=BEGAN + timedelta(days=1))
    assert late.held == 1.0


def test_lanes_that_may_not_go_on_together_take_longer():
    night, alone = many(), many(limits=", lanes_at_once: 1")
    together, one_by_one = of(night), of(alone)
    assert one_by_one.p50_s > 2.5 * together.p50_s


def test_a_round_that_does_not_finish_holds_the_next():
    night = many("[{name: first, of: [reef], soak_minutes: 30}, {name: rest, of: ['*']}]")
    tried = {**SURE, "restart": Tried(kind="restart", times=10, failed=10**6)}
    plan = night.plan()
    assert of(night, plan, tried=tried).stopped == 1.0
    assert {one.system for one in of(night, plan, tried=tried).stops} == {"reef"}
    soaked = of(night, plan)
    dry = of(
        night, msgspec.structs.replace(plan, rounds=tuple(Round(name=r.name, systems=r.systems) for r in plan.rounds))
    )
    assert soaked.p50_s - dry.p50_s == pytest.approx(1800, abs=60)


@settings(max_examples=10, deadline=None)
@given(st.integers(1, 60), st.integers(0, 10**6))
def test_the_same_seed_draws_the_same_and_parts_add_up(runs, seed):
    night = Night()
    plan = night.plan()
    tried = {"restart": Tried(kind="restart", times=50, failed=5)}
    one, other = (of(night, plan, runs, tried=tried, seed=seed) for _ in range(2))
    assert one == other
    assert one.finished + one.stopped + one.held == pytest.approx(1.0)
    assert len(one.ends_s) + len(one.stopped_s) + len(one.held_s) == runs


@pytest.mark.parametrize("runs", [0, MOST_RUNS + 1])
def test_a_number_of_nights_that_is_none_is_refused(runs):
    with pytest.raises(ValueError, match="runs"):
        of(Night(), runs=runs)


@pytest.mark.long
def test_nine_of_ten_nights_of_the_same_world_end_within_a_twentieth_of_what_was_rehearsed():
    """A world whose devices are quicker or slower each night: some of it is learned, and fresh nights are held against the rehearsal."""
    dice = random.Random(5)

    def one() -> tuple[Night, Plan, float]:
        night = Night(probes_every_s=2.0, read_s=0.0)
        common = {kind: dice.gauss(0, 0.10) for kind in ("install_s", "restart_s", "sync_s")}
        pair = night.pairs["tickets"]
        pair.images = {
            version: msgspec.structs.replace(
                image,
                **{kind: getattr(image, kind) * math.exp(more + dice.gauss(0, 0.08)) for kind, more in common.items()},
            )
            for version, image in pair.images.items()
        }
        plan = night.plan()
        assert night.run(plan).state == "finished"
        return night, plan, (night.events[-1].entry.at - night.events[0].entry.at).total_seconds()

    known = [one() for _ in range(30)]
    learned = tuple(o for night, plan, _ in known for o in _of_roll(plan, replay(night.events)))
    assert learned
    assert all(list(steps_of(hop.waves)) for hop in known[0][1].lanes[0].hops)
    fresh = sorted(took for _, _, took in (one() for _ in range(100)))
    found = of(known[0][0], known[0][1], 500, observations=learned)
    assert found.p90_s == pytest.approx(fresh[90], rel=0.05)
    assert found.p50_s == pytest.approx(fresh[50], rel=0.05)
