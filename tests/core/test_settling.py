"""Is it settled: what stands still, comes back, creeps or runs out is told apart, and noise is none of it."""

from __future__ import annotations

import itertools
import math
import random
from collections.abc import Callable
from statistics import NormalDist

import pytest
from hypothesis import assume, example, given
from hypothesis import strategies as st
from scipy.stats import theilslopes

from gallant.core.after.settling import (
    AHEAD_S,
    CREEPING,
    ELSEWHERE,
    FEWEST,
    MOST,
    RUNNING_OUT,
    SETTLED,
    SETTLING,
    SLOWER,
    Series,
    _decay,
    _follows,
    bounds,
    end_of,
    joined,
    judge,
    judge_all,
    judge_twice,
    steady,
    trend,
    valued,
    words_of,
)
from gallant.core.records import replace

MEMORY, LOAD, ANSWER = ("memory available", "B"), ("processor load", "%"), ("the answer of blocks", "s")


def series(
    of: Callable[[float], float], what: tuple[str, str], noise: float = 0.0, n: int = 30, node: str = "a"
) -> Series:
    """A number that was sampled once a minute; the noise is the same each time."""
    dice = random.Random(7)
    points = tuple((60.0 * i, of(60.0 * i) + dice.gauss(0, noise)) for i in range(n))
    return Series(system="tickets", node=node, about=what[0], unit=what[1], points=points)


def level(value: float) -> Callable[[float], float]:
    return lambda t: value


CASES: dict[str, tuple[tuple[str, str], Callable[[float], float], Callable[[float], float], float, str]] = {
    "stands still": (MEMORY, level(3.2e9), level(3.2e9), 2e7, SETTLED),
    "leaks": (MEMORY, level(3.2e9), lambda t: 3.2e9 - 1.6e5 * t, 2e7, RUNNING_OUT),
    "fills up": (LOAD, level(40), lambda t: 40 + 0.01 * t, 1, RUNNING_OUT),
    "is worked off": (LOAD, level(40), lambda t: 40 + 45 * math.exp(-t / 2000), 1, SETTLING),
    "was worked off": (LOAD, level(40), lambda t: 40 + 45 * math.exp(-t / 150), 1, SETTLED),
    "comes back": (MEMORY, level(3.2e9), lambda t: 1e9 + 2e5 * t, 2e7, SETTLING),
    "has found another level": (LOAD, level(40), level(60), 1, ELSEWHERE),
    "goes up and down": (LOAD, level(40), lambda t: 40 + 3 * math.sin(t / 200), 0.2, SETTLED),
    "has teeth": (LOAD, level(40), lambda t: 38 + (t % 300) / 75, 0.2, SETTLED),
    "answers slower": (ANSWER, level(0.01), level(0.4), 0.01, SLOWER),
    "answers about as fast": (ANSWER, level(0.010), level(0.016), 0.002, SETTLED),
    "answers faster": (ANSWER, level(0.4), level(0.01), 0.001, SETTLED),
    "grows without an end": (("open files", ""), level(1000), lambda t: 1000 + t, 5, CREEPING),
}


@pytest.mark.parametrize("what", CASES)
def test_each_course_has_its_own_word(what):
    kind, before, after, noise, state = CASES[what]
    judged = judge(series(before, kind, noise), series(after, kind, noise))
    assert (judged.state, judged.as_before) == (state, False), judged


def test_what_goes_one_way_does_so_in_each_third_of_its_time():
    assert [steady([(t, y) for t, y in enumerate(ys)]) for ys in ([0, 0, 1, 1, 2, 2], [0, 0, 0.1, 0.1, 2, 2], [0, 0, 1, 1, 0, 0])] == [True, False, False]  # fmt: skip


@pytest.mark.parametrize(("pace", "same"), [(60, True), (31, True), (119, True), (29, False), (121, False)])
def test_what_followed_before_counts_where_it_was_sampled_at_about_the_same_pace(pace, same):
    before = Series(
        system="s", node="a", about="load", unit="%", points=tuple((60.0 * n, 5.0 * math.sin(n / 4)) for n in range(40))
    )
    after = Series(
        system="s", node="a", about="load", unit="%", points=tuple((float(pace * n), 1.0) for n in range(40))
    )
    assert (_follows(before, after) > 0.8) is same
    assert _follows(None, after) == 0.0


def test_of_fewer_than_six_points_no_movement_is_said_to_slow_down():
    slowing = [(float(t), math.exp(-t)) for t in range(6)]
    assert _decay(slowing) is not None
    assert _decay(slowing[:5]) is None


def test_how_long_it_takes_to_run_out_and_to_settle():
    leak = judge(series(level(3.2e9), MEMORY), series(lambda t: 3.2e9 - 1.6e5 * t, MEMORY))
    assert leak.wait_s == pytest.approx((3.2e9 - 1.6e5 * 1740) / 1.6e5, rel=1e-6)
    assert words_of(leak) == "running out: tickets/a memory available, in about 5 h (2.92 GB now, 3.2 GB before)"
    back = judge(series(level(3.2e9), MEMORY), series(lambda t: 1e9 + 2e5 * t, MEMORY))
    assert back.wait_s == pytest.approx((3.2e9 * 0.85 - 1e9 - 2e5 * 1740) / 2e5, rel=0.01)
    falls = judge(series(level(40), LOAD), series(lambda t: 40 + 45 * math.exp(-t / 2000), LOAD))
    truth = 2000 * math.log(45 / 5) - 1740
    assert falls.wait_s == pytest.approx(truth, rel=0.25)
    assert words_of(falls).startswith("still settling: tickets/a processor load, about")


def test_what_moved_so_before_the_work_is_not_blamed_on_it():
    def leak(t: float) -> float:
        return 3.2e9 - 1.6e5 * t

    judged = judge(series(leak, MEMORY), series(lambda t: leak(t) - 3e8, MEMORY))
    assert (judged.state, judged.as_before) == (RUNNING_OUT, True)
    assert words_of(judged).endswith("as before the work")
    files = ("open files", "")
    same = judge(series(lambda t: t, files), series(lambda t: 2000 + t, files))
    assert (same.state, same.as_before) == (SETTLED, True)


def test_without_a_time_before_it_is_judged_by_how_it_moves():
    assert judge(None, series(level(60), LOAD, 1)).state == SETTLED
    assert judge(None, series(lambda t: 3e9 - 2e5 * t, MEMORY)).state == RUNNING_OUT
    assert judge(None, series(level(0.4), ANSWER)).state == SETTLED


def test_what_would_run_out_far_ahead_is_not_running_out():
    per_s = 3.2e9 / (AHEAD_S * 1.2)
    assert judge(series(level(3.2e9), MEMORY), series(lambda t: 3.2e9 - per_s * t, MEMORY)).state == SETTLED
    per_s = 3.2e9 / (AHEAD_S * 0.8)
    assert judge(series(level(3.2e9), MEMORY), series(lambda t: 3.2e9 - per_s * t, MEMORY)).state == RUNNING_OUT


@pytest.mark.parametrize(
    ("about", "unit", "end"),
    [
        ("memory available", "B", 0.0),
        ("free space", "B", 0.0),
        ("free space", "%", 0.0),
        ("processor load", "%", 100.0),
        ("spare", "%", 0.0),
        ("freezer", "%", 100.0),
        ("sessions", "", None),
        ("free ports", "", None),
        ("memory", "GiB", None),
    ],
)
def test_what_a_number_comes_to_its_end_at(about, unit, end):
    assert end_of(Series(system="s", node="a", about=about, unit=unit, points=())) == end


def test_counted_things_and_short_series_are_not_judged():
    paths = series(lambda t: 2 - t, ("replica paths", ""))
    users = series(lambda t: 9 - t, ("sessions", ""))
    short = series(level(1), LOAD, n=FEWEST - 1)
    enough = series(level(1), LOAD, n=FEWEST, node="b")
    assert [one.node for one in judge_all([], [paths, users, short, enough])] == ["b"]


def test_the_worst_comes_first():
    leak = series(lambda t: 3.2e9 - 1.6e5 * t, MEMORY, node="z")
    found = judge_all([series(level(3.2e9), MEMORY, node="z")], [series(level(4), LOAD), leak])
    assert [one.state for one in found] == [RUNNING_OUT, SETTLED]


@pytest.mark.parametrize(
    ("second", "state"), [(-1.6e5, RUNNING_OUT), (0.0, SETTLED), (1.6e5, SETTLED), (None, CREEPING)]
)
def test_that_something_runs_out_is_said_of_what_does_so_in_two_stretches(second, state):
    """A number that falls for one stretch, and then goes on, stands, comes back, or is told no more."""
    first = series(lambda t: 3.2e9 - 1.6e5 * t, MEMORY)
    last, at = first.points[-1][1], first.points[-1][0]
    assert judge_all([], [first])[0].state == RUNNING_OUT
    points = tuple((at + 60.0 * n, last + (second or 0.0) * 60.0 * n) for n in range(1, 31))
    again = [] if second is None else [replace(first, points=points)]
    [found] = judge_twice([series(level(3.2e9), MEMORY)], [first], again)
    assert found.state == state
    assert (found.wait_s is not None) == (state == RUNNING_OUT)
    assert len(joined([first], again)[0].points) == len(first.points) + (30 if again else 0)


def test_what_a_number_rises_by_is_said_with_within_what_that_lies():
    [leak] = judge_all([], [series(lambda t: 3.2e9 - 1.6e5 * t + 1e6 * math.sin(t), MEMORY)])
    assert leak.least_per_h <= leak.per_h <= leak.most_per_h
    assert leak.most_per_h < 0 < -leak.least_per_h < 2 * 1.6e5 * 3600


points = st.lists(st.floats(-1e6, 1e6).map(lambda v: round(v, 3)), min_size=2, max_size=25)


@example([247057.0, 0.0, -136275.0, 0.0, 0.0, 0.0, 120983.0, 55889.0])
@given(points)
def test_the_slope_is_the_one_that_another_library_finds(values):
    at = [30.0 * n for n in range(len(values))]
    found, other = trend(list(zip(at, values, strict=True))), theilslopes(values, at, alpha=0.99)
    assert found.slope == pytest.approx(other[0], abs=1e-6)
    assert found.low <= other[2] + 1e-6
    assert found.high >= other[3] - 1e-6


@given(points, st.floats(1, 1e6), st.floats(-1e5, 1e5))
def test_neither_the_hour_nor_the_level_changes_a_slope(values, hours, more):
    assume(len(set(values)) > 1)
    plain = trend([(30.0 * n, v) for n, v in enumerate(values)])
    moved = trend([(30.0 * n + round(hours), v + more) for n, v in enumerate(values)])
    assert moved.slope == pytest.approx(plain.slope, abs=1e-3)
    assert moved.level == pytest.approx(plain.level + more, abs=1e-2)


def test_values_that_repeat_narrow_the_bounds_of_a_slope_by_the_ties_among_them():
    """Sen 1968, (2.6): of twelve points with two values, six times
    each, the rank sum has a variance of 156, not of 212.7."""
    values = [0, 1, 1, 0, 1, 0, 0, 1, 0, 0, 1, 1]
    points = [(float(at), float(value)) for at, value in enumerate(values)]
    slopes = sorted((b[1] - a[1]) / (b[0] - a[0]) for a, b in itertools.combinations(points, 2))
    half = NormalDist().inv_cdf(0.995) * math.sqrt(156) / 2
    low, high = len(slopes) / 2 - half, len(slopes) / 2 + half
    assert bounds(points, 1) == (slopes[math.floor(low) - 1], slopes[math.ceil(high)])
    wide = NormalDist().inv_cdf(0.995) * math.sqrt(12 * 11 * 29 / 18) / 2
    assert slopes[math.floor(len(slopes) / 2 - wide) - 1] < slopes[math.floor(low) - 1]  # else nothing is shown


def test_a_base_that_moved_is_where_it_had_come_to_and_not_its_middle():
    before = series(lambda t: 1e9 + 1e6 * t, MEMORY)
    stays, middle = before.points[-1][1], before.points[15][1]
    settled = judge(before, series(level(stays), MEMORY))
    assert (settled.state, settled.before) == (SETTLED, pytest.approx(stays, rel=0.01))
    assert judge(before, series(level(middle), MEMORY)).state == ELSEWHERE


@given(st.integers(0, 29), st.floats(-1e12, 1e12))
def test_one_wild_value_says_nothing(at, wild):
    after = series(level(3.2e9), MEMORY, 1e7)
    broken = Series(
        system="tickets",
        node="a",
        about=after.about,
        unit=after.unit,
        points=(*after.points[:at], (after.points[at][0], wild), *after.points[at + 1 :]),
    )
    assert judge(series(level(3.2e9), MEMORY, 1e7), broken).state == SETTLED


@given(st.lists(st.floats(0.9, 1.1), min_size=FEWEST, max_size=40), st.floats(1, 1e9))
def test_what_stays_within_the_noise_of_before_never_alarms(parts, scale):
    before = Series(system="s", node="a", about="x", unit="", points=((0.0, scale),))
    after = Series(
        system="s", node="a", about="x", unit="", points=tuple((60.0 * n, scale * p) for n, p in enumerate(parts))
    )
    assert judge(before, after).state in (SETTLED, SETTLING)


def test_a_long_series_is_thinned_and_keeps_its_ends():
    found = trend([(float(n), 2.0 * n) for n in range(MOST * 5)])
    assert (found.slope, found.level) == (2.0, 2.0 * (MOST * 5 - 1))
    with pytest.raises(ValueError, match="no points"):
        trend([])


@pytest.mark.parametrize(
    ("value", "unit", "words"),
    [(3.2e9, "B", "3.2 GB"), (900, "B", "900 B"), (0.0123, "s", "12 ms"), (40.2, "%", "40 %"), (7, "", "7"), (3, "GiB", "3 GiB")],
)  # fmt: skip
def test_a_number_has_its_unit(value, unit, words):
    assert valued(value, unit) == words
