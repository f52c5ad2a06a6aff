"""Where something is, as people write it in an estate: HOST:PORT, an address without a secret, a command and its
words."""

from __future__ import annotations

import ipaddress
import shlex
from urllib.parse import SplitResult

from gallant.core.addresses import secretless


def host_and_port(address: str) -> tuple[str, int]:
    """The two parts of HOST:PORT (an IPv6 host in brackets); raises ValueError."""
    host, colon, port = address.rpartition(":")
    if not colon or not host or len(port) > 5 or not port.isdecimal() or not 0 < int(port) < 65536:
        raise ValueError("address: write HOST:PORT")
    return host.strip("[]"), int(port)


def is_loopback(host: str) -> bool:
    """Whether an address is of this very machine."""
    try:
        return ipaddress.ip_address(host).is_loopback
    except ValueError:
        return host == "localhost"


def secretless_in(field: str, text: str) -> SplitResult:
    """The parts of an address that a field has. Raises ValueError, which names the field and not the text."""
    try:
        return secretless(text)
    except ValueError as error:
        raise ValueError(f"{field}: {error}") from None


def command_words(command: str) -> list[str]:
    """A command's words, as a shell would part them; nothing in them is expanded. Raises ValueError."""
    try:
        return shlex.split(command)
    except ValueError as error:
        raise ValueError(f"run: {error}") from None
