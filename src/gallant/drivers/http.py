"""The `http` driver: JSON over HTTPS, taught by a profile.

It verifies every device, logs in once and renews what expires, repeats only what is safe to repeat, bounds every
answer, and tells apart what was not sent, what was refused, and what may or may not have happened.
"""

from __future__ import annotations

import asyncio
import contextlib
import json
import os
import ssl
from collections.abc import AsyncIterator, Callable, Mapping
from datetime import UTC, datetime
from pathlib import Path
from typing import Any
from urllib.parse import quote, urlsplit

import aiohttp
import msgspec

from gallant.core.errors import GallantError
from gallant.core.estate import System
from gallant.core.ports import (
    Accepted,
    Act,
    AnswerLost,
    Clock,
    DeviceRefused,
    LoginRefused,
    NotReached,
    NotSent,
    Progress,
    WrongMachine,
)
from gallant.core.readings import (
    COMPONENT_KINDS,
    IMAGE,
    UNKNOWN,
    Channel,
    Component,
    Facet,
    Gauge,
    Job,
    PackagePresent,
    Reading,
)
from gallant.core.records import clean, replace
from gallant.drivers.profile import Call, Profile, expression, fill
from gallant.drivers.tls import shown_fingerprint, verification

# Fields that several calls of a profile may each give some rows of.
LISTS = ("gauges", "facets", "components", "packages", "jobs", "offers", "channels")
LARGEST_JSON = 8 * 1024 * 1024
LARGEST_EXPORT = 64 * 1024 * 1024 * 1024
DEEPEST_JSON = 64
READ_TRIES = 3
RENEWALS = 2
RETRY_PAUSE_S = 0.1  # real seconds; doubled with each try
CHUNK = 256 * 1024
Credentials = Callable[[str], tuple[str, str]]  # purpose → (user, secret)


def new_session() -> aiohttp.ClientSession:
    """One session for all devices of a run: verifying connector, bounded idle connections, no cookies, no proxies."""
    return aiohttp.ClientSession(
        connector=aiohttp.TCPConnector(limit=0, limit_per_host=8, keepalive_timeout=30, ssl=True),
        cookie_jar=aiohttp.DummyCookieJar(),
        trust_env=False,
        auto_decompress=True,
    )


class HttpDriver:
    """One system's nodes. `credentials` gives user and secret by purpose, when they are first needed and not before."""

    def __init__(
        self,
        system: System,
        profile: Profile,
        session: aiohttp.ClientSession,
        credentials: Credentials,
        clock: Clock,
        folder: Path,
        package_file: Callable[[str, str], Path] | None = None,
    ) -> None:
        self.system, self.profile, self.session, self.clock = system, profile, session, clock
        self._credentials, self._package_file = credentials, package_file
        self._tls = {name: verification(node, str(folder)) for name, node in system.nodes.items()}
        self._tokens: dict[tuple[str, str], str] = {}
        self._locks: dict[tuple[str, str], asyncio.Lock] = {}
        self._secrets: set[str] = set()

    # --- what the driver declares

    @property
    def request_timeout_s(self) -> float:
        return self.profile.timeout_s

    def lands_within_s(self, kind: str) -> float:
        return self.profile.acts[kind].lands_within_s if kind in self.profile.acts else 0.0

    def capabilities(self) -> frozenset[str]:
        exports = {"export"} if self.profile.exports else set()
        return frozenset({*self.profile.reads, *self.profile.acts, *exports})

    # --- reads

    async def read(self, node: str) -> Reading:
        """Everything the profile reads, as one reading. Raises `WrongMachine` where another serial answers."""
        began, real = self.clock.now(), self.clock.real()
        answers = await asyncio.gather(
            *(self._read(node, call) for calls in self.profile.reads.values() for call in calls)
        )
        took = self.clock.real() - real
        fields: dict[str, Any] = {}
        for (heard, halfway), answer in answers:
            for key, value in answer.items():
                if key in LISTS and isinstance(value, list):
                    fields[key] = [*fields.get(key, []), *value]
                elif value is not None:
                    fields[key] = value
                    if key == "clock":
                        fields["clock_heard"], fields["clock_within"] = heard, halfway
        reading = self._reading(node, fields, began, took)
        expected = self.system.nodes[node].serial
        if reading.serial != expected:
            raise WrongMachine(
                f"{reading.name} answers as serial {reading.serial}; the estate says {expected}.",
                "Another machine is at this address; nothing is done to it.",
                f"If the machine was replaced, write its serial into estate.yaml; else look at the address of {reading.name}.",
                serial=reading.serial,
            )
        return reading

    async def _read(self, node: str, call: Call) -> tuple[tuple[datetime, float], dict[str, Any]]:
        before = self.clock.now()
        body = await self._repeated(node, call, {"node": node}, "read")
        after = self.clock.now()
        return (before + (after - before) / 2, (after - before).total_seconds() / 2), self._taken(node, call, body)

    async def job(self, node: str, handle: str) -> Job:
        """One job of a node. Raises `DeviceRefused` where the device no longer knows it."""
        found: dict[str, Any] = {"id": handle}
        for call in self.profile.job:
            body = await self._repeated(node, call, {"handle": handle}, "read")
            found.update(self._taken(node, call, body))
        return self._job(found)

    async def export(self, node: str, name: str, into: Callable[[bytes], object]) -> None:
        """Stream one of the profile's exports into `into`, chunk by chunk."""
        call = next(e.call for e in self.profile.exports if e.name == name)
        size = 0
        async with self._answer(node, call, {"node": node}, "read") as response:
            async for chunk in response.content.iter_chunked(CHUNK):
                size += len(chunk)
                if size > LARGEST_EXPORT:
                    raise self._said_too_much(node, LARGEST_EXPORT)
                into(chunk)

    # --- acts

    async def act(self, node: str, act: Act, *, send_by: float, progress: Progress | None = None) -> Accepted:
        """Send one order. `send_by` is on the real monotonic clock; past it nothing is sent (`NotSent`)."""
        plan = self.profile.acts.get(act.kind)
        if plan is None:
            raise DeviceRefused(
                f"{self._name(node)}: the profile {self.profile.name} knows no {act.kind}.", meaning="fatal"
            )
        fields = {
            "node": node,
            "package": act.package,
            "release": act.release,
            "sha256": act.sha256,
            "bytes": str(act.bytes),
            "reason": act.reason,
        }
        await self._token(node, "act")
        taken: dict[str, Any] = {}
        for call in plan.calls:
            if self.clock.real() > send_by:
                raise NotSent(
                    f"{self._name(node)}: the order to {act.kind} was not sent: its time was over before it could be.",
                    next="gallant resume carries on.",
                )
            body = await self._once(node, call, fields, "act", act=act, progress=progress)
            taken.update(self._taken(node, call, body))
        handle = taken.get("handle")
        return Accepted(
            handle=None if handle is None else clean(str(handle), 120), message=clean(str(taken.get("message") or ""))
        )

    # --- requests

    async def _repeated(self, node: str, call: Call, fields: Mapping[str, str], purpose: str) -> Any:
        """A read, tried again when the network failed it; anything else is never repeated here."""
        safe = call.method_and_path[0] == "GET"
        for attempt in range(READ_TRIES):
            try:
                return await self._once(node, call, fields, purpose)
            except AnswerLost:  # one that is not there at all is the caller's to wait for
                if not safe or attempt == READ_TRIES - 1:
                    raise
                await self.clock.pause(RETRY_PAUSE_S * 2**attempt)
        raise AssertionError("unreachable")

    async def _once(
        self,
        node: str,
        call: Call,
        fields: Mapping[str, str],
        purpose: str,
        act: Act | None = None,
        progress: Progress | None = None,
    ) -> Any:
        async with self._answer(node, call, fields, purpose, act, progress) as response:
            raw = await self._bounded(node, response)
        return self._parsed(node, raw)

    @contextlib.asynccontextmanager
    async def _answer(
        self,
        node: str,
        call: Call,
        fields: Mapping[str, str],
        purpose: str,
        act: Act | None = None,
        progress: Progress | None = None,
    ) -> AsyncIterator[aiohttp.ClientResponse]:
        """The answer to one call, good by its status. A session that ran out is renewed, and once more if the node started
        anew just then."""
        for attempt in range(RENEWALS + 1):
            header = await self._token(node, purpose)
            async with self._request(
                node, call, fields, {self.profile.login.header: header}, act, progress
            ) as response:
                if response.status in self.profile.login.renew_on and attempt < RENEWALS:
                    if self._tokens.get((node, purpose)) == header:  # another call may have renewed it meanwhile
                        del self._tokens[node, purpose]
                    continue
                await self._judge(node, response)
                yield response
                return

    @contextlib.asynccontextmanager
    async def _request(
        self,
        node: str,
        call: Call,
        fields: Mapping[str, str],
        headers: dict[str, str],
        act: Act | None = None,
        progress: Progress | None = None,
    ) -> AsyncIterator[aiohttp.ClientResponse]:
        method, path = call.method_and_path
        path = fill(path, {key: quote(value, safe="") for key, value in fields.items()})
        url = self.system.nodes[node].address.rstrip("/") + path
        patience = call.timeout_s or self.profile.timeout_s
        size = act.bytes if act and call.upload else 0
        limit = aiohttp.ClientTimeout(total=patience + size / 100_000, sock_connect=patience)
        body: dict[str, Any] = {}
        if call.upload and act is not None:
            assert self._package_file is not None
            body["data"] = _chunks(self._package_file(act.package, act.sha256), progress)
            headers = {**headers, "Content-Length": str(size), "Content-Type": "application/octet-stream"}
        elif call.send is not None:
            body["json"] = fill(call.send, dict(fields))
        answered = False
        try:
            async with self.session.request(
                method, url, headers=headers, timeout=limit, ssl=self._tls[node], allow_redirects=False, **body
            ) as response:
                answered = True
                yield response
        except (aiohttp.ClientError, TimeoutError, OSError) as error:
            raise await self._explained(node, error, answered) from None

    async def _explained(self, node: str, error: Exception, answered: bool) -> GallantError:
        """A network failure in our words, and in the class that says what may have happened."""
        name, address = self._name(node), self.system.nodes[node].address
        parts = urlsplit(address)
        if isinstance(error, aiohttp.ServerFingerprintMismatch):
            return self._strange_certificate(node, f"sha256:{error.got.hex()}")
        if isinstance(error, (aiohttp.ClientConnectorCertificateError, aiohttp.ClientConnectorSSLError, ssl.SSLError)):
            shown = await shown_fingerprint(parts.hostname or "", parts.port or 443)
            return self._strange_certificate(node, shown)
        if isinstance(error, aiohttp.ClientConnectorError):
            why = os.strerror(error.os_error.errno) if error.os_error.errno else str(error.os_error)
            return NotReached(
                f"{name} cannot be reached at {address}: {clean(why).lower()}.",
                next=f"Is {name} up? Then: gallant survey {name}",
            )
        if isinstance(error, aiohttp.ConnectionTimeoutError):
            return NotReached(
                f"{name} cannot be reached at {address}: no connection within {self.profile.timeout_s:g} s.",
                next=f"Is {name} up? Then: gallant survey {name}",
            )
        what = "broke off in the middle of its answer" if answered else "gave no answer"
        kind = "it took too long" if isinstance(error, TimeoutError) else "the connection was cut"
        return AnswerLost(f"{name} {what}: {kind}.", next=f"gallant survey {name}")

    def _strange_certificate(self, node: str, shown: str | None) -> GallantError:
        name, pinned = self._name(node), self.system.nodes[node].fingerprint
        if shown is None:
            return NotReached(
                f"{name}: no TLS connection comes about.", next=f"Does {self.system.nodes[node].address} speak HTTPS?"
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

    async def _judge(self, node: str, response: aiohttp.ClientResponse) -> None:
        """Raise what an answer's status means, unless it is good."""
        if 200 <= response.status < 300:
            return
        text = self.mask(clean(_readable(await self._bounded(node, response)), 300))
        if 300 <= response.status < 400:
            raise DeviceRefused(
                f"{self._name(node)} wants to send us elsewhere; Gallant does not follow.", meaning="fatal"
            )
        meaning = self.profile.meaning(response.status, text)
        said = f"{self._name(node)} refuses: {text or f'status {response.status}'}."
        if meaning == "auth":
            raise LoginRefused(
                f"{self._name(node)} does not let us do this: {text or response.status}.",
                next=f"Look at the rights of the account for {self.system.name} in estate.yaml.",
            )
        if meaning == "passing":
            raise NotReached(said, next=f"gallant survey {self._name(node)}")
        raise DeviceRefused(said, next=f"gallant survey {self._name(node)}", meaning=meaning)

    async def _bounded(self, node: str, response: aiohttp.ClientResponse) -> bytes:
        raw = bytearray()
        try:
            async for chunk in response.content.iter_chunked(64 * 1024):
                raw += chunk
                if len(raw) > LARGEST_JSON:
                    raise self._said_too_much(node, LARGEST_JSON)
        except (aiohttp.ClientError, TimeoutError, OSError) as error:
            raise await self._explained(node, error, True) from None
        return bytes(raw)

    def _said_too_much(self, node: str, limit: int) -> DeviceRefused:
        return DeviceRefused(
            f"{self._name(node)} answers with more than {limit // 1024 // 1024} MiB; the rest was not read.",
            meaning="fatal",
        )

    def _parsed(self, node: str, raw: bytes) -> Any:
        if not raw.strip():
            return None
        try:
            if _depth(raw) > DEEPEST_JSON:
                raise ValueError("nested too deep")
            return msgspec.json.decode(raw)
        except (ValueError, RecursionError) as error:
            raise DeviceRefused(
                f"{self._name(node)} answers with something that is not JSON: {clean(str(error), 80)}.", meaning="fatal"
            ) from None

    # --- login

    async def _token(self, node: str, purpose: str) -> str:
        """The session's token for a purpose, logging in when there is none."""
        key = (node, purpose)
        async with self._locks.setdefault(key, asyncio.Lock()):
            if key not in self._tokens:
                self._tokens[key] = await self._log_in(node, purpose)
            return self._tokens[key]

    async def _log_in(self, node: str, purpose: str) -> str:
        user, secret = self._credentials(purpose)
        self._secrets.add(secret)
        login = self.profile.login
        for attempt in range(READ_TRIES):
            try:
                async with self._request(node, login.call, {"user": user, "secret": secret}, {}) as response:
                    raw = await self._bounded(node, response)
                    if response.status >= 500:
                        raise NotReached(
                            f"{self._name(node)} is not ready to log in (status {response.status}).",
                            next=f"gallant survey {self.system.name}",
                        )
                    if response.status >= 300:
                        said = self.mask(clean(_readable(raw), 200))
                        raise LoginRefused(
                            f"{self._name(node)} refuses the login of {user} (account {purpose!r}): {said or response.status}.",
                            next=f"Look at accounts in estate.yaml and at the secret they name, then: gallant survey {self.system.name}",
                        )
                break
            except (NotReached, AnswerLost) as error:
                # A login changes nothing, so it is safe to repeat; that it was lost says nothing about the act after it.
                if attempt == READ_TRIES - 1 or isinstance(error, NotReached):
                    raise NotReached(error.what, error.why, error.next) from None
                await self.clock.pause(RETRY_PAUSE_S * 2**attempt)
        token = self._taken(node, login.call, self._parsed(node, raw)).get("token")
        if not isinstance(token, str) or not token:
            raise LoginRefused(
                f"{self._name(node)} took the login and gave no session.",
                next=f"gallant validate the profile {self.profile.name}",
            )
        self._secrets.add(token)
        return fill(login.value, {"token": token})

    async def close(self) -> None:
        """Log out where the profile knows how. A device that is gone keeps us from nothing."""
        if self.profile.login.logout is None:
            return
        for (node, _), header in list(self._tokens.items()):
            with contextlib.suppress(GallantError):
                async with (
                    asyncio.timeout(2),
                    self._request(node, self.profile.login.logout, {}, {self.profile.login.header: header}),
                ):
                    pass
        self._tokens.clear()

    def mask(self, text: str) -> str:
        """The text without any secret that this driver has used."""
        for secret in sorted(self._secrets, key=len, reverse=True):
            if len(secret) >= 4:
                text = text.replace(secret, "•••")
        return text

    # --- answers to records

    def _name(self, node: str) -> str:
        return f"{self.system.name}/{node}"

    def _taken(self, node: str, call: Call, body: Any) -> dict[str, Any]:
        taken = {}
        for key, text in call.take.items():
            try:
                taken[key] = expression(text).search(body)
            except Exception as error:  # a function given the wrong type, by a device that answers in another form
                raise DeviceRefused(
                    f"{self._name(node)}: its answer does not fit the profile {self.profile.name} ({key}): "
                    f"{clean(str(error), 100)}.",
                    meaning="fatal",
                ) from None
        return taken

    def _reading(self, node: str, fields: dict[str, Any], began: datetime, took: float) -> Reading:
        missing = [key for key in ("serial", "version", "boot") if not isinstance(fields.get(key), (str, int))]
        if missing:
            raise DeviceRefused(
                f"{self._name(node)} does not say its {' and '.join(missing)}.",
                f"The profile {self.profile.name} looks for it in vain.",
                meaning="fatal",
            )
        profile = self.profile
        text = {
            key: _text(fields.get(key))
            for key in ("serial", "version", "boot", "build", "next_version", "model", "network")
        }
        sync = profile.word("sync", fields["sync"]) if "sync" in fields else None
        offset = _clock_offset(fields.get("clock"), fields.get("clock_heard"))
        offers, channels = fields.get("offers"), fields.get("channels")
        image = Component(
            name=IMAGE,
            kind="system image",
            product=self.system.product,
            version=text["version"] or "",
            next_version=text["next_version"],
            build=text["build"],
        )
        return Reading(
            system=self.system.name,
            node=node,
            taken=began,
            serial=text["serial"] or "",
            product=self.system.product,
            version=text["version"] or "",
            boot=text["boot"] or "",
            role=profile.word("role", fields.get("role")),
            state=profile.word("state", fields.get("state")),
            build=text["build"],
            next_version=text["next_version"],
            in_sync=None if sync is None else sync == "yes",
            sync_word=_text(fields.get("sync")) or "",
            sync_remaining_s=_number(fields.get("sync_remaining_s")),
            model=text["model"],
            network=text["network"],
            clock_offset_s=offset,
            clock_uncertainty_s=None if offset is None else fields.get("clock_within"),
            components=(image, *map(_known_kind, self._records(Component, fields.get("components")))),
            packages=self._records(PackagePresent, fields.get("packages")),
            jobs=tuple(self._job(job) for job in fields.get("jobs") or () if isinstance(job, dict)),
            facets=self._records(Facet, fields.get("facets")),
            gauges=self._records(Gauge, fields.get("gauges")),
            offers=tuple(text for value in offers if (text := _text(value))) if isinstance(offers, list) else None,
            channels=self._records(Channel, channels) if isinstance(channels, list) else None,
        )

    def _records(self, kind: Any, rows: Any) -> tuple[Any, ...]:
        """Rows of an answer as records; a row that is none is left out rather than guessed at."""
        found = []
        for row in rows or ():
            if isinstance(row, dict):
                tidy = {key: _text(value) if isinstance(value, str) else value for key, value in row.items()}
                with contextlib.suppress(msgspec.ValidationError):
                    found.append(msgspec.convert(tidy, kind, strict=False))
        return tuple(found)

    def _job(self, fields: dict[str, Any]) -> Job:
        return Job(
            id=_text(fields.get("id")) or "",
            kind=self.profile.word("job_kind", fields.get("kind")),
            state=self.profile.word("job", fields.get("state")),
            percent=min(100.0, max(0.0, _number(fields.get("percent")) or 0.0)),
            message=self.mask(_text(fields.get("message")) or ""),
            release=_text(fields.get("release")) or None,
            remaining_s=_number(fields.get("remaining_s")),
        )


def _known_kind(part: Component) -> Component:
    return part if part.kind in COMPONENT_KINDS else replace(part, kind=UNKNOWN)


def _text(value: Any) -> str | None:
    return None if value is None else clean(str(value), 200)


def _number(value: Any) -> float | None:
    return float(value) if isinstance(value, (int, float)) and not isinstance(value, bool) and value == value else None


def _readable(raw: bytes) -> str:
    """The human part of an error answer: the longest text in a JSON object, else the body itself."""
    try:
        body = json.loads(raw)
    except (ValueError, RecursionError):
        return raw[:400].decode("utf-8", "replace")
    texts = [v for v in body.values() if isinstance(v, str)] if isinstance(body, dict) else []
    return max(texts, key=len, default="")


def _depth(raw: bytes) -> int:
    """How deep brackets nest outside texts; counted before any parser recurses."""
    if raw.count(b"[") + raw.count(b"{") <= DEEPEST_JSON:
        return 0
    depth = deepest = 0
    inside = escaped = False
    for byte in raw:
        if inside:
            if escaped:
                escaped = False
            elif byte == 0x5C:
                escaped = True
            elif byte == 0x22:
                inside = False
        elif byte == 0x22:
            inside = True
        elif byte in b"[{":
            depth += 1
            deepest = max(deepest, depth)
        elif byte in b"]}":
            depth -= 1
    return deepest


def _clock_offset(said: Any, heard: datetime | None) -> float | None:
    if heard is None or not isinstance(said, (str, int, float)):
        return None
    try:
        theirs = datetime.fromisoformat(said) if isinstance(said, str) else datetime.fromtimestamp(said, UTC)
    except (ValueError, OSError, OverflowError):
        return None
    return None if theirs.tzinfo is None else (theirs - heard).total_seconds()


async def _chunks(path: Path, progress: Progress | None) -> AsyncIterator[bytes]:
    """A file in pieces, with progress by the bytes sent."""
    total = max(1, path.stat().st_size)
    sent = 0
    with path.open("rb") as file:
        while chunk := file.read(CHUNK):
            yield chunk
            sent += len(chunk)
            if progress is not None:
                progress(100.0 * sent / total, f"{sent / 1e6:.1f} of {total / 1e6:.1f} MB sent")
