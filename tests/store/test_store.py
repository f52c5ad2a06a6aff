"""The stores: schema, file systems, leases, and what is on the disk when an append returns."""

from __future__ import annotations

import multiprocessing
import sqlite3
from datetime import UTC, datetime, timedelta

import msgspec
import pytest

from gallant.core.decide.ledger import LedgerEntry
from gallant.core.errors import GallantError, Refused
from gallant.core.ports import LeaseLost
from gallant.core.readings import Gauge, Reading
from gallant.core.records import as_read_back
from gallant.core.work.events import Entry
from gallant.store import database, journal, ledger
from gallant.store.journal import JournalStore
from gallant.store.ledger import LedgerStore
from gallant.store.readings import ReadingStore

from ..simulation.night import Night

NOW = datetime(2026, 11, 25, tzinfo=UTC)
PLAN = as_read_back(Night().plan())


def entry(kind: str, **more) -> Entry:
    return Entry(kind=kind, at=NOW, wall=0.0, **more)


MOUNTS = """\
22 1 8:1 / / rw,relatime shared:1 - ext4 /dev/sda1 rw
40 22 0:33 / /srv/share rw - nfs4 server:/x rw
41 40 8:2 / /srv/share/local rw - xfs /dev/sdb1 rw
42 22 0:34 / /mnt/a\\040b rw master:2 - fuse.sshfs host:/ rw
"""


@pytest.mark.parametrize(
    ("path", "kind"),
    [
        ("/srv/share/estate", "nfs4"),
        ("/srv/share", "nfs4"),
        ("/srv/share/local/x", "xfs"),
        ("/srv/shared", "ext4"),
        ("/mnt/a b/c", "fuse.sshfs"),
        ("/home", "ext4"),
    ],
)
def test_the_file_system_is_that_of_the_longest_mount(path, kind):
    from pathlib import Path

    assert database.file_system_of(Path(path), MOUNTS) == kind


def test_a_network_file_system_is_refused(tmp_path):
    with pytest.raises(Refused, match="network file system"):
        database.refuse_network(tmp_path, f"1 1 0:1 / {tmp_path.resolve()} rw - nfs4 server:/ rw")
    database.refuse_network(tmp_path, MOUNTS)


def test_the_state_folder_is_for_its_owner_alone(tmp_path):
    ReadingStore(tmp_path).close()
    assert (tmp_path / "state").stat().st_mode & 0o777 == 0o700
    assert (tmp_path / "state" / "readings.db").stat().st_mode & 0o777 == 0o600


@pytest.mark.parametrize(("store", "name"), [(ReadingStore, "readings.db"), (JournalStore, "journal.db")])
def test_a_newer_schema_is_refused_and_left_as_it_is(tmp_path, store, name):
    store(tmp_path).close()
    db = sqlite3.connect(tmp_path / "state" / name)
    db.execute("PRAGMA user_version = 99")
    db.commit()
    with pytest.raises(Refused, match="newer Gallant"):
        store(tmp_path)
    assert db.execute("PRAGMA user_version").fetchone()[0] == 99


def test_a_file_that_is_no_database_is_said_to_be_damaged(tmp_path):
    (tmp_path / "state").mkdir()
    (tmp_path / "state" / "readings.db").write_bytes(b"not a database at all" * 100)
    with pytest.raises(GallantError, match="readings.db is damaged: file is not a database") as said:
        ReadingStore(tmp_path)
    assert "gallant survey" in said.value.next


def test_no_schema_step_runs_while_a_roll_is_open(tmp_path, monkeypatch):
    store = JournalStore(tmp_path)
    with store.new_roll(PLAN, NOW) as held:
        held.write(entry("opened"))
    monkeypatch.setattr(
        journal, "SCHEMA", (*journal.SCHEMA, database.SchemaStep("more of it", "CREATE TABLE more (x)"))
    )
    with pytest.raises(Refused, match=r"schema step \(more of it\).*roll-0001 is open"):
        JournalStore(tmp_path)
    with store.take_up("roll-0001") as held:
        held.write(entry("ended"))
    JournalStore(tmp_path).close()


def test_readings_come_back_as_they_were_and_errors_beside_the_last_good_one(tmp_path):
    store = ReadingStore(tmp_path)
    reading = Reading(system="s", node="n", taken=NOW, serial="1", product="a/b", version="1.0", boot="x")
    first = store.begin_survey(NOW)
    store.add(first, [("s", "n", NOW, reading, None)])
    store.end_survey(first, NOW)
    second = store.begin_survey(NOW)
    store.add(second, [("s", "n", NOW, None, "no answer")])
    last = store.newest()["s/n"]
    assert last.reading == reading
    assert last.error == "no answer"


def reading(version: str, minutes: int, **more) -> Reading:
    return Reading(
        system="s",
        node="n",
        taken=NOW + timedelta(minutes=minutes),
        serial="1",
        product="a/b",
        version=version,
        boot="x",
        **more,
    )


def surveyed(store: ReadingStore, *readings: Reading) -> None:
    for one in readings:
        number = store.begin_survey(one.taken)
        store.add(number, [("s", "n", one.taken, one, None)])
        store.end_survey(number, one.taken)


def rows(store: ReadingStore) -> int:
    return store._db.execute("SELECT count(*) FROM readings").fetchone()[0]


def test_readings_are_kept_on_change_and_any_moment_can_be_looked_at(tmp_path):
    store = ReadingStore(tmp_path)
    free = (Gauge(name="free space", value=9, unit="B"),)
    surveyed(
        store,
        reading("1.0", 0),
        reading("1.0", 10, gauges=free, clock_offset_s=0.2),
        reading("1.1", 20),
        reading("1.1", 30),
    )
    assert rows(store) == 2
    assert store.newest()["s/n"].reading.taken == NOW + timedelta(minutes=30)
    seen = {m: store.as_of(NOW + timedelta(minutes=m)).get("s/n") for m in (-1, 5, 15, 25, 99)}
    assert {m: r and r.version for m, r in seen.items()} == {-1: None, 5: "1.0", 15: "1.0", 25: "1.1", 99: "1.1"}
    assert seen[15].taken == NOW + timedelta(minutes=10)
    assert [h.number for h in store.surveys()] == [4, 3, 2, 1]


def test_what_the_survey_before_found_is_the_same_when_nothing_changed_in_the_last(tmp_path):
    store = ReadingStore(tmp_path)
    surveyed(store, reading("1.0", 0), reading("1.1", 10))
    assert store.before_newest()["s/n"].version == "1.0"
    surveyed(store, reading("1.1", 20))
    assert store.before_newest()["s/n"].version == "1.1"


def test_old_readings_are_forgotten_and_the_newest_of_a_node_never_is(tmp_path):
    store = ReadingStore(tmp_path)
    surveyed(store, reading("1.0", 0), reading("1.1", 10))
    assert store.prune(NOW + timedelta(days=900)) == 1
    assert store.newest()["s/n"].reading.version == "1.1"
    assert len(store.surveys()) == 1


def test_what_was_heard_is_kept_with_the_readings_by_its_tag(tmp_path):
    store = ReadingStore(tmp_path)
    store.remember("s/n", "/x", '"t1"', {"a": [1]})
    assert store.recall("s/n", "/x") is None
    surveyed(store, reading("1.0", 0))
    assert ReadingStore(tmp_path).recall("s/n", "/x") == ('"t1"', {"a": [1]})


def test_seq_has_no_gap_and_nothing_follows_the_end(tmp_path):
    store = JournalStore(tmp_path)
    with store.new_roll(PLAN, NOW) as held:
        assert [held.write(entry(kind)).seq for kind in ("opened", "held", "resumed")] == [1, 2, 3]
        held.write(entry("finished"))
        with pytest.raises(Refused, match="has ended"):
            held.write(entry("resumed"))
    assert [e.seq for e in store.events("roll-0001")] == [1, 2, 3, 4]
    assert store.rolls()[0][0].plan == PLAN
    assert store.open_rolls() == []


def test_a_journal_of_before_knows_which_systems_its_rolls_have(tmp_path, monkeypatch):
    monkeypatch.setattr(journal, "SCHEMA", journal.SCHEMA[:2])
    store = JournalStore(tmp_path)
    store._db.execute("INSERT INTO rolls VALUES (1, 'roll-0001', 'p', x'7b', '', '2026-01-01', NULL)")  # damaged, ended
    store._db.execute(journal.NEW_ROLL, (2, "roll-0002", PLAN.id, msgspec.json.encode(PLAN), "2026-11-25T00:00:00Z"))
    store._db.execute("UPDATE rolls SET ended = '2026-11-25T01:00:00Z' WHERE number = 2")
    store.close()
    monkeypatch.undo()
    store = JournalStore(tmp_path)
    assert store._db.execute("SELECT system, roll FROM roll_systems").fetchall() == [("tickets", "roll-0002")]


def test_a_second_roll_on_the_same_system_is_refused_while_the_first_is_open(tmp_path):
    store = JournalStore(tmp_path)
    with store.new_roll(PLAN, NOW):
        pass
    with pytest.raises(Refused, match="roll-0001 is not finished"), store.new_roll(PLAN, NOW):
        pass


def test_a_roll_in_the_hands_of_one_process_is_refused_to_another(tmp_path):
    store = JournalStore(tmp_path)
    with store.new_roll(PLAN, NOW):
        assert store.is_running("roll-0001")
        with pytest.raises(Refused, match="another Gallant"), JournalStore(tmp_path).take_up("roll-0001"):
            pass
    assert not store.is_running("roll-0001")


def test_an_intent_is_written_only_while_the_lease_is_ours(tmp_path):
    store = JournalStore(tmp_path)
    with store.new_roll(PLAN, NOW) as held:
        held.write(entry("intent", step="x"), "tickets")
        db = sqlite3.connect(tmp_path / "state" / "journal.db")
        db.execute("UPDATE leases SET epoch = epoch + 1, holder = 'thief'")
        db.commit()
        for write in (lambda: held.write(entry("intent", step="y"), "tickets"), lambda: held.write(entry("held"))):
            with pytest.raises(LeaseLost):
                write()
        assert len(held.events()) == 1


def _take_epochs(folder, count, results):
    store = JournalStore(folder)
    taken = 0
    for _ in range(count):
        try:
            with store.take_up("roll-0001") as held:
                held.write(entry("resumed"))
                taken += 1
        except Refused:
            pass
    results.put(taken)


def test_processes_that_race_for_a_roll_never_write_side_by_side(tmp_path):
    store = JournalStore(tmp_path)
    with store.new_roll(PLAN, NOW) as held:
        held.write(entry("opened"))
    context = multiprocessing.get_context("spawn")
    results = context.Queue()
    workers = [context.Process(target=_take_epochs, args=(tmp_path, 25, results)) for _ in range(3)]
    for worker in workers:
        worker.start()
    taken = sum(results.get(timeout=60) for _ in workers)
    for worker in workers:
        worker.join()
    events = store.events("roll-0001")
    assert len(events) == taken + 1
    assert [e.seq for e in events] == list(range(1, taken + 2))


def test_a_full_disk_is_said_and_leaves_the_journal_as_it_was(tmp_path):
    store = JournalStore(tmp_path)
    with store.new_roll(PLAN, NOW) as held:
        held.write(entry("opened"))
        pages = store._db.execute("PRAGMA page_count").fetchone()[0]
        store._db.execute(f"PRAGMA max_page_count = {pages}")
        with pytest.raises(GallantError, match="journal.db cannot be written: the disk is full"):
            [held.write(entry("resumed", message="x" * 400)) for _ in range(200)]
        store._db.execute("PRAGMA max_page_count = 100000")
        written = [e.seq for e in held.events()]
        assert written == list(range(1, len(written) + 1))
        assert held.write(entry("held")).seq == len(written) + 1


def test_a_schema_step_leaves_its_name_in_the_file(tmp_path):
    store = JournalStore(tmp_path)
    found = store._db.execute("SELECT number, name FROM steps ORDER BY number").fetchall()
    assert found == [(n, step.name) for n, step in enumerate(journal.SCHEMA, 1)]


@pytest.mark.parametrize("kind", [JournalStore, LedgerStore, ReadingStore])
def test_a_store_of_another_estate_is_refused_and_left_as_it_is(tmp_path, kind):
    kind(tmp_path, "ours").close()
    kind(tmp_path, "ours").close()
    with pytest.raises(Refused, match="is the store of another estate"):
        kind(tmp_path, "theirs")
    kind(tmp_path, "ours").close()


def test_a_store_of_before_belongs_to_the_estate_that_opens_it_first(tmp_path):
    JournalStore(tmp_path).close()
    assert database.estate_of(tmp_path / "state" / "journal.db") is None
    JournalStore(tmp_path, "ours").close()
    assert database.estate_of(tmp_path / "state" / "journal.db") == "ours"


def decided(kind: str, subject: str) -> LedgerEntry:
    return LedgerEntry(at=NOW, by="anna", host="h", kind=kind, subject=subject)


def test_the_ledger_answers_by_kind_and_by_how_the_subject_begins(tmp_path):
    store = LedgerStore(tmp_path)
    for kind, subject in (
        ("book", "t:image"),
        ("book", "tt:image"),
        ("skip", "t:nic"),
        ("roll", "t:image"),
        ("book", "t"),
    ):
        store.append(decided(kind, subject))
    assert [k.seq for k in store.about(["book", "skip"], "t:")] == [1, 3]
    assert [k.seq for k in store.about(["book"])] == [1, 2, 5]
    assert [k.seq for k in store.about(["book"], "t:\U0010ffff")] == []
    assert store.about([]) == []


def test_a_question_to_the_ledger_reads_what_it_is_about_alone(tmp_path):
    store = LedgerStore(tmp_path)
    plan = store._db.execute(f"EXPLAIN QUERY PLAN {ledger.ABOUT}", ('["book"]', "t:", "t;")).fetchall()
    assert not any("SCAN ledger" in row[3] for row in plan)


def test_a_ledger_of_before_answers_too_and_no_entry_of_it_can_be_hidden(tmp_path, monkeypatch):
    monkeypatch.setattr(ledger, "SCHEMA", ledger.SCHEMA[:2])
    store = LedgerStore(tmp_path)
    store.append(decided("book", "t:image"))
    store.append(decided("skip", "t:image"))
    store.close()
    monkeypatch.undo()
    store = LedgerStore(tmp_path)
    assert [k.entry.kind for k in store.about(["skip"], "t:")] == ["skip"]
    with pytest.raises(GallantError, match="generated column"):
        store._db.execute("UPDATE ledger SET kind = 'roll' WHERE seq = 2")
