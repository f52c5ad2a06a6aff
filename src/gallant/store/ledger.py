"""The ledger's file, `state/ledger.db`: appended to under a lock, every entry on disk before its decision counts."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from pathlib import Path

import msgspec

from gallant.core.decide.hands import Hand
from gallant.core.decide.ledger import FIRST, Kept, LedgerEntry, next_hash
from gallant.core.errors import GallantError
from gallant.store import hands
from gallant.store.copies import damaged, keep_copy
from gallant.store.database import WHOSE, SchemaStep, open_database, state_folder, transaction


def _field(name: str) -> str:
    text = "CAST(entry AS TEXT)"
    return f"CASE WHEN json_valid({text}) THEN json_extract({text}, '$.{name}') END"


SCHEMA = (
    SchemaStep(
        "the chain of decisions",
        "CREATE TABLE ledger (seq INTEGER PRIMARY KEY, entry BLOB NOT NULL, hash TEXT NOT NULL)",
    ),
    SchemaStep(
        "what a place was not told yet",
        "CREATE TABLE untold (place TEXT NOT NULL, seq INTEGER NOT NULL, PRIMARY KEY (place, seq)) WITHOUT ROWID",
    ),
    WHOSE,
    # What an entry is about, so that the whole ledger is not read to answer for one system;
    # derived from the entry itself, so that no entry can be hidden by them. One that cannot
    # be read has neither: it may be about anything, and every question meets it.
    SchemaStep(
        "kind and subject, by which entries are asked for",
        f"""
    ALTER TABLE ledger ADD COLUMN kind TEXT GENERATED ALWAYS AS ({_field("kind")}) VIRTUAL;
    ALTER TABLE ledger ADD COLUMN subject TEXT GENERATED ALWAYS AS ({_field("subject")}) VIRTUAL;
    CREATE INDEX ledger_about ON ledger (kind, subject)
    """,
    ),
)
EVERY = "SELECT seq, entry, hash FROM ledger ORDER BY seq"
NEWEST = "SELECT seq, entry, hash FROM ledger ORDER BY seq DESC LIMIT ?"
# By kind, and by how the subject begins: every text that begins so
# comes before the beginning and the last letter there is.
ABOUT = """SELECT seq, entry, hash FROM ledger
    WHERE kind IN (SELECT value FROM json_each(?)) AND subject >= ? AND subject < ?
    UNION ALL SELECT seq, entry, hash FROM ledger WHERE kind IS NULL ORDER BY seq"""
LAST_LETTER = "\U0010ffff"
UNTOLD = "SELECT seq, entry, hash FROM ledger JOIN untold USING (seq) WHERE place = ? ORDER BY seq"
LAST = "SELECT seq, hash FROM ledger ORDER BY seq DESC LIMIT 1"
APPEND = "INSERT INTO ledger (seq, entry, hash) VALUES (?, ?, ?)"


class LedgerStore:
    """Opened once a command. Entries are only ever added."""

    def __init__(self, estate_folder: Path, estate: str | None = None) -> None:
        self._path = state_folder(estate_folder) / "ledger.db"
        self._db = open_database(self._path, SCHEMA, synchronous="FULL", estate=estate, kept=True)

    def close(self) -> None:
        self._db.close()

    def append(self, entry: LedgerEntry, places: Sequence[str] = ()) -> Kept:
        """Add an entry, and note in the same breath whom it is still to be told to; one that names an account's number
        is noted by that account's own hand before it counts. Raises `GallantError`."""
        with transaction(self._db):
            seq, before = self._db.execute(LAST).fetchone() or (0, FIRST)
            # What is hashed is what comes back from the file.
            stored = msgspec.json.decode(msgspec.json.encode(entry), type=LedgerEntry)
            kept = Kept(seq=seq + 1, entry=stored, hash=next_hash(before, stored))
            self._db.execute(APPEND, (kept.seq, msgspec.json.encode(stored), kept.hash))
            self._db.executemany("INSERT INTO untold (place, seq) VALUES (?, ?)", [(p, kept.seq) for p in places])
            if stored.uid is not None:
                hands.note(self._path.parent, kept.seq, kept.hash)
        return kept

    def hands(self) -> dict[int, Hand]:
        """What each account noted of its own entries."""
        return hands.hands_in(self._path.parent)

    def untold(self, place: str) -> list[Kept]:
        """What a place was not told yet, oldest first."""
        found, wrong = self._read(self._db.execute(UNTOLD, (place,)))
        if wrong:
            raise wrong[0]
        return found

    def last(self) -> int:
        """The number of the newest entry; 0 where there is none."""
        row = self._db.execute(LAST).fetchone()
        return int(row[0]) if row is not None else 0

    def told(self, place: str, seq: int) -> None:
        with transaction(self._db):
            self._db.execute("DELETE FROM untold WHERE place = ? AND seq = ?", (place, seq))

    def count_untold(self) -> dict[str, int]:
        return dict(self._db.execute("SELECT place, count(*) FROM untold GROUP BY place"))

    def entries(self) -> list[Kept]:
        """All of them, oldest first; raises `GallantError` for one that cannot be read: decisions are not guessed
        at."""
        found, wrong = self.readable()
        if wrong:
            raise wrong[0]
        return found

    def readable(self) -> tuple[list[Kept], list[GallantError]]:
        """Those that can be read, oldest first, and what is to be said of each that cannot."""
        return self._read(self._db.execute(EVERY))

    def newest(self, most: int) -> tuple[list[Kept], list[GallantError]]:
        """The newest so many that can be read, oldest first, and what is to be said of each that cannot."""
        return self._read(reversed(self._db.execute(NEWEST, (most,)).fetchall()))

    def count(self) -> int:
        return int(self._db.execute("SELECT count(*) FROM ledger").fetchone()[0])

    def about(self, kinds: Sequence[str], begins: str = "") -> list[Kept]:
        """Entries of these kinds whose subject begins so, oldest first; raises `GallantError` as `entries` does."""
        asked = (msgspec.json.encode(kinds).decode(), begins, begins + LAST_LETTER)
        found, wrong = self._read(self._db.execute(ABOUT, asked))
        if wrong:
            raise wrong[0]
        return found

    def _read(self, rows: Iterable[tuple[int, bytes, str]]) -> tuple[list[Kept], list[GallantError]]:
        found, wrong = [], []
        for seq, raw, digest in rows:
            try:
                found.append(Kept(seq=seq, entry=msgspec.json.decode(raw, type=LedgerEntry), hash=str(digest)))
            except (msgspec.MsgspecError, ValueError, TypeError):
                wrong.append(damaged(self._path, f"entry {seq} of the ledger cannot be read"))
        return found, wrong

    def keep_copy(self) -> None:
        """Keep the ledger twice as it is now; raises `GallantError`."""
        keep_copy(self._db, self._path)

    def accepted(self, terms: str, publisher: str) -> bool:
        """Whether a named person accepted this version of a publisher's terms."""
        subject = terms_subject(publisher, terms)
        return any(kept.entry.subject == subject for kept in self.about(["terms"], subject))


def terms_subject(publisher: str, version: str) -> str:
    return f"terms {version} of {publisher}"
