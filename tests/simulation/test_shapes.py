"""Every shape, 1 to 9 nodes: mixed starting versions, nodes that are out already, faults, and kills at every
position."""

from __future__ import annotations

import pytest

from gallant.core.errors import Refused
from gallant.engine.means import Orders
from gallant.standin.world import Fault

from .night import Killed
from .shapes import LETTERS, ClusterNight

DOWN = Orders(by="tester", consents=("downtime:tickets",))
SIZES = {"single": (1,), "fabric": (1, 2, 3, 6), "quorum": (1, 2, 3, 4, 5, 9), "pool": (1, 2, 5, 9)}
EVERY = [(shape, size) for shape, sizes in SIZES.items() for size in sizes]


def night_of(shape: str, size: int, **more) -> ClusterNight:
    more.setdefault("running", dict.fromkeys(LETTERS[:size], "2.8.5"))
    more.setdefault("leader", "a" if shape in ("quorum", "fabric") and size > 1 else None)
    return ClusterNight(shape=shape, **more)


@pytest.mark.parametrize(("shape", "size"), EVERY)
def test_every_shape_is_brought_to_its_aim_with_no_more_out_than_it_tolerates(shape, size):
    night = night_of(shape, size)
    assert night.run(night.plan(), DOWN).state == "finished"
    assert night.whole() == []


@pytest.mark.parametrize(("shape", "size"), [("fabric", 3), ("quorum", 5), ("pool", 5)])
def test_nodes_that_start_on_different_releases_end_on_one(shape, size):
    night = night_of(
        shape, size, running=dict(zip(LETTERS, ("2.8.5", "2.11.3", "3.2.4", "2.8.5", "2.11.3"), strict=False))
    )
    assert night.run(night.plan(), DOWN).state == "finished"
    assert night.whole() == []


@pytest.mark.parametrize(("shape", "size"), [("fabric", 3), ("quorum", 3), ("quorum", 5), ("pool", 5)])
@pytest.mark.parametrize("aside", ["b", "bc"])
def test_what_is_out_of_service_already_is_done_first_and_counts(shape, size, aside):
    night = night_of(shape, size, aside=tuple(aside))
    assert night.run(night.plan(), DOWN).state == "finished"
    assert night.whole() == []
    first = [a for a in night.acts if a[1] == "restart"][: len(aside)]
    assert sorted(a[0] for a in first) == sorted(aside)


def test_a_node_that_is_out_and_not_to_be_worked_on_keeps_the_others_where_they_are():
    night = night_of("quorum", 3, running={"a": "2.8.5", "b": "3.2.4", "c": "2.8.5"}, aside=("b",))
    with pytest.raises(Refused, match="b is out of service, and no work here brings it back"):
        night.plan()


@pytest.mark.parametrize(("load", "width"), [(10, 5), (30, 3), (50, 2), (60, 1), (None, 1)])
def test_a_pool_goes_as_wide_as_the_others_can_carry(load, width):
    night = night_of("pool", 6, load=load)
    plan = night.plan()
    assert {t.node == s.node for hop in plan.lanes[0].hops for w in hop.waves for t in w.tracks for s in t.steps} == {
        True
    }
    assert night.run(plan).state == "finished"
    assert night.whole() == []
    assert night.most_out == width


@pytest.mark.parametrize("when", ["before", "meanwhile"])
@pytest.mark.parametrize(("planned", "load", "width"), [(10, 50, 2), (50, 60, 1)])
def test_a_pool_gets_narrower_when_its_nodes_carry_more_than_the_plan_saw(planned, load, width, when):
    night = night_of("pool", 6, load=planned)
    plan = night.plan()

    def more(what: str = "", name: str = "", node: str = "", n: int = 0) -> None:
        if what in ("", "act"):
            night.load = load

    if when == "before":
        more()
    night.trouble = more
    assert night.run(plan).state == "finished"
    assert night.whole() == []
    assert night.most_out == width


def test_a_pool_whose_nodes_carry_too_much_is_left_as_it_is():
    night = night_of("pool", 6, load=70)
    end = night.run(night.plan())
    assert end.state == "stopped"
    assert "the load of the others would be 84 %, over 80 %" in end.message
    assert night.most_out == 0


def test_a_pool_never_gets_wider_than_its_plan():
    night = night_of("pool", 6, load=50)
    plan = night.plan()
    night.load = 5
    assert night.run(plan).state == "finished"
    assert night.most_out == 2


def test_failure_domains_are_never_away_together_and_the_estate_caps_the_width():
    domains = dict(zip(LETTERS, ("r1", "r2", "r1", "r2", "r1", "r2"), strict=False))
    night = night_of("pool", 6, load=5, domains=domains)
    assert night.run(night.plan()).state == "finished"
    assert (night.whole(), night.most_out) == ([], 3)
    night = night_of("pool", 6, load=5, limits=", width: 2")
    assert night.run(night.plan()).state == "finished"
    assert (night.whole(), night.most_out) == ([], 2)


@pytest.mark.parametrize("shape", ["quorum", "pool"])
def test_a_node_that_carries_guests_is_drained_first_and_carries_again(shape):
    night = night_of(shape, 4, drains=True, load=5 if shape == "pool" else None)
    assert night.run(night.plan()).state == "finished"
    assert night.whole() == []
    assert all(m.guests for m in night.pairs["tickets"].members.values()) or shape == "pool"
    kinds = [kind for node, kind, _ in night.acts if node == "b" and kind in ("drain", "install", "restart", "refill")]
    assert kinds == ["drain", "install", "restart", "refill"] * 2


@pytest.mark.parametrize(("shape", "size"), [("single", 1), ("quorum", 2), ("quorum", 1)])
def test_a_service_that_nothing_carries_on_goes_down_only_with_a_persons_consent(shape, size):
    night = night_of(shape, size)
    plan = night.plan()
    assert plan.lanes[0].down_s >= 600
    with pytest.raises(Refused, match="its service is down for about"):
        night.run(plan)
    assert night.acts == []


def kills(shape: str) -> list[tuple[str, int]]:
    return [
        (f"{when} {kind}", n)
        for kind, most in (("append", 40), ("act", 16))
        for when in ("before", "after")
        for n in range(1, most, 3)
    ]


@pytest.mark.parametrize(("shape", "size", "load"), [("quorum", 3, None), ("pool", 4, 20), ("fabric", 3, None)])
@pytest.mark.parametrize("where", kills("any"), ids=lambda w: f"{w[0]} {w[1]}")
def test_a_night_that_is_killed_anywhere_and_resumed_ends_as_one_left_alone(shape, size, load, where):
    night = night_of(shape, size, load=load)
    plan = night.plan()
    night.kill_at = where
    try:
        night.run(plan, DOWN)
    except Killed:
        assert night.finish(plan).state == "finished"
    assert night.whole() == []


FAULTS = ("install_fails_at", "no_return", "role_stuck", "corrupt_package", "answer_lost", "never_acts")


@pytest.mark.parametrize("fault", FAULTS)
@pytest.mark.parametrize(("shape", "size"), [("quorum", 3), ("pool", 4), ("fabric", 3)])
@pytest.mark.parametrize("node", ["a", "b"])
def test_one_fault_of_each_kind_breaks_no_promise_and_leaves_the_rest_serving(shape, size, fault, node):
    act = {"install_fails_at": "install", "role_stuck": "hand-over", "corrupt_package": "fetch", "no_return": "restart"}
    on = act.get(fault, "restart")
    night = night_of(
        shape,
        size,
        load=20,
        faults=[Fault(name=fault, node=f"tickets/{node}", act=on, value=0 if fault == "no_return" else 40)],
    )
    end = night.run(night.plan(), DOWN)
    assert end.state in ("finished", "stopped", "held")
    assert night.all_well() == []
    up = [n for n, m in night.pairs["tickets"].members.items() if m.up and not m.drained]
    assert len(up) >= size - 1


def test_a_node_that_stands_beside_the_way_joins_it_where_one_hop_leads_there():
    versions = {"2.8.5": None, "2.9.1": None, "2.11.3": "vers:dotted/>=2.8.0", "3.2.4": "vers:dotted/>=2.11.3"}
    night = night_of("quorum", 3, versions=versions, running={"a": "2.8.5", "b": "2.9.1", "c": "2.8.5"})
    assert night.run(night.plan()).state == "finished"
    assert night.whole() == []


def test_a_node_from_which_no_hop_of_the_way_goes_on_is_named():
    versions = {
        "2.8.5": None,
        "2.9.1": "vers:dotted/2.0.0",
        "2.11.3": "vers:dotted/2.8.5",
        "3.2.4": "vers:dotted/2.9.1|2.11.3",
    }
    night = night_of("quorum", 3, versions=versions, running={"a": "2.8.5", "b": "2.9.1", "c": "2.8.5"})
    with pytest.raises(Refused, match="tickets/b runs 2.9.1, from which no hop of the route"):
        night.plan()


def test_a_persons_order_is_the_rolls_order_too():
    night = night_of("quorum", 5)
    night.wishes = {"tickets": ("d", "b")}
    assert night.run(night.plan()).state == "finished"
    assert night.whole() == []
    restarts = [node for node, kind, _ in night.acts if kind == "restart"]
    assert restarts == ["d", "b", "c", "e", "a"] * 2


@pytest.mark.parametrize(("shape", "load"), [("quorum", None), ("pool", 20)])
def test_a_roll_that_holds_leaves_no_node_aside(shape, load):
    night = night_of(shape, 4, drains=True, load=load)
    plan = night.plan()
    while (end := night.run(plan, Orders(by="tester", hold_after="step"))).state == "held":
        assert all(m.up and not m.drained for m in night.pairs["tickets"].members.values())
    assert end.state == "finished"
    assert night.whole() == []


def test_a_pool_that_is_out_of_service_as_a_whole_is_brought_back_at_once_also_after_a_kill():
    for at in range(1, 40, 2):
        night = night_of("pool", 3, aside=tuple("abc"))
        plan = night.plan()
        night.kill_at = ("after append", at)
        try:
            night.run(plan)
        except Killed:
            assert night.finish(plan).state == "finished"
        assert night.whole() == []


def test_of_nodes_side_by_side_one_takes_the_stale_backup_anew_for_all():
    night = night_of("pool", 6, load=10, snapshots=False)
    plan = night.plan()
    assert night.run(plan, Orders(by="tester", hold_after="wave")).state == "held"
    taken = len(night.backups)
    end = night.run(plan, downtime=30 * 3600.0)
    assert end.state == "finished", end.message
    assert night.most_out > 1
    assert len(night.backups) == taken + 2  # of this hop once more, and of the next
    assert night.whole() == []


def test_a_pool_that_waits_between_two_parts_of_a_wave_asks_at_a_pace():
    """Just when the first part is done, a node that has its turn later loses its replica for a quarter of an hour."""
    night = night_of("pool", 6, load=10)
    plan = night.plan()
    night.load = 50
    lost = []

    def trouble(what, name, node, n):
        done = sum(e.entry.kind == "outcome" and ".steady" in e.entry.step for e in night.events)
        if done == 2 and not lost:
            lost.append(night.world.now)
            night.pairs["tickets"].members["f"].in_sync_at = night.world.now + 900

    night.trouble = trouble
    assert night.run(plan).state in ("finished", "held")
    seconds = (night.events[-1].entry.at - night.events[0].entry.at).total_seconds()
    assert lost
    assert night.seen.total() < seconds  # less than one question a second, of all nodes together


def test_the_way_back_of_a_node_that_stands_alone_is_its_restore_point_and_of_others_it_is_not():
    def ways(night) -> set[tuple[str, bool]]:
        return {(s.kind, s.reverts) for s in night.plan().steps() if s.kind in ("backup", "install", "restart")}

    assert {kind for kind, reverts in ways(night_of("single", 1)) if reverts} >= {"install"}
    assert ("backup", True) not in ways(night_of("single", 1))
    assert not any(reverts for _, reverts in ways(night_of("quorum", 3)))
    assert not any(reverts for _, reverts in ways(night_of("single", 1, snapshots=False)))


@pytest.mark.parametrize(
    ("chosen", "where"), [(("b", "c"), "on b, c."), (("a", "b"), "on a, b."), ((), "on every node.")]
)
def test_the_end_says_on_which_nodes_the_release_runs(chosen, where):
    night = ClusterNight(running=dict.fromkeys("abc", "2.11.3"), chosen={"tickets": chosen} if chosen else {})
    end = night.run(night.plan())
    assert end.state == "finished"
    assert where in end.message
