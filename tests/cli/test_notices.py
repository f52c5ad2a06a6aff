"""Decisions on gaps, as a person makes them: where each stands, terms of use, the ledger, what acts by which rule."""

from __future__ import annotations

import json
import os
import pty
import re
import sqlite3
import subprocess
import sys
import time
from datetime import datetime

import pytest

from gallant.core.length.spread import room_s
from gallant.operations.ground.workplace import Workplace
from gallant.operations.plan.loading import load_plan

from ..conftest import TERMS


@pytest.fixture
def ready(place):
    assert place.run("survey").code == 0
    place.follow_catalog()
    return place


def states(place, *more: str) -> dict[str, str]:
    return {r["name"]: r["state"] for r in place.run("notice", "list", "--json", *more).rows}


def entries(place) -> list[tuple[str, str]]:
    """What people decided."""
    return [(r["kind"], r["subject"]) for r in place.run("ledger", "--json").rows if r["kind"] != "plan"]


def test_what_waits_for_a_decision_is_listed_the_most_severe_first_and_what_acts_says_by_which_rule(ready):
    listed = ready.run("notice", "list", "--json")
    assert listed.code == 1
    assert [(r["name"], r["state"], r["target"]) for r in listed.rows] == [
        ("tickets:image", "new", "3.2.4"),
        ("tickets:roots", "acts by itself", "2026.1"),
    ]
    assert "rule 1: security no, restart none" in listed.rows[1]["why"]
    gap = next(r for r in ready.run("gaps", "--json").rows if r["component"] == "roots")
    assert (gap["then"], gap["rule"], gap["disruptive"]) == ("act", 1, False)
    assert listed.rows[0]["terms"] == [TERMS]
    assert "gallant notice accept tickets:image" in ready.run("notice", "list").out


def test_terms_are_accepted_once_by_a_named_person_and_until_then_nothing_is_begun(ready):
    for words in (["accept", "tickets:image"], ["book", "tickets:image", "2030-01-01T22:00"]):
        refused = ready.run("notice", *words)
        assert refused.code == 5
        assert f"the publisher's terms {TERMS}" in refused.err
        assert f"--accept-terms {TERMS}" in refused.err
    assert ready.run("notice", "accept", "tickets:image", "--accept-terms", "2025-01").code == 5
    assert entries(ready) == []
    assert "It comes as it is" in ready.run("catalog", "show", "ostrel/shoal", "3.2.4").out
    ready.run("stock", "fetch")
    plan = ready.run("plan", "tickets", "--json").json["id"]
    stopped = ready.run("roll", plan)
    assert stopped.code == 5
    assert f"waits for somebody to accept it, and the publisher's terms {TERMS} with it" in stopped.err
    assert ready.run("notice", "accept", "tickets:image", "--accept-terms", TERMS).code == 0
    [row] = [row for row in ready.run("ledger", "--json").rows if row["kind"] == "terms"]
    assert row["subject"] == f"terms {TERMS} of ostrel"
    assert row["by"]
    assert row["host"]
    assert datetime.fromisoformat(row["at"])
    assert ready.run("notice", "book", "tickets:image", "2030-01-01T22:00").code == 0  # not asked for again
    assert [kind for kind, _ in entries(ready)] == ["book", "accept", "terms"]
    assert "accepted here" in ready.run("catalog", "show", "ostrel/shoal", "3.2.4").out
    assert not [r for r in ready.run("check", "--json").rows if r["check"] == "terms"]


def test_at_a_terminal_the_terms_are_shown_and_asked_about(ready):
    leader, follower = pty.openpty()
    command = [sys.executable, "-m", "gallant", "notice", "accept", "tickets:image"]
    process = subprocess.Popen(
        command,
        cwd=ready.folder,
        env=ready.environment(),
        stdin=follower,
        stdout=follower,
        stderr=follower,
        start_new_session=True,
    )
    os.close(follower)
    said = b""
    until = time.monotonic() + 60
    while time.monotonic() < until and b"in your own name?" not in said:
        said += os.read(leader, 4096)
    os.write(leader, b"y\n")
    while process.poll() is None and time.monotonic() < until:
        try:
            said += os.read(leader, 4096)
        except OSError:
            break
    os.close(leader)
    assert process.wait(timeout=60) == 0, said
    assert b"It comes as it is" in said
    assert entries(ready)[-1][0] == "terms"


def test_a_notice_is_booked_changed_cancelled_assigned_skipped_and_reopened(ready):
    terms = ("--accept-terms", TERMS)
    booked = ready.run("notice", "book", "tickets:image", "2030-06-01T22:00", *terms, "--json")
    assert booked.code == 0, booked.err
    row = booked.rows[0]
    assert (row["state"], row["start"]) == ("booked", "2030-06-01T21:00:00Z")  # Europe/London, in summer
    length = (datetime.fromisoformat(row["end"]) - datetime.fromisoformat(row["start"])).total_seconds()
    ready.run("stock", "fetch")
    planned = load_plan(Workplace(ready.folder), ready.run("plan", "tickets", "--only", "image", "--json").json["id"])
    assert length == pytest.approx(room_s(planned.lanes[0].hops), abs=1)  # one length for one job
    assert length > planned.estimate_s
    fits = next(r for r in ready.run("check", "tickets", "--only", "window", "--json").rows if r["check"] == "window")
    assert f"about {planned.estimate_s / 60:.0f} min of work" in fits["evidence"]
    changed = ready.run("notice", "book", "tickets:image", "2030-01-01T22:00Z")
    assert "booking changed to 2030-01-01 22:00Z" in changed.out
    assert ready.run("notice", "assign", "tickets:image", "anna").code == 0
    row = ready.run("notice", "list", "--json").rows[0]
    assert (row["person"], row["state"], row["start"]) == ("anna", "booked", "2030-01-01T22:00:00Z")
    assert ready.run("notice", "book", "tickets:image", "--cancel").code == 0
    assert states(ready)["tickets:image"] == "accepted"
    assert ready.run("notice", "book", "tickets:image", "--cancel").code == 2
    assert ready.run("notice", "skip", "tickets:image", "--until", "3.2.6", "--reason", "slow").code == 0
    assert "tickets:image" not in states(ready)
    assert "1 notice skipped or left alone" in ready.run("notice", "list").out
    assert states(ready, "--all")["tickets:image"] == "skipped"
    assert ready.run("notice", "reopen", "tickets:image").code == 0
    assert states(ready)["tickets:image"] == "new"
    assert ready.run("notice", "reopen", "tickets:image").code == 2
    assert entries(ready)[::-1][1:] == [
        (k, "tickets:image") for k in ("book", "book", "assign", "cancel", "skip", "reopen")
    ]


def test_what_was_decided_binds_a_roll_until_a_named_person_says_otherwise(place):
    plan = place.make_ready()
    book = ("notice", "book", "tickets:image", "2030-01-01T22:00Z")
    assert place.run(*book).code == 0
    refused = place.run("roll", plan)
    assert refused.code == 5
    assert "tickets:image is booked for 2030-01-01 22:00Z to " in refused.err
    assert ", which is to come" in refused.err
    assert "--despite-booking --reason" in refused.err
    assert place.run("roll", plan, "--despite-booking").code == 2
    assert place.run("notice", "skip", "tickets:image", "--until", "2030-02-01", "--reason", "slow").code == 0
    skipped = place.run("roll", plan, "--despite-booking", "--reason", "the vessel is in today")
    assert (skipped.code, "is skipped until 2030-02-01: slow" in skipped.err) == (5, True)
    assert place.run("notice", "reopen", "tickets:image").code == 0
    file = place.folder / "estate.yaml"
    file.write_text(file.read_text().replace("rules:\n", "rules:\n  - {severity: low+, then: ask}\n", 1))
    asked = place.run("roll", plan)
    assert (asked.code, "tickets:image waits for somebody to accept it" in asked.err) == (5, True)
    assert "gallant notice accept tickets:image" in asked.err
    assert not place.folder.joinpath("state", "roll-0001.lock").exists()
    assert place.run(*book).code == 0
    assert place.run("notice", "accept", "tickets:roots").code == 0  # the rule asks of every part of the plan
    begun = place.run("roll", plan, "--despite-booking", "--reason", "the vessel is in", "--hold-after", "step")
    assert begun.code == 4, begun.err
    row = next(r for r in place.run("ledger", "--json").rows if r["kind"] == "despite-booking")
    assert (row["subject"], row["target"], row["reason"]) == (
        "tickets:image",
        plan,
        "set aside for roll-0001: the vessel is in",
    )


WRONG = [
    (("accept", "tickts:image"), 2, "did you mean tickets:image"),
    (("accept", "tickets"), 2, "has 2 notices"),
    (("book", "tickets:image"), 2, "Write a TIME, or --cancel"),
    (("book", "tickets:image", "2020-01-01"), 2, "is past"),
    (("book", "tickets:image", "soon"), 2, "is not a time"),
    (("book", "tickets:image", "25:99"), 2, "is not a time"),
    (("book", "tickets:image", "9999-12-31T23:59:59-14:00"), 2, "is not a time"),
    (("skip", "tickets:image", "--until", "3.2.4", "--reason", "x"), 2, "not newer than 3.2.4"),
    (("skip", "tickets:image", "--until", "2020-01-01", "--reason", "x"), 2, "not a day to come"),
    (("skip", "tickets:image", "--until", "purple", "--reason", "x"), 2, "and no day"),
    (("skip", "tickets:image", "--until", "3.2.6", "--reason", " "), 2, "has a reason"),
    (("skip", "tickets:image", "--until", "3.2.6"), 2, "reason"),
    (("assign", "tickets:image", " "), 2, "has a name"),
]


@pytest.mark.parametrize(
    ("words", "code", "said"), WRONG, ids=[f"{n}-{' '.join(w[0])[:20]}" for n, w in enumerate(WRONG)]
)
def test_a_decision_that_makes_no_sense_is_refused_and_not_written_down(place_once, words, code, said):
    done = place_once.run("notice", *words)
    assert (done.code, said in done.err) == (code, True), done.err
    assert entries(place_once) == []


@pytest.fixture(scope="module")
def place_once(tmp_path_factory):
    """One estate for all the decisions that change nothing."""
    from gallant.demo.skerry import furnish, new_accounts
    from gallant.demo.standins import start, stop

    from ..conftest import Place

    folder = tmp_path_factory.mktemp("once")
    since, accounts = time.time(), new_accounts()
    setup = {"speed": 240.0, "since": since, "accounts": accounts, "faults": json.dumps({"faults": []})}
    child, said = start(setup, folder / "standins.log")
    (folder / "estate").mkdir()
    furnish(folder / "estate", said, accounts, since, 240.0)
    made = Place(folder / "estate", said)
    made.run("survey")
    made.follow_catalog()
    yield made
    stop(child)


def test_a_newer_aim_makes_a_decided_notice_new_again_and_says_so(ready):
    assert ready.run("notice", "accept", "tickets:image", "--accept-terms", TERMS).code == 0
    path = ready.folder / "estate.yaml"
    path.write_text(path.read_text().replace("aim: settled 90d", "aim: newest"))
    row = next(r for r in ready.run("notice", "list", "--json").rows if r["name"] == "tickets:image")
    assert (row["state"], row["target"]) == ("new", "3.2.6")
    assert "was accepted for 3.2.4 by" in row["why"]


def test_a_ledger_that_was_touched_says_where_and_a_damaged_one_is_not_guessed_at(ready):
    for person in ("anna", "berta", "carl"):
        assert ready.run("notice", "assign", "tickets:image", person).code == 0
    whole = ready.run("ledger")
    assert whole.code == 0
    assert "The chain of 3 entries is whole" in whole.out
    path = ready.folder / "state" / "ledger.db"
    db = sqlite3.connect(path)
    raw = db.execute("SELECT entry FROM ledger WHERE seq = 2").fetchone()[0]
    db.execute("UPDATE ledger SET entry = ? WHERE seq = 2", (raw.replace(b"berta", b"brian"),))
    db.commit()
    touched = ready.run("ledger", "--json")
    assert (touched.code, touched.json["whole"]) == (1, False)
    assert "entry 2" in touched.json["problems"][0]
    db.execute("UPDATE ledger SET entry = x'00' WHERE seq = 2")
    db.commit()
    db.close()
    broken = ready.run("ledger")
    assert broken.code == 1
    assert "entry 2 of the ledger cannot be read" in broken.out
    guessed = ready.run("notice", "list")
    assert guessed.code == 4
    assert "ntry 2 of the ledger cannot be read" in guessed.err


def test_two_people_deciding_at_once_leave_a_whole_chain(ready):
    running = [ready.begin("notice", "assign", "tickets:image", f"person-{n}") for n in range(6)]
    ends = [(process.communicate(timeout=60), process.returncode) for process in running]
    assert [code for _, code in ends] == [0] * 6, ends
    assert len(ready.run("ledger", "--json").rows) == 6
    assert ready.run("ledger").code == 0


def test_a_notice_that_a_roll_carried_out_is_done_with_its_start_and_end(place):
    plan = place.make_ready()
    assert place.run("roll", plan, "-q").code == 0
    place.run("survey")
    assert "tickets:image" not in states(place)
    row = next(r for r in place.run("notice", "list", "--all", "--json").rows if r["name"] == "tickets:image")
    assert (row["state"], row["roll"], row["target"]) == ("done", "roll-0001", "3.2.4")
    assert row["start"] < row["end"]


def test_a_site_whose_time_zone_is_unknown_says_so_when_a_time_is_booked(ready):
    path = ready.folder / "estate.yaml"
    path.write_text(path.read_text().replace("Europe/London", "Skerry/Rock"))
    done = ready.run("notice", "book", "tickets:image", "2030-01-01T22:00", "--accept-terms", TERMS)
    assert done.code == 2
    assert re.search(r"'Skerry/Rock'.*is not known", done.err)
