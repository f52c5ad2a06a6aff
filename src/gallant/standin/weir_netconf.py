"""The NETCONF server of a switch (RFC 6241, RFC 6242): ietf-system, ietf-hardware, ietf-interfaces, and RPCs of its own
for what those models do not have. A member of the cluster kind."""

from __future__ import annotations

import asyncio
import hashlib
import re
import tempfile
from collections.abc import Callable, Mapping
from datetime import timedelta
from pathlib import Path
from xml.sax.saxutils import escape

import aiohttp
from asyncssh import SSHServerProcess
from lxml import etree

from gallant.core.records import rfc3339
from gallant.standin.cluster import Cluster
from gallant.standin.command_line import CommandLineServer
from gallant.standin.listening import ShellHost
from gallant.standin.shoal import Denied, PairTask

BASE = "urn:ietf:params:xml:ns:netconf:base:1.0"
SYSTEM = "urn:ietf:params:xml:ns:yang:ietf-system"
HARDWARE = "urn:ietf:params:xml:ns:yang:ietf-hardware"
INTERFACES = "urn:ietf:params:xml:ns:yang:ietf-interfaces"
ROUTING = "urn:ietf:params:xml:ns:yang:ietf-routing"
UNICAST = "urn:ietf:params:xml:ns:yang:ietf-ipv4-unicast-routing"
LLDP = "urn:ieee:std:802.1AB:yang:ieee802-dot1ab-lldp"
WEIR = "urn:tarnholt:weir:1"
END = "]]>]]>"
CAPABILITIES = (
    "urn:ietf:params:netconf:base:1.0",
    "urn:ietf:params:netconf:base:1.1",
    "urn:ietf:params:netconf:capability:startup:1.0",
    "urn:ietf:params:netconf:capability:validate:1.1",
    f"{INTERFACES}?module=ietf-interfaces&revision=2018-02-20",
    f"{SYSTEM}?module=ietf-system&revision=2014-08-06",
    f"{HARDWARE}?module=ietf-hardware&revision=2018-03-13",
    f"{ROUTING}?module=ietf-routing&revision=2018-03-13",
    f"{LLDP}?module=ieee802-dot1ab-lldp&revision=2022-03-15",
)


PORTS = ("uplink-1", "uplink-2", "port-1")
ORDERS = {"system-restart": "restart", "install-image": "install", "yield-lead": "hand-over", "take-lead": "lead"}


class WeirServer(ShellHost):
    """One switch of a fabric."""

    def __init__(
        self,
        cluster: Cluster,
        name: str,
        address: str,
        port: int,
        accounts: Mapping[str, str],
        refresh: Callable[[], None],
        saved: bool = True,
    ) -> None:
        self.cluster, self.name, self.member, self.world = cluster, name, cluster.members[name], cluster.world
        self.full, self.refresh = cluster.full(name), refresh
        self.startup = self._as_built(PORTS)
        self.running = self.startup if saved else self._as_built((*PORTS, "port-9"))
        self.boots = self.member.boots
        self.root = Path(tempfile.mkdtemp(prefix="gallant-standin-"))
        self.accounts = accounts
        self.line = CommandLineServer(
            address,
            port,
            accounts,
            lambda elevated: "weir> ",
            lambda user, line, elevated: "not done: speak NETCONF\n",
            self.root,
            up=lambda: self.member.up,
            lets_in=lambda: self.world.fault("refuse_login", self.full, "login") is None,
            refused=lambda: self.world.count(self.full, "refused"),
            subsystem=self._serve,
        )

    # --- the session

    async def _serve(self, process: SSHServerProcess[str]) -> None:
        user = process.get_extra_info("username")
        said = "".join(f"<capability>{escape(c)}</capability>" for c in CAPABILITIES)
        process.stdout.write(
            f'<hello xmlns="{BASE}"><capabilities>{said}</capabilities><session-id>7</session-id></hello>{END}'
        )
        heard = ""
        while END not in heard:
            heard += await self._more(process)
        chunked = ":base:1.1" in heard
        heard = heard.partition(END)[2]
        while True:
            message, heard = await self._message(process, heard, chunked)
            reply = self._answer(user, message)
            process.stdout.write(f"\n#{len(reply.encode())}\n{reply}\n##\n" if chunked else reply + END)
            if "close-session" in message:
                return

    async def _more(self, process: SSHServerProcess[str]) -> str:
        chunk = await process.stdin.read(65536)
        if not chunk:
            raise OSError("gone")
        return str(chunk)

    async def _message(self, process: SSHServerProcess[str], heard: str, chunked: bool) -> tuple[str, str]:
        end = "\n##\n" if chunked else END
        while end not in heard:
            heard += await self._more(process)
        message, _, rest = heard.partition(end)
        return (re.sub(r"(?:^|(?<=\n)|\n)\n?#\d+\n", "", message, count=1) if chunked else message), rest

    def _answer(self, user: str, message: str) -> str:
        self.refresh()
        if self.boots != self.member.boots:  # it starts with what was saved
            self.boots, self.running = self.member.boots, self.startup
        number = ""
        try:
            rpc = etree.fromstring(message.strip().encode())
            number = rpc.get("message-id", "")
            body = self._obey(user, rpc[0])
        except Denied as denied:
            body = _error(denied.message, {403: "access-denied", 409: "in-use"}.get(denied.status, "operation-failed"))
        except (etree.XMLSyntaxError, IndexError):
            body = _error("the message is malformed", "malformed-message")
        return f'<rpc-reply xmlns="{BASE}" message-id="{number}">{body}</rpc-reply>'

    def _obey(self, user: str, rpc: etree._Element) -> str:
        verb = etree.QName(rpc).localname
        if (read := self._reads.get(verb)) is not None:
            return read(rpc)
        if not user.endswith("act"):
            raise Denied(403, "this account only reads")
        if (own := self._own_acts.get(verb)) is not None:
            return own(rpc)
        if verb not in ORDERS:
            raise Denied(404, f"there is no {verb}")
        task = self.cluster.order(self.name, ORDERS[verb], rpc.findtext(f"{{{WEIR}}}name") or "")
        return "<ok/>" if verb == "system-restart" else f'<job xmlns="{WEIR}">{task.number}</job>'

    @property
    def _reads(self) -> dict[str, Callable[[etree._Element], str]]:
        """What any account may ask for."""
        return {"get": self._get, "get-config": self._get_config, "close-session": lambda rpc: "<ok/>"}

    @property
    def _own_acts(self) -> dict[str, Callable[[etree._Element], str]]:
        """What a switch does besides the orders that every kind of device here knows."""
        return {
            "lock": lambda rpc: "<ok/>",
            "unlock": lambda rpc: "<ok/>",
            "edit-config": self._edit_config,
            "copy-config": self._copy_config,
            "keep-image": self._keep_image,
            "fetch-image": self._fetch_image,
            "install-module": self._install_module,
        }

    def _get(self, rpc: etree._Element) -> str:
        wanted = [etree.QName(e).localname for e in rpc.iterfind(f"{{{BASE}}}filter/*")]
        parts = {
            "system-state": self._system,
            "hardware": self._hardware,
            "interfaces": self._interfaces,
            "fabric": self._fabric,
            "routing": self._routing,
            "lldp": self._neighbours,
        }
        return f"<data>{''.join(make() for key, make in parts.items() if not wanted or key in wanted)}</data>"

    def _get_config(self, rpc: etree._Element) -> str:
        store = etree.QName(rpc.find(f"{{{BASE}}}source")[0]).localname
        return f"<data>{self.startup if store == 'startup' else self.running}</data>"

    def _edit_config(self, rpc: etree._Element) -> str:
        if not self.world.fault("empty_word", self.full, "restore"):
            self.running = self._written(rpc.find(f"{{{BASE}}}config"))
        return "<ok/>"

    def _copy_config(self, rpc: etree._Element) -> str:
        if not self.world.fault("empty_word", self.full, "save"):
            inline = rpc.find(f"{{{BASE}}}source/{{{BASE}}}config")
            self.startup = self.running if inline is None else self._written(inline)
        return "<ok/>"

    def _keep_image(self, rpc: etree._Element) -> str:
        name = rpc.findtext(f"{{{WEIR}}}name") or ""
        digest = self.cluster.keep(self.name, name, bytes.fromhex(rpc.findtext(f"{{{WEIR}}}content") or ""))
        return f'<digest xmlns="{WEIR}">{digest}</digest>'

    def _fetch_image(self, rpc: etree._Element) -> str:
        task = self.cluster.fetch(self.name)
        name, url = (rpc.findtext(f"{{{WEIR}}}{part}") or "" for part in ("name", "url"))
        self.fetching = asyncio.create_task(self._fetch(task, name, url))
        return f'<job xmlns="{WEIR}">{task.number}</job>'

    def _install_module(self, rpc: etree._Element) -> str:
        task = self.cluster.fetch_part(self.name)
        self.fetching = asyncio.create_task(self._fetch_part(task, rpc.findtext(f"{{{WEIR}}}url") or ""))
        return f'<job xmlns="{WEIR}">{task.number}</job>'

    async def _got(self, url: str) -> bytes:
        own = aiohttp.TCPConnector(local_addr=(self.line.address, 0))
        async with aiohttp.ClientSession(connector=own) as session, session.get(url) as answer:
            answer.raise_for_status()
            return await answer.read()

    async def _fetch_part(self, task: PairTask, url: str) -> None:
        try:
            body = await self._got(url)
        except aiohttp.ClientError as error:
            self.cluster.fetched_part(self.name, task, None, f"it could not be fetched: {error}")
        else:
            self.cluster.fetched_part(self.name, task, hashlib.sha256(body).hexdigest(), "")

    async def _fetch(self, task: PairTask, name: str, url: str) -> None:
        try:
            body = await self._got(url)
        except aiohttp.ClientError as error:
            self.cluster.fetched(self.name, task, name, None, f"{name} could not be fetched: {error}")
        else:
            self.cluster.fetched(self.name, task, name, body, f"{name} is here")

    # --- what there is

    def _system(self) -> str:
        m = self.member
        off = self.world.fault("clock_off", self.full)
        moment = self.world.moment + timedelta(seconds=off.value if off else 0)
        return (
            f'<system-state xmlns="{SYSTEM}"><platform><os-name>weir</os-name><os-release>{m.version}</os-release>'
            f"<machine>Weir 48</machine></platform><clock><current-datetime>{rfc3339(moment)}</current-datetime>"
            f"<boot-datetime>{m.boot}</boot-datetime></clock></system-state>"
        )

    def _hardware(self) -> str:
        swapped = self.world.fault("swapped_machine", self.full)
        serial = "WR-0000-XX" if swapped else self.member.serial
        psu = "disabled" if self.world.fault("alarm", self.full) else "enabled"
        rows = (
            ("chassis", "chassis", serial, "", "enabled"),
            *((name, "port", "", version, "enabled") for name, version in self.member.parts.items()),
            ("power-1", "power-supply", "", "1.1", "enabled"),
            ("power-2", "power-supply", "", "1.1", psu),
        )
        said = "".join(
            f"<component><name>{n}</name><class"
            f' xmlns:ianahw="urn:ietf:params:xml:ns:yang:iana-hardware">ianahw:{c}</class>'
            + (f"<serial-num>{s}</serial-num><model-name>Weir 48</model-name>" if s else "")
            + (f"<firmware-rev>{f}</firmware-rev>" if f else "")
            + f"<state><oper-state>{o}</oper-state></state></component>"
            for n, c, s, f, o in rows
        )
        return f'<hardware xmlns="{HARDWARE}">{said}</hardware>'

    def _interfaces(self) -> str:
        up = "up" if self.cluster.links_up(self.name) else "down"
        said = "".join(
            f"<interface><name>{name}</name><oper-status>{state}</oper-status></interface>"
            for name, state in (("uplink-1", up), ("uplink-2", up), ("port-1", "up"), ("port-2", "up"))
        )
        return f'<interfaces xmlns="{INTERFACES}">{said}</interfaces>'

    def _unwell(self, what: str) -> bool:
        return self.world.fault("unwell", self.full, what) is not None

    def _routing(self) -> str:
        """Two routes; one of them is gone where a fault says so."""
        routes = [("0.0.0.0/0", "10.1.0.1"), *([] if self._unwell("route") else [("10.9.0.0/16", "10.1.0.2")])]
        said = "".join(
            f'<route><destination-prefix xmlns="{UNICAST}">{to}</destination-prefix><next-hop>'
            f'<next-hop-address xmlns="{UNICAST}">{by}</next-hop-address></next-hop><active/></route>'
            for to, by in routes
        )
        return f'<routing xmlns="{ROUTING}"><ribs><rib><name>main</name><routes>{said}</routes></rib></ribs></routing>'

    def _neighbours(self) -> str:
        """Who is heard at the uplinks that are up."""
        heard = [] if not self.cluster.links_up(self.name) else ["uplink-1", "uplink-2"]
        heard = [port for port in heard if not self._unwell(f"neighbour {port}")]
        said = "".join(
            f"<port><name>{port}</name><remote-systems-data><chassis-id>02-00-00-00-00-0{n}</chassis-id>"
            f"<system-name>core-{n}</system-name></remote-systems-data></port>"
            for n, port in enumerate(heard, 1)
        )
        return f'<lldp xmlns="{LLDP}">{said}</lldp>'

    def _fabric(self) -> str:
        m = self.member
        jobs = "".join(self._job(task) for task in m.tasks[-20:])
        kept = "".join(
            f"<image><name>{n}</name><digest>{d}</digest><size>{s}</size></image>" for n, (d, s) in m.packages.items()
        )
        return (
            "<fabric"
            f' xmlns="{WEIR}"><part>{self.cluster.role(self.name)}</part><next-image>{m.next_version}</next-image>'
            f"<build>{self.cluster.images[m.version].build}</build>"
            f"<jobs>{jobs}</jobs><images>{kept}</images></fabric>"
        )

    def _job(self, task: PairTask) -> str:
        now = self.world.now
        return (
            f"<job><id>{task.number}</id><what>{task.what}</what><state>{task.state}</state>"
            f"<share>{task.percent(now):.1f}</share><text>{escape(task.words(now))}</text></job>"
        )

    def _as_built(self, ports: tuple[str, ...]) -> str:
        said = "".join(f"<interface><name>{port}</name></interface>" for port in ports)
        return (
            f'<system xmlns="{SYSTEM}"><hostname>{self.full}</hostname></system>'
            f'<interfaces xmlns="{INTERFACES}">{said}</interfaces>'
        )

    def _written(self, config: etree._Element | None) -> str:
        """A whole configuration, as it was sent. Raises `Denied` for another unit's."""
        if config is None or config.findtext(f".//{{{SYSTEM}}}hostname") != self.full:
            raise Denied(422, "it is not the configuration of this unit, or not whole")
        plain = etree.fromstring(etree.tostring(config), etree.XMLParser(remove_blank_text=True))
        etree.cleanup_namespaces(plain)
        return "".join(etree.tostring(child, with_tail=False).decode() for child in plain)


def _error(message: str, tag: str) -> str:
    return (
        f"<rpc-error><error-type>application</error-type><error-tag>{tag}</error-tag>"
        f"<error-severity>error</error-severity><error-message>{escape(message)}</error-message></rpc-error>"
    )
