"""Opening a database: named schema steps, a refusal of what this program does not know, and of network file systems.

SQLite's locks, and with them every promise about leases, hold only on a local file system.
"""

from __future__ import annotations

import contextlib
import sqlite3
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple

from gallant.core.errors import GallantError, Refused
from gallant.disk import make_file, make_folder, refuse_link, shut_to_others, why_not
from gallant.store.copies import copy_of, damaged, is_due, keep_copy, made_at

if TYPE_CHECKING:
    from sqlite3 import _Parameters as Values  # what a statement's places are filled with

NETWORK_FILE_SYSTEMS = frozenset(
    {
        "nfs",
        "nfs4",
        "cifs",
        "smb3",
        "smbfs",
        "ncpfs",
        "afs",
        "ceph",
        "glusterfs",
        "fuse.glusterfs",
        "fuse.sshfs",
        "lustre",
        "gpfs",
        "ocfs2",
        "gfs2",
        "beegfs",
        "fuse.ceph",
        "davfs",
        "fuse.davfs2",
    }
)
BUSY_S = 10.0


def file_system_of(path: Path, mountinfo: str) -> str:
    """The type of the file system that `path` lies on, from the text of /proc/self/mountinfo; empty when not told.

    proc(5): mount point in field 5, then after a lone dash the type. Octal escapes stand for blanks.
    """
    best, kind = "", ""
    for line in mountinfo.splitlines():
        left, dash, right = line.partition(" - ")
        fields = left.split(" ")
        if not dash or len(fields) < 5:
            continue
        mount = fields[4].replace("\\040", " ").replace("\\011", "\t").replace("\\134", "\\")
        inside = str(path) == mount or str(path).startswith(mount.rstrip("/") + "/")
        if inside and len(mount) >= len(best):
            best, kind = mount, right.split(" ")[0]
    return kind


def refuse_network(folder: Path, mountinfo: str | None = None) -> None:
    """Raise `Refused` when the folder lies on a network file system."""
    if mountinfo is None:
        try:
            mountinfo = Path("/proc/self/mountinfo").read_text("utf-8", "replace")
        except OSError:
            return  # not Linux: nothing to ask
    kind = file_system_of(folder.resolve(), mountinfo)
    if kind in NETWORK_FILE_SYSTEMS:
        raise Refused(
            f"{folder} lies on a network file system ({kind}).",
            "Locks there do not hold, so two Gallants could start work on one system at once.",
            "Keep the estate's folder on a local disk.",
        )


def state_folder(estate_folder: Path) -> Path:
    """The state/ folder, made for its owner alone, or for the group whose estate it is, when it is not there."""
    folder = estate_folder / "state"
    refuse_network(estate_folder)
    try:
        make_folder(folder)
        shut_to_others(folder)
    except OSError as error:
        raise GallantError(
            f"{folder} cannot be used: {why_not(error, folder)}.", next="Look at its rights and at the free space."
        ) from None
    return folder


class SchemaStep(NamedTuple):
    """One change of a schema. Its name says what it is for; the file keeps it next to its number."""

    name: str
    sql: str


STEPS = "CREATE TABLE IF NOT EXISTS steps (number INTEGER PRIMARY KEY, name TEXT NOT NULL)"
# In every store: rows mean what they mean in one estate alone, wherever the store lies.
WHOSE = SchemaStep("whose it is", "CREATE TABLE estate (only INTEGER PRIMARY KEY CHECK (only = 1), id TEXT NOT NULL)")


class Database(sqlite3.Connection):
    """A connection whose failures are told as those of its store, also where a row is only read later."""

    path = Path()
    kept = False  # whether it can not be had again, and so has a copy

    def execute(self, sql: str, values: Values = (), /) -> Cursor:
        return self.cursor().execute(sql, values)

    def executemany(self, sql: str, rows: Iterable[Values], /) -> Cursor:
        return self.cursor().executemany(sql, rows)

    def cursor(self, *_: object) -> Cursor:  # type: ignore[override]
        return super().cursor(Cursor)

    def explained(self, error: sqlite3.Error) -> GallantError:
        return _explained(error, self.path, self.kept)


class Cursor(sqlite3.Cursor):
    connection: Database

    def execute(self, sql: str, values: Values = (), /) -> Cursor:
        with _told(self):
            super().execute(sql, values)
        return self

    def executemany(self, sql: str, rows: Iterable[Values], /) -> Cursor:
        with _told(self):
            super().executemany(sql, rows)
        return self

    def fetchone(self) -> Any:  # a row is what its statement asked for; the typeshed says Any too
        with _told(self):
            return super().fetchone()

    def fetchall(self) -> list[Any]:
        with _told(self):
            return super().fetchall()

    def __iter__(self) -> Iterator[Any]:  # type: ignore[override]  # a generator tells what goes wrong with each row
        with _told(self):
            yield from iter(super().fetchone, None)


@contextmanager
def _told(cursor: Cursor) -> Iterator[None]:
    try:
        yield
    except sqlite3.Error as error:
        raise cursor.connection.explained(error) from None


# SQLite's own codes (sqlite.org/rescode.html), by their last eight bits.
_BUSY, _NOT_WHOLE, _FULL = {5, 6}, {11, 26}, {13}


def _explained(error: sqlite3.Error, path: Path, kept: bool) -> GallantError:
    """A store's failure in a person's words; what to do differs with whether it can be had again."""
    code = getattr(error, "sqlite_errorcode", 0) & 0xFF
    if code in _BUSY:
        return GallantError(
            f"{path} is locked by another program; it was waited for {BUSY_S:g} s.",
            "A Gallant lets go of it within moments; this is something else.",
            f"Find who has it open (fuser {path}), end that, and try again.",
        )
    if code in _FULL:
        return GallantError(
            f"{path} cannot be written: the disk is full.",
            "Nothing goes on that is not written down first.",
            f"Make room on the disk of {path.parent}, and try again.",
        )
    if code in _NOT_WHOLE:
        if kept:
            return damaged(path, str(error))
        return GallantError(
            f"{path} is damaged: {error}.",
            "All of it can be had again by asking.",
            f"mv {path} {path}.damaged, then: gallant survey; gallant catalog add NAME SOURCE --key FILE for each that"
            " was followed",
        )
    return GallantError(
        f"{path} cannot be used: {error}.",
        "Nothing goes on that is not written down first.",
        "Look at the disk, at the rights of state/ and at who else has the file open; gallant doctor looks at all"
        " of it.",
    )


def open_database(
    path: Path,
    steps: Sequence[SchemaStep],
    *,
    synchronous: str,
    estate: str | None = None,
    kept: bool = False,
    may_step: Callable[[sqlite3.Connection], str | None] | None = None,
) -> Database:
    """A connection with the schema brought up to date.

    `estate` is the identity of the estate whose it is; `Refused` where the file is another's (None:
    not looked at). `kept`: what it holds cannot be had again, so a copy is kept of it, once a day
    here; where there is a copy, an empty file or none is damage. `may_step` gives the reason for
    which no schema step may run now, or None. Raises `Refused` for a schema that is newer than this
    program, `GallantError` for a file that is not a database, is locked, or cannot be written.
    """
    for file in (path, path.with_name(f"{path.name}-wal"), path.with_name(f"{path.name}-shm")):
        refuse_link(file)
    if kept and made_at(copy_of(path)) is not None and (not path.exists() or not path.stat().st_size):
        raise damaged(path, "it is empty" if path.exists() else "it is gone")
    try:
        if not path.exists():
            make_file(path)
        db = sqlite3.connect(path, timeout=BUSY_S, isolation_level=None, factory=Database)
        db.path, db.kept = path, kept
        shut_to_others(path)
        db.execute("PRAGMA journal_mode = WAL")
        db.execute(f"PRAGMA synchronous = {synchronous}")
        db.execute("PRAGMA foreign_keys = ON")
        _bring_up_to_date(db, path, steps, may_step)
        if estate is not None:
            _belongs(db, path, estate)
    except sqlite3.Error as error:
        raise _explained(error, path, kept) from None
    except OSError as error:
        raise GallantError(
            f"{path} cannot be used: {why_not(error, path)}.",
            next="Look at the rights of state/ and at the free space.",
        ) from None
    if kept and is_due(path):  # where it cannot be made now, gallant doctor and the next command say and do it
        with contextlib.suppress(GallantError):
            keep_copy(db, path)
    return db


def _bring_up_to_date(
    db: sqlite3.Connection,
    path: Path,
    steps: Sequence[SchemaStep],
    may_step: Callable[[sqlite3.Connection], str | None] | None,
) -> None:
    if _version(db) == len(steps):
        return
    db.execute("BEGIN IMMEDIATE")
    try:
        version = _version(db)  # again, now that nobody else can be stepping
        if version > len(steps):
            raise Refused(
                f"{path} was written by a newer Gallant (its schema is {version}, this one knows {len(steps)}).",
                next="Use the newer Gallant; this one leaves the file as it is.",
            )
        reason = may_step(db) if may_step is not None and 0 < version < len(steps) else None
        if reason is not None:
            raise Refused(
                f"{path} needs a schema step ({steps[version].name}), and none is made now: {reason}.",
                next="Finish it with the Gallant that began it, then use this one.",
            )
        db.execute(STEPS)
        for number, step in enumerate(steps[version:], version + 1):
            for statement in step.sql.split(";"):
                if statement.strip():
                    db.execute(statement)
            db.execute("INSERT OR REPLACE INTO steps (number, name) VALUES (?, ?)", (number, step.name))
        db.execute(f"PRAGMA user_version = {len(steps)}")
        db.execute("COMMIT")
    except BaseException:
        with contextlib.suppress(GallantError, sqlite3.Error):
            db.execute("ROLLBACK")
        raise


def _belongs(db: Database, path: Path, estate: str) -> None:
    """Write down whose the file is, once; a file of another estate says of the same names what is not so here."""
    row = db.execute("SELECT id FROM estate").fetchone()
    if row is None:
        write(db, "INSERT OR IGNORE INTO estate (only, id) VALUES (1, ?)", (estate,))
    elif row[0] != estate:
        raise Refused(
            f"{path} is the store of another estate.",
            "What it says of systems, rolls and decisions is not about the machines of this one.",
            f"Bring back this estate's own {path.name}, or move the file away; gallant doctor looks at all of it.",
        )


def estate_of(path: Path) -> str | None:
    """The identity that a store has written down; None where there is none, or no store."""
    if not path.exists():
        return None
    with contextlib.suppress(sqlite3.Error), contextlib.closing(sqlite3.connect(path, timeout=BUSY_S)) as db:
        row = db.execute("SELECT id FROM estate").fetchone()
        return None if row is None else str(row[0])
    return None


def _version(db: sqlite3.Connection) -> int:
    return int(db.execute("PRAGMA user_version").fetchone()[0])


def write(db: Database, sql: str, values: Values = ()) -> Cursor:
    """One statement that changes something, in a transaction of its own."""
    with transaction(db):
        return db.execute(sql, values)


@contextmanager
def transaction(db: Database) -> Iterator[None]:
    """All of it or nothing; what the disk or another program refuses is an error for a person."""
    db.execute("BEGIN IMMEDIATE")
    try:
        yield
        db.execute("COMMIT")
    except BaseException:
        with contextlib.suppress(GallantError, sqlite3.Error):  # a full disk may have rolled it back already
            db.execute("ROLLBACK")
        raise
