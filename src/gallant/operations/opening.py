"""The estate's file, read once for each state that it is in: a large one takes seconds to check, and is kept as it was read.

What is kept is found by the file's own bytes and by the code that reads them, so that it can never stand for another file;
where it is missing or damaged, the file is read anew.
"""

from __future__ import annotations

import contextlib
import hashlib
from pathlib import Path

import msgspec

from gallant import core
from gallant.core.errors import GallantError
from gallant.core.estate.systems import Estate, parse_estate
from gallant.disk import put_whole
from gallant.store.database import state_folder

WORTH_KEEPING = 50_000  # bytes: below, it is read sooner than it is looked up
NAME = "estate.read"


def open_estate(name: str, raw: bytes, folder: Path) -> Estate:
    """The estate that a file of these bytes declares; raises `Invalid` with every problem of it."""
    if len(raw) < WORTH_KEEPING:
        return parse_estate(name, raw)
    mark = _mark(raw)
    with contextlib.suppress(OSError, msgspec.MsgspecError, ValueError, TypeError):
        kept = (folder / "state" / NAME).read_bytes()
        if kept.startswith(mark):
            return msgspec.msgpack.decode(kept[len(mark) :], type=Estate)
    estate = parse_estate(name, raw)
    with contextlib.suppress(OSError, GallantError):  # then it is read anew the next time
        put_whole(state_folder(folder) / NAME, mark + msgspec.msgpack.encode(estate))
    return estate


def _mark(raw: bytes) -> bytes:
    """Of the bytes and of the code: another Gallant may see problems where this one saw none."""
    found = hashlib.sha256(raw)
    for file in sorted(Path(core.__file__).parent.rglob("*.py")):
        stat = file.stat()
        found.update(f"{file.name} {stat.st_size} {stat.st_mtime_ns}\0".encode())
    return found.digest()
