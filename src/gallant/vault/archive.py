"""Writing and reading back an archive: tar in zstandard, in age where there are recipients; hashed while it is written.

Everything streams: one generator makes the tar and compresses it, and whoever encrypts or writes pulls from it. What is
read back is held against what the manifest says of every item before anything of it is believed; an archive is not trusted
to name its own files, and nothing that does not come out whole is left behind.
"""

from __future__ import annotations

import contextlib
import hashlib
import io
import os
import tarfile
import threading
from collections.abc import Callable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import IO, Any, Protocol

import zstandard

from gallant.core.backups import Item
from gallant.core.errors import Refused
from gallant.vault.digests import Digest, ReadBack

LEVEL = 3
CHUNK = 256 * 1024
STRETCH = 32 * 1024 * 1024  # written between two looks at what the disk gives back
Meter = Callable[[int], None]  # bytes of the items so far


class Sink(Protocol):
    """Where an item's bytes go while it is unpacked."""

    def write(self, data: bytes, /) -> object: ...


class _Hashing(io.RawIOBase):
    """A file that remembers the hash and the size of what went through it, and has it read back while it grows."""

    def __init__(self, inner: IO[bytes], again: ReadBack) -> None:
        self.inner, self.hash, self.size = inner, Digest(), 0
        self._again, self._told = again, 0

    def writable(self) -> bool:
        return True

    def write(self, data: Any) -> int:
        self.hash.update(data)
        self.size += len(data)
        self.inner.write(data)
        if self.size - self._told >= STRETCH:
            self.tell_reader()
        return len(data)

    def tell_reader(self) -> None:
        self.inner.flush()
        self._told = self.size
        self._again.upto(self.size)


class _Pulled:
    """A reader over a generator, for a library that pulls."""

    def __init__(self, chunks: Iterator[bytes]) -> None:
        self._chunks, self._left = chunks, memoryview(b"")

    def read(self, size: int = -1) -> bytes:
        while not self._left:
            piece = next(self._chunks, None)
            if piece is None:
                return b""
            self._left = memoryview(piece)
        cut = len(self._left) if size < 0 else size
        piece, self._left = bytes(self._left[:cut]), self._left[cut:]
        return piece


def _tar(members: Sequence[tuple[Item, IO[bytes]]], mtime: int, meter: Meter | None) -> Iterator[bytes]:
    """A tar archive (POSIX.1-2001) as it is made; each member is read once, from its beginning."""
    told = 0
    for item, source in members:
        info = tarfile.TarInfo(item.path)
        info.size, info.mtime, info.mode = item.bytes, mtime, 0o600
        yield info.tobuf(tarfile.PAX_FORMAT)
        source.seek(0)
        left = item.bytes
        while left and (piece := source.read(min(CHUNK, left))):
            left -= len(piece)
            told += len(piece)
            yield piece
            if meter is not None:
                meter(told)
        if left:
            raise OSError(5, f"{item.path} lost {left} bytes while it was packed")
        yield b"\0" * (-item.bytes % tarfile.BLOCKSIZE)
    yield b"\0" * (2 * tarfile.BLOCKSIZE)


def _packed(tar: Iterator[bytes]) -> Iterator[bytes]:
    packer = zstandard.ZstdCompressor(level=LEVEL, write_checksum=True).compressobj()
    waiting, size = [], 0
    for piece in tar:
        if made := packer.compress(piece):
            waiting.append(made)
            size += len(made)
            if size >= CHUNK:
                yield b"".join(waiting)
                waiting, size = [], 0
    yield b"".join((*waiting, packer.flush()))


def write_archive(
    path: Path,
    members: Sequence[tuple[Item, IO[bytes]]],
    mtime: float,
    recipients: Sequence[Any],
    meter: Meter | None = None,
) -> tuple[str, int]:
    """Pack items into `path`, encrypted where there are recipients; its SHA-256 and size, computed while it was written.

    It is on the disk afterwards, and was read back from there: raises `NotWhole` where that gave anything else.
    """
    chunks = _packed(_tar(members, int(mtime), meter))
    with path.open("xb") as raw:
        os.fchmod(raw.fileno(), 0o600)
        again = ReadBack(path)
        counted = _Hashing(raw, again)
        try:
            _write_all(counted, chunks, recipients)
            counted.tell_reader()
            os.fsync(raw.fileno())
        finally:  # whatever happened, nobody is left waiting in a thread
            written, read = (counted.hash.hexdigest(), counted.size), again.end()
    if read != written:
        raise NotWhole(f"{path.name} reads back otherwise than it was written: the disk is not to be trusted.")
    return written


def _write_all(counted: _Hashing, chunks: Iterator[bytes], recipients: Sequence[Any]) -> None:
    if recipients:
        import pyrage

        pyrage.encrypt_io(_Pulled(chunks), counted, list(recipients))  # type: ignore[arg-type]
    else:
        for piece in chunks:
            counted.write(piece)


def read_back(path: Path) -> tuple[str, int]:
    """SHA-256 and size of what lies on the disk now."""
    with path.open("rb") as file:
        found = hashlib.file_digest(file, "sha256").hexdigest()
        return found, file.tell()


class NotWhole(Refused):
    """An archive does not hold what its manifest says, or cannot be decrypted."""


def unpack(
    path: Path,
    items: Sequence[Item],
    identities: Sequence[Any] | None,
    opened: Callable[[Item], Sink | None] = lambda item: None,
) -> None:
    """Decrypt and unpack the whole, each item into what `opened` gives for it (None: hashed only).

    Raises `NotWhole` unless every item, and nothing beside them, came out as the manifest has it. Until it returns, nothing
    that was written may be believed.
    """
    expected = {item.path: item for item in items}
    seen: set[str] = set()
    with _plain(path, identities) as plain:
        try:
            with (
                zstandard.ZstdDecompressor().stream_reader(plain, closefd=False) as packed,
                tarfile.open(fileobj=packed, mode="r|") as tar,
            ):
                for member in tar:
                    seen.add(_take(tar, member, expected, seen, opened))
                while packed.read(CHUNK):  # to the end, so that its checksum is looked at
                    pass
        except (tarfile.TarError, zstandard.ZstdError, EOFError) as error:
            raise NotWhole(f"{path.name} breaks off or is damaged: {error}.") from None
    if missing := expected.keys() - seen:
        raise NotWhole(f"{path.name} lacks {', '.join(sorted(missing))}.")


def _take(
    tar: tarfile.TarFile,
    member: tarfile.TarInfo,
    expected: Mapping[str, Item],
    seen: set[str],
    opened: Callable[[Item], Sink | None],
) -> str:
    item = expected.get(member.name)
    if item is None or member.name in seen:
        raise NotWhole(f"It holds {member.name[:80]!r}, of which its manifest knows nothing.")
    if not member.isreg() or member.sparse is not None:
        raise NotWhole(f"{member.name} is no plain file in it.")
    if member.size != item.bytes:
        raise NotWhole(f"{member.name} has {member.size} bytes in it; its manifest says {item.bytes}.")
    content, sink, digest = tar.extractfile(member), opened(item), hashlib.sha256()
    assert content is not None
    while piece := content.read(CHUNK):
        digest.update(piece)
        if sink is not None:
            sink.write(piece)
    if digest.hexdigest() != item.sha256:
        raise NotWhole(f"{member.name} is not as it was exported.")
    return member.name


@contextlib.contextmanager
def _plain(path: Path, identities: Sequence[Any] | None) -> Iterator[IO[bytes]]:
    """The archive decrypted as it is read: through a pipe, so that no plaintext ever lies on a disk."""
    with path.open("rb") as raw:
        if identities is None:
            yield raw
            return
        import pyrage

        out, into = os.pipe()
        failed: list[Exception] = []

        def decrypt() -> None:
            try:
                with os.fdopen(into, "wb") as pipe:
                    pyrage.decrypt_io(raw, pipe, list(identities))
            except Exception as error:  # said below, in the reader's thread; a reader that went away says its own
                failed.append(error)

        worker = threading.Thread(target=decrypt, daemon=True)
        worker.start()
        broken: NotWhole | None = None
        with os.fdopen(out, "rb") as pipe:
            try:
                yield pipe
                while pipe.read(CHUNK):  # to the end: the last of it is authenticated too
                    pass
            except NotWhole as error:
                broken = error
        worker.join()
        if failed and "roken pipe" not in str(failed[0]):  # that one only says that we had read enough
            raise _undecrypted(path, failed[0]) from None
        if broken is not None:
            raise broken


def _undecrypted(path: Path, error: Exception) -> NotWhole:
    text = str(error)
    if "No matching keys" in text:
        return NotWhole(
            f"{path.name} is not encrypted to this identity.", next="gallant backup show BACKUP names the recipients."
        )
    return NotWhole(f"{path.name} cannot be decrypted: it breaks off or was altered ({text[:80]}).")
