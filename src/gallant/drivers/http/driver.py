"""The `http` driver: JSON or XML over HTTPS, taught by a profile.

It verifies every device, logs in once and renews what expires, repeats only what is safe to repeat, bounds every
answer, and tells apart what was not sent, what was refused, and what may or may not have happened.
"""

from __future__ import annotations

from collections.abc import AsyncIterator, Mapping

import aiohttp

from gallant.core.errors import GallantError
from gallant.core.ports import DeviceRefused
from gallant.core.records import clean, replace
from gallant.drivers.base import LARGEST_COMPLAINT
from gallant.drivers.calls import Call, Pages
from gallant.drivers.http.login import HttpLogin, Whole, getting
from gallant.drivers.http.wire import CHUNK, NETWORK, request_of, same_host
from gallant.drivers.profile import fill
from gallant.drivers.tools import Asked, Fields
from gallant.drivers.xml import MOST_ROWS

MOST_PAGES = 1000
MOST_REDIRECTS = 5
REDIRECTS = (301, 302, 303, 307, 308)
RENEWALS = 2


TOLD = ("Location", "Retry-After")  # headers that an answer without a body may stand for


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


class HttpDriver(HttpLogin):
    """One system's nodes, each at an HTTPS address of its own."""

    def _is_safe(self, call: Call) -> bool:
        return call.verb == "get"

    # --- requests

    async def _ask(self, node: str, asked: Asked) -> object:
        call = request_of(asked)
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
        call, memory, name = request_of(asked), self.tools.memory, self.name_of(node)
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
                        asked = asked._replace(call=replace(request_of(asked), get=there.replace("{", "%7B")))
                        continue
                raise await self._judged(node, response)

    async def _judged(self, node: str, response: aiohttp.ClientResponse) -> GallantError:
        """What an answer means whose status is not good."""
        text = self._readable(await self._bounded(node, response))
        if 300 <= response.status < 400:
            return DeviceRefused(
                f"{self.name_of(node)} answered with a redirect, which Gallant refuses.", meaning="fatal"
            )
        return self._refusal(node, text, response.status)

    # --- login
