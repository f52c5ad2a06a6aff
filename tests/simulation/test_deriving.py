"""What a person has to accept for a plan, derived anew when it begins:
the same that its planner found, whatever a file says of itself."""

from __future__ import annotations

import pytest

from gallant.core.decide.consents import consents_needed
from gallant.core.errors import Refused
from gallant.core.plan.deriving import derived
from gallant.core.plan.undoing import beyond_undoing
from gallant.core.records import replace
from gallant.core.work.plan import Lane, Plan

from . import dice
from .dice import drawn, night_of


def drawn_plans(count: int):
    for seed in range(count):
        night = night_of(drawn(seed))
        try:
            yield seed, night, night.plan()
        except Refused:
            continue


def forged(plan: Plan) -> Plan:
    """As somebody writes it who wants to be asked for nothing."""

    def harmless(lane: Lane) -> Lane:
        hops = tuple(
            replace(
                hop,
                one_way=False,
                one_way_because=None,
                waves=(),
                parts=tuple(replace(part, one_way_because=None) for part in hop.parts),
            )
            for hop in lane.hops
        )
        return replace(lane, hops=hops, down_s=0, hit=(), falls={}, loses=(), guests=(), back=(), also=())

    return replace(plan, lanes=tuple(map(harmless, plan.lanes)))


def test_what_is_derived_is_what_was_planned_and_no_file_takes_any_of_it_away():
    seen = set()
    for seed, night, plan in drawn_plans(50):
        needed = consents_needed(plan, plan.systems)
        for one in (plan, forged(plan)):
            again = derived(one, night.ground())
            assert consents_needed(again, plan.systems) == needed, seed
            assert again.id == plan.id
            kept = [replace(lane, hops=()) for lane in again.lanes]
            assert kept == [replace(lane, hops=()) for lane in plan.lanes], seed
        seen |= {one.consent.to for one in needed}
    assert seen >= {"one-way", "downtime"}


@pytest.fixture(scope="module")
def ways_back():
    """Plans that take back what a night did, each with the night and the plan that was carried out."""
    found, way_back = [], dice._way_back

    def kept(night, plan):
        way = way_back(night, plan)
        if way is not None:
            found.append((night, plan, way, night.ground()))
        return way

    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(dice, "_way_back", kept)
        for seed in range(60):
            dice.carried_out(drawn(seed))
    assert len(found) > 2
    return found


def test_a_way_back_is_one_and_asks_for_the_same(ways_back):
    for night, undone, way, ground in ways_back:
        assert beyond_undoing(way, undone, night.estate, night.catalogs) == ()
        assert consents_needed(derived(way, ground), way.systems) == consents_needed(way, way.systems)


def test_a_plan_that_leads_on_and_says_that_it_takes_something_back_is_none(ways_back):
    for night, undone, way, _ in ways_back:
        told = beyond_undoing(replace(undone, undoes="roll-0001"), undone, night.estate, night.catalogs)
        assert all("leads on, and not back" in what for what in told), told
        assert len(told) == sum(len(lane.hops) for lane in undone.lanes)
        elsewhere = replace(way, lanes=tuple(replace(n, hops=tuple(replace(h, to="9.9.9", image=True) for h in n.hops)) for n in way.lanes))  # fmt: skip
        assert any(
            "is brought to 9.9.9" in what for what in beyond_undoing(elsewhere, undone, night.estate, night.catalogs)
        )
        others = replace(undone, lanes=())
        assert all(
            "was no part of that roll" in what for what in beyond_undoing(way, others, night.estate, night.catalogs)
        )
