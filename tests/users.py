"""Real accounts: the program run by one that is not this, in a
mount namespace whose lists of accounts and groups have it.

    as_user("berta", ("approve", plan), folder, environment)

The kernel's own rules hold: the process has that account's number and groups, and no right
beside them. Nothing of this machine is changed: what stands in closed folders (the interpreter,
the tests' own folders) is laid where the account can come to it, in the namespace alone.
"""

from __future__ import annotations

import os
import shlex
import shutil
import subprocess
import sys
from functools import lru_cache
from pathlib import Path

import pytest

import gallant

CREW, CREW_GID = "crew", 20777
ACCOUNTS = {"anna": 20701, "berta": 20702, "carl": 20703, "mallory": 20799}
MEMBERS = ("anna", "berta", "carl")  # of the crew
SOMEBODY, SOMEBODY_ELSE = 20702, 20703  # members whom no list of this machine has


@lru_cache(maxsize=1)
def _why_not() -> str:
    if os.geteuid() != 0:
        return "only root can be another account"
    missing = [name for name in ("unshare", "setpriv", "mount") if shutil.which(name) is None]
    if missing:
        return f"missing here: {', '.join(missing)}"
    tried = subprocess.run(["unshare", "-m", "true"], capture_output=True, check=False)
    return "" if tried.returncode == 0 else "no mount namespace may be made here"


def needed_users() -> None:
    """Skip where no other account can be had; an error where nothing may be skipped."""
    if why := _why_not():
        pytest.fail(why) if os.environ.get("GALLANT_NO_SKIP") else pytest.skip(why)


def _closed_above(path: Path) -> Path | None:
    """The first folder above a path that not everybody may go through."""
    return next((up for up in reversed(path.parents) if not up.stat().st_mode & 0o001), None)


def _lists(folder: Path) -> None:
    accounts = [f"{name}:x:{uid}:{uid}::/tmp:/bin/sh\n" for name, uid in ACCOUNTS.items()]
    (folder / "passwd").write_text(Path("/etc/passwd").read_text() + "".join(accounts))
    groups = [f"{name}:x:{uid}:\n" for name, uid in ACCOUNTS.items()]
    (folder / "group").write_text(
        Path("/etc/group").read_text() + "".join(groups) + f"{CREW}:x:{CREW_GID}:{','.join(MEMBERS)}\n"
    )


def _script(account: str | int, staging: Path, within: list[Path], full: list[Path]) -> str:
    """What lays out the namespace, becomes the account, and runs what follows it."""
    lines = ["set -e", "umask 022"]
    kept = [(path, closed, staging / str(n)) for n, path in enumerate(within) if (closed := _closed_above(path))]
    lines += [f"mkdir -p {held}; mount --bind {shlex.quote(str(path))} {held}" for path, _, held in kept]
    lines += [
        f"mount -t tmpfs -o mode=755 none {shlex.quote(str(closed))}" for closed in {closed for _, closed, _ in kept}
    ]
    lines += [
        f"mkdir -p {shlex.quote(str(path))}; mount --bind {held} {shlex.quote(str(path))}" for path, _, held in kept
    ]
    for path in full:
        lines += [
            f"mount -t tmpfs -o size=4k,mode=700 none {shlex.quote(str(path))}",
            f"head -c 4096 /dev/zero > {shlex.quote(str(path / 'rest'))}",
        ]
    if isinstance(account, str):
        lines += [f"mount --bind {staging}/{name} /etc/{name}" for name in ("passwd", "group")]
    groups = f"--groups={CREW_GID}" if isinstance(account, int) else "--init-groups"
    become = "" if account == "root" else f"setpriv --reuid={account} --regid={account} {groups} --inh-caps=-all"
    return "\n".join([*lines, f'umask 002; exec {become} "$@"'])  # a umask as where each account has a group of its own


def as_user(
    account: str | int,
    words: tuple[str, ...],
    folder: Path,
    env: dict[str, str],
    program: tuple[str, ...] = ("-m", "gallant"),
    full: tuple[Path, ...] = (),
) -> subprocess.CompletedProcess[str]:
    """The program, or other words for the interpreter, run by an account in a folder: by its
    name, where the lists have it, or by its number, where they do not (then it is in the crew
    all the same). On the folders that are `full` a disk is mounted that has no room."""
    needed_users()
    staging = Path("/tmp") / f"gallant-users-{os.getpid()}"
    staging.mkdir(mode=0o755, exist_ok=True)
    try:
        _lists(staging)
        source = Path(gallant.__file__).parents[1]
        within = [Path(sys.base_prefix), Path(sys.prefix), source, folder]
        unshared = [
            "unshare",
            "-m",
            "--propagation",
            "private",
            "sh",
            "-c",
            _script(account, staging, within, list(full)),
            "sh",
        ]
        more = {"PYTHONPATH": str(source), "HOME": "/tmp", "PYTHONDONTWRITEBYTECODE": "1"}
        return subprocess.run(
            [*unshared, sys.executable, *program, *words],
            cwd="/",
            env={**env, **more, "GALLANT_ESTATE": str(folder)},
            capture_output=True,
            text=True,
            stdin=subprocess.DEVNULL,
            timeout=90,
            check=False,
        )
    finally:
        shutil.rmtree(staging, ignore_errors=True)
