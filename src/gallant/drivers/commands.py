"""A command of the user's own: without a shell, in a session of its own, so that all of it ends with who waits for it."""

from __future__ import annotations

import asyncio
import contextlib
import os
from collections.abc import Sequence


async def run_command(words: Sequence[str], told: bytes | None = None) -> int:
    """Run it with `told` on its input, and give its exit code. Raises `OSError` where it cannot be started; where the wait for it is
    cancelled it is killed with everything that it started."""
    child = await asyncio.create_subprocess_exec(
        *words,
        stdin=asyncio.subprocess.DEVNULL if told is None else asyncio.subprocess.PIPE,
        stdout=asyncio.subprocess.DEVNULL,
        stderr=asyncio.subprocess.DEVNULL,
        start_new_session=True,
    )
    try:
        await child.communicate(told)
    except asyncio.CancelledError:
        with contextlib.suppress(ProcessLookupError):
            os.killpg(child.pid, 9)
        await child.wait()
        raise
    assert child.returncode is not None  # it was waited for
    return child.returncode
