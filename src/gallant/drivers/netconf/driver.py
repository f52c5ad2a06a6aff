"""The `netconf` driver: NETCONF over SSH (RFC 6241, RFC 6242), framings 1.0 and 1.1.

Versions come from ietf-hardware (RFC 8348) and ietf-system (RFC 7317), where the server has them. Installing, leading
and handing over are not part of those models: a profile's RPCs say how a device does them.
"""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import AsyncIterator, Mapping
from typing import TYPE_CHECKING
from xml.sax.saxutils import escape

from gallant.core.errors import GallantError
from gallant.core.estate.systems import System
from gallant.core.ports import Act, AnswerLost, DeviceRefused, NotReached, Progress
from gallant.core.readings import SPEED
from gallant.core.records import clean
from gallant.core.shapes import SHAPES
from gallant.drivers.answers import Ours
from gallant.drivers.base import ProfiledDriver
from gallant.drivers.calls import Call
from gallant.drivers.netconf.session import BASE, HARDWARE, INTERFACES, NAMES, SYSTEM, RpcError, Session
from gallant.drivers.profile import Profile, fill
from gallant.drivers.ssh import Connections, explained
from gallant.drivers.tools import Acts, Asked, Exporter, Exports, Fields, Reads, Tools
from gallant.drivers.xml import Element, parse_xml, picked, table, text_at

if TYPE_CHECKING:
    from asyncssh import SSHClientConnection

PORT = 830  # RFC 6242, 6
# after which the server takes back a commit that nobody made last;
# RFC 6241's own 600 s leave a lost server lost for long
TRIAL_S = 120
# A question that changes nothing, as the first of a session. There are servers that
# drop what arrives together with the hello, since it is framed in another way, and
# then wait for ever: they get another session, and more time for the hello.
FIRST_WORD = (  # RFC 6241, 6.4.2: of nothing
    '<get-config><source><running/></source><filter type="subtree"/></get-config>'
)
PAUSES_S = ((0.0, 1 / 8), (0.5, 1 / 4), (2.0, 1.0))  # after the hello, and the part of the time limit for the answer
ROUTING, LLDP = (NAMES[prefix] for prefix in ("rt", "lldp"))
# RFC 8349, 7 and 8: active routes of every RIB; their prefix is of the address family's own module.
ROUTES = {
    "at": "//rt:rib/rt:routes/rt:route",
    "to": "*[local-name() = 'destination-prefix']",
    "by": ".//*[local-name() = 'next-hop-address']",
    "out": ".//rt:outgoing-interface",
}
DEFAULT_ROUTES = ("0.0.0.0/0", "::/0")
HEARD = {
    "at": "//lldp:port/lldp:remote-systems-data",
    "port": "../lldp:name",
    "name": "lldp:system-name",
    "chassis": "lldp:chassis-id",
}
SPEEDS = {"at": "//if:interface", "name": "if:name", "state": "if:oper-status", "speed": "if:speed"}
# iana-hardware classes (RFC 8348) whose software is worth a version of its own → our kind.
CLASSES = {
    "chassis": "system image",
    "module": "add-on module",
    "port": "NIC",
    "storage-drive": "disk",
    "cpu": "unknown",
    "power-supply": "enclosure module",
    "fan": "enclosure module",
    "container": "enclosure module",
    "backplane": "enclosure module",
    "stack": "unknown",
}
# RFC 6241, appendix A: the error tags that say more than "no".
TAGS = {
    "access-denied": "auth",
    "lock-denied": "passing",
    "resource-denied": "passing",
    "in-use": "passing",
    "data-exists": "already",
}


class NetconfDriver(ProfiledDriver):
    """One system's nodes, each a NETCONF server."""

    def __init__(self, system: System, profile: Profile, tools: Tools) -> None:
        super().__init__(system, profile, tools)
        self.connections = Connections(self, PORT)
        self._sessions: dict[tuple[str, str], tuple[SSHClientConnection, Session]] = {}
        self._locks: dict[tuple[str, str], asyncio.Lock] = {}
        self._odd: dict[str, list[str]] = {}

    async def _prepare(self, node: str, purpose: str) -> None:
        await self._session(node, purpose)

    async def _session(self, node: str, purpose: str) -> Session:
        key = (node, purpose)
        async with self._locks.setdefault(key, asyncio.Lock()):
            connection = await self.connections.get(node, purpose)
            if key not in self._sessions or self._sessions[key][0] is not connection:
                try:
                    self._sessions[key] = (connection, await self._begun(node, connection))
                except GallantError:
                    raise
                except Exception as error:
                    raise explained(self.name_of(node), self.system.nodes[node], error, False) from None
            return self._sessions[key][1]

    async def _begun(self, node: str, connection: SSHClientConnection) -> Session:
        """A session that has answered its first question. Raises `NotReached`: nothing else was sent."""
        name = self.name_of(node)
        for pause_s, part in PAUSES_S:
            async with asyncio.timeout(self.profile.timeout_s):
                writer, reader, _ = await connection.open_session(subsystem="netconf", encoding=None)
                session = Session(name, writer, reader)
                await session.begin()
            await asyncio.sleep(pause_s)
            try:
                async with asyncio.timeout(self.profile.timeout_s * part):
                    await session.rpc(FIRST_WORD)
            except TimeoutError:
                writer.close()
                continue
            except AnswerLost as error:
                raise NotReached(error.what, next=error.next) from None
            except RpcError:
                pass  # an answer, all the same
            return session
        raise NotReached(
            f"{name} says hello over NETCONF, and answers nothing after it.",
            next=f"Look at its NETCONF server; then: gallant survey {name}",
            late=True,
            cause="no answer after the hello",
        )

    async def rpc(self, node: str, body: str, purpose: str = "read", timeout_s: float | None = None) -> Element:
        """One RPC; its reply's element."""
        session = await self._session(node, purpose)
        try:
            async with asyncio.timeout(timeout_s or self.profile.timeout_s):
                reply, warnings = await session.rpc(body)
        except RpcError as error:
            raise self._rpc_refusal(node, error) from None
        except Exception as error:
            self._sessions.pop((node, purpose), None)  # what comes next could be the answer to this
            self.connections.drop(node)
            raise explained(self.name_of(node), self.system.nodes[node], error, True) from None
        self._odd.setdefault(node, []).extend(f"warns: {clean(w, 150)}" for w in warnings)
        return reply

    def _rpc_refusal(self, node: str, error: RpcError) -> GallantError:
        if any(rule.applies(0, error.said) for rule in self.profile.errors):
            return self._refusal(node, error.said)
        meaning = TAGS.get(error.tag, "refused")
        said = f"{self.name_of(node)} refuses: {self.said(error.said, 300)}."
        if meaning == "passing":
            return NotReached(said, next=f"gallant survey {self.name_of(node)}")
        return DeviceRefused(said, next=f"gallant survey {self.name_of(node)}", meaning=meaning)

    async def done(self, node: str) -> None:
        for key in [key for key in self._sessions if key[0] == node]:
            with contextlib.suppress(OSError, ValueError):
                self._sessions.pop(key)[1].end()
        await self.connections.hang_up(node)

    async def close(self) -> None:
        await super().close()
        for node in {node for node, _ in self._sessions}:
            await self.done(node)
        await self.connections.close()

    # --- a profile's calls

    async def _ask(self, node: str, asked: Asked) -> object:
        call, fields = asked.call, asked.fields
        reply = await self.rpc(node, filled(call.said, fields), asked.purpose, call.timeout_s)
        find = {
            key: path if isinstance(path, str) else {column: located(p, fields) for column, p in path.items()}
            for key, path in call.find.items()
        }
        return picked(reply, find, {**NAMES, **self.profile.namespaces})

    async def _stream(self, node: str, call: Call, fields: Mapping[str, str]) -> AsyncIterator[bytes]:
        reply = await self.rpc(node, filled(call.said, fields), timeout_s=call.timeout_s)
        yield _content(reply)

    # --- what the models say

    async def get(self, node: str, wanted: str, purpose: str = "read") -> Element:
        """State and configuration that a subtree filter (RFC 6241, 6) selects."""
        return await self.rpc(node, f'<get><filter type="subtree">{wanted}</filter></get>', purpose)

    async def get_config(self, node: str, source: str, wanted: str = "", purpose: str = "read") -> Element:
        """A datastore's configuration: running, startup or candidate."""
        chosen = f'<filter type="subtree">{wanted}</filter>' if wanted else ""
        return await self.rpc(node, f"<get-config><source><{source}/></source>{chosen}</get-config>", purpose)

    def _own_reads(self) -> Reads:
        return {"about": self._about, "parts": self._parts, "facets": self._facets}

    async def _about(self, node: str) -> Fields:
        self._odd[node] = []
        found = await self._system(node)
        hardware = await self._hardware(node)
        chassis = next((c for c in hardware if c["class"] == "chassis"), {})
        for key, text in (("serial", chassis.get("serial")), ("model", chassis.get("model"))):
            if text:
                found[key] = text
        found.setdefault("serial", self.connections.host_keys.get(node))
        if "version" not in found and chassis.get("version"):
            found["version"] = chassis["version"]
        for key, what in (("version", "which version it runs"), ("boot", "when it was last started")):
            if key not in found:
                self._odd[node].append(f"does not say {what}")
                found[key] = "not told"
        found["role"] = Ours(SHAPES[self.system.shape].plain_role)
        found["state"] = Ours("in_service")
        found["oddities"] = list(dict.fromkeys(self._odd[node]))
        return found

    async def _system(self, node: str) -> Fields:
        """ietf-system's state (RFC 7317, 3.2): platform and clock."""
        before = self.clock.now()
        reply = await self._got(node, f'<system-state xmlns="{SYSTEM}"/>')
        texts = {
            "version": "//sys:platform/sys:os-version",
            "model": "//sys:platform/sys:machine",
            "boot": "//sys:clock/sys:boot-datetime",
            "clock": "//sys:clock/sys:current-datetime",
        }
        release = text_at(reply, "//sys:platform/sys:os-release", NAMES)
        found: Fields = {key: text for key, path in texts.items() if (text := text_at(reply, path, NAMES))}
        if release:
            found["version"] = release
        return self._heard(found, before)

    async def _got(self, node: str, wanted: str) -> Element:
        """What a filter selects; nothing where the server does not know the model."""
        try:
            return await self.get(node, wanted)
        except DeviceRefused as error:
            if error.meaning in ("auth", "fatal"):
                raise
            from lxml import etree

            self._odd.setdefault(node, []).append(clean(error.what, 150))
            return etree.Element("none")

    async def _hardware(self, node: str) -> list[dict[str, str]]:
        """ietf-hardware's components (RFC 8348, 3)."""
        reply = await self._got(node, f'<hardware xmlns="{HARDWARE}"/>')
        rows = table(
            reply,
            {
                "at": "//hw:component",
                "name": "hw:name",
                "class": "hw:class",
                "serial": "hw:serial-num",
                "model": "hw:model-name",
                "software": "hw:software-rev",
                "firmware": "hw:firmware-rev",
                "state": "hw:state/hw:oper-state",
            },
            NAMES,
        )
        for row in rows:
            row["class"] = row.get("class", "").rpartition(":")[2]
            row["version"] = row.get("software") or row.get("firmware") or ""
        return rows

    async def _parts(self, node: str) -> Fields:
        found = []
        for row in await self._hardware(node):
            if row["class"] == "chassis" or not row["version"]:
                continue
            part, rule = self.named_part(row.get("name") or row["class"], row["version"])
            piece = {field: row[field] for field in ("serial", "model") if row.get(field)}
            found.append(
                {**part, **piece}
                if rule is not None
                else {**part, **piece, "kind": CLASSES.get(row["class"], "unknown")}
            )
        return {"components": found}

    async def _facets(self, node: str) -> Fields:
        """Links (RFC 8343), hardware that is not enabled, and whether what runs is what will start."""
        facets: list[Fields] = []
        links = table(
            (
                await self._got(node, f'<interfaces-state xmlns="{INTERFACES}"/>')
                if not (await self._session(node, "read")).has_module("ietf-interfaces&revision=2018-02-20")
                else await self._got(node, f'<interfaces xmlns="{INTERFACES}"/>')
            ),
            {"at": "//if:interface[if:oper-status]", "name": "if:name", "state": "if:oper-status"},
            NAMES,
        )
        facets += [{"name": f"link {row['name']}", "state": row["state"]} for row in links if "name" in row]
        alarms = [
            {"text": f"{row.get('name', row['class'])} is {row['state']}", "level": "warn"}
            for row in await self._hardware(node)
            if row.get("state") in ("disabled", "unknown-failed")
        ]
        session = await self._session(node, "read")
        if session.knows("startup"):
            running, startup = [_canonical(await self.get_config(node, store)) for store in ("running", "startup")]
            facets.append({"name": "running configuration", "state": "saved" if running == startup else "unsaved"})
        return {"facets": facets, "alarms": alarms}

    async def _own_closely(self, node: str) -> Fields:
        """Routes (ietf-routing, RFC 8349) and neighbours (LLDP, IEEE Std 802.1ABcu),
        each where the server has the model, and the speed of each link (RFC 8343).
        Whose addresses were resolved of late comes and goes, and is not compared."""
        session = await self._session(node, "read")
        facets, gauges = list[Fields](), list[Fields]()
        if session.has_module("ietf-routing"):
            rows = table(await self._got(node, f'<routing xmlns="{ROUTING}"/>'), ROUTES, NAMES)
            gauges.append({"name": "routes", "value": float(len(rows)), "unit": ""})
            facets += [
                {"name": f"default route {row['to']}", "state": f"by {row.get('by') or row.get('out') or 'nobody'}"}
                for row in rows
                if row.get("to") in DEFAULT_ROUTES
            ]
        if session.has_module("ieee802-dot1ab-lldp"):
            rows = table(await self._got(node, f'<lldp xmlns="{LLDP}"/>'), HEARD, NAMES)
            facets += [
                {"name": f"neighbour at {row['port']}", "state": row.get("name") or row.get("chassis") or "unnamed"}
                for row in rows
                if "port" in row
            ]
        links = table(await self._got(node, f'<interfaces xmlns="{INTERFACES}"/>'), SPEEDS, NAMES)
        gauges += [
            {"name": f"{SPEED} link {row['name']}", "value": float(row["speed"]), "unit": "bit/s"}
            for row in links
            if "name" in row and row.get("speed", "").isdecimal() and row.get("state") == "up"
        ]
        return {"facets": facets, "gauges": gauges}

    def _own_exports(self) -> Exports:
        def exporter(store: str) -> Exporter:
            async def export(node: str) -> AsyncIterator[bytes]:
                yield _content(await self.get_config(node, store))

            return export

        return {"running.xml": exporter("running")}

    # --- acts

    own_orders = {
        "restart": "<system-restart/>",
        "save_config": "<copy-config> running to startup, where it has one",
        "restore": "<lock>, <edit-config> with {package}, <commit>, <unlock>; <copy-config> to startup for startup.xml",
    }

    def _own_acts(self) -> Acts:
        return {
            "restart": self._restart,
            "save_config": self._save_config,
            "restore": self._restore,
        }

    async def _restart(self, node: str, act: Act, progress: Progress | None) -> Fields:
        """ietf-system's RPC (RFC 7317, 3.5.2)."""
        await self.rpc(node, f'<system-restart xmlns="{SYSTEM}"/>', "act")
        return {}

    async def _save_config(self, node: str, act: Act, progress: Progress | None) -> Fields:
        """Running to startup (RFC 6241, 8.7); a server without a startup of its own saves by itself."""
        if not (await self._session(node, "act")).knows("startup"):
            return {"message": "it has no startup configuration of its own"}
        body = "<copy-config><target><startup/></target><source><running/></source></copy-config>"
        await self.rpc(node, body, "act")
        return {}

    async def _restore(self, node: str, act: Act, progress: Progress | None) -> Fields:
        """Put a saved configuration in place, in the datastore that its name says. An edit of running is tested before
        it is set, and a candidate when it is committed (RFC 6241, 8.6.4.1 and 8.3.4.1); one that is validated between
        is taken for unchanged by some servers, and never committed."""
        assert self.tools.package_file is not None
        saved = parse_xml(self.tools.package_file(act.package, act.sha256).read_bytes())
        from lxml import etree

        config = "".join(etree.tostring(child).decode() for child in saved)
        if act.package.partition(".")[0] == "startup":
            return await self._restore_startup(node, config)
        session = await self._session(node, "act")
        store = "candidate" if session.knows("candidate") else "running"
        async with self._locked(node, store):
            try:
                body = (
                    f"<target><{store}/></target><default-operation>replace</default-operation>"
                    f"<config>{config}</config>"
                )
                await self.rpc(node, f"<edit-config>{body}</edit-config>", "act")
                if store == "candidate":
                    await self._commit(node, session)
                    return {"message": "committed"}
            except GallantError:
                if store == "candidate":
                    await self.rpc(node, "<discard-changes/>", "act")
                raise
        return {"message": "in place"}

    async def _commit(self, node: str, session: Session) -> None:
        """Candidate to running: on trial where the server can take it back, and for good once
        it still answers under the new configuration (RFC 6241, 8.4.1). Without the second
        commit the server goes back to the former one, at the latest when the session ends."""
        if not session.knows("confirmed-commit"):
            await self.rpc(node, "<commit/>", "act")
            return
        await self.rpc(node, f"<commit><confirmed/><confirm-timeout>{TRIAL_S}</confirm-timeout></commit>", "act")
        self._sessions.pop((node, "read"), None)
        await self.get_config(node, "running")  # in a session that is begun under the new configuration
        await self.rpc(node, "<commit/>", "act")

    async def _restore_startup(self, node: str, config: str) -> Fields:
        """RFC 6241, 7.3 and 8.7."""
        body = f"<copy-config><target><startup/></target><source><config>{config}</config></source></copy-config>"
        await self.rpc(node, body, "act")
        return {"message": "startup is written"}

    @contextlib.asynccontextmanager
    async def _locked(self, node: str, store: str) -> AsyncIterator[None]:
        """Nothing else changes the datastore meanwhile (RFC 6241, 7.5)."""
        await self.rpc(node, f"<lock><target><{store}/></target></lock>", "act")
        try:
            yield
        finally:
            await self.rpc(node, f"<unlock><target><{store}/></target></unlock>", "act")


def filled(rpc: str, fields: Mapping[str, str]) -> str:
    """An RPC with its fields as texts: none of them opens or ends an element."""
    return str(fill(rpc, {key: escape(value, {'"': "&quot;", "'": "&apos;"}) for key, value in fields.items()}))


def located(path: str, fields: Mapping[str, str]) -> str:
    """An XPath with its fields; one that holds a quote would end the text that it stands in, and is left out."""
    return str(fill(path, {key: value for key, value in fields.items() if "'" not in value and '"' not in value}))


def _canonical(reply: Element) -> bytes:
    """A configuration as bytes that are equal when it is: no blanks between, attributes left out."""
    data = reply.find(f"{{{BASE}}}data")
    if data is None:
        return b""

    def plain(element: Element) -> tuple[object, ...]:
        return (element.tag, (element.text or "").strip(), tuple(sorted((plain(c) for c in element), key=repr)))

    return repr(tuple(sorted((plain(child) for child in data), key=repr))).encode()


def _content(reply: Element) -> bytes:
    """What an answer holds, without the envelope: its number differs each time, and the configuration does not."""
    from lxml import etree

    data = reply.find(f"{{{BASE}}}data")
    return bytes(etree.tostring(reply if data is None else data, pretty_print=True))
