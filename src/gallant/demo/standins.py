"""The stand-ins as a child process that cannot outlive its parent, and the children that a demo runs."""

from __future__ import annotations

import contextlib
import ctypes
import json
import signal
import subprocess
import sys
from collections.abc import Callable, Iterator, Mapping
from pathlib import Path
from typing import IO, Any, TypeAlias

from gallant.core.errors import GallantError

# Addresses, keys and fingerprints of the stand-ins: JSON of another process, as gallant.standin writes it.
Said: TypeAlias = dict[str, Any]

_PR_SET_PDEATHSIG = 1  # prctl(2)
_LIBC = ctypes.CDLL(None) if sys.platform == "linux" else None


def die_with_parent() -> None:
    """Run in a child before its program starts: the kernel ends it when the parent goes, in whatever way."""
    if _LIBC is not None:
        _LIBC.prctl(_PR_SET_PDEATHSIG, signal.SIGKILL)


def begun(errors: IO[str]) -> subprocess.Popen[str]:
    """Their process, which ends when this one does."""
    return subprocess.Popen(
        [sys.executable, "-P", "-m", "gallant.standin"],
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        stderr=errors,
        text=True,
        preexec_fn=die_with_parent,
        start_new_session=True,
    )


def start(
    setup: Mapping[str, object], log: Path, begin: Callable[[IO[str]], subprocess.Popen[str]] = begun
) -> tuple[subprocess.Popen[str], Said]:
    """Start the stand-ins; the process, and what they said of their addresses when they were ready."""
    with log.open("w") as errors:
        child = begin(errors)
    assert child.stdin is not None
    assert child.stdout is not None
    child.stdin.write(json.dumps(dict(setup)) + "\n")
    child.stdin.flush()
    line = child.stdout.readline()
    if not line:
        child.wait()
        raise GallantError(
            "The stand-ins did not start.",
            f"{log} says why.",
            "Are addresses in 127.0.0.0/8 free for use on this machine?",
        )
    return child, json.loads(line)


def stop(child: subprocess.Popen[str]) -> None:
    """Let them end by themselves, and end them if they do not."""
    with contextlib.suppress(OSError):
        assert child.stdin is not None
        child.stdin.close()
    try:
        child.wait(timeout=5)
    except subprocess.TimeoutExpired:
        child.kill()
        child.wait()
    if child.stdout is not None:
        child.stdout.close()


@contextlib.contextmanager
def running(setup: Mapping[str, object], log: Path) -> Iterator[Said]:
    """The stand-ins for as long as the block lasts."""
    child, said = start(setup, log)
    try:
        yield said
    finally:
        stop(child)
