"""Opening a database: numbered schema steps, a refusal of what this program does not know, and of network file systems.

SQLite's locks, and with them every promise about leases, hold only on a local file system.
"""

from __future__ import annotations

import contextlib
import os
import sqlite3
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path

from gallant.core.errors import GallantError, Refused
from gallant.disk import refuse_link

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
    """The state/ folder, made with mode 0700 when it is not there."""
    folder = estate_folder / "state"
    refuse_network(estate_folder)
    try:
        folder.mkdir(mode=0o700, exist_ok=True)
        if folder.stat().st_mode & 0o077:
            os.chmod(folder, 0o700)
    except OSError as error:
        raise GallantError(
            f"{folder} cannot be used: {error.strerror}.", next="Look at its rights and at the free space."
        ) from None
    return folder


def open_database(
    path: Path,
    steps: Sequence[str],
    *,
    synchronous: str,
    may_step: Callable[[sqlite3.Connection], str | None] | None = None,
) -> sqlite3.Connection:
    """A connection with the schema brought up to date.

    `may_step` gives the reason for which no schema step may run now, or None. Raises `Refused` for a schema that is
    newer than this program, `GallantError` for a file that is no database.
    """
    for file in (path, path.with_name(f"{path.name}-wal"), path.with_name(f"{path.name}-shm")):
        refuse_link(file)
    try:
        db = sqlite3.connect(path, timeout=BUSY_S, isolation_level=None)
        path.chmod(0o600)
        db.execute("PRAGMA journal_mode = WAL")
        db.execute(f"PRAGMA synchronous = {synchronous}")
        db.execute("PRAGMA foreign_keys = ON")
        _bring_up_to_date(db, path, steps, may_step)
    except (sqlite3.DatabaseError, OSError) as error:
        raise GallantError(
            f"{path} cannot be used: {error}.",
            "It is damaged, locked by another program, or the disk is full.",
            f"Look at the disk; a damaged {path.name} can be moved away, readings come back with gallant survey.",
        ) from None
    return db


def _bring_up_to_date(
    db: sqlite3.Connection,
    path: Path,
    steps: Sequence[str],
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
                f"{path} needs a schema step, and none is made now: {reason}.",
                next="Finish it with the Gallant that began it, then use this one.",
            )
        for number in range(version, len(steps)):
            for statement in steps[number].split(";"):
                if statement.strip():
                    db.execute(statement)
        db.execute(f"PRAGMA user_version = {len(steps)}")
        db.execute("COMMIT")
    except BaseException:
        db.execute("ROLLBACK")
        raise


def _version(db: sqlite3.Connection) -> int:
    return int(db.execute("PRAGMA user_version").fetchone()[0])


@contextmanager
def transaction(db: sqlite3.Connection, name: str) -> Iterator[None]:
    """All of it or nothing; what the disk or another program refuses is an error for a person."""
    try:
        db.execute("BEGIN IMMEDIATE")
        try:
            yield
        except BaseException:
            with contextlib.suppress(sqlite3.Error):  # a full disk may have rolled it back already
                db.execute("ROLLBACK")
            raise
        db.execute("COMMIT")
    except sqlite3.Error as error:
        with contextlib.suppress(sqlite3.Error):
            db.execute("ROLLBACK")
        raise GallantError(
            f"state/{name} cannot be written: {error}.",
            "Nothing goes on that is not written down first.",
            "Look at the disk and at who else has the file open.",
        ) from None
