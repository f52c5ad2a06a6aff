"""Taking a roll back by the built program, on stand-ins."""

from __future__ import annotations

import pytest

BEGAN = {"tickets/a": ("2.8.5", "serving"), "tickets/b": ("2.8.5", "shadowing")}


def end_state(place):
    return {name: (node["version"], node["role"]) for name, node in place.truth()["nodes"].items()}


def plan_of(done):
    assert done.code == 0, done.err + done.out
    return done.json["id"]


@pytest.fixture
def stopped(standins):
    """A place where a roll stopped in its second hop: the standby runs 2.11.3, its install of 3.2.4 failed."""
    place = standins(
        faults=[{"name": "install_fails_at", "node": "tickets/b", "act": "install", "nth": 2, "value": 40}]
    )
    done = place.run("roll", place.make_ready())
    assert done.code == 4
    assert "To go back instead: gallant backout roll-0001 tickets plans what that takes." in done.out
    return place


def test_a_stopped_roll_is_taken_back_to_what_ran_before_it(stopped):
    place = stopped
    shown = place.run("backout", "roll-0001")
    assert shown.code == 0, shown.err
    for words in ("Takes back what roll-0001 did", "2.11.3 → 2.8.5", "fall back", "its other slot holds it still"):
        assert words in shown.out
    assert place.truth()["counts"].get("tickets/b start-from", 0) == 0  # only planned
    plan = plan_of(place.run("backout", "roll-0001", "--json"))
    done = place.run("roll", plan, "--json")
    assert done.code == 0, done.err
    assert end_state(place) == BEGAN
    assert place.truth()["counts"]["tickets/b start-from done"] == 1
    assert place.truth()["systems"]["tickets"]["broken"] == []
    assert [place.journal_problems(roll) for roll in ("roll-0001", "roll-0002")] == [[], []]
    states = {row["run"]: row["state"] for row in place.run("history", "--json").rows}
    assert states == {"roll-0001": "ended", "roll-0002": "finished"}
    assert "It takes back roll-0001" in place.run("history", "roll-0002").out
    again = place.run("backout", "roll-0002")
    assert (again.code, "took roll-0001 back already" in again.err) == (5, True)
    over = place.run("backout", "roll-0001")
    assert (over.code, "Nothing of what roll-0001 did is left" in over.err) == (0, True)


def test_a_back_out_that_was_held_goes_on_and_bars_another_meanwhile(stopped):
    place = stopped
    plan = plan_of(place.run("backout", "roll-0001", "tickets", "--json"))
    assert place.run("roll", plan, "--hold-after", "step").code == 4
    again = place.run("backout", "roll-0001")
    assert (again.code, "roll-0002, which takes it back, is not finished" in again.err) == (5, True)
    assert place.run("resume", "roll-0002").code == 0
    assert end_state(place) == BEGAN


@pytest.mark.long
def test_what_is_no_part_of_a_roll_is_not_taken_back(place):
    assert place.run("backout", "roll-0001").code == 2
    plan = place.make_ready()
    assert place.run("roll", plan, "--hold-after", "step").code == 4
    wrong = place.run("backout", "roll-0001", "tickts")
    assert (wrong.code, "did you mean tickets" in wrong.err) == (2, True)
    assert place.run("backout", "roll-0001", "tickets/z").code == 2
    nothing = place.run("backout", "roll-0001")
    assert (nothing.code, "is left to be taken back" in nothing.err) == (0, True)
    assert place.run("resume", "roll-0001").code == 0  # it is still there to be carried on


@pytest.mark.long
def test_what_a_back_out_needs_from_stock_is_named_and_fetched(place):
    assert place.run("roll", place.make_ready()).code == 0
    for package in place.folder.glob("stock/*/shoal-2.8.5.pkg"):
        package.unlink()
    shown = place.run("backout", "roll-0001", "--json")
    plan = shown.json["id"]
    refused = place.run("roll", plan)
    assert (refused.code, "shoal-2.8.5.pkg is not in stock" in refused.err) == (5, True)
    assert f"gallant stock fetch --plan {plan}" in refused.err
    assert place.run("stock", "fetch", "tickets", "--plan", plan).code == 2
    fetched = place.run("stock", "fetch", "--plan", plan, "--json")
    assert {(row["package"], row["why"]) for row in fetched.rows} >= {("shoal-2.8.5.pkg", "plan")}
    assert place.run("roll", plan).code == 0
    assert end_state(place) == BEGAN
