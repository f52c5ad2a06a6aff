"""Packages on the local disk, named by their content: fetched with resume, verified while they stream, renamed whole.

What lies under its final name was verified when it was put there, and is verified again before it is sent.
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

from gallant.core.catalog.products import Package, PackageHeld
from gallant.core.errors import GallantError, Refused, Unreached
from gallant.core.records import clean
from gallant.disk import appending, make_folder, put_whole, why_not, writing

CHUNK = 256 * 1024
HASHED_AT_ONCE = 1024 * 1024
TRIES = 4
STALL_S = 30.0
Meter = Callable[[int, int], None]  # bytes so far, of the whole


Opened = Callable[[], AbstractContextManager[IO[bytes]]]
VOUCHED = ".vouched"  # next to a package that no catalog knows: who answers for it


class Throttle:
    """Lets no more than so many bytes a second through, no matter who asks; several downloads share one."""

    def __init__(self, bytes_per_s: float | None) -> None:
        self._rate, self._free_at = bytes_per_s, 0.0

    async def let(self, count: int) -> None:
        if self._rate is None:
            return
        now = asyncio.get_running_loop().time()
        self._free_at = max(now, self._free_at) + count / self._rate
        if (wait := self._free_at - now - 0.05) > 0:
            await asyncio.sleep(wait)


class _Sum:
    """A SHA-256 that is computed in another thread while the next bytes are on their way."""

    def __init__(self) -> None:
        self._digest, self._waiting = hashlib.sha256(), bytearray()
        self._pending: asyncio.Future[None] | None = None

    async def add(self, chunk: bytes) -> None:
        self._waiting += chunk
        if len(self._waiting) >= HASHED_AT_ONCE:
            await self._flush()

    async def _flush(self) -> None:
        if self._pending is not None:
            await self._pending
        piece, self._waiting = bytes(self._waiting), bytearray()
        self._pending = asyncio.get_running_loop().run_in_executor(None, self._digest.update, piece)

    async def take(self, path: Path, size: int) -> None:
        """Add what lies in a file already."""

        def read() -> None:
            with path.open("rb") as file:
                left = size
                while left and (piece := file.read(min(HASHED_AT_ONCE, left))):
                    self._digest.update(piece)
                    left -= len(piece)

        await asyncio.to_thread(read)

    async def end(self) -> str:
        await self._flush()
        if self._pending is not None:
            await self._pending
        return self._digest.hexdigest()


@dataclass(frozen=True)
class Way:
    """How a package is reached: arguments (the HTTP library's) for
    each request, or what opens it where it lies on a medium."""

    options: Mapping[str, Any] = field(default_factory=lambda: {"allow_redirects": False})
    opened: Opened | None = None
    throttle: Throttle = field(default_factory=lambda: Throttle(None))


class Stockroom:
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

    def held(self) -> list[PackageHeld]:
        found = [p for p in self.folder.glob("*/*") if p.is_file() and not p.name.endswith((".part", ".tag", VOUCHED))]
        return [
            PackageHeld(name=p.name, sha256=p.parent.name, bytes=p.stat().st_size, path=str(p))
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
        make_folder(final.parent)
        part = final.with_name(final.name + ".part")
        with _disk(final):
            room = shutil.disk_usage(final.parent).free
            if room < package.bytes:
                raise GallantError(
                    f"{package.name} needs {package.bytes / 1e6:.0f} MB and {self.folder} has {room / 1e6:.0f} MB"
                    " left.",
                    next="Make room, then: gallant stock fetch",
                )
        if self._linked(final):
            meter(package.bytes, package.bytes)
            return final
        for attempt in range(TRIES):
            try:
                found = await self._bring(session, url, package, part, meter, way or Way())
                break
            except (aiohttp.ClientError, TimeoutError, ConnectionError) as error:
                if attempt == TRIES - 1:
                    raise Unreached(
                        f"{package.name} does not come from {clean(url, 120)}:"
                        f" {clean(str(error) or type(error).__name__, 100)}.",
                        f"{_size(part) / 1e6:.1f} of {package.bytes / 1e6:.1f} MB are here and are not fetched again.",
                        "gallant stock fetch carries on where it broke off.",
                    ) from None
                await asyncio.sleep(0.2 * 2**attempt)
        await asyncio.to_thread(self._settle, package, part, final, found)
        return final

    def _linked(self, final: Path) -> bool:
        """Whether the same bytes lie here under another name already; then they are this one's too, and stored once."""
        for other in final.parent.iterdir():
            if (
                other.suffix in (".part", ".tag", VOUCHED)
                or other == final
                or not self.verified(other.name, final.parent.name)
            ):
                continue
            with contextlib.suppress(OSError):
                os.link(other, final)
                return True
        return False

    async def _bring(
        self, session: aiohttp.ClientSession, url: str, package: Package, part: Path, meter: Meter, way: Way
    ) -> str:
        """Bring what is missing; the SHA-256 of the whole, computed while it comes."""
        if way.opened is not None:
            return await asyncio.to_thread(self._copy, way.opened, package, part, meter)
        sum_ = _Sum()
        tag_file = part.with_suffix(part.suffix + ".tag")
        have = _size(part)
        if have > package.bytes:
            part.unlink()
            have = 0
        if have == package.bytes:
            await sum_.take(part, have)
            return await sum_.end()
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
            elif have:
                await sum_.take(part, have)
            with _disk(part):
                _keep_tag(tag_file, response.headers.get("ETag", ""))
                with (appending if have else writing)(part) as file:
                    async for chunk in response.content.iter_chunked(CHUNK):
                        have += len(chunk)
                        _not_more(package, have)
                        file.write(chunk)
                        await sum_.add(chunk)
                        await way.throttle.let(len(chunk))
                        meter(have, package.bytes)
        if have < package.bytes:
            raise ConnectionError(f"it broke off after {have} of {package.bytes} bytes")
        return await sum_.end()

    def _copy(self, opened: Opened, package: Package, part: Path, meter: Meter) -> str:
        """From a medium; no more than the catalog says that there is."""
        have, digest = 0, hashlib.sha256()
        with opened() as source, _disk(part), writing(part) as file:
            while have <= package.bytes and (chunk := source.read(CHUNK)):
                file.write(chunk)
                have += len(chunk)
                digest.update(chunk)
                meter(have, package.bytes)
        return digest.hexdigest()

    def _settle(self, package: Package, part: Path, final: Path, found: str) -> None:
        """Give what came its name where it is what the catalog says, or throw it away and say so."""
        tag_file = part.with_suffix(part.suffix + ".tag")
        with _disk(part), part.open("rb") as file:
            os.fsync(file.fileno())
        if found != package.sha256:
            part.unlink()
            tag_file.unlink(missing_ok=True)
            raise Refused(
                f"{package.name} was altered on the way: its SHA-256 is {found[:16]}…, the catalog says"
                f" {package.sha256[:16]}….",
                "The bytes were thrown away; nothing of them goes to any node.",
                "gallant stock fetch tries again; if it stays so, ask the publisher.",
            )
        os.replace(part, final)
        tag_file.unlink(missing_ok=True)

    # --- by hand

    def take_in(self, source: Path, name: str, sha256: str, vouched: str | None) -> Path:
        """Copy a file that was carried in; whole or not at all. `vouched` is who answers for one that no catalog
        knows."""
        final = self.path(name, sha256)
        with _disk(final):
            make_folder(final.parent)
            part = final.with_name(final.name + ".part")
            digest = hashlib.sha256()
            with source.open("rb") as file, writing(part) as into:
                while piece := file.read(HASHED_AT_ONCE):
                    digest.update(piece)
                    into.write(piece)
                into.flush()
                os.fsync(into.fileno())
            if digest.hexdigest() != sha256:
                part.unlink()
                raise Refused(f"{source} changed while it was read.", next=f"gallant stock add {source}")
            if vouched is not None:
                put_whole(final.with_name(final.name + VOUCHED), f"{vouched}\n".encode())
            os.replace(part, final)
        return final

    def vouched(self, name: str, sha256: str) -> str | None:
        """Who answers for a package that no catalog knows; None where nobody does."""
        with contextlib.suppress(OSError):
            return clean(self.path(name, sha256).with_name(name + VOUCHED).read_text("utf-8", "replace"), 120)
        return None

    def remove(self, name: str, sha256: str) -> None:
        final = self.path(name, sha256)
        for path in (final, final.with_name(name + VOUCHED)):
            path.unlink(missing_ok=True)
        with contextlib.suppress(OSError):
            final.parent.rmdir()

    def unfinished(self) -> list[Path]:
        """What broke off and was never carried on, the tags next to it included."""
        return sorted(p for p in self.folder.glob("*/*") if p.name.endswith((".part", ".tag")))

    @property
    def bytes(self) -> int:
        """All that lies here; what has two names is counted once."""
        seen: dict[int, int] = {}
        for path in self.folder.glob("*/*"):
            with contextlib.suppress(OSError):
                found = path.stat()
                seen[found.st_ino] = found.st_size
        return sum(seen.values())


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
            f"{path} cannot be written: {why_not(error, path)}.",
            next="Make room or mend the rights, then: gallant stock fetch",
        ) from None


def _keep_tag(file: Path, tag: str) -> None:
    """Keep the entity tag by which the rest can be asked for another time; one that is gone is forgotten."""
    if not tag:
        file.unlink(missing_ok=True)
        return
    with writing(file) as tagged:
        tagged.write(clean(tag, 200).encode("ascii", "replace"))


def _not_more(package: Package, have: int) -> None:
    if have > package.bytes:
        raise Refused(
            f"{package.name}: the publisher sends more than the catalog's {package.bytes} bytes.",
            "It is not the package that was signed for.",
            "Ask the publisher; nothing of it was kept.",
        )
