"""Catalogs and packages that are carried: in a folder, or in an archive on a medium. Nothing is unpacked.

An archive is only read through: a member is found by its name, must be a plain file, and no name leads out of it. Where
a package lies in an archive, its URL is the archive's with the member after a hash sign.
"""

from __future__ import annotations

import contextlib
import lzma
import posixpath
import tarfile
import zipfile
import zlib
from collections.abc import Iterator
from pathlib import Path
from typing import IO
from urllib.parse import quote, unquote, urlsplit

import zstandard

from gallant.core.errors import GallantError, Refused, WrongUse
from gallant.core.records import clean
from gallant.core.tars import BROKEN, STRIDE, Modest

CATALOG = "catalog.json"
ARCHIVES = (".tar", ".tar.gz", ".tgz", ".tar.xz", ".tar.bz2", ".tar.zst", ".zip")
MOST_MEMBERS = 200_000
_BROKEN: tuple[type[Exception], ...] = (
    *BROKEN,
    zipfile.BadZipFile,
    zlib.error,
    lzma.LZMAError,
    zstandard.ZstdError,
    NotImplementedError,
    RuntimeError,
)


def local_source(path: Path) -> str:
    """The source that a path names: a catalog file, a folder that holds catalog.json, or an archive that does."""
    whole = path.expanduser().resolve()
    if whole.is_dir():
        whole = whole / CATALOG
    if not whole.is_file():
        raise WrongUse(f"{whole} is not there.", "A folder or an archive holds catalog.json.", "Is the medium there?")
    if whole.name.endswith(ARCHIVES):
        return f"{whole.as_uri()}#{quote(_catalog_in(whole))}"
    return whole.as_uri()


def _catalog_in(path: Path) -> str:
    """The one catalog.json of an archive: at its top, or as near to it as there is just one."""
    with _reading(path):
        found = [name for name in _names(path) if posixpath.basename(name) == CATALOG]
    least = min((name.count("/") for name in found), default=0)
    nearest = sorted({name for name in found if name.count("/") == least})
    if len(nearest) != 1:
        what = f"{len(nearest)} files named {CATALOG}" if nearest else f"no {CATALOG}"
        raise WrongUse(
            f"{path} holds {what}.", next="An archive holds one catalog, with its signature and packages next to it."
        )
    return nearest[0]


def _names(path: Path) -> Iterator[str]:
    if path.name.endswith(".zip"):
        with zipfile.ZipFile(path) as archive:
            yield from (_tidy(info.filename) for info in archive.infolist() if not info.is_dir())
        return
    with _tar(path) as archive:
        for number, member in enumerate(archive):
            if number >= MOST_MEMBERS:
                raise Refused(f"{path} has more than {MOST_MEMBERS} members.")
            if member.isreg():
                yield _tidy(member.name)


def _tidy(name: str) -> str:
    return posixpath.normpath(name).removeprefix("./")


@contextlib.contextmanager
def _tar(path: Path) -> Iterator[tarfile.TarFile]:
    if path.name.endswith(".zst"):
        with (
            path.open("rb") as raw,
            zstandard.ZstdDecompressor().stream_reader(raw) as plain,
            tarfile.open(fileobj=plain, mode="r|", tarinfo=Modest, bufsize=STRIDE) as archive,
        ):
            yield archive
        return
    with tarfile.open(path, mode="r|*", tarinfo=Modest, bufsize=STRIDE) as archive:
        yield archive


@contextlib.contextmanager
def _reading(path: Path) -> Iterator[None]:
    try:
        yield
    except OSError as error:
        raise GallantError(f"{path} cannot be read: {error.strerror or error}.", next="Is the medium there?") from None
    except _BROKEN as error:
        raise Refused(
            f"{path} is damaged or no archive: {clean(str(error), 100)}.",
            next="Carry it over again from where it came.",
        ) from None


def beneath(folder: str, name: str) -> str:
    """`name` relative to `folder`, for a file that a carried catalog names; raises `Refused` where it leads out."""
    plain = posixpath.normpath(unquote(name))
    if urlsplit(name).scheme or plain.startswith(("../", "/")) or plain in ("..", "."):
        raise Refused(
            f"A carried catalog names {clean(name, 80)!r}, which is not next to it.",
            "What comes on a medium has no say over other files of this machine.",
            "Ask the publisher.",
        )
    return posixpath.join(folder, plain)


@contextlib.contextmanager
def opened(url: str) -> Iterator[IO[bytes]]:
    """The bytes of a `file:` URL, also of a member of an archive (`file:///x.tar.zst#name`), as a stream."""
    parts = urlsplit(url)
    path, member = Path(unquote(parts.path)), unquote(parts.fragment)
    with contextlib.ExitStack() as stack:
        with _reading(path):
            file = stack.enter_context(_member(path, member) if member else path.open("rb"))
        yield _Guarded(file, path)  # type: ignore[misc]


class _Guarded:
    """A stream whose failures are told as those of the medium."""

    def __init__(self, file: IO[bytes], path: Path) -> None:
        self._file, self._path = file, path

    def read(self, size: int = -1) -> bytes:
        with _reading(self._path):
            return bytes(self._file.read(size))


@contextlib.contextmanager
def _member(path: Path, name: str) -> Iterator[IO[bytes]]:
    missing = GallantError(f"{path} holds no {name}.", next="Is it the right archive?")
    if path.name.endswith(".zip"):
        with zipfile.ZipFile(path) as archive:
            info = next((i for i in archive.infolist() if _tidy(i.filename) == name and not i.is_dir()), None)
            if info is None:
                raise missing
            with archive.open(info) as file:
                yield file
        return
    with _tar(path) as tar:
        for number, member in enumerate(tar):
            if number >= MOST_MEMBERS:
                raise Refused(f"{path} has more than {MOST_MEMBERS} members.")
            if member.isreg() and _tidy(member.name) == name:
                found = tar.extractfile(member)
                assert found is not None  # a plain file has bytes
                yield found
                return
    raise missing
