"""`state/hands`: a file for each account that wrote into the ledger, which is
its own; in it a line for each of its entries, the number and the hash.

A file's owner is what the kernel says, and no member of a group can write
another's: so the folder lets each take away only their own (sticky).
"""

from __future__ import annotations

import contextlib
import os
import re
import stat
from pathlib import Path

from gallant.core.decide.hands import Hand
from gallant.core.errors import GallantError
from gallant.disk import is_of_group, make_folder, refuse_link, why_not
from gallant.people import account_name

FOLDER = "hands"  # in state/
OWN, READABLE = 0o600, 0o644  # READABLE: whoever comes as far as the folder may read it
_LINE = re.compile(rb"(\d{1,18}) ([0-9a-f]{64})")


def note(state: Path, seq: int, digest: str) -> None:
    """Note an entry as this account's; on the disk when this returns. Raises `GallantError` where that cannot be
    done."""
    path = state / FOLDER / str(os.getuid())
    try:
        _made(state / FOLDER)
        refuse_link(path)
        handle = os.open(path, os.O_RDWR | os.O_APPEND | os.O_CREAT | os.O_NOFOLLOW | os.O_CLOEXEC, OWN)
        with os.fdopen(handle, "r+b", buffering=0) as file:
            _is_own(file.fileno())
            os.fchmod(file.fileno(), OWN if _is_ones_own(state) else READABLE)
            end = os.fstat(file.fileno()).st_size
            torn = end > 0 and os.pread(file.fileno(), 1, end - 1) != b"\n"  # by a cut in the middle of a line
            file.write(b"\n" * torn + f"{seq} {digest}\n".encode())
            os.fsync(file.fileno())
    except OSError as error:
        raise GallantError(
            f"{path} cannot be written: {why_not(error, path)}.",
            "It says which decisions are of this account; none is written without it.",
            "Look at its rights, its owner and the free space; gallant doctor looks at all of it.",
        ) from None


def _made(folder: Path) -> None:
    if not folder.is_dir():
        make_folder(folder)
        with contextlib.suppress(OSError):  # a medium that knows no rights
            folder.chmod(stat.S_IMODE(folder.stat().st_mode) | stat.S_ISVTX)


def _is_ones_own(state: Path) -> bool:
    """Whether nobody else works on the estate: neither a group, nor somebody whose folder it is."""
    return state.stat().st_uid == os.geteuid() and not is_of_group(state)


def _is_own(handle: int) -> None:
    found = os.fstat(handle)
    if found.st_uid != os.geteuid() or found.st_nlink != 1 or not stat.S_ISREG(found.st_mode):
        raise PermissionError(1, f"it is a file of {account_name(found.st_uid)}")


def hands_in(state: Path) -> dict[int, Hand]:
    """Each account's, by the number that its file is called by; a file that is
    none of an account's own says whose it is, and has noted nothing."""
    found = {}
    with contextlib.suppress(OSError):
        for path in sorted((state / FOLDER).iterdir()):
            if path.name.isdecimal() and (hand := _read(path)) is not None:
                found[int(path.name)] = hand
    return found


def _read(path: Path) -> Hand | None:
    try:
        handle = os.open(path, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC)
        with os.fdopen(handle, "rb") as file:
            about = os.fstat(handle)
            own = stat.S_ISREG(about.st_mode) and about.st_nlink == 1
            lines = file.read().split(b"\n") if own else []
    except OSError:
        return None
    noted = {int(match[1]): match[2].decode() for line in lines if (match := _LINE.fullmatch(line))}
    return Hand(owner=about.st_uid, name=account_name(about.st_uid), noted=noted)
