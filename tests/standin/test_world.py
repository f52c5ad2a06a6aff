"""The stand-in world: what a device does by itself, and what it refuses; the judge must be right before it judges."""

from __future__ import annotations

import pytest

from gallant.standin.shoal import Denied
from gallant.standin.world import Fault

from ..simulation.night import Night, body

PACKAGE = "shoal-2.11.3.pkg"


@pytest.fixture
def night() -> Night:
    made = Night()
    for node in "ab":
        made.pair.keep(node, PACKAGE, body("2.11.3"))
    return made


def installed(night: Night, node: str) -> None:
    night.pair.order(node, "install", PACKAGE)
    night.world.advance(night.world.now + 480)


def test_an_install_takes_its_time_says_how_far_it_is_and_runs_from_the_next_start(night):
    task = night.pair.order("b", "install", PACKAGE)
    night.world.advance(240)
    assert task.percent(night.world.now) == pytest.approx(50)
    assert "writing 2.11.3" in task.words(night.world.now)
    night.world.advance(480)
    assert (task.state, night.pair.nodes["b"].version, night.pair.nodes["b"].next_version) == (
        "complete",
        "2.8.5",
        "2.11.3",
    )


def test_a_restart_takes_the_node_away_and_the_replica_takes_time_to_be_whole_again(night):
    installed(night, "b")
    night.pair.order("b", "restart")
    night.world.advance(night.world.now + 10)
    assert not night.pair.nodes["b"].up
    assert night.pair.replica()[0] == "apart"
    assert night.pair.serving == "a"
    night.world.advance(night.world.now + 300)
    assert night.pair.nodes["b"].version == "2.11.3"
    assert night.pair.replica()[0] == "catching-up"
    night.world.advance(night.world.now + 240)
    assert night.pair.replica() == ("matched", 0.0)


def test_an_active_node_that_goes_down_is_taken_over_by_the_other_and_that_is_remembered(night):
    night.pair.order("a", "restart")
    night.world.advance(3)
    assert night.pair.serving is None
    night.world.advance(40)
    assert night.pair.serving == "b"
    assert night.pair.broken == ["a went down while serving"]


def test_a_handover_leaves_the_address_nowhere_for_its_real_moment(night):
    night.pair.order("a", "yield")
    assert night.pair.serving is None
    night.world.advance(night.world.real(0.79))
    assert night.pair.serving is None
    night.world.advance(night.world.real(0.81))
    assert night.pair.serving == "b"


def test_releases_that_cannot_keep_a_replica_are_estranged(night):
    node = night.pair.nodes["b"]
    node.bays["left"] = "3.2.4"
    assert night.pair.replica()[0] == "estranged"


DENIED = [
    ("b", "install", "nothing.pkg", 404),
    ("b", "dance", "", 400),
    ("b", "yield", "", 409),
    ("a", "reclaim", "", 409),
]


@pytest.mark.parametrize(("node", "what", "package", "status"), DENIED)
def test_the_device_refuses_what_it_cannot_do(night, node, what, package, status):
    with pytest.raises(Denied) as denied:
        night.pair.order(node, what, package)
    assert denied.value.status == status


def test_the_device_refuses_a_second_job_a_damaged_package_and_a_release_over_the_bridge(night):
    night.pair.keep("a", "shoal-3.2.4.pkg", body("3.2.4"))
    with pytest.raises(Denied, match="does not install on 2.8.5"):
        night.pair.order("a", "install", "shoal-3.2.4.pkg")
    night.pair.keep("a", "bad.pkg", b"bad")
    with pytest.raises(Denied, match="damaged"):
        night.pair.order("a", "install", "bad.pkg")
    night.pair.order("a", "install", PACKAGE)
    with pytest.raises(Denied, match="busy"):
        night.pair.order("a", "install", PACKAGE)


def test_data_is_the_same_whichever_node_serves_it(night):
    before = night.pair.block(7)
    night.pair.order("a", "yield")
    night.world.advance(100)
    assert night.pair.serving == "b"
    assert night.pair.block(7) == before


def test_a_fault_applies_at_its_node_act_and_count_alone():
    night = Night(faults=[Fault(name="x", node="tickets/b", act="install", nth=2)])
    night.world.count("tickets/b", "install")
    assert night.world.fault("x", "tickets/b", "install") is None
    night.world.count("tickets/b", "install")
    assert night.world.fault("x", "tickets/b", "install")
    assert night.world.fault("x", "tickets/a", "install") is None


def test_the_two_exports_are_different_and_both_are_exports(night):
    assert night.pair.export("a", "system") != night.pair.export("a", "volumes")
    with pytest.raises(Denied):
        night.pair.export("a", "everything")


def test_time_that_passes_at_once_lets_happen_what_lies_in_it(place):
    began = place.truth()["now"]
    passed = place.let_pass(7200.0)
    assert passed >= began + 7200.0
    assert place.truth()["now"] >= passed
