"""What a device says of itself to anybody who knocks, before any
login: which protocol answers, and what its key or certificate is.

Over SSH that is the server's own first line and its host key (RFC 4253, 4.2 and 8); over
HTTPS the certificate and the service root of Redfish, which is open by the standard
(DSP0266, 13.2.1). No account is named and nothing is asked that a login would be for.
"""

from __future__ import annotations

import asyncio
import contextlib
import ssl

import aiohttp
import msgspec

from gallant.core.records import Record, clean
from gallant.drivers.http.driver import new_session
from gallant.drivers.tls import shared_context, shown_fingerprint

REDFISH, NETCONF, SSH, HTTPS = "redfish", "netconf", "ssh", "https"
NETCONF_PORT = 830  # RFC 6242, 4
LONGEST_LINE = 255  # RFC 4253, 4.2
LARGEST_ROOT = 256 * 1024
FIRST_WORD_S = 0.7  # who speaks SSH does so at once; who speaks TLS waits for us


class Greeting(Record):
    """What answers at an address: its protocol, what it says (cleaned), the fingerprint of its certificate or host key,
    and whether a CA that is known here signed that."""

    address: str
    protocol: str
    says: str = ""
    fingerprint: str | None = None
    kind: str = ""
    signed: bool = False


async def greet(host: str, port: int, timeout_s: float = 5.0, *, waits: bool = False) -> Greeting | None:
    """What answers at a port; None where nothing does. `waits`: it is known to speak TLS, so that no first word is
    waited for. Raises nothing of the network's."""
    if waits:
        return await _over_tls(host, port, timeout_s)
    try:
        async with asyncio.timeout(timeout_s):
            first = await _first_line(host, port)
    except (OSError, TimeoutError):
        return None
    if first.startswith("SSH-"):
        return await _over_ssh(host, port, first, timeout_s)
    return await _over_tls(host, port, timeout_s)


async def _first_line(host: str, port: int) -> str:
    """What a server says without being asked; empty where it waits."""
    reader, writer = await asyncio.open_connection(host, port)
    try:
        async with asyncio.timeout(FIRST_WORD_S):
            return clean((await reader.read(LONGEST_LINE)).decode("utf-8", "replace").partition("\n")[0], 120)
    except TimeoutError:
        return ""
    finally:
        writer.close()


async def _over_ssh(host: str, port: int, first: str, timeout_s: float) -> Greeting:
    import asyncssh

    found = Greeting(
        address=f"ssh://{_bracketed(host)}" + (f":{port}" if port != 22 else ""),
        protocol=NETCONF if port == NETCONF_PORT else SSH,
        says=first,
    )
    with contextlib.suppress(OSError, TimeoutError, asyncssh.Error):
        async with asyncio.timeout(timeout_s):
            key = await asyncssh.get_server_host_key(host, port, config=None)
        if key is not None:
            return Greeting(
                address=found.address,
                protocol=found.protocol,
                says=first,
                fingerprint=key.get_fingerprint("sha256"),
                kind=key.get_algorithm(),
            )
    return found


async def _over_tls(host: str, port: int, timeout_s: float) -> Greeting | None:
    shown = await shown_fingerprint(host, port, timeout_s)
    if shown is None:
        return None
    address = f"https://{_bracketed(host)}" + (f":{port}" if port != 443 else "")
    root = await _service_root(f"{address}/redfish/v1/", shown, timeout_s)
    version = root.get("RedfishVersion")
    told = " ".join(clean(word, 60) for key in ("Vendor", "Product") if isinstance(word := root.get(key), str))
    return Greeting(
        address=address,
        protocol=REDFISH if isinstance(version, str) else HTTPS,
        says=f"Redfish {clean(version, 20)}{f', {told}' if told else ''}" if isinstance(version, str) else "",
        fingerprint=shown,
        kind="certificate",
        signed=await _is_signed(host, port, timeout_s),
    )


async def _service_root(url: str, fingerprint: str, timeout_s: float) -> dict[str, object]:
    """The Redfish service root, which anybody may read; empty where there is none."""
    pinned = aiohttp.Fingerprint(bytes.fromhex(fingerprint.removeprefix("sha256:")))
    with contextlib.suppress(aiohttp.ClientError, OSError, TimeoutError, ValueError, msgspec.MsgspecError):
        async with (
            asyncio.timeout(timeout_s),
            new_session(1) as session,
            session.get(url, ssl=pinned, allow_redirects=False) as answer,
        ):
            raw = await answer.content.read(LARGEST_ROOT)
            found = msgspec.json.decode(raw) if answer.status == 200 else None
            return found if isinstance(found, dict) else {}
    return {}


async def _is_signed(host: str, port: int, timeout_s: float) -> bool:
    """Whether a CA that is known here signed the certificate for this name."""
    with contextlib.suppress(OSError, ssl.SSLError, TimeoutError):
        async with asyncio.timeout(timeout_s):
            _, writer = await asyncio.open_connection(host, port, ssl=shared_context(), server_hostname=host)
            writer.close()
            return True
    return False


def _bracketed(host: str) -> str:
    return f"[{host}]" if ":" in host else host
