"""What is written down here counts: a plan that the ledger has, notes
and serials that can be read; and no file that looks like one."""

from __future__ import annotations

import contextlib
import re
import shutil
import sqlite3
import subprocess
import sys

import msgspec
import pytest

from gallant.core.records import replace
from gallant.core.work.plan import Plan

from ..conftest import Place, starting


@pytest.fixture(scope="module")
def made(tmp_path_factory):
    """An estate with a plan; nothing here begins one at its stand-ins."""
    for make in starting.__wrapped__(tmp_path_factory.mktemp("recorded")):
        place = make()
        yield place, place.make_ready()


@pytest.fixture
def planned(made, tmp_path) -> tuple[Place, str]:
    place, name = made
    shutil.copytree(place.folder, tmp_path / "estate")
    return Place(tmp_path / "estate", place.said), name


def put(place, plan: Plan, name: str | None = None) -> str:
    path = place.folder / "plans" / f"{name or plan.id}.json"
    path.write_bytes(msgspec.json.encode(plan))
    return plan.id


def read(place, name: str) -> Plan:
    return msgspec.json.decode((place.folder / "plans" / f"{name}.json").read_bytes(), type=Plan)


def test_a_plan_that_was_edited_and_named_after_its_content_is_none(planned):
    place, name = planned
    estate = place.folder / "estate.yaml"
    estate.write_text(estate.read_text() + "approval: {prod: 1}\n")
    plan = read(place, name)
    lanes = tuple(replace(lane, loses=(), back=()) for lane in plan.lanes)
    for edited in (replace(plan, lanes=lanes, undoes="roll-0001"), replace(plan, reason="as agreed")):
        forged = put(place, edited.named())
        for words in (
            ("plan", "--show", forged),
            ("approve", forged),
            ("roll", forged),
            ("roll", f"plans/{forged}.json"),
        ):
            refused = place.run(*words)
            assert refused.code == 5, (words, refused.out, refused.err)
            assert "is no plan that was made here" in refused.err
    assert place.run("history", "--json").rows == []
    assert place.run("plan", "--show", name).code == 0


def test_a_plan_that_lies_there_and_is_newer_is_not_the_newest(planned):
    place, name = planned
    plan = read(place, name)
    put(place, replace(plan, made=plan.made.replace(year=2199)).named())
    shown = place.run("roll", "tickets", "--show-calls")
    assert shown.code == 0, shown.err


def test_a_plan_under_the_name_of_another_is_refused(planned):
    place, name = planned
    assert place.run("plan", "tickets", "--json").code == 0
    other = next(p.stem for p in (place.folder / "plans").glob("plan-*.json") if p.stem != name)
    put(place, read(place, other), name)
    refused = place.run("roll", name)
    assert (refused.code, f"has {other}, and the name of another" in refused.err) == (5, True), refused.err


def test_the_ledger_has_each_plan_once_with_all_of_its_digest(planned):
    place, name = planned
    rows = [row for row in place.run("ledger", "--json").rows if row["kind"] == "plan"]
    assert [(row["subject"], row["target"]) for row in rows] == [(name, read(place, name).digest)]
    assert len(rows[0]["target"]) == 64


def test_of_notes_that_are_added_at_once_none_is_lost(planned):
    place, _ = planned
    begun = [place.begin("note", "add", "tickets", f"words {n}") for n in range(8)]
    assert [process.wait(60) for process in begun] == [0] * 8
    kept = msgspec.json.decode((place.folder / "state" / "notes.json").read_bytes())
    assert sorted(note["text"] for note in kept) == [f"words {n}" for n in range(8)]


@pytest.mark.parametrize(
    ("file", "damage", "told"),
    [
        ("state/notes.json", b'[{"about": "tickets", "te', "is not taken for nothing"),
        ("state/notes.json", b"", "is not taken for nothing"),
        ("known_nodes", b"tickets/a\tSH-2291", "nobody is believed anew"),
        ("known_nodes", b"\xff\xfe", "nobody is believed anew"),
    ],
)
def test_what_was_written_down_and_is_damaged_is_not_read_as_nothing_nor_written_over(planned, file, damage, told):
    place, name = planned
    estate = place.folder / "estate.yaml"
    estate.write_text(re.sub(r"serial: [A-Za-z0-9-]+(, )?", "", estate.read_text(), count=1))
    (place.folder / file).write_bytes(damage)
    for words in (("note", "add", "tickets", "words"), ("survey",), ("plan", "--show", name), ("check",)):
        refused = place.run(*words)
        assert (refused.code, told in refused.err) == (4, True), (words, refused.out, refused.err)
    assert (place.folder / file).read_bytes() == damage


# What somebody who can write here says of a plan, and the ledger has as theirs.
RECORDED = """
import sys
from pathlib import Path
from gallant.core.records import replace
from gallant.operations.plan.making import load_plan, written
from gallant.operations.ground.workplace import Workplace
place = Workplace(Path(sys.argv[1]))
plan = load_plan(place, sys.argv[2])
lanes = tuple(replace(lane, down_s=0, falls={}, loses=(), back=(), guests=(), also=(), hit=()) for lane in plan.lanes)
forged = replace(plan, lanes=lanes, undoes=sys.argv[3] or None, reason="as agreed").named()
written(place, forged)
print(forged.id)
"""


def forged(place, plan: str, undoes: str = "") -> str:
    done = subprocess.run(
        [sys.executable, "-c", RECORDED, str(place.folder), plan, undoes], capture_output=True, text=True, check=True
    )
    return done.stdout.strip()


def test_consents_are_asked_for_by_what_is_known_when_it_begins_and_not_by_what_a_plan_says(standins):
    place = standins(whole=True)
    assert place.run("survey", "overlook", "deck").code == 0
    plan = place.run("plan", "overlook", "--restart", "--reason", "as agreed", "--json").json["id"]
    for name in (plan, forged(place, plan)):
        refused = place.run("roll", name)
        assert (refused.code, "overlook: its service is down for about" in refused.err) == (5, True), refused.err
        assert f"gallant roll {name} --consent downtime:overlook" in refused.err
    assert place.run("history", "--json").rows == []


def test_a_plan_that_says_it_takes_a_roll_back_and_leads_on_is_refused(place):
    plan = place.make_ready()
    assert place.run("roll", plan, "--hold-after", "step").code == 4
    refused = place.run("roll", forged(place, plan, "roll-0001"))
    assert (refused.code, "does more than to take roll-0001 back: " in refused.err) == (5, True), refused.err
    assert "leads on, and not back" in refused.err
    assert "gallant backout roll-0001 makes one that does" in refused.err


def test_a_journal_that_was_changed_is_neither_carried_on_nor_taken_back(place, tmp_path):
    plan = place.make_ready()
    assert place.run("roll", plan, "--hold-after", "step").code == 4
    assert place.run("history", "--verify", "roll-0001").code == 0
    state = place.folder / "state"
    shutil.copytree(state, tmp_path / "kept")
    steps = "CAST(replace(CAST(entry AS TEXT), 'backup', 'steady') AS BLOB)"
    for change, told in (
        (f"UPDATE events SET entry = {steps} WHERE seq > 1", "are not those that the ledger has"),
        ("DELETE FROM events WHERE seq = (SELECT max(seq) FROM events)", "entries of it, and here are"),
    ):
        with contextlib.closing(sqlite3.connect(state / "journal.db")) as db, db:
            db.execute(change)
        for words in (("resume", "roll-0001"), ("backout", "roll-0001")):
            refused = place.run(*words)
            assert (refused.code, told in refused.err) == (5, True), (words, refused.out, refused.err)
        looked = place.run("history", "--verify", "roll-0001")
        assert (looked.code, told in looked.out) == (1, True), looked.out
        shutil.rmtree(state)
        shutil.copytree(tmp_path / "kept", state)
    assert place.run("history", "--verify", "roll-0001").code == 0
    assert place.run("resume", "roll-0001", "--hold-after", "step").code == 4


@pytest.mark.parametrize("file", ["state/notes.json", "known_nodes"])
@pytest.mark.parametrize("damage", [b"[{", None])
def test_what_was_written_down_and_is_damaged_or_gone_comes_back_from_its_copy(planned, file, damage):
    place, _ = planned
    estate = place.folder / "estate.yaml"
    estate.write_text(re.sub(r"serial: [A-Za-z0-9-]+(, )?", "", estate.read_text()))
    assert place.run("note", "add", "tickets", "the spare bay is full").code == 0
    assert place.run("survey", "tickets").code == 0
    path = place.folder / file
    before = path.read_bytes()
    if damage is None:
        path.unlink()
    else:
        path.write_bytes(damage)
    refused = place.run("survey", "tickets")
    assert (refused.code, "gallant doctor --mend brings back its copy of " in refused.err) == (4, True), refused.err
    looked = place.run("doctor")
    assert (looked.code, f"{path.name} " in looked.out) == (1, True), looked.out
    assert place.run("doctor", "--mend", "--yes").code in (0, 1)
    assert path.read_bytes() == before
    aside = [one.read_bytes() for one in path.parent.glob(f"{path.name}.damaged-*")]
    assert aside == ([damage] if damage is not None else [])
    assert place.run("survey", "tickets").code == 0
