"""How a service is asked whether it is well: one coroutine a way, in the table `WAYS`.

Each raises `OSError` or `ValueError` with the reason where it is not. Nothing secret is sent, so nobody's certificate
is held against anything: whether users are let in is theirs to find out, whether somebody answers is asked here.
"""

from __future__ import annotations

import asyncio
import contextlib
import errno
import ipaddress
import json
import os
import secrets
import socket
import ssl
import struct
from collections.abc import Awaitable, Callable, Mapping
from datetime import UTC, datetime
from functools import partial
from pathlib import Path
from typing import TypeAlias

from gallant.core.estate.services import Service
from gallant.drivers.commands import run_command
from gallant.drivers.patterns import begins

LONGEST_ANSWER = 64 * 1024
NOT_RIGHT = "the answer is not what a right one looks like"
Where = tuple[int, int, int, str, tuple[str, int]]


async def resolved(service: Service, kind: int = socket.SOCK_STREAM) -> Where:
    """Where to connect to; a numeric address asks no resolver."""
    host, port = service.endpoint
    with contextlib.suppress(ValueError):
        family = socket.AF_INET6 if ipaddress.ip_address(host).version == 6 else socket.AF_INET
        return family, kind, 0, "", (host, port)
    found = await asyncio.get_running_loop().getaddrinfo(host, port, type=kind)
    family, _, protocol, name, address = found[0]
    return family, kind, protocol, name, (str(address[0]), int(address[1]))


async def _connect(service: Service) -> None:
    """A connect, and a data read where one is asked for. Bare sockets: a probe
    costs a fifth of what a stream does, and is made twelve times a second."""
    loop = asyncio.get_running_loop()
    family, kind, protocol, _, address = await resolved(service)
    with socket.socket(family, kind, protocol) as sock:
        sock.setblocking(False)
        await loop.sock_connect(sock, address)
        if service.read is None:
            return
        await loop.sock_sendall(sock, service.read.send.encode())
        answer = b""
        while b"\n" not in answer and len(answer) < LONGEST_ANSWER:
            piece = await loop.sock_recv(sock, 4096)
            if not piece:
                break
            answer += piece
        if not answer:
            raise ConnectionResetError(errno.ECONNRESET, "closed without an answer")
        try:
            right = await begins(service.read.expect, answer.decode("utf-8", "replace"))
        except TimeoutError:
            raise ValueError("the pattern that is expected takes too long on the answer") from None
        if not right:
            raise ValueError(NOT_RIGHT)


def _unverified() -> ssl.SSLContext:
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
    context.check_hostname, context.verify_mode = False, ssl.CERT_NONE
    return context


async def _tls(service: Service) -> None:
    host, port = service.endpoint
    _, writer = await asyncio.open_connection(host, port, ssl=_unverified(), server_hostname=host)
    try:
        _look_at_certificate(service, writer.transport)
    finally:
        writer.close()
        with contextlib.suppress(OSError):
            await writer.wait_closed()


def _look_at_certificate(service: Service, transport: asyncio.BaseTransport | None) -> None:
    """Raise `ValueError` where the certificate of an answer ends too soon, or has ended."""
    if service.certificate_days is None:
        return
    tls = transport.get_extra_info("ssl_object") if transport is not None else None
    raw = tls.getpeercert(binary_form=True) if tls is not None else None
    if raw is None:
        raise ValueError("its certificate cannot be seen")
    from cryptography import x509

    left = x509.load_der_x509_certificate(raw).not_valid_after_utc - datetime.now(UTC)
    if left.total_seconds() <= 0:
        raise ValueError("its certificate has ended")
    if left.total_seconds() < service.certificate_days * 86400:
        raise ValueError(f"its certificate ends in {left.total_seconds() / 86400:.0f} days")


async def _http(service: Service) -> None:
    """A page by GET, its status, and what must hold of its JSON. No
    redirect is followed: where it leads is another service."""
    import aiohttp

    asked = service.http
    assert asked is not None
    if service.certificate_days is not None:
        await _tls(service)  # a client of pages does not show the certificate of an answer that is over
    host, port = service.endpoint
    where = f"[{host}]" if ":" in host else host
    url = f"{'https' if asked.tls else 'http'}://{where}:{port}{asked.path}"
    connector = aiohttp.TCPConnector(ssl=_unverified() if asked.tls else False, force_close=True)
    try:
        async with (
            aiohttp.ClientSession(connector=connector) as session,
            session.get(url, allow_redirects=False) as answer,
        ):
            if answer.status not in asked.status:
                raise ValueError(f"status {answer.status}")
            if asked.well is not None:
                _hold(asked.well, await answer.content.read(LONGEST_ANSWER))
    except aiohttp.ClientError as error:
        raise _plain(error) from None


def _plain(error: Exception) -> OSError | ValueError:
    """The plain reason of a client's error."""
    if isinstance(error, OSError) and error.errno:
        return OSError(error.errno, os.strerror(error.errno))
    return ValueError("it speaks no HTTP that can be understood")


def _hold(well: str, body: bytes) -> None:
    import jmespath

    try:
        found = jmespath.search(well, json.loads(body))
    except (ValueError, RecursionError, jmespath.exceptions.JMESPathError):
        raise ValueError(f"{well} cannot be told from its answer") from None
    if not found:
        raise ValueError(f"{well} does not hold")


async def _exchange(where: Where, packet: bytes) -> bytes:
    """One datagram there, and the first that comes back from there."""
    family, kind, protocol, _, address = where
    loop = asyncio.get_running_loop()
    with socket.socket(family, kind, protocol) as sock:
        sock.setblocking(False)
        await loop.sock_connect(sock, address)
        await loop.sock_sendall(sock, packet)
        return await loop.sock_recv(sock, 4096)


async def _dns(service: Service) -> None:
    """Ask for the address of a name (RFC 1035, section 4): well is an
    answer to this question, without an error, with a record."""
    number = secrets.token_bytes(2)
    labels = (service.dns or "").rstrip(".").split(".")
    name = b"".join(bytes([len(label)]) + label.encode("ascii") for label in labels) + b"\0"
    question = number + struct.pack("!5H", 0x0100, 1, 0, 0, 0) + name + struct.pack("!2H", 1, 1)
    answer = await _exchange(await resolved(service, socket.SOCK_DGRAM), question)
    if len(answer) < 12 or answer[:2] != number:
        raise ValueError(NOT_RIGHT)
    flags, _, records = struct.unpack("!3H", answer[2:8])
    if not flags & 0x8000 or flags & 0xF:
        raise ValueError(f"it answers with the error {flags & 0xF}")
    if not records:
        raise ValueError(f"it knows no address of {service.dns}")


async def _ntp(service: Service) -> None:
    """Ask for the time (RFC 5905, section 7.3): well is a server's answer to this packet, of a clock that is set."""
    stamp = secrets.token_bytes(8)
    answer = await _exchange(await resolved(service, socket.SOCK_DGRAM), bytes([0x23]) + bytes(39) + stamp)
    if len(answer) < 48 or answer[0] & 7 != 4 or answer[24:32] != stamp:
        raise ValueError(NOT_RIGHT)
    if answer[0] >> 6 == 3 or not 0 < answer[1] < 16:
        raise ValueError("its clock is not set")


async def _ping(service: Service) -> None:
    """An echo (RFC 792, RFC 4443) by a socket that needs no rights of its own, where the machine allows that."""
    family, kind, _, name, address = await resolved(service, socket.SOCK_DGRAM)
    six = family == socket.AF_INET6
    protocol = socket.IPPROTO_ICMPV6 if six else socket.IPPROTO_ICMP
    token = secrets.token_bytes(16)
    head = struct.pack("!2BHHH", 128 if six else 8, 0, 0, 0, 1)
    packet = head if six else struct.pack("!2BHHH", 8, 0, _sum(head + token), 0, 1)
    try:
        answer = await _exchange((family, kind, protocol, name, address), packet + token)
    except PermissionError:
        raise ValueError("this machine lets nobody ping without rights (net.ipv4.ping_group_range)") from None
    if token not in answer or answer[:1] != (b"\x81" if six else b"\0"):
        raise ValueError(NOT_RIGHT)


def _sum(data: bytes) -> int:
    """The Internet checksum (RFC 1071)."""
    total: int = sum(struct.unpack(f"!{len(data) // 2}H", data))
    total = (total >> 16) + (total & 0xFFFF)
    return ~(total + (total >> 16)) & 0xFFFF


async def _run(service: Service, folder: Path) -> None:
    if code := await run_command(service.command, folder):
        raise ValueError(f"the command ended with {code}")


def ways_in(folder: Path) -> Ways:
    """How each kind of service is asked; commands are run in an estate's folder."""
    return {**_WAYS, "run": partial(_run, folder=folder)}


Ways: TypeAlias = Mapping[str, Callable[[Service], Awaitable[None]]]
_WAYS: Ways = {
    "tcp": _connect,
    "read": _connect,
    "tls": _tls,
    "http": _http,
    "dns": _dns,
    "ntp": _ntp,
    "ping": _ping,
}
