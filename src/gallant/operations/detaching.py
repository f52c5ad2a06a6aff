"""A roll in a process of its own, which goes on when the terminal is gone: begun, and found in the journal."""

from __future__ import annotations

import os
import subprocess
import sys
from collections.abc import Sequence
from pathlib import Path

from gallant.core.errors import GallantError
from gallant.core.records import Record, clean
from gallant.disk import opened
from gallant.operations.workplace import Workplace
from gallant.store.database import state_folder

MARK = "GALLANT_DETACHED"  # in the environment of a process that is the detached one
BEGINS_WITHIN_S = 120.0
LOOK_S = 0.1
LARGEST_SAID = 20_000


class Detached(Record):
    """A roll that goes on by itself, and where what it says is written; or how a process ended that began none."""

    roll: str | None
    log: str
    said: str = ""
    exit_code: int = 0


def is_detached() -> bool:
    """Whether this process is the one that goes on."""
    return os.environ.get(MARK) == "1"


def begin(place: Workplace, words: Sequence[str], log: str) -> tuple[subprocess.Popen[bytes], Path]:
    """A command in a process of its own, and where what it says is written."""
    path = state_folder(place.folder) / log
    with os.fdopen(opened(path, os.O_WRONLY | os.O_CREAT | os.O_TRUNC), "wb") as said:
        process = subprocess.Popen(
            [sys.executable, "-m", "gallant", *words],
            stdin=subprocess.DEVNULL,
            stdout=said,
            stderr=said,
            start_new_session=True,
            env={**os.environ, MARK: "1"},
        )
    return process, path


def detach(place: Workplace, words: Sequence[str], known: str | None = None, log: str = "detached.log") -> Detached:
    """Begin a command in a process of its own, and wait until its roll is under way: `known`, or one that the journal has not seen yet."""
    before = {row.id for row in place.journal.rolls()[0]}
    process, path = begin(place, words, log)
    shown = str(path.relative_to(place.folder))
    until = place.clock.real() + BEGINS_WITHIN_S
    while process.poll() is None:
        rolls = [row.id for row in place.journal.open_rolls()]
        begun = next(
            (name for name in rolls if (name == known or name not in before) and place.journal.is_running(name)), None
        )
        if begun is not None:
            return Detached(roll=begun, log=shown)
        if place.clock.real() > until:
            raise GallantError(
                f"No roll began within {BEGINS_WITHIN_S:g} s; process {process.pid} is still at it.",
                f"What it says is in {shown}.",
                "gallant history",
            )
        _wait(process)
    return Detached(
        roll=None, log=shown, said=_said(path), exit_code=process.returncode if process.returncode >= 0 else 4
    )


def _wait(process: subprocess.Popen[bytes]) -> None:
    try:
        process.wait(LOOK_S)
    except subprocess.TimeoutExpired:
        return


def _said(path: Path) -> str:
    lines = path.read_bytes()[-LARGEST_SAID:].decode("utf-8", "replace").splitlines()
    return "\n".join(clean(line, 400) for line in lines)
