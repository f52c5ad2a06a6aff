"""What every table has: columns that give way on a narrow screen, and the next thing to do below."""

from __future__ import annotations

import shutil
from collections.abc import Iterator, Mapping, Sequence
from typing import TYPE_CHECKING

from gallant.core.assess.notices import Notice
from gallant.views.output import PIPED_WIDTH, Drawn, View
from gallant.views.words import (
    BOLD,
    DIM,
    LOUD,
    OFF,
    YELLOW,
    Marks,
    mark,
    plain,
    said,
    styled,
)

if TYPE_CHECKING:
    from rich.table import Table

    from gallant.core.readings import Reading
    from gallant.core.work.sifting import Barred
    from gallant.operations.files import Kind, Validated

NARROW = 100  # columns; below, what only adds to the rest is left out

LEVEL_MARKS = Marks({"stop": "bad", "warn": "work", "note": "note", "pass": "good"})


class Grid:
    """A table with a ruled head and no other lines. Cells fold, they are never cut; where the screen is narrow, columns
    that only add to the others (`optional`) are left out."""

    def __init__(self, columns: Sequence[str], right: Sequence[str], optional: Sequence[str]) -> None:
        from rich import box
        from rich.table import Table

        narrow = shutil.get_terminal_size((PIPED_WIDTH, 40)).columns < NARROW
        self.kept = [not (narrow and column in optional) for column in columns]
        self.table = Table(
            box=box.SIMPLE_HEAD, pad_edge=False, padding=(0, 2, 0, 0), header_style="bold", show_edge=False
        )
        for number, column in enumerate(columns):  # what a row is about stays in one piece, however narrow the screen
            if self.kept[number]:
                whole = number == 0 or column in right
                self.table.add_column(
                    column, justify="right" if column in right else "left", overflow="fold", no_wrap=whole
                )

    def title(self, text: str) -> None:
        self.table.title, self.table.title_justify, self.table.title_style = styled(text), "left", "none"

    def add_row(self, *cells: str) -> None:
        self.table.add_row(*(styled(cell) for cell, kept in zip(cells, self.kept, strict=True) if kept))

    def __rich__(self) -> Table:
        return self.table


def table(*columns: str, right: Sequence[str] = (), optional: Sequence[str] = ()) -> Grid:
    return Grid(columns, right, optional)


MOST_STEPS = 3  # a list of everything that could be done is no next step
MOST_NAMED = 8
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


def next_steps(*commands: str | None) -> list[str]:
    """What to do next as lines below a table: each once, joined over systems, no more than one takes in at a glance."""
    steps = together([c for c in commands if c])
    shown = [f"{BOLD}next{OFF}  {plain(step)}" for step in steps[:MOST_STEPS]]
    return shown + ([f"{DIM}      and {len(steps) - MOST_STEPS} more{OFF}"] if len(steps) > MOST_STEPS else [])


def together(steps: Sequence[str]) -> list[str]:
    """Steps, each once, in their order; what is the same but for the system or node at its end is one."""
    found: dict[str, list[str]] = {}
    for step in steps:
        head, _, last = step.rpartition(" ")
        one = head if head in FOR_SEVERAL or (head and not step.startswith("gallant ")) else step
        mine = found.setdefault(one, [])
        if one == head and last not in mine:
            mine.append(last)
    return [_joined(head, last) for head, last in found.items()]


def _joined(head: str, last: Sequence[str]) -> str:
    """Too many to be named are all of them, for a command that takes none as all."""
    if len(last) > MOST_NAMED and head.startswith("gallant "):
        return head
    return " ".join([head, (" " if "gallant " in head else ", ").join(last)]) if last else head


def state_word(state: str) -> str:
    return {"in_service": "in service", "out_of_service": f"{LOUD}out of service{OFF}"}.get(
        state, f"{YELLOW}{state}{OFF}"
    )


def sync_word(reading: Reading) -> str:
    if reading.in_sync is None:
        return "–"
    return "in sync" if reading.in_sync else f"{YELLOW}{plain(reading.sync_word)}{OFF}"


def profiles_view(kinds: Sequence[Kind]) -> View:
    def text() -> Drawn:
        shown = table("profile", "driver", "product", "what it gives")
        for kind in kinds:
            shown.add_row(f"{BOLD}{plain(kind.profile)}{OFF}", kind.driver, plain(kind.product), ", ".join(kind.gives))
        yield shown
        yield from next_steps("gallant survey --profile NAME|FILE --address ADDRESS tries one on a device")

    return View("profiles", list(kinds), text)


def left_lines(left: Sequence[Notice], why: Mapping[str, str] | None = None) -> Iterator[str]:
    """What is not as its aim says: all is well only when no component is left. `why` it is in no plan, by name."""
    for n in left:
        told = (why or {}).get(n.name, "")
        yield f"{mark('work')} Still behind: {BOLD}{plain(n.name)}{OFF} {plain(', '.join(n.installed))} → {plain(n.target or '–')}{f': {plain(told)}' if told else ''}."


MOST_BARRED = 6


def barred_lines(barred: Sequence[Barred]) -> Iterator[str]:
    """The systems that cannot be planned, each with what bars it."""
    for one in barred[:MOST_BARRED]:
        yield f"{mark('bad')} {BOLD}{plain(one.system)}{OFF} cannot be planned now. {plain(one.what)}"
    if len(barred) > MOST_BARRED:
        yield f"{mark('bad')} {len(barred) - MOST_BARRED} more cannot be planned now {DIM}(--json names them){OFF}."


def validated_view(rows: Sequence[Validated]) -> View:
    def text() -> Drawn:
        for r in rows:
            if r.problems:
                yield from (plain(p) for p in r.problems)
            else:
                yield f"{said('good', r.file)}  {DIM}{r.kind}{OFF}"
                if r.gives:
                    yield f"  gives {', '.join(r.gives)}"

    return View("validate", rows, text)


def lines_view(command: str, rows: Sequence[object], *lines: str) -> View:
    """A short answer in a line or two."""
    return View(command, rows, lambda: lines)
