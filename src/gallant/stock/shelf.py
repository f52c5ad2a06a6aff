"""Packages on the local disk, named by their content: fetched with resume, verified while they stream, renamed whole.

What lies under its final name was verified when it was put there, and is verified again by whoever sends it.
"""

from __future__ import annotations

import asyncio
import contextlib
import hashlib
import os
import shutil
from collections.abc import Callable, Mapping
from contextlib import AbstractContextManager
from dataclasses import dataclass, field
from pathlib import Path
from typing import IO, Any

import aiohttp

from gallant.core.catalog import Package
from gallant.core.errors import GallantError, Refused, Unreached
from gallant.core.records import Record, clean

CHUNK = 256 * 1024
TRIES = 4
STALL_S = 30.0
Meter = Callable[[int, int], None]  # bytes so far, of the whole


Opened = Callable[[], AbstractContextManager[IO[bytes]]]


@dataclass(frozen=True)
class Way:
    """How a package is reached: arguments for each request, or what opens it where it lies on a medium."""

    options: Mapping[str, Any] = field(default_factory=lambda: {"allow_redirects": False})
    opened: Opened | None = None


class Held(Record):
    """One package in stock."""

    name: str
    sha256: str
    bytes: int
    path: str


class Shelf:
    """The stock/ folder of an estate: `stock/<sha256>/<name>`, and `<name>.part` with its entity tag while it comes."""

    def __init__(self, estate_folder: Path) -> None:
        self.folder = estate_folder / "stock"

    def path(self, name: str, sha256: str) -> Path:
        return self.folder / sha256 / name

    def has(self, package: Package) -> bool:
        """Whether the package lies here whole, by name and size; `verified` computes."""
        path = self.path(package.name, package.sha256)
        return path.is_file() and path.stat().st_size == package.bytes

    def verified(self, name: str, sha256: str) -> bool:
        """Whether the file's bytes, read now, have the digest."""
        try:
            with self.path(name, sha256).open("rb") as file:
                return hashlib.file_digest(file, "sha256").hexdigest() == sha256
        except OSError:
            return False

    def held(self) -> list[Held]:
        found = [p for p in self.folder.glob("*/*") if p.is_file() and not p.name.endswith((".part", ".tag"))]
        return [
            Held(name=p.name, sha256=p.parent.name, bytes=p.stat().st_size, path=str(p))
            for p in sorted(found, key=lambda p: p.name)
        ]

    async def fetch(
        self, session: aiohttp.ClientSession, url: str, package: Package, meter: Meter, way: Way | None = None
    ) -> Path:
        """Bring a package, resuming what broke off; the path of the verified file. `way` is how its source is reached.

        Raises `Refused` when the bytes are not the catalog's, `Unreached` when they do not come.
        """
        final = self.path(package.name, package.sha256)
        if self.has(package) and await asyncio.to_thread(self.verified, package.name, package.sha256):
            meter(package.bytes, package.bytes)
            return final
        final.parent.mkdir(parents=True, exist_ok=True)
        part = final.with_name(final.name + ".part")
        with _disk(final):
            room = shutil.disk_usage(final.parent).free
            if room < package.bytes:
                raise GallantError(
                    f"{package.name} needs {package.bytes / 1e6:.0f} MB and {self.folder} has {room / 1e6:.0f} MB left.",
                    next="Make room, then: gallant stock fetch",
                )
        for attempt in range(TRIES):
            try:
                await self._bring(session, url, package, part, meter, way or Way())
                break
            except (aiohttp.ClientError, TimeoutError, ConnectionError) as error:
                if attempt == TRIES - 1:
                    raise Unreached(
                        f"{package.name} does not come from {clean(url, 120)}: {clean(str(error) or type(error).__name__, 100)}.",
                        f"{_size(part) / 1e6:.1f} of {package.bytes / 1e6:.1f} MB are here and are not fetched again.",
                        "gallant stock fetch carries on where it broke off.",
                    ) from None
                await asyncio.sleep(0.2 * 2**attempt)
        await asyncio.to_thread(self._settle, package, part, final)
        return final

    async def _bring(
        self, session: aiohttp.ClientSession, url: str, package: Package, part: Path, meter: Meter, way: Way
    ) -> None:
        if way.opened is not None:
            await asyncio.to_thread(self._copy, way.opened, package, part, meter)
            return
        tag_file = part.with_suffix(part.suffix + ".tag")
        have = _size(part)
        if have > package.bytes:
            part.unlink()
            have = 0
        if have == package.bytes:
            return
        headers = {"Accept-Encoding": "identity"}
        if have and tag_file.is_file():
            headers |= {"Range": f"bytes={have}-", "If-Range": tag_file.read_text("ascii", "replace")}
        limit = aiohttp.ClientTimeout(total=None, sock_connect=STALL_S, sock_read=STALL_S)
        async with session.get(url, headers=headers, timeout=limit, **way.options) as response:
            if response.status not in (200, 206):
                raise Unreached(
                    f"{clean(url, 120)} answers with status {response.status}.",
                    next="Ask the publisher; then: gallant stock fetch",
                )
            if response.status == 200:
                have = 0
            with _disk(part):
                if tag := response.headers.get("ETag", ""):
                    tag_file.write_text(clean(tag, 200), "ascii", "replace")
                else:
                    tag_file.unlink(missing_ok=True)
                with part.open("ab" if have else "wb") as file:
                    async for chunk in response.content.iter_chunked(CHUNK):
                        have += len(chunk)
                        if have > package.bytes:
                            raise Refused(
                                f"{package.name}: the publisher sends more than the catalog's {package.bytes} bytes.",
                                "It is not the package that was signed for.",
                                "Ask the publisher; nothing of it was kept.",
                            )
                        file.write(chunk)
                        meter(have, package.bytes)
        if have < package.bytes:
            raise ConnectionError(f"it broke off after {have} of {package.bytes} bytes")

    def _copy(self, opened: Opened, package: Package, part: Path, meter: Meter) -> None:
        """From a medium; no more than the catalog says that there is."""
        have = 0
        with opened() as source, _disk(part), part.open("wb") as file:
            while have <= package.bytes and (chunk := source.read(CHUNK)):
                file.write(chunk)
                have += len(chunk)
                meter(have, package.bytes)

    def _settle(self, package: Package, part: Path, final: Path) -> None:
        """Verify what came and give it its name, or throw it away and say so."""
        tag_file = part.with_suffix(part.suffix + ".tag")
        with _disk(part), part.open("rb") as file:
            found = hashlib.file_digest(file, "sha256").hexdigest()
            os.fsync(file.fileno())
        if found != package.sha256:
            part.unlink()
            tag_file.unlink(missing_ok=True)
            raise Refused(
                f"{package.name} was altered on the way: its SHA-256 is {found[:16]}…, the catalog says {package.sha256[:16]}….",
                "The bytes were thrown away; nothing of them goes to any node.",
                "gallant stock fetch tries again; if it stays so, ask the publisher.",
            )
        os.replace(part, final)
        tag_file.unlink(missing_ok=True)


def _size(path: Path) -> int:
    try:
        return path.stat().st_size
    except OSError:
        return 0


@contextlib.contextmanager
def _disk(path: Path):  # type: ignore[no-untyped-def]
    """Turn a failure of the local disk into an error for a person."""
    try:
        yield
    except (ConnectionError, TimeoutError):
        raise
    except OSError as error:
        raise GallantError(
            f"{path} cannot be written: {error.strerror}.",
            next="Make room or mend the rights, then: gallant stock fetch",
        ) from None
