"""Windows as a user meets them: shown, in a plan, and when a roll is begun outside of them."""

from __future__ import annotations

import json
from datetime import UTC, datetime, timedelta

import pytest

from ..users import SOMEBODY

DAYS = ("mon", "tue", "wed", "thu", "fri", "sat", "sun")


def with_windows(place, text: str) -> None:
    path = place.folder / "estate.yaml"
    path.write_text(path.read_text() + text)


def other_day(place) -> str:
    """A day of the week that is neither today nor next to it, by the estate's clock."""
    return DAYS[(datetime.now(UTC) + timedelta(days=3)).weekday()]


@pytest.fixture
def closed(place):
    with_windows(
        place, f'windows:\n  - {{for: site:harbour, days: [{other_day(place)}], from: "01:00", to: "07:00"}}\n'
    )
    return place


def test_windows_are_shown_as_a_list_and_a_strip_in_the_sites_own_time(closed):
    rows = closed.run("windows", "tickets", "--json").rows
    assert len(rows) == 2
    assert {row["zone"] for row in rows} == {"Europe/London"}
    shown = closed.run("windows", COLUMNS="140")
    assert shown.code == 0
    assert "█" in shown.out or "▒" in shown.out
    assert "• window for site:harbour:" in shown.out
    assert closed.run("windows", "site:harbor").code == 2


def test_without_windows_everything_may_be_done_at_any_time(place):
    shown = place.run("windows")
    assert "At any time: tickets" in shown.out
    assert place.run("windows", "--json").json["any_time"] == ["tickets"]


def test_a_roll_outside_of_its_windows_is_refused_until_somebody_says_why_it_may(closed):
    plan = closed.make_ready()
    told = closed.run("plan", "tickets", COLUMNS="300")
    assert "Windows of tickets:" in told.out
    assert "next  From " in told.out
    found = closed.run("plan", "tickets", "--json").json
    assert found["opens"] is not None
    assert found["windows"][0]["parts"][0]["needed_s"] > 0
    refused = closed.run("roll", plan)
    assert refused.code == 5
    assert "no window of tickets is open now; the next of tickets begins at" in refused.err
    assert closed.run("roll", plan, "--outside-window").code == 2
    done = closed.run("roll", plan, "--outside-window", "--reason", "the publisher said at once")
    assert done.code == 0, done.err
    again = closed.run("plan", "--show", plan)
    assert "roll-0001 took it up, and has ended." in again.out
    assert "next  gallant history roll-0001" in again.out
    assert "next  gallant roll" not in again.out
    back = closed.run("backout", "roll-0001", "--json")
    assert back.code == 0, back.err
    assert back.json["opens"] is not None
    assert back.json["windows"][0]["parts"][0]["needed_s"] > 0
    shown = closed.run("plan", "--show", back.json["id"])
    assert "next  From " in shown.out
    assert "to accept" not in shown.out  # no decision is about going back
    made = json.loads((closed.folder / back.json["path"]).read_text())
    assert {"restart", "steady"} <= set(made["lanes"][0]["hops"][0]["paces"])  # as the roll took them
    entries = closed.run("ledger", "--json").rows
    assert [e["reason"] for e in entries if e["kind"] == "outside-window"] == ["the publisher said at once"]


def test_a_plan_that_fits_into_no_window_says_what_its_longest_stretch_is(place):
    with_windows(place, 'windows:\n  - {for: tickets, days: [daily], from: "01:00", to: "01:05"}\n')
    place.make_ready()
    told = place.run("plan", "tickets", COLUMNS="300").out
    assert "tickets fits into none of its windows: from one rest to the next it may take" in told
    assert place.run("plan", "tickets", "--json").json["windows"][0]["parts"] == []


def test_what_stays_open_past_the_two_weeks_is_not_said_to_end_then(place):
    with_windows(place, "blackouts:\n  - {for: '*', date: 2199-12-24, reason: a fair}\n")
    shown = place.run("windows", "tickets", COLUMNS="140").out
    row = next(line for line in shown.splitlines() if "▸ open" in line)
    assert "not in these weeks" in row
    assert "over 14 d" in row


def test_a_blackout_closes_what_no_window_says(place):
    today = f"{datetime.now(UTC):%Y-%m-%d}"
    until = f"{datetime.now(UTC) + timedelta(days=3):%Y-%m-%d}"
    with_windows(place, f"blackouts:\n  - {{for: '*', date: {today}, until: {until}, reason: a fair}}\n")
    plan = place.make_ready()
    assert place.run("roll", plan).code == 5
    assert "blackout for *: " in place.run("windows", COLUMNS="140").out


def test_a_plan_is_shown_and_drawn_again_without_a_question_to_a_device(closed):
    plan = closed.make_ready()
    estate = closed.folder / "estate.yaml"
    estate.write_text(estate.read_text().replace("127.0.0.1", "127.0.0.77"))  # where nothing answers
    shown = closed.run("plan", "--show", plan, "--figure", "plan.png", COLUMNS="300")
    assert shown.code == 0, shown.err
    assert plan in shown.out
    assert "Windows of tickets:" in shown.out
    assert "Warning" not in shown.err
    assert (closed.folder / "plan.png").read_bytes().startswith(b"\x89PNG")
    assert closed.run("plan", "--show", plan, "tickets").code == 2
    assert closed.run("plan", "--show", "plan-x").code == 2
    assert closed.run("plan", "--show", plan, "--figure", "nowhere/plan.png").code == 4


def test_all_that_is_behind_is_put_into_windows_and_booked_there(closed):
    closed.make_ready()
    shown = closed.run("plan", "--all", "--search", "1s", "--json")
    assert shown.code == 0, shown.err
    [slot] = shown.rows
    assert (slot["piece"], slot["booked"], slot["consents"]) == ("tickets", False, [])
    assert slot["window"]["begin"] <= slot["span"]["begin"] < slot["span"]["end"] <= slot["window"]["end"]
    assert closed.run("plan", "--book").code == 2
    assert closed.run("plan", "--all", "--only", "image").code == 2
    booked = closed.run("plan", "--all", "--book", "--search", "1s", COLUMNS="200")
    assert booked.code == 0, booked.err
    assert "✓ booked" in booked.out
    rows = {n["name"]: n for n in closed.run("notice", "list", "--json").rows}
    assert rows["tickets:image"]["state"] == "booked"
    again = closed.run("plan", "--all", "--book", "--search", "1s", "--json")
    assert [(s["booked"], s["span"]["begin"]) for s in again.rows] == [(True, rows["tickets:image"]["start"])]
    kinds = [e["kind"] for e in closed.run("ledger", "--json").rows]
    assert kinds.count("book") == len(
        [n for n in rows.values() if n["state"] == "booked"]
    )  # what is booked stays where it is
    coming = {row["subject"]: row for row in closed.run("due", "--list", "--json").rows}
    assert coming["tickets:image"]["at"] == rows["tickets:image"]["start"]


def test_what_nobody_else_approved_is_not_booked_for_a_night_that_asks_for_that(closed):
    plan = closed.make_ready()
    estate = closed.folder / "estate.yaml"
    estate.write_text(estate.read_text() + "approval: {PROD: 1}\n")
    [slot] = closed.run("plan", "--all", "--book", "--search", "1s", "--json").rows
    assert (slot["booked"], slot["not_booked"]) == (False, "no plan of it has the approval of 1 other than who made it")
    closed.let_in()
    assert closed.run_as(SOMEBODY, "approve", plan).code == 0
    assert [one["booked"] for one in closed.run("plan", "--all", "--book", "--search", "1s", "--json").rows] == [True]


def test_what_fits_into_no_window_at_all_has_no_place_and_says_what_would_help(place):
    with_windows(place, 'windows:\n  - {for: tickets, days: [daily], from: "01:00", to: "01:20"}\n')
    place.make_ready()
    found = place.run("plan", "--all", "--search", "1s", COLUMNS="200")
    assert found.code == 1
    assert "its longest window is" in found.out
    assert "widen the window" in found.out
