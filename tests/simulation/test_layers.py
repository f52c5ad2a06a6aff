"""Nights in which components go with the image: as few restarts as may be, every rule kept, killed at every
position."""

from __future__ import annotations

from dataclasses import replace as varied

import pytest

from gallant.core.catalog.products import Requirement
from gallant.core.errors import Refused
from gallant.core.plan.ground import PartGoal
from gallant.core.plan.planning import make_plan
from gallant.core.records import replace
from gallant.core.work.plan import steps_of
from gallant.engine.means import Orders
from gallant.standin.world import Fault

from .night import Killed, Night
from .shapes import LETTERS, ClusterNight, Extra

YES = Orders(by="tester", consents=("downtime:tickets", "one-way:tickets"))
EXTRAS = {
    "bmc": Extra(kind="management controller", restart="none"),
    "bios": Extra(kind="BIOS", needs=("ostrel/bmc", "2.0")),
    "nic": Extra(kind="NIC", needs=("ostrel/bios", "2.0")),
    "seats": Extra(kind="add-on module", restart="service"),
    "data": Extra(kind="on-disk format", restart="none", needs=("ostrel/shoal", "3.2.4")),
}
SIZES = {"single": 1, "fabric": 3, "quorum": 3, "pool": 4}


def night_of(shape: str, **more) -> ClusterNight:
    size = SIZES[shape]
    more.setdefault("running", dict.fromkeys(LETTERS[:size], "2.8.5"))
    more.setdefault("extras", EXTRAS)
    more.setdefault("leader", "a" if shape in ("quorum", "fabric") else None)
    return ClusterNight(shape=shape, load=20 if shape == "pool" else None, **more)


@pytest.mark.parametrize("shape", SIZES)
def test_image_and_components_share_their_restarts(shape):
    night = night_of(shape)
    assert night.run(night.plan(), YES).state == "finished"
    assert night.whole() == []
    assert {night.restarts(node) for node in night.running} == {2}  # the image alone needs two


@pytest.mark.parametrize("shape", SIZES)
def test_components_alone_are_brought_where_the_image_is_current(shape):
    night = night_of(shape, running=dict.fromkeys(LETTERS[: SIZES[shape]], "3.2.4"))
    plan = night.plan()
    assert [hop.image for hop in plan.lanes[0].hops] == [False] * len(plan.lanes[0].hops)
    assert night.run(plan, YES).state == "finished"
    assert night.whole() == []
    assert {night.restarts(node) for node in night.running} == {2}  # the card needs the BIOS to run first


def test_a_component_without_restart_takes_no_node_out():
    night = night_of("quorum", running=dict.fromkeys("abc", "3.2.4"), extras={"bmc": EXTRAS["bmc"]})
    assert night.run(night.plan()).state == "finished"
    assert night.whole() == []
    assert {kind for _, kind, _ in night.acts} == {"install", "snapshot"}


def test_what_is_ahead_on_a_node_is_left_alone_there():
    night = night_of("quorum", ahead=(("b", "bmc"), ("b", "bios"), ("b", "nic"), ("b", "seats"), ("b", "data")))
    assert night.run(night.plan(), YES).state == "finished"
    assert night.whole() == []
    assert {release for node, kind, release in night.acts if node == "b" and kind == "install"} == {"2.11.3", "3.2.4"}


def test_a_format_is_raised_last_and_only_by_consent():
    night = night_of("quorum")
    plan = night.plan()
    with pytest.raises(Refused, match="there is no way back from data 2.0"):
        night.run(plan, Orders(by="tester"))
    assert night.acts == []
    assert night.run(plan, YES).state == "finished"
    assert [kind for _, kind, _ in night.acts][-3:] == ["raise_format"] * 3


def test_a_format_that_the_image_needs_is_raised_by_itself_after_what_it_needs_in_turn():
    night = night_of(
        "quorum",
        running=dict.fromkeys("abc", "2.11.3"),
        extras={"bmc": EXTRAS["bmc"], "data": varied(EXTRAS["data"], needs=("ostrel/bmc", "2.0"))},
        requires={"3.2.4": (Requirement(product="ostrel/data", range="vers:dotted/>=2.0"),)},
    )
    hops = night.plan().lanes[0].hops
    assert [([part.component for part in hop.parts], hop.image) for hop in hops] == [
        (["bmc"], False),
        (["data"], False),
        ([], True),
    ]


LEFT = [
    (
        lambda g: replace(g, products={n: p for n, p in g.products.items() if n != "ostrel/bios"}),
        "no catalog here lists it",
    ),
    (lambda g: replace(g, parts={"tickets": (PartGoal(component="bios", target="9.0"),)}), "9.0 is not in its catalog"),
    (
        lambda g: replace(g, knows={"tickets": replace(g.knows["tickets"], parts=())}),
        "its profile does not know how to bring it",
    ),
    (lambda g: changed(g, from_range="vers:dotted/>=1.5"), "no route leads from 1.0 to 2.0"),
    (lambda g: changed(g, packages=()), "2.0: the publisher offers no installer for it"),
]


def changed(ground, **release):
    bios = ground.products["ostrel/bios"]
    releases = tuple(replace(r, **release) if r.version == "2.0" else r for r in bios.releases)
    return replace(ground, products={**ground.products, bios.name: replace(bios, releases=releases)})


@pytest.mark.parametrize(("change", "why"), LEFT, ids=[why for _, why in LEFT])
def test_a_component_that_cannot_come_along_stays_behind_with_the_reason(change, why):
    night = night_of("quorum", extras={"bios": Extra(kind="BIOS")})
    ground = replace(night.ground(), parts={"tickets": (PartGoal(component="bios", target="2.0"),)})
    lane = make_plan(change(ground), night.planned(), {"ostrel-shoal": "p"}, by="tester").lanes[0]
    assert lane.left == {"bios": why}
    assert [hop.parts for hop in lane.hops] == [(), ()]


def test_an_image_that_needs_a_component_is_refused_while_that_stays_where_it_is():
    night = night_of(
        "quorum",
        running=dict.fromkeys("abc", "2.11.3"),
        extras={"data": varied(EXTRAS["data"], needs=("ostrel/bmc", "2.0"))},
        requires={"3.2.4": (Requirement(product="ostrel/data", range="vers:dotted/>=2.0"),)},
    )
    with pytest.raises(Refused, match="image 3.2.4 needs data on 2.0 or later") as refused:
        night.plan()
    assert (
        "data does not come along: 2.0 needs ostrel/bmc on 2.0 or later, and what that runs is not known"
        in refused.value.why
    )
    with pytest.raises(Refused, match="image 3.2.4 needs data on 2.0 or later") as refused:
        Night.plan(night)  # without any component
    assert "stays at what it runs" in refused.value.why
    for member in night.pairs["tickets"].members.values():
        member.parts["data"] = "2.0"
    assert [(hop.parts, hop.to) for hop in Night.plan(night).lanes[0].hops] == [((), "3.2.4")]


def test_a_drained_node_gets_everything_in_its_one_turn():
    night = night_of("quorum", drains=True, running=dict.fromkeys("abc", "3.2.4"))
    assert night.run(night.plan(), YES).state == "finished"
    assert night.whole() == []
    of_b = [kind for node, kind, release in night.acts if node == "b" and release != "bmc 2.0"]
    assert of_b[:5] == ["drain", "install", "install", "restart", "refill"]  # the add-on, the BIOS; then the card


@pytest.mark.parametrize("where", [(f"{when} {kind}", n) for kind, most in (("append", 120), ("act", 40)) for when in ("before", "after") for n in range(2, most, 4)], ids=lambda w: f"{w[0]} {w[1]}")  # fmt: skip
def test_a_night_of_layers_that_is_killed_anywhere_ends_as_one_left_alone(where):
    night = night_of("quorum", running=dict.fromkeys("abc", "2.11.3"))
    plan = night.plan()
    night.kill_at = where
    try:
        night.run(plan, YES)
    except Killed:
        assert night.finish(plan).state == "finished"
    assert night.whole() == []


@pytest.mark.parametrize("fault", ["install_fails_at", "answer_lost", "never_acts"])
@pytest.mark.parametrize("shape", ["quorum", "pool", "fabric"])
def test_a_component_that_fails_stops_its_lane_and_breaks_no_promise(shape, fault):
    night = night_of(shape, faults=[Fault(name=fault, node="tickets/b", act="install-part", value=40)])
    end = night.run(night.plan(), YES)
    assert end.state in ("finished", "stopped", "held")
    assert night.all_well() == []


def test_a_component_that_failed_is_named_with_its_release():
    night = night_of("quorum", faults=[Fault(name="install_fails_at", node="tickets/b", act="install-part", value=40)])
    end = night.run(night.plan(), YES)
    assert "tickets/b: install bmc to 2.0 failed: the part does not take it" in end.message


@pytest.mark.parametrize("shape", SIZES)
def test_only_the_chosen_nodes_are_worked_on(shape):
    night = night_of(shape, extras={name: extra for name, extra in EXTRAS.items() if name != "data"})
    chosen = ("b",) if SIZES[shape] > 1 else ("a",)
    night.chosen = {"tickets": chosen}
    end = night.run(night.plan(), YES)
    assert (end.state, night.all_well()) == ("finished", [])
    assert {node for node, kind, _ in night.acts if kind in ("install", "restart")} == set(chosen)


def test_a_format_is_not_raised_while_only_some_nodes_are_chosen():
    night = night_of("quorum")
    night.chosen = {"tickets": ("b",)}
    plan = night.plan()
    assert plan.lanes[0].left == {"data": "a format is raised when all nodes are, and only some were chosen"}
    assert (night.run(plan, YES).state, night.all_well()) == ("finished", [])


@pytest.mark.parametrize(
    ("kind", "first"), [("BIOS", True), ("NIC", True), ("add-on module", False), ("OS package", False)]
)
def test_what_lies_below_the_image_comes_before_it_and_what_lies_above_after_it(kind, first):
    plan = ClusterNight(extras={"agent": Extra(kind=kind, restart="node")}).plan()
    own = [
        s.component
        for s in steps_of(plan.lanes[0].hops[0].waves)
        if s.node == "b" and s.kind in ("install", "install_part")
    ]
    assert own == (["agent", "image"] if first else ["image", "agent"])


def test_a_component_whose_requirement_nobody_here_meets_stays_behind_and_the_rest_goes_on():
    extras = {"bios": Extra(kind="BIOS"), "nic": Extra(kind="NIC", needs=("other/cabinet", "2.0"))}
    plan = ClusterNight(extras=extras).plan()
    assert list(plan.lanes[0].left) == ["nic"]
    assert "other/cabinet" in plan.lanes[0].left["nic"]
    assert {s.component for s in plan.steps() if s.kind.startswith("install")} == {"image", "bios"}
