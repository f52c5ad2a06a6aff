"""Digests, and work in threads of its own: a backup is hashed,
compressed, encrypted, written and read back at the same time.

Hash functions, compression and the disk let go of the interpreter while they work, so that two cores are really used.
An item's digest is SHA-256, as everybody can compute it; an archive's is BLAKE3, which costs a tenth of that, since
every byte of an archive is hashed twice: while it is written, and as the disk gives it back.
"""

from __future__ import annotations

import queue
import threading
from collections.abc import Callable
from typing import Generic, TypeVar

from blake3 import blake3

WAITING = 8  # pieces of each worker: enough that one which is slow on text does not hold up one which is not
T = TypeVar("T")


def archive_digest() -> blake3:
    """The digest of stored archives: `update` and `hexdigest` as hashlib has them."""
    return blake3()


class Aside(Generic[T]):
    """Gives what it is handed to a function, in order, in a thread of its own; no more than a few pieces wait.

    `put` waits while too many do. `end` waits until all is done, and
    may be called again; both raise what the function raised.
    """

    def __init__(self, work: Callable[[T], object]) -> None:
        self._work = work
        self._failed: Exception | None = None
        self._queue: queue.Queue[T | None] = queue.Queue(WAITING)
        self._thread = threading.Thread(target=self._run, daemon=True)
        self._thread.start()

    def put(self, piece: T) -> None:
        if self._failed is not None:
            raise self._failed
        self._queue.put(piece)

    def _run(self) -> None:
        while (piece := self._queue.get()) is not None:
            if self._failed is None:  # else only emptied, so that nobody waits for room in it
                try:
                    self._work(piece)
                except Exception as error:
                    self._failed = error

    def end(self) -> None:
        if self._thread.is_alive():
            self._queue.put(None)
            self._thread.join()
        if self._failed is not None:
            raise self._failed
