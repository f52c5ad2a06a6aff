"""A NETCONF session (RFC 6241, framing of RFC 6242)."""

from __future__ import annotations

import asyncio
import re
from typing import TYPE_CHECKING

from gallant.core.ports import AnswerLost, DeviceRefused, NotReached
from gallant.core.records import clean
from gallant.drivers.xml import STANDARD, Element, NotXml, parse_xml, text_at

LARGEST_MESSAGE = 64 * 1024 * 1024
CHUNK = 64 * 1024
END_1_0 = b"]]>]]>"  # RFC 6242, 4.3
_CHUNK_HEAD = re.compile(rb"\n#([1-9][0-9]{0,9}|#)\n")  # RFC 6242, 4.2
NAMES = STANDARD
BASE, SYSTEM, HARDWARE, INTERFACES = (NAMES[prefix] for prefix in ("nc", "sys", "hw", "if"))
BASE_1_0, BASE_1_1 = "urn:ietf:params:netconf:base:1.0", "urn:ietf:params:netconf:base:1.1"
CAPABILITY = "urn:ietf:params:netconf:capability:"


if TYPE_CHECKING:
    from asyncssh import SSHReader, SSHWriter


class Session:
    """One NETCONF session: one message after the other, in the framing that both sides know."""

    def __init__(self, name: str, writer: SSHWriter[bytes], reader: SSHReader[bytes]) -> None:
        self.name, self._writer, self._reader = name, writer, reader
        self._heard = bytearray()
        self._chunked = False
        self._number = 0
        self._lock = asyncio.Lock()
        self.capabilities: frozenset[str] = frozenset()

    async def begin(self) -> None:
        """Exchange hellos (RFC 6241, 8.1)."""
        self._writer.write(
            f'<?xml version="1.0" encoding="UTF-8"?><hello xmlns="{BASE}"><capabilities>'
            f"<capability>{BASE_1_0}</capability><capability>{BASE_1_1}</capability></capabilities></hello>".encode()
            + END_1_0
        )
        hello = self._parsed(await self._message())
        self.capabilities = frozenset(
            "".join(element.itertext()).strip() for element in hello.xpath("//nc:capability", namespaces=NAMES)
        )
        if not self.capabilities & {BASE_1_0, BASE_1_1}:
            raise NotReached(f"{self.name} speaks no NETCONF that is known here: neither base 1.0 nor 1.1.")
        self._chunked = BASE_1_1 in self.capabilities

    def knows(self, capability: str) -> bool:
        return any(c.startswith(CAPABILITY + capability) for c in self.capabilities)

    def has_module(self, name: str) -> bool:
        return any(f"module={name}" in c for c in self.capabilities)

    async def rpc(self, body: str) -> tuple[Element, list[str]]:
        """Send one RPC; its reply's element and the warnings next to it. Raises `RpcError` for an error."""
        async with self._lock:
            self._number += 1
            asked = f'<rpc xmlns="{BASE}" message-id="{self._number}">{body}</rpc>'
            message = f'<?xml version="1.0" encoding="UTF-8"?>{asked}'.encode()
            if self._chunked:
                self._writer.write(b"\n#%d\n%s\n##\n" % (len(message), message))
            else:
                self._writer.write(message + END_1_0)
            while True:
                reply = self._parsed(await self._message())
                if reply.get("message-id") in (str(self._number), None) and reply.tag == f"{{{BASE}}}rpc-reply":
                    break  # a notification, or the late answer to an earlier question, is not ours
        errors = reply.xpath("nc:rpc-error", namespaces=NAMES)
        warnings = [_said(e) for e in errors if text_at(e, "nc:error-severity", NAMES) == "warning"]
        wrong = [e for e in errors if text_at(e, "nc:error-severity", NAMES) != "warning"]
        if wrong:
            raise RpcError(_said(wrong[0]), text_at(wrong[0], "nc:error-tag", NAMES) or "")
        return reply, warnings

    def end(self) -> None:
        """Say good-bye, and wait for nothing (RFC 6241, 7.8)."""
        body = f'<rpc xmlns="{BASE}" message-id="{self._number + 1}"><close-session/></rpc>'.encode()
        self._writer.write(b"\n#%d\n%s\n##\n" % (len(body), body) if self._chunked else body + END_1_0)

    # --- framing

    async def _message(self) -> bytes:
        return await (self._by_chunks() if self._chunked else self._by_end())

    async def _more(self) -> None:
        chunk = await self._reader.read(CHUNK)
        if not chunk:
            raise AnswerLost(f"{self.name} ended the session.", next=f"gallant survey {self.name}")
        self._heard += chunk
        if len(self._heard) > LARGEST_MESSAGE:
            raise self._too_much()

    async def _by_end(self) -> bytes:
        looked = 0
        while (at := self._heard.find(END_1_0, max(0, looked - len(END_1_0)))) < 0:
            looked = len(self._heard)
            await self._more()
        message = bytes(self._heard[:at])
        del self._heard[: at + len(END_1_0)]
        return message

    async def _by_chunks(self) -> bytes:
        message = bytearray()
        while True:
            while (head := _CHUNK_HEAD.match(self._heard)) is None:
                if len(self._heard) > 14:
                    raise DeviceRefused(f"{self.name} breaks the framing of its messages.", meaning="fatal")
                await self._more()
            said = bytes(head[1])  # before the buffer that the match looks into changes
            del self._heard[: head.end()]
            if said == b"#":
                return bytes(message)
            size = int(said)
            if len(message) + size > LARGEST_MESSAGE:
                raise self._too_much()
            while len(self._heard) < size:
                await self._more()
            message += self._heard[:size]
            del self._heard[:size]

    def _too_much(self) -> DeviceRefused:
        return DeviceRefused(
            f"{self.name} answers with more than {LARGEST_MESSAGE // 1024 // 1024} MiB; the rest was not read.",
            meaning="fatal",
        )

    def _parsed(self, raw: bytes) -> Element:
        try:
            return parse_xml(raw.strip())
        except NotXml as error:
            raise DeviceRefused(
                f"{self.name} answers with something that is not XML: {clean(str(error), 80)}.", meaning="fatal"
            ) from None


class RpcError(Exception):
    """An error that a server gave as its reply (RFC 6241, 4.3)."""

    def __init__(self, said: str, tag: str) -> None:
        super().__init__(said)
        self.said, self.tag = said, tag


def _said(error: Element) -> str:
    """An rpc-error as one sentence: its message, else its tag, and where."""
    message = text_at(error, "nc:error-message", NAMES) or text_at(error, "nc:error-tag", NAMES) or "error"
    path = text_at(error, "nc:error-path", NAMES)
    bad = text_at(error, "nc:error-info/nc:bad-element", NAMES)
    where = path or bad
    return f"{message} (at {where})" if where else message
