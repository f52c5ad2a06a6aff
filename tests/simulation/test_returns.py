"""Nights of nodes that come back in stages: what answers again is not back yet, and each stage has a time of its
own."""

from __future__ import annotations

from dataclasses import dataclass, field

import pytest

from gallant.core.readings import Facet
from gallant.core.records import replace
from gallant.core.work.knows import Returns
from gallant.standin.world import Fault

from .night import Killed
from .shapes import ClusterDriver, ClusterNight


class ReturningDriver(ClusterDriver):
    def knows(self):
        return replace(super().knows(), returns=self.night.returns)


@dataclass
class LinkedNight(ClusterNight):
    """A fabric whose uplinks are held down for a while after a start: never may both switches be without."""

    shape: str = "fabric"
    hold_s: float = 400.0
    returns: Returns = field(default_factory=Returns)
    dead: str = ""  # a node whose links are down for good

    def driver(self, system):
        return ReturningDriver(self, system)

    def _pair(self, system, running):
        cluster = super()._pair(system, running)
        cluster.link_hold_s, cluster.sync_s = self.hold_s, 0.0
        return cluster

    def _reading(self, system, name):
        up = self.pairs[system].links_up(name) and name != self.dead
        facets = tuple(Facet(name=f"uplink-{n}", state="up" if up else "down") for n in (1, 2))
        return replace(super()._reading(system, name), facets=facets)

    def judge(self, system, node, kind, release):
        super().judge(system, node, kind, release)
        cluster = self.pairs[system]
        others = [n for n in cluster.members if n != node and n != self.dead]
        if kind in ("restart", "handover", "failback") and not all(map(cluster.links_up, others)):
            self.broken.append(f"I2: {kind} of {node} while the uplinks of another are down")


def night_of(**more) -> LinkedNight:
    more.setdefault("running", dict.fromkeys("ab", "2.8.5"))
    return LinkedNight(**more)


def test_the_next_switch_waits_until_the_uplinks_of_the_last_one_are_up_again():
    night = night_of()
    assert night.run(night.plan()).state == "finished"
    assert night.whole() == []


@pytest.mark.parametrize("when", ["before", "after"])
def test_that_holds_after_a_kill_anywhere_too(when):
    for at in range(1, 60, 4):
        night = night_of()
        plan = night.plan()
        night.kill_at = (f"{when} append", at)
        try:
            night.run(plan)
        except Killed:
            assert night.finish(plan, downtime=5.0).state == "finished"
        assert night.whole() == [], at


def test_links_that_were_down_before_are_not_waited_for():
    night = night_of(dead="b")
    assert night.run(night.plan()).state == "finished"
    assert night.whole() == []


def test_links_that_do_not_come_up_in_the_time_that_the_profile_gives_them_stop_the_roll():
    night = night_of(hold_s=5000.0, returns=Returns(links_within_s=600))
    end = night.run(night.plan())
    assert end.state == "stopped"
    assert (
        "tickets/b: uplink-1, uplink-2 not up again, for longer than the 10 min that its profile gives that"
        in end.message
    )
    assert [node for node, kind, _ in night.acts if kind == "restart"] == ["b"]


def test_a_time_of_its_own_may_be_longer_than_that_of_the_whole_step():
    night = night_of(hold_s=3000.0, returns=Returns(links_within_s=3600))
    assert night.run(night.plan()).state == "finished"
    assert night.whole() == []


@pytest.mark.parametrize(
    ("returns", "state", "words"),
    [
        (Returns(answers_within_s=400), "stopped", "does not answer: it is restarting, for longer than the 7 min"),
        (Returns(answers_within_s=900), "finished", ""),
        (Returns(), "finished", ""),
        (Returns(serves_within_s=60, in_sync_within_s=600), "finished", ""),
    ],
)
def test_a_node_that_is_late_is_given_the_time_of_the_stage_that_it_is_in(returns, state, words):
    late = Fault(name="late_return", node="tickets/b", act="restart", value=300)
    night = night_of(hold_s=0.0, returns=returns, faults=[late])
    end = night.run(night.plan())
    assert end.state == state, end.message
    assert words in end.message


def test_who_watches_sees_how_much_time_is_left_for_the_links():
    said: list[str] = []

    class Listening:
        def event(self, event): ...
        def progress(self, step, percent, message):
            said.append(message)

        def unanswered(self, step, what): ...
        def sample(self, sample): ...
        def waiting(self, began, ended, step): ...

    night = night_of(returns=Returns(links_within_s=600), listener=Listening())
    assert night.run(night.plan()).state == "finished"
    told = [words for words in said if "uplink-1" in words]
    assert told
    assert all(words.endswith("left for that") for words in told)
