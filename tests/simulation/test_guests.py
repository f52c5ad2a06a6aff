"""What a guest is down for by the work on its hosts: planned, accepted, rehearsed and seen are one number."""

from __future__ import annotations

import pytest

from gallant.core.decide.consents import consents_needed
from gallant.core.errors import Refused
from gallant.core.plan.planning import make_plan
from gallant.core.readings import Guest
from gallant.core.records import replace
from gallant.core.work.plan import Down, steps_of
from gallant.engine.means import Orders

from ..twins.cases import Case
from .guests import GuestNight

YES = Orders(by="tester", consents=("downtime:guest",))
TURN_S = 300 + 480 + 300 + 300  # drain, install, restart, refill
WAYS = {
    "it moves": ({"does": "move"}, 0.0),
    "it moves, and is tied": ({"does": "move", "tied": "its own disk is there"}, TURN_S),
    "it is started anew elsewhere": ({"does": "restart"}, 300.0),
    "it would be, and is tied": ({"does": "restart", "tied": "pinned"}, TURN_S),
    "its host moves none": ({"does": "stay"}, TURN_S),
}


@pytest.mark.parametrize("way", WAYS)
def test_plan_consent_and_rehearsal_have_one_number_and_the_roll_takes_no_longer(way):
    said, planned_s = WAYS[way]
    night = GuestNight(**said)
    plan = night.plan()
    assert plan.down_s.get("guest", 0.0) == pytest.approx(planned_s, abs=1)
    asked = [one.consent.words for one in consents_needed(plan, ["tickets"])]
    assert asked == (["downtime:guest"] if planned_s else [])
    assert Case(night, plan).end().down_s.get("guest", 0.0) == pytest.approx(planned_s, abs=1)
    assert night.run(plan, YES if planned_s else Orders(by="tester")).state == "finished"
    assert night.whole() == []
    assert night.pairs["guest"].members["a"].up
    assert bool(night.down) == bool(planned_s)
    assert night.down_s <= planned_s + 120  # that it starts again takes a while of its own


def test_a_roll_that_nobody_accepted_the_downtime_for_does_not_begin():
    night = GuestNight(does="stay")
    with pytest.raises(Refused, match="guest: it stands on tickets, and is down with it for about 23 min"):
        night.run(night.plan(), Orders(by="tester"))


def test_a_host_is_not_emptied_of_what_became_tied_since_the_plan_was_made():
    """The plan has it move, so nobody was asked; the host says otherwise by the time of the roll."""
    night = GuestNight(does="move")
    plan = night.plan()
    night.tied = "its own disk is there"
    night.pairs["tickets"].tied["guest"] = night.tied
    end = night.run(plan, Orders(by="tester"))
    assert end.state == "stopped"
    assert "guest would be down, and stands on tickets/b" in end.message
    assert not night.down
    assert ("b", "drain", "3.2.4") not in night.acts


def test_where_its_host_lists_a_guest_counts_and_not_where_the_estate_has_it():
    night = GuestNight(does="stay")
    hosts = night.pairs["tickets"]
    hosts.members["b"].guests.remove("guest")
    hosts.members["c"].guests.append("guest")
    drains = {s.node: s for hop in night.plan().lanes[0].hops for s in steps_of(hop.waves) if s.kind == "drain"}
    assert {node: "guest/a" in step.disturbs for node, step in drains.items()} == {"a": False, "b": False, "c": True}
    assert night.run(night.plan(), YES).state == "finished"


def test_every_guest_that_is_down_is_named_whether_it_is_a_system_of_the_estate_or_not():
    night = GuestNight(tied="its own disk is there")
    more = (Guest(name="till", state="runs", tied="pinned"), Guest(name="old", state="off", tied="pinned"))
    ground = night.ground()
    b = ground.readings["tickets/b"]
    wider = {**ground.readings, "tickets/b": replace(b, guests=(*(b.guests or ()), *more))}
    plan = make_plan(replace(ground, readings=wider), night.planned(), {"ostrel-shoal": "p"}, by="tester")
    found = plan.lanes[0].guests
    assert [(d.node, d.guest, d.why) for d in found] == [
        ("tickets/b", "guest", "its own disk is there"),
        ("tickets/b", "till", "pinned"),
    ]
    assert all(isinstance(d, Down) and d.down_s == TURN_S and not d.elsewhere for d in found)
