"""The estate's file, read once for each state that it is in: a
large one takes seconds to check, and is kept as it was read.

What is kept is found by the file's own bytes and by the code that reads them, so that it can never stand for another
file; where it is missing or damaged, the file is read anew.
"""

from __future__ import annotations

import contextlib
import hashlib
import re
from collections.abc import Iterator, Sequence
from pathlib import Path

import msgspec

from gallant import core
from gallant.core.errors import GallantError
from gallant.core.estate.reading import parse_estate
from gallant.core.estate.systems import Estate
from gallant.core.records import clean
from gallant.disk import put_whole
from gallant.store.database import state_folder

LARGEST_INCLUDED = 64 * 1024 * 1024  # bytes of all included files together
WORTH_KEEPING = 50_000  # bytes: below, it is read sooner than it is looked up
NAME = "estate.read"
# An estate of several files is read each time: that one of them is unchanged says nothing of the others.
LONGEST_NAME = 300
INCLUDES = re.compile(rb"(?m)^\s*[\"']?include[\"']?\s*:")


class Files:
    """The files of an estate's folder that it includes, each read once."""

    def __init__(self, folder: Path) -> None:
        self.folder, self.read, self._left = folder, dict[str, list[tuple[str, bytes]]](), LARGEST_INCLUDED

    def __call__(self, pattern: str) -> Sequence[tuple[str, bytes]]:
        """Raises `ValueError` in words where a pattern names no file, or one that cannot be read."""
        if pattern not in self.read:
            self.read[pattern] = list(self._found(pattern))
        return self.read[pattern]

    def _found(self, pattern: str) -> Iterator[tuple[str, bytes]]:
        """Names of files are text as well: whoever may make one in the folder writes no lines of ours."""
        told = clean(pattern, LONGEST_NAME)
        try:
            paths = sorted(path for path in self.folder.glob(pattern) if path.is_file())
        except (ValueError, NotImplementedError, OSError):
            raise ValueError(f"{told} is no path in the estate's folder") from None
        if not paths:
            raise ValueError(f"no file is called {told} in the estate's folder")
        for path in paths:
            name = clean(str(path.relative_to(self.folder)), LONGEST_NAME)
            try:
                with path.open("rb") as file:
                    raw = file.read(self._left + 1)
            except OSError as error:
                raise ValueError(f"{name} cannot be read: {error.strerror}") from None
            self._left -= len(raw)
            if self._left < 0:
                raise ValueError(f"the included files are larger than {LARGEST_INCLUDED // 1024 // 1024} MiB together")
            yield name, raw


def open_estate(name: str, raw: bytes, folder: Path) -> Estate:
    """The estate that a file of these bytes declares, with those that
    it includes; raises `Invalid` with every problem of it."""
    if len(raw) < WORTH_KEEPING or INCLUDES.search(raw):
        return parse_estate(name, raw, Files(folder))
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
