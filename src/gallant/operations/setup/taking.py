"""What a file of devices may not say by itself: with which account somebody logs in there, which secret goes there, and
whom to trust. A person says yes to each such value by name."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence
from pathlib import Path
from typing import TypeAlias

from gallant.core.errors import Refused
from gallant.core.records import clean
from gallant.operations.ground.workplace import Ask

TRUSTING = ("user", "secret", "pin")  # the columns
Value: TypeAlias = tuple[str, str]  # of a column


def refuse_untaken(path: Path, rows: Sequence[Mapping[str, str]], taken: Collection[Value], sure: Ask | None) -> None:
    """Raise `Refused` for the first value of such a column that nobody takes: neither by
    name beforehand (`taken`) nor when asked (`sure`; None: nobody is there)."""
    for (column, value), addresses in _values(rows).items():
        if (column, value) in taken:
            continue
        shown = clean(value, 100)
        whose = f"{addresses[0]} and {len(addresses) - 1} more" if len(addresses) > 1 else addresses[0]
        what = f"{path} has {column} {shown} for {clean(whose, 120)}"
        if sure is None or not sure(f"{what}. Take it?"):
            raise Refused(
                f"{what}, and nobody took it.",
                "A file alone does not say which account, secret or fingerprint is to be believed.",
                f"--take {column}={shown} takes it by name, once for each value",
            )


def _values(rows: Sequence[Mapping[str, str]]) -> dict[Value, list[str]]:
    found = dict[Value, list[str]]()
    for column, value, address in _said(rows):
        found.setdefault((column, value), []).append(address)
    return found


def _said(rows: Sequence[Mapping[str, str]]) -> Iterator[tuple[str, str, str]]:
    for column in TRUSTING:
        for row in rows:
            if value := row.get(column):
                yield column, value, row["address"]
