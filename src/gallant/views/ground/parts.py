"""A view: what is shown of a result, in every form, and the parts that it is drawn from."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, TypeAlias, Union

if TYPE_CHECKING:
    from rich.console import RenderableType


# The parts of a view, one after the other: prose, whose styles are markers, or a table as Rich draws it.
Part: TypeAlias = Union[str, "RenderableType"]


Drawn: TypeAlias = Iterator[Part]


@dataclass(frozen=True)
class View:
    """One result, ready for every form: `rows` (or what makes them) and
    `more` for data, `text` for people, `remarks` for stderr."""

    command: str
    rows: Sequence[object] | Callable[[], Sequence[object]]
    text: Callable[[], Iterable[Part]]
    more: Mapping[str, object] = field(default_factory=dict)
    remarks: Sequence[str] = ()
    # By the heading of a column: its field in the data, where that is called otherwise.
    fields: Mapping[str, str] = field(default_factory=dict)

    @property
    def data(self) -> Sequence[object]:
        return self.rows() if callable(self.rows) else self.rows
