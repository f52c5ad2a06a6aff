"""A package's own short-lived address, for a device that fetches it by itself: unguessable, for that node only, for as long as
its step lasts.

The address is plain HTTP unless a certificate is given: what is served is public, signed by its publisher, and verified by
whoever installs it. The path is the only key, and it is told to nobody but the node.
"""

from __future__ import annotations

import secrets
import socket
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from pathlib import Path


def address_towards(host: str) -> str:
    """This host's own address on the way to a node; nothing is sent."""
    with socket.socket(socket.AF_INET6 if ":" in host else socket.AF_INET, socket.SOCK_DGRAM) as probe:
        probe.connect((host, 9))
        return str(probe.getsockname()[0])


@asynccontextmanager
async def serving(host: str, path: Path) -> AsyncIterator[str]:
    """The address of one file for one node, for the block's length. Anybody else, and any other path, finds nothing."""
    from aiohttp import web

    own, key = address_towards(host), secrets.token_urlsafe(24)
    allowed = {info[4][0] for info in socket.getaddrinfo(host, None)}

    async def give(request: web.Request) -> web.StreamResponse:
        if request.remote not in allowed or not secrets.compare_digest(request.match_info["key"], key):
            raise web.HTTPNotFound
        return web.FileResponse(path)

    app = web.Application()
    app.router.add_get("/{key}/{name}", give)
    runner = web.AppRunner(app, access_log=None, shutdown_timeout=1.0)
    await runner.setup()
    try:
        sock = socket.socket(socket.AF_INET6 if ":" in own else socket.AF_INET, socket.SOCK_STREAM)
        sock.bind((own, 0))
        await web.SockSite(runner, sock).start()
        shown = f"[{own}]" if ":" in own else own
        yield f"http://{shown}:{sock.getsockname()[1]}/{key}/{path.name}"
    finally:
        await runner.cleanup()
