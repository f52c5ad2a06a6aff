"""Nights of nodes whose spare slot is brought to the new release at the end: late, once, and not before all is
whole."""

from __future__ import annotations

import pytest

from . import night as nights
from .night import Killed
from .test_backout import SlottedDriver, SlottedNight, way_back


class SpareDriver(SlottedDriver):
    orders = {**SlottedDriver.orders, "renew_spare": "copy-over"}
    can = SlottedDriver.can | {"renew_spare"}


class SpareNight(SlottedNight):
    def driver(self, system):
        return SpareDriver(self, system)

    def judge(self, system, node, kind, release):
        super().judge(system, node, kind, release)
        pair = self.pairs[system]
        whole = all(n.up and n.version == release for n in pair.nodes.values()) and pair.replica()[0] == "matched"
        if kind == "renew_spare" and not whole:
            self.broken.append(f"the spare slot of {node} is written over before all is whole on {release}")


nights.KINDS["copy-over"] = "renew_spare"


def spares(night: SpareNight) -> dict[str, str]:
    return {n: node.spare for n, node in night.pairs["tickets"].nodes.items()}


def test_spare_slots_are_renewed_once_after_the_last_hop_alone():
    night = SpareNight()
    assert night.run(night.plan()).state == "finished"
    assert night.all_well() == []
    assert spares(night) == {"a": "3.2.4", "b": "3.2.4"}
    assert [act for act in night.acts if act[1] == "renew_spare"] == [
        ("a", "renew_spare", "3.2.4"),
        ("b", "renew_spare", "3.2.4"),
    ]


@pytest.mark.parametrize("when", ["before", "after"])
def test_a_roll_that_is_killed_on_the_way_renews_each_spare_slot_all_the_same(when):
    for at in range(30, 90, 5):
        night = SpareNight()
        plan = night.plan()
        night.kill_at = (f"{when} append", at)
        try:
            night.run(plan)
        except Killed:
            assert night.finish(plan).state == "finished"
        assert (night.all_well(), spares(night)) == ([], {"a": "3.2.4", "b": "3.2.4"}), at


def test_once_the_spare_slots_are_renewed_the_way_back_is_the_former_package():
    night = SpareNight(versions={"2.11.3": None, "3.2.4": None}, running={"a": "2.11.3", "b": "2.11.3"})
    plan = night.plan()
    assert night.run(plan).state == "finished"
    back = way_back(night, plan)
    kinds = {step.kind for step in back.steps()}
    assert "install" in kinds
    assert not kinds & {"fall_back", "renew_spare"}
    assert night.run(back).state == "finished"
    assert {node.version for node in night.pairs["tickets"].nodes.values()} == {"2.11.3"}
