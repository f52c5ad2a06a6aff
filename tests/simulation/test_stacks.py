"""Nights of machines on which other systems stand: what goes down
with a machine was ready for it, at every position of a kill."""

from __future__ import annotations

from datetime import timedelta

import pytest

from gallant.core.catalog.products import Requirement
from gallant.core.errors import Refused
from gallant.core.plan.back.case import did
from gallant.core.plan.back.making import make_backout
from gallant.core.records import replace
from gallant.core.windows.rules import Span
from gallant.engine.means import Orders
from gallant.standin.world import Fault

from .night import BEGAN, Killed, make_product
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


def test_nothing_more_is_started_below_a_system_whose_lease_another_has_taken():
    night = StackedNight()

    def taken(what: str, name: str, node: str, n: int) -> None:
        if night.acts[-1:] and night.acts[-1][1] == "restart":
            night.lost.add("hosts")

    night.trouble = taken
    end = night.run(night.plan())
    assert end.state == "stopped"
    assert [kind for _, kind, _ in night.acts].count("restart") == 1
    assert night.acts[-1][1] == "restart"
    assert "The lease of hosts was taken by another Gallant" in end.message


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
    night = StackedNight(both=True, hosts=dict.fromkeys("abc", "2.8.5"))  # two hops of the hosts: no restart is shared
    plan = night.plan()
    assert plan.lanes[1].hops[0].needs == (plan.lanes[0].hops[-1].id,)
    assert night.run(plan).state == "finished"
    assert well(night) == []
    assert {m.version for m in night.pairs["hosts"].members.values()} == {"3.2.4"}


def both_done(night: StackedNight) -> list[str]:
    hosts = night.pairs["hosts"].members.values()
    return well(night) + [f"hosts/{m.name} runs {m.version}" for m in hosts if m.version != "3.2.4"]


def disturbed(night: StackedNight, kind: str) -> dict[str, int]:
    """How often each was drained, or restarted."""
    acts = [f"{system}/{node}" for system, node, what, _ in night.every_act if what == kind]
    return {name: acts.count(name) for name in dict.fromkeys(acts)}


@pytest.mark.parametrize("drains", [True, False])
def test_where_both_layers_of_a_machine_are_due_it_is_emptied_once_and_one_restart_serves_both(drains):
    night = StackedNight(both=True, hosts_drain=drains)
    assert night.run(night.plan()).state == "finished"
    assert both_done(night) == []
    assert disturbed(night, "restart") == {"tickets/a": 1, "tickets/b": 1, "tickets/c": 1}
    assert set(disturbed(night, "drain").values()) == ({1} if drains else set())


def test_in_which_order_a_plan_lists_its_lanes_makes_no_difference_to_what_they_share():
    night = StackedNight(both=True)
    plan = night.plan()
    assert night.run(replace(plan, lanes=plan.lanes[::-1])).state == "finished"
    assert both_done(night) == []
    assert disturbed(night, "restart") == {"tickets/a": 1, "tickets/b": 1, "tickets/c": 1}


@pytest.mark.parametrize("machines", [{"a": "3.2.4"}, {"a": "3.2.4", "b": "3.2.4"}])
def test_a_host_whose_machine_is_current_already_is_restarted_by_itself(machines):
    night = StackedNight(both=True, running=dict.fromkeys("abc", "2.11.3") | machines)
    assert night.run(night.plan()).state == "finished"
    assert both_done(night) == []
    own = {f"hosts/{n}": 1 for n in machines} | {f"tickets/{n}": 1 for n in "abc" if n not in machines}
    assert disturbed(night, "restart") == own
    assert set(disturbed(night, "drain").values()) == {1}


@pytest.mark.parametrize("hosts", [{"a": "3.2.4"}, {"b": "3.2.4", "c": "3.2.4"}])
def test_a_host_that_is_current_already_goes_down_with_its_machine_and_comes_back_as_it_was(hosts):
    night = StackedNight(both=True, hosts=dict.fromkeys("abc", "2.11.3") | hosts)
    assert night.run(night.plan()).state == "finished"
    assert both_done(night) == []
    assert disturbed(night, "restart") == {"tickets/a": 1, "tickets/b": 1, "tickets/c": 1}


def test_a_machine_that_its_hosts_need_first_is_restarted_before_them_and_shares_nothing():
    class Needing(StackedNight):
        def more_catalogs(self):
            needs = {"3.2.4": (Requirement(product="ostrel/shoal", range="vers:dotted/>=3.0"),)}
            return {"ostrel/hosts": make_product(self.versions, "ostrel/hosts", needs)}

    night = Needing(both=True)
    assert night.run(night.plan()).state == "finished"
    assert both_done(night) == []
    assert set(disturbed(night, "restart").values()) == {1}
    assert len(disturbed(night, "restart")) == 6


def test_a_host_that_comes_back_on_its_old_release_stops_the_machines():
    night = StackedNight(both=True)
    plan = night.plan()
    cluster = night.pairs["hosts"]

    def start(name: str, own=cluster.start) -> None:
        cluster.members[name].next_version = cluster.members[name].version
        own(name)

    cluster.start = start
    end = night.run(plan)
    assert end.state == "stopped"
    assert "came back on 2.11.3, not on 3.2.4" in end.message
    assert len(disturbed(night, "restart")) == 1
    assert night.all_well() == []


def test_a_machine_is_not_restarted_while_its_host_would_come_back_on_what_no_plan_says():
    night = StackedNight()
    plan = night.plan()
    night.pairs["hosts"].members["c"].next_version = "3.2.4"
    end = night.run(plan)
    assert end.state == "stopped"
    assert "hosts/c runs 2.11.3 and would start 3.2.4, and stands on tickets/c" in end.message
    assert "c" not in {node for node, kind, _ in night.acts if kind == "restart"}
    assert night.all_well() == []


@pytest.mark.parametrize("until", [20, 40, 60, 80, 100, 120])
def test_what_shared_its_restarts_is_taken_back_from_wherever_it_holds(until):
    night = StackedNight(both=True, versions={"2.11.3": None, "3.2.4": None})
    plan, seen = night.plan(), iter(range(10000))

    def trouble(*_) -> None:
        night.hold_reason = "as asked" if next(seen) > until * 4 else None

    night.trouble = trouble
    night.run(plan)
    night.trouble, night.hold_reason = lambda *_: None, None
    intents = {e.entry.step for e in night.events if e.entry.kind == "intent"}
    begun = did(s for s in plan.steps() if s.id in intents)
    every = {"tickets": tuple("abc"), "hosts": tuple("abc")}
    back = make_backout(night.ground(), "roll-0001", plan, begun, every, {"ostrel-shoal": "p"}, "tester")
    night.events.clear()
    assert night.run(back).state == "finished"
    assert night.broken == []
    nodes = [node for pair in night.pairs.values() for node in pair.nodes.values()]
    assert {(node.version, node.next_version) for node in nodes} == {("2.11.3", "2.11.3")}


def test_a_backup_that_goes_stale_between_the_laying_and_the_restart_is_taken_anew():
    night = StackedNight(both=True)
    plan = night.plan()
    end = night.run(plan, Orders(by="tester", hold_after="hop"))
    assert end.state == "held"
    end = night.run(plan, downtime=30 * 3600.0)
    assert (end.state, both_done(night)) == ("finished", []), end.message


SHARED = [(f"{when} {kind}", n) for kind, most in (("append", 100), ("act", 34)) for when in ("before", "after") for n in range(1, most, 5)]  # fmt: skip


@pytest.mark.parametrize("where", SHARED, ids=lambda w: f"{w[0]} {w[1]}")
def test_a_night_that_shares_its_restarts_and_is_killed_anywhere_ends_as_one_left_alone(where):
    night = StackedNight(both=True)
    plan = night.plan()
    night.kill_at = where
    try:
        night.run(plan)
    except Killed:
        assert night.finish(plan).state == "finished"
    assert both_done(night) == []
    assert disturbed(night, "restart") == {"tickets/a": 1, "tickets/b": 1, "tickets/c": 1}


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
    night = StackedNight(faults=[Fault(name=fault, node="tickets/a", act=act, value=0 if fault == "no_return" else 40)])
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


class LateHosts(StackedNight):
    """Its hosts answer so many seconds after their machine is up again."""

    late_s = 60.0

    def _below(self, hosts, name, powered):
        if not powered:
            super()._below(hosts, name, powered)
            return
        hosts.members[name].powered = True
        self.world.after(self.late_s, lambda: hosts.start(name))


@pytest.mark.parametrize(("between", "state"), [(0.6, "finished"), (1.5, "stopped")])
def test_a_host_has_as_long_to_answer_again_as_its_step_and_not_as_is_expected(between, state):
    night = LateHosts()
    plan = night.plan()
    back = next(step for step in plan.steps() if step.kind == "return")
    assert back.deadline_s > back.estimate_s
    night.late_s = back.estimate_s + between * (back.deadline_s - back.estimate_s)
    assert night.run(plan).state == state


@pytest.mark.parametrize("name", "abc")
def test_a_lane_is_not_done_while_any_host_that_stands_on_it_is_not_well(name):
    night = StackedNight()
    plan = night.plan()
    last = list(plan.steps())[-1].id

    def out(what: str, kind: str, node: str, n: int) -> None:
        if any(e.entry.kind == "outcome" and e.entry.step == last for e in night.events):
            night.pairs["hosts"].members[name].drained = True

    night.trouble = out
    end = night.run(plan)
    assert end.state == "stopped"
    assert f"hosts/{name}, which stands on it, is not well" in end.message


@pytest.mark.parametrize("share", [0.2, 0.35, 0.5, 0.65, 0.8, 0.95])
def test_when_its_window_ends_no_host_is_left_aside(share):
    whole = StackedNight()
    plan = whole.plan()
    assert whole.run(plan).state == "finished"
    night, window = StackedNight(), Span(begin=BEGAN, end=BEGAN + (whole.clock.now() - BEGAN) * share)
    assert night.run(plan, Orders(by="tester", windows={"tickets": (window,)})).state == "held"
    assert all(m.up and not m.drained for m in night.pairs["hosts"].members.values())


@pytest.mark.parametrize("both", [False, True])
def test_killed_anywhere_and_carried_on_after_its_window_no_host_is_left_aside(both):
    plan = StackedNight(both=both).plan()
    for nth in range(8, 50, 2):
        night = StackedNight(both=both)
        night.kill_at = ("after append", nth)
        with pytest.raises(Killed):
            night.run(plan)
        span = Span(begin=BEGAN - timedelta(hours=2), end=BEGAN - timedelta(hours=1))
        end = night.run(plan, Orders(by="tester", windows=dict.fromkeys(plan.systems, (span,))), downtime=60)
        assert end.state == "held", (nth, end.message)
        aside = [m.name for m in night.pairs["hosts"].members.values() if not m.up or m.drained]
        assert aside == [], (nth, end.message)


@pytest.mark.parametrize("where", [(f"{when} append", n) for when in ("before", "after") for n in range(1, 90, 8)], ids=lambda w: f"{w[0]} {w[1]}")  # fmt: skip
def test_the_way_back_of_what_shared_its_restarts_is_killed_anywhere_and_ends_where_it_began(where):
    night = StackedNight(both=True, versions={"2.11.3": None, "3.2.4": None})
    plan = night.plan()
    assert night.run(plan).state == "finished"
    every = {"tickets": tuple("abc"), "hosts": tuple("abc")}
    back = make_backout(night.ground(), "roll-0001", plan, did(plan.steps()), every, {"ostrel-shoal": "p"}, "tester")
    night.events.clear()
    night.kill_at = where
    try:
        night.run(back)
    except Killed:
        assert night.finish(back).state == "finished"
    assert night.broken == []
    assert {node.version for pair in night.pairs.values() for node in pair.nodes.values()} == {"2.11.3"}
