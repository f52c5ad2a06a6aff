"""Whole rolls in virtual time: left alone, killed at any instant, and with devices that fail."""

from __future__ import annotations

import contextlib
from datetime import timedelta

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from gallant.core.errors import GallantError, Refused, Stopped
from gallant.core.ports import DeviceRefused, NotReached
from gallant.core.records import replace
from gallant.core.work.plan import basis_differences
from gallant.engine.means import Orders
from gallant.standin.world import Fault

from .night import ESTATE, Deaf, Killed, Night, last_state
from .shapes import ClusterNight

GOOD_END = {"a": ("3.2.4", "serving"), "b": ("3.2.4", "shadowing")}


@pytest.fixture(scope="module")
def alone() -> Night:
    """A night in which nothing goes wrong, for what it shows of itself."""
    night = Night()
    plan = night.plan()
    assert night.run(plan).state == "finished"
    return night


def test_a_roll_left_alone_ends_with_both_nodes_at_the_target_and_every_promise_kept(alone):
    assert alone.end_state() == GOOD_END
    assert alone.all_well() == []
    assert [a[:2] for a in alone.acts if a[1] != "preload"] == [
        ("pair", "snapshot"),
        ("b", "install"),
        ("b", "restart"),
        ("a", "handover"),
        ("a", "install"),
        ("a", "restart"),
        ("a", "failback"),
    ] * 2


def test_a_system_that_cannot_be_snapshotted_is_rolled_with_its_backup_alone():
    night = Night(snapshots=False)
    plan = night.plan()
    assert not any(step.kind == "snapshot" or "restore_point_there" in step.guards for step in plan.steps())
    assert night.run(plan).state == "finished"
    assert (night.all_well(), night.pair.snapshots) == ([], [])


def test_nothing_is_disturbed_once_the_restore_point_that_the_plan_asks_for_is_gone():
    night = Night()
    plan = night.plan()
    while not night.pair.snapshots:  # held after every step until it is there
        night.run(plan, Orders(by="tester", hold_after="step"))
    night.pair.snapshots.clear()
    end = night.run(plan)
    assert end.state == "stopped"
    assert "the restore point of tickets that the plan asks for is not there" in end.message
    assert all(kind not in ("install", "restart") for _, kind, _ in night.acts)


def test_the_same_night_twice_is_the_same_journal_to_the_byte(alone):
    again = Night()
    again.run(again.plan())
    assert again.events == alone.events


KILLS = [
    (f"{when} {kind}", n)
    for when in ("before", "after")
    for kind, most in (("append", 81), ("act", 19))
    for n in range(1, most)
]


@pytest.mark.parametrize("kill", KILLS, ids=lambda k: f"{k[0]} {k[1]}".replace(" ", "-"))
def test_a_roll_killed_at_any_instant_and_resumed_ends_as_one_left_alone(kill):
    night = Night()
    plan = night.plan()
    night.kill_at = kill
    assert night.finish(plan).state == "finished"
    assert night.end_state() == GOOD_END
    assert night.all_well() == []


@pytest.mark.parametrize("events", range(0, 80, 5))
def test_a_roll_whose_disk_is_full_stops_and_carries_on_when_there_is_room_again(events):
    night = Night()
    plan = night.plan()
    night.full_from = events
    with pytest.raises(GallantError, match="disk full"):
        night.run(plan)
    night.full_from = None
    assert night.finish(plan).state == "finished"
    assert night.end_state() == GOOD_END
    assert night.all_well() == []


def test_there_are_no_more_instants_than_those_that_are_tried(alone):
    assert alone.passed == {"append": 80, "act": 18}


@pytest.mark.parametrize("kill", [(f"{when} append", at) for at in range(1, 80, 4) for when in ("before", "after")])
@pytest.mark.parametrize("jump", [timedelta(days=-1), timedelta(hours=1)])
def test_a_clock_that_is_set_between_two_processes_changes_nothing_of_the_end(kill, jump):
    night = Night()
    plan = night.plan()
    night.kill_at = kill
    with contextlib.suppress(Killed):
        night.run(plan)
    night.clock_set = jump
    assert night.finish(plan, downtime=1.0).state == "finished"
    assert night.end_state() == GOOD_END
    assert night.all_well() == []


@pytest.mark.parametrize("order", ["install", "restart", "yield", "reclaim"])
def test_an_order_that_is_on_its_way_is_not_given_again_because_the_clock_was_set(order):
    node = "tickets/b" if order in ("install", "restart") else "tickets/a"
    night = Night(faults=[Fault(name="acts_late", node=node, act=order, nth=1, value=5)])
    plan = night.plan()
    with pytest.raises(Killed):
        night.run(plan)
    night.clock_set = timedelta(hours=1)
    assert night.finish(plan, downtime=0.5).state == "finished"
    assert night.end_state() == GOOD_END
    assert night.all_well() == []


@settings(max_examples=40, deadline=None)
@given(
    st.lists(
        st.tuples(st.sampled_from(["before append", "after append", "before act", "after act"]), st.integers(1, 90)),
        max_size=5,
    ),
    st.floats(0, 2000),
)
def test_any_number_of_kills_and_any_time_between_them_change_nothing_of_the_end(kills, downtime):
    night = Night()
    plan = night.plan()
    for kill in kills:
        if last_state(night) == "finished":  # killed after its last word was written: there is nothing to carry on
            break
        night.kill_at = kill
        try:
            if night.run(plan, downtime=downtime).state == "finished":
                break
        except Killed:
            continue
    night.kill_at = None
    if last_state(night) != "finished":
        assert night.run(plan, downtime=downtime).state == "finished"
    assert night.end_state() == GOOD_END
    assert night.all_well() == []


@pytest.mark.parametrize("order", ["install", "restart", "yield", "reclaim"])
@pytest.mark.parametrize("node", ["a", "b"])
@pytest.mark.parametrize("name", ["answer_lost", "never_acts"])
def test_an_order_whose_answer_is_lost_is_looked_for_and_never_given_twice(name, order, node):
    night = Night(faults=[Fault(name=name, node=f"tickets/{node}", act=order, nth=1)])
    assert night.run(night.plan()).state == "finished"
    assert night.end_state() == GOOD_END
    assert night.all_well() == []


FAILURES = [
    (Fault(name="install_fails_at", node="tickets/b", act="install", nth=1, value=40), "write error"),
    (Fault(name="no_return", node="tickets/b", act="restart", nth=1), "did not come back within"),
    (Fault(name="sync_stuck", node="tickets/b", act="restart", nth=1), "not steady within"),
    (Fault(name="corrupt_package", node="tickets/b", act="upload", nth=1), "altered on the way"),
    (Fault(name="wrong_version_after", node="tickets/b", act="install", nth=1), "would start next"),
    (Fault(name="role_stuck", node="tickets/a", act="yield", nth=1), "does not take over"),
]


@pytest.mark.parametrize(("fault", "said"), FAILURES, ids=[f.name for f, _ in FAILURES])
def test_a_device_that_fails_stops_the_roll_and_leaves_the_other_node_serving(fault, said):
    night = Night(faults=[fault])
    end = night.run(night.plan())
    assert end.state == "stopped"
    assert said in end.message
    assert "tickets/a serves" in end.message
    assert "gallant resume roll-0001" in end.next
    assert night.pair.serving == "a"
    assert night.pair.nodes["a"].version == "2.8.5"
    assert night.all_well() == []


@pytest.mark.parametrize(
    ("fault", "said"),
    [f for f in FAILURES if f[0].name not in ("no_return", "sync_stuck")],
    ids=lambda f: getattr(f, "name", ""),
)
def test_a_stopped_roll_carries_on_when_the_device_is_mended(fault, said):
    night = Night(faults=[fault])
    plan = night.plan()
    assert night.run(plan).state == "stopped"
    night.world.faults = []
    if fault.name == "wrong_version_after":
        night.pair.nodes["b"].boots_from = "left"
    assert night.run(plan, downtime=600).state == "finished"
    assert night.end_state() == GOOD_END
    assert night.broken == []


def test_a_node_that_comes_back_after_the_roll_has_stopped_is_not_restarted_again():
    night = Night(faults=[Fault(name="late_return", node="tickets/b", act="restart", nth=1, value=4000)])
    plan = night.plan()
    assert night.run(plan).state == "stopped"
    assert night.run(plan, downtime=4000).state == "finished"
    assert night.acts.count(("b", "restart", "2.11.3")) == 1
    assert night.all_well() == []


def test_an_active_role_that_moved_since_the_plan_is_taken_as_it_is():
    night = Night()
    plan = night.plan()
    night.pair.active = "b"
    assert night.run(plan).state == "finished"
    assert [a[:2] for a in night.acts if a[1] == "restart"][:2] == [("a", "restart"), ("b", "restart")]
    assert night.end_state() == GOOD_END
    assert night.all_well() == []


def test_a_node_that_already_runs_the_release_is_left_alone():
    night = Night(running={"a": "2.8.5", "b": "2.11.3"}, versions={"2.8.5": None, "2.11.3": "vers:dotted/>=2.8.0"})
    assert night.run(night.plan()).state == "finished"
    assert {a[0] for a in night.acts if a[1] in ("install", "restart")} == {"a"}
    assert night.all_well() == []


CHAIN = {"1.0": None, "2.0": "vers:dotted/>=1.0", "3.0": "vers:dotted/>=2.0", "4.0": "vers:dotted/>=3.0"}


@pytest.mark.parametrize("active", ["a", "b"])
@pytest.mark.parametrize("b", CHAIN)
@pytest.mark.parametrize("a", CHAIN)
def test_from_every_mixed_start_no_node_gets_a_release_that_is_older_or_not_in_the_plan(a, b, active):
    night = Night(versions=CHAIN, running={"a": a, "b": b}, active=active)
    if a == b == "4.0":
        with pytest.raises(GallantError, match="every node runs"):
            night.plan()
        return
    night.pair._compatible = lambda: True  # a device whose replica bears any two releases
    plan = night.plan()
    assert night.run(plan).state == "finished"
    assert night.end_state() == {"a": ("4.0", "serving"), "b": ("4.0", "shadowing")}
    later = list(CHAIN)
    for node, begun in (("a", a), ("b", b)):
        done = [release for at, kind, release in night.acts if at == node and kind == "install"]
        assert done == later[later.index(begun) + 1 :]
        assert done == [s.to for s in plan.steps() if s.node == node and s.kind == "install"]
    assert night.all_well() == []


def test_a_node_that_the_plan_leaves_alone_is_not_disturbed_though_it_runs_something_older_by_now():
    night = Night(running={"a": "2.8.5", "b": "2.11.3"}, versions={"2.8.5": None, "2.11.3": "vers:dotted/>=2.8.0"})
    plan = night.plan()
    node = night.pair.nodes["b"]
    node.bays[node.runs_from] = "2.8.5"
    end = night.run(plan)
    assert end.state == "stopped"
    assert "tickets/b runs 2.8.5, and the plan has no step on it" in end.message
    assert [a for a in night.acts if a[1] in ("install", "restart")] == []


def test_an_update_that_only_waits_for_its_restart_is_not_installed_again():
    night = Night(versions={"2.8.5": None, "2.11.3": "vers:dotted/>=2.8.0"})
    node = night.pair.nodes["b"]
    node.bays["right"], node.boots_from = "2.11.3", "right"
    assert night.run(night.plan()).state == "finished"
    assert [a[0] for a in night.acts if a[1] == "install"] == ["a"]


# Two hops of 28 steps in 12 waves. After 8 of them (restarts and moves of roles) the pair is not at a safe stop, the
# last ends the roll, and the packages of both nodes go side by side in each hop.
HOLDS = {"step": 28 - 8 - 1 - 2, "node": 4, "wave": 12 - 1, "hop": 1}


@pytest.mark.parametrize("hold_after", HOLDS)
def test_a_roll_that_holds_after_each_part_is_at_a_safe_stop_every_time(hold_after):
    night = Night()
    plan = night.plan()
    holds = 0
    while True:
        end = night.run(plan, Orders(by="tester", hold_after=hold_after), downtime=300)
        if end.state == "finished":
            break
        assert end.state == "held"
        assert end.next == "gallant resume roll-0001"
        assert all(n.up for n in night.pair.nodes.values())
        assert night.pair.replica()[0] == "matched"
        holds += 1
    assert holds == HOLDS[hold_after]
    assert night.all_well() == []


def test_a_hold_asked_for_in_a_restart_waits_until_the_node_is_whole_again():
    night = Night()
    plan = night.plan()
    roll_events = night.events

    class Asking(list):
        pass

    original = Night.moment

    def moment(self, kind, when):
        if any(e.entry.kind == "accepted" and e.entry.step == "tickets.1.b.restart" for e in roll_events):
            self.hold_reason = "asked for"
        original(self, kind, when)

    night.moment = moment.__get__(night)
    assert night.run(plan).state == "held"
    assert night.pair.replica()[0] == "matched"
    assert night.pair.nodes["b"].version == "2.11.3"
    assert night.pair.nodes["a"].version == "2.8.5"


def test_a_hold_asked_for_while_no_process_was_there_waits_for_a_safe_stop_too():
    kept = Night(running={"a": "2.11.3", "b": "2.11.3"})
    plan = kept.plan()
    assert kept.run(plan).state == "finished"
    safe = {step.id: step.safe_stop_s is not None for step in plan.steps()}
    held = 0
    for count in range(1, kept.passed["append"]):
        night = Night(running={"a": "2.11.3", "b": "2.11.3"})
        night.kill_at = ("after append", count)
        with pytest.raises(Killed):
            night.run(plan)
        night.hold_reason = "asked for"
        if night.run(plan, downtime=30).state == "finished":  # no safe stop was left before the end
            continue
        done = [e.entry.step for e in night.events if e.entry.kind == "outcome" and e.entry.result == "done"]
        assert not done or safe[done[-1]], (count, done[-1])
        held += 1
    assert held > kept.passed["append"] / 2


class Failing(Night):
    """A pair of which each node, from its so-manieth reading on, does not answer for a while."""

    def happens(self, what, name, node):
        super().happens(what, name, node)
        if what == "read":
            self.reads[node] = self.reads.get(node, 0) + 1
            if self.reads[node] == self.fails_from:
                self.away_until[node] = self.clock.real() + self.fails_s
            if self.clock.real() < self.away_until.get(node, 0.0):
                raise NotReached(f"{name}/{node} did not answer.")


@pytest.mark.parametrize("fails_from", range(1, 40, 3))
def test_a_node_that_does_not_answer_for_a_second_stops_nothing(fails_from):
    night = Failing(running={"a": "2.11.3", "b": "2.11.3"})
    night.reads, night.away_until, night.fails_from, night.fails_s = {}, {}, fails_from, 1.2
    end = night.run(night.plan())
    assert (end.state, night.all_well()) == ("finished", []), end.message


def test_a_strange_job_on_a_node_stops_the_roll_before_anything_is_done():
    night = Night()
    plan = night.plan()
    night.pair.keep("b", "shoal-2.11.3.pkg", b"package 2.11.3")
    night.pair.order("b", "install", "shoal-2.11.3.pkg")
    end = night.run(plan)
    assert end.state == "stopped"
    assert "not ours" in end.message
    assert [a for a in night.acts if a[1] in ("install", "restart")] == []


def test_a_release_recalled_since_the_plan_is_not_entered():
    from gallant.core.catalog.products import Recall
    from gallant.core.records import replace

    night = Night()
    plan = night.plan()
    releases = [
        replace(r, recall=Recall(date=r.released, reason="it loses data")) if r.version == "2.11.3" else r
        for r in night.catalog.releases
    ]
    night.catalog = replace(night.catalog, releases=tuple(releases))
    end = night.run(plan)
    assert end.state == "stopped"
    assert "it loses data" in end.message
    assert night.acts == []
    assert not [e for e in night.events if e.entry.kind == "derived"]


def test_a_one_way_hop_needs_a_consent_by_name_before_anything_is_written():
    from gallant.core.records import replace

    night = Night(versions={"2.8.5": None, "2.11.3": None})
    releases = [replace(r, one_way=True, one_way_because="The disks are rewritten.") for r in night.catalog.releases]
    night.catalog = replace(night.catalog, releases=tuple(releases))
    plan = night.plan()
    with pytest.raises(Refused, match="no way back") as refused:
        night.run(plan)
    assert "there is no way back from 2.11.3: The disks are rewritten." in refused.value.what
    assert night.events == []
    assert night.run(plan, Orders(by="tester", consents=("one-way:tickets",))).state == "finished"
    assert night.events[0].entry.consents == ("one-way:tickets",)


def test_a_step_whose_end_cannot_be_found_out_holds_until_a_person_answers():
    night = Night(faults=[Fault(name="answer_lost", node="tickets/b", act="install", nth=1)])
    plan = night.plan()
    pair = night.pair
    taken = pair._install

    def vanishes(node, package):  # the device took the order and has no trace of it, and then does not answer
        task = taken(node, package)
        node.up = False
        return task

    pair._install = vanishes
    end = night.run(plan)
    assert end.state == "held"
    assert "is not known" in end.message
    assert "--it-did tickets.1.b.install" in end.next
    pair._install = taken
    pair.nodes["b"].up = True
    pair.nodes["b"].tasks.clear()
    night.world.faults = []
    assert night.run(plan, Orders(by="anna", answers={"tickets.1.b.install": False}), downtime=100).state == "finished"
    assert any(e.entry.kind == "answered" and e.entry.by == "anna" for e in night.events)
    assert night.end_state() == GOOD_END


def test_a_pair_whose_usual_places_are_not_declared_keeps_the_roles_it_ends_with():
    night = Night(estate_text=ESTATE.replace("usual: {active: a, standby: b}", "usual: {}"))
    assert night.run(night.plan()).state == "finished"
    assert [a[1] for a in night.acts].count("failback") == 0
    assert [a[0] for a in night.acts if a[1] == "handover"] == ["a", "b"]
    assert night.all_well() == []


PREPARED = ESTATE.replace("    shape: pair\n", "    shape: pair\n    in_service: no\n")


def test_machines_that_are_not_in_service_are_all_restarted_at_once():
    night = Night(estate_text=PREPARED)
    plan = night.plan()
    assert [len(wave.tracks) for wave in plan.lanes[0].hops[0].waves] == [2, 1, 2, 1]
    assert night.run(plan).state == "finished"
    assert {n: v for n, (v, _) in night.end_state().items()} == {"a": "3.2.4", "b": "3.2.4"}
    kinds = [a[1] for a in night.acts if a[1] in ("install", "restart")]
    assert kinds == ["install", "install", "restart", "restart"] * 2
    assert not [a for a in night.acts if a[1] in ("handover", "failback")]
    assert night.all_well() == []


@settings(max_examples=25, deadline=None)
@given(
    st.lists(
        st.tuples(st.sampled_from(["before append", "after append", "before act", "after act"]), st.integers(1, 60)),
        max_size=4,
    )
)
def test_machines_that_are_not_in_service_end_the_same_however_often_the_roll_is_killed(kills):
    night = Night(estate_text=PREPARED)
    plan = night.plan()
    for kill in kills:
        if last_state(night) == "finished":  # killed after its last word was written: there is nothing to carry on
            break
        night.kill_at = kill
        try:
            if night.run(plan, downtime=30.0).state == "finished":
                break
        except Killed:
            continue
    night.kill_at = None
    assert last_state(night) == "finished" or night.run(plan, downtime=30.0).state == "finished"
    assert {n: v for n, (v, _) in night.end_state().items()} == {"a": "3.2.4", "b": "3.2.4"}
    assert night.all_well() == []


def test_the_hold_of_one_node_does_not_hide_the_failure_of_another():
    night = Night(
        estate_text=PREPARED, faults=[Fault(name="install_fails_at", node="tickets/b", act="install", nth=1, value=40)]
    )
    plan = night.plan()
    night.trouble = lambda what, name, node, n: setattr(
        night, "hold_reason", "asked for" if any(e.entry.kind == "accepted" for e in night.events[-3:]) else None
    )
    end = night.run(plan)
    while end.state == "held":
        end = night.run(plan)
    assert (end.state, "write error" in end.message) == ("stopped", True)


def test_a_plan_for_machines_in_preparation_is_not_one_for_machines_in_service():
    planned, serving = Night(estate_text=PREPARED).plan(), Night().plan()
    assert basis_differences(planned.basis, serving.basis) == ["tickets: shape was pair, not in service, is pair"]


# The move of the address takes 0.8 real seconds, which is 16 of the simulated ones.
BUDGET = ESTATE.replace('address: "10.1.1.1:860"', 'address: "10.1.1.1:860", budget_s: 8')


def test_a_service_that_is_out_for_longer_than_it_may_holds_the_work_at_the_next_safe_stop():
    night = Night(estate_text=BUDGET, running={"a": "2.11.3", "b": "2.11.3"})
    plan = night.plan()
    end = night.run(plan)
    assert end.state == "held"
    assert "blocks was out for " in end.message
    assert "and may be for 8 s" in end.message
    assert night.acts[-1][:2] == ("a", "handover")
    assert night.end_state() == {"a": ("2.11.3", "shadowing"), "b": ("3.2.4", "serving")}
    for _ in range(3):  # each run begins with a clean slate; a person has seen it
        if (end := night.run(plan)).state == "finished":
            break
    assert end.state == "finished"
    assert night.all_well() == []


def test_a_budget_that_is_kept_holds_nothing():
    night = Night(estate_text=BUDGET.replace("budget_s: 8", "budget_s: 60"), running={"a": "2.11.3", "b": "2.11.3"})
    assert night.run(night.plan()).state == "finished"


def test_what_uses_a_system_holds_its_work_when_it_is_out_for_too_long():
    def edit(text: str) -> str:
        text = text.replace('address: "10.2.1.1:860"', 'address: "10.2.1.1:860", budget_s: 30')
        return text.replace("services: {spit-blocks:", "uses: [tickets]\n    services: {spit-blocks:")

    night = Night(others={"spit": {"a": "3.2.4", "b": "3.2.4"}}, running={"a": "2.11.3", "b": "2.11.3"}, edit=edit)
    began = night.acts
    night.out = lambda service: service == "spit-blocks" and any(a[1] == "install" for a in began)
    end = night.run(night.plan())
    assert end.state == "held"
    assert "spit-blocks was out for " in end.message
    assert [a[1] for a in night.acts if a[1] != "preload"] == ["snapshot", "install"]


@pytest.mark.parametrize("steps", [2, 3, 5, 6])
def test_a_backup_that_went_stale_in_a_long_hold_is_taken_anew_without_a_word(steps):
    night = Night(running={"a": "2.11.3", "b": "2.11.3"})
    plan = night.plan()
    for _ in range(steps):
        assert night.run(plan, Orders(by="tester", hold_after="step")).state == "held"
    taken = len(night.backups)
    end = night.run(plan, downtime=30 * 3600.0)
    assert end.state == "finished", end.message
    assert len(night.backups) == taken + 1
    assert any(e.entry.kind == "again" and e.entry.by is None for e in night.events)
    assert (night.end_state(), night.all_well()) == (GOOD_END, [])


def test_a_backup_that_somebody_took_away_is_not_replaced_in_silence():
    night = Night(running={"a": "2.11.3", "b": "2.11.3"})
    plan = night.plan()
    for _ in range(5):
        night.run(plan, Orders(by="tester", hold_after="step"))
    night.backups.clear()
    end = night.run(plan)
    assert (end.state, "has no sealed backup" in end.message) == ("stopped", True)
    assert "--again tickets.1.a.backup" in end.next
    assert not end.next.endswith("; then: gallant resume roll-0001")  # that alone would stop once more


def quiet(then: str = "hold", allowed: int = 0) -> str:
    rule = f"    quiet: {{within_minutes: 20, sessions: {allowed}, then: {then}}}\n    usual:"
    return ESTATE.replace("    usual:", rule)


def test_a_node_is_not_disturbed_while_somebody_is_logged_in_and_the_lane_holds_in_the_end():
    left = {"b": 3.0}
    night = Night(
        estate_text=quiet(), running={"a": "2.11.3", "b": "2.11.3"}, sessions=lambda node: left.get(node, 0.0)
    )
    plan = night.plan()
    end = night.run(plan)
    assert (end.state, "held at a safe stop: 3 sessions are still open on tickets/b after 20 min" in end.message) == (
        "held",
        True,
    )
    assert {act[1] for act in night.acts} <= {"preload", "snapshot"}
    left.clear()
    assert night.run(plan).state == "finished"
    assert (night.end_state(), night.all_well()) == (GOOD_END, [])


def test_sessions_that_the_estate_allows_or_goes_on_without_hold_nothing():
    running = {"a": "2.11.3", "b": "2.11.3"}
    for text in (quiet(allowed=3), quiet(then="go-on")):
        night = Night(estate_text=text, running=running, sessions=lambda node: 3.0)
        assert night.run(night.plan()).state == "finished"
        assert night.all_well() == []
    silent = Night(estate_text=quiet(), running=running)  # a device that does not tell
    assert silent.run(silent.plan()).state == "finished"
    assert any("does not tell its sessions" in event.entry.message for event in silent.events)


def test_a_product_that_no_catalog_lists_any_more_is_said_before_anything_is_begun():
    night = Night()
    plan = night.plan()
    night.catalogs.clear()
    end = night.run(plan)
    assert (end.state, night.acts) == ("stopped", [])
    assert "tickets: no catalog lists ostrel/shoal any more" in end.message
    assert end.next == "gallant catalog sync; then: gallant resume roll-0001"


def test_the_journal_says_of_a_backup_what_it_is_and_how_large(alone):
    said = [
        e.entry.message
        for e in alone.events
        if (e.entry.kind, e.entry.result) == ("outcome", "done") and e.entry.step.endswith("backup")
    ]
    assert said == ["b0: 1 items, 4000 kB, sealed", "b1: 1 items, 4000 kB, sealed"]


def test_a_reading_that_is_lost_now_and_then_is_asked_for_again_and_stops_nothing():
    night = Night()

    def now_and_then(what, name, node, n):
        if what == "read" and n % 37 == 5:
            raise NotReached(f"{name}/{node} is away for a moment.")

    night.trouble = now_and_then
    assert night.run(night.plan()).state == "finished"
    assert night.all_well() == []


def test_a_node_that_cannot_be_read_at_all_stops_the_roll_in_its_own_words():
    night = Night()

    def gone(what, name, node, n):
        if what == "read" and node == "b" and n > 3:
            raise NotReached("tickets/b is away.")

    night.trouble = gone
    end = night.run(night.plan())
    assert end.state == "stopped"
    assert "tickets/b is away" in end.message


@pytest.mark.parametrize(("meaning", "state"), [("refused", "stopped"), ("already", "finished")])
def test_an_order_that_is_refused_stops_and_one_that_is_carried_out_already_goes_on(meaning, state):
    night = Night()

    def restarted(what, name, node, n):
        if (what, node, n) == ("act", "b", 3):  # after the upload and the install
            night.pairs["tickets"].order("b", "restart", "")
            raise DeviceRefused("tickets/b refuses: it restarts already.", meaning=meaning)

    night.trouble = restarted
    end = night.run(night.plan())
    assert end.state == state
    assert ("tickets/b: restart to 2.11.3 was refused. tickets/b refuses" in end.message) == (meaning == "refused")


@pytest.mark.parametrize(("keeps", "words"), [("SimVault", "a backup"), ("SimRestorePoints", "the restore point")])
def test_what_cannot_be_kept_beforehand_stops_the_roll_before_anything_is_touched(monkeypatch, keeps, words):
    async def fails(self, system, **said):
        raise Stopped("The disk is full.", next="Make room, then resume")

    night = Night()
    plan = night.plan()
    with monkeypatch.context() as patched:
        patched.setattr(f"tests.simulation.night.{keeps}.take", fails)
        end = night.run(plan)
    assert (end.state, [a for a in night.acts if a[1] != "preload"]) == ("stopped", [])
    assert end.message.startswith(f"The disk is full.\nNothing goes on without {words}")
    assert night.run(plan).state == "finished"
    assert night.all_well() == []


def test_a_roll_that_finished_is_not_carried_on_and_no_answer_is_taken_for_a_step_that_waits_for_none():
    night = Night()
    plan = night.plan()
    with pytest.raises(Refused, match=r"tickets\.1\.b\.install is not waiting for an answer"):
        night.run(plan, Orders(by="tester", answers={"tickets.1.b.install": True}))
    assert night.run(plan).state == "finished"
    with pytest.raises(Refused, match="is finished; there is nothing to carry on"):
        night.run(plan)


@pytest.mark.parametrize(
    ("when", "words"),
    [
        ("before its hop", "tickets: 3.2.4 is no longer in the catalog."),
        ("in its hop", "tickets/a: preload did not start: 3.2.4 is no longer in the catalog."),
    ],
)
def test_a_release_that_its_catalog_has_no_longer_is_not_entered(when, words):
    night = Night()
    plan, product = night.plan(), night.catalog

    def gone(what, name, node, n):
        done = {v for v, _ in night.end_state().values()} == {"2.11.3"}
        if what == "append" and (done if when == "before its hop" else name == "derived" and n == 2):
            kept = tuple(r for r in product.releases if r.version != "3.2.4")
            night.catalog = replace(product, releases=kept)

    night.trouble = gone
    end = night.run(plan)
    assert end.state == "stopped"
    assert words in end.message
    assert ("gallant plan tickets finds another way" in end.next) == (when == "before its hop")
    assert {v for v, _ in night.end_state().values()} == {"2.11.3"}
    night.trouble, night.catalog = (lambda *said: None), product
    assert night.run(plan).state == "finished"


@pytest.mark.parametrize(
    ("night", "fault", "act", "words"),
    [
        (Night, "install_fails_at", "install", "tickets/a serves; nothing else was started."),
        (Night, "no_return", "restart", "tickets/a serves alone; nothing else was started."),
        (ClusterNight, "no_return", "restart", "tickets/a and tickets/c serve; nothing else was started."),
    ],
)
def test_a_roll_that_stops_says_who_serves_and_whether_anybody_else_could(night, fault, act, words):
    value = 40 if act == "install" else 0  # percent; for ever
    stopped = night(faults=[Fault(name=fault, node="tickets/b", act=act, value=value)])
    assert words in stopped.run(stopped.plan()).message


class Hearing(Deaf):
    """Keeps what is said of a node that does not answer, once in a row, and that its step goes on."""

    def __init__(self) -> None:
        self.said: list[tuple[str, str]] = []

    def unanswered(self, step, what):
        if self.said[-1:] != [(step, what)]:
            self.said.append((step, what))

    def progress(self, step, percent, message):
        if self.said and self.said[-1][0] == step and self.said[-1][1] != "answers":
            self.said.append((step, "answers"))


@pytest.mark.parametrize(("since", "until"), [(30, 150), (30, 10**9)])
def test_a_node_that_is_silent_during_its_install_is_told_while_it_is_and_named_where_it_stays_so(since, until):
    hears = Hearing()
    night = Night(listener=hears)

    def silent(what, name, node, n):
        taken = (e.entry for e in night.events if (e.entry.kind, e.entry.step) == ("accepted", "tickets.1.b.install"))
        began = next((entry.at for entry in taken), None)
        if what == "read" and node == "b" and began and since <= (night.clock.now() - began).total_seconds() < until:
            raise NotReached("tickets/b cannot be reached: the line is dead.")

    night.trouble = silent
    end = night.run(night.plan())
    told = [("tickets.1.b.install", "tickets/b cannot be reached: the line is dead.")]
    if until < 10**9:
        assert end.state == "finished"
        assert hears.said == [*told, ("tickets.1.b.install", "answers")]
    else:
        assert end.state == "stopped"
        assert "tickets/b: install to 2.11.3 was not done within" in end.message
        assert "the line is dead" in end.message
        assert hears.said == told


def test_who_watches_hears_how_far_each_step_that_takes_a_while_is():
    told: dict[str, list[float]] = {}

    class Told(Deaf):
        def progress(self, step, percent, message):
            told.setdefault(step, []).append(percent)

    night = Night(listener=Told(), running={"a": "2.11.3", "b": "2.11.3"})
    assert night.run(night.plan()).state == "finished"
    for node in "ab":
        install = told[f"tickets.1.{node}.install"]
        assert install == sorted(install)
        assert install[-1] > 50
        assert told[f"tickets.1.{node}.restart"]


def test_work_that_is_taken_up_again_is_told_with_how_far_it_is():
    told: list[tuple[str, float, str]] = []

    class Told(Deaf):
        def progress(self, step, percent, message):
            told.append((step, percent, message))

    night = Night(running={"a": "2.11.3", "b": "2.11.3"})
    plan = night.plan()
    night.trouble = lambda what, name, node, n: (
        night.die()
        if any(e.entry.kind == "accepted" and e.entry.step.endswith("b.install") for e in night.events)
        else None
    )
    with pytest.raises(Killed):
        night.run(plan)
    night.trouble, night.listener = (lambda *said: None), Told()
    assert night.run(plan, downtime=60).state == "finished"
    again = next(one for one in told if "taken up again" in one[2])
    assert again[0] == "tickets.1.b.install"
    assert 10 < again[1] < 15  # percent: of eight minutes one is over


@pytest.mark.parametrize("lag_s", [0.0, 5.0])
@pytest.mark.parametrize("kill", [None, ("before act", 1), ("after append", 2), ("after act", 1)])
def test_what_a_failed_upload_left_behind_says_nothing_of_the_next_one(lag_s, kill):
    """However late the node tells what lies on it, and wherever the second attempt is cut off."""
    night = Night(lag_s=lag_s, faults=[Fault(name="corrupt_package", node="tickets/b", act="upload", nth=1)])
    plan = night.plan()
    assert "altered on the way" in night.run(plan).message
    night.world.faults = []
    night.passed.clear()
    night.kill_at = kill
    for _ in range(2):
        try:
            end = night.run(plan, downtime=60.0)
            break
        except Killed:
            continue
    assert (end.state, night.all_well()) == ("finished", [])


def test_an_upload_that_is_altered_each_time_and_never_answered_is_not_sent_for_ever_and_says_why():
    faults = [Fault(name=name, node="tickets/b", act="upload") for name in ("corrupt_package", "answer_lost")]
    night = Night(faults=faults)
    end = night.run(night.plan())
    assert end.state == "stopped"
    assert "was tried 3 times" in end.message
    assert "altered on the way" in end.message
    assert "Look at the network" in end.next
    assert [act for act in night.acts if act[1] == "preload" and act[0] == "b"] == [("b", "preload", "2.11.3")] * 3
