"""The live view of a night with several lanes: what happens now first, on a screen of any height."""

from __future__ import annotations

import io

import pytest

from gallant.core.length.spread import with_spread
from gallant.core.work import events as e
from gallant.core.work.plan import hop_ends, waves_seconds
from gallant.views.ground.words import clock
from gallant.views.roll.live import LinesShow, LiveShow

from ..simulation.night import Night

NIGHT = Night(others={name: {"a": "2.8.5", "b": "2.8.5"} for name in ("spit", "bank", "cove", "isle")})
PLAN = NIGHT.plan()
NIGHT.run(PLAN)
HALF = next(n for n, event in enumerate(NIGHT.events) if event.entry.hop == "spit.2" and event.entry.kind == e.DERIVED)


def screen(height: int, events: int, monkeypatch) -> list[str]:
    monkeypatch.setenv("COLUMNS", "120")
    monkeypatch.setenv("LINES", str(height))
    live = LiveShow(io.StringIO())
    live.begin("roll-0001", PLAN, None, NIGHT.events[:events])
    lines = [str(line) for line in live._screen().renderables]
    live.close()
    return lines


@pytest.mark.parametrize("events", [3, 40, HALF, HALF + 20, len(NIGHT.events)])
def test_a_night_of_five_systems_fits_on_a_screen_of_24_lines(events, monkeypatch):
    lines = screen(24, events, monkeypatch)
    assert len(lines) <= 24
    assert "5 systems" in lines[0]
    titles = [line for line in lines if " → " in line]
    assert len(titles) == 10  # two hops of each


def test_what_is_going_on_comes_first_and_is_open_what_is_over_is_a_line(monkeypatch):
    lines = screen(24, HALF + 6, monkeypatch)
    titles = [line for line in lines if " → " in line]
    signs = [line[0] for line in titles]
    assert signs == sorted(signs, key="✗▸·✓".index)
    assert any("%" in line for line in lines[lines.index(titles[0]) :])
    over = next(line for line in titles if line.startswith("✓"))
    assert "steps" in over
    assert over.count("✓") == 3  # itself, and each of its two nodes


def test_a_tall_screen_shows_every_step(monkeypatch):
    assert sum("install" in line for line in screen(200, 3, monkeypatch)) == 20


def test_a_node_that_stops_answering_is_a_line_at_once_and_another_when_it_answers_again():
    said = io.StringIO()
    lines = LinesShow(said)
    lines.begin("roll-0001", PLAN, None, [])
    step = next(step for step in PLAN.steps() if step.kind == "install")
    lines.progress(step.id, 99.0, "writing")
    for _ in range(3):
        lines.unanswered(step.id, "it does not answer")
    lines.progress(step.id, 99.0, "")
    lines.progress(step.id, 99.0, "writing")
    assert [line.partition(": ")[2] for line in said.getvalue().splitlines()] == [
        "99 %, writing",
        "it does not answer",
        "99 %, answers again",
    ]


def test_what_is_left_is_the_longest_way_through_the_lanes_not_their_sum(monkeypatch):
    live = LiveShow(io.StringIO())
    live.begin("roll-0001", PLAN, None, [])
    assert live.seen.remaining_s() == pytest.approx(PLAN.estimate_s)
    assert PLAN.estimate_s == pytest.approx(
        max(sum(waves_seconds(hop.waves) for hop in lane.hops) for lane in PLAN.lanes)
    )
    live.close()
    waits = hop_ends(PLAN.lanes, lambda hop: 1.0)
    assert set(waits.values()) == {1.0, 2.0}


def test_what_is_left_goes_by_what_the_steps_of_a_kind_took_so_far(monkeypatch):
    live = LiveShow(io.StringIO())
    live.begin("roll-0001", PLAN, None, NIGHT.events[:HALF])
    live.close()
    seen = live.seen
    took = sorted(seen.took(s) / s.estimate_s for s in seen.steps() if s.kind == "restart" and seen.state(s) == "done")
    assert len(took) > 2
    assert took[len(took) // 2] != pytest.approx(1.0)
    left = [s for s in seen.steps() if seen.state(s) == "to come"]
    by_hand = {s.id: seen._left_s(s) / s.estimate_s for s in left if s.kind == "restart"}
    assert list(by_hand.values()) == pytest.approx([took[len(took) // 2]] * len(by_hand))
    assert seen.remaining_s() != pytest.approx(hop_end_of(seen))


def hop_end_of(seen) -> float:
    """What the estimates alone would leave."""
    done = {s.id for s in seen.steps() if seen.state(s) == "done"}
    return max(hop_ends(PLAN.lanes, lambda hop: waves_seconds(hop.waves, lambda s: 0.0 if s.id in done else s.estimate_s)).values())  # fmt: skip


def test_what_is_left_is_said_in_half_and_in_nine_of_ten_cases_as_the_plan_said_of_the_whole(monkeypatch):
    made = with_spread(PLAN, ())
    live = LiveShow(io.StringIO())
    live.begin("roll-0001", made, None, NIGHT.events[:HALF])
    head = str(live._screen().renderables[0])
    live.close()
    whole = made.spread.whole
    assert whole.p90_s > whole.p50_s * 1.1
    assert live.seen.latest_s() / live.seen.remaining_s() == pytest.approx(whole.p90_s / whole.p50_s)
    assert f"within {clock(live.seen.latest_s())}" in head
    assert "within" not in screen(24, HALF, monkeypatch)[0]  # a plan that does not say it
