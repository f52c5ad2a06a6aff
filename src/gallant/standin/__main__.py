"""Run the stand-ins as a process of their own: one line of JSON on stdout when they are ready, then until stdin ends.

The parent holds the other end of stdin; when it goes, in whatever way, so do the stand-ins.
"""

from __future__ import annotations

import asyncio
import contextlib
import json
import secrets
import signal
import socket
import sys
import time
from datetime import UTC, datetime

import msgspec
from aiohttp import web

from gallant.core.records import Record, replace
from gallant.standin.certificates import self_signed
from gallant.standin.listening import Following
from gallant.standin.ports import bound, reserve
from gallant.standin.publisher import Publisher
from gallant.standin.publishers import Others
from gallant.standin.scenario import faults_from
from gallant.standin.shoal import ShoalNode, ShoalPair
from gallant.standin.shoal_http import ControlServer, NodeServer, ServiceServer
from gallant.standin.world import World

# Each node on an address of its own in one of the loopback networks, the service address in another.
NODES = {"a": ("127.0.20.11", "SH-2291-AK"), "b": ("127.0.20.12", "SH-2291-BM")}
NETWORK = "127.0.20.0/24"
# A box that stands alone, on the ship.
MINI = ("127.0.50.11", "SM-0417-FB", "127.0.50.0/24", "1.4.2")
SERVICE_ADDRESS = "127.0.30.10"
PUBLISHER_ADDRESS = "127.0.40.10"
CONTROL_ADDRESS = "127.0.0.1"


class Setup(Record):
    """What a run of stand-ins begins with: its clock (`since`, in seconds since 1970, times `speed`), user to secret, a
    scenario's text, the pair's versions, and whether every other system of the line is up too (`whole`). `pace` is how
    long the pair's installs and restarts take, of what they usually take."""

    speed: float
    since: float
    accounts: dict[str, str]
    faults: str | None = None
    whole: bool = False
    version: str = "2.8.5"
    versions: dict[str, str] = {}
    move_gap_s: float | None = None
    pace: float = 1.0


class Stage:
    """Every server of one run, and what an estate file has to say of each (`said`)."""

    def __init__(self, setup: Setup) -> None:
        self.setup, self.world = setup, World(datetime.fromtimestamp(setup.since, UTC), setup.speed)
        self.world.faults = faults_from(setup.faults or "faults: []")
        self._ahead_s = 0.0  # what passed at once
        self.refresh()
        self.publisher = Publisher(self.world.began, setup.whole)
        self.others = Others(self.world.began) if setup.whole else None
        self.nodes: dict[str, dict[str, str]] = {}
        self.said: dict[str, object] = {"nodes": self.nodes}
        self.servers: list[Following] = []
        self._kept: list[socket.socket] = []  # of the ports that are reserved
        self.pairs = [self._pair()]
        if setup.whole:
            self.pairs.append(self._mini())
        self.service = ServiceServer(self.pairs[0], SERVICE_ADDRESS, port := self._reserve(SERVICE_ADDRESS))
        self.said["services"] = {"blocks": f"{SERVICE_ADDRESS}:{port}"}
        self.publisher_port = self._reserve(PUBLISHER_ADDRESS)
        if self.others is not None:
            self._whole_line(self.others, f"http://{PUBLISHER_ADDRESS}:{self.publisher_port}")

    def refresh(self) -> None:
        self.world.advance((time.time() - self.setup.since) * self.setup.speed + self._ahead_s)

    def let_pass(self, seconds: float) -> None:
        """Let so many seconds of the world's time pass at once."""
        self._ahead_s += max(0.0, seconds)
        self.refresh()
        self.world.changed()

    def _reserve(self, address: str) -> int:
        keeper, port = reserve(address)
        self._kept.append(keeper)
        return port

    def _pair(self) -> ShoalPair:
        setup = self.setup
        versions = dict.fromkeys(NODES, setup.version) | setup.versions
        nodes = {name: ShoalNode(name, serial, NETWORK, versions[name]) for name, (_, serial) in NODES.items()}
        pair = ShoalPair(self.world, "tickets", nodes, self.publisher.images(), active="a")
        pair.service_addresses = (SERVICE_ADDRESS,)
        if setup.move_gap_s is not None:
            pair.move_gap_s = setup.move_gap_s
        pair.images = {
            version: replace(
                image,
                install_s=image.install_s * setup.pace,
                restart_s=image.restart_s * setup.pace,
                sync_s=image.sync_s * setup.pace,
            )
            for version, image in pair.images.items()
        }
        for name, (address, _) in NODES.items():
            self._storage(pair, name, address)
        return pair

    def _mini(self) -> ShoalPair:
        address, *node = MINI
        mini = ShoalPair(
            self.world, "fulmar-box", {"a": ShoalNode("a", *node)}, self.publisher.mini_images(), active="a"
        )
        self._storage(mini, "a", address)
        return mini

    def _storage(self, box: ShoalPair, name: str, address: str) -> None:
        box.root_lists = self.publisher.root_lists()
        context, fingerprint, pem = self_signed(f"{box.name}-{name}", address)
        port = self._reserve(address)
        server = NodeServer(self.world, box, name, address, port, context, self.setup.accounts, self.refresh)
        self.servers.append(server)
        self.nodes[f"{box.name}/{name}"] = {
            "address": f"https://{address}:{port}",
            "serial": box.nodes[name].serial,
            "fingerprint": fingerprint,
            "certificate": pem.decode(),
        }

    def _whole_line(self, others: Others, base: str) -> None:
        from gallant.standin.line import Line  # SSH and much else, for the whole line alone

        line = Line(self.world, self.setup.accounts, self.refresh, f"{base}/debian")
        self.servers += line.servers
        self._kept += line.kept
        self.nodes |= line.said
        self.said["publishers"] = {
            name: {"url": f"{base}/{name}/catalog.json", "key": others.keys[name]} for name in others.names
        }
        self.said["channel"] = {"source": f"deb [arch=amd64] {base}/debian neaptide main", "key": others.keys["debian"]}

    async def open(self) -> None:
        """Start every server, the publisher, and the door behind the stage."""
        for server in self.servers:
            await server.start()
        await self.service.follow()
        routes = self.others.routes() if self.others is not None else ()
        runner = web.AppRunner(self.publisher.app(self.world, routes), access_log=None, shutdown_timeout=0.2)
        await runner.setup()
        await web.SockSite(runner, bound(PUBLISHER_ADDRESS, self.publisher_port)).start()
        url = f"http://{PUBLISHER_ADDRESS}:{self.publisher_port}/catalog.json"
        self.said["publisher"] = {"url": url, "key": self.publisher.public_text}
        port, key = self._reserve(CONTROL_ADDRESS), secrets.token_hex(16)
        await ControlServer(self.world, self.pairs, self.refresh, self.let_pass, key).start(
            bound(CONTROL_ADDRESS, port)
        )
        self.said["control"] = {"url": f"http://{CONTROL_ADDRESS}:{port}", "key": key}

    async def play(self, ended: asyncio.Event) -> None:
        """Let the world go on, and the sockets with it, until the end."""
        woken = asyncio.Event()
        self.world.on_change.append(woken.set)
        try:
            while not ended.is_set():
                self.refresh()
                await self.service.follow()
                for server in self.servers:
                    await server.follow()
                woken.clear()
                await self._wait(woken, ended)
        finally:
            await self.service.stop()
            for server in self.servers:
                await server.stop()

    async def _wait(self, *events: asyncio.Event) -> None:
        """Until one of the events, or the next thing that happens in the world."""
        due = self.world.next_event
        wait = 0.5 if due is None else min(0.5, max(0.0, (due - self.world.now) / self.world.speed))
        waiting = [asyncio.ensure_future(event.wait()) for event in events]
        await asyncio.wait(waiting, timeout=max(wait, 0.002), return_when=asyncio.FIRST_COMPLETED)
        for future in waiting:
            future.cancel()


async def serve(setup: Setup) -> None:
    """Stand-ins until stdin ends or a signal comes; where they are goes to stdout, as one line of JSON."""
    stage = Stage(setup)
    await stage.open()
    ended = asyncio.Event()
    loop = asyncio.get_running_loop()
    for sign in (signal.SIGTERM, signal.SIGINT):
        loop.add_signal_handler(sign, ended.set)
    reader = asyncio.create_task(_until_stdin_ends(ended))
    print(json.dumps(stage.said), flush=True)
    try:
        await stage.play(ended)
    finally:
        reader.cancel()


async def _until_stdin_ends(ended: asyncio.Event) -> None:
    loop = asyncio.get_running_loop()
    reader = asyncio.StreamReader()
    with contextlib.suppress(OSError, ValueError):
        await loop.connect_read_pipe(lambda: asyncio.StreamReaderProtocol(reader), sys.stdin)
        while await reader.read(4096):
            pass
    ended.set()


def main() -> None:
    """Read the setup, one line of JSON, from stdin; then serve."""
    asyncio.run(serve(msgspec.json.decode(sys.stdin.readline(), type=Setup)))


if __name__ == "__main__":
    main()
