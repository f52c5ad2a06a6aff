"""What is drawn for a rehearsal is what was learned, and what its nights come to adds up."""

from __future__ import annotations

from datetime import timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st

from gallant.core.length.learning import SEED
from gallant.core.length.rehearsing import (
    FINISHED,
    HELD,
    MOST_RUNS,
    STOPPED,
    NightEnd,
    Tried,
    Where,
    failing,
    lasting,
    rehearsed,
)
from gallant.core.length.spread import spread_of
from gallant.core.steps.kinds import KINDS
from gallant.core.windows.rules import Span
from gallant.core.work.paces import Observation

from ..simulation.night import BEGAN, Night

PLAN = Night().plan()
INSTALL = next(step for step in PLAN.steps() if step.kind == "install")


def test_half_and_nine_of_ten_of_what_is_drawn_are_those_that_the_plan_tells():
    drawn, told = lasting(PLAN, (), MOST_RUNS), spread_of(PLAN, ()).whole
    whole = sorted(sum(float(drawn[step.id][night]) for step in PLAN.steps()) for night in range(MOST_RUNS))
    assert whole[MOST_RUNS // 2] == pytest.approx(told.p50_s, rel=0.01)
    assert whole[MOST_RUNS * 9 // 10] == pytest.approx(told.p90_s, rel=0.01)


def test_what_was_learned_of_a_step_is_drawn_for_it():
    slow = [
        Observation(
            product="ostrel/shoal",
            hop="2.8.5 > 2.11.3",
            kind="install",
            component="image",
            system="tickets",
            announced_s=480,
            took_s=960,
        )
    ] * 40
    known, unknown = (sorted(lasting(PLAN, of, 500)[INSTALL.id])[250] for of in (tuple(slow), ()))
    assert known == pytest.approx(960, rel=0.05)
    assert unknown == pytest.approx(480, rel=0.1)


def test_another_seed_draws_other_nights_and_the_same_one_the_same():
    def of(seed: int) -> list[float]:
        return list(lasting(PLAN, (), 50, seed)[INSTALL.id])

    assert of(1) == of(1)
    assert not set(of(1)) & set(of(2))
    assert of(SEED) == list(lasting(PLAN, (), 50)[INSTALL.id])


@pytest.mark.parametrize("runs", [0, -1, MOST_RUNS + 1])
def test_a_number_of_nights_that_is_none_is_refused(runs):
    with pytest.raises(ValueError, match=f"runs: 1 to {MOST_RUNS}"):
        lasting(PLAN, (), runs)
    assert len(lasting(PLAN, (), MOST_RUNS)[INSTALL.id]) == MOST_RUNS


def test_of_what_was_never_seen_one_in_four_hundred_is_believed_to_fail_and_what_was_seen_outweighs_that():
    assert failing({})["restart"] == pytest.approx(1 / 400)
    seen = failing({"restart": Tried(kind="restart", times=2000, failed=220)})
    assert (seen["restart"], seen["install"]) == (pytest.approx(220.5 / 2200), pytest.approx(1 / 400))


def test_only_what_alters_disturbs_or_moves_can_fail():
    assert set(failing({})) == {
        k.name for k in KINDS.values() if (k.alters or k.disturbs or k.moves) and k.name != "by_hand"
    }
    assert not {"backup", "snapshot", "preload", "steady", "quiet", "look_over"} & set(failing({}))


WINDOW = Span(begin=BEGAN, end=BEGAN + timedelta(minutes=60))
WHERE = [Where(system="tickets", node=n, kind=k) for n in "ab" for k in ("install", "restart")]


@st.composite
def ends(draw) -> NightEnd:
    state = draw(st.sampled_from([FINISHED, STOPPED, HELD]))
    place = draw(st.sampled_from(WHERE))
    return NightEnd(
        state=state,
        at_s=draw(st.floats(0, 1e5)),
        away_s=draw(st.floats(0, 1e3)),
        stop=place if state == STOPPED else None,
        hold=place if state == HELD else None,
        why=draw(st.sampled_from(["it broke", "no window"])) if state != FINISHED else "",
        decides=draw(st.sampled_from([None, *WHERE])),
    )


@given(st.lists(ends(), min_size=1, max_size=60))
def test_the_parts_add_up_and_every_night_is_in_one_of_them(nights):
    found = rehearsed(PLAN, BEGAN, {}, nights, 7)
    assert found.finished + found.stopped + found.held == pytest.approx(1.0)
    assert len(found.ends_s) + len(found.stopped_s) + len(found.held_s) == found.runs == len(nights)
    assert sum(one.share for one in found.stops) == pytest.approx(found.stopped)
    assert sum(one.share for one in found.holds) == pytest.approx(found.held)
    assert found.in_window == found.finished
    assert (found.p50_s is None) == (found.finished == 0)
    assert found.p50_s is None or found.p50_s <= found.p90_s
    assert found.away_s[0] <= found.away_s[1] <= max(night.away_s for night in nights)
    assert [one.share for one in found.stops] == sorted((one.share for one in found.stops), reverse=True)


def test_the_reason_that_was_given_most_often_is_told_of_a_place():
    place = WHERE[0]
    nights = [NightEnd(state=STOPPED, at_s=1, stop=place, why=why) for why in ("it broke", "it broke", "it burnt")]
    assert [(one.why, one.share) for one in rehearsed(PLAN, BEGAN, {}, nights, 0).stops] == [("it broke", 1.0)]


def test_what_finishes_after_the_window_is_not_in_it():
    nights = [NightEnd(state=FINISHED, at_s=minutes * 60) for minutes in (50, 59, 61, 90)]
    found = rehearsed(PLAN, BEGAN, {"tickets": [WINDOW]}, nights, 0)
    assert (found.finished, found.in_window) == (1.0, 0.5)
    assert found.until == WINDOW.end
    later = rehearsed(PLAN, BEGAN + timedelta(minutes=90), {"tickets": [WINDOW]}, nights, 0)
    assert (later.until, later.in_window) == (None, 1.0)


def test_half_and_nine_of_ten_are_by_the_nearest_rank():
    found = rehearsed(PLAN, BEGAN, {}, [NightEnd(state=FINISHED, at_s=s, away_s=s) for s in range(10)], 0)
    assert (found.p50_s, found.p90_s, found.away_s) == (5, 9, (5, 9))
