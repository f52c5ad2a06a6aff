"""Checked copies of the stores that cannot be had again: the journal and the ledger.

A copy is made with SQLite's own backup while it is in use, looked through (`PRAGMA integrity_check`), and only then put
in the place of the one before; so a copy that is there is whole. It also says that its store has been: where a store is
empty or gone and has a copy, that is damage and no beginning.
"""

from __future__ import annotations

import contextlib
import os
import sqlite3
import time
from datetime import UTC, datetime
from pathlib import Path

from gallant.core.errors import GallantError
from gallant.disk import make_file, make_folder, refuse_link, sync_folder, writing

FOLDER = "copies"
DAY_S = 24 * 3600.0


def copy_of(path: Path) -> Path:
    """Where the copy of a store lies: state/copies/."""
    return path.parent / FOLDER / path.name


def damaged(path: Path, why: str) -> GallantError:
    """What to say of a store that cannot be had again: it is brought back, never begun anew."""
    copy = copy_of(path)
    told = made_at(copy)
    if told is None:
        return GallantError(
            f"{path} is damaged: {why}.",
            "What it held cannot be asked for again, and there is no copy of it here.",
            "Bring it back from your own backup of the estate's folder; gallant doctor looks at all of it.",
        )
    return GallantError(
        f"{path} is damaged: {why}.",
        f"What it held cannot be asked for again; a checked copy of {told:%Y-%m-%d %H:%M}Z lies in {copy}.",
        "gallant doctor --mend brings it back, and keeps the damaged file next to it.",
    )


def made_at(copy: Path) -> datetime | None:
    """When a copy was made; None where there is none."""
    with contextlib.suppress(OSError):
        if copy.is_file() and copy.stat().st_size:
            return datetime.fromtimestamp(copy.stat().st_mtime, UTC)
    return None


def is_due(path: Path) -> bool:
    """Whether the copy is a day old, or of a day to come, or there is none."""
    made = made_at(copy_of(path))
    return made is None or not 0 <= time.time() - made.timestamp() <= DAY_S


def problems_of(db: sqlite3.Connection) -> list[str]:
    """What SQLite finds wrong with a whole database, row by row of its pages and indexes; empty where all is well."""
    return [text for (text,) in db.execute("PRAGMA integrity_check(20)") if text != "ok"]


def keep_copy(db: sqlite3.Connection, path: Path) -> None:
    """Make the copy of an open store. One that is not whole does not take the place of the one before.

    Raises `GallantError` where it cannot be made: what is not kept twice is told.
    """
    copy = copy_of(path)
    partial = copy.with_name(f".{copy.name}.{os.getpid()}")
    try:
        make_folder(copy.parent)
        refuse_link(partial)
        partial.unlink(missing_ok=True)
        make_file(partial)
        with contextlib.closing(sqlite3.connect(partial, isolation_level=None)) as into:
            db.backup(into)
            into.execute("PRAGMA journal_mode = DELETE")  # one file, whole in itself
            found = problems_of(into)
        if found:
            partial.unlink(missing_ok=True)
            raise damaged(path, found[0])
        with partial.open("rb") as file:
            os.fsync(file.fileno())
        os.replace(partial, copy)
        sync_folder(copy.parent)
    except (sqlite3.Error, OSError) as error:
        with contextlib.suppress(OSError):
            partial.unlink(missing_ok=True)
        raise GallantError(
            f"No copy of {path} could be made: {error}.",
            "The store itself goes on; it is not kept twice just now.",
            "Look at the free space and at the rights of state/copies; then: gallant doctor",
        ) from None


def was_brought_back(estate_folder: Path, name: str) -> bool:
    """Whether a copy took the place of a store here, whose damaged file is kept beside it."""
    return any((estate_folder / "state").glob(f"{name}.damaged-*"))


def bring_back(path: Path) -> Path:
    """Put a store's copy in its place; gives where the damaged file is kept. Raises `GallantError` where there is
    none."""
    copy = copy_of(path)
    if made_at(copy) is None:
        raise damaged(path, "there is no copy to bring back")
    aside = path.with_name(f"{path.name}.damaged-{datetime.now(UTC):%Y%m%d-%H%M%S}")
    partial = path.with_name(f".{path.name}.back")
    partial.unlink(missing_ok=True)
    with writing(partial) as into:
        into.write(copy.read_bytes())
    for ending in ("", "-wal", "-shm"):
        file = path.with_name(path.name + ending)
        if file.exists():
            os.replace(file, aside.with_name(aside.name + ending))
    os.replace(partial, path)
    sync_folder(path.parent)
    return aside
