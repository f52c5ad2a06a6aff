"""A roll in a process of its own, which goes on when the terminal is gone. The
process says its roll over a pipe: what else begins in the meantime is another's."""

from __future__ import annotations

import contextlib
import os
import select
import subprocess
import sys
from collections.abc import Sequence
from pathlib import Path

from gallant.core.errors import GallantError
from gallant.core.records import Record, clean
from gallant.disk import opened
from gallant.operations.ground.workplace import Workplace
from gallant.store.database import state_folder

MARK = "GALLANT_DETACHED"  # in the environment of a process that is the detached one
TELLS = "GALLANT_TELLS"  # the number of the pipe to which that says its roll
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


def begin(
    place: Workplace, words: Sequence[str], log: str, tells: int | None = None
) -> tuple[subprocess.Popen[bytes], Path]:
    """A command in a process of its own, and where what it says is
    written. No module of the current folder is run (-P)."""
    path = state_folder(place.folder) / log
    with os.fdopen(opened(path, os.O_WRONLY | os.O_CREAT | os.O_TRUNC), "wb") as said:
        process = subprocess.Popen(
            [sys.executable, "-P", "-m", "gallant", *words],
            stdin=subprocess.DEVNULL,
            stdout=said,
            stderr=said,
            start_new_session=True,
            pass_fds=() if tells is None else (tells,),
            env={**os.environ, MARK: "1", **({} if tells is None else {TELLS: str(tells)})},
        )
    return process, path


def say_begun(roll: str) -> None:
    """To whoever waits for this process to begin its roll: it is under way. Once; nothing where nobody waits."""
    number = os.environ.pop(TELLS, "")
    if number.isdecimal():
        with contextlib.suppress(OSError), os.fdopen(int(number), "wb") as tells:  # nobody may listen any more
            tells.write(f"{roll}\n".encode())


def detach(place: Workplace, words: Sequence[str], log: str | None = None) -> Detached:
    """Begin a command in a process of its own, and wait until it says which roll it has under way, or ends without
    one."""
    hears, tells = os.pipe()
    try:
        process, path = begin(place, words, log or f"detached-{os.getpid()}.log", tells)
    finally:
        os.close(tells)
    with os.fdopen(hears, "rb") as heard:
        roll = _told(place, heard.fileno())
    if roll is None and process.poll() is None and not _ends(process):
        raise GallantError(
            f"No roll began within {BEGINS_WITHIN_S:g} s; process {process.pid} is still at it.",
            f"What it says is in {path.relative_to(place.folder)}.",
            "gallant history",
        )
    if roll is not None:
        if log is None:
            path = path.rename(path.with_name(f"detached-{roll}.log"))
        return Detached(roll=roll, log=str(path.relative_to(place.folder)))
    shown, code = str(path.relative_to(place.folder)), process.wait()
    said = _said(path)
    if log is None:
        path.unlink()
    return Detached(roll=None, log=shown, said=said, exit_code=code if code >= 0 else 4)


def _told(place: Workplace, pipe: int) -> str | None:
    """The roll that is said over a pipe; None where its other end is closed without one, or nothing comes in time."""
    until, heard = place.clock.real() + BEGINS_WITHIN_S, b""
    while place.clock.real() < until:
        if select.select([pipe], [], [], LOOK_S)[0]:
            piece = os.read(pipe, 200)
            heard += piece
            if not piece or b"\n" in heard:
                break
    line, end, _ = heard.partition(b"\n")
    return clean(line.decode("ascii", "replace"), 40) if end else None


def _ends(process: subprocess.Popen[bytes]) -> bool:
    """Whether a process that has closed its pipe ends, too: it may have a last word to say."""
    try:
        process.wait(LOOK_S * 50)
    except subprocess.TimeoutExpired:
        return False
    return True


def _said(path: Path) -> str:
    lines = path.read_bytes()[-LARGEST_SAID:].decode("utf-8", "replace").splitlines()
    return "\n".join(clean(line, 400) for line in lines)
