"""Nights of systems that bring their own nodes to a release by one order: Gallant
watches the same promises, has the device pause where it can, and says plainly what
it cannot prevent. The judge looks at the world whenever a member goes down."""

from __future__ import annotations

import pytest

from gallant.core.errors import Refused
from gallant.core.plan.back.case import did
from gallant.core.plan.back.making import make_backout
from gallant.core.ports import DeviceRefused
from gallant.core.records import replace
from gallant.core.work.plan import DEVICE_LED, steps_of
from gallant.engine.means import Orders
from gallant.standin.world import Fault

from .led import BY_GALLANT, LedDriver, LedNight
from .night import Killed, last_state
from .shapes import LETTERS, ClusterNight, Extra

BOTH = ("pause", "go_on", *sorted(BY_GALLANT))  # of a device whose mode decides


def night_of(size: int = 3, **more) -> LedNight:
    more.setdefault("running", dict.fromkeys(LETTERS[:size], "2.8.5"))
    return LedNight(usual=False, **more)


@pytest.mark.parametrize(("shape", "size"), [("quorum", 3), ("quorum", 5), ("fabric", 2), ("pool", 4)])
def test_one_order_for_each_hop_brings_every_node_to_its_aim(shape, size):
    night = night_of(size, shape=shape, leader="a" if shape != "pool" else None)
    plan = night.plan()
    assert (plan.lanes[0].kind, plan.lanes[0].stops_by) == (DEVICE_LED, "pause")
    end = night.run(plan)
    assert (end.state, night.whole(), night.ordered) == ("finished", [], ["2.11.3", "3.2.4"])
    assert {kind for _, kind, _ in night.acts} == {"preload", "snapshot", "update_all"}


def test_nodes_that_start_on_different_releases_are_brought_along():
    night = night_of(3, running=dict(zip("abc", ("2.8.5", "2.11.3", "2.8.5"), strict=True)))
    assert night.run(night.plan()).state == "finished"
    assert night.whole() == []


def test_a_node_that_runs_something_newer_is_not_taken_back_by_an_order_for_all():
    night = night_of(3, running=dict(zip("abc", ("2.8.5", "2.11.3", "3.2.4"), strict=True)))
    with pytest.raises(Refused, match="tickets brings all of its nodes to 2.11.3, and c runs 3.2.4"):
        night.plan()


@pytest.mark.parametrize("kind", ["append", "act"])
@pytest.mark.parametrize("when", ["before", "after"])
def test_a_roll_that_is_killed_anywhere_gives_the_order_once_and_ends_as_one_left_alone(kind, when):
    for at in range(1, 90, 2):
        night = night_of()
        plan = night.plan()
        night.kill_at = (f"{when} {kind}", at)
        try:
            if night.run(plan).state == "finished" and night.kill_at is not None:
                break  # nothing is left that it could be killed at
        except Killed:
            assert night.finish(plan).state == "finished", at
        assert (night.whole(), night.ordered) == ([], ["2.11.3", "3.2.4"]), at
    else:
        raise AssertionError("it was not killed everywhere")


def held_in_the_midst(night: LedNight, plan, after_s: float = 300.0):
    """Ask for a hold once the device is at its work."""

    def trouble(what: str, name: str, node: str, n: int) -> None:
        if night.pairs["tickets"].shared and night.world.now - night.pairs["tickets"].shared[-1].began > after_s:
            night.hold_reason = "asked by tester"

    night.trouble = trouble
    return night.run(plan)


def test_a_hold_has_the_device_pause_between_two_nodes_and_a_resume_has_it_go_on():
    night = night_of()
    plan = night.plan()
    end = held_in_the_midst(night, plan)
    cluster = night.pairs["tickets"]
    assert (end.state, cluster.shared[-1].state) == ("held", "paused")
    assert "tickets is held at a safe stop: asked by tester" in end.message
    assert all(m.up for m in cluster.members.values())
    assert sorted(m.version for m in cluster.members.values()) == ["2.11.3", "2.8.5", "2.8.5"]
    night.trouble, night.hold_reason = lambda *_: None, None
    assert night.run(plan, downtime=3600.0).state == "finished"
    assert (night.whole(), night.ordered) == ([], ["2.11.3", "3.2.4"])
    told = [e.entry.message for e in night.events if e.entry.kind == "told"]
    assert told == ["told to pause: asked by tester", "told to go on: the roll is taken up again"]


def test_a_device_that_can_only_give_up_is_told_so_and_gets_its_order_again():
    night = night_of(steering=("cancel",))
    plan = night.plan()
    assert plan.lanes[0].stops_by == "cancel"
    assert held_in_the_midst(night, plan).state == "held"
    night.trouble, night.hold_reason = lambda *_: None, None
    assert night.run(plan, downtime=3600.0).state == "finished"
    assert (night.whole(), night.ordered) == ([], ["2.11.3", "2.11.3", "3.2.4"])


def test_a_device_that_cannot_be_stopped_is_watched_to_its_end_and_the_roll_holds_then():
    night = night_of(steering=())
    plan = night.plan()
    assert plan.lanes[0].stops_by == ""
    end = held_in_the_midst(night, plan)
    assert end.state == "held"
    assert {m.version for m in night.pairs["tickets"].members.values()} == {"2.11.3"}
    told = [e.entry.message for e in night.events if e.entry.kind == "told"]
    assert told == ["asked by tester; it cannot be stopped from here, and is watched on"]


@pytest.mark.parametrize("steering", [("pause", "go_on"), ()])
def test_a_device_that_takes_more_nodes_than_its_shape_tolerates_is_stopped_or_named(steering):
    careless = Fault(name="careless", node="tickets/b", act="update-all")
    night = night_of(5, steering=steering, faults=[careless], careful=False, shape="fabric")
    end = night.run(night.plan())
    assert night.most_out == 2
    assert end.state == "held"
    assert "tickets has b, c out of service at once, and tolerates 1" in end.message
    runs = sorted(m.version for m in night.pairs["tickets"].members.values())
    assert runs.count("2.11.3") == (2 if steering else 5)


def test_a_device_that_goes_on_before_a_replica_is_whole_is_told_to_pause():
    night = night_of(3)
    cluster = night.pairs["tickets"]
    waits, cluster.sync_s = cluster.sync_s, 5.0  # it is satisfied sooner than its members are whole

    def start(name: str, own=cluster.start) -> None:
        own(name)
        cluster.members[name].in_sync_at = night.world.now + 900.0

    cluster.start = start
    end = night.run(night.plan())
    assert end.state == "held", waits
    assert "tickets has taken c out while b was not in sync" in end.message


@pytest.mark.parametrize("fault", ["install_fails_at", "no_return", "answer_lost", "never_acts"])
@pytest.mark.parametrize("node", ["a", "b"])
def test_one_fault_of_each_kind_breaks_no_promise_and_leaves_the_rest_serving(fault, node):
    night = night_of(
        3, faults=[Fault(name=fault, node=f"tickets/{node}", act="update-all", value=0 if fault == "no_return" else 40)]
    )
    plan = night.plan()
    end = night.run(plan)
    assert end.state in ("finished", "stopped", "held")
    assert night.all_well() == []
    assert sum(m.up for m in night.pairs["tickets"].members.values()) >= 2
    if fault == "install_fails_at":
        assert f"{node}: cannot write" in end.message
        night.world.faults.clear()
        assert night.run(plan, downtime=60.0).state == "finished"
        assert night.whole() == []


def test_components_that_wait_for_the_restart_are_laid_before_the_one_order():
    extras = {"adapter": Extra("NIC"), "module": Extra("add-on module", restart="none")}
    extras |= {"daemon": Extra("add-on module", restart="service"), "format": Extra("on-disk format", restart="none")}
    night = night_of(3, extras=extras)
    consents = Orders(by="tester", consents=("one-way:tickets",))
    night.can_drain = lambda system: False
    plan = night.plan()
    moves = {s.kind for s in plan.steps()}
    assert "update_all" in moves
    assert "restart" not in moves
    end = night.run(plan, consents)
    assert (end.state, night.whole()) == ("finished", []), end.message


def test_neither_some_of_its_nodes_nor_an_order_of_them_can_be_chosen():
    for choice, words in (
        ({"chosen": {"tickets": ("b",)}}, "no choice of nodes"),
        ({"wishes": {"tickets": ("b",)}}, "order"),
    ):
        with pytest.raises(Refused, match="updates all of its nodes by one order") as refused:
            night_of(3, **choice).plan()
        assert words in (refused.value.why or "")


class Carrying(LedNight):
    """A guest of one node stands on one of its members."""

    def more_systems(self):
        return (
            "  guest: {product: ostrel/shoal, shape: single, site: harbour, driver: http, profile: ostrel-shoal,\n"
            '    nodes: {a: {address: "https://10.2.0.1", serial: G, runs_on: tickets/b}}}\n'
        )

    def _pair(self, system, running):
        return super()._pair(system, running if system.name == "tickets" else {"a": "3.2.4"})


def test_what_stands_on_such_a_system_is_not_put_at_risk():
    with pytest.raises(Refused, match="guest stands on them"):
        Carrying(running=dict.fromkeys("abc", "2.8.5"), usual=False).plan()


def test_what_the_device_did_is_taken_back_by_one_order_too():
    versions = {"2.8.5": None, "2.11.3": None}
    night = night_of(3, versions=versions)
    plan = night.plan()
    assert night.run(plan).state == "finished"
    began = list(plan.steps())
    ground = night.ground()
    back = make_backout(
        ground, "roll-0001", plan, did(began), {"tickets": tuple("abc")}, {"ostrel-shoal": "p"}, "tester"
    )
    assert [s.kind for s in back.steps() if s.kind not in ("backup", "snapshot", "steady", "preload")] == ["update_all"]
    assert {s.to for s in back.steps() if s.kind == "update_all"} == {"2.8.5"}
    night.events.clear()
    assert night.run(back).state == "finished"
    assert {m.version for m in night.pairs["tickets"].members.values()} == {"2.8.5"}
    with pytest.raises(Refused, match="one release"):
        make_backout(ground, "roll-0001", plan, did(began), {"tickets": ("b",)}, {"ostrel-shoal": "p"}, "tester")
    assert last_state(night) == "finished"


@pytest.mark.parametrize(("reach", "kind"), [("all", DEVICE_LED), ("one", "update"), (None, DEVICE_LED)])
def test_the_mode_of_the_nodes_decides_who_leads(reach, kind):
    night = night_of(3, leader=None, shape="pool", steering=BOTH)
    reading = night._reading
    night._reading = lambda s, n: replace(reading(s, n), reach=reach)
    plan = night.plan()
    assert plan.lanes[0].kind == kind
    assert night.run(plan).state == "finished"
    assert night.whole() == []


def test_a_mode_in_which_an_order_reaches_all_is_refused_where_no_order_is_for_all_of_them():
    night = ClusterNight(running=dict.fromkeys("abc", "2.8.5"))
    reading = night._reading
    night._reading = lambda s, n: replace(reading(s, n), reach="all")
    with pytest.raises(Refused, match="An order to one node of tickets reaches all of them"):
        night.plan()


def test_nodes_in_different_modes_are_refused_at_the_plan_and_at_the_roll():
    night = ClusterNight(running=dict.fromkeys("abc", "2.8.5"))
    plan, reading = night.plan(), night._reading
    night._reading = lambda s, n: replace(reading(s, n), reach="all" if n == "b" else "one")
    with pytest.raises(Refused, match="tickets/b says all"):
        night.plan()
    end = night.run(plan)
    assert (end.state, night.acts) == ("stopped", [])
    assert "tickets/b says all" in end.message


def test_a_device_that_never_takes_its_word_is_told_so_often_and_no_oftener():
    night = night_of(3)

    class Deaf(LedDriver):
        async def act(self, node, act, *, send_by, progress=None):
            if act.kind == "pause":
                raise DeviceRefused("It does not listen.", meaning="refused")
            return await super().act(node, act, send_by=send_by, progress=progress)

    night.driver = lambda system: Deaf(night, system)
    night.trouble = lambda what, name, node, n: setattr(night, "hold_reason", "asked" if night.ordered else None)
    night.run(night.plan())
    told = [e.entry.message for e in night.events if e.entry.kind == "told"]
    times = told.count("told to pause: asked")
    assert (times, told.count("it refused to pause: It does not listen.")) == (5 * len(night.ordered),) * 2


def test_a_device_that_breaks_a_promise_is_told_so_at_once():
    careless = Fault(name="careless", node="tickets/b", act="update-all")
    night = night_of(5, faults=[careless], careful=False, shape="fabric")
    since = []

    def look(what, name, node, n):
        if not since and night.most_out == 2:
            since.append(night.clock.now())

    night.trouble = look
    night.run(night.plan())
    told = next(e.entry.at for e in night.events if e.entry.kind == "told")
    assert (told - since[0]).total_seconds() < 10


def test_what_waits_for_the_restart_is_laid_last_on_the_node_that_is_given_the_order():
    plan = night_of(3, extras={"adapter": Extra("NIC")}).plan()
    hop = next(hop for hop in plan.lanes[0].hops if any("laid for" in wave.why for wave in hop.waves))
    laid = [track.node for wave in hop.waves if "laid for" in wave.why for track in wave.tracks]
    order = next(s.node for s in steps_of(hop.waves) if s.kind == "update_all")
    assert sorted(laid) == ["a", "b", "c"]
    assert laid[-1] == order
