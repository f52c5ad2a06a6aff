"""Nights for what no aim asks for: nodes restarted as they are, and nodes that a person works on, one after the
other."""

from __future__ import annotations

import pytest

from gallant.core.catalog.products import NewSetting
from gallant.core.errors import Refused
from gallant.core.plan.errands import make_errand
from gallant.core.readings import Facet
from gallant.core.records import replace
from gallant.core.work.plan import Plan
from gallant.engine.means import Orders

from .night import Killed, Night
from .shapes import LETTERS, ClusterNight

DOWN = Orders(by="tester", consents=("downtime:tickets",))
SIZES = {"single": 1, "fabric": 3, "quorum": 5, "pool": 4}
MIXED = ("2.8.5", "2.11.3", "3.2.4", "2.8.5", "2.11.3")


def night_of(shape: str, **more) -> ClusterNight:
    more.setdefault("running", dict(zip(LETTERS[: SIZES[shape]], MIXED, strict=False)))
    more.setdefault("leader", "a" if shape in ("quorum", "fabric") else None)
    return ClusterNight(shape=shape, load=20 if shape == "pool" else None, snapshots=False, **more)


def errand(night: Night, by_hand: str = "") -> Plan:
    return make_errand(night.ground(), night.planned(), {"ostrel-shoal": "p"}, "tester", "it leaks", by_hand)


def restarts(night: Night) -> dict[str, int]:
    return {n: sum((node, kind) == (n, "restart") for node, kind, _ in night.acts) for n in night.running}


@pytest.mark.parametrize("drains", [False, True])
@pytest.mark.parametrize("shape", SIZES)
def test_every_node_is_restarted_once_and_runs_what_it_ran(shape, drains):
    night = night_of(shape, drains=drains and shape in ("quorum", "pool"))
    began = night.end_state()
    assert night.run(errand(night), DOWN).state == "finished"
    assert night.all_well() == []
    assert {n: v for n, (v, _) in night.end_state().items()} == {n: v for n, (v, _) in began.items()}
    assert set(restarts(night).values()) == {1}
    assert {kind for _, kind, _ in night.acts} <= {"restart", "handover", "failback", "drain", "refill"}


class Unlisted(ClusterNight):
    """Of a product that no catalog has any more."""

    def product(self, name):
        return None


def test_a_product_that_no_catalog_lists_is_restarted_all_the_same():
    night = Unlisted(shape="quorum", running=dict.fromkeys("abc", "2.11.3"), leader="a", snapshots=False)
    plan = errand(night)
    assert night.run(plan, DOWN).state == "finished"
    assert set(restarts(night).values()) == {1}


def test_a_pair_is_restarted_without_its_service_missing_more_than_the_moves():
    night = Night(snapshots=False)
    assert night.run(errand(night)).state == "finished"
    assert (night.end_state(), night.all_well()) == ({"a": ("2.8.5", "serving"), "b": ("2.8.5", "shadowing")}, [])
    assert [act[:2] for act in night.acts] == [("b", "restart"), ("a", "handover"), ("a", "restart"), ("a", "failback")]


KILLS = [("append", range(1, 60, 3)), ("act", range(1, 8))]
EVERYWHERE = [(f"{when} {kind}", n) for kind, most in KILLS for when in ("before", "after") for n in most]


@pytest.mark.parametrize("where", EVERYWHERE, ids=lambda w: f"{w[0]} {w[1]}")
def test_a_restart_that_is_killed_anywhere_restarts_nobody_twice(where):
    night = night_of("quorum", running=dict.fromkeys("abc", "2.11.3"))
    plan = errand(night)
    night.kill_at = where
    try:
        night.run(plan)
    except Killed:
        assert night.finish(plan).state == "finished"
    assert night.all_well() == []
    assert set(restarts(night).values()) == {1}


def test_a_restart_that_would_enter_another_release_is_refused():
    night = night_of("quorum", running=dict.fromkeys("abc", "2.11.3"))
    night.pairs["tickets"].members["b"].next_version = "3.2.4"
    with pytest.raises(Refused, match=r"tickets/b would run 3.2.4 from its next restart on, and it runs 2.11.3"):
        errand(night)


def test_a_service_that_nothing_carries_on_is_restarted_by_consent_alone():
    night = night_of("single")
    with pytest.raises(Refused, match="its service is down for about 5 min"):
        night.run(errand(night), Orders(by="tester"))
    assert night.acts == []


@pytest.mark.parametrize("shape", ["fabric", "quorum", "pool", "single"])
def test_a_persons_work_waits_for_their_word_at_every_node_and_the_leaders_comes_last(shape):
    night = night_of(shape, running=dict.fromkeys(LETTERS[: SIZES[shape]], "2.11.3"), drains=shape == "quorum")
    plan, worked, answers = errand(night, "add a card"), list[str](), {}
    for _ in range(30):
        end = night.run(plan, replace(DOWN, answers=answers))
        if end.state == "finished":
            break
        assert end.state == "held"
        waiting = [e.entry.step for e in night.events if e.entry.kind == "intent" and e.entry.step.endswith("by_hand")]
        here = [n for n in waiting if n not in worked]
        assert here, end.message
        assert f"tickets/{here[0].split('.')[2]} is yours now: add a card" in end.message
        worked += here
        answers = dict.fromkeys(here, True)
    assert night.all_well() == []
    assert sorted(name.split(".")[2] for name in worked) == sorted(night.running)
    if shape in ("fabric", "quorum"):
        assert worked[-1].split(".")[2] == "a"
    assert restarts(night) == dict.fromkeys(night.running, 0)
    assert not any(m.drained for m in night.pairs["tickets"].members.values())


def test_a_node_that_was_switched_off_and_on_needs_no_word():
    night = night_of("quorum", running=dict.fromkeys("abc", "2.11.3"))
    plan = errand(night, "add a card")
    end = night.run(plan)
    assert "tickets/b is yours now" in end.message
    assert "gallant resume roll-0001 --done tickets.hand.b.by_hand" in end.next
    assert "tickets/b is yours now" in night.run(plan).message  # nothing was done yet
    cluster = night.pairs["tickets"]
    cluster.halt("b")
    cluster.start("b")
    end = night.run(plan)
    assert "tickets/c is yours now" in end.message
    assert night.all_well() == []


def with_settings(night: ClusterNight, then: str) -> None:
    """The last release has a setting for the first time, and the estate says what becomes of such."""
    night.catalog = replace(
        night.catalog,
        releases=tuple(
            replace(r, settings=(NewSetting(name="idle limit", default="20 min"),)) if r.version == "3.2.4" else r
            for r in night.catalog.releases
        ),
    )
    systems = {name: replace(s, new_settings=then) for name, s in night.estate.systems.items()}
    night.estate = replace(night.estate, systems=systems)


def test_settings_that_are_new_in_a_release_wait_for_somebody_to_look_at_them_where_the_estate_says_so():
    night = night_of("quorum", running=dict.fromkeys("abcde", "2.8.5"))
    with_settings(night, "look")
    plan = night.plan()
    held = night.run(plan)
    assert (held.state, {m.version for m in night.pairs["tickets"].members.values()}) == ("held", {"3.2.4"})
    assert "is yours now: look at what is new in 3.2.4: idle limit (set to 20 min)" in held.message
    step = next(s.id for s in plan.steps() if s.kind == "look_over")
    assert night.run(plan, Orders(by="tester", answers={step: True})).state == "finished"
    assert night.whole() == []


def test_settings_that_are_new_are_only_told_where_the_estate_says_nothing():
    night = night_of("quorum", running=dict.fromkeys("abcde", "2.8.5"))
    with_settings(night, "tell")
    plan = night.plan()
    assert [one.name for hop in plan.lanes[0].hops for one in hop.settings] == ["idle limit"]
    assert night.run(plan).state == "finished"


def test_what_waits_to_be_applied_on_a_node_is_in_its_lane():
    night = night_of("quorum", running=dict.fromkeys("abcde", "2.8.5"))
    reading = night._reading

    def told(system: str, name: str):
        facets = (Facet(name="reload", state="due" if name == "b" else "none"),)
        return replace(reading(system, name), facets=facets)

    night._reading = told
    assert night.plan().lanes[0].due == {"b": ("reload",)}
