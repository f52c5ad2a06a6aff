"""A step whose time is over while its device shows that it goes on is
waited for, and people are told; one that shows nothing is not."""

from __future__ import annotations

import pytest

from gallant.core.records import replace
from gallant.core.work import events as e
from gallant.engine.journal import grammar_problems
from gallant.standin.world import Fault

from .night import Night


def slow(install_s: float, **more: object) -> Night:
    """A pair whose installs take so long, of 8 minutes that were announced and 32 that are their deadline."""
    night = Night(running={"a": "2.11.3", "b": "2.11.3"}, **more)
    for pair in night.pairs.values():
        pair.images = {version: replace(image, install_s=install_s) for version, image in pair.images.items()}
    return night


def told_late(night: Night) -> list[str]:
    return [event.entry.step or "" for event in night.events if event.entry.kind == e.LATE]


@pytest.mark.parametrize(("install_s", "late"), [(1800.0, 0), (2700.0, 2), (7000.0, 2)])
def test_an_install_that_counts_up_is_waited_for_beyond_its_deadline_and_said_once(install_s, late):
    night = slow(install_s)
    assert night.run(night.plan()).state == "finished"
    assert len(told_late(night)) == late == len(set(told_late(night)))
    assert grammar_problems(night.events) == []


def test_what_counts_up_for_ever_is_not_waited_for_for_ever():
    night = slow(30_000.0)
    end = night.run(night.plan())
    assert (end.state, "was not done within 32 min" in end.message) == ("stopped", True)
    began = next(x.entry.at for x in night.events if x.entry.step == "tickets.1.b.install")
    assert 4 * 1920 <= (night.events[-1].entry.at - began).total_seconds() < 5 * 1920


def test_a_node_that_shows_nothing_is_given_up_when_its_time_is_over():
    night = Night(
        running={"a": "2.11.3", "b": "2.11.3"}, faults=[Fault(name="no_return", node="tickets/b", act="restart")]
    )
    assert night.run(night.plan()).state == "stopped"
    assert told_late(night) == []
