"""Digests in threads of their own: a backup is hashed, compressed, encrypted, written and read back at the same time.

The hash functions and the disk let go of the interpreter while they work, so that two cores are really used.
"""

from __future__ import annotations

import hashlib
import os
import queue
import threading
from pathlib import Path
from typing import IO

PIECE = 1024 * 1024
WAITING = 8  # pieces; what bounds the memory
BLOCK = 4 * 1024 * 1024


class Digest:
    """A SHA-256 of what passes by, computed aside. `hexdigest` waits for it, and may be asked once everything has passed."""

    def __init__(self) -> None:
        self._digest = hashlib.sha256()
        self._pieces: list[bytes] = []
        self._held = 0
        self._queue: queue.Queue[list[bytes] | None] = queue.Queue(WAITING)
        self._thread = threading.Thread(target=self._work, daemon=True)
        self._thread.start()

    def update(self, data: bytes) -> None:
        self._pieces.append(bytes(data))
        self._held += len(data)
        if self._held >= PIECE:
            self._hand_over()

    def _hand_over(self) -> None:
        self._queue.put(self._pieces)
        self._pieces, self._held = [], 0

    def _work(self) -> None:
        while (pieces := self._queue.get()) is not None:
            self._digest.update(b"".join(pieces))

    def hexdigest(self) -> str:
        if self._thread.is_alive():
            self._hand_over()
            self._queue.put(None)
            self._thread.join()
        return self._digest.hexdigest()


class FileDigest:
    """A SHA-256 of a file that is whole, computed aside while other work goes on."""

    def __init__(self, file: IO[bytes]) -> None:
        self._digest, self._handle = hashlib.sha256(), os.dup(file.fileno())
        self._failed: OSError | None = None
        self._thread = threading.Thread(target=self._work, daemon=True)
        self._thread.start()

    def _work(self) -> None:
        at = 0
        try:
            while piece := os.pread(self._handle, BLOCK, at):
                self._digest.update(piece)
                at += len(piece)
        except OSError as error:
            self._failed = error
        finally:
            os.close(self._handle)

    def hexdigest(self) -> str:
        self._thread.join()
        if self._failed is not None:
            raise self._failed
        return self._digest.hexdigest()


class ReadBack:
    """Reads a file again from the disk while it is still being written, a stretch at a time: what was written must be on the
    disk before it counts, so each stretch is synced and dropped from the cache first."""

    def __init__(self, path: Path) -> None:
        self._digest, self.size = hashlib.sha256(), 0
        self._queue: queue.Queue[int | None] = queue.Queue()
        self._failed: OSError | None = None
        self._handle = os.open(path, os.O_RDONLY)
        self._thread = threading.Thread(target=self._work, daemon=True)
        self._thread.start()

    def upto(self, size: int) -> None:
        """So many bytes are written and flushed."""
        self._queue.put(size)

    def _work(self) -> None:
        try:
            while (end := self._queue.get()) is not None:
                os.fdatasync(self._handle)
                os.posix_fadvise(self._handle, self.size, end - self.size, os.POSIX_FADV_DONTNEED)
                while self.size < end:
                    piece = os.pread(self._handle, min(BLOCK, end - self.size), self.size)
                    if not piece:
                        return
                    self._digest.update(piece)
                    self.size += len(piece)
        except OSError as error:
            self._failed = error

    def end(self) -> tuple[str, int]:
        """SHA-256 and size of what the disk gave back; raises `OSError` where it gave nothing."""
        self._queue.put(None)
        self._thread.join()
        os.close(self._handle)
        if self._failed is not None:
            raise self._failed
        return self._digest.hexdigest(), self.size
