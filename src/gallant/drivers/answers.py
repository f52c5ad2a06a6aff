"""What a device answered, as values and records of ours: its words cleaned, its rows taken apart, what is none of them
left out and told."""

from __future__ import annotations

import math
from collections.abc import Hashable, Iterator, Mapping, Sequence
from datetime import UTC, datetime
from functools import lru_cache
from typing import TypeVar, cast

import msgspec

from gallant.core.readings import (
    UNKNOWN,
    Alarm,
    AtHand,
    Channel,
    Component,
    Expiry,
    Facet,
    Gauge,
    Guest,
    PackagePresent,
    Snapshot,
)
from gallant.core.records import Record, clean, replace
from gallant.drivers.patterns import searched
from gallant.drivers.profile import (
    LISTS,
    PartRule,
    fill,
    rule_for,
)
from gallant.drivers.tools import Fields

R = TypeVar("R", bound=Record)


def named(rules: tuple[PartRule, ...], product: str, said: str, version: str) -> tuple[Fields, PartRule | None]:
    """A component that a device calls `said`, and the rule that fits it; see `ProfiledDriver.named_part`."""
    rule = rule_for(rules, said)
    return {**_named(rule, product, said), "version": version}, rule


@lru_cache(maxsize=4096)
def _named(rule: PartRule | None, product: str, said: str) -> Fields:
    plain = _slug(said)
    if rule is None:
        return {"name": plain, "kind": UNKNOWN, "product": f"{product}-{plain}"}
    found = searched(rule.pattern, said)
    groups = {k: _slug(v) for k, v in found.groupdict().items() if v is not None} if found else {}
    name = fill(rule.name, groups) if rule.name else plain
    own = fill(rule.product, groups) if rule.product else f"{product}-{_slug(name)}"
    return {"name": name, "kind": rule.kind, "product": own}


class Ours:
    """A word that is Gallant's already, where the driver itself knows the protocol's."""

    __slots__ = ("word",)

    def __init__(self, word: str) -> None:
        self.word = word

    def __str__(self) -> str:
        return self.word


# What the rows of a reading's lists are.
ROWS: Mapping[str, type[Record]] = {
    "components": Component,
    "packages": PackagePresent,
    "facets": Facet,
    "gauges": Gauge,
    "channels": Channel,
    "alarms": Alarm,
    "expiries": Expiry,
    "snapshots": Snapshot,
    "guests": Guest,
    "at_hand": AtHand,
}


def as_record(kind: type[R], row: Mapping[str, object]) -> R | None:
    tidy = {key: text_of(value) if isinstance(value, str) else value for key, value in row.items() if value is not None}
    try:
        return msgspec.convert(tidy, kind, strict=False)
    except msgspec.ValidationError:
        return None


def record_of(kind: type[R], row: object) -> R | None:
    if isinstance(row, kind):
        return row
    if not isinstance(row, dict):
        return None
    try:
        return cast("R | None", _shared(cast(Hashable, kind), tuple(row.items())))
    except TypeError:  # a list or an object where a text belongs
        return as_record(kind, row)


def left_out_rows(fields: Fields, taken: Mapping[str, Sequence[object]]) -> Iterator[str]:
    """Which rows of an answer are none of what they should be, each list in a sentence; `taken` are those that were."""
    for name, kind in ROWS.items():
        rows = rows_of(fields, name)
        if len(rows) > len(taken[name]):
            lost = [row for row in rows if record_of(kind, row) is None]
            first = lost[0] if isinstance(lost[0], dict) else {}
            lacks = [
                f.name
                for f in msgspec.structs.fields(cast(type[msgspec.Struct], kind))
                if f.required and first.get(f.name) is None
            ]
            why = f"the first has no {' and no '.join(lacks)}" if lacks else "they are not in form"
            yield f"{len(lost)} of {len(rows)} rows of {name} are left out: {why}"


@lru_cache(maxsize=65536)
def _shared(kind: Hashable, row: tuple[tuple[str, object], ...]) -> Record | None:
    """Thousands of machines of one kind say the same of their parts: one record serves them all."""
    return as_record(cast(type[Record], kind), dict(row))


def merge(into: Fields, more: Fields) -> None:
    """Add fields: rows to rows, and a value in the place of one that was there."""
    for key, value in more.items():
        if key in LISTS and isinstance(value, list):
            into[key] = [*rows_of(into, key), *value]
        elif value is not None:
            into[key] = value


def several(said: object) -> tuple[str, ...] | None:
    return tuple(text for value in said if (text := text_of(value))) if isinstance(said, list) else None


def rows_of(fields: Fields, name: str) -> list[object]:
    return found if isinstance(found := fields.get(name), list) else []


def texts_of(fields: Fields) -> dict[str, str]:
    return {key: str(value) for key, value in fields.items() if isinstance(value, (str, int)) and key not in LISTS}


def _slug(text: str) -> str:
    kept = "".join(c if c.isalnum() and c.isascii() else "-" for c in text.lower())
    return "-".join(part for part in kept.split("-") if part)[:60] or "part"


def told_apart(parts: list[Component]) -> list[Component]:
    """Components whose names are all different: a name that comes again gets a number."""
    if len({part.name for part in parts}) == len(parts):
        return parts
    seen: dict[str, int] = {}
    found = []
    for part in parts:
        seen[part.name] = seen.get(part.name, 0) + 1
        found.append(part if seen[part.name] == 1 else replace(part, name=f"{part.name}-{seen[part.name]}"))
    return found


def text_of(value: object, limit: int = 200) -> str | None:
    return None if value is None else clean(str(value), limit)


def number(value: object) -> float | None:
    if isinstance(value, bool) or not isinstance(value, (int, float, str)):
        return None
    try:
        found = float(value)
    except (ValueError, OverflowError):
        return None
    return found if math.isfinite(found) else None


def clock_offset(said: object, heard: object) -> float | None:
    if not isinstance(heard, datetime) or not isinstance(said, (str, int, float)):
        return None
    try:
        theirs = datetime.fromisoformat(said) if isinstance(said, str) else datetime.fromtimestamp(said, UTC)
    except (ValueError, OSError, OverflowError):
        return None
    return None if theirs.tzinfo is None else (theirs - heard).total_seconds()
