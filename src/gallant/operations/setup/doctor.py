"""Gallant's own health: its stores and their copies, keys, rights, free space and clock; what is wrong, and what would
be done about it. It changes nothing by itself, and works where a store does not."""

from __future__ import annotations

import contextlib
import ctypes
import os
import shlex
import shutil
import sqlite3
import stat
import sys
from collections.abc import Callable, Iterator
from datetime import datetime, timedelta
from pathlib import Path

import msgspec

from gallant.core.decide.ledger import Kept, LedgerEntry, chain_problems
from gallant.core.errors import GallantError
from gallant.core.readings import Reading
from gallant.core.records import Record
from gallant.core.work.events import Entry
from gallant.core.work.plan import Plan
from gallant.disk import OF_GROUP
from gallant.operations.ground import written
from gallant.operations.ground.alone import holder
from gallant.operations.ground.rights import (
    give_to,
    most_rights,
    open_to_others,
    owned_by_others,
    owner_of,
    shut,
    team_of,
    writable_by_others,
)
from gallant.operations.ground.sharing import give_to_group, not_the_groups
from gallant.operations.ground.workplace import Workplace
from gallant.people import group_name
from gallant.store.copies import bring_back, copy_of, keep_copy, made_at, problems_of

COPY_AGE = timedelta(days=2)
LEAST_FREE, LITTLE_FREE = 100_000_000, 1_000_000_000  # bytes
TIME_ERROR = 5  # adjtimex(2): the kernel's clock is not kept by anybody
LATER = timedelta(minutes=5)
MOST_NAMED = 5

# Each store: whether it can be had again, and what decodes its rows (a query that gives a name and a raw value).
Rows = tuple[tuple[str, type[Record]], ...]  # a query, and the kind of record that its rows hold
STORES: tuple[tuple[str, bool, Rows], ...] = (
    ("journal.db", True, (
        ("SELECT id, plan FROM rolls", Plan),
        ("SELECT roll || ' entry ' || seq, entry FROM events", Entry),
    )),
    ("ledger.db", True, (("SELECT 'entry ' || seq, entry FROM ledger", LedgerEntry),)),
    ("readings.db", False, (
        ("SELECT system || '/' || node, reading FROM readings WHERE reading IS NOT NULL", Reading),
    )),
)  # fmt: skip


class Examined(Record):
    """One thing that was looked at. `would` is what would be done about it, `mend` the way in which Gallant itself can,
    and `path` the file or folder that it is done to; `group` is the number of the group that it is given to."""

    about: str
    subject: str
    level: str
    seen: str
    would: str | None = None
    mend: str | None = None
    path: str | None = None
    group: int | None = None


def examine(place: Workplace, group: int | None = None) -> list[Examined]:
    """Everything, the worst first; also whether the estate is that of a
    `group`, by its number, where one is given or works on it already."""
    found = [row for part in (_space, _stores, _written, _keys, _rights, _owners, _due, _clock) for row in part(place)]
    found += _of_group(place, team_of(place.folder) if group is None else group)
    order = ("stop", "warn", "note", "pass")
    return sorted(found, key=lambda row: order.index(row.level))


def exit_code(rows: list[Examined]) -> int:
    """1 where anything is wrong that somebody has to see to."""
    return 1 if any(row.level in ("stop", "warn") for row in rows) else 0


def _stores(place: Workplace) -> Iterator[Examined]:
    for name, kept, rows in STORES:
        path = place.folder / "state" / name
        try:
            problems = _read_twice(path, rows, kept)
        except sqlite3.Error as error:
            yield Examined(
                about="store",
                subject=name,
                level="stop",
                seen=f"it cannot be read now, and is not called damaged for that: {error}",
                would="look at the disk, at rights and at what else has it open; then: gallant doctor",
            )
            continue
        if problems is None:
            yield Examined(about="store", subject=name, level="note", seen="it is not there yet")
        elif not problems:
            yield Examined(about="store", subject=name, level="pass", seen=f"whole, {path.stat().st_size / 1e6:.1f} MB")
            if kept:
                yield _its_copy(path)
        else:
            more = f"; and {len(problems) - MOST_NAMED} more" if len(problems) > MOST_NAMED else ""
            yield Examined(
                about="store",
                subject=name,
                level="stop",
                seen=f"damaged: {'; '.join(problems[:MOST_NAMED])}{more}",
                would=_way_back(path, rows, kept),
                mend="bring back" if kept and _is_whole(copy_of(path), rows) else None,
            )


def _way_back(path: Path, rows: Rows, kept: bool) -> str:
    if not kept:
        return (
            f"mv {path} {path}.damaged, then: gallant survey; gallant catalog add NAME SOURCE --key FILE for each that"
            " was followed"
        )
    told = made_at(copy_of(path))
    if told is None or not _is_whole(copy_of(path), rows):
        return f"bring {path.name} back from your own backup of the estate's folder"
    return (
        f"bring back the copy of {told:%Y-%m-%d %H:%M}Z, and keep the damaged file next to it; what came after is lost"
    )


# What SQLite says of a file that is none of its own, or not whole;
# all else is about the disk, rights, or somebody who has it.
OF_THE_FILE = (sqlite3.SQLITE_CORRUPT, sqlite3.SQLITE_NOTADB)


def _read_twice(path: Path, rows: Rows, kept: bool) -> list[str] | None:
    """What both of two readings found wrong with a store: a disk that errs once
    damages nothing. Raises `sqlite3.Error` where it cannot be read."""
    found = _looked_through(path, rows, kept)
    return _looked_through(path, rows, kept) if found else found


def _is_whole(path: Path, rows: Rows) -> bool:
    """Whether a copy is there, has something in it, and can be read."""
    try:
        return path.exists() and path.stat().st_size > 0 and not _looked_through(path, rows, False)
    except sqlite3.Error:
        return False


def _looked_through(path: Path, rows: Rows, kept: bool) -> list[str] | None:
    """What is wrong with a store, down to its rows; None where there
    never was one. Raises `sqlite3.Error` where that is not known."""
    if not path.exists() or not path.stat().st_size:
        if kept and made_at(copy_of(path)) is not None:
            return ["it is gone" if not path.exists() else "it is empty"]
        return None if not path.exists() else []
    try:
        with contextlib.closing(_looking(path)) as db:
            if problems := problems_of(db):
                return problems
            found = [problem for query, kind in rows for problem in _undecoded(db, query, kind)]
            return found or (_chain(db) if path.name == "ledger.db" else [])
    except sqlite3.Error as error:
        if (getattr(error, "sqlite_errorcode", 0) & 0xFF) not in OF_THE_FILE:
            raise
        return [str(error)]


def _looking(path: Path) -> sqlite3.Connection:
    return sqlite3.connect(f"{path.resolve().as_uri()}?mode=ro", uri=True, timeout=10.0)


def _undecoded(db: sqlite3.Connection, query: str, kind: type[Record]) -> Iterator[str]:
    decode = msgspec.json.Decoder(kind).decode
    for name, raw in db.execute(query):
        try:
            decode(raw)
        except (msgspec.MsgspecError, ValueError, TypeError):
            yield f"{name} cannot be read"


def _chain(db: sqlite3.Connection) -> list[str]:
    rows = db.execute("SELECT seq, entry, hash FROM ledger ORDER BY seq")
    return chain_problems(Kept(seq=s, entry=msgspec.json.decode(raw, type=LedgerEntry), hash=h) for s, raw, h in rows)


def _its_copy(path: Path) -> Examined:
    """The copy of a store that is whole: of a damaged one none is made."""
    told = made_at(copy_of(path))
    old = told is None or datetime.now(told.tzinfo) - told > COPY_AGE
    return Examined(
        about="copy",
        subject=f"copies/{path.name}",
        level="warn" if old else "pass",
        seen="there is none" if told is None else f"of {told:%Y-%m-%d %H:%M}Z",
        would="make one now" if old else None,
        mend="copy" if old else None,
    )


def _written(place: Workplace) -> Iterator[Examined]:
    """What people and first sights wrote down beside the stores."""
    for file in written.FILES:
        told = written.copy_made(file, place.folder)
        if told is None and not file.path(place.folder).exists():
            continue
        try:
            written.read(file, place.folder)
        except GallantError as error:
            yield Examined(
                about="store",
                subject=file.name,
                level="stop",
                seen=error.what,
                would=error.next,
                mend="bring back file" if told else None,
            )
            continue
        yield Examined(about="store", subject=file.name, level="pass", seen="whole")
        if told is None:
            yield Examined(
                about="copy",
                subject=f"copies/{file.name}",
                level="warn",
                seen="there is none",
                would="make one now",
                mend="copy file",
            )


def _keys(place: Workplace) -> Iterator[Examined]:
    estate = place.estate
    accounts = {f"accounts: {purpose}": account for purpose, account in estate.accounts.items()}
    for system in estate.systems.values():
        accounts |= {f"{system.name}, accounts: {purpose}": account for purpose, account in system.accounts.items()}
    for name, account in accounts.items():
        kind, _, where = account.secret.partition(":")
        if kind in ("file", "key"):
            yield _private(name, place.folder / where)
        elif kind == "env" and where not in os.environ:
            yield Examined(about="key", subject=name, level="note", seen=f"${where} is not set in this shell")
    if estate.backups.identity is not None:
        yield _private("backups: identity", place.folder / estate.backups.identity)
    if not estate.backups.recipients and not estate.backups.plain:
        yield Examined(
            about="key",
            subject="backups: recipients",
            level="warn",
            seen="nobody can open the backups, so none is taken",
            would="gallant init --identity FILE makes a key; its recipient goes into estate.yaml",
        )


def _private(name: str, path: Path) -> Examined:
    try:
        mode = stat.S_IMODE(path.stat().st_mode)
        path.read_bytes()
    except OSError as error:
        return Examined(
            about="key",
            subject=name,
            level="warn",
            seen=f"{path}: {error.strerror}",
            would="put it where estate.yaml says it is",
        )
    if mode & 0o077:
        return Examined(
            about="key",
            subject=name,
            level="stop",
            seen=f"{path} can be read by others",
            would=f"chmod 600 {shlex.quote(str(path))}",
            mend="keep private",
            path=str(path),
        )
    return Examined(about="key", subject=name, level="pass", seen=f"{path} is its owner's alone")


def _rights(place: Workplace) -> Iterator[Examined]:
    wrong = dict.fromkeys(writable_by_others(place.folder), "can be written by others")
    wrong |= dict.fromkeys(open_to_others(place.folder), "can be looked into by others")
    for path, seen in wrong.items():
        name = "." if path == place.folder else str(path.relative_to(place.folder))
        yield Examined(
            about="rights",
            subject=name,
            level="warn",
            seen=seen,
            would=f"chmod {'o' if _rights_over(place, path) == OF_GROUP.others else 'go'}-rwx {shlex.quote(str(path))}",
            mend="shut",
            path=str(path),
        )
    if not wrong:
        yield Examined(about="rights", subject="the estate's folder", level="pass", seen="its owner's alone to write")


def _owners(place: Workplace) -> Iterator[Examined]:
    """What somebody else made in the estate's folder, as a look that
    root had, and that its owner may not be able to read."""
    wrong = [str(path.relative_to(place.folder)) for path in owned_by_others(place.folder)]
    if wrong:
        more = f" and {len(wrong) - MOST_NAMED} more" if len(wrong) > MOST_NAMED else ""
        yield Examined(
            about="owner",
            subject="the estate's folder",
            level="warn",
            seen=f"{', '.join(wrong[:MOST_NAMED])}{more} are not {owner_of(place.folder)}'s, whose folder it is",
            would=f"give them to {owner_of(place.folder)}",
            mend="give back",
        )


def _rights_over(place: Workplace, path: Path) -> int:
    return most_rights(path, path.lstat().st_gid, place.folder, team_of(place.folder))


def _of_group(place: Workplace, gid: int | None) -> Iterator[Examined]:
    if gid is None:
        return
    name = group_name(gid)
    wrong = [
        "." if path == place.folder else str(path.relative_to(place.folder)) for path in not_the_groups(place, gid)
    ]
    more = f" and {len(wrong) - MOST_NAMED} more" if len(wrong) > MOST_NAMED else ""
    if not wrong:
        yield Examined(about="group", subject=name, level="pass", seen="its members can work on the estate")
        return
    yield Examined(
        about="group",
        subject=name,
        level="warn",
        seen=f"its members cannot work with {', '.join(wrong[:MOST_NAMED])}{more}",
        would=f"give the estate to {name} (folders 2770, files 660); secrets and identities stay their owner's alone",
        mend="give to the group",
        group=gid,
    )


def _due(place: Workplace) -> Iterator[Examined]:
    one = holder(place)
    if one is not None:
        yield Examined(
            about="due",
            subject=f"process {one.pid}",
            level="stop" if one.hangs else "pass",
            seen=one.trouble if one.hangs else "it looks at what is due",
            would=one.way_out if one.hangs else None,
        )


def _space(place: Workplace) -> Iterator[Examined]:
    seen: set[int] = set()
    for path in (place.folder, *(place.folder / name for name in ("state", "stock", "backups"))):
        if not path.exists() or (disk := path.stat().st_dev) in seen:
            continue
        seen.add(disk)
        if os.statvfs(path).f_flag & os.ST_RDONLY:
            yield Examined(
                about="space",
                subject=str(path),
                level="stop",
                seen="it is mounted read-only, so nothing can be written down",
                would="mount it to be written to; a disk that errs is mounted so by itself",
            )
            continue
        free = shutil.disk_usage(path).free
        level = "stop" if free < LEAST_FREE else "warn" if free < LITTLE_FREE else "pass"
        yield Examined(
            about="space",
            subject=str(path),
            level=level,
            seen=f"{free / 1e9:.1f} GB free",
            would=None if level == "pass" else "make room: gallant stock prune, gallant backup prune",
        )


def _clock(place: Workplace) -> Iterator[Examined]:
    newest = _newest(place)
    now = place.clock.now()
    if newest is not None and newest > now + LATER:
        yield Examined(
            about="clock",
            subject="this host",
            level="stop",
            seen=f"it is {now:%Y-%m-%d %H:%M}Z here, and the ledger has an entry of {newest:%Y-%m-%d %H:%M}Z",
            would="set the clock of this host before anything else is done",
        )
    kept = _kept_by_kernel()
    if kept is not None:
        yield Examined(
            about="clock",
            subject="time service",
            level="pass" if kept else "warn",
            seen="it keeps this host's clock" if kept else "nothing keeps this host's clock",
            would=None if kept else "start a time service on this host; certificates and catalogs end by this clock",
        )


def _newest(place: Workplace) -> datetime | None:
    path, found = place.folder / "state" / "ledger.db", []
    if not path.exists():
        return None
    with contextlib.suppress(sqlite3.Error), contextlib.closing(_looking(path)) as db:
        for (raw,) in db.execute("SELECT entry FROM ledger"):
            with contextlib.suppress(msgspec.MsgspecError, ValueError, TypeError):
                found.append(msgspec.json.decode(raw, type=LedgerEntry).at)
    return max(found, default=None)


def _kept_by_kernel() -> bool | None:
    """Whether something keeps the kernel's clock in time
    (adjtimex(2), asked with no change); None where it cannot be told."""
    if sys.platform != "linux":
        return None
    buffer = ctypes.create_string_buffer(512)  # struct timex, all zero: modes = 0 only reads
    state = ctypes.CDLL(None).adjtimex(buffer)
    return None if state < 0 else state != TIME_ERROR


def mend(place: Workplace, rows: list[Examined], sure: Callable[[str], bool]) -> list[tuple[Examined, str]]:
    """What can be mended here, asked for each; what was done about it. Raises `GallantError` where it could not be."""
    done = []
    for row in rows:
        if row.mend is not None and sure(f"{row.subject}: {row.would}?"):
            done.append((row, MENDS[row.mend](place, row)))
    return done


def _bring_back(place: Workplace, row: Examined) -> str:
    aside = bring_back(place.folder / "state" / row.subject)
    return f"the copy is in its place; what was there is {aside.name}"


def _copy(place: Workplace, row: Examined) -> str:
    path = place.folder / "state" / Path(row.subject).name
    with contextlib.closing(sqlite3.connect(path, timeout=10.0, isolation_level=None)) as db:
        keep_copy(db, path)
    return "a copy was made"


def _shut(place: Workplace, row: Examined) -> str:
    assert row.path is not None  # it is what such a row is about
    shut(Path(row.path), _rights_over(place, Path(row.path)))
    return "others can do nothing with it any more"


def _keep_private(place: Workplace, row: Examined) -> str:
    assert row.path is not None  # as above
    shut(Path(row.path))
    return "nobody but its owner can do anything with it any more"


def _give_to_group(place: Workplace, row: Examined) -> str:
    assert row.group is not None  # it is what such a row is about
    count = give_to_group(place, row.group)
    return f"{count} files and folders are its members' to work with"


def _give_back(place: Workplace, row: Examined) -> str:
    count = 0
    for path in owned_by_others(place.folder):
        give_to(path, place.folder)
        count += 1
    return f"{count} files and folders are {owner_of(place.folder)}'s again"


def _file_of(row: Examined) -> written.Written[object]:
    return next(file for file in written.FILES if file.name == Path(row.subject).name)


def _bring_file_back(place: Workplace, row: Examined) -> str:
    aside = written.bring_back(_file_of(row), place.folder)
    return f"the copy is in its place; what was there is {aside.name}"


def _copy_file(place: Workplace, row: Examined) -> str:
    written.keep_copy(_file_of(row), place.folder)
    return "a copy was made"


MENDS: dict[str, Callable[[Workplace, Examined], str]] = {
    "bring back": _bring_back,
    "copy": _copy,
    "bring back file": _bring_file_back,
    "copy file": _copy_file,
    "shut": _shut,
    "keep private": _keep_private,
    "give to the group": _give_to_group,
    "give back": _give_back,
}
