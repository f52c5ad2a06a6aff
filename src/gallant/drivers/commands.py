"""A command of the user's own: without a shell, in the estate's folder, whatever the current one is, with an
environment that has no secret, and in a session of its own, so that all of it ends with who waits for it."""

from __future__ import annotations

import asyncio
import contextlib
import os
import shutil
from collections.abc import Sequence
from pathlib import Path

KEPT = ("HOME", "LANG", "LC_ALL", "LC_CTYPE", "LOGNAME", "SHELL", "TMPDIR", "TZ", "USER", "XDG_RUNTIME_DIR")


def small_environment() -> dict[str, str]:
    """What a child needs to find programs and to speak to a person; no variable that a secret is read from. A folder of
    `PATH` that depends on the current one is left out."""
    path = os.pathsep.join(one for one in os.get_exec_path() if os.path.isabs(one))
    return {"PATH": path, **{name: os.environ[name] for name in KEPT if name in os.environ}}


async def run_command(words: Sequence[str], folder: Path, told: bytes | None = None) -> int:
    """Run it in `folder`, to which a program with a slash in its name belongs too, with
    `told` on its input, and give its exit code. Raises `OSError` where it cannot be started;
    where the wait for it is cancelled it is killed with everything that it started."""
    environment, program = small_environment(), words[0]
    child = await asyncio.create_subprocess_exec(
        str(folder / program) if os.sep in program else shutil.which(program, path=environment["PATH"]) or program,
        *words[1:],
        cwd=folder,
        env=environment,
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
