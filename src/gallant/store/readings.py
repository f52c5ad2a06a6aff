"""Readings, surveys and catalogs: `state/readings.db`. All of it can be had again by asking; the journal is
elsewhere."""

from __future__ import annotations

import contextlib
import hashlib
from collections.abc import Iterable, Sequence
from datetime import datetime
from pathlib import Path

import msgspec

from gallant.core.checks.facts import Finding
from gallant.core.errors import GallantError
from gallant.core.estate.sources import Access, News, Source
from gallant.core.readings import Gauge, HeldSurvey, Last, Reading, lasting
from gallant.core.records import clean, replace, rfc3339
from gallant.store.database import WHOSE, SchemaStep, open_database, state_folder, transaction, write

SCHEMA = (
    SchemaStep(
        "surveys, readings and sources",
        """
    CREATE TABLE surveys (id INTEGER PRIMARY KEY, began TEXT NOT NULL, ended TEXT, whole INTEGER NOT NULL DEFAULT 0);
    CREATE TABLE readings (
        survey INTEGER NOT NULL REFERENCES surveys (id), system TEXT NOT NULL, node TEXT NOT NULL, taken TEXT NOT NULL,
        reading BLOB, error TEXT, PRIMARY KEY (system, node, survey)
    ) WITHOUT ROWID;
    CREATE TABLE sources (
        name TEXT PRIMARY KEY, source TEXT NOT NULL, key TEXT NOT NULL, added TEXT NOT NULL,
        checked TEXT, problem TEXT, serial INTEGER NOT NULL DEFAULT 0, sha256 TEXT, fetched TEXT, raw BLOB
    )
    """,
    ),
    SchemaStep(
        "a source's entity tag",
        "ALTER TABLE sources ADD COLUMN tag TEXT",
    ),
    SchemaStep(
        "how a source is reached, its news, and since when a notice is known",
        """
    ALTER TABLE sources ADD COLUMN access TEXT;
    ALTER TABLE sources ADD COLUMN news TEXT;
    ALTER TABLE sources ADD COLUMN state TEXT;
    CREATE TABLE noticed (name TEXT NOT NULL, target TEXT NOT NULL, since TEXT NOT NULL, PRIMARY KEY (name, target))
        WITHOUT ROWID
    """,
    ),
    SchemaStep(
        "stretches of surveys that found the same, and what a device said before",
        """
    ALTER TABLE readings ADD COLUMN since_survey INTEGER;
    ALTER TABLE readings ADD COLUMN since TEXT;
    ALTER TABLE readings ADD COLUMN mark TEXT;
    CREATE INDEX readings_since ON readings (system, node, since);
    CREATE TABLE heard (node TEXT NOT NULL, call TEXT NOT NULL, tag TEXT NOT NULL, fields BLOB NOT NULL,
        PRIMARY KEY (node, call)) WITHOUT ROWID
    """,
    ),
    SchemaStep(
        "the last checks",
        """
    CREATE TABLE checked (system TEXT NOT NULL, at TEXT NOT NULL, findings BLOB NOT NULL, PRIMARY KEY (system, at))
        WITHOUT ROWID
    """,
    ),
    WHOSE,
    SchemaStep(
        "catalogs that are no longer followed, and how far they had come",
        "CREATE TABLE parted (key TEXT PRIMARY KEY, serial INTEGER NOT NULL) WITHOUT ROWID",
    ),
    SchemaStep(
        "the numbers of the last days, each time that they were read",
        """
    CREATE TABLE gauged (system TEXT NOT NULL, node TEXT NOT NULL, at TEXT NOT NULL, gauges BLOB NOT NULL,
        PRIMARY KEY (system, node, at)) WITHOUT ROWID
    """,
    ),
)

INSERT_SURVEY = "INSERT INTO surveys (began) VALUES (?)"
END_SURVEY = "UPDATE surveys SET ended = ?, whole = 1 WHERE id = ?"
# A row is a stretch of surveys that all found the same: from `since` to `taken`, with the newest reading of them.
INSERT_READING = """INSERT INTO readings (survey, system, node, taken, reading, error, since_survey, since, mark)
    VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)"""
EXTEND_READING = "UPDATE readings SET survey = ?, taken = ?, reading = ? WHERE system = ? AND node = ? AND survey = ?"
LAST_ROWS = (
    "SELECT system, node, max(survey), mark FROM readings WHERE (system, node) IN (VALUES {}) GROUP BY system, node"
)
# With max(), SQLite takes the bare columns from the row that holds the maximum.
NEWEST_GOOD = (
    "SELECT system, node, max(survey), reading FROM readings WHERE reading IS NOT NULL AND {} GROUP BY system, node"
)
# The reading of the survey before: of the stretch before where the newest began with the newest survey, else the same.
BEFORE_NEWEST = """SELECT reading, max(survey) FROM readings AS r
    WHERE reading IS NOT NULL AND coalesce(since_survey, survey) <
    (SELECT max(survey) FROM readings WHERE system = r.system AND node = r.node AND reading IS NOT NULL)
    GROUP BY system, node"""
# What was known at a moment: the stretch that had begun by then last.
AS_OF = """SELECT system, node, max(coalesce(since, taken)), reading, min(taken, ?) FROM readings
    WHERE reading IS NOT NULL AND coalesce(since, taken) <= ? GROUP BY system, node"""
SURVEYS = "SELECT id, began, ended, whole FROM surveys ORDER BY id DESC"
PRUNE = """DELETE FROM readings WHERE taken < ? AND survey < (SELECT max(survey) FROM readings AS n
    WHERE n.system = readings.system AND n.node = readings.node AND n.reading IS NOT NULL)"""
NEWEST = "SELECT system, node, max(survey), taken, error FROM readings WHERE {} GROUP BY system, node"
GAUGED = "SELECT node, at, gauges FROM gauged WHERE system = ? AND at <= ? ORDER BY at"
GAUGED_DAYS = 8  # for which every number is kept; of longer ago there is the newest of each stretch
# Held against the newest survey, not against a clock: what nobody reads any more does not go.
PRUNE_GAUGED = "DELETE FROM gauged WHERE at < (SELECT strftime('%Y-%m-%dT%H:%M:%S', max(began), ?) FROM surveys)"
NOTICED_OF = "SELECT name, target, since FROM noticed WHERE name IN (SELECT value FROM json_each(?))"
MOST_NAMED = 500  # systems in one question; for more of them everything is read
UPSERT_SOURCE = """INSERT INTO sources (name, source, key, added, access) VALUES (?, ?, ?, ?, ?)
    ON CONFLICT (name) DO UPDATE SET source = excluded.source, access = excluded.access, tag = NULL"""
SOURCES = (
    "SELECT name, source, key, added, checked, problem, serial, sha256, fetched, tag, state, access, news FROM sources"
    " ORDER BY name"
)
REMOVE = "DELETE FROM sources WHERE name = ?"
PART = """INSERT INTO parted (key, serial) SELECT key, serial FROM sources WHERE name = ? AND serial > 0
    ON CONFLICT (key) DO UPDATE SET serial = max(serial, excluded.serial)"""
# The one that it had come to may be taken in once more; nothing of it was kept.
REJOIN = """UPDATE sources SET serial = (SELECT serial - 1 FROM parted WHERE parted.key = sources.key)
    WHERE name = ? AND serial < (SELECT serial - 1 FROM parted WHERE parted.key = sources.key)"""
RAW = "SELECT raw FROM sources WHERE name = ?"
TRUST = "UPDATE sources SET key = ?, tag = NULL WHERE name = ?"
CHECKED = "UPDATE sources SET checked = ?, problem = ?, state = ? WHERE name = ?"
# One statement, so that what was seen and the serial that guards it never part.
KEEP = (
    "UPDATE sources SET checked = ?, problem = NULL, state = 'reachable', serial = ?, sha256 = ?, fetched = ?, raw = ?,"
    " tag = ?, news = ? WHERE name = ? AND serial <= ?"
)


def _mark(reading: Reading) -> str:
    """What tells whether a node says the same as before; records have their fields in one order, so nothing is
    sorted."""
    return hashlib.sha256(msgspec.json.encode(lasting(reading))).hexdigest()


_TO_READING = msgspec.json.Decoder(Reading)


def _read_back(raw: bytes | None) -> Reading | None:
    """A reading as it was kept; None where its row is damaged, or there is none."""
    try:
        return None if raw is None else _TO_READING.decode(raw)
    except (msgspec.MsgspecError, ValueError, TypeError):
        return None


class ReadingStore:
    """Opened once a command; short batches, so that a long survey never blocks another reader."""

    def __init__(self, estate_folder: Path, estate: str | None = None) -> None:
        path = state_folder(estate_folder) / "readings.db"
        self._db = open_database(path, SCHEMA, synchronous="NORMAL", estate=estate)
        self._heard: dict[tuple[str, str], tuple[str, bytes]] = {}
        self._told: set[str] | None = None  # of which nodes anything was heard

    def close(self) -> None:
        self._db.close()

    # --- surveys

    def begin_survey(self, now: datetime) -> int:
        number = write(self._db, INSERT_SURVEY, (rfc3339(now),)).lastrowid
        assert number is not None
        return number

    def add(self, survey: int, rows: Iterable[tuple[str, str, datetime, Reading | None, str | None]]) -> None:
        """A batch of (system, node, taken, reading or None, error or None), kept on change.

        A node that says what it said before makes that row longer; only its moment and its gauges are new.
        """
        batch = list(rows)
        with transaction(self._db):
            places = ", ".join(["(?, ?)"] * len(batch))
            names = [name for system, node, *_ in batch for name in (system, node)]
            known = {row[:2]: row[2:] for row in self._db.execute(LAST_ROWS.format(places), names)} if batch else {}
            for system, node, taken, reading, error in batch:
                moment, raw = rfc3339(taken), None if reading is None else msgspec.json.encode(reading)
                mark = f"error {error}" if reading is None else _mark(reading)
                last, before = known.get((system, node), (None, None))
                if last is not None and before == mark and last != survey:
                    self._db.execute(EXTEND_READING, (survey, moment, raw, system, node, last))
                else:
                    self._db.execute(INSERT_READING, (survey, system, node, moment, raw, error, survey, moment, mark))
            self._db.executemany(
                "INSERT OR REPLACE INTO gauged (system, node, at, gauges) VALUES (?, ?, ?, ?)",
                [
                    (system, node, rfc3339(taken), msgspec.json.encode(reading.gauges))
                    for system, node, taken, reading, _ in batch
                    if reading is not None and reading.gauges
                ],
            )
            self._write_heard()

    def gauged(self, system: str, until: datetime) -> list[tuple[str, datetime, tuple[Gauge, ...]]]:
        """What the nodes of a system said in numbers, each time that they were
        read in the last days: (node, when, numbers), oldest first."""
        found = []
        for node, at, raw in self._db.execute(GAUGED, (system, rfc3339(until))):
            with contextlib.suppress(msgspec.MsgspecError, ValueError, TypeError):  # a damaged row is one point less
                found.append((node, datetime.fromisoformat(at), msgspec.json.decode(raw, type=tuple[Gauge, ...])))
        return found

    def end_survey(self, survey: int, now: datetime) -> None:
        """Mark a survey as whole: everything that was asked has answered or failed."""
        write(self._db, END_SURVEY, (rfc3339(now), survey))

    def prune(self, before: datetime) -> int:
        """Forget what was last seen before a moment and is not the newest known of its node; gives how many rows
        went."""
        with transaction(self._db):
            gone = self._db.execute(PRUNE, (rfc3339(before),)).rowcount
            self._db.execute("DELETE FROM checked WHERE at < ?", (rfc3339(before),))
            self._db.execute(PRUNE_GAUGED, (f"-{GAUGED_DAYS} days",))
            self._db.execute(
                "DELETE FROM surveys WHERE began < ? AND id NOT IN (SELECT survey FROM readings)", (rfc3339(before),)
            )
        return gone

    def surveys(self) -> list[HeldSurvey]:
        """Newest first."""
        return [
            HeldSurvey(
                number=number,
                began=datetime.fromisoformat(began),
                ended=datetime.fromisoformat(ended) if ended else None,
                whole=bool(whole),
            )
            for number, began, ended, whole in self._db.execute(SURVEYS)
        ]

    def as_of(self, moment: datetime) -> dict[str, Reading]:
        """By node name: the reading that was the newest at a moment; `taken` is when it was last confirmed by then."""
        text = rfc3339(moment)
        return {
            f"{system}/{node}": replace(reading, taken=datetime.fromisoformat(seen))
            for system, node, _, raw, seen in self._db.execute(AS_OF, (text, text))
            if (reading := _read_back(raw)) is not None
        }

    # --- what checks found

    def keep_findings(self, at: datetime, found: dict[str, list[Finding]]) -> None:
        """The findings of one run of the checks, by system."""
        with transaction(self._db):
            self._db.executemany(
                "INSERT OR REPLACE INTO checked (system, at, findings) VALUES (?, ?, ?)",
                [(system, rfc3339(at), msgspec.json.encode(rows)) for system, rows in found.items()],
            )

    def findings_before(self, system: str, moment: datetime) -> tuple[datetime, list[Finding]] | None:
        """The newest run of a system's checks at or before a moment; None where there was none."""
        row = self._db.execute(
            "SELECT max(at), findings FROM checked WHERE system = ? AND at <= ?", (system, rfc3339(moment))
        ).fetchone()
        if row is None or row[0] is None:
            return None
        try:
            return datetime.fromisoformat(row[0]), msgspec.json.decode(row[1], type=list[Finding])
        except (msgspec.MsgspecError, ValueError, TypeError):
            return None  # what was found then is not known any more; nothing is compared with it

    # --- what was heard, by the tags under which a device says that nothing changed

    def recall(self, node: str, call: str) -> tuple[str, dict[str, object]] | None:
        if self._told is None:
            self._told = {name for (name,) in self._db.execute("SELECT DISTINCT node FROM heard")}
        if node not in self._told:
            return None
        row = self._db.execute("SELECT tag, fields FROM heard WHERE node = ? AND call = ?", (node, call)).fetchone()
        try:
            return None if row is None else (row[0], msgspec.json.decode(row[1], type=dict[str, object]))
        except (msgspec.MsgspecError, ValueError, TypeError):
            return None  # then the device is asked for all of it

    def remember(self, node: str, call: str, tag: str, fields: dict[str, object]) -> None:
        """Kept with the next batch of readings."""
        self._heard[node, call] = (tag, msgspec.json.encode(fields))
        if self._told is not None:
            self._told.add(node)

    def _write_heard(self) -> None:
        rows = [(node, call, tag, raw) for (node, call), (tag, raw) in self._heard.items()]
        self._db.executemany("INSERT OR REPLACE INTO heard (node, call, tag, fields) VALUES (?, ?, ?, ?)", rows)
        self._heard.clear()

    def newest(self, systems: Sequence[str] | None = None) -> dict[str, Last]:
        """By node name: the last good reading, and how the newest try ended; of every system, or of some."""
        if systems is not None and len(systems) > MOST_NAMED:
            every, named = self.newest(), set(systems)
            return {name: last for name, last in every.items() if name.partition("/")[0] in named}
        of = "1" if systems is None else f"system IN ({', '.join('?' * len(systems))})"
        good = {(s, n): raw for s, n, _, raw in self._db.execute(NEWEST_GOOD.format(of), systems or ())}
        found = {}
        for system, node, _, taken, error in self._db.execute(NEWEST.format(of), systems or ()):
            raw = good.get((system, node))
            reading = _read_back(raw)
            if raw is not None and reading is None:
                error = (
                    f"{system}/{node}: what was kept of it is damaged; gallant survey {system}/{node} reads it again"
                )
            found[f"{system}/{node}"] = Last(reading=reading, tried=datetime.fromisoformat(taken), error=error)
        return found

    def before_newest(self) -> dict[str, Reading]:
        """By node name: the good reading before the newest one, where there is one."""
        found = (_read_back(raw) for raw, _ in self._db.execute(BEFORE_NEWEST))
        return {reading.name: reading for reading in found if reading is not None}

    # --- notices

    def noticed(self, names: Iterable[tuple[str, str]], now: datetime) -> dict[tuple[str, str], datetime]:
        """When each (notice, target) was first seen; those that never were are seen now, and written down."""
        names = list(names)
        moments: dict[str, datetime] = {}  # a survey brings many notices at one moment
        found: dict[tuple[str, str], datetime] = {}
        if len(names) <= MOST_NAMED:
            asked = msgspec.json.encode(sorted({name for name, _ in names})).decode()
            rows = self._db.execute(NOTICED_OF, (asked,))
        else:
            rows = self._db.execute("SELECT name, target, since FROM noticed")
        for name, target, since in rows:
            known = moments.get(since)
            found[name, target] = known or moments.setdefault(since, datetime.fromisoformat(since))
        if new := [key for key in names if key not in found]:
            written = rfc3339(now)
            with transaction(self._db):
                self._db.executemany(
                    "INSERT OR IGNORE INTO noticed (name, target, since) VALUES (?, ?, ?)",
                    [(*key, written) for key in new],
                )
            found |= dict.fromkeys(new, datetime.fromisoformat(written))
        return found

    # --- catalogs

    def add_source(self, name: str, source: str, key: str, now: datetime, access: Access | None = None) -> None:
        """Follow a source, or follow it from another place or in another way; its key and its serial stay."""
        kept = None if access is None else msgspec.json.encode(access)
        with transaction(self._db):
            self._db.execute(UPSERT_SOURCE, (name, source, key, rfc3339(now), kept))
            self._db.execute(REJOIN, (name,))

    def remove_source(self, name: str) -> None:
        """Follow a source no more. Its serial is remembered by its key:
        to follow it again is no way back to an old catalog."""
        with transaction(self._db):
            self._db.execute(PART, (name,))
            self._db.execute(REMOVE, (name,))

    def sources(self) -> list[Source]:
        fields = ("name", "source", "key", "added", "checked", "problem", "serial", "sha256", "fetched", "tag", "state")
        found = []
        for *row, access, news in self._db.execute(SOURCES):
            said = dict(zip(fields, row, strict=True))
            try:
                how = msgspec.json.decode(access) if access else None
                more = {"access": how, "news": msgspec.json.decode(news) if news else []}
                found.append(msgspec.convert({**said, **more}, Source))
            except (msgspec.MsgspecError, ValueError, TypeError):
                raise GallantError(
                    f"{self._db.path}: the row of the catalog {clean(str(row[0]), 60)} is damaged.",
                    "How it is reached, and what key it is held against, is not guessed at.",
                    f"mv {self._db.path} {self._db.path}.damaged, then: gallant survey; gallant catalog add NAME SOURCE"
                    " --key FILE for each that was followed",
                ) from None
        return found

    def raw_catalog(self, name: str) -> bytes | None:
        """The bytes of the last catalog that was accepted."""
        row = self._db.execute(RAW, (name,)).fetchone()
        return None if row is None else row[0]

    def note_check(self, name: str, now: datetime, problem: str | None, state: str = "reachable") -> None:
        write(self._db, CHECKED, (rfc3339(now), problem, state, name))

    def trust_key(self, name: str, key: str) -> None:
        """Pin another key. The serial stays: a new key is not a way back to an old catalog."""
        write(self._db, TRUST, (key, name))

    def keep_catalog(
        self, name: str, serial: int, sha256: str, raw: bytes, tag: str | None, news: Sequence[News], now: datetime
    ) -> bool:
        """Keep an accepted catalog; False when a higher serial was accepted meanwhile."""
        moment, said = rfc3339(now), msgspec.json.encode(news)
        return write(self._db, KEEP, (moment, serial, sha256, moment, raw, tag, said, name, serial)).rowcount == 1
