"""Nights that are taken back: from wherever a roll stands to what ran before it, with every promise kept on the way."""

from __future__ import annotations

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from gallant.core.catalog.products import Requirement
from gallant.core.errors import Refused
from gallant.core.plan.back.case import did
from gallant.core.plan.back.making import make_backout
from gallant.core.records import replace
from gallant.core.work.plan import NothingToDo, Plan
from gallant.engine.means import Orders
from gallant.standin.world import Fault

from . import night as nights
from .backwards import way_back
from .night import Killed, Night
from .shapes import LETTERS, ClusterNight, Extra

YES = Orders(by="tester", consents=("downtime:tickets", "recalled:tickets", "loses:tickets"))
ALL = replace(YES, consents=(*YES.consents, "one-way:tickets"))
ONE_STEP = replace(YES, hold_after="step")


def parts_of(night: Night) -> dict[str, dict[str, str]]:
    return {n: dict(m.parts) for n, m in night.pairs["tickets"].members.items()}


def would_start(night: Night) -> dict[str, str]:
    return {n: node.next_version for n, node in night.pairs["tickets"].nodes.items()}


def steps_done(night: Night, plan: Plan, most: int) -> None:
    """So many steps of a roll, held after each."""
    for _ in range(most):
        if night.run(plan, ONE_STEP).state != "held":
            return


class SlottedDriver(nights.SimDriver):
    """Of a pair whose nodes can fall back to their other slot."""

    orders = {**nights.ORDERS, "fall_back": "start-from"}
    can = nights.SimDriver.can | {"fall_back"}

    def _do(self, node, act):
        return super()._do(node, replace(act, package=act.release) if act.kind == "fall_back" else act)


class SlottedNight(Night):
    def driver(self, system):
        return SlottedDriver(self, system)

    def _reading(self, system, name):
        return replace(super()._reading(system, name), other_slot=self.pairs[system].nodes[name].spare or None)


nights.KINDS["start-from"] = "fall_back"


@pytest.mark.parametrize("kind", [Night, SlottedNight])
def test_a_finished_roll_of_two_hops_is_taken_back_to_where_it_began(kind):
    night = kind()
    began, plan = night.end_state(), night.plan()
    assert night.run(plan, YES).state == "finished"
    back = way_back(night, plan)
    assert [(hop.from_, hop.to) for hop in back.lanes[0].hops] == [("3.2.4", "2.11.3"), ("2.11.3", "2.8.5")]
    assert night.run(back, YES).state == "finished"
    assert (night.end_state(), night.all_well()) == (began, [])
    assert would_start(night) == {"a": "2.8.5", "b": "2.8.5"}


def test_what_the_other_slot_holds_is_not_installed_again():
    night = SlottedNight(running={"a": "2.11.3", "b": "2.11.3"})
    plan = night.plan()
    night.run(plan, YES)
    done = len(night.acts)
    back = way_back(night, plan)
    assert night.run(back, YES).state == "finished"
    assert {kind for _, kind, _ in night.acts[done:]} == {"fall_back", "restart", "handover", "failback"}


@pytest.mark.parametrize(
    ("kind", "steps"), [*((Night, n) for n in range(0, 34, 4)), *((SlottedNight, n) for n in range(2, 34, 6))]
)
def test_a_roll_is_taken_back_from_wherever_it_was_held(kind, steps):
    night = kind()
    began, plan = night.end_state(), night.plan()
    steps_done(night, plan, steps)
    try:
        back = way_back(night, plan)
    except NothingToDo:
        assert (night.end_state(), would_start(night)) == (began, {"a": "2.8.5", "b": "2.8.5"})
        return
    assert night.run(back, YES).state == "finished"
    assert (night.end_state(), night.all_well()) == (began, [])
    assert would_start(night) == {"a": "2.8.5", "b": "2.8.5"}


KILLS = [("append", range(1, 46, 4)), ("act", range(1, 9))]
EVERYWHERE = [(f"{when} {kind}", n) for kind, most in KILLS for when in ("before", "after") for n in most]


@pytest.mark.parametrize("where", EVERYWHERE, ids=lambda w: f"{w[0]} {w[1]}")
def test_a_back_out_that_is_killed_anywhere_ends_as_one_left_alone(where):
    night = Night(running={"a": "2.11.3", "b": "2.11.3"})
    began, plan = night.end_state(), night.plan()
    night.run(plan, YES)
    back = way_back(night, plan)
    night.passed.clear()
    night.kill_at = where
    try:
        night.run(back, YES)
    except Killed:
        assert night.finish(back).state == "finished"
    assert (night.end_state(), night.all_well()) == (began, [])


def test_nodes_that_began_on_different_releases_go_back_to_their_own():
    night = Night(running={"a": "2.11.3", "b": "2.8.5"})
    began, plan = night.end_state(), night.plan()
    night.run(plan, YES)
    assert night.run(way_back(night, plan), YES).state == "finished"
    assert (night.end_state(), night.all_well()) == (began, [])


def test_what_a_roll_did_not_touch_is_left_alone():
    night = Night(running={"a": "2.11.3", "b": "3.2.4"}, active="b")
    plan = night.plan()
    night.run(plan, YES)
    back = way_back(night, plan)
    assert {step.node for step in back.steps() if step.kind in ("install", "restart")} == {"a"}


def test_one_node_goes_back_by_itself():
    night = Night(running={"a": "2.11.3", "b": "2.11.3"})
    plan = night.plan()
    night.run(plan, YES)
    assert night.run(way_back(night, plan, {"tickets": ("b",)}), YES).state == "finished"
    assert night.end_state() == {"a": ("3.2.4", "serving"), "b": ("2.11.3", "shadowing")}
    assert night.all_well() == []


def test_nothing_goes_back_past_a_release_without_a_way_back_and_what_is_possible_is_said():
    night = Night()
    released = night.catalog.releases
    night.catalog = replace(
        night.catalog,
        releases=(*released[:2], replace(released[2], one_way=True, one_way_because="Volumes are converted.")),
    )
    plan, orders = night.plan(), replace(ONE_STEP, consents=("one-way:tickets",))
    while night.end_state()["b"][0] != "3.2.4":
        night.run(plan, orders)
    with pytest.raises(
        Refused, match=r"tickets: there is no way back from 3.2.4: Volumes are converted \(node b\)"
    ) as caught:
        way_back(night, plan)
    assert caught.value.next == "gallant backout roll-0001 tickets/a takes back the rest"


def test_nothing_goes_back_where_no_package_leads_back():
    night = Night(versions={"2.8.5": None, "2.11.3": "vers:dotted/>=2.8.0|<2.12", "3.2.4": "vers:dotted/>=2.11.3"})
    plan = night.plan()
    night.run(plan, ALL)
    with pytest.raises(Refused, match="no package of 2.11.3 goes on 3.2.4, and no other slot holds it"):
        way_back(night, plan)


def test_nothing_goes_back_of_a_system_of_which_a_node_was_not_read():
    night = Night()
    plan = night.plan()
    night.run(plan, ALL)
    ground = night.ground()
    unread = replace(ground, readings={name: r for name, r in ground.readings.items() if name != "tickets/b"})
    with pytest.raises(Refused, match="tickets/b"):
        make_backout(unread, "roll-0001", plan, did(plan.steps()), {"tickets": ("a",)}, {"ostrel-shoal": "p"}, "tester")


def test_nothing_goes_back_that_another_system_needs_by_now():
    night = Night(others={"spit": {"a": "2.11.3", "b": "2.11.3"}}, running={"a": "2.11.3", "b": "2.11.3"})
    plan = night.plan()
    night.run(plan, YES)
    needs = (Requirement(product="ostrel/shoal", range="vers:dotted/>=3.0"),)
    spit = night.catalogs["ostrel/spit"]
    night.catalogs["ostrel/spit"] = replace(
        spit, releases=tuple(replace(r, requires=needs) if r.version == "3.2.4" else r for r in spit.releases)
    )
    with pytest.raises(Refused, match="it breaks: spit on 3.2.4 needs tickets on"):
        way_back(night, plan, {"tickets": ("a", "b")})
    both = way_back(night, plan)
    assert night.run(both, YES).state == "finished"
    assert {night.end_state(name)["a"][0] for name in ("tickets", "spit")} == {"2.11.3"}


def test_systems_go_back_in_the_order_that_keeps_what_one_needs_of_the_other():
    night = Night(
        others={"spit": {"a": "2.11.3", "b": "2.11.3"}},
        running={"a": "2.11.3", "b": "2.11.3"},
        requires={"3.2.4": (Requirement(product="ostrel/spit", range="vers:dotted/>=3.0"),)},
    )
    plan = night.plan()
    assert night.run(plan, YES).state == "finished"
    back = way_back(night, plan)
    hops = {lane.system: lane.hops for lane in back.lanes}
    assert hops["spit"][0].needs == (hops["tickets"][-1].id,)
    assert night.run(back, YES).state == "finished"
    assert night.all_well() == []


def test_a_release_that_was_recalled_since_is_gone_back_to_by_consent_alone():
    from gallant.core.catalog.products import Recall

    night = Night(running={"a": "2.11.3", "b": "2.11.3"})
    plan = night.plan()
    night.run(plan, YES)
    recall = Recall(date=nights.BEGAN, reason="it leaks")
    night.catalog = replace(
        night.catalog,
        releases=tuple(replace(r, recall=recall) if r.version == "2.11.3" else r for r in night.catalog.releases),
    )
    back = way_back(night, plan)
    with pytest.raises(Refused, match="the plan goes back to it all the same"):
        night.run(back, Orders(by="tester"))
    assert night.run(back, YES).state == "finished"


def test_a_node_that_failed_its_install_is_laid_as_it_was_without_a_restart():
    night = SlottedNight(running={"a": "2.11.3", "b": "2.11.3"})
    plan = night.plan()
    while would_start(night)["b"] != "3.2.4":
        night.run(plan, ONE_STEP)
    done = len(night.acts)
    back = way_back(night, plan)
    assert night.run(back, YES).state == "finished"
    assert night.acts[done:] == [("b", "fall_back", "2.11.3")]


REWIND = [(f"{when} {kind}", n) for kind, most in (("append", 12), ("act", 2)) for when in ("before", "after") for n in range(2 if kind == "append" else 1, most + 1)]  # fmt: skip


def test_a_single_goes_back_to_the_restore_point_that_its_roll_took():
    night = ClusterNight(shape="single", running={"a": "2.11.3"}, leader=None, extras={"bios": Extra(kind="BIOS")})
    plan = night.plan()
    assert night.run(plan, YES).state == "finished"
    done = len(night.acts)
    back = way_back(night, plan, points=[("tickets", "3.2.4")])
    with pytest.raises(Refused, match="everything since then is lost on it"):
        night.run(back, Orders(by="tester", consents=("downtime:tickets",)))
    assert night.run(back, YES).state == "finished"
    assert (night.acts[done:], night.end_state(), parts_of(night)) == (
        [("a", "rewind", "3.2.4")],
        {"a": ("2.11.3", "alone")},
        {"a": {"bios": "1.0"}},
    )


@pytest.mark.parametrize("where", REWIND, ids=lambda w: f"{w[0]} {w[1]}")
def test_going_back_to_a_restore_point_is_done_once_wherever_it_is_killed(where):
    night = ClusterNight(shape="single", running={"a": "2.11.3"}, leader=None)
    plan = night.plan()
    night.run(plan, YES)
    back = way_back(night, plan, points=[("tickets", "3.2.4")])
    night.passed.clear()
    night.kill_at = where
    try:
        night.run(back, YES)
    except Killed:
        assert night.finish(back).state == "finished"
    assert night.end_state() == {"a": ("2.11.3", "alone")}
    assert [act[1] for act in night.acts].count("rewind") == 1


EXTRAS = {
    "bmc": Extra(kind="management controller", restart="none"),
    "bios": Extra(kind="BIOS", needs=("ostrel/bmc", "2.0")),
    "nic": Extra(kind="NIC", needs=("ostrel/bios", "2.0")),
    "seats": Extra(kind="add-on module", restart="service", needs=("ostrel/bmc", "2.0")),
}
SIZES = {"single": 1, "fabric": 3, "quorum": 3, "pool": 4}


@settings(max_examples=40, deadline=None)
@given(st.data())
def test_every_shape_with_its_components_goes_back_from_wherever_it_was_held(data):
    shape = data.draw(st.sampled_from(sorted(SIZES)))
    names = LETTERS[: SIZES[shape]]
    running = {n: data.draw(st.sampled_from(("2.8.5", "2.11.3", "3.2.4"))) for n in names}
    night = ClusterNight(
        shape=shape,
        running=running,
        load=20 if shape == "pool" else None,
        leader="a" if shape in ("quorum", "fabric") else None,
        extras={n: EXTRAS[n] for n in data.draw(st.sets(st.sampled_from(sorted(EXTRAS)))) | ({"bios", "bmc"})},
        drains=shape in ("quorum", "pool") and data.draw(st.booleans()),
        snapshots=False,
    )
    began, parts = night.end_state(), parts_of(night)
    try:
        plan = night.plan()
    except (NothingToDo, Refused):
        return
    steps_done(night, plan, data.draw(st.integers(0, 60)))
    try:
        back = way_back(night, plan)
    except NothingToDo:
        assert ({n: v for n, (v, _) in night.end_state().items()}, parts_of(night)) == (running, parts)
        return
    end = night.run(back, YES)
    assert end.state == "finished", end.message
    assert {n: v for n, (v, _) in night.end_state().items()} == running
    assert (parts_of(night), night.all_well()) == (parts, [])
    members = night.pairs["tickets"].members.values()
    assert all(m.next_version == m.version and m.up and not m.drained for m in members)
    assert all(m.next_parts.get(p, v) == v for m in members for p, v in m.parts.items())
    if shape in ("quorum", "fabric"):
        assert night.end_state() == began


@pytest.mark.parametrize("fault", ["install_fails_at", "no_return", "answer_lost", "role_stuck"])
def test_a_back_out_that_meets_a_fault_breaks_no_promise(fault):
    night = Night(running={"a": "2.11.3", "b": "2.11.3"})
    plan = night.plan()
    night.run(plan, YES)
    back = way_back(night, plan)
    act = {"no_return": "restart", "role_stuck": "yield"}.get(fault, "install")
    night.faults.append(
        Fault(
            name=fault,
            node="tickets/a" if fault == "role_stuck" else "tickets/b",
            act=act,
            value=0 if fault == "no_return" else 40,
        )
    )
    end = night.run(back, YES)
    assert end.state == ("finished" if fault == "answer_lost" else "stopped")
    assert night.all_well() == []


@pytest.mark.parametrize("shape", ["quorum", "pool"])
def test_a_node_that_was_only_set_aside_is_taken_back_into_service(shape):
    night = ClusterNight(
        shape=shape,
        running=dict.fromkeys(LETTERS[:4], "2.11.3"),
        load=20 if shape == "pool" else None,
        leader="a" if shape == "quorum" else None,
        drains=True,
        snapshots=False,
        faults=[Fault(name="install_fails_at", node="tickets/b", act="install", value=40)],
    )
    plan = night.plan()
    assert night.run(plan, YES).state == "stopped"
    assert night.pairs["tickets"].members["b"].drained
    back = way_back(night, plan, {"tickets": ("b",)})
    assert [step.kind for step in back.steps() if step.node == "b" and step.kind != "backup"] == ["refill", "steady"]
    end = night.run(back, YES)
    assert end.state == "finished", end.message
    assert "tickets runs what it ran before" in end.message
    assert (night.pairs["tickets"].members["b"].drained, night.all_well()) == (False, [])


def test_a_release_without_a_way_back_that_was_only_installed_is_taken_off_again():
    night = SlottedNight(running={"a": "2.11.3", "b": "2.11.3"})
    *older, newest = night.catalog.releases
    night.catalog = replace(night.catalog, releases=(*older, replace(newest, one_way=True)))
    plan, orders = night.plan(), replace(ONE_STEP, consents=("one-way:tickets",))
    while would_start(night)["b"] != "3.2.4":
        night.run(plan, orders)
    done = len(night.acts)
    assert night.run(way_back(night, plan), YES).state == "finished"
    assert night.acts[done:] == [("b", "fall_back", "2.11.3")]


def test_a_node_that_joined_on_the_way_goes_back_to_where_it_joined_from():
    versions = {"2.8.5": None, "2.9.1": None, "2.11.3": "vers:dotted/>=2.8.0"}
    night = Night(versions=versions, running={"a": "2.9.1", "b": "2.8.5"})
    began, plan = night.end_state(), night.plan()
    assert [(hop.from_, hop.to) for hop in plan.lanes[0].hops] == [("2.8.5", "2.11.3")]
    assert night.run(plan, YES).state == "finished"
    assert night.run(way_back(night, plan), YES).state == "finished"
    assert (night.end_state(), night.all_well()) == (began, [])


def test_a_node_that_was_taken_back_already_is_not_taken_back_once_more():
    night = ClusterNight(shape="quorum", running=dict.fromkeys("abc", "2.11.3"), drains=True, snapshots=False)
    plan = night.plan()
    assert night.run(plan, YES).state == "finished"
    assert not any(hop.returns for hop in way_back(night, plan).lanes[0].hops)


def test_a_node_that_does_not_serve_on_what_it_runs_goes_back_before_it_is_taken_back():
    night = ClusterNight(
        shape="quorum",
        running=dict.fromkeys("abc", "2.11.3"),
        drains=True,
        snapshots=False,
        faults=[Fault(name="never_acts", node="tickets/b", act="refill")],
    )
    plan = night.plan()
    assert night.run(plan, YES).state == "stopped"
    assert (night.end_state()["b"][0], night.pairs["tickets"].members["b"].drained) == ("3.2.4", True)
    night.faults.clear()
    back = way_back(night, plan)
    assert [hop.returns for hop in back.lanes[0].hops] == [()]
    assert [step.kind for step in back.steps() if step.node == "b"][-4:] == ["install", "restart", "refill", "steady"]
    assert night.run(back, YES).state == "finished"
    assert {v for v, _ in night.end_state().values()} == {"2.11.3"}
    assert night.all_well() == []


def test_the_way_back_is_offered_once_something_was_altered_and_not_by_a_roll_that_is_one():
    offer = "To go back instead: gallant backout"
    night = Night(running={"a": "2.11.3", "b": "2.11.3"})
    plan, bent = night.plan(), night.bend
    night.bend = lambda reading: replace(bent(reading), role="active")  # both: nobody may touch either
    end = night.run(plan, YES)
    assert (end.state, offer in end.message) == ("stopped", False), end.message
    night.bend = bent
    night.faults.append(Fault(name="install_fails_at", node="tickets/a", act="install", value=40))
    end = night.run(plan, YES)
    assert (end.state, offer in end.message) == ("stopped", True), end.message
    night.faults.append(Fault(name="install_fails_at", node="tickets/b", act="install", value=40))
    back = way_back(night, plan)
    end = night.run(back, YES)
    assert (end.state, offer in end.message) == ("stopped", False), end.message


def test_the_first_readings_of_a_roll_that_are_stale_are_waited_for_before_its_order_is_made():
    """The plan knew what runs; right after a start a node told for a while
    what it ran before, and was to be laid as it was without a restart."""
    night = Night(running={"a": "2.11.3", "b": "2.11.3"})
    plan = night.plan()
    assert night.run(plan, YES).state == "finished"
    back = way_back(night, plan)
    began = night.world.now

    def stale(reading):
        is_stale = reading.name == "tickets/b" and night.world.now < began + 15 and reading.version == "3.2.4"
        return replace(reading, version="2.11.3") if is_stale else reading

    night.bend = stale
    assert night.run(back, YES).state == "finished"
    assert {node: version for node, (version, _) in night.end_state().items()} == {"a": "2.11.3", "b": "2.11.3"}
