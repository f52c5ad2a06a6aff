"""Digests in threads of their own: a backup is hashed, compressed, encrypted, written and read back at the same time.

The hash functions and the disk let go of the interpreter while they work, so that two cores are really used.
"""

from __future__ import annotations

import hashlib
import os
import queue
import threading
from pathlib import Path

PIECE = 1024 * 1024
WAITING = 8  # pieces; what bounds the memory
BLOCK = 4 * 1024 * 1024


class Digest:
    """A SHA-256 of what passes by, computed aside. `hexdigest` waits for it, and may be asked once everything has passed."""

    def __init__(self) -> None:
        self._digest, self._buffer = hashlib.sha256(), bytearray()
        self._queue: queue.Queue[bytes | None] = queue.Queue(WAITING)
        self._thread: threading.Thread | None = None
        self._ended = False

    def update(self, data: bytes | memoryview) -> None:
        self._buffer += data
        if len(self._buffer) >= PIECE:
            self._hand_over()

    def _hand_over(self) -> None:
        if self._thread is None:
            self._thread = threading.Thread(target=self._work, daemon=True)
            self._thread.start()
        self._queue.put(bytes(self._buffer))
        self._buffer = bytearray()

    def _work(self) -> None:
        while (piece := self._queue.get()) is not None:
            self._digest.update(piece)

    def hexdigest(self) -> str:
        if not self._ended:
            self._ended = True
            if self._thread is not None:
                self._hand_over()
                self._queue.put(None)
                self._thread.join()
            else:
                self._digest.update(self._buffer)
        return self._digest.hexdigest()

    def close(self) -> None:
        """Let the thread end, where nobody wants to know any more."""
        if self._thread is not None and not self._ended:
            self._ended = True
            self._queue.put(None)


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
