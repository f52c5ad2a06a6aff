"""Restore points as a user has them: named for what they are for, seen to be there, loud when they are old."""

from __future__ import annotations

import asyncio
import re
from datetime import UTC, datetime, timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st

from gallant.core.estate.snapshots import is_for, is_of_roll, roll_reason, snapshot_name, snapshots_of
from gallant.core.readings import Reading, Snapshot

NOW = datetime(2026, 11, 25, 22, 0, tzinfo=UTC)


@given(st.text(max_size=200), st.text(max_size=60))
def test_a_name_is_one_that_every_device_takes_and_says_when(reason, by):
    name = snapshot_name(reason, by, NOW)
    assert "20261125-2200" in name
    assert set(name) <= set("abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789.-_")
    assert len(name) <= 60
    assert "/" not in name
    assert not name.startswith((".", "-"))


def test_two_releases_that_begin_alike_have_restore_points_of_their_own():
    long = "31.5.20261125.build.of.the.night."
    one, other = (roll_reason("roll-0001", f"{long}{n}") for n in "12")
    name = snapshot_name(one, "anna", NOW)
    assert is_for(name, one)
    assert not is_for(name, other)
    assert is_of_roll(name, "roll-0001")
    assert not is_of_roll(name, "roll-00010")


def reading(node: str, *snapshots: Snapshot) -> Reading:
    return Reading(
        system="overlook", node=node, taken=NOW, serial="x", product="p", version="1", boot="b", snapshots=snapshots
    )


def test_the_oldest_comes_first_a_guests_are_its_own_and_one_seen_twice_is_one():
    old = Snapshot(name="old", taken=NOW - timedelta(days=4), of="overlook")
    new = Snapshot(name="new", taken=NOW - timedelta(hours=1))
    others = Snapshot(name="other", taken=NOW - timedelta(days=9), of="gates")
    hosts = {"deck/a": reading("a", old, others), "deck/b": reading("b", old)}
    found = snapshots_of("overlook", [reading("a", new)], hosts, NOW, timedelta(days=3))
    assert [(k.snapshot.name, k.overdue) for k in found] == [("old", True), ("new", False)]


@pytest.fixture
def line(standins):
    return standins(whole=True)


def test_a_guest_is_snapshotted_through_its_host_and_the_snapshot_goes_again(line):
    done = line.run("snapshot", "take", "overlook", "--reason", "before 17.6")
    assert done.code == 0, done.err
    assert "kept by deck/a" in done.out
    told = [f for f in line.run("check", "overlook", "--only", "snapshots", "--json").rows if f["level"] == "note"]
    assert "before-17.6" in told[0]["message"]  # though the host was never surveyed
    (row,) = line.run("snapshot", "list", "--json").rows
    assert (row["system"], row["keeper"], row["overdue"]) == ("overlook", "deck/a", False)
    assert row["name"].startswith("before-17.6_")
    assert line.run("snapshot", "remove", "overlook", "before").code == 5  # nobody at a terminal said yes
    assert line.run("snapshot", "remove", "overlook", "before", "--yes").code == 0
    assert line.run("snapshot", "list", "--json").rows == []
    assert line.run("snapshot", "remove", "overlook", "before", "--yes").code == 2
    kinds = [(e["state"], e["reason"]) for e in line.run("ledger", "--json").rows if e["kind"] == "snapshot"]
    assert kinds == [("removed", ""), ("taken", "to be removed within 3 d")]


def test_what_cannot_be_snapshotted_says_so_and_names_the_other_way_back(line):
    done = line.run("snapshot", "take", "sealock", "--reason", "x")
    assert done.code == 5
    assert "cannot be snapshotted" in done.out
    assert "gallant backup take sealock" in done.out


def test_a_system_goes_back_to_a_snapshot_and_loses_what_came_after(line):
    line.run("snapshot", "take", "tickets", "--reason", "trial")
    line.run("backup", "take", "tickets")
    line._ask("/change", {"system": "tickets", "export": "system"})
    assert line.run("backup", "diff", "tickets").code == 1
    refused = line.run("snapshot", "revert", "tickets", "trial")
    assert refused.code == 5
    assert "is lost on it" in refused.err
    assert line.run("snapshot", "revert", "tickets", "trial", "--yes").code == 0
    assert line.run("backup", "diff", "tickets").code == 0


def test_a_snapshot_stays_for_its_soak_time_and_goes_when_the_system_is_well(line):
    publisher = line.said["publishers"]["sundholm"]
    assert line.run("catalog", "add", "sundholm", publisher["url"], "--key", "keys/sundholm.pub").code == 0
    assert line.run("catalog", "sync").code == 0
    estate = line.folder / "estate.yaml"
    text = estate.read_text()
    pinned = text.replace("aims:\n", "aims:\n  - {for: overlook, aim: pin 17.4}\n", 1)
    estate.write_text(pinned + "\nlimits: {soak_hours: 1000}\n")
    assert line.run("snapshot", "take", "overlook", "--reason", "before").code == 0
    first = line.run("verify", "overlook", "--json")
    assert first.code == 0, first.out
    assert [s["what"].split(" for")[0] for s in first.json["snapshots"]] == ["stays"]
    assert len(line.run("snapshot", "list", "--json").rows) == 1
    estate.write_text(pinned + "\nlimits: {soak_hours: 0}\n")
    done = line.run("verify", "overlook", "--json")
    assert done.code == 0, done.out
    assert "removed" in done.json["snapshots"][0]["what"]
    assert line.run("snapshot", "list", "--json").rows == []
    assert line.run("verify", "overlook", "--json").json["snapshots"] == []


def test_a_revert_after_which_nodes_run_something_else_than_then_is_not_done_and_names_them(place):
    """The pair's restore points hold its configuration: what its nodes run is another matter, and is read."""
    plan = place.make_ready()
    assert place.run("roll", plan, "--hold-after", "hop").code == 4
    (point,) = place.run("snapshot", "list", "tickets", "--json").rows
    assert {r.version for r in readings(place).values()} == {"2.11.3"}  # as the roll read them, though it is held
    assert [r["installed"] for r in place.run("gaps", "tickets", "--component", "image", "--json").rows] == [
        "2.11.3"
    ] * 2
    reverted = place.run("snapshot", "revert", "tickets", point["name"], "--yes")
    assert reverted.code == 4
    assert "tickets/a image runs 2.11.3, then it ran 2.8.5" in reverted.out
    assert "tickets/b image runs 2.11.3, then it ran 2.8.5" in reverted.out
    (entry,) = [e for e in place.run("ledger", "--json").rows if e["kind"] == "snapshot" and e["state"] == "failed"]
    assert "a, b did not go back" in entry["reason"]


@pytest.mark.long
def test_a_roll_takes_a_snapshot_through_the_host_first_and_it_is_the_way_back(line):
    estate = line.folder / "estate.yaml"
    text = estate.read_text()
    text = text.replace("  overlook:  ", "  overlook:\n    in_service: no  ", 1)
    estate.write_text(text)
    publisher = line.said["publishers"]["sundholm"]
    assert line.run("catalog", "add", "sundholm", publisher["url"], "--key", "keys/sundholm.pub").code == 0
    for words in (["catalog", "sync"], ["survey", "overlook", "deck"], ["stock", "fetch", "overlook"]):
        assert line.run(*words).code == 0, words
    planned = line.run("plan", "overlook", "--json")
    assert planned.code == 0, planned.err
    steps = {s["kind"]: s for s in planned.rows}
    assert list(steps)[:3] == ["backup", "preload", "snapshot"]
    assert steps["restart"]["undo"] == "revert to the restore point"
    assert line.run("notice", "accept", "overlook:image").code == 0
    told = line.run("plan", "overlook").out
    plan = re.search(r"plan-[0-9a-f]+", told)[0]
    assert "A snapshot of overlook is taken before 17.6" in told
    done = line.run("roll", plan)
    assert done.code == 0, done.out + done.err
    (row,) = line.run("snapshot", "list", "overlook", "--json").rows
    assert (row["keeper"], row["name"].partition("_")[0]) == ("deck/a", "roll-0001-before-17.6")
    assert readings_version(line, "overlook/a") == "17.6"
    reverted = line.run("snapshot", "revert", "overlook", row["name"], "--yes")
    assert (reverted.code, "every node runs what it ran then" in reverted.out) == (0, True), reverted.out
    assert readings_version(line, "overlook/a") == "17.4"


def readings(place) -> dict:
    from gallant.operations.ground.workplace import Workplace

    return {name: last.reading for name, last in Workplace(place.folder).readings.newest().items()}


def readings_version(place, node: str) -> str:
    from gallant.operations.ground.workplace import Workplace

    place.run("survey", node.partition("/")[0])
    return Workplace(place.folder).readings.newest()[node].reading.version


def test_going_back_to_the_snapshot_of_a_roll_ends_the_roll(place):
    held = place.run("roll", place.make_ready(), "--hold-after", "step")
    while held.code == 4 and not place.run("snapshot", "list", "--json").rows:
        held = place.run("resume", "--hold-after", "step")
    assert held.code == 4, held.out + held.err
    from gallant.operations.ground.workplace import Workplace
    from gallant.operations.keep.snapshots import settle

    (place.folder / "estate.yaml").write_text(
        (place.folder / "estate.yaml").read_text() + "\nlimits: {soak_hours: 0}\n"
    )
    there = Workplace(place.folder)
    (kept,) = asyncio.run(settle(there, [there.estate.systems["tickets"]]))
    assert kept.what == "stays: roll-0001 is not finished"
    refused = place.run("snapshot", "revert", "tickets", "roll-0001-before-2.11.3")
    assert refused.code == 5
    assert "roll-0001, which is not finished, ends with it" in refused.err
    assert place.run("snapshot", "revert", "tickets", "roll-0001-before-2.11.3", "--yes").code == 0
    assert "was reverted to roll-0001-before" in place.run("history", "roll-0001").out
    assert place.run("resume", "roll-0001").code == 2
    assert place.run("ledger", "--json").rows[0]["state"] == "reverted"


OLD_ONLY = """\
publisher: ostrel
products:
  - name: ostrel/shoal
    scheme: dotted
    releases: [{version: "2.8.5", released: 2026-01-01T00:00:00Z, snapshots: no}]
"""


def test_what_was_taken_before_a_release_that_cannot_be_snapshotted_can_still_be_taken_away(place):
    assert place.run("snapshot", "take", "tickets", "--reason", "trial").code == 0
    (place.folder / "draft.yaml").write_text(OLD_ONLY)
    assert place.run("catalog", "draft", "draft.yaml").code == 0
    signed = place.run("catalog", "sign", "catalog.json", "--key", "own.pem", "--new-key").out
    assert place.run(*re.search(r"gallant (catalog add \S+ \S+ --key \S+)", signed)[1].split()).code == 0
    assert place.run("catalog", "sync").code == 0
    refused = place.run("snapshot", "take", "tickets", "--reason", "again")
    assert refused.code == 5
    assert "cannot be snapshotted any more" in refused.out
    assert place.run("snapshot", "remove", "tickets", "trial", "--yes").code == 0
    assert place.run("snapshot", "list", "tickets", "--json").rows == []


def test_with_one_node_away_the_other_tells_of_its_restore_point_and_gives_the_backup(place):
    assert place.run("snapshot", "take", "tickets", "--reason", "trial").code == 0
    (kept,) = place.run("snapshot", "list", "--json").rows
    place.faults({"name": "refuse_login", "node": "tickets/b"})
    done = place.run("snapshot", "list", "--json")
    assert done.code == 3  # not all of it was looked at
    assert [row["name"] for row in done.rows] == [kept["name"]]
    assert "tickets/b refuses the login" in place.run("snapshot", "list").out + place.run("snapshot", "list").err
    taken = place.run("backup", "take", "tickets", "--json")
    assert taken.code == 0, taken.err
    place.faults({"name": "refuse_login", "node": "tickets/a"})  # which serves, and has the exports
    assert place.run("backup", "take", "tickets").code == 3
