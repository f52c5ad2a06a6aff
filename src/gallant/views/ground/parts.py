"""A view: what is shown of a result, in every form, and the parts that it is drawn from."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Generic, TypeAlias, TypeVar, Union

if TYPE_CHECKING:
    from rich.console import RenderableType

T = TypeVar("T")
# The parts of a view, one after the other: prose, whose styles are markers, or a table as Rich draws it.
Part: TypeAlias = Union[str, "RenderableType"]
Drawn: TypeAlias = Iterator[Part]
Lines: TypeAlias = Callable[[], Iterable[Part]]


@dataclass(frozen=True)
class Listed(Generic[T]):
    """What a command lists: rows that are each a T, printed as `gallant.SCHEMA/1`.

    One record serves the screen's columns, `--json`, `--csv`, `--sort`, `--columns` and docs/formats.md, which finds it
    by the annotation of the listing's name: a view needs the records of an operation for their types alone. `beside`
    names what its document has besides the rows; `headings` has the field of a column that is called otherwise on the
    screen, where there is less room for a name.
    """

    schema: str
    command: str
    beside: tuple[str, ...] = ()
    headings: Mapping[str, str] = field(default_factory=dict)

    def view(
        self,
        rows: Sequence[T] | Callable[[], Iterable[T]],
        text: Lines,
        more: Mapping[str, object] | None = None,
        remarks: Sequence[str] = (),
    ) -> View:
        """A result of this listing: `rows` (or what makes them) and `more` for data, `text` for people, `remarks` for
        stderr."""
        assert set(more or ()) <= set(self.beside), (self.schema, set(more or ()) - set(self.beside))
        return View(self.schema, self.headings, rows, text, more or {}, remarks)


@dataclass(frozen=True)
class View:
    """One result, ready for every form; made by what is `Listed`."""

    schema: str
    headings: Mapping[str, str]
    rows: Sequence[object] | Callable[[], Iterable[object]]
    text: Lines
    more: Mapping[str, object]
    remarks: Sequence[str]

    @property
    def data(self) -> Iterable[object]:
        return self.rows() if callable(self.rows) else self.rows
