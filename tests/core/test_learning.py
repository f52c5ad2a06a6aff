"""How long steps take, learned from those that were carried out: it
settles where the truth is, and its nine of ten are nine of ten."""

from __future__ import annotations

from math import exp
from statistics import NormalDist

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from gallant.core.length.learning import (
    BETWEEN_HOPS,
    BETWEEN_KINDS,
    BETWEEN_SYSTEMS,
    EACH_TIME,
    MOST_EFFECTS,
    ROUNDS,
    WORTH,
    model_of,
    paces_of,
)
from gallant.core.length.spread import (
    announced_s,
    has_to_go_on,
    late_s,
    spread_of,
    stretch_of,
    to_rest_s,
    with_spread,
)
from gallant.core.records import replace
from gallant.core.steps.minutes import LEAST_DEADLINE_S, deadline_seconds
from gallant.core.work.paces import OVERHEAD_S, Observation, Pace, hop_key, taken
from gallant.core.work.plan import Hop, Lane, Step, Track, Wave, hop_ends, waves_seconds

from .test_requirements import BOTH, PRODUCTS, plan_of, readings

WAY = hop_key("1.0", "2.0")


def seen(took: float, announced: float = 600.0, kind: str = "install", system: str = "s1", **more) -> Observation:
    return Observation(
        **{
            "product": "p/q",
            "hop": WAY,
            "kind": kind,
            "component": "image",
            "system": system,
            "announced_s": announced,
            "took_s": took,
        }
        | more
    )


def pace(*observations: Observation, system: str = "s1", kind: str = "install", hop: str = WAY) -> Pace:
    return model_of(tuple(observations)).pace("p/q", hop, kind, "image", system)


def test_without_any_observation_half_is_what_is_announced_and_nine_of_ten_are_well_above():
    nothing = pace()
    assert nothing.p50 == pytest.approx(1.0, abs=0.05)
    assert 1.4 < nothing.p90 < 2.0
    assert nothing.seen == 0


def test_what_takes_twice_as_long_every_time_is_expected_to_and_the_room_for_it_shrinks():
    before = pace()
    paces = [pace(*[seen(1200.0 * f) for f in (0.98, 1.03, 1.0, 0.97, 1.02)][:n]) for n in (1, 3, 5)]
    assert paces[0].p50 < paces[1].p50 < paces[2].p50
    assert paces[2].p50 == pytest.approx(1.95, rel=0.12)
    assert paces[2].p90 / paces[2].p50 < before.p90 / before.p50
    assert [p.seen for p in paces] == [1, 3, 5]


def test_another_hop_and_another_system_learn_something_and_less():
    many = [seen(1200.0, system=f"s{n}") for n in range(8)]
    own = pace(*many, system="s1").p50
    other_system = pace(*many, system="new").p50
    other_hop = pace(*many, system="new", hop=hop_key("2.0", "3.0")).p50
    other_kind = pace(*many, system="new", kind="restart").p50
    assert own >= other_system - 0.1
    assert other_system > other_hop > other_kind
    assert other_kind == pytest.approx(1.0, abs=0.1)


def test_what_is_far_off_every_time_is_believed_and_once_is_not():
    assert pace(*[seen(12_000.0)] * 4).p50 > 10
    assert pace(seen(12_000.0)).p50 < 4


def test_one_odd_night_does_not_rule_the_next_plan():
    usual = [seen(600.0)] * 6
    assert pace(*usual, seen(6000.0)).p50 < 1.5


def test_a_step_that_was_given_up_took_at_least_so_long():
    known = pace(seen(1200.0), seen(1200.0))
    given_up = pace(seen(1200.0, cut=True), seen(1200.0, cut=True))
    assert given_up.p50 > known.p50
    assert given_up.p90 > known.p90


@pytest.mark.parametrize("seed", range(4))
def test_after_five_observations_nine_of_ten_are_nine_of_ten(seed):
    """On histories drawn as the model has them: many products with hops, kinds and systems of their own."""
    random = np.random.default_rng(seed)
    inside, tried = 0, 0
    for world in range(60):
        kind, hop, system = (random.normal(0, s) for s in (0.30, 0.20, 0.12))
        spread = 0.15 * np.sqrt(4.0 / random.chisquare(4.0))
        times = [taken(600.0, exp(kind + hop + system + random.normal(0, spread))) for _ in range(25)]
        found = pace(*(seen(max(1.0, t), system=f"w{world}") for t in times[:5]), system=f"w{world}")
        inside += sum(t <= taken(600.0, found.p90) for t in times[5:])
        tried += 20
    assert 0.85 <= inside / tried <= 0.95


@pytest.mark.parametrize("count", [5, 12])
@pytest.mark.parametrize("share", [0.0, 0.1, 0.5])
def test_nine_of_ten_are_nine_of_ten_however_many_of_what_was_seen_were_given_up(share, count):
    """Each step has a limit of its own, which such a share of the steps runs into."""
    spread_of_all = np.hypot(np.hypot(0.30, 0.20), np.hypot(0.12, 0.15))
    middle = -NormalDist().inv_cdf(share) * np.hypot(spread_of_all, 0.3) if share else 9.0
    inside, tried = 0, 0
    for world in range(320):
        random = np.random.default_rng([count, world])
        common = sum(random.normal(0, s) for s in (0.30, 0.20, 0.12))
        spread = 0.15 * np.sqrt(4.0 / random.chisquare(4.0))
        times = [taken(600.0, exp(common + random.normal(0, spread))) for _ in range(count + 12)]
        limits = [taken(600.0, exp(middle + random.normal(0, 0.3))) for _ in range(count)]
        told = [
            seen(max(1.0, min(time, limit)), system="w", cut=bool(time > limit))
            for time, limit in zip(times, limits, strict=False)
        ]
        p90 = taken(600.0, pace(*told, system="w").p90)
        inside += sum(time <= p90 for time in times[count:])
        tried += 12
    assert 0.88 <= inside / tried <= 0.92


@given(took=st.lists(st.floats(1, 1e5), min_size=1, max_size=12), announced=st.floats(1, 1e5))
def test_whatever_was_seen_the_factors_are_in_order_and_finite(took, announced):
    found = pace(*(seen(t, announced) for t in took))
    assert 0 < found.p50 <= found.p90 <= found.p99 < 1e5


def test_the_same_history_says_the_same_every_time():
    history = (seen(700.0), seen(900.0, system="s2"))
    assert paces_of(history, "s1", "p/q", WAY, []) == paces_of(tuple(history), "s1", "p/q", WAY, [])
    assert paces_of((), "s1", "p/q", WAY, []) == {}


def test_what_was_brought_from_another_estate_moves_the_estimate_and_never_the_deadline():
    own = tuple(seen(t) for t in (600.0, 640.0, 620.0, 660.0))
    brought = tuple(replace(seen(9000.0, system="x/1"), brought=True) for _ in range(8))
    alone = paces_of(own, "s1", "p/q", WAY, [])["install"]
    both_ = paces_of((*brought, *own), "s1", "p/q", WAY, [])["install"]
    assert both_.p50 > alone.p50
    assert (both_.p99, both_.seen, both_.here) == (alone.p99, 12, 4)
    assert deadline_seconds(600.0, both_) == deadline_seconds(600.0, alone)
    assert deadline_seconds(600.0, paces_of(brought, "s1", "p/q", WAY, [])["install"]) == deadline_seconds(600.0)


def test_a_deadline_is_what_all_but_one_of_a_hundred_take_and_never_less_than_announced():
    quick = Pace(p50=0.3, p90=0.4, p99=0.5, seen=9)
    assert deadline_seconds(3000.0, quick) == 3000.0
    slow = Pace(p50=2.0, p90=3.0, p99=5.0, seen=9)
    assert deadline_seconds(3000.0, slow) == taken(3000.0, 5.0)
    assert deadline_seconds(3000.0, replace(slow, seen=1)) == deadline_seconds(3000.0) == 12_000.0
    assert deadline_seconds(1.0, slow) == LEAST_DEADLINE_S


def installs(product: str, factor: float, times: int = 6) -> list[Observation]:
    plan = plan_of(BOTH, readings(hosts="1.0", manager="1.0"), PRODUCTS, "hosts", "manager")
    return [
        Observation(
            product=product,
            hop=WAY,
            kind=s.kind,
            component="image",
            system=s.system,
            announced_s=s.estimate_s,
            took_s=s.estimate_s * factor,
        )
        for _ in range(times)
        for lane in plan.lanes
        for hop in lane.hops
        for wave in hop.waves
        for track in wave.tracks
        for s in track.steps
        if s.product == product and s.estimate_s > 60
    ]


def test_a_plan_is_spread_by_its_own_order_and_says_from_how_many_steps_it_knows():
    plan = plan_of(BOTH, readings(hosts="1.0", manager="1.0"), PRODUCTS, "hosts", "manager")
    blank = spread_of(plan, ())
    assert blank.seen == 0
    assert blank.whole.p50_s == pytest.approx(plan.estimate_s, rel=0.15)
    assert blank.whole.p50_s < blank.whole.p90_s < 2 * blank.whole.p50_s
    assert blank.lanes["manager"].p90_s < blank.lanes["hosts"].p90_s  # which waits for it
    history = tuple(installs("s/manager", 2.0) + installs("s/hosts", 2.0))
    known = spread_of(plan, history)
    assert known.seen == len(history)
    assert known.whole.p50_s == pytest.approx(2 * blank.whole.p50_s, rel=0.2)
    assert known.whole.p90_s / known.whole.p50_s < blank.whole.p90_s / blank.whole.p50_s
    assert spread_of(plan, history) == known


def test_a_plan_with_its_spread_is_whole_under_its_own_name():
    plan = plan_of(BOTH, readings(hosts="1.0", manager="1.0"), PRODUCTS, "hosts", "manager")
    spread = with_spread(plan, ())
    assert spread.is_whole
    assert spread.id != plan.id


def test_what_was_announced_is_found_again_from_an_estimate_that_was_learned():
    plan = plan_of(BOTH, readings(hosts="1.0", manager="1.0"), PRODUCTS, "manager")
    hop = plan.lanes[0].hops[0]
    step = next(s for w in hop.waves for t in w.tracks for s in t.steps if s.estimate_s > 60)
    factor = Pace(p50=1.7, p90=2.0, p99=3.0, seen=5)
    learned = replace(step, estimate_s=taken(step.estimate_s, 1.7))
    assert announced_s(replace(hop, paces={step.kind: factor}), learned) == pytest.approx(step.estimate_s)
    assert OVERHEAD_S > 0


def test_numbers_and_nights_go_through_the_same_order():
    plan = plan_of(BOTH, readings(hosts="1.0", manager="1.0"), PRODUCTS, "hosts", "manager")
    nights = np.linspace(0.5, 2.0, 7)

    def latest(times):
        found = times[0]
        for one in times[1:]:
            found = np.maximum(found, one)
        return found

    def lasts(hop: Hop):
        return waves_seconds(hop.waves, lambda step: step.estimate_s * nights, latest)

    lanes: tuple[Lane, ...] = plan.lanes
    ends = hop_ends(lanes, lasts, (), latest)
    for name, seconds in plan.ends_s.items():
        assert ends[name] == pytest.approx(seconds * nights)


def test_a_long_history_of_many_systems_keeps_the_newest_and_what_it_costs_in_bounds():
    many = tuple(seen(900, system=f"s{n}", product=f"p{n}/x") for n in range(3000))
    model = model_of(many)
    assert 0 < len(model.observations) < len(many)
    assert model.observations == many[-len(model.observations) :]
    assert len(model.mean) <= MOST_EFFECTS
    assert model.pace("new/x", WAY, "install", "image", "new").p50 == pytest.approx(
        pace(*many[-300:], system="new").p50, rel=0.1
    )


def test_what_is_learned_is_the_mean_of_a_normal_model_with_its_matrix_written_out():
    history = tuple(
        seen(took, system=f"s{n % 3}", kind=f"k{n % 2}") for n, took in enumerate((500, 700, 900, 650, 800, 1200, 640))
    )
    model = model_of(history)
    effects = list(
        dict.fromkeys(e for o in reversed(history) for e in (("kind", o.kind), ("hop", o.group), ("system", o.system)))
    )
    rows = np.array(
        [[float(e in (("kind", o.kind), ("hop", o.group), ("system", o.system))) for e in effects] for o in history]
    )
    prior = np.array(
        [{"kind": BETWEEN_KINDS, "hop": BETWEEN_HOPS, "system": BETWEEN_SYSTEMS}[e[0]] ** 2 for e in effects]
    )
    told, variance = np.array([o.ratio for o in history]), {o.kind: EACH_TIME**2 for o in history}
    for _ in range(ROUNDS):
        weight = np.array([1 / variance[o.kind] for o in history])
        covariance = np.linalg.inv(np.diag(1 / prior) + rows.T @ np.diag(weight) @ rows)
        mean = covariance @ rows.T @ (weight * told)
        left = (told - rows @ mean) ** 2 + np.diag(rows @ covariance @ rows.T)
        for kind in variance:
            mine = [n for n, o in enumerate(history) if o.kind == kind]
            variance[kind] = (WORTH * EACH_TIME**2 + left[mine].sum()) / (WORTH + len(mine))
    assert model.mean == pytest.approx(mean)
    assert model.covariance == pytest.approx(covariance)
    assert {kind: one[1] for kind, one in model.spread.items()} == pytest.approx(variance)


def step(name: str, rests: bool, disturbs: bool = False, node: str = "a") -> Step:
    return Step(
        id=name, hop="h", guards=(), expects="", repeat="safe", undo="", kind="install", system="s", node=node, component="image", product="p", to="2", estimate_s=100, deadline_s=900,
        safe_stop_s=60.0 if rests else None, disturbs=("s/a",) if disturbs else (),
    )  # fmt: skip


def test_a_stretch_that_no_track_ends_goes_on_through_the_next_waves_until_its_system_rests():
    restart, look, other = step("restart", False, True), step("look", True), step("other", True)
    waves = tuple(Wave(why=s.id, tracks=(Track(node="a", steps=(s,)),)) for s in (restart, look, other))
    assert stretch_of((restart,), waves) == [restart, look]
    assert stretch_of((look, other), waves) == [look]
    hop = Hop(id="h", system="s", from_="1", to="2", waves=waves)
    assert to_rest_s(hop, (restart,)) == pytest.approx(2 * late_s(hop, restart) + late_s(hop, look))
    assert to_rest_s(hop, (look,)) == 0


@pytest.mark.parametrize(
    ("unsafe", "goes_on"),
    [((), False), (("s/a",), True), (("s/b",), False), (("s/z",), True), (("s/b", "s/z"), True)],
    ids=["all at rest", "begun here", "begun beside it", "left by an earlier wave", "both"],
)
def test_a_track_goes_on_for_what_it_began_or_was_left_and_not_because_a_neighbour_began(unsafe, goes_on):
    assert has_to_go_on(unsafe, own={"s/a"}, wave={"s/a", "s/b"}) is goes_on
