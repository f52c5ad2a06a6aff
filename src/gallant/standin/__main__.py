"""Run the stand-ins as a process of their own: one line of JSON on stdout when they are ready, then until stdin ends.

The parent holds the other end of stdin; when it goes, in whatever way, so do the stand-ins.
"""

from __future__ import annotations

import asyncio
import contextlib
import json
import secrets
import signal
import sys
import time
from datetime import UTC, datetime
from typing import Any

from gallant.standin.certificates import self_signed
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


async def serve(setup: dict[str, Any]) -> None:
    """`setup`: `speed`, `since` (seconds since 1970), `accounts` (user to secret), `faults` (a scenario's text), `version`
    of the pair, or `versions` by its nodes, `whole` (whether every other system of the line is up too)."""
    since, speed = float(setup["since"]), float(setup["speed"])
    world = World(datetime.fromtimestamp(since, UTC), speed)
    world.faults = faults_from(setup.get("faults") or "faults: []")
    whole = bool(setup.get("whole"))
    publisher, others = Publisher(world.began, whole), Others(world.began) if whole else None
    versions = dict.fromkeys(NODES, setup.get("version", "2.8.5")) | setup.get("versions", {})
    nodes = {name: ShoalNode(name, serial, NETWORK, versions[name]) for name, (_, serial) in NODES.items()}
    pair = ShoalPair(world, "tickets", nodes, publisher.images(), active="a")
    pair.service_addresses = (SERVICE_ADDRESS,)
    pair.move_gap_s = float(setup.get("move_gap_s", pair.move_gap_s))
    scale = float(setup.get("pace", 1.0))
    pair.images = {
        v: type(i)(
            **{
                **{f: getattr(i, f) for f in i.__struct_fields__},
                "install_s": i.install_s * scale,
                "restart_s": i.restart_s * scale,
                "sync_s": i.sync_s * scale,
            }
        )
        for v, i in pair.images.items()
    }

    def refresh() -> None:
        world.advance((time.time() - since) * speed)

    refresh()
    woken = asyncio.Event()
    world.on_change.append(woken.set)
    servers: list[Any] = []
    said: dict[str, Any] = {"nodes": {}, "services": {}}
    kept = []
    mini = ShoalPair(world, "fulmar-box", {"a": ShoalNode("a", *MINI[1:])}, publisher.mini_images(), active="a")
    boxes = [(pair, name, *NODES[name]) for name in NODES] + ([(mini, "a", *MINI[:2])] if whole else [])
    for box, name, address, serial in boxes:
        context, fingerprint, pem = self_signed(f"{box.name}-{name}", address)
        keeper, port = reserve(address)
        kept.append(keeper)
        servers.append(NodeServer(world, box, name, address, port, context, setup["accounts"], refresh))
        said["nodes"][f"{box.name}/{name}"] = {
            "address": f"https://{address}:{port}",
            "serial": serial,
            "fingerprint": fingerprint,
            "certificate": pem.decode(),
        }
    keeper, port = reserve(SERVICE_ADDRESS)
    kept.append(keeper)
    service = ServiceServer(pair, SERVICE_ADDRESS, port)
    said["services"]["blocks"] = f"{SERVICE_ADDRESS}:{port}"
    from aiohttp import web

    keeper, port = reserve(PUBLISHER_ADDRESS)
    kept.append(keeper)
    base = f"http://{PUBLISHER_ADDRESS}:{port}"
    if others is not None:
        from gallant.standin.line import Line  # SSH and much else, for the whole line alone

        line = Line(world, setup["accounts"], refresh, f"{base}/debian")
        servers += line.servers
        kept += line.kept
        said["nodes"] |= line.said
        said["publishers"] = {
            name: {"url": f"{base}/{name}/catalog.json", "key": others.keys[name]} for name in others.names
        }
        said["channel"] = {"source": f"deb [arch=amd64] {base}/debian tideway main", "key": others.keys["debian"]}
    for server in servers:
        await server.start()
    await service.follow()
    routes = others.routes() if others is not None else ()
    runner = web.AppRunner(publisher.app(world, routes), access_log=None, shutdown_timeout=0.2)
    await runner.setup()
    await web.SockSite(runner, bound(PUBLISHER_ADDRESS, port)).start()
    said["publisher"] = {"url": f"{base}/catalog.json", "key": publisher.public_text}

    keeper, port = reserve(CONTROL_ADDRESS)
    kept.append(keeper)
    key = secrets.token_hex(16)
    await ControlServer(world, [pair, mini] if whole else [pair], refresh, key).start(bound(CONTROL_ADDRESS, port))
    said["control"] = {"url": f"http://{CONTROL_ADDRESS}:{port}", "key": key}

    ended = asyncio.Event()
    loop = asyncio.get_running_loop()
    for sign in (signal.SIGTERM, signal.SIGINT):
        loop.add_signal_handler(sign, ended.set)
    reader = asyncio.create_task(_until_stdin_ends(ended))
    print(json.dumps(said), flush=True)
    try:
        await _drive(world, refresh, woken, servers, service, ended)
    finally:
        reader.cancel()
        await service.stop()
        for server in servers:
            await server.stop()


async def _until_stdin_ends(ended: asyncio.Event) -> None:
    loop = asyncio.get_running_loop()
    reader = asyncio.StreamReader()
    with contextlib.suppress(OSError, ValueError):
        await loop.connect_read_pipe(lambda: asyncio.StreamReaderProtocol(reader), sys.stdin)
        while await reader.read(4096):
            pass
    ended.set()


async def _drive(
    world: World,
    refresh: Any,
    woken: asyncio.Event,
    servers: list[Any],
    service: ServiceServer,
    ended: asyncio.Event,
) -> None:
    """Let the world go on, and the sockets with it, until the end."""
    while not ended.is_set():
        refresh()
        await service.follow()
        for server in servers:
            await server.follow()
        woken.clear()
        due = world.next_event
        wait = 0.5 if due is None else min(0.5, max(0.0, (due - world.now) / world.speed))
        waiting = [asyncio.ensure_future(woken.wait()), asyncio.ensure_future(ended.wait())]
        await asyncio.wait(waiting, timeout=max(wait, 0.002), return_when=asyncio.FIRST_COMPLETED)
        for future in waiting:
            future.cancel()


def main() -> None:
    """Read the setup, one line of JSON, from stdin; then serve."""
    asyncio.run(serve(json.loads(sys.stdin.readline())))


if __name__ == "__main__":
    main()
