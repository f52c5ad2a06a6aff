"""The journal and the leases: `state/journal.db`, a file of its own with `synchronous=FULL`.

An entry is on the disk when `append` returns. An entry about a step is written only while the lease of its system still
has our epoch, in the same transaction; so two Gallants that share a store never start acts on one system at once.
"""

from __future__ import annotations

import contextlib
import fcntl
import os
import sqlite3
from collections.abc import Callable, Iterable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from datetime import datetime, timedelta
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

import msgspec

from gallant.core.errors import GallantError, Refused, WrongUse
from gallant.core.ports import LeaseLost
from gallant.core.records import clean, rfc3339
from gallant.core.work.events import INTENT, TERMINAL, Carrier, Entry, Event, HoldWanted, RollRow
from gallant.core.work.plan import Plan
from gallant.disk import opened
from gallant.store.copies import damaged, keep_copy
from gallant.store.database import WHOSE, Database, SchemaStep, open_database, state_folder, transaction, write
from gallant.store.leases import LEASE_S, Leases, carrier_of, now
from gallant.store.leases import TABLE as LEASES

if TYPE_CHECKING:
    import asyncio

SCHEMA = (
    SchemaStep(
        "rolls, events and leases",
        """
    CREATE TABLE rolls (
        number INTEGER PRIMARY KEY, id TEXT NOT NULL UNIQUE, plan_id TEXT NOT NULL, plan BLOB NOT NULL,
        began TEXT NOT NULL, ended TEXT, hold TEXT
    );
    CREATE TABLE events (
        roll TEXT NOT NULL REFERENCES rolls (id), seq INTEGER NOT NULL, kind TEXT NOT NULL, entry BLOB NOT NULL,
        PRIMARY KEY (roll, seq)
    ) WITHOUT ROWID;
    """
        + LEASES,
    ),
    SchemaStep(
        "the ledger's newest entry",
        "CREATE TABLE witness (only INTEGER PRIMARY KEY CHECK (only = 1), seq INTEGER NOT NULL, hash TEXT NOT NULL)",
    ),
    SchemaStep(
        "which systems a roll has, so that no plan has to be read to answer for one of them",
        """
    CREATE TABLE roll_systems (system TEXT NOT NULL, roll TEXT NOT NULL, PRIMARY KEY (system, roll)) WITHOUT ROWID;
    INSERT OR IGNORE INTO roll_systems (system, roll)
        SELECT json_extract(lane.value, '$.system'), rolls.id FROM rolls,
        json_each(CASE WHEN json_valid(CAST(plan AS TEXT)) THEN CAST(plan AS TEXT) ELSE '{}' END, '$.lanes') AS lane
    """,
    ),
    WHOSE,
    SchemaStep(
        "a hold that does not wait for a safe stop", "ALTER TABLE rolls ADD COLUMN hold_now INTEGER NOT NULL DEFAULT 0"
    ),
)

WITNESS = """INSERT INTO witness (only, seq, hash) VALUES (1, ?, ?)
    ON CONFLICT (only) DO UPDATE SET seq = excluded.seq, hash = excluded.hash WHERE excluded.seq > seq"""
NEW_ROLL = "INSERT INTO rolls (number, id, plan_id, plan, began) VALUES (?, ?, ?, ?, ?)"
NEXT_NUMBER = "SELECT coalesce(max(number), 0) + 1 FROM rolls"
# LIMIT -1 is no limit; moments are compared as they are written, in UTC.
ROLLS = """SELECT id, plan, began, ended, hold FROM rolls WHERE coalesce(ended, began) >= ?
    ORDER BY number DESC LIMIT ?"""
ROLLS_OF = """SELECT id, plan, began, ended, hold FROM rolls WHERE id IN
    (SELECT roll FROM roll_systems WHERE system IN (SELECT value FROM json_each(?)))
    AND coalesce(ended, began) >= ? ORDER BY number DESC LIMIT ?"""
ROLL = "SELECT id, plan, began, ended, hold FROM rolls WHERE id = ?"
STILL_OPEN = "SELECT id, plan, began, ended, hold FROM rolls WHERE ended IS NULL ORDER BY number DESC"
OPEN_OF = """SELECT id, plan, began, ended, hold FROM rolls JOIN roll_systems ON roll = id
    WHERE system = ? AND ended IS NULL ORDER BY number DESC"""
HAS_SYSTEM = "INSERT INTO roll_systems (system, roll) VALUES (?, ?)"
OPEN_ROLLS = "SELECT id FROM rolls WHERE ended IS NULL ORDER BY number"
EVENTS = "SELECT seq, entry FROM events WHERE roll = ? AND seq > ? ORDER BY seq"
APPEND = (
    "INSERT INTO events (roll, seq, kind, entry) SELECT ?, coalesce(max(seq), 0) + 1, ?, ? FROM events WHERE roll = ?"
)
LAST_SEQ = "SELECT max(seq) FROM events WHERE roll = ?"
HAS_TERMINAL = "SELECT 1 FROM events WHERE roll = ? AND kind IN (?, ?)"
END_ROLL = "UPDATE rolls SET ended = ?, hold = NULL WHERE id = ?"
SET_HOLD = "UPDATE rolls SET hold = ?, hold_now = ? WHERE id = ? AND ended IS NULL"
GET_HOLD = "SELECT hold, hold_now FROM rolls WHERE id = ?"

_TO_ENTRY = msgspec.json.Decoder(Entry)
_TO_PLAN = msgspec.json.Decoder(Plan)


def _why_no_step(db: sqlite3.Connection) -> str | None:
    row = db.execute(OPEN_ROLLS).fetchone()
    return None if row is None else f"{row[0]} is open"


class JournalStore:
    """All rolls of an estate. `open_roll` and `take_up` give the journal of one, with its leases."""

    def __init__(self, estate_folder: Path, estate: str | None = None) -> None:
        self.folder = state_folder(estate_folder)
        path = self.folder / "journal.db"
        self._db = open_database(path, SCHEMA, synchronous="FULL", estate=estate, kept=True, may_step=_why_no_step)

    def close(self) -> None:
        self._db.close()

    def rolls(
        self, systems: Iterable[str] | None = None, *, most: int | None = None, since: datetime | None = None
    ) -> tuple[list[RollRow], list[GallantError]]:
        """Newest first, all of them or those of some systems; and what
        is to be said of each that cannot be read any more."""
        found, wrong = [], []
        first = rfc3339(since - timedelta(seconds=1)) if since is not None else ""
        if systems is None:
            rows = self._db.execute(ROLLS, (first, -1 if most is None else most))
        else:
            names = msgspec.json.encode(sorted(systems)).decode()
            rows = self._db.execute(ROLLS_OF, (names, first, -1 if most is None else most))
        for row in rows:
            try:
                found.append(self._row(row))
            except GallantError as error:
                wrong.append(error)
        return found, wrong

    def count(self) -> int:
        """How many rolls there are."""
        return int(self._db.execute("SELECT count(*) FROM rolls").fetchone()[0])

    def names(self) -> list[str]:
        """The names of all rolls, newest first; no plan is read."""
        return [str(name) for (name,) in self._db.execute("SELECT id FROM rolls ORDER BY number DESC")]

    def roll(self, roll_id: str) -> RollRow:
        row = self._db.execute(ROLL, (roll_id,)).fetchone()
        if row is None:
            raise WrongUse(f"No roll {roll_id!r} here.", next="gallant history lists them.")
        return self._row(row)

    def open_rolls(self, system: str | None = None) -> list[RollRow]:
        found = self._db.execute(STILL_OPEN) if system is None else self._db.execute(OPEN_OF, (system,))
        return [self._row(row) for row in found]

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

    def events(self, roll_id: str, after: int = 0) -> list[Event]:
        """A roll's events, or those `after` one of them."""
        return _events(self._db, roll_id, after)

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

    def request_hold(self, roll_id: str, reason: str, now: bool = False) -> None:
        write(self._db, SET_HOLD, (reason, int(now), roll_id))

    def is_running(self, roll_id: str) -> bool:
        """Whether a living process carries the roll out: it holds the lock on the roll's file."""
        lock = _try_lock(self.folder / f"{roll_id}.lock")
        if lock is None:
            return True
        os.close(lock)
        return False

    def carrier(self, roll_id: str) -> Carrier | None:
        """The process that carries a roll out, as its leases tell."""
        return carrier_of(self._db, roll_id)

    def refuse_open(self, plan: Plan, but: str | None = None) -> None:
        """Raise `Refused` while a roll that is not finished has one of
        the plan's systems, `but` for one that ends with it."""
        found = (roll for system in plan.every for roll in self.open_rolls(system) if roll.id != but)
        other = next(found, None)
        if other is not None:
            shared = sorted(set(other.plan.every) & set(plan.every))
            raise Refused(
                f"{other.id} is not finished and has {', '.join(shared)}.",
                "Two rolls on one system would undo each other.",
                f"gallant resume {other.id} carries on; gallant hold {other.id} --for-good --reason WHY ends it where"
                " it stands.",
            )

    @contextmanager
    def new_roll(
        self, plan: Plan, now: datetime, waiting: Callable[[str], None] = lambda text: None
    ) -> Iterator[RollJournal]:
        """A new roll of a plan, with the leases of its systems. Raises `Refused` while another roll has one of them."""
        with transaction(self._db):
            self.refuse_open(plan)
            number = self._db.execute(NEXT_NUMBER).fetchone()[0]
            roll_id = f"roll-{number:04d}"
            self._db.execute(NEW_ROLL, (number, roll_id, plan.id, msgspec.json.encode(plan), rfc3339(now)))
            self._db.executemany(HAS_SYSTEM, [(system, roll_id) for system in plan.every])
        with self.take_up(roll_id, waiting) as journal:
            yield journal

    @contextmanager
    def take_up(self, roll_id: str, waiting: Callable[[str], None] = lambda text: None) -> Iterator[RollJournal]:
        """The journal of a roll, its lock and the leases of its systems; given back at the end. Raises `Refused`.

        The lock tells at once that another process here has the roll; the leases hold where no lock does.
        """
        plan = self.roll(roll_id).plan
        lock = _try_lock(self.folder / f"{roll_id}.lock")
        if lock is None:
            carrier = self.carrier(roll_id)
            raise Refused(
                f"{roll_id} is being carried out by another Gallant on this machine.",
                f"{carrier.trouble[0].upper()}{carrier.trouble[1:]}." if carrier and carrier.trouble else None,
                (carrier.way_out if carrier and carrier.trouble else None)
                or f"gallant hold {roll_id} asks it to stop.",
            )
        try:
            journal = RollJournal(self._db, roll_id, plan.every)
            try:
                journal.open(waiting)
                write(self._db, SET_HOLD, (None, 0, roll_id))
                yield journal
            finally:
                journal.close()
        finally:
            os.close(lock)


class RollJournal:
    """One roll's journal, in the hands of the process that carries it out. It is the engine's `Journal` port.

    What many lanes have to write is committed together: while one group is on its way to the disk the next one gathers.
    """

    lease_s = LEASE_S

    def __init__(self, db: Database, roll_id: str, systems: Sequence[str]) -> None:
        self._db, self.id = db, roll_id
        self.leases = Leases(roll_id, systems)
        self.sole_since = 0.0
        self._waiting: list[_Waiting] = []
        self._writing: asyncio.Task[None] | None = None
        # Its own thread and connection, so that a disk that is slow does not halt what watches and waits.
        self._writer = ThreadPoolExecutor(1, "journal")
        self._own: Database | None = None

    def open(self, waiting: Callable[[str], None]) -> None:
        """Take the leases; the one who had them before can send nothing any more once this returns. Raises
        `Refused`."""
        self.leases.take(self._db, waiting)
        self.sole_since = now()

    def close(self) -> None:
        self._writer.submit(self._close_own).result()
        self._writer.shutdown()
        with contextlib.suppress(GallantError):  # one that is not given back runs out by itself
            self.leases.release(self._db)

    def events(self) -> list[Event]:
        return _events(self._db, self.id)

    def hold_wanted(self) -> HoldWanted | None:
        row = self._db.execute(GET_HOLD, (self.id,)).fetchone()
        return HoldWanted(reason=row[0], now=bool(row[1])) if row and row[0] is not None else None

    async def append(self, entry: Entry, system: str | None = None) -> Event:
        """Write one entry; it is on the disk when this returns. A terminal one ends the roll, once. Raises
        `LeaseLost`."""
        import asyncio  # a command that only reads journals does without

        written: asyncio.Future[Event] = asyncio.get_running_loop().create_future()
        self._waiting.append(_Waiting(entry, system, written))
        if self._writing is None:
            self._writing = asyncio.create_task(self._write_all())
        return await written

    async def renew(self) -> Sequence[str]:
        import asyncio

        return await asyncio.get_running_loop().run_in_executor(self._writer, self._renew)

    def write(self, entry: Entry, system: str | None = None) -> Event:
        """Write one entry from outside of a roll that is running."""
        with transaction(self._db):
            return self._put(self._db, entry, system)

    async def _write_all(self) -> None:
        import asyncio

        loop = asyncio.get_running_loop()
        try:
            while self._waiting:
                group, self._waiting = self._waiting, []
                try:
                    results = await loop.run_in_executor(self._writer, self._commit, group)
                except BaseException as error:
                    results = [error] * len(group)
                for one, result in zip(group, results, strict=True):
                    if one.written.done():
                        continue
                    if isinstance(result, Event):
                        one.written.set_result(result)
                    else:
                        one.written.set_exception(result)
        finally:
            self._writing = None

    def _commit(self, group: Sequence[_Waiting]) -> list[Event | BaseException]:
        """All in one transaction; one that may not be written keeps none of the others from it."""
        results: list[Event | BaseException] = []
        db = self._connection()
        with transaction(db):
            for one in group:
                try:
                    results.append(self._put(db, one.entry, one.system))
                except (LeaseLost, Refused) as error:
                    results.append(error)
        return results

    def _put(self, db: Database, entry: Entry, system: str | None) -> Event:
        if not self.leases.ours(db, system):
            raise LeaseLost(
                f"The lease of {system or self.id} is no longer held here; nothing more is started and nothing written"
                " by this process.",
                "Another Gallant took it while this machine was halted.",
                f"gallant history {self.id}",
            )
        if db.execute(HAS_TERMINAL, (self.id, *TERMINAL)).fetchone() is not None:
            raise Refused(f"{self.id} has ended; nothing is added to its journal.", next=f"gallant history {self.id}")
        if entry.kind == INTENT and system is not None:  # so that it runs on for as long as the act may take to be sent
            self.leases.renew_one(db, system)
        db.execute(APPEND, (self.id, entry.kind, msgspec.json.encode(entry), self.id))
        if entry.kind in TERMINAL:
            db.execute(END_ROLL, (rfc3339(entry.at), self.id))
        return Event(seq=db.execute(LAST_SEQ, (self.id,)).fetchone()[0], entry=entry)

    def _renew(self) -> list[str]:
        db = self._connection()
        with transaction(db):
            return self.leases.renew(db)

    def _connection(self) -> Database:
        if self._own is None:
            self._own = open_database(self._db.path, SCHEMA, synchronous="FULL")
        return self._own

    def _close_own(self) -> None:
        if self._own is not None:
            self._own.close()


class _Waiting(NamedTuple):
    entry: Entry
    system: str | None
    written: asyncio.Future[Event]


def _events(db: Database, roll_id: str, after: int = 0) -> list[Event]:
    found = []
    for seq, raw in db.execute(EVENTS, (roll_id, after)):
        try:
            found.append(Event(seq=seq, entry=_TO_ENTRY.decode(raw)))
        except (msgspec.MsgspecError, ValueError, TypeError):
            raise damaged(db.path, f"entry {seq} of {roll_id} cannot be read") from None
    return found


def _try_lock(path: Path) -> int | None:
    """An exclusive lock on a file, which the kernel frees when its process ends in whatever way; None when it is
    taken."""
    handle = opened(path, os.O_CREAT | os.O_RDWR)
    try:
        fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError:
        os.close(handle)
        return None
    return handle
