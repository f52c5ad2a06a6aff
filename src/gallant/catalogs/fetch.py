"""Getting bytes from a source: https, http, a file, or a member of an archive; bounded, and never through a
redirect."""

from __future__ import annotations

import asyncio
import posixpath
import ssl
from pathlib import Path
from typing import Any
from urllib.parse import quote, unquote, urljoin, urlsplit

import aiohttp

from gallant.authorities import context_for
from gallant.catalogs.medium import beneath, local_source, opened
from gallant.core.addresses import secretless
from gallant.core.errors import Refused, Unreached, WrongUse
from gallant.core.estate.sources import Access, parse_channel
from gallant.core.records import Record, clean

TIMEOUT_S = 30.0
SOURCES = (
    "Write https://HOST/…/catalog.json, http://…, the path of a folder or archive, or deb URL SUITE COMPONENT; "
    "an account goes into --user NAME --secret env:NAME."
)


def check_source(source: str) -> str:
    """The source as it is kept; raises `WrongUse` for one that is not understood."""
    try:
        if (channel := parse_channel(source)) is not None:
            return channel.text
        parts = secretless(source) if "://" in source else urlsplit(source)
    except ValueError as error:
        raise WrongUse(f"That is not a source: {error}.", next=SOURCES) from None
    if parts.scheme in ("http", "https") and parts.hostname:
        return source
    if parts.scheme == "file" and parts.path.startswith("/"):
        return local_source(Path(unquote(parts.path)))
    if not parts.scheme and source.strip():
        return local_source(Path(source))
    raise WrongUse(
        f"{clean(source, 100)!r} is not a source.",
        next=SOURCES,
    )


def beside(source: str, url: str) -> str:
    """The place of a file that the catalog at `source` names by `url`; raises `Refused` where a carried one leads
    out."""
    if (channel := parse_channel(source)) is not None:
        return urljoin(channel.url, quote(url))
    parts = urlsplit(source)
    if parts.scheme != "file":
        found = urljoin(source, url)
        if not found.startswith(("http://", "https://")):
            raise Refused(
                f"A catalog from the network names {clean(url, 80)!r}.",
                "It has no say over files of this machine.",
                "Ask the publisher.",
            )
        return found
    if parts.fragment:
        inside = beneath(posixpath.dirname(unquote(parts.fragment)), url)
        return f"file://{parts.path}#{quote(inside)}"
    folder = Path(unquote(parts.path)).parent
    path = (folder / beneath("", url)).resolve()
    if not path.is_relative_to(folder.resolve()):  # by way of a link
        raise Refused(
            f"{folder / url} leads out of the folder of its catalog.",
            "What comes on a medium has no say over other files of this machine.",
            "Ask the publisher.",
        )
    return path.as_uri()


def beside_it(source: str, ending: str) -> str:
    """The file next to a catalog whose name has this ending more."""
    parts = urlsplit(source)
    if parts.scheme == "file" and parts.fragment:
        return f"file://{parts.path}#{parts.fragment}{ending}"
    return parts._replace(path=parts.path + ending).geturl()


class Reach:
    """What a request to a source is made with: verification, proxy, account. The account goes nowhere but to its
    host."""

    def __init__(self, source: str, access: Access | None, folder: Path, secret: str | None = None) -> None:
        self.access = access or Access()
        channel = parse_channel(source)
        self._home = urlsplit(channel.url if channel else source)
        self._secret = secret
        self._folder = folder
        if self.access.account is not None and self._home.scheme != "https":
            raise WrongUse(
                f"{clean(source, 100)} is not reached over https, so no account is used there.",
                "A secret is never sent in clear.",
                "Leave out --user, or use the publisher's https address.",
            )

    def options(self, url: str) -> dict[str, Any]:  # keyword arguments of the library's
        """Arguments for one request to `url`."""
        found: dict[str, Any] = {"allow_redirects": False}
        if self.access.proxy is not None:
            found["proxy"] = self.access.proxy
        parts = urlsplit(url)
        at_home = (parts.scheme, parts.netloc) == (self._home.scheme, self._home.netloc)
        if parts.scheme == "https" and self.access.fingerprint is not None and at_home:
            raw = self.access.fingerprint.lower().removeprefix("sha256:").replace(":", "")
            found["ssl"] = aiohttp.Fingerprint(bytes.fromhex(raw))
        elif parts.scheme == "https" and self.access.ca is not None:
            found["ssl"] = context_for(str((self._folder / self.access.ca).resolve()))
        if self.access.account is not None and self._secret is not None and at_home:
            found["auth"] = aiohttp.BasicAuth(self.access.account.user, self._secret, "utf-8")
        return found


class NotThere(Unreached):
    """The source answers, and has no such file."""


class SourceAnswer(Record):
    """What a source gave: its bytes (None: the same as when it gave `tag`), and its entity tag."""

    raw: bytes | None
    tag: str | None = None


async def fetch(
    session: aiohttp.ClientSession, url: str, limit: int, tag: str | None = None, reach: Reach | None = None
) -> SourceAnswer:
    """All bytes of a URL, no more than `limit` and one; raises `Unreached`. `tag` asks only for what has changed."""
    if url.startswith("file:"):
        return SourceAnswer(raw=await asyncio.to_thread(_from_file, url, limit))
    headers = {"If-None-Match": tag} if tag else {}
    options = reach.options(url) if reach else {"allow_redirects": False}
    try:
        async with session.get(
            url, headers=headers, timeout=aiohttp.ClientTimeout(total=TIMEOUT_S), **options
        ) as response:
            if response.status == 304 and tag:
                return SourceAnswer(raw=None, tag=tag)
            if response.status != 200:
                raise _refused(url, response.status)
            raw = bytearray()
            async for chunk in response.content.iter_chunked(256 * 1024):
                raw += chunk
                if len(raw) > limit:
                    break
            return SourceAnswer(raw=bytes(raw), tag=clean(response.headers.get("ETag", ""), 200) or None)
    except aiohttp.ServerFingerprintMismatch as error:
        raise Unreached(
            f"{url} shows another certificate than the one that is pinned.",
            f"It shows sha256:{error.got.hex()}.",
            "Ask the publisher; gallant catalog add with --pin pins another.",
        ) from None
    except (aiohttp.ClientConnectorCertificateError, ssl.SSLError) as error:
        raise Unreached(
            f"{url} shows a certificate that is not trusted: {clean(str(error), 120)}.",
            "Verification is never switched off.",
            "Name its CA with --ca, pin it with --pin, or carry the catalog over on a medium.",
        ) from None
    except (aiohttp.ClientError, TimeoutError, OSError) as error:
        raise Unreached(
            f"{url} cannot be reached: {clean(str(error) or type(error).__name__, 120)}.",
            next="Look at the name, the network and the publisher's server; then: gallant catalog sync",
        ) from None


def _refused(url: str, status: int) -> Unreached:
    if status == 404:
        return NotThere(f"{url} is not there (status 404).", next="Look at the source with the publisher.")
    if status in (401, 403, 407):
        return Unreached(
            f"{url} does not let us in (status {status}).", next="Look at --user and --secret of the source."
        )
    return Unreached(f"{url} answers with status {status}.", next="Look at the source with the publisher.")


def _from_file(url: str, limit: int) -> bytes:
    path = Path(unquote(urlsplit(url).path))
    if not path.exists():
        raise NotThere(f"{path} is not there.", next="Is the medium there?")
    with opened(url) as file:
        raw = bytearray()
        while len(raw) <= limit and (chunk := file.read(256 * 1024)):
            raw += chunk
        return bytes(raw)
