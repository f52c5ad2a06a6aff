"""What a plan says of the way back is what a back-out finds: at every step of drawn nights, held there and looked
at."""

from __future__ import annotations

import random
from collections.abc import Iterator
from dataclasses import replace as with_

import pytest

from gallant.core.decide.consents import consents_needed
from gallant.core.errors import Refused
from gallant.core.plan.back.case import did
from gallant.core.plan.back.making import ways_back
from gallant.core.plan.returning import LOST, no_way_back, with_ways_back
from gallant.core.records import replace
from gallant.core.shapes import NotSafe
from gallant.core.steps.kinds import KINDS, SNAPSHOT
from gallant.core.work.plan import Plan, steps_of
from gallant.engine.journal import replay
from gallant.engine.means import Orders
from gallant.standin.world import Fault

from .backwards import way_back
from .dice import Case, drawn, night_of
from .night import Night
from .shapes import ClusterNight, Extra

SEEDS, PACK, HOLDS = 40, 10, 6  # drawn nights, and at how many of its steps each is held


def undisturbed(seed: int) -> Case:
    """The night of a seed in which nothing goes wrong, some of whose
    releases have no way back or no package that leads back."""
    clean = {"faults": (), "kills": (), "jumps": (0.0,), "recall": None, "lost_after": None, "full_after": None}
    quiet = {"hold_after": None, "defect_after": None, "lost_reads": None, "window": None, "loses_facet": False}
    return with_(drawn(seed), **clean, **quiet, consents=True)


def without_ways(night: Night, dice: random.Random) -> None:
    """Some releases have no way back, and the packages of some go on nothing newer."""
    for name, product in night.catalogs.items():
        releases = tuple(
            replace(
                r,
                one_way=r.one_way or dice.random() < 0.2,
                from_range=r.from_range or ("vers:dotted/<0.1" if dice.random() < 0.1 else None),
            )
            for r in product.releases
        )
        night.catalogs[name] = replace(product, releases=releases)


def with_fetched_parts(night: Night, dice: random.Random) -> None:
    """Some components are brought by the nodes themselves; of some of those nobody has what runs any more."""
    if isinstance(night, ClusterNight) and dice.random() < 0.6:
        night.fetched = tuple(name for name in night.extras if dice.random() < 0.7)
        every = [(node, name) for node in night.running for name in night.fetched]
        night.gone = frozenset(one for one in every if dice.random() < 0.2)


def held(night: Night, plan: Plan, steps: int) -> Iterator[None]:
    """A roll of the plan, after each of its first steps."""
    consents = tuple(one.consent.words for one in consents_needed(plan, plan.systems if night.exports else ()))
    for _ in range(steps):
        if night.run(plan, Orders(by="tester", hold_after="step", consents=consents)).state != "held":
            return
        yield


def found_by_a_back_out(night: Night, plan: Plan) -> Iterator[tuple[str, set[str], set[str]]]:
    """By lane: why the plan says that there is no way back from what was begun, and why there is none."""
    state = replay(night.events)
    steps = {s.id: s for waves in state.waves.values() for s in steps_of(waves)}
    begun = [steps[name] for name in state.order if name in steps and state.step(name).attempts]
    points = {(s.system, s.to) for s in begun if s.kind == SNAPSHOT}
    systems = dict.fromkeys(s.system for s in begun if KINDS[s.kind].leaves)
    chosen = {name: tuple(night.estate.systems[name].nodes) for name in systems}
    try:
        found = ways_back(replace(night.ground(), now=night.world.moment), plan, did(begun, points), chosen)
    except NotSafe:  # somebody is out of service still, and no order of nodes is safe: the plan says so too
        assert any(back.waits for lane in plan.lanes for back in lane.back if back.step in {s.id for s in begun})
        return
    for lane in (lane for lane in plan.lanes if lane.system in systems):
        why = {bar.why for bar in found.obstacles if bar.system == lane.system}
        left = any(one.system == lane.system for one in found.lanes)
        yield lane.system, set(no_way_back(lane, {s.id for s in begun})), why or (set() if left else {LOST})


@pytest.mark.parametrize("first", range(0, SEEDS, PACK))
def test_what_a_plan_says_of_the_way_back_is_what_a_back_out_finds_at_that_step(first):
    for seed in range(first, first + PACK):
        dice = random.Random(f"ways back {seed}")
        night = night_of(undisturbed(seed))
        without_ways(night, dice)
        with_fetched_parts(night, dice)
        try:
            plan = night.plan()
        except Refused:
            continue
        plan = with_ways_back(plan, night.ground())
        looked = set(dice.sample(range(1, 60), HOLDS))
        for number, _ in enumerate(held(night, plan, max(looked)), 1):
            if number in looked:
                for system, said, found in found_by_a_back_out(night, plan):
                    # What lies before a hop that cannot be taken back is not looked at any more.
                    assert (found <= said, bool(found)) == (True, bool(said)), (seed, number, system, said, found)


@pytest.mark.parametrize("gone", [frozenset(), frozenset({("a", "agent")})])
def test_what_a_node_brings_by_itself_goes_back_where_its_older_version_is_at_hand(gone):
    extras = {"agent": Extra(kind="OS package", restart="none")}
    night = ClusterNight(
        shape="single", running={"a": "3.2.4"}, leader=None, extras=extras, fetched=("agent",), gone=gone
    )
    night.snapshots = False
    plan = night.plan()
    why = ("neither a channel nor the cache of its host has agent 1.0",) if gone else ()
    assert plan.lanes[0].one_way == why
    consents = tuple(one.consent.words for one in consents_needed(plan, plan.systems))
    assert night.run(plan, Orders(by="tester", consents=consents)).state == "finished"
    if gone:
        with pytest.raises(Refused, match=why[0]):
            way_back(night, plan)
        return
    back = way_back(night, plan)
    assert not [step for step in back.steps() if step.component == "agent" and step.package]
    night.events.clear()
    assert night.run(back, Orders(by="tester", consents=consents)).state == "finished"
    assert night.pair.members["a"].parts["agent"] == "1.0"


def test_a_later_step_may_give_a_way_back_again():
    """Nothing leads back from what is installed; once the single has restarted on it, its restore point does."""
    night = ClusterNight(shape="single", running={"a": "2.11.3"}, leader=None)
    old = replace(night.catalog.releases[1], from_range="vers:dotted/<0.1")
    night.catalog = replace(night.catalog, releases=(night.catalog.releases[0], old, night.catalog.releases[2]))
    lane = night.plan().lanes[0]
    installed, restarted = lane.back
    assert no_way_back(lane, [installed.step]) == installed.why != ()
    assert restarted.does == "revert to the restore point"
    assert no_way_back(lane, [installed.step, restarted.step]) == ()


def test_a_restore_point_that_is_taken_ends_what_the_one_before_led_back_from():
    """The first hop's release has no way back but its restore point, and only the newest is kept."""
    night = ClusterNight(shape="single", running={"a": "2.8.5"}, leader=None)
    first, second, third = night.catalog.releases
    night.catalog = replace(night.catalog, releases=(first, replace(second, one_way=True), third))
    lane = night.plan().lanes[0]
    told = [(back.step, back.does, back.why) for back in lane.back]
    why = ("there is no way back from 2.11.3: the publisher gives none",)
    assert told[1:3] == [
        ("tickets.1.a.restart", "revert to the restore point", ()),
        ("tickets.2.a.snapshot", "", why),
    ]
    assert lane.one_way == why


def one_way_night(**more: object) -> Night:
    night = Night(running={"a": "2.11.3", "b": "2.11.3"}, **more)
    releases = night.catalog.releases
    night.catalog = replace(
        night.catalog,
        releases=(*releases[:2], replace(releases[2], one_way=True, one_way_because="Volumes are converted.")),
    )
    return night


def test_a_roll_that_stops_offers_a_back_out_only_where_there_is_one():
    orders = Orders(by="tester", consents=("one-way:tickets",))
    gone = [Fault(name="no_return", node="tickets/a", act="restart")]
    ends = [night.run(night.plan(), orders) for night in (one_way_night(faults=gone), Night(faults=gone))]
    assert [end.state for end in ends] == ["stopped", "stopped"]
    one_way, free = (f"{end.message} {end.next}" for end in ends)
    assert "There is no going back by a plan: there is no way back from 3.2.4: Volumes are converted." in one_way
    assert "gallant backout" not in one_way
    assert "To go back instead: gallant backout" in free


def test_a_roll_that_stops_at_the_first_order_that_alters_a_node_offers_a_back_out():
    night = Night(faults=[Fault(name="install_fails_at", node="tickets/b", act="install")])
    end = night.run(night.plan())
    assert [kind for _, kind, _ in night.acts if kind not in ("preload", "snapshot")] == ["install"]
    assert "To go back instead: gallant backout" in f"{end.message} {end.next}"


def test_a_step_that_leaves_no_way_back_is_named_once_for_each_of_its_nodes():
    plan = one_way_night().plan()
    why = "there is no way back from 3.2.4: Volumes are converted"
    assert [(back.step, back.why) for back in plan.lanes[0].back if back.why] == [
        ("tickets.1.b.restart", (why,)),
        ("tickets.1.a.restart", (why,)),
    ]
    barred = [back.step for back in plan.lanes[0].back if back.is_barred]
    assert barred == ["tickets.1.a.install"]
    [need] = consents_needed(plan, plan.systems)
    assert (need.consent.words, need.what) == ("one-way:tickets", f"tickets: {why}.")


def test_a_system_of_one_node_with_a_restore_point_needs_no_word_for_a_release_without_a_way_back():
    night = night_of(with_(undisturbed(0), family="cluster", shape="single", running=("2.11.3",), route=1, extras=()))
    product = night.catalogs["ostrel/shoal"]
    night.catalogs["ostrel/shoal"] = replace(
        product, releases=tuple(replace(r, one_way=True) for r in product.releases)
    )
    made = {kept: with_snapshots(night, kept).lanes[0] for kept in (True, False)}
    assert (made[True].one_way, made[True].back[-1].does) == ((), "revert to the restore point")
    assert made[False].one_way == ("there is no way back from 3.2.4: the publisher gives none",)


def with_snapshots(night: Night, kept: bool) -> Plan:
    night.snapshots = kept
    return night.plan()
