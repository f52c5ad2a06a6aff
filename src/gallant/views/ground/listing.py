"""How rows are listed: in which order, which of their columns, how
many. The same words for every table, on a screen and as data."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from gallant.core.assess.gaps import STANDINGS
from gallant.core.catalog.products import SEVERITIES
from gallant.core.documents import suggestion
from gallant.core.errors import WrongUse

# Words that have an order of their own, the worst first.
RANKS: dict[str, int] = {
    word: rank
    for words in (SEVERITIES, STANDINGS, ("stop", "warn", "note", "pass"), ("stopped", "held", "running", "finished"))
    for rank, word in enumerate(words)
}
UNITS = {
    "s": 1.0, "min": 60.0, "h": 3600.0, "d": 86400.0,
    "B": 1.0, "kB": 1e3, "MB": 1e6, "GB": 1e9, "%": 1.0, "": 1.0,
}  # fmt: skip
_MEASURE = re.compile(r"(-?\d+(?:\.\d+)?) ?(min|kB|MB|GB|[shdB%]|)(?: ago)?(?![\w.-])")
_WHOLE = re.compile(rf"(?:{_MEASURE.pattern}[, ]*)+")
_DIGITS = re.compile(r"([0-9]{1,18})")  # those of other scripts, and longer ones, are text
Key = tuple[int, object]


@dataclass(frozen=True)
class Listing:
    """`sort` is a column, with `-` before it the other way round; of `columns` and `limit` None is all of them."""

    sort: str | None = None
    columns: tuple[str, ...] | None = None
    limit: int | None = None

    @property
    def asked(self) -> bool:
        return self.sort is not None or self.columns is not None or self.limit is not None

    @property
    def by(self) -> str | None:
        return self.sort.removeprefix("-") if self.sort is not None else None

    @property
    def turned(self) -> bool:
        return self.sort is not None and self.sort.startswith("-")

    @property
    def named(self) -> tuple[str, ...]:
        """Every column that it speaks of."""
        return tuple(dict.fromkeys([*(self.columns or ()), *([self.by] if self.by is not None else [])]))


def parse_listing(sort: str | None, columns: str | None, limit: int | None) -> Listing:
    names = tuple(name.strip() for name in columns.split(",") if name.strip()) if columns is not None else None
    return Listing(sort=sort, columns=names or None, limit=limit)


def sort_key(value: object) -> Key:
    """Of what a cell says, or a field holds: numbers by how much they are, most first; severities, standings and levels
    worst first; all else as text, numbers within it as numbers; nothing last."""
    if value is None or value in ("", "–", [], ()):
        return 3, 0
    if isinstance(value, bool):
        return 1, float(not value)
    if isinstance(value, (int, float)):
        return 1, -float(value)
    text = str(value).strip()
    word = text.lstrip("✗✓▲•·?⚑ ").rstrip("⚑ ")
    if word in RANKS:
        return 0, RANKS[word]
    if _WHOLE.fullmatch(word):
        return 1, -sum(float(number) * UNITS[unit] for number, unit in _MEASURE.findall(word))
    return 2, tuple(int(part) if n % 2 else part.casefold() for n, part in enumerate(_DIGITS.split(word)))


def ordered(rows: Sequence[object], keys: Sequence[Key], turned: bool) -> list[object]:
    """Rows by their keys; those without a word on it stay last, whichever way round."""
    known = [n for n, key in enumerate(keys) if key[0] != 3]
    silent = [n for n, key in enumerate(keys) if key[0] == 3]
    known.sort(key=lambda n: keys[n], reverse=turned)
    return [rows[n] for n in (*known, *silent)]


def resolved(name: str, known: Sequence[str], also: Mapping[str, str]) -> str | None:
    """One of the known names, by itself or by the name that it has elsewhere (`also`), in any case."""
    wanted = name.casefold().replace("_", " ")
    for one in known:
        if wanted in (one.casefold().replace("_", " "), also.get(one, "").casefold().replace("_", " ")):
            return one
    return None


def no_column(name: str, known: Sequence[str]) -> WrongUse:
    return WrongUse(f"No column {name!r}{suggestion(name, list(known))}.", next=f"There are: {', '.join(known)}")


def arranged_rows(
    rows: Sequence[Mapping[str, object]], listing: Listing, fields: Mapping[str, str]
) -> list[Mapping[str, object]]:
    """Rows of data as they were asked for; `fields` has the field of a column that is called otherwise on the
    screen."""
    if not rows:
        return []
    known = list(rows[0])

    def field_of(name: str) -> str:
        named = [*fields, *known]
        found = resolved(name, named, {})
        if found is None:
            raise no_column(name, list(dict.fromkeys(named)))
        return fields.get(found, found)

    found = list(rows)
    if listing.by is not None:
        by = field_of(listing.by)
        found = [
            row
            for row in ordered(found, [sort_key(row.get(by)) for row in found], listing.turned)
            if isinstance(row, Mapping)
        ]
    if listing.columns is not None:
        kept = [field_of(name) for name in listing.columns]
        found = [{name: row.get(name) for name in kept} for row in found]
    return found[: listing.limit] if listing.limit is not None else found
