"""A process that stands still, or a machine that sleeps: the work goes
on at the nodes, and nothing of it is given up or given twice."""

from __future__ import annotations

import pytest

from gallant.core.ports import NotReached
from gallant.core.work import events as e
from gallant.operations.length.durations import of_roll
from gallant.standin.world import Fault

from .night import Night
from .shapes import ClusterNight

LONG_S = 6 * 3600.0  # of estate time: longer than any deadline
MOMENTS = [
    (when, n) for when in ("after append", "before act", "after act") for n in range(1, 9 if "act" in when else 46, 3)
]


@pytest.mark.parametrize("where", MOMENTS, ids=lambda w: f"{w[0]} {w[1]}")
@pytest.mark.parametrize("kind", [Night, ClusterNight])
def test_a_roll_that_stood_still_anywhere_ends_as_one_left_alone(kind, where):
    alone, halted = kind(), kind()
    assert alone.run(alone.plan()).state == "finished"
    halted.halts = {where: LONG_S}
    assert halted.run(halted.plan()).state == "finished"
    assert sorted(halted.acts) == sorted(alone.acts)  # what goes side by side may go in another order
    assert [a for a in halted.acts if a[1] != "preload"] == [a for a in alone.acts if a[1] != "preload"]
    assert (halted.end_state(), halted.all_well()) == (alone.end_state(), [])


@pytest.mark.parametrize("halts", [{}, {("after append", n): LONG_S for n in range(2, 60, 5)}])
def test_what_took_long_because_nobody_looked_is_not_learned(halts):
    night = Night(running={"a": "2.11.3", "b": "2.11.3"})
    plan = night.plan()
    night.halts = dict(halts)
    assert night.run(plan).state == "finished"
    stood = {x.entry.step for x in night.events if x.entry.kind == e.OUTCOME and x.entry.stood_s}
    assert bool(stood) == bool(halts)
    learned = list(of_roll(plan, night.events))
    assert learned
    assert all(one.took_s < 2 * one.announced_s + 120 for one in learned), learned


def test_what_really_is_late_is_late_after_a_halt_too():
    night = Night(faults=[Fault(name="no_return", node="tickets/b", act="restart")])
    night.halts = {("after append", 6): LONG_S}
    end = night.run(night.plan())
    assert (end.state, "did not come back within" in end.message) == ("stopped", True)


@pytest.mark.parametrize("nth", range(2, 40, 6))
def test_a_reading_that_ran_out_while_nobody_looked_is_asked_anew(nth):
    night, reads = Night(running={"a": "2.11.3", "b": "2.11.3"}), [0]

    def trouble(what: str, name: str, node: str, times: int) -> None:
        if what == "read":
            reads[0] += 1
            if reads[0] == nth:
                night.clock.halt(LONG_S)
                raise NotReached("tickets/b gave no answer: it took too long.")

    night.trouble = trouble
    assert night.run(night.plan()).state == "finished"
    assert reads[0] > nth
