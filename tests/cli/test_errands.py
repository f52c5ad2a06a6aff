"""Restarts and work by hand, by the built program on stand-ins."""

from __future__ import annotations


def plan_of(done):
    assert done.code == 0, done.err + done.out
    return done.json["id"]


def test_a_pair_is_restarted_as_it_is_although_nothing_of_its_update_is_ready(place):
    shown = place.run("plan", "tickets", "--restart", "--reason", "memory leak")
    assert shown.code == 0, shown.err
    assert "Every node is restarted as it is: memory leak" in shown.out
    assert "in stock" not in shown.out  # nothing is to be entered
    plan = plan_of(place.run("plan", "tickets", "--restart", "--reason", "memory leak", "--json"))
    done = place.run("roll", plan)
    assert (done.code, "tickets was restarted on every node" in done.out) == (0, True), done.err + done.out
    truth = place.truth()
    assert {name: (n["version"], n["role"]) for name, n in truth["nodes"].items()} == {
        "tickets/a": ("2.8.5", "serving"),
        "tickets/b": ("2.8.5", "shadowing"),
    }
    assert {node: truth["counts"][f"{node} restart done"] for node in ("tickets/a", "tickets/b")} == {
        "tickets/a": 1,
        "tickets/b": 1,
    }
    assert truth["systems"]["tickets"]["broken"] == []
    assert "since memory leak" in place.run("ledger").out


def test_a_person_is_told_when_a_node_is_theirs_and_says_when_it_is_done(place):
    plan = plan_of(place.run("plan", "tickets/b", "--by-hand", "add a card", "--reason", "more ports", "--json"))
    held = place.run("roll", plan)
    assert held.code == 4
    assert "tickets/b is yours now: add a card" in held.out
    assert "gallant resume roll-0001 --done tickets.hand.b.by_hand" in held.out
    wrong = place.run("resume", "roll-0001", "--done", "tickets.hand.b.backup")
    assert (wrong.code, "not waiting for an answer" in wrong.err) == (5, True)
    done = place.run("resume", "roll-0001", "--done", "tickets.hand.b.by_hand")
    assert (done.code, "has had its work by hand on b" in done.out) == (0, True), done.err + done.out


def test_a_reason_is_asked_for_and_what_makes_no_sense_together_is_refused(place):
    assert place.run("plan", "tickets", "--restart").code == 2
    assert place.run("plan", "tickets", "--restart", "--by-hand", "x", "--reason", "y").code == 2
    assert place.run("plan", "tickets", "--restart", "--only", "image", "--reason", "y").code == 2
    assert (
        place.run("plan", "--restart", "--reason", "y").code == 2
    )  # all of the estate is nothing to restart in passing
