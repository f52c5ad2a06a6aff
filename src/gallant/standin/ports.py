"""Listening sockets that can close and open again without losing their port to another program."""

from __future__ import annotations

import random
import socket

# Below the range from which a kernel takes ports for outgoing connections.
LOWEST, HIGHEST = 20000, 32000


def bound(address: str, port: int) -> socket.socket:
    """A socket bound to the port and not listening: anyone who connects is refused."""
    sock = socket.socket(socket.AF_INET, socket.SOCK_STREAM)
    sock.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    if hasattr(socket, "SO_REUSEPORT"):
        sock.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEPORT, 1)
    try:
        sock.bind((address, port))
    except OSError:
        sock.close()
        raise
    sock.setblocking(False)
    return sock


def reserve(address: str) -> tuple[socket.socket, int]:
    """A free port, kept for us by a socket that never listens."""
    chance = random.SystemRandom()
    for _ in range(200):
        port = chance.randrange(LOWEST, HIGHEST)
        probe = socket.socket(socket.AF_INET, socket.SOCK_STREAM)
        try:
            probe.bind((address, port))  # without the options above: fails where anybody has it
        except OSError:
            continue
        finally:
            probe.close()
        return bound(address, port), port
    raise OSError(f"no free port on {address} between {LOWEST} and {HIGHEST}")
