"""Nights in which a step failed and a person saw to it, and nights of
nodes that tell what was so before: what is shown in the end decides."""

from __future__ import annotations

import pytest

from gallant.core.errors import Refused
from gallant.core.records import replace
from gallant.engine.means import Orders

from .night import Night

ONE_HOP = {"2.8.5": None, "2.11.3": "vers:dotted/>=2.8.0"}


def old_again() -> Night:
    """A night in which b, on its way down for the first time, is set to start from the slot that it ran from."""
    night = Night(versions=ONE_HOP)

    def trouble(what: str, name: str, node: str, n: int) -> None:
        if (what, node) == ("act", "b") and [kind for at, kind, _ in night.acts if at == "b"] == ["preload", "install"]:
            b = night.pair.nodes["b"]
            night.world.after(30.0, lambda: setattr(b, "boots_from", b.runs_from))

    night.trouble = trouble
    return night


def stopped() -> tuple[Night, object]:
    """b came back from its restart on the release that it had."""
    night = old_again()
    plan = night.plan()
    end = night.run(plan)
    assert end.state == "stopped"
    assert "tickets/b: restart to 2.11.3 failed: came back on 2.8.5, not on 2.11.3" in end.message
    return night, plan


def restart_of(plan, node: str) -> str:
    return next(step.id for step in plan.steps() if (step.kind, step.node) == ("restart", node))


def started_by_hand(night: Night) -> None:
    """Somebody has b start from its other slot, which holds the release after all."""
    node = night.pair.nodes["b"]
    node.runs_from = node.boots_from = "right"
    node.boots += 1


def restarts(night: Night) -> list[str]:
    return [node for node, kind, _ in night.acts if kind == "restart"]


@pytest.mark.parametrize("word", [True, False])
def test_a_resume_looks_first_and_a_step_that_failed_is_done_where_somebody_has_seen_to_it(word):
    night, plan = stopped()
    started_by_hand(night)
    answers = {restart_of(plan, "b"): True} if word else {}
    assert night.run(plan, Orders(by="anna", answers=answers)).state == "finished"
    assert restarts(night) == ["b", "a"]  # nothing was ordered twice
    assert night.all_well() == []
    told = [event.entry.message for event in night.events if event.entry.step == restart_of(plan, "b")]
    assert (
        told[-1]
        == f"{'anna says: it did' if word else 'seen'}: it had failed, and its effect is there now: back on 2.11.3"
    )


def test_a_word_is_not_taken_for_what_the_device_does_not_show():
    night, plan = stopped()
    with pytest.raises(Refused, match="does not show that it did: came back on 2.8.5"):
        night.run(plan, Orders(by="anna", answers={restart_of(plan, "b"): True}))
    assert restarts(night) == ["b"]


def test_the_advice_of_a_node_that_came_back_on_its_old_release_is_one_that_works():
    night = old_again()
    end = night.run(night.plan())
    assert "gallant resume roll-0001 goes on once tickets/b runs 2.11.3" in end.next


class Stale(Night):
    """A node tells its old version for `stale_s` after each start, from what it looked up before."""

    stale_s = 10.0

    def __post_init__(self) -> None:
        self.seen_first: dict[str, float] = {}
        super().__post_init__()

    def _reading(self, system, name):
        reading = super()._reading(system, name)
        since = self.seen_first.setdefault(f"{name} {reading.boot}", self.world.now)
        fresh = reading.boot.endswith("#1") or self.world.now - since >= self.stale_s
        return reading if fresh else replace(reading, version="2.8.5")


class VeryStale(Stale):
    stale_s = 120.0


def test_what_a_node_tells_right_after_its_boot_counts_once_it_was_told_for_as_long_as_it_may_be_stale():
    night = Stale(versions=ONE_HOP)
    end = night.run(night.plan())
    assert (end.state, night.all_well()) == ("finished", []), end.message


def test_a_node_that_tells_its_old_version_for_longer_has_come_back_on_it():
    night = VeryStale(versions=ONE_HOP)
    end = night.run(night.plan())
    assert end.state == "stopped"
    assert "came back on 2.8.5" in end.message


def test_stale_answers_and_kills_together_end_as_a_night_left_alone():
    for nth in range(1, 60, 7):
        night = Stale(versions=ONE_HOP)
        night.kill_at = ("after append", nth)
        assert night.finish(night.plan()).state == "finished", nth
        assert night.all_well() == [], nth
