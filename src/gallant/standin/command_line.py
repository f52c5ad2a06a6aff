"""An SSH server with a device's command line behind it: a prompt, a pager, questions, and a place for files by SFTP.

What the commands do is the device's: `obey(user, line, elevated)` gives an answer's text, a `Question`, or raises
`Denied`; `runs(process, command)` carries out a host's command, `subsystem(process)` speaks NETCONF.
"""

from __future__ import annotations

import asyncio
import contextlib
import logging
from collections.abc import Awaitable, Callable, Mapping
from pathlib import Path
from typing import cast

import asyncssh

from gallant.standin.ports import bound
from gallant.standin.shoal import Denied

PAGE = 20
PAGER = "-- further --"


class Question(Exception):
    """The device wants a word first; `then` is what it does with it."""

    def __init__(self, text: str, then: Callable[[str], str]) -> None:
        super().__init__(text)
        self.text, self.then = text, then


class CommandLineServer:
    """One node's command line. `obey` answers commands; `up` says whether anybody is there at all."""

    def __init__(
        self,
        address: str,
        port: int,
        accounts: Mapping[str, str],
        prompt: Callable[[bool], str],
        obey: Callable[[str, str, bool], str],
        files: Path,
        up: Callable[[], bool] = lambda: True,
        lets_in: Callable[[], bool] = lambda: True,
        refused: Callable[[], object] = lambda: None,
        delay: Callable[[], float] = lambda: 0.0,
        master: str = "",
        received: Callable[[Path], None] = lambda path: None,
        runs: Callable[[asyncssh.SSHServerProcess[str], str], Awaitable[None]] | None = None,
        subsystem: Callable[[asyncssh.SSHServerProcess[str]], Awaitable[None]] | None = None,
    ) -> None:
        self.address, self.port, self.accounts, self.prompt, self.obey = address, port, accounts, prompt, obey
        self.files, self.up, self.lets_in, self.delay, self.master = files, up, lets_in, delay, master
        self.refused = refused
        self.received, self.runs, self.subsystem = received, runs, subsystem
        self.key = asyncssh.generate_private_key("ssh-ed25519")
        self.lines: list[str] = []
        self._server: asyncssh.SSHAcceptor | None = None
        self._open: set[asyncssh.SSHServerConnection] = set()

    @property
    def fingerprint(self) -> str:
        return str(self.key.get_fingerprint("sha256"))

    async def start(self) -> None:
        logging.getLogger("asyncssh").setLevel(logging.CRITICAL)
        await self.follow()

    async def follow(self) -> None:
        """Open or close the door, as the node is up or down."""
        if self.up() and self._server is None:
            self._server = await asyncssh.listen(
                sock=bound(self.address, self.port),
                server_factory=lambda: _Door(self),
                server_host_keys=[self.key],
                process_factory=self._session,
                sftp_factory=lambda channel: _Files(self, channel),
                allow_scp=False,
            )
        elif not self.up() and self._server is not None:
            await self.stop()

    async def stop(self) -> None:
        server, self._server = self._server, None
        if server is not None:
            server.close()
        for connection in list(self._open):
            connection.abort()

    async def _session(self, process: asyncssh.SSHServerProcess[str]) -> None:
        user = process.get_extra_info("username")
        try:
            if process.subsystem == "netconf" and self.subsystem is not None:
                await self.subsystem(process)
                return
            if process.command is not None and self.runs is not None:
                await asyncio.sleep(self.delay())
                await self.runs(process, process.command)
                return
            if process.command is not None:
                process.stdout.write(await self._answer(process, user, process.command, False))
                process.exit(0)
                return
            await self._talk(process, user)
        except (asyncssh.Error, OSError, asyncio.IncompleteReadError):
            pass
        finally:
            with contextlib.suppress(Exception):
                process.exit(0)

    async def _talk(self, process: asyncssh.SSHServerProcess[str], user: str) -> None:
        screen = cast(asyncssh.SSHLineEditorChannel, process.channel)  # as every session of text has one
        elevated = False
        process.stdout.write("\x1b[2K\rwelcome; everything here is logged\r\n")
        while True:
            process.stdout.write(self.prompt(elevated))
            line = (await process.stdin.readline()).strip()
            if line in ("", "exit"):
                if line == "exit":
                    return
                continue
            if line == "master":
                screen.set_echo(False)
                process.stdout.write("master word: ")
                said = (await process.stdin.readline()).rstrip("\r\n")
                screen.set_echo(True)
                elevated = bool(self.master) and said == self.master
                process.stdout.write("\r\n" if elevated else "\r\nnot done: no right, wrong word\r\n")
                continue
            await self._paged(process, await self._answer(process, user, line, elevated))

    async def _answer(self, process: asyncssh.SSHServerProcess[str], user: str, line: str, elevated: bool) -> str:
        self.lines.append(line)
        await asyncio.sleep(self.delay())
        try:
            return self.obey(user, line, elevated)
        except Question as question:
            process.stdout.write(f"{question.text} ")
            return question.then((await process.stdin.readline()).strip())
        except Denied as denied:
            return f"not done: {denied.message}\n"

    async def _paged(self, process: asyncssh.SSHServerProcess[str], text: str) -> None:
        screen = cast(asyncssh.SSHLineEditorChannel, process.channel)
        rows = text.splitlines()
        for at in range(0, len(rows), PAGE):
            if at:
                screen.set_line_mode(False)
                process.stdout.write(PAGER)
                await process.stdin.read(1)
                screen.set_line_mode(True)
                process.stdout.write("\r" + " " * len(PAGER) + "\r")
            process.stdout.write("".join(f"{row}\r\n" for row in rows[at : at + PAGE]))


class _Door(asyncssh.SSHServer):
    def __init__(self, owner: CommandLineServer) -> None:
        self.owner = owner

    def connection_made(self, conn: asyncssh.SSHServerConnection) -> None:
        self.conn = conn
        self.owner._open.add(conn)

    def connection_lost(self, exc: Exception | None) -> None:
        self.owner._open.discard(self.conn)

    def password_auth_supported(self) -> bool:
        return True

    def validate_password(self, username: str, password: str) -> bool:
        let_in = self.owner.accounts.get(username) == password and self.owner.lets_in()
        if not let_in:
            self.owner.refused()
        return let_in


class _Files(asyncssh.SFTPServer):
    def __init__(self, owner: CommandLineServer, channel: asyncssh.SSHServerChannel[bytes]) -> None:
        owner.files.mkdir(parents=True, exist_ok=True)
        super().__init__(channel, chroot=str(owner.files).encode())
        self.owner = owner

    async def posix_rename(self, oldpath: bytes, newpath: bytes) -> None:
        target = Path(self.map_path(newpath).decode())
        Path(self.map_path(oldpath).decode()).replace(target)
        self.owner.received(target)
