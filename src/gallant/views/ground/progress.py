"""Progress bars on stderr, where that is a terminal; nothing at all where it is not."""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager

from gallant.views.ground.output import console
from gallant.views.ground.words import plain


@contextmanager
def ticking(what: str, quiet: bool) -> Iterator[Callable[[int, int], None]]:
    """Counts: `tick(done, of)`."""
    if quiet or not sys.stderr.isatty():
        yield lambda done, of: None
        return
    from rich.progress import BarColumn, MofNCompleteColumn, Progress, TextColumn, TimeRemainingColumn

    with Progress(
        TextColumn("{task.description}", markup=False),
        BarColumn(),
        MofNCompleteColumn(),
        TimeRemainingColumn(),
        console=console(sys.stderr),
        transient=True,
    ) as bar:
        task = bar.add_task(what, total=None)
        yield lambda done, of: bar.update(task, completed=done, total=of)


@contextmanager
def metering(quiet: bool) -> Iterator[Callable[[str, int, int], None]]:
    """Bytes of several files: `meter(name, done, whole)`, each with its speed and remaining time, and a total."""
    if quiet or not sys.stderr.isatty():
        yield lambda name, done, whole: None
        return
    from rich.progress import BarColumn, DownloadColumn, Progress, TextColumn, TimeRemainingColumn, TransferSpeedColumn

    with Progress(
        TextColumn("{task.description}", markup=False),
        BarColumn(),
        DownloadColumn(),
        TransferSpeedColumn(),
        TimeRemainingColumn(),
        console=console(sys.stderr),
        transient=True,
    ) as bar:
        tasks: dict[str, int] = {}
        parts: dict[str, tuple[int, int]] = {}
        total = bar.add_task("total", total=None)

        def meter(name: str, done: int, whole: int) -> None:
            if name not in tasks:
                tasks[name] = bar.add_task(plain(name), total=whole)
            parts[name] = (done, whole)
            bar.update(tasks[name], completed=done)  # type: ignore[arg-type]
            bar.update(total, completed=sum(d for d, _ in parts.values()), total=sum(w for _, w in parts.values()))

        yield meter
