"""Writing and reading back an archive: tar in zstandard, in age where there are recipients; hashed while it is written.

Everything streams: one generator puts the tar together, and encrypting and writing pull from it. What is read back is
held against what the manifest says of every item before anything of it is believed; an archive is not trusted to name
its own files, and nothing that does not come out whole is left behind.
"""

from __future__ import annotations

import contextlib
import hashlib
import io
import os
import queue
import tarfile
import threading
from collections.abc import Callable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import IO, TYPE_CHECKING, Protocol

import zstandard

from gallant.core.errors import Refused
from gallant.core.estate.backups import Item
from gallant.core.records import clean
from gallant.core.tars import BROKEN, Modest
from gallant.disk import opened
from gallant.vault.digests import archive_digest
from gallant.vault.disk import ReadBack
from gallant.vault.spool import LEVEL, Spool

if TYPE_CHECKING:
    from _typeshed import ReadableBuffer, WriteableBuffer

    from gallant.vault.keys import Identity, Recipient

BROKEN_ARCHIVE: tuple[type[Exception], ...] = (*BROKEN, zstandard.ZstdError)
CHUNK = 256 * 1024
SLACK = 1024 * 1024  # more than all that may stand between two items, and after the last
STRETCH = 8 * 1024 * 1024  # written between two looks at what the disk gives back


class Sink(Protocol):
    """Where an item's bytes go while it is unpacked."""

    def write(self, data: bytes, /) -> object: ...


class _Stored(io.RawIOBase):
    """A file that remembers the digest and the size of what went through it, and has it read back while it grows."""

    def __init__(self, inner: IO[bytes], again: ReadBack) -> None:
        self.inner, self.digest, self.size = inner, archive_digest(), 0
        self._again, self._told = again, 0
        self.failed: OSError | None = None

    def writable(self) -> bool:
        return True

    def write(self, data: ReadableBuffer) -> int:
        length = memoryview(data).nbytes
        self.digest.update(data)
        self.size += length
        try:
            self.inner.write(data)
            if self.size - self._told >= STRETCH:
                self.inner.flush()
        except OSError as error:
            self.failed = error
            raise
        if self.size - self._told >= STRETCH:
            self._told = self.size
            self._again.upto(self.size)
        return length


class _Bounded:
    """What is decompressed, of which no more comes than is accounted for: a small archive may unpack to anything.

    `left` is what may still come: for each item that is known its size, and some slack for what stands between them.
    """

    def __init__(self, inner: IO[bytes]) -> None:
        self._inner, self.left = inner, SLACK

    def read(self, size: int) -> bytes:
        piece: bytes = self._inner.read(size)
        self.left -= len(piece)
        if self.left < 0:
            raise NotWhole("It holds more than its manifest says.")
        return piece


class _Pulled(io.RawIOBase):
    """A reader over a generator, for a library that pulls; to be buffered, since that asks for little at a time."""

    def __init__(self, chunks: Iterator[bytes]) -> None:
        self._chunks, self._left = chunks, memoryview(b"")

    def readable(self) -> bool:
        return True

    def readinto(self, buffer: WriteableBuffer) -> int:
        while not self._left:
            piece = next(self._chunks, None)
            if piece is None:
                return 0
            self._left = memoryview(piece)
        room = memoryview(buffer).cast("B")
        taken = min(len(room), len(self._left))
        room[:taken], self._left = self._left[:taken], self._left[taken:]
        return taken


def _packed(members: Iterator[tuple[Item, Spool]], mtime: int) -> Iterator[bytes]:
    """A tar archive (POSIX.1-2001) in zstandard: frames one after the other, as RFC 8878 section 3 allows. What is
    spooled is compressed already, so only the headers and what pads them are compressed here."""
    packer, padding = zstandard.ZstdCompressor(level=LEVEL, write_checksum=True), b""
    for item, spool in members:
        info = tarfile.TarInfo(item.path)
        info.size, info.mtime, info.mode = item.bytes, mtime, 0o600
        yield packer.compress(padding + info.tobuf(tarfile.PAX_FORMAT))
        yield from spool.frames()
        padding = b"\0" * (-item.bytes % tarfile.BLOCKSIZE)
    yield packer.compress(padding + b"\0" * (2 * tarfile.BLOCKSIZE))


class Abandoned(Exception):
    """Nobody wants the archive any more."""


class ArchiveWriter:
    """Packs items into `path`, encrypted where there are
    recipients, in a thread of its own, while later ones still come.

    `add` takes the next item. `end` returns the archive's BLAKE3 and size, computed while it was written: it is on the
    disk then, and was read back from there. Raises `NotWhole` where that gave anything else, `OSError` where it could
    not be written. `abandon` leaves nothing of it.
    """

    def __init__(self, path: Path, mtime: float, recipients: Sequence[Recipient]) -> None:
        self._path, self._mtime, self._recipients = path, mtime, recipients
        self._queue: queue.Queue[tuple[Item, Spool] | Abandoned | None] = queue.Queue()
        self._failed: BaseException | None = None
        self._made: tuple[str, int] | None = None
        self._thread = threading.Thread(target=self._run, daemon=True)
        self._thread.start()

    def add(self, item: Item, spool: Spool) -> None:
        self._queue.put((item, spool))

    def end(self) -> tuple[str, int]:
        self._queue.put(None)
        self._thread.join()
        if self._failed is not None:
            raise self._failed
        assert self._made is not None
        return self._made

    def abandon(self) -> None:
        self._queue.put(Abandoned())
        self._thread.join()
        self._path.unlink(missing_ok=True)

    def _members(self) -> Iterator[tuple[Item, Spool]]:
        while (member := self._queue.get()) is not None:
            if isinstance(member, Abandoned):
                raise member
            yield member

    def _run(self) -> None:
        try:
            self._made = self._write(_packed(self._members(), int(self._mtime)))
        except BaseException as error:  # for the one who waits for it
            self._failed = error

    def _write(self, chunks: Iterator[bytes]) -> tuple[str, int]:
        with os.fdopen(opened(self._path, os.O_WRONLY | os.O_CREAT | os.O_EXCL), "wb") as raw:
            os.fchmod(raw.fileno(), 0o600)
            again = ReadBack(self._path)
            stored = _Stored(raw, again)
            try:
                _write_all(stored, chunks, self._recipients)
                raw.flush()
                os.fsync(raw.fileno())
            finally:  # whatever happened, nobody is left waiting in a thread
                written, read = (stored.digest.hexdigest(), stored.size), again.end()
        if read != written:
            raise NotWhole(f"{self._path.name} does not read back as it was written: the disk is not to be trusted.")
        return written


def _write_all(stored: _Stored, chunks: Iterator[bytes], recipients: Sequence[Recipient]) -> None:
    if recipients:
        import pyrage

        failed: list[Exception] = []
        pulled = io.BufferedReader(_Pulled(_remembering(chunks, failed)), CHUNK)
        try:
            pyrage.encrypt_io(pulled, stored, list(recipients))
        except pyrage.EncryptError as error:  # which hides what the disk said
            raise next(iter(failed), None) or stored.failed or error from None
    else:
        for piece in chunks:
            stored.write(piece)


def _remembering(chunks: Iterator[bytes], failed: list[Exception]) -> Iterator[bytes]:
    try:
        yield from chunks
    except Exception as error:
        failed.append(error)
        raise


class NotWhole(Refused):
    """An archive does not hold what its manifest says, or cannot be decrypted."""


def unpack(
    path: Path,
    items: Sequence[Item],
    identities: Sequence[Identity] | None,
    opened: Callable[[Item], Sink | None] = lambda item: None,
) -> None:
    """Decrypt and unpack the whole, each item into what `opened` gives for it (None: hashed only).

    Raises `NotWhole` unless every item, and nothing besides them, came out as the
    manifest has it. Until it returns, nothing that was written may be believed.
    """
    expected = {item.path: item for item in items}
    seen: set[str] = set()
    with _plain(path, identities) as plain:
        try:
            with (
                zstandard.ZstdDecompressor().stream_reader(plain, closefd=False, read_across_frames=True) as packed,
                tarfile.open(  # type: ignore[call-overload]
                    fileobj=(bounded := _Bounded(packed)), mode="r|", tarinfo=Modest
                ) as tar,
            ):
                for member in tar:
                    if (item := expected.get(member.name)) is not None and member.name not in seen:
                        bounded.left = SLACK + item.bytes
                    seen.add(_take(tar, member, expected, seen, opened))
                while bounded.read(CHUNK):  # to the end, so that its checksum is looked at
                    pass
        except BROKEN_ARCHIVE as error:
            raise NotWhole(f"{path.name} breaks off or is damaged: {clean(str(error), 100)}.") from None
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
        raise NotWhole(f"It holds {clean(member.name, 80)!r}, of which its manifest knows nothing.")
    if not member.isreg() or member.sparse is not None:
        raise NotWhole(f"{member.name} is not a plain file in it.")
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
def _plain(path: Path, identities: Sequence[Identity] | None) -> Iterator[IO[bytes]]:
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
