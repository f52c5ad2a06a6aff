"""What every table has: columns that give way on a narrow screen, and the next thing to do below."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import TYPE_CHECKING

from gallant.core.decide.notices import Notice
from gallant.views.ground.listing import Listing, ordered, resolved, sort_key
from gallant.views.ground.parts import Listed, T, View
from gallant.views.ground.words import (
    BOLD,
    DIM,
    LOUD,
    OFF,
    YELLOW,
    WordMarks,
    many,
    mark,
    plain,
    styled,
)

if TYPE_CHECKING:
    from rich.console import Console, ConsoleOptions, RenderableType, RenderResult
    from rich.table import Table

    from gallant.core.plan.sifting import Barred
    from gallant.core.readings import Reading

NARROW = 100  # columns; below, what only adds to the rest is left out
GAP = 2  # between two columns
LONGEST_WORD = 24  # a fingerprint or an address is folded before a table is given up for it

LEVEL_MARKS = WordMarks({"stop": "bad", "warn": "work", "note": "note", "pass": "good"})


class Grid:
    """A table with a ruled head and no other lines. A column in which no row says anything is left out. Cells fold
    between words, they are never cut; where the screen is narrow, columns that only add to the others (`optional`) are
    left out, and where even the words do not fit, each row is a block of lines."""

    def __init__(self, columns: Sequence[str], right: Sequence[str], optional: Sequence[str]) -> None:
        self.columns, self.right, self.optional = tuple(columns), frozenset(right), frozenset(optional)
        self.rows: list[tuple[str, ...]] = []
        self.heading = ""
        self.whole = False  # also columns in which no row says anything

    def title(self, text: str) -> None:
        self.heading = text

    def add_row(self, *cells: str) -> None:
        assert len(cells) == len(self.columns), (cells, self.columns)
        self.rows.append(cells)

    def has(self, listing: Listing, fields: Mapping[str, str]) -> bool:
        """Whether it has every column that was asked for."""
        return all(resolved(name, self.columns, fields) is not None for name in listing.named)

    def arranged(self, listing: Listing, fields: Mapping[str, str]) -> Grid:
        """The same rows as they were asked for: in an order, some of their columns, no more than so many."""
        rows: Sequence[tuple[str, ...]] = self.rows
        if listing.by is not None:
            at = self._at(listing.by, fields)
            keys = [sort_key(styled(row[at]).plain) for row in rows]
            rows = [row for row in ordered(rows, keys, listing.turned) if isinstance(row, tuple)]
        kept = (
            [self._at(name, fields) for name in listing.columns]
            if listing.columns is not None
            else range(len(self.columns))
        )
        found = Grid(
            [self.columns[at] for at in kept], tuple(self.right), () if listing.columns else tuple(self.optional)
        )
        found.heading, found.whole = self.heading, listing.columns is not None
        found.rows = [tuple(row[at] for at in kept) for row in rows[: listing.limit]]
        return found

    def _at(self, name: str, fields: Mapping[str, str]) -> int:
        return self.columns.index(str(resolved(name, self.columns, fields)))

    def __rich_console__(self, console: Console, options: ConsoleOptions) -> RenderResult:
        told = [
            at
            for at in range(len(self.columns))
            if not at or not self.rows or any(self._says(row[at]) for row in self.rows)
        ]
        for wanted, gap in self._forms(options.max_width):
            kept = wanted if self.whole else [at for at in wanted if at in told]
            least = [max(self._word(at, row[at]) for row in (self.columns, *self.rows)) for at in kept]
            room = options.max_width - (gap + 1) * (len(kept) - 1)  # the box has a column of its own between two
            if sum(least) <= room or not self.rows:
                yield self._table(kept, gap, self._widths(kept, least, room))
                return
        yield from self._blocks()

    def _says(self, cell: str) -> bool:
        return styled(cell).plain.strip() not in ("", "–")

    def _forms(self, width: int) -> Iterator[tuple[list[int], int]]:
        """The columns and the room between them, from what shows most to what shows least."""
        every = range(len(self.columns))
        wide = [at for at in every if not (width < NARROW and self.columns[at] in self.optional)]
        yield wide, GAP
        needed = [at for at in every if self.columns[at] not in self.optional]
        yield needed, GAP
        yield needed, GAP - 1
        yield needed, 0

    def _word(self, at: int, cell: str) -> int:
        """The longest piece of a cell that cannot be folded; what a row is about, and numbers, stay in one piece. What
        is longer than anybody has a screen for is folded wherever it is."""
        text = styled(cell).plain
        whole = at == 0 or self.columns[at] in self.right
        longest = max(map(len, text.split("\n" if whole else None)), default=0)
        return longest if whole else min(longest, LONGEST_WORD)

    def _widths(self, kept: Sequence[int], least: Sequence[int], room: int) -> list[int]:
        """So wide that no word is broken, and beyond that as each column has use for what is left."""
        most = [
            max(len(line) for row in (self.columns, *self.rows) for line in styled(row[at]).plain.split("\n"))
            for at in kept
        ]
        widths = list(least)
        while (left := room - sum(widths)) > 0 and (short := [n for n, w in enumerate(widths) if w < most[n]]):
            for n in short[: max(1, left)]:
                widths[n] += min(most[n] - widths[n], max(1, left // len(short)))
        return widths

    def _table(self, kept: Sequence[int], gap: int, widths: Sequence[int]) -> Table:
        from rich import box
        from rich.table import Table

        shown = Table(box=box.SIMPLE_HEAD, pad_edge=False, padding=(0, gap, 0, 0), header_style="bold", show_edge=False)
        if self.heading:
            shown.title, shown.title_justify, shown.title_style = styled(self.heading), "left", "none"
        for at, width in zip(
            kept, widths, strict=True
        ):  # what a row is about stays in one piece, however narrow the screen
            name = self.columns[at]
            whole = at == 0 or name in self.right
            shown.add_column(
                name, justify="right" if name in self.right else "left", overflow="fold", no_wrap=whole, width=width
            )
        for row in self.rows:
            shown.add_row(*(styled(row[at]) for at in kept))
        return shown

    def _blocks(self) -> Iterator[RenderableType]:
        """Each row by itself: what it is about, and below it each of its other fields that says anything."""
        from rich.padding import Padding

        if self.heading:
            yield styled(self.heading)
        for row in self.rows:
            yield styled(row[0])
            for name, cell in zip(self.columns[1:], row[1:], strict=True):
                if self._says(cell):
                    yield Padding(styled(f"{DIM}{name}:{OFF} {cell}" if name else cell), (0, 0, 0, 2))


def table(*columns: str, right: Sequence[str] = (), optional: Sequence[str] = ()) -> Grid:
    return Grid(columns, right, optional)


def table_of(rows: Sequence[Mapping[str, object]]) -> Grid:
    """Rows of data as they are, what says nothing anywhere left out."""
    names = [name for name in rows[0] if any(row.get(name) not in (None, "", []) for row in rows)]
    shown = Grid(names, (), ())
    for row in rows:
        values = (row.get(name) for name in names)
        shown.add_row(
            *(
                "–" if value is None else plain(", ".join(map(str, value)) if isinstance(value, list) else value)
                for value in values
            )
        )
    return shown


MOST_STEPS = 3  # a list of everything that could be done is no next step
MOST_NAMED = 5  # systems in one step; more of them are all, for a command that takes none as all
# Commands that take several systems or nodes: what differs in the last word alone is one line.
FOR_SEVERAL = (
    "gallant survey",
    "gallant gaps",
    "gallant check",
    "gallant verify",
    "gallant plan",
    "gallant stock fetch",
    "gallant backup take",
)


def next_steps(*commands: str | None, among: Sequence[str] = ()) -> list[str]:
    """What to do next as lines below a table: each once, joined over systems, no more than one takes in at a glance.
    `among` is the selector that the systems were chosen by, for a step that is about too many of them to name."""
    steps = together([c for c in commands if c], among)
    shown = [f"{BOLD}next{OFF}  {plain(step)}" for step in steps[:MOST_STEPS]]
    return shown + ([f"{DIM}      and {len(steps) - MOST_STEPS} more{OFF}"] if len(steps) > MOST_STEPS else [])


def together(steps: Sequence[str], among: Sequence[str] = ()) -> list[str]:
    """Steps, each once, in their order; what is the same but for the system or node at its end is one."""
    found: dict[str, list[str]] = {}
    for step in steps:
        head, _, last = step.rpartition(" ")
        one = head if head in FOR_SEVERAL or (head and not step.startswith("gallant ")) else step
        mine = found.setdefault(one, [])
        if one == head and last not in mine:
            mine.append(last)
    return [_joined(head, last, among) for head, last in found.items()]


def _joined(head: str, last: Sequence[str], among: Sequence[str]) -> str:
    """Too many to be named are those that were selected; all, for a command that takes none as all."""
    if len(last) > MOST_NAMED and head.startswith("gallant "):
        return " ".join([head, *among])
    return " ".join([head, (" " if "gallant " in head else ", ").join(last)]) if last else head


def state_word(state: str) -> str:
    return {"in_service": "in service", "out_of_service": f"{LOUD}out of service{OFF}"}.get(
        state, f"{YELLOW}{state}{OFF}"
    )


def sync_word(reading: Reading) -> str:
    if reading.in_sync is None:
        return "–"
    return "in sync" if reading.in_sync else f"{YELLOW}{plain(reading.sync_word)}{OFF}"


def left_lines(left: Sequence[Notice], why: Mapping[str, str] | None = None) -> Iterator[str]:
    """What is not as its aim says: all is well only when no component is left. `why` it is in no plan, by name."""
    for n in left:
        told = (why or {}).get(n.name, "")
        yield (
            f"{mark('work')} Still behind: {BOLD}{plain(n.name)}{OFF} {plain(', '.join(n.installed))} →"
            f" {plain(n.target or '–')}{f': {plain(told)}' if told else ''}."
        )


def few(lines: Sequence[str], most: int, one: str) -> Iterator[str]:
    """The first so many lines, and how many there are besides; `one` is what a line is, and makes its plural by an s."""
    yield from lines[:most]
    if len(lines) > most:
        yield f"{DIM}and {many(len(lines) - most, f'more {one}')}{OFF}"


MOST_BARRED = 6


def barred_lines(barred: Sequence[Barred], most: int = MOST_BARRED) -> Iterator[str]:
    """The systems that cannot be planned, each with what bars it."""
    for one in barred[:most]:
        yield f"{mark('bad')} {BOLD}{plain(one.system)}{OFF} cannot be planned now. {plain(one.what)}"
    if len(barred) > most:
        yield f"{mark('bad')} {len(barred) - most} more cannot be planned now {DIM}(--json names them){OFF}."


def lines_view(listed: Listed[T], rows: Sequence[T], *lines: str) -> View:
    """A short answer in a line or two."""
    return listed.view(rows, lambda: lines)
