"""What every server of a stand-in does alike: it listens while its node is up, and only then.

A node that is down has no listening socket, and connections that were open are cut; the port stays reserved.
"""

from __future__ import annotations

import asyncio
import shutil
import ssl
from pathlib import Path
from typing import TYPE_CHECKING, Protocol

from aiohttp import web

from gallant.standin.ports import bound

if TYPE_CHECKING:
    from gallant.standin.command_line import CommandLineServer


class Following(Protocol):
    """A server that opens and closes as its node goes up and down."""

    async def start(self) -> None: ...
    async def follow(self) -> None: ...
    async def stop(self) -> None: ...


class WebServer:
    """An HTTPS server at `address:port`; a device says in `app` what it answers, and in `up` whether it can."""

    def __init__(self, address: str, port: int, context: ssl.SSLContext) -> None:
        self.address, self.port, self.context = address, port, context
        self._runner: web.AppRunner | None = None
        self._site: web.SockSite | None = None
        self._switching = asyncio.Lock()

    def app(self) -> web.Application:
        raise NotImplementedError

    @property
    def up(self) -> bool:
        return True

    def went_down(self) -> None:
        """What a node forgets when it goes down."""

    async def start(self) -> None:
        self._runner = web.AppRunner(self.app(), access_log=None, shutdown_timeout=0.2)
        await self._runner.setup()
        await self.follow()

    async def follow(self) -> None:
        async with self._switching:
            if self.up and self._site is None and self._runner is not None:
                place = bound(self.address, self.port)
                self._site = web.SockSite(self._runner, place, ssl_context=self.context, backlog=128)
                await self._site.start()
            elif not self.up and self._site is not None:
                site, self._site = self._site, None
                self.went_down()
                await site.stop()

    async def stop(self) -> None:
        if self._runner is not None:
            await self._runner.cleanup()


class ShellHost:
    """A device behind an SSH server; its files lie in a folder of its own, which goes with it."""

    line: CommandLineServer
    root: Path

    async def start(self) -> None:
        await self.line.start()

    async def follow(self) -> None:
        await self.line.follow()

    async def stop(self) -> None:
        await self.line.stop()
        shutil.rmtree(self.root, ignore_errors=True)
