"""The journal and the leases: `state/journal.db`, a file of its own with `synchronous=FULL`.

An entry is on the disk when `append` returns. An intent is written only while the lease of its system still has our
epoch, in the same transaction; so two Gallants that share a store never start acts on one system at once.
"""

from __future__ import annotations

import fcntl
import os
import sqlite3
import time
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from datetime import datetime
from functools import lru_cache
from pathlib import Path

import msgspec

from gallant.core.errors import GallantError, Refused, WrongUse
from gallant.core.events import TERMINAL, Entry, Event
from gallant.core.plan import Plan
from gallant.core.ports import LeaseLost
from gallant.core.records import Record, clean, rfc3339
from gallant.disk import opened
from gallant.store.copies import damaged, keep_copy
from gallant.store.database import Database, open_database, state_folder, transaction

SCHEMA = (
    """
    CREATE TABLE rolls (
        number INTEGER PRIMARY KEY, id TEXT NOT NULL UNIQUE, plan_id TEXT NOT NULL, plan BLOB NOT NULL, began TEXT NOT NULL,
        ended TEXT, hold TEXT
    );
    CREATE TABLE events (
        roll TEXT NOT NULL REFERENCES rolls (id), seq INTEGER NOT NULL, kind TEXT NOT NULL, entry BLOB NOT NULL,
        PRIMARY KEY (roll, seq)
    ) WITHOUT ROWID;
    CREATE TABLE leases (
        system TEXT PRIMARY KEY, roll TEXT NOT NULL, holder TEXT NOT NULL, epoch INTEGER NOT NULL, until REAL NOT NULL
    )
    """,
    "CREATE TABLE witness (only INTEGER PRIMARY KEY CHECK (only = 1), seq INTEGER NOT NULL, hash TEXT NOT NULL)",
)

WITNESS = """INSERT INTO witness (only, seq, hash) VALUES (1, ?, ?)
    ON CONFLICT (only) DO UPDATE SET seq = excluded.seq, hash = excluded.hash WHERE excluded.seq > seq"""
NEW_ROLL = "INSERT INTO rolls (number, id, plan_id, plan, began) VALUES (?, ?, ?, ?, ?)"
NEXT_NUMBER = "SELECT coalesce(max(number), 0) + 1 FROM rolls"
ROLLS = "SELECT id, plan, began, ended, hold FROM rolls ORDER BY number DESC"
ROLL = "SELECT id, plan, began, ended, hold FROM rolls WHERE id = ?"
STILL_OPEN = "SELECT id, plan, began, ended, hold FROM rolls WHERE ended IS NULL ORDER BY number DESC"
OPEN_ROLLS = "SELECT id FROM rolls WHERE ended IS NULL ORDER BY number"
EVENTS = "SELECT seq, entry FROM events WHERE roll = ? ORDER BY seq"
APPEND = (
    "INSERT INTO events (roll, seq, kind, entry) SELECT ?, coalesce(max(seq), 0) + 1, ?, ? FROM events WHERE roll = ?"
)
LAST_SEQ = "SELECT max(seq) FROM events WHERE roll = ?"
HAS_TERMINAL = "SELECT 1 FROM events WHERE roll = ? AND kind IN (?, ?)"
END_ROLL = "UPDATE rolls SET ended = ?, hold = NULL WHERE id = ?"
SET_HOLD = "UPDATE rolls SET hold = ? WHERE id = ? AND ended IS NULL"
GET_HOLD = "SELECT hold FROM rolls WHERE id = ?"
GET_LEASE = "SELECT roll, holder, epoch, until FROM leases WHERE system = ?"
TAKE_LEASE = """INSERT INTO leases (system, roll, holder, epoch, until) VALUES (?, ?, ?, 1, ?)
    ON CONFLICT (system) DO UPDATE SET roll = excluded.roll, holder = excluded.holder, epoch = epoch + 1, until = excluded.until"""
# Whether it has run out does not matter while nobody took it: taking raises the epoch. It is renewed by being used.
STILL_OURS = "UPDATE leases SET until = ? WHERE system = ? AND epoch = ? AND holder = ?"
RENEW = "UPDATE leases SET until = ? WHERE system = ? AND epoch = ? AND holder = ?"
RELEASE = "UPDATE leases SET until = 0 WHERE system = ? AND epoch = ? AND holder = ?"

# Real seconds. Long enough for a laptop's short sleep, short enough that a dead machine does not keep others waiting.
LEASE_S = 60.0

_TO_ENTRY = msgspec.json.Decoder(Entry)
_TO_PLAN = msgspec.json.Decoder(Plan)


class RollRow(Record):
    """One roll as the store knows it; its state is derived from its events."""

    id: str
    plan: Plan
    began: datetime
    ended: datetime | None
    hold: str | None


def _why_no_step(db: sqlite3.Connection) -> str | None:
    row = db.execute(OPEN_ROLLS).fetchone()
    return None if row is None else f"{row[0]} is open"


class JournalStore:
    """All rolls of an estate. `open_roll` and `take_up` give the journal of one, with its leases."""

    def __init__(self, estate_folder: Path) -> None:
        self.folder = state_folder(estate_folder)
        self._db = open_database(
            self.folder / "journal.db", SCHEMA, synchronous="FULL", kept=True, may_step=_why_no_step
        )

    def close(self) -> None:
        self._db.close()

    def rolls(self) -> tuple[list[RollRow], list[GallantError]]:
        """Newest first; and what is to be said of each that cannot be read any more."""
        found, wrong = [], []
        for row in self._db.execute(ROLLS):
            try:
                found.append(self._row(row))
            except GallantError as error:
                wrong.append(error)
        return found, wrong

    def roll(self, roll_id: str) -> RollRow:
        row = self._db.execute(ROLL, (roll_id,)).fetchone()
        if row is None:
            raise WrongUse(f"No roll {roll_id!r} here.", next="gallant history lists them.")
        return self._row(row)

    def open_rolls(self, system: str | None = None) -> list[RollRow]:
        every = [self._row(row) for row in self._db.execute(STILL_OPEN)]
        return [r for r in every if system is None or system in r.plan.systems]

    def _row(self, row: tuple[str, bytes, str, str | None, str | None]) -> RollRow:
        name, plan, began, ended, hold = row
        try:
            return RollRow(
                id=name,
                plan=_TO_PLAN.decode(plan),
                began=datetime.fromisoformat(began),
                ended=datetime.fromisoformat(ended) if ended else None,
                hold=hold,
            )
        except (msgspec.MsgspecError, ValueError, TypeError):
            raise damaged(self._db.path, f"the row of {clean(str(name), 40)} cannot be read") from None

    def events(self, roll_id: str) -> list[Event]:
        return _events(self._db, roll_id)

    def keep_copy(self) -> None:
        """Keep the journal twice as it is now; raises `GallantError`."""
        keep_copy(self._db, self._db.path)

    # --- what the ledger came to, on the journal's side

    def witness(self, seq: int, digest: str) -> None:
        """Note the ledger's newest entry, so that an end that was cut off there is seen from here."""
        with transaction(self._db):
            self._db.execute(WITNESS, (seq, digest))

    def witnessed(self) -> tuple[int, str] | None:
        """Number and hash of the newest ledger entry that was noted here."""
        found: tuple[int, str] | None = self._db.execute("SELECT seq, hash FROM witness").fetchone()
        return found

    def request_hold(self, roll_id: str, reason: str) -> None:
        self._db.execute(SET_HOLD, (reason, roll_id))

    def is_running(self, roll_id: str) -> bool:
        """Whether a living process carries the roll out: it holds the lock on the roll's file."""
        lock = _try_lock(self.folder / f"{roll_id}.lock")
        if lock is None:
            return True
        os.close(lock)
        return False

    def refuse_open(self, plan: Plan) -> None:
        """Raise `Refused` while a roll that is not finished has one of the plan's systems."""
        for other in self.open_rolls():
            shared = sorted(set(other.plan.systems) & set(plan.systems))
            if shared:
                raise Refused(
                    f"{other.id} is not finished and has {', '.join(shared)}.",
                    "Two rolls on one system would undo each other.",
                    f"gallant resume {other.id} carries on; gallant hold {other.id} --for-good ends it where it stands.",
                )

    @contextmanager
    def new_roll(self, plan: Plan, now: datetime) -> Iterator[RollJournal]:
        """A new roll of a plan, with the leases of its systems. Raises `Refused` while another roll has one of them."""
        with transaction(self._db):
            self.refuse_open(plan)
            number = self._db.execute(NEXT_NUMBER).fetchone()[0]
            roll_id = f"roll-{number:04d}"
            self._db.execute(NEW_ROLL, (number, roll_id, plan.id, msgspec.json.encode(plan), rfc3339(now)))
        with self.take_up(roll_id) as journal:
            yield journal

    @contextmanager
    def take_up(self, roll_id: str) -> Iterator[RollJournal]:
        """The journal of a roll, its lock and the leases of its systems; given back at the end."""
        plan = self.roll(roll_id).plan
        lock = _try_lock(self.folder / f"{roll_id}.lock")
        if lock is None:
            raise Refused(
                f"{roll_id} is being carried out by another Gallant on this machine.",
                next=f"gallant hold {roll_id} asks it to stop.",
            )
        try:
            with RollJournal(self._db, roll_id, plan.systems) as journal:
                self._db.execute(SET_HOLD, (None, roll_id))
                yield journal
        finally:
            os.close(lock)


class RollJournal:
    """One roll's journal, in the hands of the process that carries it out. It is the engine's `Journal` port."""

    lease_s = LEASE_S

    def __init__(self, db: Database, roll_id: str, systems: Sequence[str]) -> None:
        self._db, self.id, self.systems = db, roll_id, tuple(systems)
        self.holder = f"{os.uname().nodename}/{_boot()}/{os.getpid()}/{time.monotonic_ns()}"
        self._epochs: dict[str, int] = {}

    def __enter__(self) -> RollJournal:
        """Take the leases. The roll's lock is ours, so a lease of this very roll belongs to a process that is gone."""
        with transaction(self._db):
            for system in self.systems:
                row = self._db.execute(GET_LEASE, (system,)).fetchone()
                if row is not None and row[0] != self.id and _runs(row[1]) and row[3] > _now():
                    raise Refused(
                        f"{system} is leased to {row[0]} ({row[1].split('/')[0]}) for {row[3] - _now():.0f} s more.",
                        next=f"gallant history {row[0]} says what it is doing.",
                    )
                self._db.execute(TAKE_LEASE, (system, self.id, self.holder, _now() + LEASE_S))
                self._epochs[system] = self._db.execute(GET_LEASE, (system,)).fetchone()[2]
        return self

    def __exit__(self, *_: object) -> None:
        for system, epoch in self._epochs.items():
            self._db.execute(RELEASE, (system, epoch, self.holder))

    def events(self) -> list[Event]:
        return _events(self._db, self.id)

    def append(self, entry: Entry) -> Event:
        """Write one entry; it is on the disk when this returns. A terminal one ends the roll, once. Raises `LeaseLost`."""
        with transaction(self._db):
            for system in self.systems:
                self._still_ours(system)
            return self._write(entry)

    def intend(self, entry: Entry, system: str) -> Event:
        """Write an intent, if the system's lease is still ours; raises `LeaseLost`."""
        with transaction(self._db):
            self._still_ours(system)
            return self._write(entry)

    def _still_ours(self, system: str) -> None:
        if (
            self._db.execute(STILL_OURS, (_now() + LEASE_S, system, self._epochs.get(system, -1), self.holder)).rowcount
            != 1
        ):
            raise LeaseLost(
                f"The lease of {system} is no longer held here; nothing more is started and nothing written by this process.",
                "Another Gallant took it while this machine was halted.",
                f"gallant history {self.id}",
            )

    def _write(self, entry: Entry) -> Event:
        if self._db.execute(HAS_TERMINAL, (self.id, *TERMINAL)).fetchone() is not None:
            raise Refused(f"{self.id} has ended; nothing is added to its journal.", next=f"gallant history {self.id}")
        self._db.execute(APPEND, (self.id, entry.kind, msgspec.json.encode(entry), self.id))
        if entry.kind in TERMINAL:
            self._db.execute(END_ROLL, (rfc3339(entry.at), self.id))
        return Event(seq=self._db.execute(LAST_SEQ, (self.id,)).fetchone()[0], entry=entry)

    def hold_wanted(self) -> str | None:
        row = self._db.execute(GET_HOLD, (self.id,)).fetchone()
        return row[0] if row else None

    def renew(self) -> None:
        for system, epoch in self._epochs.items():
            self._db.execute(RENEW, (_now() + LEASE_S, system, epoch, self.holder))


def _now() -> float:
    """Seconds since this machine was started, its sleep included: nobody can set that clock while a lease runs."""
    return time.clock_gettime(time.CLOCK_BOOTTIME) if hasattr(time, "CLOCK_BOOTTIME") else time.monotonic()


@lru_cache(maxsize=1)
def _boot() -> str:
    """Which start of this machine that is (random(4)); empty where it does not say."""
    try:
        return Path("/proc/sys/kernel/random/boot_id").read_text().strip()
    except OSError:
        return ""


def _runs(holder: str) -> bool:
    """Whether whoever took a lease can still be there: not across a start of the machine."""
    parts = holder.split("/")
    return len(parts) < 4 or parts[1] == _boot()


def _events(db: Database, roll_id: str) -> list[Event]:
    found = []
    for seq, raw in db.execute(EVENTS, (roll_id,)):
        try:
            found.append(Event(seq=seq, entry=_TO_ENTRY.decode(raw)))
        except (msgspec.MsgspecError, ValueError, TypeError):
            raise damaged(db.path, f"entry {seq} of {roll_id} cannot be read") from None
    return found


def _try_lock(path: Path) -> int | None:
    """An exclusive lock on a file, which the kernel frees when its process ends in whatever way; None when it is taken."""
    handle = opened(path, os.O_CREAT | os.O_RDWR)
    try:
        fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError:
        os.close(handle)
        return None
    return handle
