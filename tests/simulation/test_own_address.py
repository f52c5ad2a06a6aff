"""Nights of nodes that are reached at the address of a service: where
that moves nothing is planned, where it cannot it is watched."""

from __future__ import annotations

import pytest

from gallant.core.errors import Refused
from gallant.engine.means import Orders

from .night import Night
from .shapes import ClusterNight


class Console(ClusterNight):
    """One node, and users who look at its own console page."""

    def more_systems(self) -> str:
        self.estate_text = self.estate_text.replace("10.1.1.1:860", "10.1.0.1:443")
        return ""


def test_a_system_of_one_node_is_updated_though_its_service_is_at_its_own_address_and_the_outage_is_expected_and_measured():
    night = Console(shape="single", running={"a": "2.8.5"}, leader=None, versions={"2.8.5": None, "2.11.3": None})
    plan = night.plan()
    (restart,) = [step for step in plan.steps() if step.kind == "restart"]
    assert restart.interrupts_s == restart.estimate_s > 0
    end = night.run(plan, Orders(by="tester", consents=("downtime:tickets",)))
    assert end.state == "finished", end.message
    (outage,) = [e.entry for e in night.events if e.entry.kind == "outage" and e.entry.outage.ended is not None]
    assert (outage.outage.ended - outage.outage.began).total_seconds() == pytest.approx(300, abs=60)


def test_nodes_that_are_reached_at_an_address_that_moves_are_refused_by_the_plan_and_not_at_a_step():
    text = Night().estate_text.replace("10.1.1.1:860", "10.1.0.2:860")
    night = Night(estate_text=text)
    assert night.estate.systems["tickets"].nodes["b"].host == "10.1.0.2"
    with pytest.raises(Refused, match="tickets/b is reached at the address of its service blocks, which moves"):
        night.plan()
