"""Nights with windows: nothing is disturbed outside of them, nor so late that it would not be at rest again (I8)."""

from __future__ import annotations

from datetime import timedelta

import pytest

from gallant.core.length.spread import is_disruptive, late_s, to_rest_s
from gallant.core.windows.rules import Span
from gallant.core.work.plan import Plan
from gallant.engine.means import End, Orders

from .night import BEGAN, Killed, Night


def span(begin_min: float, end_min: float) -> Span:
    return Span(begin=BEGAN + timedelta(minutes=begin_min), end=BEGAN + timedelta(minutes=end_min))


class Windowed(Night):
    """A night that holds every order that disturbs against the windows, by the moment at which it arrives."""

    def __init__(self, *spans: Span, **more) -> None:
        super().__init__(**more)
        self.spans, self.late = spans, list[str]()
        self.made: Plan = self.plan()
        self.needed = dict(self._needed())

    def _needed(self):
        """By kind of order: the seconds from it to the next rest, and
        for what disturbs once more, in nine of ten cases."""
        for hop in (hop for lane in self.made.lanes for hop in lane.hops):
            for track in (t for wave in hop.waves for t in wave.tracks):
                for number, step in enumerate(track.steps):
                    if is_disruptive(step):
                        after = list(track.steps[number:])
                        rest = next((n for n, s in enumerate(after) if s.safe_stop_s is not None), len(after) - 1)
                        way = after[: rest + 1]
                        yield step.kind, sum(late_s(hop, s) * (1 + is_disruptive(s)) for s in way)

    def judge(self, system, node, kind, release):
        super().judge(system, node, kind, release)
        rests = all(n.up for n in self.pairs[system].nodes.values())
        if kind in self.needed and rests:
            now, needed = self.clock.now(), timedelta(seconds=self.needed[kind])
            if not any(s.begin <= now and now + needed <= s.end for s in self.spans):
                self.late.append(f"{kind} of {node} at {now:%H:%M}")

    def go(self, downtime_min: float = 0.0, booked: bool = False) -> End:
        only = frozenset({"tickets"} if booked else ())
        orders = Orders(by="tester", windows={"tickets": self.spans}, booked=only)
        return self.run(self.made, orders, downtime=downtime_min * 60)

    def gone_by(self) -> float:
        """Minutes of the night."""
        return (self.clock.now() - BEGAN).total_seconds() / 60

    def not_at_rest(self) -> list[str]:
        pair = self.pairs["tickets"]
        return [n for n, node in pair.nodes.items() if not node.up] + (
            [] if pair.replica()[0] == "matched" else ["replica"]
        )


def test_a_night_that_fits_into_its_window_is_not_held():
    night = Windowed(span(0, 900))
    assert night.go().state == "finished"
    assert (night.late, night.all_well()) == ([], [])


def test_before_its_window_a_lane_does_what_disturbs_nothing_and_holds():
    night = Windowed(span(300, 1200))
    end = night.go()
    assert end.state == "held"
    assert "no window of tickets is open; the next that is long enough begins at" in end.message
    assert end.next.startswith(f"From {BEGAN + timedelta(minutes=300):%Y-%m-%d %H:%M} UTC on: gallant resume ")
    assert {kind for _, kind, _ in night.acts} & {"preload", "install"}
    assert not {kind for _, kind, _ in night.acts} & set(night.needed)
    assert night.go(300).state == "finished"
    assert (night.late, night.all_well()) == ([], [])


def test_what_somebody_booked_is_not_called_a_window():
    night = Windowed(span(300, 301), span(600, 1200))
    assert "tickets is not booked for now; the next that is long enough begins at" in night.go(booked=True).message
    assert "the time that tickets is booked for ends at" in night.go(300.5 - night.gone_by(), booked=True).message


@pytest.mark.parametrize("share", [0.3, 0.5, 0.7, 0.9])
def test_when_its_window_ends_a_lane_rests_and_goes_on_in_the_next(share):
    whole = Windowed(span(0, 900))
    assert whole.go().state == "finished"
    length = whole.gone_by() * share
    night = Windowed(span(0, length), span(length + 600, length + 1800))
    end = night.go()
    assert end.state == "held"
    assert "window of tickets" in end.message
    assert night.not_at_rest() == []
    assert night.go(length + 600 - night.gone_by()).state == "finished"
    assert (night.late, night.all_well()) == ([], [])
    assert night.end_state() == whole.end_state()


def test_a_window_that_is_too_short_for_any_stretch_is_never_entered():
    night = Windowed(span(0, 5), span(100, 105))
    stretches = [
        to_rest_s(hop, t.steps) for lane in night.made.lanes for hop in lane.hops for w in hop.waves for t in w.tracks
    ]
    assert max(stretches) > 5 * 60
    end = night.go()
    assert end.state == "held"
    assert "none that is long enough is to come" in end.message
    assert end.next.startswith("gallant resume ")
    assert not {kind for _, kind, _ in night.acts} & set(night.needed)


@pytest.mark.parametrize("when", ["before append", "after append", "before act", "after act"])
def test_killed_anywhere_nothing_is_disturbed_outside_of_the_windows(when):
    for at in range(2, 90, 11):
        night = Windowed(span(0, 80), span(400, 2400))
        night.kill_at, end = (when, at), None
        for pause in (0.0, 0.5, 0.5, 420.0, 0.5, 0.5):
            try:
                end = night.go(pause)
            except Killed:
                continue
            if end.state == "finished":
                break
        assert end is not None
        assert end.state == "finished", (at, end.message)
        assert (night.late, night.all_well()) == ([], []), at


def test_work_on_a_node_that_is_out_goes_on_past_the_end_and_then_holds():
    """It returns the node to service: nobody is helped by a node that stays down until the next window."""
    whole = Windowed(span(0, 900))
    whole.go()
    first = next(n for n, (_, kind, _) in enumerate(whole.acts) if kind == "restart")
    night = Windowed(span(0, 120), span(700, 2400))
    night.kill_at = ("after act", first + 1)
    with pytest.raises(Killed):
        night.go()
    end = night.go(130 - night.gone_by())  # its window is over, and it is in the midst of a restart
    assert end.state == "held", end.message
    assert night.not_at_rest() == []
    assert night.go(700 - night.gone_by()).state == "finished"
    assert (night.late, night.all_well()) == ([], [])


@pytest.mark.parametrize("begun", range(3))
def test_that_work_goes_on_where_it_was_begun_in_an_earlier_process_too(begun):
    """Killed once a restart was done, and before what ends the work on that node."""
    whole = Windowed(span(0, 900))
    whole.go()
    done = [e.seq for e in whole.events if e.entry.kind == "outcome" and e.entry.step.endswith(".restart")][begun]
    night = Windowed(span(0, 240), span(1500, 2400))
    night.kill_at = ("after append", done)
    with pytest.raises(Killed):
        night.go()
    node = next(e.entry.step.split(".")[2] for e in night.events if e.seq == done)
    end = night.go(250 - night.gone_by())
    assert end.state == "held", end.message
    assert any(
        e.entry.kind == "outcome" and e.seq > done and e.entry.step.endswith(f".{node}.steady") for e in night.events
    )
    assert night.go(1500 - night.gone_by()).state == "finished"
    assert (night.late, night.all_well()) == ([], [])


@pytest.mark.parametrize("nth", range(2, 46, 2))
def test_a_process_that_stands_still_over_the_end_of_its_window_disturbs_nothing_after_it(nth):
    """The order was written down in the window, and would have been sent hours after it."""
    night = Windowed(span(0, 200), span(1500, 2400), running={"a": "2.11.3", "b": "2.11.3"})
    night.halts = {("after append", nth): 6 * 3600.0}
    end = night.go()
    assert night.late == []
    if end.state == "held":
        assert night.not_at_rest() == []
        end = night.go(max(0.0, 1500 - night.gone_by()))
    assert (end.state, night.late, night.all_well()) == ("finished", [], [])


@pytest.mark.parametrize("nth", range(2, 38, 3))
def test_an_order_of_a_killed_process_of_which_nothing_came_waits_for_a_window_too(nth):
    night = Windowed(span(0, 200), span(1500, 2400), running={"a": "2.11.3", "b": "2.11.3"})
    night.kill_at = ("after append", nth)
    with pytest.raises(Killed):
        night.go()
    end = night.go(300)
    assert night.late == []
    if end.state == "held":
        end = night.go(max(0.0, 1500 - night.gone_by()))
    assert (end.state, night.late, night.all_well()) == ("finished", [], [])
