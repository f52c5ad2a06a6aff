"""Nights of nodes that run what they would not start with: it is
saved after the backup, or its loss is accepted by name."""

from __future__ import annotations

import pytest

from gallant.core.errors import Refused
from gallant.core.readings import RUNNING, SAVED, UNSAVED, Facet
from gallant.core.records import replace
from gallant.engine.means import Orders

from .night import Killed, Night, SimDriver


class Saving(SimDriver):
    """`night.unsaved` are the nodes with settings that nobody saved; whether the device can, `night.saves` says."""

    def capabilities(self):
        return super().capabilities() | ({"save_config"} if self.night.saves else frozenset())

    def _do(self, node, act):
        full = f"{self.system}/{node}"
        if act.kind == "save_config":
            self.night.unsaved.discard(full)
            return None
        if act.kind == "restart" and full in self.night.unsaved:
            self.night.lost_settings.append(full)
            self.night.unsaved.discard(full)
        return super()._do(node, act)


class SettingsNight(Night):
    saves = True

    def __post_init__(self) -> None:
        self.unsaved, self.lost_settings = {"tickets/b"}, []
        super().__post_init__()

    def driver(self, system):
        return Saving(self, system)

    def _reading(self, system, name):
        state = UNSAVED if f"{system}/{name}" in self.unsaved else SAVED
        return replace(super()._reading(system, name), facets=(Facet(name=RUNNING, state=state),))


class Unable(SettingsNight):
    saves = False


ONE_HOP = {"2.8.5": None, "2.11.3": "vers:dotted/>=2.8.0"}


def kinds(night: SettingsNight) -> list[tuple[str, str]]:
    return [(node, kind) for node, kind, _ in night.acts if kind in ("save_config", "restart")]


def test_what_a_node_runs_and_would_not_start_with_is_saved_after_the_backup_and_before_its_restart():
    night = SettingsNight(versions=ONE_HOP)
    plan = night.plan()
    steps = [step.kind for step in plan.steps()]
    assert steps.index("backup") < steps.index("save_config") < steps.index("restart")
    assert night.run(plan).state == "finished"
    assert (night.lost_settings, night.all_well()) == ([], [])
    assert kinds(night) == [("b", "save_config"), ("b", "restart"), ("a", "restart")]


def test_what_is_left_unsaved_after_the_plan_was_made_is_saved_too():
    night = SettingsNight(versions=ONE_HOP)
    night.unsaved.clear()
    plan = night.plan()
    assert "save_config" not in {step.kind for step in plan.steps()}
    night.unsaved.add("tickets/a")
    assert night.run(plan).state == "finished"
    assert night.lost_settings == []


def test_what_cannot_be_saved_is_lost_by_consent_alone():
    night = Unable(versions=ONE_HOP)
    plan = night.plan()
    assert plan.lanes[0].loses == ("tickets/b",)
    with pytest.raises(Refused, match="tickets/b: what it runs and never saved is lost"):
        night.run(plan)
    assert night.acts == []
    end = night.run(plan, Orders(by="tester", consents=("loses-unsaved:tickets/b",)))
    assert (end.state, night.lost_settings) == ("finished", ["tickets/b"])


def test_somebody_who_configures_during_the_roll_stops_it_where_nothing_can_save_that():
    night = Unable(versions=ONE_HOP)
    night.unsaved.clear()
    plan = night.plan()
    night.trouble = lambda what, name, node, n: night.unsaved.add("tickets/b") if night.acts else None
    end = night.run(plan)
    assert end.state == "stopped"
    assert "tickets/b runs what it would not start with; a restart would lose it" in end.message
    assert night.lost_settings == []


@pytest.mark.parametrize("nth", range(1, 60, 3))
def test_a_roll_that_saves_and_is_killed_anywhere_loses_nothing(nth):
    night = SettingsNight(versions=ONE_HOP)
    plan = night.plan()
    night.kill_at = ("after append", nth)
    try:
        night.run(plan)
    except Killed:
        assert night.finish(plan).state == "finished"
    assert (night.lost_settings, night.all_well()) == ([], [])
