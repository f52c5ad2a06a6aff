"""TLS to devices: verified against a CA file, or against a pinned certificate. There is no third way.

When a device shows a certificate that is neither, the refusal says its fingerprint and the line that would pin it, so
that a person can compare it with what the device's own console shows.
"""

from __future__ import annotations

import asyncio
import contextlib
import hashlib
import ssl
from functools import lru_cache

import aiohttp

from gallant.authorities import context_for
from gallant.core.estate.systems import Node


@lru_cache(maxsize=1)
def shared_context() -> ssl.SSLContext:
    """One verifying context for all devices: making one takes 70 ms."""
    return context_for()


def verification(node: Node, folder: str) -> ssl.SSLContext | aiohttp.Fingerprint:
    """What a request to this node is verified against."""
    if node.fingerprint is not None:
        return aiohttp.Fingerprint(bytes.fromhex(node.fingerprint.lower().removeprefix("sha256:").replace(":", "")))
    if node.ca is not None:
        return context_for(node.ca if node.ca.startswith("/") else f"{folder}/{node.ca}")
    return shared_context()


async def shown_fingerprint(host: str, port: int, timeout_s: float = 5.0) -> str | None:
    """The fingerprint of the certificate that a host shows, to tell a person; nothing else is sent on this
    connection."""
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
    context.check_hostname = False
    context.verify_mode = ssl.CERT_NONE
    with contextlib.suppress(OSError, ssl.SSLError, TimeoutError):
        async with asyncio.timeout(timeout_s):
            _, writer = await asyncio.open_connection(host, port, ssl=context)
            try:
                shown = writer.get_extra_info("ssl_object").getpeercert(binary_form=True)
            finally:
                writer.close()
            return f"sha256:{hashlib.sha256(shown).hexdigest()}" if shown else None
    return None
