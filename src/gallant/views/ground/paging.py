"""What is longer than the screen goes through a pager, with the heading of a table said again on every page."""

from __future__ import annotations

import io
import os
import shlex
import subprocess
import sys
from collections.abc import Callable, Iterable, Sequence
from typing import TYPE_CHECKING, Literal

from gallant.views.ground.parts import Part

if TYPE_CHECKING:
    from rich.console import Console

PAGER, ANY_PAGER = "GALLANT_PAGER", "PAGER"
USUAL = "less"
HEAD = 2  # lines: a table's heading and the rule below it
Print = Callable[["Console", Iterable[Part]], None]


def show(out: Console, parts: Sequence[Part], write: Print) -> None:
    """To the screen where it fits, else to the pager; where there is none, to the screen all the same."""
    command = os.environ.get(PAGER, os.environ.get(ANY_PAGER, USUAL))
    if not command.strip() or out.height < 5:
        write(out, parts)
        return
    text = _text(out, parts, write, None)
    if text.count("\n") < out.height:
        sys.stdout.write(text)
        return
    if not _paged(command, _text(out, parts, write, out.height - 1)):
        sys.stdout.write(text)


def _text(out: Console, parts: Sequence[Part], write: Print, page: int | None) -> str:
    """All of it as the screen would have it; tables that are longer than a `page` with their heading on each."""
    from rich.console import Console

    shown = Console(
        file=io.StringIO(), width=out.width, height=out.height, force_terminal=True, color_system=_colours(out),
        no_color=out.no_color, markup=False, highlight=False, emoji=False, legacy_windows=False,
    )  # fmt: skip
    made = list[str]()
    for number, part in enumerate(parts):
        shown.file = io.StringIO()
        write(shown, [part])
        text = shown.file.getvalue()
        if not isinstance(part, str):
            text = _with_headings(text, page) if page is not None else text
            text += "\n" if number + 1 < len(parts) else ""
        made.append(text)
    return "".join(made)


Colours = Literal["standard", "256", "truecolor"]


def _colours(out: Console) -> Colours | None:
    known: dict[str | None, Colours] = {"standard": "standard", "256": "256", "truecolor": "truecolor"}
    return known.get(out.color_system)


def _with_headings(text: str, page: int) -> str:
    """A table with its first lines again at the top of every page after the first."""
    lines = text.splitlines(keepends=True)
    if len(lines) <= page:
        return text
    head, rest = lines[:HEAD], lines[HEAD:]
    step = page - HEAD
    pages = ("".join([*head, *rest[at : at + step]]) for at in range(0, len(rest), step))
    return "".join(pages)


def _paged(command: str, text: str) -> bool:
    """Whether a pager took it. One that ends early has shown what somebody wanted to see."""
    environment = {"LESS": "FRX", **os.environ}
    try:
        process = subprocess.Popen(shlex.split(command), stdin=subprocess.PIPE, env=environment)
    except (OSError, ValueError):
        return False
    try:
        process.communicate(text.encode())
    except (BrokenPipeError, KeyboardInterrupt):
        process.wait()
    return True
