"""The `http` driver: JSON or XML over HTTPS, taught by a profile.

It verifies every device, logs in once and renews what expires, repeats only what is safe to repeat, bounds every
answer, and tells apart what was not sent, what was refused, and what may or may not have happened.
"""

from __future__ import annotations

import asyncio
import base64
import contextlib
import io
import json
import os
import re
import ssl
from collections.abc import AsyncIterator, Mapping
from functools import lru_cache
from typing import NamedTuple
from urllib.parse import SplitResult, quote, urljoin, urlsplit

import aiohttp
import msgspec
from multidict import CIMultiDictProxy
from yarl import URL

from gallant.core.errors import GallantError
from gallant.core.estate.systems import System
from gallant.core.ports import AnswerLost, DeviceRefused, LoginRefused, NotReached, Progress
from gallant.core.records import clean, replace
from gallant.drivers.base import LARGEST_COMPLAINT, READ_TRIES, RETRY_PAUSE_S, ProfiledDriver
from gallant.drivers.calls import Call, Get, Pages, Request
from gallant.drivers.network import reason
from gallant.drivers.profile import Profile, fill
from gallant.drivers.tls import shown_fingerprint, verification
from gallant.drivers.tools import Asked, Fields, Throttled, Tools
from gallant.drivers.xml import MOST_ROWS, NotXml, parse_xml, picked

LARGEST_JSON = 8 * 1024 * 1024
LARGEST_ANSWER = 64 * 1024 * 1024
DEEPEST_JSON = 64
MOST_PAGES = 1000
MOST_REDIRECTS = 5
REDIRECTS = (301, 302, 303, 307, 308)
RENEWALS = 2
CHUNK = 256 * 1024
SLOWEST = 100_000  # bytes a second, below which an upload is given up; where a site's link is spared, a twentieth of it


# What a network and a connection fail with, before anything of HTTP is understood.
NETWORK = (aiohttp.ClientError, TimeoutError, OSError)
TOLD = ("Location", "Retry-After")  # headers that an answer without a body may stand for
PACKED = "Content-Encoding"


@lru_cache(maxsize=4096)
def getting(path: str) -> Get:
    """A call for a path as a device said it; braces in it are its own."""
    return Get(get=path.replace("{", "%7B"))


def new_session(per_node: int = 8) -> aiohttp.ClientSession:
    """One session for all devices of a run: verifying connector, bounded idle connections, no cookies, no proxies.

    `per_node` is how many connections a node may have; each costs a handshake and 290 kB.
    """
    return aiohttp.ClientSession(
        connector=aiohttp.TCPConnector(
            limit=0, limit_per_host=per_node, keepalive_timeout=30 if per_node > 1 else 2, ssl=True
        ),
        cookie_jar=aiohttp.DummyCookieJar(),
        trust_env=False,
        auto_decompress=True,
    )


def _request_of(asked: Asked) -> Request:
    assert isinstance(asked.call, Request)  # a profile of this driver knows no other verbs
    return asked.call


class Whole(NamedTuple):
    """An answer with all of its bytes."""

    status: int
    raw: bytes
    headers: CIMultiDictProxy[str]
    cookies: Mapping[str, str] = {}


class HttpDriver(ProfiledDriver):
    """One system's nodes, each at an HTTPS address of its own."""

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

    def _is_safe(self, call: Call) -> bool:
        return call.verb == "get"

    async def _prepare(self, node: str, purpose: str) -> None:
        await self._carried(node, purpose)

    # --- requests

    async def _ask(self, node: str, asked: Asked) -> object:
        call = _request_of(asked)
        whole = await self._whole(node, asked)
        body = self._parsed(node, call, whole.raw)
        told = {name.lower(): value for name in TOLD if (value := whole.headers.get(name)) is not None}
        if body is None and told:
            body = told
        elif isinstance(body, dict) and "location" in told and "location" not in body:
            body = {**body, **told}
        return body if call.pages is None else await self._all_pages(node, asked, call.pages, body)

    async def _once(self, node: str, asked: Asked) -> Fields:
        """A read that the device can say has not changed gives what it gave before (RFC 9110, 13.1.2)."""
        call, memory, name = _request_of(asked), self.tools.memory, self.name_of(node)
        if memory is None or asked.purpose != "read" or call.verb != "get" or call.pages is not None:
            return await super()._once(node, asked)
        key = f"{self.profile.digest[:12]} {fill(call.said, asked.fields)}"
        known = memory.recall(name, key)
        tagged = replace(call, headers={**call.headers, "If-None-Match": known[0]}) if known else call
        whole = await self._whole(node, asked._replace(call=tagged))
        if whole.status == 304 and known is not None:
            return known[1]
        body = self._parsed(node, call, whole.raw)
        taken = self._taken(node, call, body)
        if tag := whole.headers.get("ETag"):
            memory.remember(name, key, tag, taken)
        self._tell(node, asked, body, taken)
        return taken

    async def _all_pages(self, node: str, asked: Asked, pages: Pages, first: object) -> dict[str, object]:
        """The first page with the rows of every page, as `{rows: […], first: …}`."""
        from gallant.drivers.profile import expression

        call = asked.call
        rows: list[object] = []
        seen: set[str] = set()
        body = first
        path = fill(call.said, asked.fields)
        while True:
            found = expression(pages.rows).search(body)
            rows += found if isinstance(found, list) else []
            if len(rows) > MOST_ROWS:
                raise self._too_many(node, "rows of one list")
            following = expression(pages.next).search(body)
            if not following:
                return {"rows": rows, "first": first}
            there = same_host(path, str(following), self.system.nodes[node].address)
            if there is None or there in seen or len(seen) >= MOST_PAGES:
                raise DeviceRefused(
                    f"{self.name_of(node)}: its list of pages has no end, or leads elsewhere"
                    f" ({clean(str(following), 80)}).",
                    meaning="fatal",
                )
            seen.add(there)
            path = there
            body = self._parsed(node, call, (await self._whole(node, asked._replace(call=getting(path)))).raw)

    async def _stream(self, node: str, call: Call, fields: Mapping[str, str]) -> AsyncIterator[bytes]:
        async with await self._answer(node, Asked(call, fields)) as response:
            begun: bytes | None = b""  # of an answer that may still turn out to be no export but an error
            try:
                async for chunk in response.content.iter_chunked(CHUNK):
                    begun = None if begun is None or len(begun) + len(chunk) > LARGEST_COMPLAINT else begun + chunk
                    yield chunk
            except NETWORK as error:
                raise await self._explained(node, error, True) from None
            if begun is not None:
                self._look_for_errors(node, response.status, begun)

    async def _whole(self, node: str, asked: Asked) -> Whole:
        """All of the answer to one call, good by its status."""
        async with await self._answer(node, asked) as response:
            whole = Whole(response.status, await self._bounded(node, response), response.headers)
        self._look_for_errors(node, whole.status, whole.raw)
        return whole

    def _look_for_errors(self, node: str, status: int, raw: bytes) -> None:
        """Raise what an answer means that is an error by its text,
        whatever its status says: some devices call everything good."""
        text = raw[:LARGEST_COMPLAINT].decode("utf-8", "replace") if self.profile.errors else ""
        if text and self.profile.complains(status, text):
            raise self._refusal(node, self._readable(raw), status, text)

    async def _answer(self, node: str, asked: Asked) -> aiohttp.ClientResponse:
        """The answer to one call, good by its status, its bytes still to come. A session that ran out is renewed, and
        once more if the node started anew just then; a read is followed to another path of the same node."""
        renewals = redirects = 0
        while True:
            carried = await self._carried(node, asked.purpose)
            response = await self._request(node, asked, carried)
            if 200 <= response.status < 300:
                return response
            if response.status == 304:  # not changed: only who asked for that is told it
                return response
            async with response:
                if response.status in self._renew_on and renewals < RENEWALS:
                    renewals += 1
                    if self._sessions.get((node, asked.purpose)) is carried:  # no other call renewed it meanwhile
                        del self._sessions[node, asked.purpose]
                    continue
                if response.status in REDIRECTS and asked.call.verb == "get" and redirects < MOST_REDIRECTS:
                    redirects += 1
                    here = response.url.path_qs
                    there = same_host(here, response.headers.get("Location", ""), self.system.nodes[node].address)
                    if there is not None and there != here:
                        asked = asked._replace(call=replace(_request_of(asked), get=there.replace("{", "%7B")))
                        continue
                raise await self._judged(node, response)

    async def _request(self, node: str, asked: Asked, headers: dict[str, str]) -> aiohttp.ClientResponse:
        """Send one call once, whatever its answer's status; what fails on the way is said in our words."""
        call, (_, fields, _, act, progress) = _request_of(asked), asked
        if call.headers:
            headers = {**headers, **{key: fill(value, fields) for key, value in call.headers.items()}}
        path = call.said
        if call.upload_to is not None:
            path = fill(call.upload_to, fields)
        elif "{" in path:
            whole = any(path == f"{{{key}}}" for key in fields)
            path = fill(path, {key: quote(value, safe="/" if whole else "") for key, value in fields.items()})
        data: object = None
        limit = self._patience if call.timeout_s is None else self._limit(call, 0)
        if call.upload and act is not None:
            chunks = _chunks(await self._package(node, act), progress, self.tools.throttle)
            if call.upload_as == "multipart":
                data = _multipart(call, fields, chunks, act.bytes, act.package)
            else:
                data = chunks
                headers = {**headers, "Content-Length": str(act.bytes), "Content-Type": "application/octet-stream"}
            limit = self._limit(call, act.bytes)
        elif call.form is not None:
            data = fill(call.form, fields)
        elif call.send is not None:
            data = aiohttp.JsonPayload(fill(call.send, fields))
        url = self._url(node, path)
        if node not in self._tls:  # a file that is not there ends the reading of its node, and of no other
            self._tls[node] = verification(self.system.nodes[node], str(self.tools.folder))
        try:
            response: aiohttp.ClientResponse = await self.session.request(
                call.verb.upper(),
                url,
                headers=headers,
                timeout=limit,
                ssl=self._tls[node],
                allow_redirects=False,
                data=data,
            )
            return response
        except NETWORK as error:
            raise await self._explained(node, error, False) from None

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

    async def _judged(self, node: str, response: aiohttp.ClientResponse) -> GallantError:
        """What an answer means whose status is not good."""
        text = self._readable(await self._bounded(node, response))
        if 300 <= response.status < 400:
            return DeviceRefused(
                f"{self.name_of(node)} answered with a redirect, which Gallant refuses.", meaning="fatal"
            )
        return self._refusal(node, text, response.status)

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

    # --- login

    @property
    def _renew_on(self) -> tuple[int, ...]:
        login = self.profile.login
        return login.renew_on if login is not None and login.by == "session" else ()

    async def _carried(self, node: str, purpose: str) -> dict[str, str]:
        """The headers that carry a purpose's session, logging in when there is none."""
        key = (node, purpose)
        if (carried := self._sessions.get(key)) is not None:
            return carried
        if self.profile.login is not None and self.profile.login.by == "nothing":
            return {}
        async with self._locks.setdefault(key, asyncio.Lock()):
            if key not in self._sessions:
                self._sessions[key] = await self.logged_in(node, purpose, lambda: self._log_in(node, purpose))
            return self._sessions[key]

    async def _log_in(self, node: str, purpose: str) -> dict[str, str]:
        """The headers of a new session, as the profile says how one is got and carried."""
        login = self.profile.login
        assert login is not None
        user, secret, _ = self.credential(purpose)
        if login.by == "basic":
            return await self._tried(node, purpose, user, basic(user, secret), self._first_path)
        if login.by == "header":
            said = {str(login.header): fill(login.carries, {"user": user, "secret": secret})}
            return await self._tried(node, purpose, user, said, self._first_path)
        assert login.call is not None  # a session has one
        whole = await self._said_hello(node, Asked(login.call, {"user": user, "secret": secret}))
        self._let_in(node, purpose, user, whole)
        if login.cookies:
            if not whole.cookies:
                raise self._no_session(node)
            self._secrets.update(whole.cookies.values())
            return {"Cookie": "; ".join(f"{name}={value}" for name, value in whole.cookies.items())}
        assert login.header is not None
        parsed = self._parsed(node, login.call, whole.raw)
        told = parsed if isinstance(parsed, dict) else {}
        token = self._taken(node, login.call, {**told, "headers": dict(whole.headers)}).get("token")
        if not isinstance(token, str) or not token:
            raise self._no_session(node)
        self._secrets.add(token)
        if not _HEADER.fullmatch(token):
            raise DeviceRefused(
                f"{self.name_of(node)} gives a session that no request can carry: its token is not plain text.",
                next=f"Look at login: in the profile {self.profile.name}.",
                meaning="fatal",
            )
        return {login.header: fill(login.carries, {"token": token})}

    @property
    def _first_path(self) -> str | None:
        """The path of the profile's first read that needs nothing of an earlier one."""
        calls = (call for calls in self.profile.reads.values() for call in calls)
        return next((call.said for call in calls if call.verb == "get" and "{" not in call.said), None)

    async def _tried(
        self, node: str, purpose: str, user: str, carried: dict[str, str], path: str | None
    ) -> dict[str, str]:
        """The headers that let us in with every request, once one request alone has shown that they do: side by side
        each would be a failed login, and a few of those lock an account. Raises `LoginRefused`."""
        self._secrets.update(word for value in carried.values() for word in (value, value.rpartition(" ")[2]))
        for value in carried.values():
            if not _HEADER.fullmatch(value):
                raise LoginRefused(
                    f"{self.name_of(node)}: the secret of {user} cannot stand in a header.",
                    next=f"Look at the secret that the account {purpose!r} names.",
                )
        if path is not None:
            async with await self._request(node, Asked(getting(path), {}, purpose), carried) as response:
                raw = await self._bounded(node, response)
            if response.status == 401:
                self._let_in(node, purpose, user, Whole(response.status, raw, response.headers))
        return carried

    async def _said_hello(self, node: str, asked: Asked) -> Whole:
        """The answer to a login. It changes nothing, so it is safe to repeat;
        that one was lost says nothing about the act that comes after it."""
        for attempt in range(READ_TRIES):
            try:
                async with await self._request(node, asked, {}) as response:
                    raw = await self._bounded(node, response)
                    cookies = {name: morsel.value for name, morsel in response.cookies.items()}
                    return Whole(response.status, raw, response.headers, cookies)
            except (NotReached, AnswerLost) as error:
                if attempt == READ_TRIES - 1 or isinstance(error, NotReached):
                    raise NotReached(error.what, error.why, error.next, late=error.late, cause=error.cause) from None
                await self.clock.pause(RETRY_PAUSE_S * 2**attempt)
        raise AssertionError("unreachable")

    def _let_in(self, node: str, purpose: str, user: str, whole: Whole) -> None:
        """Raises what a refused login means."""
        if whole.status < 300 and self.profile.complains(whole.status, whole.raw.decode("utf-8", "replace")):
            raise self._not_let_in(node, purpose, user, whole)
        if whole.status >= 500:
            raise NotReached(
                f"{self.name_of(node)} is not ready to log in (status {whole.status}).",
                next=f"gallant survey {self.system.name}",
            )
        if whole.status >= 300:
            raise self._not_let_in(node, purpose, user, whole)

    def _not_let_in(self, node: str, purpose: str, user: str, whole: Whole) -> LoginRefused:
        return LoginRefused(
            f"{self.name_of(node)} refuses the login of {user} (account {purpose!r}): "
            f"{self.said(self._readable(whole.raw), 200) or whole.status}.",
            next=(
                f"Look at accounts in estate.yaml and at the secret they name, then: gallant survey {self.system.name}"
            ),
            counted=True,
        )

    def _no_session(self, node: str) -> LoginRefused:
        return LoginRefused(
            f"{self.name_of(node)} took the login and gave no session.",
            next=f"gallant validate the profile {self.profile.name}",
        )

    async def done(self, node: str) -> None:
        """Log out and hang up; an estate of thousands holds no connection to those that were read."""
        mine = [key for key in self._sessions if key[0] == node]
        await self.side_by_side([self._log_out(*key, self._sessions.pop(key)) for key in mine])

    async def close(self) -> None:
        await super().close()
        await asyncio.gather(*(self.done(node) for node in {node for node, _ in self._sessions}))

    async def _log_out(self, node: str, purpose: str, carried: dict[str, str]) -> None:
        """End a session where the profile knows how. A device that is gone keeps us from nothing."""
        call = self.profile.login.logout if self.profile.login is not None else None
        if call is not None:
            with contextlib.suppress(GallantError, TimeoutError):
                await self._hang_up(node, Asked(call), carried)

    async def _hang_up(self, node: str, asked: Asked, carried: dict[str, str]) -> None:
        """One last call, and the end of its connection, whatever the device makes of the header."""
        async with asyncio.timeout(2), await self._request(node, asked, {**carried, "Connection": "close"}) as response:
            response.close()


def _readable(raw: bytes) -> str:
    """The human part of an error answer: the longest text in a JSON object, else the body itself."""
    try:
        body = json.loads(raw)
    except (ValueError, RecursionError):
        return raw[:400].decode("utf-8", "replace")
    texts = [v for v in body.values() if isinstance(v, str)] if isinstance(body, dict) else []
    return max(texts, key=len, default="")


def basic(user: str, secret: str) -> dict[str, str]:
    """The header of basic authentication (RFC 7617)."""
    return {"Authorization": f"Basic {base64.b64encode(f'{user}:{secret}'.encode()).decode()}"}


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
# A header's value (RFC 9110, 5.5), without what any server in between might take for the end of it.
_HEADER = re.compile(r"[\x21-\x7e]([\x20-\x7e]*[\x21-\x7e])?")
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


class _Sized(aiohttp.AsyncIterablePayload):
    """A stream whose length is known, so that a form with it in one part can say its own."""

    def __init__(self, chunks: AsyncIterator[bytes], size: int) -> None:
        super().__init__(chunks, content_type="application/octet-stream")
        self._size = size


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
