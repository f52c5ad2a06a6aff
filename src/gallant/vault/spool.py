"""An export as it comes off a device: hashed, compressed and kept in a file without a name until all of them are there.

An archive needs an item's size before its bytes, and whether anything changed since
the last backup is known only at the end; so the bytes wait, already compressed, on the
disk that will hold the archive. A power cut leaves nothing of such a file.
"""

from __future__ import annotations

import contextlib
import hashlib
import os
import tempfile
from collections.abc import Iterator
from pathlib import Path
from typing import IO

import zstandard

from gallant.core.errors import GallantError
from gallant.core.estate.backups import Item
from gallant.disk import why_not
from gallant.vault.digests import Aside

LEVEL = 1  # half the time of the usual 3, for 5 to 7 % more bytes of /etc, of documents, of source
BLOCK = 1024 * 1024
PIECE = 1024 * 1024


class Spool:
    """One export: `write` takes its chunks, `item` says afterwards what they were, `frames` gives them back compressed.

    Raises `GallantError` where the disk does not take them. To be closed in any case.
    """

    def __init__(self, node: str, name: str, folder: Path) -> None:
        self.node, self.name, self.size, self._folder = node, name, 0, folder
        # Its class differs from system to system, and has no name in common.
        self._file: IO[bytes] = tempfile.TemporaryFile(dir=folder, prefix=".export-", buffering=0)
        self._gathered: list[bytes] = []
        self._waiting = 0
        self._digest = hashlib.sha256()
        self._packer = zstandard.ZstdCompressor(level=LEVEL, write_checksum=True)
        self._hashing, self._packing = Aside(self._digest.update), Aside(self._pack)

    def write(self, chunk: bytes) -> None:
        self.size += len(chunk)
        self._gathered.append(bytes(chunk))
        self._waiting += len(chunk)
        if self._waiting >= PIECE:
            self._hand_over()

    def _hand_over(self) -> None:
        piece = self._gathered[0] if len(self._gathered) == 1 else b"".join(self._gathered)
        self._gathered, self._waiting = [], 0
        self._hashing.put(piece)
        self._packing.put(piece)

    def _pack(self, piece: bytes) -> None:
        self._keep(self._packer.compress(piece))

    def _keep(self, packed: bytes) -> None:
        view = memoryview(packed)
        try:
            while view:
                view = view[self._file.write(view) :]
        except OSError as error:  # told here as what it is: whoever reads from a device would tell it as the device's
            raise GallantError(
                f"What {self.node} exports cannot be kept in {self._folder}: {why_not(error, self._folder)}.",
                "There is no backup; nothing half-written was kept.",
                "Make room, then take the backup again.",
            ) from None

    def finish(self) -> Item:
        """Everything was written: waits until it is hashed and packed."""
        if self._gathered:
            self._hand_over()
        self._hashing.end()
        self._packing.end()
        return Item(name=self.name, node=self.node, bytes=self.size, sha256=self._digest.hexdigest())

    def frames(self) -> Iterator[bytes]:
        """The whole as one zstandard frame, in pieces; after `finish`."""
        at = 0
        while piece := os.pread(self._file.fileno(), BLOCK, at):
            at += len(piece)
            yield piece

    def close(self) -> None:
        for worker in (self._hashing, self._packing):
            with contextlib.suppress(Exception):  # already on its way to the one who waits
                worker.end()
        self._file.close()
