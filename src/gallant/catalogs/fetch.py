"""Getting bytes from a source: https, http or a file; bounded, and never through a redirect to somewhere else."""

from __future__ import annotations

import asyncio
from pathlib import Path
from urllib.parse import unquote, urljoin, urlsplit

import aiohttp

from gallant.core.errors import GallantError, Unreached, WrongUse
from gallant.core.records import Record, clean

TIMEOUT_S = 30.0


def check_source(source: str) -> str:
    """The source as it is kept; raises `WrongUse` for one that is not understood."""
    parts = urlsplit(source)
    if parts.scheme in ("http", "https") and parts.hostname and not parts.password:
        return source
    if parts.scheme == "file" and parts.path.startswith("/"):
        return source
    raise WrongUse(
        f"{clean(source, 100)!r} is no source.",
        next="Write https://HOST/…/catalog.json, http://… or file:///…/catalog.json.",
    )


def beside(source: str, url: str) -> str:
    """The place of a file that the catalog at `source` names by `url`, relative or whole."""
    return urljoin(source, url)


class Fetched(Record):
    """What a source gave: its bytes (None: the same as when it gave `tag`), and its entity tag."""

    raw: bytes | None
    tag: str | None = None


async def fetch(session: aiohttp.ClientSession, source: str, limit: int, tag: str | None = None) -> Fetched:
    """All bytes of a source, no more than `limit` and one; raises `Unreached`. `tag` asks only for what has changed."""
    if source.startswith("file:"):
        return Fetched(raw=await asyncio.to_thread(_from_file, source, limit))
    headers = {"If-None-Match": tag} if tag else {}
    try:
        async with session.get(
            source, headers=headers, timeout=aiohttp.ClientTimeout(total=TIMEOUT_S), allow_redirects=False
        ) as response:
            if response.status == 304 and tag:
                return Fetched(raw=None, tag=tag)
            if response.status != 200:
                raise Unreached(
                    f"{source} answers with status {response.status}.", next="Look at the source with the publisher."
                )
            raw = bytearray()
            async for chunk in response.content.iter_chunked(256 * 1024):
                raw += chunk
                if len(raw) > limit:
                    break
            return Fetched(raw=bytes(raw), tag=clean(response.headers.get("ETag", ""), 200) or None)
    except (aiohttp.ClientError, TimeoutError, OSError) as error:
        raise Unreached(
            f"{source} cannot be reached: {clean(str(error) or type(error).__name__, 120)}.",
            next="Look at the name, the network and the publisher's server; then: gallant catalog sync",
        ) from None


def _from_file(source: str, limit: int) -> bytes:
    path = Path(unquote(urlsplit(source).path))
    try:
        with path.open("rb") as file:
            return file.read(limit + 1)
    except OSError as error:
        raise GallantError(f"{path} cannot be read: {error.strerror}.", next="Is the medium there?") from None
