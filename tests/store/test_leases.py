"""Leases and the group commit: who may write, who may take over
and when, and what is on the disk when an append returns."""

from __future__ import annotations

import asyncio
import multiprocessing
import os
import signal
import sqlite3
import time

import msgspec
import pytest

from gallant.core.errors import GallantError, Refused
from gallant.core.ports import LeaseLost
from gallant.core.records import replace
from gallant.store import leases
from gallant.store.journal import JournalStore, RollJournal

from .test_store import NOW, PLAN, entry


def taken_by(folder, roll: str = "roll-0009") -> RollJournal:
    """The leases of the same system, asked for by another process that no lock keeps out."""
    return RollJournal(JournalStore(folder)._db, roll, ["tickets"])


def lease(store: JournalStore) -> tuple[str, float]:
    return store._db.execute("SELECT holder, until FROM leases").fetchone()


def test_the_wall_clock_has_no_say_over_a_lease(tmp_path, monkeypatch):
    monkeypatch.setattr(leases, "LOOK_S", 0.01)
    store = JournalStore(tmp_path)
    with store.new_roll(PLAN, NOW) as held:
        for jump in (3600.0, -86400.0, 7200.0):
            real = time.time
            monkeypatch.setattr(time, "time", lambda jump=jump, real=real: real() + jump)
            assert 0 < lease(store)[1] - leases.now() <= leases.LEASE_S  # neither over nor without an end
            assert asyncio.run(held.renew()) == []
            held.write(entry("intent", step="x"), "tickets")
            assert not leases.is_over(leases._row(store._db, "tickets"))


class Stirred:
    """Changes the row of a lease as soon as somebody waits for it to run out."""

    def __init__(self, store: JournalStore) -> None:
        self.store, self.waits = store, []

    def __call__(self, text: str) -> None:
        self.waits.append(text)
        self.store._db.execute("UPDATE leases SET until = until + 1")


def elsewhere(store: JournalStore, **changes) -> None:
    """As if the lease had been taken by a process of another machine, or of another start of this one."""
    holder = msgspec.json.decode(lease(store)[0], type=leases.Holder)
    store._db.execute("UPDATE leases SET holder = ?", (replace(holder, **changes).text,))


def test_a_lease_that_is_renewed_elsewhere_is_never_taken(tmp_path, monkeypatch):
    monkeypatch.setattr(leases, "LOOK_S", 0.01)
    store = JournalStore(tmp_path)
    with store.new_roll(PLAN, NOW):
        elsewhere(store, host="slipway-7", boot="another")
        stirred, other = Stirred(store), taken_by(tmp_path)
        with pytest.raises(Refused, match="is being carried out by another Gallant, on slipway-7"):
            other.open(stirred)
        assert "by a Gallant on slipway-7" in stirred.waits[0]


@pytest.mark.parametrize("changes", [{"host": "slipway-7", "boot": "another"}, {"space": "pid:[1]"}], ids=str)
def test_a_holder_of_which_nothing_is_known_is_waited_for_until_its_lease_has_run_out(tmp_path, monkeypatch, changes):
    monkeypatch.setattr(leases, "LOOK_S", 0.01)
    monkeypatch.setattr(leases, "LEASE_S", 0.3)
    store = JournalStore(tmp_path)
    with store.new_roll(PLAN, NOW) as held:
        store._db.execute("UPDATE leases SET until = 1e9")
        elsewhere(store, **changes)
        waits, other, began = [], taken_by(tmp_path), time.monotonic()
        other.open(waits.append)
        assert time.monotonic() - began >= 0.3
        assert len(waits) == 1
        assert other.sole_since >= leases.now() - 1
        with pytest.raises(LeaseLost):
            held.write(entry("intent", step="x"), "tickets")


def _hold_and_die(folder) -> None:
    store = JournalStore(folder)
    with store.new_roll(PLAN, NOW):
        os.kill(os.getpid(), signal.SIGKILL)


def test_the_lease_of_a_process_that_was_killed_is_taken_at_once(tmp_path):
    dead = multiprocessing.get_context("spawn").Process(target=_hold_and_die, args=(tmp_path,))
    dead.start()
    dead.join()
    waits: list[str] = []
    with JournalStore(tmp_path).take_up("roll-0001", waits.append) as taken:
        taken.write(entry("opened"))
    assert waits == []


def test_a_process_that_has_another_ones_number_by_now_is_not_taken_for_it(tmp_path):
    holder = leases.this_process()
    assert not leases.is_gone(holder.text)
    assert leases.is_gone(replace(holder, began="1").text)
    assert leases.is_gone(replace(holder, pid=2**22 + 1).text)
    assert not leases.is_gone(replace(holder, pid=2**22 + 1, boot="another").text)
    assert not leases.is_gone("a form of long ago")


def _found_full(store: JournalStore) -> None:
    """What happens in a roll whose disk takes nothing more, not even that the lease is given back."""
    with store.new_roll(PLAN, NOW):
        store._db.execute("PRAGMA query_only = ON")
        raise GallantError("state/journal.db cannot be written: the disk is full.")


def test_a_lease_that_cannot_be_given_back_does_not_hide_what_went_wrong(tmp_path):
    with pytest.raises(GallantError, match="the disk is full"):
        _found_full(JournalStore(tmp_path))


def test_the_entries_of_many_lanes_are_committed_together_and_each_is_on_the_disk_when_it_returns(tmp_path):
    store, other = JournalStore(tmp_path), sqlite3.connect(tmp_path / "state" / "journal.db")

    async def lane(held: RollJournal, number: int) -> int:
        event = await held.append(entry("intent", step=f"s{number}"), "tickets")
        assert other.execute("SELECT max(seq) FROM events").fetchone()[0] >= event.seq
        return event.seq

    async def all_lanes(held: RollJournal) -> list[int]:
        return await asyncio.gather(*(lane(held, number) for number in range(50)))

    with store.new_roll(PLAN, NOW) as held:
        committed, commit = [], held._commit
        held._commit = lambda group: committed.append(len(group)) or commit(group)
        assert sorted(asyncio.run(all_lanes(held))) == list(range(1, 51))
    assert sum(committed) == 50
    assert len(committed) < 10


def test_an_entry_that_may_not_be_written_keeps_none_of_the_others_from_it(tmp_path):
    store = JournalStore(tmp_path)

    async def both(held: RollJournal) -> list:
        return await asyncio.gather(
            held.append(entry("intent", step="x"), "tickets"),
            held.append(entry("intent", step="y"), "slipway"),
            held.append(entry("held")),
            return_exceptions=True,
        )

    with store.new_roll(PLAN, NOW) as held:
        first, lost, last = asyncio.run(both(held))
        assert (first.seq, last.seq) == (1, 2)
        assert isinstance(lost, LeaseLost)


def test_every_system_of_a_roll_is_looked_at_and_not_the_first_alone(tmp_path, monkeypatch):
    monkeypatch.setattr(leases, "LOOK_S", 0.01)
    store = JournalStore(tmp_path)
    with store.new_roll(PLAN, NOW):
        elsewhere(store, host="slipway-7", boot="another")
        stirred = Stirred(store)
        other = RollJournal(JournalStore(tmp_path)._db, "roll-0009", ["deck", "tickets"])
        with pytest.raises(Refused, match="it keeps its lease of tickets"):
            other.open(stirred)
        assert stirred.waits[0].startswith("tickets: leased to")


def test_that_a_lease_of_another_start_has_run_out_is_not_told_by_this_starts_clock(tmp_path):
    store = JournalStore(tmp_path)
    with store.new_roll(PLAN, NOW):
        for changes, over in (
            ({}, True),
            ({"boot": "another"}, False),
            ({"host": "slipway-7", "boot": "another"}, False),
        ):
            elsewhere(store, **changes)
            store._db.execute("UPDATE leases SET until = ?", (leases.now() - 1.0,))
            assert leases.is_over(leases._row(store._db, "tickets")) is over, changes
