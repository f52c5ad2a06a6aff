"""A package's own short-lived address, for a device that fetches it by
itself: unguessable, for that node only, for as long as its step lasts.

The address is plain HTTP unless a certificate is given: what is served is public, signed by its publisher, and verified
by anyone who installs it. The path is the only key, and it is told to nobody but the node.
"""

from __future__ import annotations

import secrets
import socket
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Protocol

if TYPE_CHECKING:
    from aiohttp.web import Request, StreamResponse

PIECE = 64 * 1024


def address_towards(host: str) -> str:
    """This host's own address on the way to a node; nothing is sent."""
    with socket.socket(socket.AF_INET6 if ":" in host else socket.AF_INET, socket.SOCK_DGRAM) as probe:
        probe.connect((host, 9))
        return str(probe.getsockname()[0])


class SendThrottle(Protocol):
    async def let(self, count: int) -> None: ...


async def _slowly(request: Request, path: Path, throttle: SendThrottle) -> StreamResponse:
    """The file, or the part of it that is asked for (RFC 9110 section 14), a piece at a time."""
    from aiohttp import web

    size = path.stat().st_size
    try:
        asked = request.http_range
    except ValueError:
        raise web.HTTPRequestRangeNotSatisfiable from None
    start, stop, _ = asked.indices(size)
    partial = asked.start is not None or asked.stop is not None
    if partial and start >= stop:
        raise web.HTTPRequestRangeNotSatisfiable(headers={"Content-Range": f"bytes */{size}"})
    response = web.StreamResponse(status=206 if partial else 200, headers={"Accept-Ranges": "bytes"})
    response.content_length = stop - start
    if partial:
        response.headers["Content-Range"] = f"bytes {start}-{stop - 1}/{size}"
    await response.prepare(request)
    with path.open("rb") as file:
        file.seek(start)
        while start < stop and request.method != "HEAD" and (piece := file.read(min(PIECE, stop - start))):
            await throttle.let(len(piece))
            await response.write(piece)
            start += len(piece)
    await response.write_eof()
    return response


@asynccontextmanager
async def serving(host: str, path: Path, throttle: SendThrottle | None = None) -> AsyncIterator[str]:
    """The address of one file for one node, for the block's length. Anybody else, and any other path, finds nothing.

    With a `throttle` it goes out no faster than that lets it.
    """
    from aiohttp import web

    own, key = address_towards(host), secrets.token_urlsafe(24)
    allowed = {info[4][0] for info in socket.getaddrinfo(host, None)}

    async def give(request: web.Request) -> web.StreamResponse:
        if request.remote not in allowed or not secrets.compare_digest(request.match_info["key"], key):
            raise web.HTTPNotFound
        return web.FileResponse(path) if throttle is None else await _slowly(request, path, throttle)

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
