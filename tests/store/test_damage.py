"""Stores that are locked, damaged, emptied or gone: each is a sentence that says what to do, and nothing is begun
anew."""

from __future__ import annotations

import os
import sqlite3
import threading
import time
from datetime import timedelta

import pytest

from gallant.core.decide.ledger import LedgerEntry
from gallant.core.errors import GallantError, Refused
from gallant.store import copies, database
from gallant.store.copies import copy_of, keep_copy, made_at
from gallant.store.journal import JournalStore
from gallant.store.ledger import LedgerStore
from gallant.store.readings import ReadingStore

from ..builders import both
from .test_store import NOW, PLAN, entry

STORES = {"journal.db": JournalStore, "ledger.db": LedgerStore, "readings.db": ReadingStore}
CANNOT_BE_HAD_AGAIN = ("journal.db", "ledger.db")


def decision(number: int) -> LedgerEntry:
    return LedgerEntry(at=NOW + timedelta(minutes=number), by="anna", host="h", kind="accept", subject=f"t:{number}")


def filled(folder) -> None:
    """A roll with two entries, five decisions, and two readings."""
    store = JournalStore(folder)
    with store.new_roll(PLAN, NOW) as held:
        held.write(entry("opened"))
        held.write(entry("resumed"))
    store.keep_copy()
    store.close()
    ledger = LedgerStore(folder)
    for number in range(5):
        ledger.append(decision(number))
    ledger.keep_copy()
    ledger.close()
    readings = ReadingStore(folder)
    survey = readings.begin_survey(NOW)
    readings.add(survey, [(r.system, r.node, NOW, r, None) for r in both().values()])
    readings.close()


def opened_and_read(folder, name: str) -> None:
    """Open a store and look at all that it has."""
    store = STORES[name](folder)
    if name == "journal.db":
        _, wrong = store.rolls()
        store.events("roll-0001")
    elif name == "ledger.db":
        _, wrong = store.readable()
    else:
        wrong = []
        store.newest()
        store.sources()
    store.close()
    if wrong:
        raise wrong[0]


def change(folder, name: str, statement: str, *values: object) -> None:
    with sqlite3.connect(folder / "state" / name) as db:
        db.execute(statement, values)


@pytest.mark.parametrize("name", STORES)
def test_a_lock_of_another_program_is_waited_for_and_then_a_sentence(tmp_path, monkeypatch, name):
    filled(tmp_path)
    monkeypatch.setattr(database, "BUSY_S", 0.3)
    other = sqlite3.connect(tmp_path / "state" / name, isolation_level=None, check_same_thread=False)
    other.execute("PRAGMA locking_mode = EXCLUSIVE")
    other.execute("BEGIN EXCLUSIVE")
    began = time.monotonic()
    with pytest.raises(GallantError, match=f"{name} is locked by another program") as said:
        STORES[name](tmp_path)
    assert time.monotonic() - began >= 0.3
    assert "fuser" in said.value.next
    monkeypatch.setattr(database, "BUSY_S", 30.0)
    threading.Timer(0.2, lambda: (other.execute("COMMIT"), other.close())).start()
    STORES[name](tmp_path)


@pytest.mark.parametrize("name", STORES)
@pytest.mark.parametrize("how", ["head", "middle", "noise", "short"])
def test_a_damaged_store_is_said_to_be_and_only_what_can_be_had_again_is_moved_away(tmp_path, name, how):
    filled(tmp_path)
    path = tmp_path / "state" / name
    with sqlite3.connect(path) as db:
        db.execute("PRAGMA wal_checkpoint(TRUNCATE)")
        db.execute("PRAGMA journal_mode = DELETE")
    raw = bytearray(path.read_bytes())
    if how == "head":
        raw[:100] = b"x" * 100
    elif how == "middle":
        raw[4096:] = b"\xff" * (len(raw) - 4096)
    elif how == "noise":
        raw = bytearray(os.urandom(len(raw)))
    else:
        del raw[len(raw) // 2 :]
    path.write_bytes(bytes(raw))
    with pytest.raises(GallantError) as said:
        opened_and_read(tmp_path, name)
    assert name in said.value.what
    if name in CANNOT_BE_HAD_AGAIN:
        assert "mv " not in str(said.value)
        assert "move" not in str(said.value)
        assert "gallant doctor --mend brings it back" in said.value.next
        assert "a checked copy of" in said.value.why
    else:
        assert "gallant survey" in said.value.next


@pytest.mark.parametrize("name", CANNOT_BE_HAD_AGAIN)
@pytest.mark.parametrize("gone", [False, True])
def test_a_store_that_has_been_and_is_empty_or_gone_is_damage_and_no_beginning(tmp_path, name, gone):
    filled(tmp_path)
    path = tmp_path / "state" / name
    for ending in ("-wal", "-shm"):
        path.with_name(name + ending).unlink(missing_ok=True)
    path.unlink() if gone else path.write_bytes(b"")
    with pytest.raises(GallantError, match=f"{name} is damaged: it is {'gone' if gone else 'empty'}"):
        STORES[name](tmp_path)
    assert path.exists() is not gone
    kept = copies.bring_back(path)
    assert kept.name.startswith(f"{name}.damaged-")
    store = STORES[name](tmp_path)
    assert (store.rolls()[0][0].id if name == "journal.db" else len(store.entries())) in ("roll-0001", 5)


def test_one_damaged_row_of_the_journal_is_named_and_the_rest_can_be_read(tmp_path):
    filled(tmp_path)
    store = JournalStore(tmp_path)
    with store.take_up("roll-0001") as held:
        held.write(entry("ended"))
    with store.new_roll(PLAN, NOW):
        pass
    change(tmp_path, "journal.db", "UPDATE rolls SET plan = ? WHERE id = 'roll-0001'", b"{")
    rows, wrong = store.rolls()
    assert [row.id for row in rows] == ["roll-0002"]
    assert "the row of roll-0001 cannot be read" in wrong[0].what
    assert [row.id for row in store.open_rolls()] == ["roll-0002"]
    change(tmp_path, "journal.db", "UPDATE events SET entry = ? WHERE seq = 2", b"\xff")
    with pytest.raises(GallantError, match="entry 2 of roll-0001 cannot be read"):
        store.events("roll-0001")


def test_one_damaged_decision_is_named_the_rest_can_be_read_and_nothing_is_decided_on_it(tmp_path):
    filled(tmp_path)
    change(tmp_path, "ledger.db", "UPDATE ledger SET entry = ? WHERE seq = 3", b"nothing")
    store = LedgerStore(tmp_path)
    kept, wrong = store.readable()
    assert [one.seq for one in kept] == [1, 2, 4, 5]
    assert "entry 3 of the ledger cannot be read" in wrong[0].what
    with pytest.raises(GallantError, match="entry 3"):
        store.accepted("1", "p")


def test_one_damaged_reading_is_a_node_that_was_not_read_and_the_others_are(tmp_path):
    filled(tmp_path)
    change(tmp_path, "readings.db", "UPDATE readings SET reading = ? WHERE node = 'a'", b"{}")
    newest = ReadingStore(tmp_path).newest()
    assert newest["tickets/a"].reading is None
    assert "gallant survey tickets/a" in newest["tickets/a"].error
    assert newest["tickets/b"].reading is not None


def test_a_copy_is_made_once_a_day_and_never_of_what_is_damaged(tmp_path):
    filled(tmp_path)
    path = tmp_path / "state" / "ledger.db"
    made = made_at(copy_of(path))
    LedgerStore(tmp_path).append(decision(9))
    LedgerStore(tmp_path)
    assert made_at(copy_of(path)) == made  # the same day
    long_ago = time.time() - 2 * copies.DAY_S
    os.utime(copy_of(path), (long_ago, long_ago))
    LedgerStore(tmp_path)
    assert made_at(copy_of(path)) > made
    with sqlite3.connect(copy_of(path)) as db:
        assert db.execute("SELECT count(*) FROM ledger").fetchone() == (6,)
    assert [p.name for p in copy_of(path).parent.iterdir() if p.name.startswith(".")] == []
    good = copy_of(path).read_bytes()
    db = LedgerStore(tmp_path)._db
    db.execute("PRAGMA writable_schema = ON")
    db.execute("UPDATE sqlite_schema SET rootpage = 1 WHERE name = 'untold'")
    with pytest.raises(GallantError):
        keep_copy(db, path)
    assert copy_of(path).read_bytes() == good


@pytest.mark.parametrize("name", STORES)
def test_a_link_in_the_place_of_a_store_is_not_written_through(tmp_path, name):
    outside = tmp_path / "outside"
    outside.write_bytes(b"")
    (tmp_path / "estate" / "state").mkdir(parents=True)
    (tmp_path / "estate" / "state" / name).symlink_to(outside)
    with pytest.raises(Refused, match="is a link"):
        STORES[name](tmp_path / "estate")
    assert outside.read_bytes() == b""
