"""Nights of machines on which other systems stand: what goes down with a machine was ready for it, at every position of a kill."""

from __future__ import annotations

import pytest

from gallant.core.errors import Refused
from gallant.engine.means import Orders
from gallant.standin.world import Fault

from .night import Killed
from .shapes import StackedNight

YES = Orders(by="tester", consents=("downtime:tickets", "downtime:hosts"))


def well(night: StackedNight) -> list[str]:
    """What is not as it should be in the end, of the machines and of what stands on them."""
    hosts = night.pairs["hosts"].members.values()
    return night.whole() + [f"hosts/{m.name} is out" for m in hosts if not m.up or m.drained]


def test_a_machine_is_restarted_only_when_its_host_is_empty_and_leads_nothing():
    night = StackedNight()
    plan = night.plan()
    assert plan.lanes[0].also == ("hosts",)
    assert night.run(plan).state == "finished"
    assert well(night) == []
    assert [node for node, kind, _ in night.acts if kind == "restart"] == ["a", "c", "b"]  # the leader's machine last


def test_hosts_that_cannot_be_emptied_go_down_one_at_a_time_and_the_leader_hands_over_first():
    night = StackedNight(hosts_drain=False)
    assert night.run(night.plan()).state == "finished"
    assert well(night) == []


def test_a_system_of_one_node_goes_down_with_its_machine_by_consent_alone():
    night = StackedNight(hosts={"a": "2.11.3"}, hosts_drain=False, hosts_shape="single", lead="")
    plan = night.plan()
    assert list(plan.lanes[0].falls) == ["hosts"]
    with pytest.raises(Refused, match="hosts: it stands on tickets, and is down with it"):
        night.run(plan, Orders(by="tester"))
    assert night.acts == []
    assert (night.run(plan, YES).state, well(night)) == ("finished", [])


def test_two_systems_of_which_one_stands_on_the_other_are_never_worked_on_at_once():
    night = StackedNight(both=True)
    plan = night.plan()
    assert plan.lanes[1].hops[0].needs == (plan.lanes[0].hops[-1].id,)
    assert night.run(plan).state == "finished"
    assert well(night) == []
    assert {m.version for m in night.pairs["hosts"].members.values()} == {"3.2.4"}


def test_a_host_that_is_not_well_keeps_every_machine_where_it_is():
    night = StackedNight()
    plan = night.plan()
    night.pairs["hosts"].members["c"].in_sync_at = 1e9
    end = night.run(plan)
    assert end.state == "stopped"
    assert not [a for a in night.acts if a[1] == "restart"]
    assert night.all_well() == []


@pytest.mark.parametrize("where", [(f"{when} {kind}", n) for kind, most in (("append", 70), ("act", 26)) for when in ("before", "after") for n in range(2, most, 3)], ids=lambda w: f"{w[0]} {w[1]}")  # fmt: skip
def test_a_stacked_night_that_is_killed_anywhere_ends_as_one_left_alone(where):
    night = StackedNight()
    plan = night.plan()
    night.kill_at = where
    try:
        night.run(plan)
    except Killed:
        assert night.finish(plan).state == "finished"
    assert well(night) == []


@pytest.mark.parametrize("fault", ["no_return", "install_fails_at", "answer_lost"])
def test_a_machine_in_trouble_keeps_the_other_hosts_serving(fault):
    act = "install" if fault == "install_fails_at" else "restart"
    night = StackedNight(faults=[Fault(name=fault, node="tickets/a", act=act, value=40)])
    end = night.run(night.plan())
    assert end.state in ("finished", "stopped")
    assert night.all_well() == []
    assert sum(m.up and not m.drained for m in night.pairs["hosts"].members.values()) >= 2


def test_a_roll_that_holds_leaves_no_host_aside():
    night = StackedNight()
    plan = night.plan()
    while (end := night.run(plan, Orders(by="tester", hold_after="step"))).state == "held":
        assert all(m.up and not m.drained for m in night.pairs["hosts"].members.values())
    assert end.state == "finished"
    assert well(night) == []
