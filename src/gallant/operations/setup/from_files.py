"""Systems to add, from the rows of a file."""

from __future__ import annotations

import csv
from collections.abc import Collection, Iterator, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from gallant.core.documents import suggestion
from gallant.core.errors import WrongUse
from gallant.core.records import clean, replace
from gallant.operations.ground.workplace import Ask
from gallant.operations.setup.taking import Value, refuse_untaken

if TYPE_CHECKING:
    pass
from gallant.operations.setup.adding import COLUMNS, LARGEST_CSV, OF_A_NODE, SystemWanted


def from_file(path: Path, usual: SystemWanted, taken: Collection[Value], sure: Ask | None) -> list[SystemWanted]:
    """The systems of a CSV file with a heading (`address`, and any of `COLUMNS`); rows with one name in `as` are nodes
    of one system. What a row leaves out is as `usual` has it. Raises `WrongUse` with the line of whatever is wrong, and
    `Refused` for an account, a secret or a pin that nobody takes (`taking`)."""
    try:
        with path.open(newline="", encoding="utf-8-sig") as file:
            reader = csv.DictReader(file)
            heads = [(head or "").strip().casefold() for head in reader.fieldnames or ()]
            if strange := next((h for h in heads if h not in COLUMNS), None):
                raise WrongUse(
                    f"{path}:1: no column {clean(strange, 40)!r}{suggestion(strange, COLUMNS)}.",
                    next=f"Columns: {', '.join(COLUMNS)}",
                )
            if "address" not in heads:
                raise WrongUse(f"{path}:1: no column address.", next=f"Columns: {', '.join(COLUMNS)}")
            reader.fieldnames = heads
            rows = list(_rows(path, reader))
    except OSError as error:
        raise WrongUse(f"{path} cannot be read: {error.strerror}.") from None
    except (csv.Error, UnicodeDecodeError) as error:
        raise WrongUse(f"{path} is no CSV file: {clean(str(error), 100)}.") from None
    if not rows:
        raise WrongUse(f"{path} has no rows.", next=f"Columns: {', '.join(COLUMNS)}")
    refuse_untaken(path, rows, taken, sure)
    return _together(path, rows, usual)


def _rows(path: Path, reader: csv.DictReader[str]) -> Iterator[dict[str, str]]:
    for row in reader:
        if reader.line_num > LARGEST_CSV:
            raise WrongUse(f"{path} has more than {LARGEST_CSV:,} rows.")
        plain = {
            key: (value or "").strip()
            for key, value in row.items()
            if isinstance(key, str) and not isinstance(value, list)
        }
        if not any(plain.values()):
            continue
        if not plain.get("address"):
            raise WrongUse(f"{path}:{reader.line_num}: no address.")
        yield plain


def _together(path: Path, rows: Sequence[Mapping[str, str]], usual: SystemWanted) -> list[SystemWanted]:
    """The rows of one name as one system; what they say of it has to be the same, but for the address and its pin."""
    found: dict[str, list[Mapping[str, str]]] = {}
    for row in rows:
        found.setdefault(row.get("as") or row["address"], []).append(row)
    return [_system_of(path, own, usual) for own in found.values()]


def _system_of(path: Path, rows: Sequence[Mapping[str, str]], usual: SystemWanted) -> SystemWanted:
    said: dict[str, str] = {}
    for row in rows:
        for column in (c for c in COLUMNS if c not in OF_A_NODE and row.get(c)):
            if said.setdefault(column, row[column]) != row[column]:
                raise WrongUse(
                    f"{path}: the rows of {clean(row['as'], 60)} differ in {column}: {clean(said[column], 40)!r},"
                    f" {clean(row[column], 40)!r}.",
                    next="Rows with one name in as are nodes of one system; name them otherwise, or alike",
                )
    tags = tuple(said.pop("tags").replace(";", " ").split()) if "tags" in said else usual.tags
    name = said.pop("as", "")
    return replace(
        usual,
        **said,
        name=name,
        tags=tags,
        addresses=tuple(row["address"] for row in rows),
        pins={row["address"]: row["pin"] for row in rows if row.get("pin")},
    )
