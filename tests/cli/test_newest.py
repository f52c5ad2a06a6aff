"""What a person may leave out or write small: the newest plan, the case of a kind; and lists of what is known."""

from __future__ import annotations


def test_roll_without_a_name_takes_the_newest_plan_that_was_not_carried_out(place):
    empty = place.run("roll")
    assert (empty.code, "No plan waits to be carried out" in empty.err) == (2, True)
    place.make_ready()
    newest = place.run("plan", "tickets", "--json").json["id"]
    held = place.run("roll", "tickets", "--hold-after", "step")
    assert held.code == 4, held.err
    assert place.run("history", "--json").rows[0]["plan"] == newest
    assert place.run("hold", "roll-0001", "--for-good", "--reason", "x").code == 0
    other = place.run("roll", "nosuch")
    assert (other.code, "No plan 'nosuch'" in other.err) == (2, True)
    following = place.run("roll", "--hold-after", "step")
    assert following.code == 4, following.err
    assert place.run("history", "--json").rows[0]["plan"] != newest


def test_a_component_is_found_by_its_kind_in_any_case(place):
    place.follow_catalog()
    assert place.run("survey").code == 0
    for word in ("reference data", "Reference Data", "ROOTS", "ostrel/ROOTS"):
        rows = place.run("gaps", "--component", word, "--json").rows
        assert {row["component"] for row in rows} == {"roots"}, word


def test_past_surveys_and_known_kinds_of_device_are_listed(place):
    assert "no survey was held yet" in place.run("survey", "--list").out
    assert place.run("survey").code == 0
    assert place.run("survey").code == 0
    assert [row["number"] for row in place.run("survey", "--list", "--json").rows] == [2, 1]
    kinds = {row["profile"]: row["driver"] for row in place.run("profiles", "--json").rows}
    assert kinds["debian"] == "debian"
    assert kinds["ostrel-shoal"] == "http"
