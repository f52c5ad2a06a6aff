"""Where output goes: data to stdout, remarks to stderr; as text, JSON or CSV. Nothing is lost or coloured when
piped."""

from __future__ import annotations

import contextlib
import csv
import errno
import itertools
import os
import sys
from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import IO, TYPE_CHECKING, Protocol, cast, runtime_checkable

import msgspec

from gallant.core.errors import GallantError
from gallant.core.records import printable
from gallant.views.ground.listing import Listing, arranged_rows, no_column, resolved
from gallant.views.ground.parts import Drawn, Part, View
from gallant.views.ground.words import styled

if TYPE_CHECKING:
    from rich.console import Console, RenderableType

FORMULA = ("=", "+", "-", "@", "\t", "\r")  # with what a cell begins that a table program computes
# A table fits this where nothing says how wide the reader's screen is.
PIPED_WIDTH = 120


def console(file: IO[str], force: bool = False) -> Console:
    from rich.console import Console

    width = None if file.isatty() or "COLUMNS" in os.environ else PIPED_WIDTH
    return Console(
        file=file,
        width=width,
        markup=False,
        highlight=False,
        emoji=False,
        soft_wrap=False,
        force_terminal=force or None,
    )


@runtime_checkable
class Arranged(Protocol):
    """A table that can be put in order."""

    columns: tuple[str, ...]

    def has(self, listing: Listing, fields: Mapping[str, str]) -> bool: ...
    def arranged(self, listing: Listing, fields: Mapping[str, str]) -> RenderableType: ...


class Output:
    """How this command was asked to answer."""

    def __init__(
        self,
        as_json: bool = False,
        as_csv: bool = False,
        quiet: bool = False,
        verbose: bool = False,
        listing: Listing | None = None,
        paged: bool = True,
    ) -> None:
        self.as_json, self.as_csv, self.quiet, self.verbose = as_json, as_csv, quiet, verbose
        self.listing, self.paged = listing or Listing(), paged

    @property
    def whole(self) -> bool:
        """Whether all there is was asked for: data, or an order, a number or some columns of it."""
        return self.as_json or self.as_csv or self.listing.asked

    def show(self, view: View) -> None:
        """Data to stdout in the form that was asked for, then the remarks to stderr."""
        with reader_may_be_gone(sys.stdout):
            self._write(view)
        if not self.quiet:
            for remark in view.remarks:
                self.remark(remark)

    def _write(self, view: View) -> None:
        if self.as_json:
            _write_json({"schema": f"gallant.{view.schema}/1", **view.more}, self._rows(view))
        elif self.as_csv:
            _write_csv(self._rows(view))
        else:
            self._draw(view)
        sys.stdout.flush()

    def _rows(self, view: View) -> Iterable[object]:
        if not self.listing.asked:
            return view.data
        return arranged_rows([msgspec.to_builtins(row) for row in view.data], self.listing, view.headings)

    def _draw(self, view: View) -> None:
        """Part by part: one that cannot be drawn says so in its place and takes nothing else along."""
        out = console(sys.stdout)
        parts = self._arranged(view) if self.listing.asked else _drawn(view)
        if not (out.is_terminal and self.paged):
            _print(out, parts)
            return
        from gallant.views.ground.paging import show

        show(out, list(parts), _print)

    def _arranged(self, view: View) -> Iterator[Part]:
        """The tables that have the columns that were asked for, as they were asked for, and nothing else."""
        tables = [cast(Arranged, part) for part in _drawn(view) if isinstance(part, Arranged)]
        chosen = [table for table in tables if table.has(self.listing, view.headings)]
        if tables and not chosen:
            columns = max((table.columns for table in tables), key=len)
            raise no_column(next(n for n in self.listing.named if resolved(n, columns, view.headings) is None), columns)
        for table in chosen:
            yield table.arranged(self.listing, view.headings)
        if not tables and (rows := self._rows(view)):  # what is drawn as a tree has no columns; its data have
            from gallant.views.ground.tables import table_of

            yield table_of(cast(Sequence[Mapping[str, object]], rows))

    def aside(self, view: View) -> None:
        """What a person is asked about, on stderr: stdout is for what is done."""
        with reader_may_be_gone(sys.stderr):
            _print(console(sys.stderr), _drawn(view))

    def document(self, document: object) -> None:
        """A document of another's format, as JSON, whatever form was asked for."""
        with reader_may_be_gone(sys.stdout):
            sys.stdout.write(msgspec.json.format(msgspec.json.encode(document), indent=1).decode() + "\n")
            sys.stdout.flush()

    def remark(self, text: str) -> None:
        if not self.quiet:
            with reader_may_be_gone(sys.stderr):
                console(sys.stderr).print(styled(text), style="dim", soft_wrap=True)


def _print(out: Console, parts: Iterable[Part]) -> None:
    after_table = False
    for part in parts:
        if after_table:
            out.print()
        try:  # prose is folded for a screen, and left whole for a program
            if isinstance(part, str):
                out.print(_hanging(part) if out.is_terminal else styled(part), soft_wrap=not out.is_terminal)
            else:
                out.print(part)
        except OSError:  # its reader has gone
            raise
        except Exception as error:
            _undrawn(error)
        after_table = not isinstance(part, str)


def _drawn(view: View) -> Drawn:
    """The parts of a view, as far as it can make them."""
    parts = None
    while True:
        try:
            parts = iter(view.text()) if parts is None else parts
            part = next(parts)
        except StopIteration:
            return
        except (GallantError, OSError):
            raise
        except Exception as error:
            _undrawn(error)
            return
        yield part


def _undrawn(error: Exception) -> None:
    """What goes wrong with drawing is said, and does not fail what was done."""
    told = f"A part of this could not be drawn ({type(error).__name__}); --json has all of it."
    console(sys.stderr).print(told, soft_wrap=True)


def _hanging(line: str) -> RenderableType:
    """A line that begins further in stays there when it has to be folded."""
    from rich.padding import Padding

    text = line.lstrip(" ")
    return Padding(styled(text), (0, 0, 0, len(line) - len(text))) if text and text != line else styled(line)


@contextlib.contextmanager
def reader_may_be_gone(file: IO[str]) -> Iterator[None]:
    """A pipe that nobody reads any more, or a terminal that went away, changes nothing of what the command did."""
    try:
        yield
    except OSError as error:
        if error.errno not in (errno.EPIPE, errno.EIO):
            raise
        with contextlib.suppress(OSError):  # what is still in the buffer goes nowhere
            os.dup2(os.open(os.devnull, os.O_WRONLY), file.fileno())


ROWS_AT_ONCE = 1_000  # are written together: a fleet's rows take no more memory than these


def _write_json(head: Mapping[str, object], rows: Iterable[object]) -> None:
    """One JSON document: the head's fields, then `rows`, written as they are made."""

    def laid_out(document: object) -> str:
        return msgspec.json.format(msgspec.json.encode(document), indent=1).decode()

    sys.stdout.write(laid_out(head).removesuffix("\n}") + ',\n "rows": [')
    every, before = iter(rows), "\n"
    while some := list(itertools.islice(every, ROWS_AT_ONCE)):
        # What stands between the brackets of a document of these rows alone stands so in the whole one.
        body = laid_out({"rows": some}).removeprefix('{\n "rows": [\n').removesuffix("\n ]\n}")
        sys.stdout.write(before + body)
        before = ",\n"
    sys.stdout.write("]\n}\n" if before == "\n" else "\n ]\n}\n")


def _write_csv(rows: Iterable[object]) -> None:
    writer: csv.DictWriter[str] | None = None
    for row in rows:
        plain = msgspec.to_builtins(row)
        if writer is None:
            writer = csv.DictWriter(sys.stdout, list(plain), lineterminator="\n")
            writer.writeheader()
        writer.writerow({key: _cell(value) for key, value in plain.items()})


def _cell(value: object) -> object:
    """A value for a table program: several in one cell, and no text that such a program would take for a formula.

    What begins with one of `FORMULA` gets a `'` before it (docs/formats.md); a number stays a number.
    """
    text = "; ".join(map(str, value)) if isinstance(value, (list, tuple)) else value
    if not isinstance(text, str):
        return text
    flat = printable(text)
    return f"'{flat}" if text.startswith(FORMULA) else flat


def show_error(error: GallantError, as_json: bool) -> None:
    """An error, on stderr: what, why, and what to do next."""
    if as_json:
        document = {"schema": "gallant.error/1", "what": error.what, "why": error.why, "next": error.next}
        sys.stderr.write(msgspec.json.encode(document).decode() + "\n")
        return
    colour = sys.stderr.isatty() and "NO_COLOR" not in os.environ
    red, off = ("\x1b[1;31m", "\x1b[0m") if colour else ("", "")
    what, why, todo = (printable(text or "") for text in (error.what, error.why, error.next))
    parts = [f"{red}{what}{off}", why, todo and f"→ {todo}"]
    sys.stderr.write("\n".join(part for part in parts if part) + "\n")
