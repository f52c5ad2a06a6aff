"""What the disk itself holds: files are read past the cache, which only remembers what was meant to be written."""

from __future__ import annotations

import errno
import fcntl
import mmap
import os
import queue
import threading
from collections.abc import Iterator
from pathlib import Path

from gallant.vault.digests import archive_digest

BLOCK = 1024 * 1024
ALIGNED = 4096  # what a read past the cache has to begin at, on every file system in use
_DIRECT = getattr(os, "O_DIRECT", 0)  # not every system has it


class _Disk:
    """Reads stretches of one file from the disk. Where the file
    system cannot pass by the cache, the cache drops them first."""

    def __init__(self, path: Path) -> None:
        self._buffer = mmap.mmap(-1, BLOCK)  # whole pages, so it is aligned
        try:
            self._handle, self._direct = os.open(path, os.O_RDONLY | _DIRECT), bool(_DIRECT)
        except OSError as error:
            if error.errno != errno.EINVAL:
                raise
            self._handle, self._direct = os.open(path, os.O_RDONLY), False

    def sync(self) -> None:
        os.fdatasync(self._handle)

    def pieces(self, at: int, end: int | None = None) -> Iterator[memoryview]:
        """From `at`, a multiple of `ALIGNED`, to `end` or the file's; a piece is good until the next one is asked
        for."""
        if not self._direct:
            os.posix_fadvise(self._handle, at, 0 if end is None else end - at, os.POSIX_FADV_DONTNEED)
        while end is None or at < end:
            got = self._read(at)
            if got == 0:
                return
            got = got if end is None else min(got, end - at)
            yield memoryview(self._buffer)[:got]
            at += got

    def _read(self, at: int) -> int:
        try:
            return os.preadv(self._handle, [self._buffer], at)
        except OSError as error:
            if error.errno != errno.EINVAL or not self._direct:
                raise
        self._direct = False  # opened so, but not read so: from here on through the cache
        fcntl.fcntl(self._handle, fcntl.F_SETFL, fcntl.fcntl(self._handle, fcntl.F_GETFL) & ~_DIRECT)
        return os.preadv(self._handle, [self._buffer], at)

    def close(self) -> None:
        os.close(self._handle)


def read_back(path: Path) -> tuple[str, int]:
    """BLAKE3 and size of what lies on the disk now; raises `OSError`."""
    disk, digest, size = _Disk(path), archive_digest(), 0
    try:
        disk.sync()
        for piece in disk.pieces(0):
            digest.update(piece)
            size += len(piece)
    finally:
        disk.close()
    return digest.hexdigest(), size


class ReadBack:
    """Reads a file again while it is still being written, a stretch at a time: each is synced first, since what was
    written must be on the disk before it counts."""

    def __init__(self, path: Path) -> None:
        self._digest, self.size = archive_digest(), 0
        self._queue: queue.Queue[int | None] = queue.Queue()
        self._failed: OSError | None = None
        self._disk = _Disk(path)
        self._thread = threading.Thread(target=self._work, daemon=True)
        self._thread.start()

    def upto(self, size: int) -> None:
        """So many bytes are written and flushed."""
        self._queue.put(size - size % ALIGNED)

    def _work(self) -> None:
        try:
            while (end := self._queue.get()) is not None:
                self._disk.sync()
                self._read(end)
            self._read(None)
        except OSError as error:
            self._failed = error

    def _read(self, end: int | None) -> None:
        for piece in self._disk.pieces(self.size, end):
            self._digest.update(piece)
            self.size += len(piece)

    def end(self) -> tuple[str, int]:
        """The file is complete, and synced: digest and size of what the
        disk gave back; raises `OSError` where it gave nothing."""
        self._queue.put(None)
        self._thread.join()
        self._disk.close()
        if self._failed is not None:
            raise self._failed
        return self._digest.hexdigest(), self.size
