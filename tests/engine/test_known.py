"""What the journal says of a roll's steps, once it was carried out."""

from __future__ import annotations

from types import SimpleNamespace

import pytest

from gallant.core.readings import Facet
from gallant.core.records import replace
from gallant.core.work.knows import Knows
from gallant.core.work.plan import steps_of
from gallant.engine.known import RunKnown
from gallant.engine.means import Log

from ..simulation.night import Deaf, Night, SimJournal
from ..simulation.shapes import ClusterNight, Extra


@pytest.fixture(scope="module")
def carried_out() -> tuple[Night, RunKnown]:
    night = Night()
    plan = night.plan()
    assert night.run(plan).state == "finished"
    log = Log(SimJournal(night), night.clock, Deaf(), "tester")
    log.read()
    return night, RunKnown(plan, night.estate, {"tickets": night.driver("tickets")}, log)


def test_a_hop_has_the_backups_that_it_began_with_and_no_other_hops(carried_out):
    night, known = carried_out
    taken = [e.entry.handle for e in night.events if e.entry.kind == "outcome" and ".backup" in e.entry.step]
    of_hops = [known.backups(next(steps_of(hop.waves))) for hop in known.plan.lanes[0].hops]
    assert of_hops == [(taken[0],), (taken[1],)]
    assert taken[0] != taken[1]


def test_every_step_that_was_derived_is_there_in_the_order_of_the_plan(carried_out):
    _, known = carried_out
    assert [step.id for step in known.steps()] == [step.id for step in known.plan.steps()]


def test_what_nodes_are_expected_to_run_is_what_they_entered_last(carried_out):
    night, known = carried_out
    assert known.expected(night.estate.systems["tickets"]) == {"a": "3.2.4", "b": "3.2.4"}


def test_jobs_are_those_of_the_orders_that_were_taken_each_with_its_step(carried_out):
    night, known = carried_out
    taken = {e.entry.step: e.entry.handle for e in night.events if e.entry.kind == "accepted" and e.entry.handle}
    assert {step: handle for (_, handle), step in known.jobs("tickets").items()} == taken
    assert taken


@pytest.mark.parametrize(("carries", "told"), [((), {"a": "3.2.4"}), (("bmc",), {})])
def test_of_a_node_whose_image_comes_with_a_component_no_version_is_expected_once_that_was_brought(carries, told):
    night = ClusterNight(
        shape="single", running={"a": "3.2.4"}, leader=None, extras={"bmc": Extra(kind="x", restart="none")}
    )
    plan = night.plan()
    assert night.run(plan).state == "finished"
    log = Log(SimJournal(night), night.clock, Deaf(), "tester")
    log.read()
    driver = SimpleNamespace(knows=lambda: Knows(capabilities=frozenset(), image_from=carries))
    assert RunKnown(plan, night.estate, {"tickets": driver}, log).expected(night.estate.systems["tickets"]) == told


def known_of(night: Night, plan) -> RunKnown:
    log = Log(SimJournal(night), night.clock, Deaf(), "tester")
    log.read()
    return RunKnown(plan, night.estate, {"tickets": night.driver("tickets")}, log)


def test_a_node_of_which_the_restart_failed_is_expected_to_run_what_it_ran():
    """It came back on another release than it was to, and that was seen: an outcome, and none that entered anything."""
    night = Night(
        running={"a": "2.11.3", "b": "2.11.3"},
        bend=lambda r: replace(r, version="2.11.3") if r.name == "tickets/b" else r,
    )
    plan = night.plan()
    assert night.run(plan).state == "stopped"
    failed = [e.entry.step for e in night.events if e.entry.kind == "outcome" and e.entry.result == "failed"]
    assert failed == ["tickets.1.b.restart"]
    expected = known_of(night, plan).expected(night.estate.systems["tickets"])
    assert expected == {"a": "2.11.3", "b": "2.11.3"}


def test_the_links_of_a_node_are_those_that_were_up_before_it_was_disturbed_last():
    def with_links(reading):
        names = ("uplink 1",) if reading.version == "2.8.5" else ("uplink 1", "uplink 2")
        return replace(reading, facets=tuple(Facet(name=name, state="up") for name in names))

    night = Night(bend=with_links)
    plan = night.plan()
    assert night.run(plan).state == "finished"
    known = known_of(night, plan)
    assert [known.links("tickets", node) for node in "ab"] == [("uplink 1", "uplink 2")] * 2
