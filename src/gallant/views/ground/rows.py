"""Records that are made for being listed, and what their fields' annotations say of them."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated

from gallant.core.records import Record


@dataclass(frozen=True)
class Counts:
    """What a number counts, where its field's name does not say it."""

    word: str


@dataclass(frozen=True)
class Says:
    """What a field says, where its name is not enough."""

    words: str


Seconds = Annotated[float, Counts("s")]
Bytes = Annotated[int, Counts("bytes")]
Days = Annotated[int, Counts("days")]
Minutes = Annotated[float, Counts("min")]


class ListRow(Record):
    """A row of a listing; its fields are in the order in which they are written."""
