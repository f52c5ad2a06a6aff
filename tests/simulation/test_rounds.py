"""Rounds, places and holds of many lanes: who begins when, and where they rest."""

from __future__ import annotations

import math
from collections.abc import Callable
from datetime import timedelta

import pytest

from gallant.core.catalog.products import Requirement
from gallant.core.estate.reading import parse_estate
from gallant.core.estate.systems import RoundRule
from gallant.core.plan.planning import systems_of
from gallant.core.readings import Gauge, Reading
from gallant.core.records import replace
from gallant.engine.means import Orders
from gallant.standin.world import Fault

from .night import BEGAN, HEAD, PAIR, TICKETS, Killed, Night

OLD = {"a": "2.8.5", "b": "2.8.5"}


def text_of(rounds: str, limits: str = "", names: tuple[str, ...] = ("spit", "bank")) -> str:
    head = HEAD.replace("steady_s: 60", f"steady_s: 60{limits}").replace("systems:", f"rounds: {rounds}\nsystems:")
    more = (
        PAIR.format(name=name, product=f"ostrel/{name}", n=n, letter=name[0].upper(), service=f"{name}-blocks")
        for n, name in enumerate(names, 2)
    )
    return head + TICKETS + "".join(more)


def many(rounds: str = "[]", limits: str = "", **more) -> Night:
    night = Night(others={"spit": dict(OLD), "bank": dict(OLD)}, **more)
    night.estate = parse_estate("estate.yaml", text_of(rounds, limits))
    return night


ROUNDS = "[{name: first, of: [spit], soak_minutes: 30}, {name: rest, of: ['*']}]"


def begins(night: Night) -> dict[str, float]:
    """When each system's first order was journalled, in seconds from the beginning."""
    found: dict[str, float] = {}
    for event in night.events:
        if event.entry.kind == "intent":
            system = event.entry.step.split(".")[0]
            found.setdefault(system, (event.entry.at - BEGAN).total_seconds())
    return found


def ends(night: Night, system: str) -> float:
    at = [e.entry.at for e in night.events if e.entry.kind == "outcome" and e.entry.step.startswith(f"{system}.")]
    return (max(at) - BEGAN).total_seconds()


def test_a_later_round_waits_for_the_former_and_its_soak_time():
    night = many(ROUNDS)
    plan = night.plan()
    assert [(r.name, r.systems, r.soak_s) for r in plan.rounds] == [
        ("first", ("spit",), 1800.0),
        ("rest", ("tickets", "bank"), 0.0),
    ]
    assert night.run(plan).state == "finished"
    assert night.all_well() == []
    assert min(begins(night)[s] for s in ("tickets", "bank")) - ends(night, "spit") >= 30 * 60
    assert plan.estimate_s >= 30 * 60 + 2 * 0.5 * plan.ends_s["spit.2"]


def test_a_round_has_each_system_that_any_of_its_terms_means():
    night = many()
    rule = RoundRule(name="first", of=("spit", "bank"))
    assert systems_of(night.estate, rule) == {"spit", "bank"}
    assert systems_of(night.estate, RoundRule(name="all", of=("*", "spit"))) == set(night.estate.systems)


def test_what_a_system_of_a_round_needs_comes_along_with_it():
    needs = {"3.2.4": (Requirement(product="ostrel/spit", range="vers:dotted/>=2.9"),)}
    plan = many("[{name: first, of: [tickets]}]", requires=needs).plan()
    assert [(r.name, set(r.systems)) for r in plan.rounds] == [("first", {"tickets", "spit"}), ("rest", {"bank"})]


def test_a_round_of_which_too_many_fail_holds_all_that_come_after():
    night = many(ROUNDS, faults=[Fault(name="no_return", node="spit/b", act="restart", nth=1)])
    end = night.run(night.plan())
    assert end.state == "stopped"
    assert "tickets is held at a safe stop: of the round first spit did not finish, and none may" in end.message
    assert set(begins(night)) == {"spit"}


def test_a_round_that_may_lose_one_lets_the_next_begin():
    rounds = ROUNDS.replace("soak_minutes: 30", "may_fail: 1")
    night = many(rounds, faults=[Fault(name="no_return", node="spit/b", act="restart", nth=1)])
    assert night.run(night.plan()).state == "stopped"
    assert night.end_state("bank") == {"a": ("3.2.4", "serving"), "b": ("3.2.4", "shadowing")}


def test_what_went_wrong_while_a_round_soaked_holds_the_next():
    before = many(ROUNDS)
    before.run(before.plan())
    night = many(ROUNDS)
    plan = night.plan()

    def spoiled() -> None:
        night.pairs["spit"].synced_at = None

    night.world.after(ends(before, "spit") + 900, spoiled)
    end = night.run(plan)
    assert end.state == "held"
    assert "after the round first: spit is not as it should be" in end.message


def test_what_a_round_may_lose_is_held_against_nobody_once_the_rest_of_it_has_soaked():
    rounds = "[{name: first, of: [spit, bank], soak_minutes: 30, may_fail: 1}, {name: rest, of: ['*']}]"
    night = many(rounds, faults=[Fault(name="no_return", node="spit/b", act="restart", nth=1)])
    end = night.run(night.plan())
    assert (end.state, "after the round" in end.message) == ("stopped", False), end.message
    assert night.end_state("tickets") == {"a": ("3.2.4", "serving"), "b": ("3.2.4", "shadowing")}


def test_a_hold_is_heeded_while_a_round_soaks_and_the_rest_of_the_time_is_soaked_afterwards():
    night = many(ROUNDS)
    plan = night.plan()
    night.kill_at = ("after append", 60)  # somewhere in the work of the first round
    try:
        night.run(plan)
    except Killed:
        night.hold_reason = "asked"
        assert night.run(plan).state == "held"
        night.hold_reason = None
        assert night.run(plan).state == "finished"
    assert night.all_well() == []


def test_a_round_soaks_from_its_own_end_on_also_while_nobody_looks():
    night, end = many(ROUNDS), spit_ends()
    plan = night.plan()
    night.world.after(end + 300, lambda: setattr(night, "hold_reason", "asked"))
    assert night.run(plan).state == "held"
    night.hold_reason = None
    assert night.run(plan, downtime=1200).state == "finished"
    assert 30 * 60 <= min(begins(night)[s] for s in ("tickets", "bank")) - end < 32 * 60


@pytest.mark.parametrize(("limits", "most"), [(", lanes_at_once: 1", 1), (", lanes_at_once_per_site: 2", 2), ("", 3)])
def test_no_more_systems_are_worked_on_side_by_side_than_the_estate_allows(limits, most):
    night = many(limits=limits)
    assert night.run(night.plan()).state == "finished"
    working, widest = set(), 0
    for event in night.events:
        if event.entry.kind in ("intent", "outcome") and "restart" in event.entry.step:
            system = event.entry.step.split(".")[0]
            (working.add if event.entry.kind == "intent" else working.discard)(system)
            widest = max(widest, len(working))
    assert widest <= most
    assert most < 3 or widest == 3


def test_systems_of_one_kind_share_its_places_and_those_of_another_have_their_own():
    night = many(limits=", lanes_at_once_per_kind: 1")
    kinds = {"spit": "storage", "bank": "storage", "tickets": "boards"}
    systems = {name: replace(system, kind=kinds[name]) for name, system in night.estate.systems.items()}
    night.estate = replace(night.estate, systems=systems)
    assert night.run(night.plan()).state == "finished"
    restarting, together = set[str](), set[frozenset[str]]()
    for event in night.events:
        if event.entry.kind in ("intent", "outcome") and "restart" in event.entry.step:
            system = event.entry.step.split(".")[0]
            (restarting.add if event.entry.kind == "intent" else restarting.discard)(system)
            together.add(frozenset(restarting))
    assert not [some for some in together if {"spit", "bank"} <= some]
    assert [some for some in together if len(some) == 2]


def test_when_one_stops_the_others_hold_where_that_was_asked_for():
    night = many(faults=[Fault(name="no_return", node="spit/b", act="restart", nth=1)])
    end = night.run(night.plan(), Orders(by="tester", stop_others=True))
    assert end.state == "stopped"
    assert "tickets is held at a safe stop: spit stopped, and the others were to hold then" in end.message
    assert night.all_well() == []


def test_a_hold_at_a_time_begins_nothing_more_from_then_on():
    night = many()
    at = BEGAN + timedelta(minutes=40)
    end = night.run(night.plan(), Orders(by="tester", hold_at=at))
    assert end.state == "held"
    assert "it was to hold at 22:40 UTC" in end.message
    assert all(pair.replica()[0] == "matched" for pair in night.pairs.values())


def test_a_hold_that_cannot_wait_rests_after_the_running_act_and_says_where():
    night = Night()
    plan = night.plan()

    def wanted(what: str, name: str, node: str, n: int) -> None:
        if (
            what == "append"
            and name == "outcome"
            and any(e.entry.kind == "intent" and ".restart" in e.entry.step for e in night.events)
        ):
            night.hold_reason, night.hold_now = "asked", True

    night.trouble = wanted
    end = night.run(plan)
    assert end.state == "held"
    assert "tickets is held in the middle of tickets/b: asked." in end.message
    assert "serve" in end.message
    night.trouble, night.hold_reason = (lambda *_: None), None
    assert night.run(plan).state == "finished"
    assert night.all_well() == []


def with_memory(free: Callable[[float], float]) -> Callable[[Reading], Reading]:
    """Every node tells its free memory, by the seconds since the night began."""

    def bend(reading: Reading) -> Reading:
        gauge = Gauge(
            name="memory available",
            value=3e9 if (s := (reading.taken - BEGAN).total_seconds()) < 1 else free(s),
            unit="B",
        )
        return replace(reading, gauges=(*reading.gauges, gauge))

    return bend


def spit_ends() -> float:
    night = many(ROUNDS)
    assert night.run(night.plan()).state == "finished"
    return ends(night, "spit")


def test_what_runs_out_while_a_round_soaks_holds_all_that_come_after():
    night = many(ROUNDS, bend=with_memory(lambda s: 4e9 - 3e5 * s))
    end = night.run(night.plan())
    assert end.state == "held"
    assert "running out: spit/a memory available, in about" in end.message
    assert set(begins(night)) == {"spit"}
    assert night.run(night.plan()).state == "finished"  # who resumes has looked at it


def test_what_goes_up_and_down_while_a_round_soaks_holds_nobody():
    night = many(ROUNDS, bend=with_memory(lambda s: 3e9 + 1e7 * math.sin(s / 40)))
    assert night.run(night.plan()).state == "finished"


@pytest.mark.parametrize(("minutes", "state"), [(40, "finished"), (300, "held")])
def test_what_still_settles_has_its_soak_time_once_more(minutes, state):
    begin = spit_ends()
    night = many(ROUNDS, bend=with_memory(lambda s: min(3e9, 1e9 + 2e9 * max(0.0, s - begin) / (minutes * 60))))
    end = night.run(night.plan())
    assert end.state == state
    if state == "held":
        assert "after the round first: still settling: spit/a memory available, about" in end.message
    else:
        waited = min(begins(night)[s] for s in ("tickets", "bank")) - ends(night, "spit")
        assert 30 * 60 < waited < 60 * 60


def test_one_round_of_everything_is_none():
    rule = "rounds: [{name: all, of: ['*']}]\nsystems:\n"
    night = Night(others={"spit": {"a": "2.8.5", "b": "2.8.5"}}, edit=lambda text: text.replace("systems:\n", rule, 1))
    assert night.plan().rounds == ()
