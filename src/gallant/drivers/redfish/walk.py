"""The tree of a Redfish service: its resources, its collections, its sessions."""

from __future__ import annotations

import asyncio
import contextlib
from functools import lru_cache

from gallant.core.errors import GallantError
from gallant.core.estate.systems import System
from gallant.core.ports import AnswerLost, DeviceRefused
from gallant.core.records import clean, replace
from gallant.drivers.base import READ_TRIES, RETRY_PAUSE_S
from gallant.drivers.calls import Delete, Get, Post
from gallant.drivers.http.driver import MOST_PAGES, HttpDriver
from gallant.drivers.http.login import basic, getting
from gallant.drivers.http.wire import own_path, parsed_json
from gallant.drivers.profile import Profile
from gallant.drivers.tools import Asked, Tools
from gallant.drivers.xml import MOST_ROWS

INVENTORY_FIELDS = (
    "@odata.id",
    "id",
    "name",
    "version",
    "members@odata.nextlink",
    "@odata.nextlink",
    "relateditem",
    "serialnumber",
    "model",
    "partnumber",
    "sku",
)


ROOT = "/redfish/v1/"
# DSP0266, 13.2: how a session's token is carried.
TOKEN = "X-Auth-Token"
MEMBERS_AT_ONCE = 8
MOST_SYSTEMS = 64
# ComputerSystem v1_20, Reset: the gentlest first.
# Resources behind the login that every service has one of; the least of work to answer first.
GUARDED = ("Managers", "Chassis", "Systems")


def _slim(found: dict[str, object]) -> dict[str, object]:
    """What is used of an inventory or of one of its members; the rest need not be kept."""
    kept = {key: value for key, value in found.items() if key.lower() in INVENTORY_FIELDS}
    rows = next((value for key, value in found.items() if key.lower() == "members"), None)
    if isinstance(rows, list):
        kept["Members"] = [_slim(row) for row in rows if isinstance(row, dict)]
    return kept


@lru_cache(maxsize=4096)
def _lower(keys: tuple[str, ...]) -> dict[str, str]:
    """Names as they are spelled, by themselves in small letters; machines of one model have the same ones."""
    return {key.lower(): key for key in keys}


class RedfishWalk(HttpDriver):
    """Finds its way through a service, and remembers what it met."""

    def __init__(self, system: System, profile: Profile, tools: Tools) -> None:
        super().__init__(system, profile, tools)
        self._roots: dict[str, asyncio.Task[dict[str, object]]] = {}
        self._got: dict[str, dict[str, asyncio.Task[dict[str, object]]]] = {}
        self._done: dict[str, dict[str, dict[str, object]]] = {}
        self._odd: dict[str, list[str]] = {}
        self._logouts: dict[tuple[str, str], str] = {}
        self._can_hand_over: set[str] = set()
        self._systems: dict[str, str] = {}  # of several behind one service, a node's own

    def get(self, thing: object, node: str, *names: str) -> object:
        """A property by the first of its `names` that is there; one in another case is taken and told of."""
        if not isinstance(thing, dict):
            return None
        if names[0] in thing:
            return thing[names[0]]
        for name in names[1:]:
            if name in thing:
                return thing[name]
        lower = _lower(tuple(thing))
        for name in names:
            if (key := lower.get(name.lower())) is not None:
                self._note(node, f"spells {name} as {clean(key, 60)}")
                return thing[key]
        return None

    def rows(self, thing: object, node: str, *names: str) -> list[dict[str, object]]:
        """The objects of a list; none where the service has something else in its place."""
        found = self.get(thing, node, *names)
        if found is not None and not isinstance(found, list):
            self._note(node, f"has no list as its {names[0]}")
        return [row for row in found if isinstance(row, dict)] if isinstance(found, list) else []

    def words(self, thing: object, node: str, *names: str) -> list[str]:
        """The texts of a list."""
        found = self.get(thing, node, *names)
        return [word for word in found if isinstance(word, str)] if isinstance(found, list) else []

    def _note(self, node: str, oddity: str) -> None:
        noted = self._odd.setdefault(node, [])
        if oddity not in noted:
            noted.append(oddity)

    async def _root(self, node: str) -> dict[str, object]:
        """The service root, which needs no login (DSP0266, 6.3); fetched once, however many ask."""
        if node not in self._roots:
            self._roots[node] = asyncio.ensure_future(self._fetch_root(node))
        root = self._roots[node]
        try:
            return root.result() if root.done() else await asyncio.shield(root)
        except GallantError:
            self._roots.pop(node, None)
            raise

    async def _fetch_root(self, node: str) -> dict[str, object]:
        async with await self._request(node, Asked(Get(get=ROOT)), {"OData-Version": "4.0"}) as response:
            if response.status >= 300:
                raise await self._judged(node, response)
            return self._json(node, await self._bounded(node, response))

    def _json(self, node: str, raw: bytes) -> dict[str, object]:
        try:
            found = parsed_json(raw)
        except (ValueError, RecursionError) as error:
            raise DeviceRefused(
                f"{self.name_of(node)} answers with something that is not JSON: {clean(str(error), 80)}.",
                meaning="fatal",
            ) from None
        if not isinstance(found, dict):
            raise DeviceRefused(f"{self.name_of(node)} answers with JSON that is not an object.", meaning="fatal")
        return found

    async def _fetch(self, node: str, path: str, lasting: bool = False) -> dict[str, object]:
        """A resource, fetched once a reading, however many ask for it; a `lasting` one only where it has changed."""
        if self.tools.one_by_one:
            done = self._done.setdefault(node, {})
            if path not in done:
                done[path] = await self._fetched(node, path, lasting)
            return done[path]
        got = self._got.setdefault(node, {})
        if path not in got:
            got[path] = asyncio.ensure_future(self._fetched(node, path, lasting))
        return await got[path]

    async def _fetched(self, node: str, path: str, lasting: bool) -> dict[str, object]:
        for attempt in range(READ_TRIES):
            try:
                return await self._conditional(node, path, lasting)
            except AnswerLost:
                if attempt == READ_TRIES - 1:
                    raise
                await self.clock.pause(RETRY_PAUSE_S * 2**attempt)
        raise AssertionError("unreachable")

    async def _conditional(self, node: str, path: str, lasting: bool) -> dict[str, object]:
        """A resource; as it was before where the service says that it has not changed (RFC 9110, 13.1.2).

        Only the inventory is asked for so: the tag of a system or a manager may leave out its clock and its power.
        """
        memory, name = self.tools.memory if lasting else None, self.name_of(node)
        known = memory.recall(name, path) if memory is not None else None
        call = getting(path)
        tagged = replace(call, headers={"If-None-Match": known[0]}) if known else call
        whole = await self._whole(node, Asked(tagged))
        if whole.status == 304 and known is not None:
            return known[1]
        found = self._json(node, whole.raw)
        if memory is not None and (tag := whole.headers.get("ETag")):
            memory.remember(name, path, tag, _slim(found))
        if self.tools.told is not None:
            self._tell(node, Asked(call), found, {})
        return found

    def link(self, thing: object, node: str, *names: str) -> str | None:
        """Where a property links to, if it stays on this service."""
        found = self.get(self.get(thing, node, *names), node, "@odata.id")
        if not isinstance(found, str):
            return None
        return self._followed(node, found)

    def _followed(self, node: str, link: str) -> str | None:
        """The path of a link that a reading may follow; one that leads elsewhere is left out and told of."""
        path = own_path(link, self.system.nodes[node].address)
        if path is None:
            self._note(node, f"links to another place ({clean(link, 60)}), which is not followed")
        return path

    async def _members(
        self, node: str, path: str | None, most: int = 0, lasting: bool = False
    ) -> list[dict[str, object]]:
        """A collection's members: expanded by the service where it can, else one by one (DSP0266, 7.3)."""
        if path is None:
            return []
        query = await self._expand(node) if not most else ""
        query = query and ("&" if "?" in path else "?") + query
        found: list[dict[str, object]] = []
        following: str | None = path + query
        seen: set[str] = set()
        while following is not None and following not in seen and len(seen) < MOST_PAGES:
            seen.add(following)
            page = await self._optional(node, following, lasting)
            if not page and query and following == path + query:
                following, query = path, ""
                continue
            rows = self.rows(page, node, "Members")
            rows = rows[:most] if most else rows
            if len(found) + len(rows) > MOST_ROWS:
                raise self._too_many(node, "members of one collection")
            found += await self._members_of(node, rows, lasting)
            link = self.get(page, node, "Members@odata.nextLink", "@odata.nextLink")
            following = self._followed(node, link) if isinstance(link, str) and not most else None
        return found

    async def _expand(self, node: str) -> str:
        """The query by which the service expands a collection (DSP0266, 7.3.1); empty where it does not."""
        root = await self._root(node)
        can = self.get(self.get(root, node, "ProtocolFeaturesSupported"), node, "ExpandQuery")
        if not isinstance(can, dict) or not (can.get("NoLinks") or can.get("ExpandAll")):
            return ""
        return f"$expand={'.' if can.get('NoLinks') else '*'}" + ("($levels=1)" if can.get("Levels") else "")

    async def _optional(self, node: str, path: str, lasting: bool = False) -> dict[str, object]:
        """A resource that a service may link to and not have; nothing then, and a note."""
        try:
            found = await self._fetch(node, path, lasting)
        except DeviceRefused as error:
            if error.meaning in ("auth", "fatal"):
                raise
            resource, _, query = path.partition("?")
            shown = clean(resource, 80)
            self._note(node, f"refuses $expand at {shown}" if query else f"links to {shown} and does not give it")
            return {}
        return found if isinstance(found, dict) else {}

    async def _members_of(self, node: str, rows: list[dict[str, object]], lasting: bool) -> list[dict[str, object]]:
        """Members as they are, those that are links alone fetched; one that is not to be had is left out and told
        of."""
        if all(len(row) > 1 for row in rows):
            return rows
        gate = asyncio.Semaphore(MEMBERS_AT_ONCE)

        async def one(row: dict[str, object]) -> dict[str, object] | None:
            link = self.get(row, node, "@odata.id")
            if len(row) > 1 or not isinstance(link, str):
                return row
            if (path := self._followed(node, link)) is None:
                return None
            async with gate:
                try:
                    found: dict[str, object] = await self._fetch(node, path, lasting)
                    return found
                except DeviceRefused:
                    self._note(node, f"lists {clean(path, 80)} and does not give it")
                    return None

        return [row for row in await self.side_by_side([one(row) for row in rows]) if row is not None]

    async def _first(self, node: str, name: str) -> dict[str, object]:
        """The first member of one of the root's collections; empty where the service has none."""
        found = await self._members(node, self.link(await self._root(node), node, name), most=1)
        return found[0] if found else {}

    async def _own_system(self, node: str) -> dict[str, object]:
        """The system that the node is: of several behind one service, the one with the serial that the estate names."""
        path = self.link(await self._root(node), node, "Systems")
        page = await self._optional(node, path) if path is not None else {}
        rows = self.rows(page, node, "Members")
        if len(rows) < 2:
            found = await self._members_of(node, rows, False)
            return found[0] if found else {}
        wanted = self.system.nodes[node].serial
        every = await self._members_of(node, rows[:MOST_SYSTEMS], False)
        mine = next(
            (s for s in every if wanted in (self.get(s, node, "SerialNumber"), self.get(s, node, "UUID"))), None
        )
        if mine is None:
            which = f"none of them with the serial {clean(wanted, 60)}" if wanted else "and the estate names no serial"
            self._note(node, f"has {len(rows)} systems, {which}; the first is taken")
            mine = every[0] if every else {}
        if isinstance(link := self.get(mine, node, "@odata.id"), str):
            self._systems[node] = link
        return mine

    async def _update_service(self, node: str) -> dict[str, object]:
        path = self.link(await self._root(node), node, "UpdateService")
        return {} if path is None else await self._optional(node, path)

    @property
    def _renew_on(self) -> tuple[int, ...]:
        return (401,)

    async def _log_in(self, node: str, purpose: str) -> dict[str, str]:
        """A session (DSP0266, 13.2.4); where the service has none, the account with every request, and a note."""
        if self.profile.login is not None:
            return await super()._log_in(node, purpose)
        user, secret, _ = self.credential(purpose)
        root = await self._root(node)
        path = self.link(self.get(root, node, "Links"), node, "Sessions")
        if path is None:
            return await self._basic(node, purpose, user, secret)
        call = Post(post=path.replace("{", "%7B"), send={"UserName": "{user}", "Password": "{secret}"})
        whole = await self._said_hello(node, Asked(call, {"user": user, "secret": secret}))
        if whole.status in (404, 405, 501):
            return await self._basic(node, purpose, user, secret)
        self._let_in(node, purpose, user, whole)
        token = whole.headers.get(TOKEN)
        if not token:
            raise self._no_session(node)
        self._secrets.add(token)
        session = own_path(whole.headers.get("Location", ""), self.system.nodes[node].address)
        if session is not None and session != ROOT:
            self._logouts[node, purpose] = session
        return {TOKEN: token}

    async def _basic(self, node: str, purpose: str, user: str, secret: str) -> dict[str, str]:
        """The account with every request (RFC 7617)."""
        self._note(node, "has no sessions: the account goes with every request")
        root = await self._root(node)
        path = next((p for name in GUARDED if (p := self.link(root, node, name)) is not None), None)
        return await self._tried(node, purpose, user, basic(user, secret), path)

    async def _log_out(self, node: str, purpose: str, carried: dict[str, str]) -> None:
        if self.profile.login is not None:
            await super()._log_out(node, purpose, carried)
        elif (path := self._logouts.pop((node, purpose), None)) is not None:
            with contextlib.suppress(GallantError, TimeoutError):
                await self._hang_up(node, Asked(Delete(delete=path.replace("{", "%7B"))), carried)
