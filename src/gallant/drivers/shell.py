"""The `shell` driver: a command line, over SSH or on this very host, taught by a profile.

A host runs each command on its own and says by its exit status whether it was well. An appliance has a prompt: its
commands are typed one after the other, its pager is leafed through, its questions are answered as the profile says.
"""

from __future__ import annotations

import asyncio
import contextlib
import re
import shlex
from collections.abc import AsyncIterator, Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeAlias, cast

from gallant.core.errors import GallantError
from gallant.core.estate.systems import System
from gallant.core.ports import Act, AnswerLost, DeviceRefused, NotReached, Progress
from gallant.core.records import clean
from gallant.disk import replacing
from gallant.drivers.base import ProfiledDriver
from gallant.drivers.calls import Call, Command, Fetch, RunCommand
from gallant.drivers.commands import small_environment
from gallant.drivers.patterns import every_match, searched
from gallant.drivers.profile import Profile, fill
from gallant.drivers.ssh import Connections, explained
from gallant.drivers.tools import Asked, Tools
from gallant.drivers.xml import NotXml, parse_xml, picked

if TYPE_CHECKING:
    from asyncssh import SSHClientConnection

# A command that runs, here or over SSH: two libraries' classes
# with the same three streams, which they share no name for.
Process: TypeAlias = Any
Stream: TypeAlias = Any

LARGEST_TEXT = 64 * 1024 * 1024
CHUNK = 64 * 1024
CHANNELS_AT_ONCE = 4  # an OpenSSH server allows ten sessions a connection
ELEVATE = "sudo -n --"
# What a terminal is steered by: cursor and colour sequences, and a character taken back.
_STEERING = re.compile(
    r"\x1b\[[0-9;?]*[ -/]*[@-~]|\x1b[@-Z\\-_]|\x1b\][^\x07\x1b]*(?:\x07|\x1b\\)|[^\n]\x08|\x08|\x07|\x00"
)
# What may stand in a line that is typed at an appliance's prompt, whose way of quoting nobody knows.
_TYPEABLE = re.compile(r"[\w.,:/@%+=~ -]*", re.ASCII)


class CommandOutput:
    """What a command said."""

    __slots__ = ("errors", "status", "text")

    def __init__(self, text: str, errors: str = "", status: int = 0) -> None:
        self.text, self.errors, self.status = text, errors, status


class ShellDriver(ProfiledDriver):
    """One system's nodes, each with a command line."""

    def __init__(self, system: System, profile: Profile, tools: Tools) -> None:
        super().__init__(system, profile, tools)
        self.connections = Connections(self)
        self._prompts: dict[tuple[str, str], Prompt] = {}
        self._gates: dict[tuple[str, str], asyncio.Semaphore] = {}
        self._typing: dict[tuple[str, str], asyncio.Lock] = {}

    @property
    def local(self) -> bool:
        return self.profile.transport == "local"

    def _is_safe(self, call: Call) -> bool:
        return True  # a read's commands only read

    async def _prepare(self, node: str, purpose: str) -> None:
        if not self.local:
            await self.connections.get(node, purpose)

    async def done(self, node: str) -> None:
        self._prompts = {key: prompt for key, prompt in self._prompts.items() if key[0] != node}
        await self.connections.hang_up(node)

    async def close(self) -> None:
        await super().close()
        self._prompts.clear()
        await self.connections.close()

    # --- calls

    async def _ask(self, node: str, asked: Asked) -> object:
        call, fields, purpose, act, progress = asked
        if isinstance(call, Fetch):
            text = b"".join([c async for c in self._file(node, fill(call.fetch, fields), LARGEST_TEXT)])
            return self._data(node, call, text.decode("utf-8", "replace"), 0)
        assert isinstance(call, RunCommand)  # a profile of this driver knows no other verbs
        if call.upload and act is not None:
            await self._send_file(node, fill(call.upload_to or "{package}", fields), act, progress)
        answers = {pattern: fill(text, self._with_secret(text, fields)) for pattern, text in call.answers.items()}
        said = await self.run(node, self._line(node, call, fields), purpose, call.timeout_s, answers, call.elevated)
        self._judge(node, call, said, act)
        return self._data(node, call, said.text, said.status)

    def _with_secret(self, text: str, fields: Mapping[str, str]) -> dict[str, str]:
        return {**fields, **({"secret": self.credential("elevate").secret} if "{secret}" in text else {})}

    def _line(self, node: str, call: RunCommand, fields: Mapping[str, str]) -> str:
        """The command with its fields, each one word that no shell reads anything into."""
        if self.profile.shell.prompt is None:
            return str(fill(call.said, {key: shlex.quote(value) for key, value in fields.items()}))
        for key, value in fields.items():
            if f"{{{key}}}" in call.said and not _TYPEABLE.fullmatch(value):
                raise DeviceRefused(
                    f"{self.name_of(node)}: {clean(value, 60)!r} cannot stand in a command that is typed.",
                    meaning="fatal",
                )
        return str(fill(call.said, fields))

    def _judge(self, node: str, call: RunCommand, said: CommandOutput, act: Act | None) -> None:
        """Raise what a command's end means, unless it is good. Of an act that is its last word: what it said on its way
        may be of something that it has got over, or has done half."""
        text = said.errors.strip() or said.text.strip()
        if said.status not in call.exits:
            rows = text.splitlines()
            raise self._ended_badly(node, text if act is None else "".join(rows[-1:]), said.status)
        self._complaint(node, "\n".join(text for text in (said.errors.strip(), said.text.strip()) if text))

    def _ended_badly(self, node: str, text: str, status: int) -> GallantError:
        """By all that a command said; told in the row in which a rule of the profile finds why, else in the last."""
        rows = text.splitlines() or [f"exit status {status}"]
        patterns = [rule.pattern for rule in self.profile.errors if rule.pattern is not None]
        telling = next((row for pattern in patterns for row in rows if searched(pattern, row)), rows[-1])
        return self._refusal(node, telling, status, text or None)

    def _complaint(self, node: str, text: str) -> None:
        """Raise what an answer says by a pattern of the profile, however good its exit status is; a prompt has none."""
        for rule in self.profile.errors:
            found = searched(rule.pattern, text) if rule.pattern is not None and not rule.status else None
            if found is not None:
                raise self._refusal(node, next((row for row in text.splitlines() if found[0].strip() in row), text))

    def _data(self, node: str, call: Command, text: str, status: int) -> dict[str, object]:
        """An answer as data: its text, what the patterns find in it, and what it holds where it is JSON or XML."""
        found: dict[str, object] = {"text": text.strip(), "exit": status}
        if call.rows is not None:
            found["rows"] = every_match(call.rows, text)
        if call.match is not None:
            match = searched(call.match, text)
            found |= {k: v for k, v in match.groupdict().items() if v is not None} if match else {}
        try:
            if call.find:
                return found | picked(parse_xml(text.strip().encode()), call.find, self.profile.namespaces)
            if call.match is None and call.rows is None and text.lstrip()[:1] in ("{", "["):
                from gallant.drivers.http.wire import parsed_json

                with contextlib.suppress(ValueError, RecursionError):
                    found["data"] = parsed_json(text.encode())
        except (NotXml, ValueError) as error:
            raise DeviceRefused(
                f"{self.name_of(node)} answers with something that is not XML: {clean(str(error), 80)}.",
                meaning="fatal",
            ) from None
        return found

    # --- running

    async def run(
        self,
        node: str,
        command: str,
        purpose: str,
        timeout_s: float | None = None,
        answers: Mapping[str, str] | None = None,
        elevated: bool = False,
    ) -> CommandOutput:
        """Run one command; what it says, within the time and the size that are allowed."""
        shell, key = self.profile.shell, (node, purpose)
        patience = timeout_s or self.profile.timeout_s
        if shell.prompt is not None and not self.local:
            async with self._typing.setdefault(key, asyncio.Lock()):
                return await self._typed(node, command, purpose, patience, answers or {}, elevated)
        if elevated:
            command = self.elevated(command, purpose)
        async with self._gates.setdefault(key, asyncio.Semaphore(CHANNELS_AT_ONCE)):
            return await self._executed(node, command, purpose, patience, answers or {})

    def elevated(self, command: str, purpose: str) -> str:
        """The command with more rights; who has them all already needs none."""
        if not self.local and self.credential(purpose).user == "root":
            return command
        return f"{self.profile.shell.elevate or ELEVATE} {command}"

    async def _executed(
        self, node: str, command: str, purpose: str, patience: float, answers: Mapping[str, str]
    ) -> CommandOutput:
        sent = False
        try:
            async with asyncio.timeout(patience):
                process = await self._process(node, command, purpose)
                sent = True
                if not answers:  # anyone who waits for a word should know that none comes
                    process.stdin.write_eof()
                try:
                    out, err = await asyncio.gather(
                        self._all_of(node, process.stdout, process.stdin, answers), self._all_of(node, process.stderr)
                    )
                    status = await _exit_of(process)
                finally:
                    await _end(process)
        except Exception as error:
            if self.local and isinstance(error, OSError) and not isinstance(error, TimeoutError):
                raise NotReached(f"{self.name_of(node)}: the command cannot be run here: {error.strerror}.") from None
            raise self._broken(node, error, sent) from None
        return CommandOutput(out, err, status)

    def _broken(self, node: str, error: Exception, sent: bool) -> GallantError:
        found = (
            explained(self.name_of(node), self.system.nodes[node], error, sent)
            if not self.local
            else _here(self.name_of(node), error)
        )
        if isinstance(found, AnswerLost) and not isinstance(error, TimeoutError):
            self.connections.drop(node)
            self._prompts = {key: prompt for key, prompt in self._prompts.items() if key[0] != node}
        return found

    async def _process(self, node: str, command: str, purpose: str) -> Process:
        if self.local:
            return await asyncio.create_subprocess_exec(
                "/bin/sh",
                "-c",
                command,
                stdin=asyncio.subprocess.PIPE,
                stdout=asyncio.subprocess.PIPE,
                stderr=asyncio.subprocess.PIPE,
                cwd="/",
                env=small_environment(),
                start_new_session=True,
            )
        connection = await self.connections.get(node, purpose)
        return await connection.create_process(command, encoding=None)

    async def _all_of(
        self, node: str, stream: Stream, answer_to: Stream = None, answers: Mapping[str, str] | None = None
    ) -> str:
        """All that comes on a stream; questions on the way are answered, each once for every time that it is asked."""
        heard, asked = bytearray(), 0
        while chunk := await stream.read(CHUNK):
            heard += chunk
            if len(heard) > LARGEST_TEXT:
                raise self._said_too_much(node, LARGEST_TEXT)
            if answers:
                tail = heard[asked:].decode("utf-8", "replace")
                reply = next((text for pattern, text in answers.items() if searched(pattern, tail)), None)
                if reply is not None:
                    asked = len(heard)
                    answer_to.write(reply.encode() + b"\n")
        return heard.decode("utf-8", "replace")

    async def _typed(
        self, node: str, command: str, purpose: str, patience: float, answers: Mapping[str, str], elevated: bool
    ) -> CommandOutput:
        sent = False
        try:
            async with asyncio.timeout(patience):
                prompt = await self._at_prompt(node, purpose)
                if elevated and self.profile.shell.elevate and not prompt.elevated:
                    secret = self.credential("elevate").secret
                    said = await prompt.say(self.profile.shell.elevate, {self.profile.shell.password_prompt: secret})
                    self._complaint(node, said)
                    prompt.elevated = True
                sent = True
                return CommandOutput(await prompt.say(command, answers))
        except Exception as error:
            self._prompts.pop((node, purpose), None)
            raise self._broken(node, error, sent) from None

    async def _at_prompt(self, node: str, purpose: str) -> Prompt:
        key = (node, purpose)
        connection = await self.connections.get(node, purpose)
        if key not in self._prompts or self._prompts[key].connection is not connection:
            process = await connection.create_process(
                term_type="vt100", term_size=(511, 1000), encoding=None, stderr=asyncio_stdout()
            )
            prompt = self._prompts[key] = Prompt(self, node, process, connection)
            await prompt.until({})
            for line in self.profile.shell.first:
                await prompt.say(line, {})
        return self._prompts[key]

    # --- files

    async def _send_file(self, node: str, to: str, act: Act, progress: Progress | None) -> None:
        """Put a package at its place, under another name until it is whole."""
        source, sent = await self._package(node, act), 0
        if self.local:
            import shutil

            with source, replacing(Path(to)) as copy:
                await asyncio.to_thread(shutil.copyfileobj, source, copy, CHUNK)
            return
        connection = await self.connections.get(node, "act")
        try:
            async with connection.start_sftp_client() as sftp:
                async with sftp.open(to + ".part", "wb") as target:
                    with source:
                        while chunk := source.read(CHUNK):
                            if self.tools.throttle is not None:
                                await self.tools.throttle.let(len(chunk))
                            await target.write(chunk)
                            sent += len(chunk)
                            if progress is not None:
                                share = 100.0 * sent / max(1, act.bytes)
                                progress(share, f"{sent / 1e6:.1f} of {act.bytes / 1e6:.1f} MB sent")
                await sftp.posix_rename(to + ".part", to)
        except Exception as error:
            raise self._sftp_said(node, to, error) from None

    async def _file(self, node: str, path: str, limit: int, purpose: str = "read") -> AsyncIterator[bytes]:
        size = 0
        if self.local:
            with open(path, "rb") as file:
                while chunk := file.read(CHUNK):
                    size += len(chunk)
                    if size > limit:
                        raise self._said_too_much(node, limit)
                    yield chunk
            return
        connection = await self.connections.get(node, purpose)
        try:
            async with connection.start_sftp_client() as sftp, sftp.open(path, "rb") as file:
                while chunk := cast(bytes, await file.read(CHUNK)):  # opened for bytes, which its type does not say
                    size += len(chunk)
                    if size > limit:
                        raise self._said_too_much(node, limit)
                    yield chunk
        except Exception as error:
            raise self._sftp_said(node, path, error) from None

    def _sftp_said(self, node: str, path: str, error: Exception) -> GallantError:
        import asyncssh

        if isinstance(error, asyncssh.SFTPError):
            return self._refusal(node, f"{clean(path, 80)}: {error.reason}")
        return self._broken(node, error, True)

    async def _stream(self, node: str, call: Call, fields: Mapping[str, str]) -> AsyncIterator[bytes]:
        from gallant.drivers.base import LARGEST_EXPORT

        if isinstance(call, Fetch):
            async for chunk in self._file(node, fill(call.fetch, fields), LARGEST_EXPORT):
                yield chunk
            return
        assert isinstance(call, RunCommand)
        async for chunk in self.stream(node, self._line(node, call, fields), call.exits, call.timeout_s, call.elevated):
            yield chunk

    async def stream(
        self,
        node: str,
        command: str,
        exits: tuple[int, ...] = (0,),
        timeout_s: float | None = None,
        elevated: bool = False,
    ) -> AsyncIterator[bytes]:
        """What a command writes, as it comes; it failed when its end is not among `exits`."""
        if self.profile.shell.prompt is not None and not self.local:
            yield (await self.run(node, command, "read", timeout_s, elevated=elevated)).text.encode()
            return
        if elevated:
            command = self.elevated(command, "read")
        errors = ""
        try:
            process = await self._process(node, command, "read")
            process.stdin.write_eof()
            try:
                complaint = asyncio.ensure_future(self._all_of(node, process.stderr))
                while True:
                    async with asyncio.timeout(timeout_s or self.profile.timeout_s * 6):
                        chunk = await process.stdout.read(CHUNK)
                    if not chunk:
                        break
                    yield chunk
                errors, status = await complaint, await _exit_of(process)
            finally:
                await _end(process)
        except Exception as error:
            raise self._broken(node, error, True) from None
        if status not in exits:
            raise self._ended_badly(node, errors.strip(), status)


class Prompt:
    """A device's command line, at which one command after the other is typed."""

    def __init__(self, driver: ShellDriver, node: str, process: Process, connection: SSHClientConnection) -> None:
        self.driver, self.node, self.process, self.connection = driver, node, process, connection
        self.shell = driver.profile.shell
        self.elevated = False

    async def say(self, line: str, answers: Mapping[str, str]) -> str:
        """Type a line; what was said until the prompt came again, without the echo and without the prompt."""
        self.process.stdin.write(line.encode() + b"\n")
        heard = await self.until(answers)
        rows = [_written_over(row) for row in heard.split("\n")]
        if rows and rows[0].strip().endswith(line.strip()):
            rows = rows[1:]
        return "\n".join(rows[:-1])

    async def until(self, answers: Mapping[str, str]) -> str:
        """Read until the prompt stands at the end; leaf through the pager and answer questions on the way."""
        heard, looked = "", 0
        while True:
            chunk = await self.process.stdout.read(CHUNK)
            if not chunk:
                raise AnswerLost(
                    f"{self.driver.name_of(self.node)} ended the session.",
                    next=f"gallant survey {self.driver.name_of(self.node)}",
                )
            heard = _STEERING.sub("", heard + chunk.decode("utf-8", "replace")).replace("\r\n", "\n")
            if len(heard) > LARGEST_TEXT:
                raise self.driver._said_too_much(self.node, LARGEST_TEXT)
            tail = heard[looked:].rsplit("\n", 1)[-1].rsplit("\r", 1)[-1]
            if self.shell.more and (match := searched(f"(?:{self.shell.more})\\s*$", tail)):
                heard = heard[: len(heard) - len(tail) + match.start()]
                looked = len(heard)
                self.process.stdin.write(b" ")
            elif (reply := next((text for p, text in answers.items() if searched(p, tail)), None)) is not None:
                looked = len(heard)
                self.process.stdin.write(reply.encode() + b"\n")
            elif searched(f"(?:{self.shell.prompt})\\s*$", tail):
                return heard


def _written_over(row: str) -> str:
    """A line as it stands on a terminal after every return to its beginning."""
    shown = ""
    for part in row.split("\r"):
        shown = part + shown[len(part) :]
    return shown.rstrip() if "\r" in row else shown


def asyncio_stdout() -> int:
    import asyncssh

    return asyncssh.STDOUT


async def _exit_of(process: Process) -> int:
    if isinstance(process, asyncio.subprocess.Process):
        return await process.wait()
    done = await process.wait(check=False)
    return -1 if done.exit_status is None else int(done.exit_status)


async def _end(process: Process) -> None:
    """Let go of a command, and of what it started where it runs here."""
    if isinstance(process, asyncio.subprocess.Process):
        import os
        import signal

        if process.returncode is None:
            with contextlib.suppress(ProcessLookupError, PermissionError):
                os.killpg(process.pid, signal.SIGKILL)
        # Its pipes first: waiting for the process means waiting for them, and one that is not read never ends.
        process._transport.close()  # type: ignore[attr-defined]
        await process.wait()
    else:
        process.close()


def _here(name: str, error: Exception) -> GallantError:
    if isinstance(error, GallantError):
        return error
    if isinstance(error, TimeoutError):
        return AnswerLost(f"{name}: the command took too long and was ended.", next=f"gallant survey {name}", late=True)
    raise error
