"""HTTP to the nodes of one system: one request, bounded, over a connection that is verified."""

from __future__ import annotations

import asyncio
import io
import json
import os
import re
import ssl
from collections.abc import AsyncIterator, Mapping
from functools import lru_cache
from urllib.parse import SplitResult, quote, urljoin, urlsplit

import aiohttp
import msgspec
from yarl import URL

from gallant.core.errors import GallantError
from gallant.core.estate.systems import System
from gallant.core.ports import AnswerLost, DeviceRefused, LoginRefused, NotReached, Progress
from gallant.core.records import clean
from gallant.drivers.base import ProfiledDriver
from gallant.drivers.calls import Call, Request
from gallant.drivers.network import reason
from gallant.drivers.profile import Profile, fill
from gallant.drivers.tls import shown_fingerprint, verification
from gallant.drivers.tools import Asked, Throttled, Tools
from gallant.drivers.xml import NotXml, parse_xml, picked


class _Sized(aiohttp.AsyncIterablePayload):
    """A stream whose length is known, so that a form with it in one part can say its own."""

    def __init__(self, chunks: AsyncIterator[bytes], size: int) -> None:
        super().__init__(chunks, content_type="application/octet-stream")
        self._size = size


LARGEST_JSON = 8 * 1024 * 1024
LARGEST_ANSWER = 64 * 1024 * 1024
DEEPEST_JSON = 64
CHUNK = 256 * 1024
SLOWEST = 100_000  # bytes a second, below which an upload is given up; where a site's link is spared, a twentieth of it
# What a network and a connection fail with, before anything of HTTP is understood.
NETWORK = (aiohttp.ClientError, TimeoutError, OSError)
PACKED = "Content-Encoding"


def _readable(raw: bytes) -> str:
    """The human part of an error answer: the longest text in a JSON object, else the body itself."""
    try:
        body = json.loads(raw)
    except (ValueError, RecursionError):
        return raw[:400].decode("utf-8", "replace")
    texts = [v for v in body.values() if isinstance(v, str)] if isinstance(body, dict) else []
    return max(texts, key=len, default="")


def parsed_json(raw: bytes) -> object:
    """JSON within its bounds; raises ValueError."""
    if len(raw) > LARGEST_JSON:
        raise ValueError(f"more than {LARGEST_JSON // 1024 // 1024} MiB of it")
    if _depth(raw) > DEEPEST_JSON:
        raise ValueError("nested too deep")
    return msgspec.json.decode(raw)


# A path as most links are: it cannot lead elsewhere.
_PLAIN_PATH = re.compile(r"(?:/[A-Za-z0-9_~-][\w~.%:@!$&'()*+,;=-]*)+/?", re.ASCII)


@lru_cache(maxsize=65536)
def is_plain(path: str) -> bool:
    """Whether a path goes onto the wire as it stands."""
    return _PLAIN_PATH.fullmatch(path) is not None


@lru_cache(maxsize=65536)
def own_path(link: str, address: str) -> str | None:
    """A link's path and query, where it is a path from the root, or leads to the very scheme, host and port of
    `address`; None where it leads elsewhere, or is not a link."""
    if is_plain(link):
        return link
    if not _LINK.fullmatch(link):
        return None
    try:
        home, parts = urlsplit(address), urlsplit(link)
        if not link.startswith("/") and _place(parts) != _place(home):
            return None
    except ValueError:
        return None
    path = parts.path or "/"
    return path + (f"?{parts.query}" if parts.query else "") if path.startswith("/") else None


# What may stand in an address (RFC 3986, 2), and braces, which devices send; a path does not begin with two slashes.
_LINK = re.compile(r"(?!//)[A-Za-z0-9\-._~:/?#\[\]@!$&'()*+,;=%{}|^`]+", re.ASCII)
_PORTS = {"http": 80, "https": 443}


def _place(parts: SplitResult) -> tuple[str, str | None, str | None, int | None]:
    """Scheme, account, host and port; raises ValueError for a port that is none."""
    return parts.scheme, parts.username or parts.password, parts.hostname, parts.port or _PORTS.get(parts.scheme)


def same_host(base: str, link: str, address: str) -> str | None:
    """The path of a link that is relative to `base`, a path (RFC 3986, 5), where it stays at `address`; else None."""
    home = urlsplit(address)
    try:
        return own_path(urljoin(f"{home.scheme}://{home.netloc}{base}", link), address)
    except ValueError:
        return None


def _depth(raw: bytes) -> int:
    """How deep brackets nest outside texts; counted before any parser recurses, on the few bytes that matter."""
    if raw.count(b"[") + raw.count(b"{") <= DEEPEST_JSON:
        return 0
    depth = deepest = 0
    inside = False
    for byte in _ESCAPED.sub(b"", raw).translate(None, _NO_STRUCTURE):
        if byte == 0x22:
            inside = not inside
        elif inside:
            continue
        elif byte in b"[{":
            depth += 1
            deepest = max(deepest, depth)
        else:
            depth -= 1
    return deepest


_ESCAPED = re.compile(rb"\\.", re.DOTALL)
_NO_STRUCTURE = bytes(byte for byte in range(256) if byte not in b'"[]{}')


async def _chunks(file: io.FileIO, progress: Progress | None, throttle: Throttled | None) -> AsyncIterator[bytes]:
    """A file in pieces, with progress by the bytes sent."""
    total = max(1, os.fstat(file.fileno()).st_size)
    sent = 0
    with file:
        while chunk := file.read(CHUNK):
            if throttle is not None:
                await throttle.let(len(chunk))
            yield chunk
            sent += len(chunk)
            if progress is not None:
                progress(100.0 * sent / total, f"{sent / 1e6:.1f} of {total / 1e6:.1f} MB sent")


def _multipart(
    call: Request, fields: Mapping[str, str], chunks: AsyncIterator[bytes], size: int, name: str
) -> aiohttp.FormData:
    """A package as one part of a form, after the parts that `form` and `send` say."""
    form = aiohttp.FormData()
    for key, value in (call.form or {}).items():
        form.add_field(key, fill(value, fields))
    for key, said in (call.send or {}).items():
        form.add_field(key, json.dumps(fill(said, fields)), content_type="application/json")
    form.add_field(call.part, _Sized(chunks, size), filename=name)
    return form


def request_of(asked: Asked) -> Request:
    assert isinstance(asked.call, Request)  # a profile of this driver knows no other verbs
    return asked.call


class HttpWire(ProfiledDriver):
    """Sends requests, and takes answers within their bounds."""

    def __init__(self, system: System, profile: Profile, tools: Tools) -> None:
        super().__init__(system, profile, tools)
        self._bases = {name: URL(node.address.rstrip("/")) for name, node in self.system.nodes.items()}
        self._tls: dict[str, ssl.SSLContext | aiohttp.Fingerprint] = {}  # by node, made when it is first asked
        self._sessions: dict[tuple[str, str], dict[str, str]] = {}  # the headers that carry each session
        self._locks: dict[tuple[str, str], asyncio.Lock] = {}
        self._patience = aiohttp.ClientTimeout(total=self.profile.timeout_s, sock_connect=self.profile.timeout_s)

    @property
    def session(self) -> aiohttp.ClientSession:
        assert self.tools.session is not None  # only who asks what a profile knows has none, and sends nothing
        return self.tools.session

    async def _request(self, node: str, asked: Asked, headers: dict[str, str]) -> aiohttp.ClientResponse:
        """Send one call once, whatever its answer's status; what fails on the way is said in our words."""
        call, (_, fields, _, _, _) = request_of(asked), asked
        if call.headers:
            headers = {**headers, **{key: fill(value, fields) for key, value in call.headers.items()}}
        path = call.said
        if call.upload_to is not None:
            path = fill(call.upload_to, fields)
        elif "{" in path:
            whole = any(path == f"{{{key}}}" for key in fields)
            path = fill(path, {key: quote(value, safe="/" if whole else "") for key, value in fields.items()})
        data, limit, more = await self._body(node, asked)
        url = self._url(node, path)
        if node not in self._tls:  # a file that is not there ends the reading of its node, and of no other
            self._tls[node] = verification(self.system.nodes[node], str(self.tools.folder))
        try:
            response: aiohttp.ClientResponse = await self.session.request(
                call.verb.upper(),
                url,
                headers={**headers, **more},
                timeout=limit,
                ssl=self._tls[node],
                allow_redirects=False,
                data=data,
            )
            return response
        except NETWORK as error:
            raise await self._explained(node, error, False) from None

    async def _body(self, node: str, asked: Asked) -> tuple[object, aiohttp.ClientTimeout, dict[str, str]]:
        """What a call sends, how long its answer may take, and the headers that say what it sends."""
        call, (_, fields, _, act, progress) = request_of(asked), asked
        if call.upload and act is not None:
            chunks = _chunks(await self._package(node, act), progress, self.tools.throttle)
            limit = self._limit(call, act.bytes)
            if call.upload_as == "multipart":
                return _multipart(call, fields, chunks, act.bytes, act.package), limit, {}
            return chunks, limit, {"Content-Length": str(act.bytes), "Content-Type": "application/octet-stream"}
        limit = self._patience if call.timeout_s is None else self._limit(call, 0)
        if call.form is not None:
            return fill(call.form, fields), limit, {}
        return aiohttp.JsonPayload(fill(call.send, fields)) if call.send is not None else None, limit, {}

    def _limit(self, call: Request, size: int) -> aiohttp.ClientTimeout:
        """How long a call may take: its own patience or the profile's, and for an upload what a slow line needs."""
        patience = call.timeout_s or self.profile.timeout_s
        slowest = SLOWEST if self.tools.throttle is None else SLOWEST / 20
        return aiohttp.ClientTimeout(total=patience + size / slowest, sock_connect=patience)

    def _url(self, node: str, link: str) -> URL:
        """An address at the node itself; the only place where one is made. Raises `DeviceRefused` for a link
        elsewhere."""
        base = self._bases[node]
        # Taking an address apart and together again is a good part of a request; a plain path needs none of it.
        if base.path == "/" and is_plain(link):
            return base.with_path(link, encoded=True)
        return URL(str(base).rstrip("/") + self._own_path(node, link))

    def _own_path(self, node: str, link: str) -> str:
        path = own_path(link, self.system.nodes[node].address)
        if path is None:
            raise DeviceRefused(
                f"{self.name_of(node)} leads to another place ({clean(link, 80)}); nothing was sent there.",
                "What a device says is followed on that device alone.",
                f"Look at what {self.name_of(node)} says of itself; gallant survey --show-calls shows its answers.",
                meaning="fatal",
            )
        return path

    async def _explained(self, node: str, error: Exception, answered: bool) -> GallantError:
        """A network failure in our words, and in the class that says what may have happened."""
        name, address = self.name_of(node), self.system.nodes[node].address
        parts = urlsplit(address)
        if isinstance(error, aiohttp.ServerFingerprintMismatch):
            return self._strange_certificate(node, f"sha256:{error.got.hex()}")
        if isinstance(error, (aiohttp.ClientConnectorCertificateError, aiohttp.ClientConnectorSSLError, ssl.SSLError)):
            shown = await shown_fingerprint(parts.hostname or "", parts.port or 443)
            return self._strange_certificate(node, shown)
        if isinstance(error, aiohttp.ClientConnectorError):
            why = reason(error.os_error)
            return NotReached(
                f"{name} cannot be reached at {address}: {clean(why)}.",
                next=f"Is {name} up? Then: gallant survey {name}",
                cause=clean(why, 60),
            )
        if isinstance(error, aiohttp.ConnectionTimeoutError):
            return NotReached(
                f"{name} cannot be reached at {address}: no connection within {self.profile.timeout_s:g} s.",
                next=f"Is {name} up? Then: gallant survey {name}",
                late=True,
                cause="no connection in time",
            )
        what = "broke off in the middle of its answer" if answered else "gave no answer"
        late = isinstance(error, TimeoutError)
        kind = "it took too long" if late else "the connection was cut"
        return AnswerLost(f"{name} {what}: {kind}.", next=f"gallant survey {name}", late=late)

    def _strange_certificate(self, node: str, shown: str | None) -> GallantError:
        name, pinned = self.name_of(node), self.system.nodes[node].fingerprint
        if shown is None:
            return NotReached(
                f"{name}: there is no TLS connection.", next=f"Does {self.system.nodes[node].address} speak HTTPS?"
            )
        why = (
            f"It shows {shown}; the estate pins {pinned}."
            if pinned
            else f"It shows {shown}, which no CA known here signed."
        )
        return LoginRefused(
            f"{name} shows a certificate that is not trusted; nothing was sent to it.",
            why,
            f"If its console shows the same fingerprint, write under {name} in estate.yaml:  fingerprint: {shown}",
        )

    def _readable(self, raw: bytes) -> str:
        return _readable(raw)

    async def _bounded(self, node: str, response: aiohttp.ClientResponse) -> bytes:
        raw = bytearray()
        try:
            if (
                response.content_length is not None
                and response.content_length <= LARGEST_JSON
                and PACKED not in response.headers
            ):
                return await response.read()
            async for chunk in response.content.iter_chunked(64 * 1024):
                raw += chunk
                if len(raw) > LARGEST_ANSWER:
                    raise self._said_too_much(node, LARGEST_ANSWER)
        except NETWORK as error:
            raise await self._explained(node, error, True) from None
        return bytes(raw)

    def _parsed(self, node: str, call: Call, raw: bytes) -> object:
        if not raw.strip():
            return None
        try:
            if call.find:
                return picked(parse_xml(raw), call.find, self.profile.namespaces)
            return parsed_json(raw)
        except (NotXml, ValueError, RecursionError) as error:
            kind = "XML" if call.find else "JSON"
            raise DeviceRefused(
                f"{self.name_of(node)} answers with something that is not {kind}: {clean(str(error), 80)}.",
                meaning="fatal",
            ) from None
