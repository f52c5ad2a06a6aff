"""Weeks of made-up life (see `week`): some of them here, two
thousand in `make week`; and that the judge sees what is broken."""

from __future__ import annotations

from datetime import datetime

import pytest

from gallant.core.decide import due
from gallant.core.estate.reading import parse_estate
from gallant.engine import turn

from .week import EVERY, SimDesk, Week, asyncio_free, one_week


@pytest.mark.parametrize("seed", range(1, 13))
def test_every_booking_of_a_week_is_done_taken_back_or_left_and_told(seed):
    assert one_week(seed)[1] == []


def test_in_some_weeks_bookings_are_done_left_and_taken_back():
    fates = sum((one_week(seed)[2] for seed in range(100, 106)), start=one_week(99)[2])
    assert {"done", "left", "taken back"} <= fates.keys()


ONE_LANE = """
gallant: estate/1
name: week
sites: {s: {time_zone: UTC}}
systems:
  quay: {product: t/quay, shape: single, site: s, driver: manual, nodes: {a: {address: "hands:", serial: q}}}
  tickets: {product: t/tickets, shape: single, site: s, driver: manual, nodes: {a: {address: "hands:", serial: t}}}
limits: {lanes_at_once: 1}
"""


def looked(week: Week) -> dict[str, tuple[str, str]]:
    """What a look says of each notice, five minutes later."""
    week.work()
    week.at += EVERY
    rows = asyncio_free(turn.due(SimDesk(week, 0, 0))).rows
    return {row.subject: (row.did, row.why) for row in rows if ":" in row.subject}


def booked_twice() -> Week:
    """Two systems with a booking each, for the same hour, in a week in which nothing else happens."""
    week = Week(1)
    week.whole = week.estate = parse_estate("e", ONE_LANE)
    week.catalogs, week.changes, week.troubles, week._spans = {"t/quay", "t/tickets"}, [], [], {}
    week.runs = {("quay", "image"): "1.0", ("tickets", "image"): "1.0"}
    week.wants = dict.fromkeys(week.runs, "1.1")
    week.severity = {("quay", "image"): "low", ("tickets", "image"): "high"}
    week.security = dict.fromkeys(week.runs, False)
    week.needs = {"quay": 48 * EVERY, "tickets": 48 * EVERY}
    for name in ("quay:image", "tickets:image"):
        week.write("anna", "book", name, target="1.1", start=week.at + EVERY, end=week.at + 12 * EVERY)
    return week


class TakenBackMeanwhile(SimDesk):
    """While the plan is made, a person takes the booking back, or its time passes."""

    async def planned(self, jobs, given):
        ready = await super().planned(jobs, given)
        if self.week.passes:
            self.week.at += 13 * EVERY
        else:
            self.week.write("anna", "cancel", "tickets:image", target="1.1")
        return ready


class TakenBackAtTheLast(SimDesk):
    """Once the look is done with it, and before the roll's process is there."""

    def begin(self, plan, given, decided_at):
        self.week.write("anna", "cancel", "tickets:image", target="1.1")
        return super().begin(plan, given, decided_at)


def test_what_is_taken_back_while_its_process_starts_does_not_begin_and_is_not_left():
    week = booked_twice()
    week.at += EVERY
    rows = asyncio_free(turn.due(TakenBackAtTheLast(week, 0, 0))).rows
    assert week.rolls == []
    assert [row.subject for row in rows if row.did == turn.LEFT] == week.judge.heard == []


@pytest.mark.parametrize("passes", [False, True])
def test_what_is_taken_back_or_passes_while_a_plan_is_made_of_it_does_not_begin(passes):
    week = booked_twice()
    week.at += EVERY
    week.passes = passes
    rows = asyncio_free(turn.due(TakenBackMeanwhile(week, 0, 0))).rows
    assert week.rolls == []
    assert not [e for e in week.ledger if e.state in ("begun", "intended")]
    left = {row.subject for row in rows if row.did == turn.LEFT}
    assert left == ({"tickets:image"} if passes else set())
    assert {subject for _, subject, _ in week.judge.heard} == left


class Slow(SimDesk):
    """It plans for an hour."""

    async def planned(self, jobs, given):
        ready = await super().planned(jobs, given)
        self.week.at += 12 * EVERY
        return ready

    def begin(self, plan, given, decided_at):
        raise AssertionError("it begins after its window")


def test_what_a_rule_lets_act_does_not_begin_where_its_window_closed_while_a_plan_was_made_of_it():
    week = booked_twice()
    window = (
        'windows: [{for: tickets, days: [daily], from: "00:00", to: "00:30"}]\nrules: [{security: yes, then: act}]\n'
    )
    week.whole = week.estate = parse_estate("e", ONE_LANE + window)
    week.security = dict.fromkeys(week.runs, True)
    week.ledger.clear()
    week.wants["quay", "image"] = "1.0"
    week.at = week.begin.replace(hour=0, minute=5)
    rows = asyncio_free(turn.due(Slow(week, 0, 0))).rows
    assert [(row.did, row.what) for row in rows] == []
    again = asyncio_free(turn.due(SimDesk(week, 0, 0))).rows
    assert [(row.did, row.what, f"{row.at:%H:%M}") for row in again] == [("to come", due.RULE, "00:00")]


def test_where_there_is_room_for_one_the_most_severe_begins_and_what_lapses_meanwhile_says_so():
    week = booked_twice()
    full = "1 systems in all are worked on, and no more may be at once"
    seen = looked(week)
    assert seen["tickets:image"][0] == "begun"
    assert seen["quay:image"] == ("to come", full)
    looks = [looked(week) for _ in range(13)]
    assert looks[-1]["quay:image"] == ("left", f"its time has passed while it waited: {full}")
    assert [subject for _, subject, _ in week.judge.heard] == ["quay:image"]


def test_of_what_is_as_severe_that_begins_which_would_not_fit_later_any_more():
    week = booked_twice()
    week.severity = dict.fromkeys(week.runs, "high")
    week.needs = {"quay": 2 * EVERY, "tickets": 9 * EVERY}
    assert {name: did for name, (did, _) in looked(week).items()} == {"tickets:image": "begun", "quay:image": "to come"}
    assert len([looked(week) for _ in range(10)]) == 10
    assert all(roll.stands == due.FINISHED or roll.systems == ("quay",) for roll in week.rolls)
    assert [roll.systems for roll in week.rolls] == [("tickets",), ("quay",)]


def test_what_does_not_fit_any_more_takes_no_room_from_what_does():
    week = booked_twice()
    week.severity = dict.fromkeys(week.runs, "high")
    week.needs = {"quay": 13 * EVERY, "tickets": 9 * EVERY}
    assert {name: did for name, (did, _) in looked(week).items()} == {"tickets:image": "begun", "quay:image": "to come"}


class Counting(SimDesk):
    """Counts how often what lapsed is placed again; by it the windows that are full until then are asked no more."""

    asked: list[dict[str, set[str]]]

    def next_times(self, lapsed):
        self.asked.append(dict(lapsed))
        return dict.fromkeys(lapsed, self.week.at + 6 * EVERY)


def test_what_lapses_is_placed_again_with_all_that_lapsed_and_anew_once_that_time_is_past():
    week, asked = booked_twice(), []
    week.write("anna", "cancel", "tickets:image", target="1.1")

    def again() -> dict[str, datetime]:
        week.at += EVERY
        desk = Counting(week, 0, 0)
        desk.asked = asked
        rows = asyncio_free(turn.due(desk)).rows
        return {row.subject: (row.again - week.begin) // EVERY for row in rows if row.again is not None}

    week.at += 20 * EVERY
    assert again() == {"quay:image": 27}
    assert [again() for _ in range(6)] == [{"quay:image": 27}] * 5 + [{"quay:image": 33}]
    assert asked == [{"quay": {"image"}}] * 2
    week.write("anna", "book", "tickets:image", target="1.1", start=week.at, end=week.at)
    assert again() == {"quay:image": 34, "tickets:image": 34}
    assert asked[2:] == [{"quay": {"image"}, "tickets": {"image"}}]
    assert [subject for _, subject, _ in week.judge.heard] == ["quay:image", "tickets:image"]
    assert week.kept["quay:image"].row.next.startswith("gallant notice book quay:image 20")


def test_a_held_roll_is_left_once_the_time_of_its_booking_is_over_and_not_before():
    week = booked_twice()
    looked(week)
    week.rolls[0].stands = due.HELD
    seen = [looked(week) for _ in range(13)]
    assert ["tickets:image" in one for one in seen] == [False] * 11 + [True] * 2
    assert seen[-1]["tickets:image"] == ("left", "roll-0001 is held, and nothing carries it on by itself")


@pytest.mark.parametrize(
    ("stands", "why"), [(due.STOPPED, "roll-0001 stopped"), (due.ENDED, "roll-0001 began it and was ended")]
)
def test_a_booking_whose_roll_is_not_done_is_left_at_once(stands, why):
    week = booked_twice()
    looked(week)
    week.rolls[0].stands = stands
    did, said = looked(week)["tickets:image"]
    assert (did, said.startswith(why)) == ("left", True)


def test_what_is_carried_on_by_itself_is_not_left():
    week = booked_twice()
    looked(week)
    week.rolls[0].stands = due.CUT
    assert "tickets:image" not in looked(week)
    assert week.rolls[0].stands == due.RUNNING


def test_a_second_booking_that_lapses_as_the_first_did_is_told_too():
    week = booked_twice()
    week.at += 20 * EVERY
    looked(week)
    week.write("anna", "book", "tickets:image", target="1.1", start=week.at + EVERY, end=week.at + 2 * EVERY)
    week.at += 20 * EVERY  # and nobody looks in between
    looked(week)
    looked(week)
    assert [subject for _, subject, _ in week.judge.heard] == ["quay:image", "tickets:image", "tickets:image"]


class Begun(SimDesk):
    """Notes what goes on in processes of its own."""

    def prepare(self, plan):
        self.week.begun.append(("prepare", plan))

    def look_after(self, roll):
        self.week.begun.append(("look after", roll))


def test_a_preparation_begins_once_at_its_time_and_a_look_once_an_hour_after_a_roll():
    week = booked_twice()
    week.begun = []

    def told() -> dict[str, tuple]:
        week.work()
        week.at += EVERY
        rows = asyncio_free(turn.due(Begun(week, 0, 0))).rows
        return {row.subject: (row.did, row.what, row.plan, row.next) for row in rows if ":" not in row.subject}

    week.write("anna", "prepare", "plan-77", start=week.at + 2 * EVERY)
    coming = told()["plan-77"]
    assert (coming[:2], week.begun) == (("to come", due.PREPARATION), [])
    assert told()["plan-77"] == ("begun", due.PREPARATION, "plan-77", "gallant plan --show plan-77")
    assert "plan-77" not in told()
    for _ in range(400):
        last = told()
        if any(what == "look after" for what, _ in week.begun):
            break
    assert last["roll-0001 1 h after"] == ("begun", due.LOOK, None, "gallant report roll-0001")
    assert week.at - week.rolls[0].ended >= 12 * EVERY
    [told() for _ in range(24)]
    assert week.begun[0] == ("prepare", "plan-77")
    assert len(week.begun) == len(set(week.begun))


def without_begun(n, spans, begun, brought, now):
    return due.by_rule(n, spans, [], (), now)


# What a look may get wrong, what stands for it then, a seed whose week meets it, and the words of the judge.
BROKEN = [
    ("_full", lambda desk, systems: {}, 18, "lanes of"),
    ("_left_of", lambda *given: iter(()), 1, "nobody was told"),
    ("_is_known", lambda before, row: False, 1, "is told twice"),
    ("_rolls_of", lambda desk, booked: (), 28, "is the second one for one booking"),
    ("by_rule", without_begun, 3, "is the second one by a rule"),
]


@pytest.mark.parametrize(("name", "instead", "seed", "words"), BROKEN, ids=[one[0] for one in BROKEN])
def test_the_judge_sees_a_look_that_is_broken_on_purpose(monkeypatch, name, instead, seed, words):
    monkeypatch.setattr(turn, name, instead)
    assert any(words in problem for problem in one_week(seed)[1])
