"""Writing and reading back an archive: tar in zstandard, hashed while it is written, sealed by reading the disk again.

`sealed` means that the bytes on the disk, read again, have the hash computed while writing. `wrap` is the seam at which
encryption goes around the file: it is given the raw file and gives the one to write into.
"""

from __future__ import annotations

import hashlib
import io
import os
import tarfile
from collections.abc import Callable, Iterable
from pathlib import Path
from typing import IO

import zstandard

LEVEL = 3
Wrap = Callable[[IO[bytes]], IO[bytes]]


class _Hashing(io.RawIOBase):
    """A file that remembers the hash and the size of what went through it."""

    def __init__(self, inner: IO[bytes]) -> None:
        self.inner, self.hash, self.size = inner, hashlib.sha256(), 0

    def writable(self) -> bool:
        return True

    def write(self, data: object) -> int:
        piece = bytes(data)  # type: ignore[call-overload]
        self.hash.update(piece)
        self.size += len(piece)
        self.inner.write(piece)
        return len(piece)


def write_archive(
    path: Path, members: Iterable[tuple[str, Path]], mtime: float, wrap: Wrap | None = None
) -> tuple[str, int]:
    """Pack files under their names into `path`; its SHA-256 and size. The data is on the disk when this returns."""
    with path.open("xb") as raw:
        os.fchmod(raw.fileno(), 0o600)
        counted = _Hashing(raw)
        outer: IO[bytes] = counted if wrap is None else wrap(counted)  # type: ignore[assignment]
        with (
            zstandard.ZstdCompressor(level=LEVEL, write_checksum=True).stream_writer(outer, closefd=False) as packed,
            tarfile.open(fileobj=packed, mode="w|", format=tarfile.PAX_FORMAT) as tar,
        ):
            for name, source in members:
                info = tarfile.TarInfo(name)
                info.size, info.mtime, info.mode = source.stat().st_size, int(mtime), 0o600
                with source.open("rb") as file:
                    tar.addfile(info, file)
        raw.flush()
        os.fsync(raw.fileno())
    return counted.hash.hexdigest(), counted.size


def read_back(path: Path) -> tuple[str, int]:
    """SHA-256 and size of what lies on the disk now."""
    with path.open("rb") as file:
        found = hashlib.file_digest(file, "sha256").hexdigest()
        return found, file.tell()


def items_of(path: Path) -> dict[str, tuple[int, str]]:
    """Name to (bytes, SHA-256) of every item, by unpacking the whole: what `opened` rests on."""
    found = {}
    with (
        path.open("rb") as file,
        zstandard.ZstdDecompressor().stream_reader(file) as packed,
        tarfile.open(fileobj=packed, mode="r|") as tar,
    ):
        for member in tar:
            content = tar.extractfile(member)
            if content is not None:
                digest, size = hashlib.sha256(), 0
                while chunk := content.read(256 * 1024):
                    digest.update(chunk)
                    size += len(chunk)
                found[member.name] = (size, digest.hexdigest())
    return found
