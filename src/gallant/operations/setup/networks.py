"""What answers in a network."""

from __future__ import annotations

import asyncio
import ipaddress
from collections.abc import AsyncIterator, Iterator, Sequence
from typing import TYPE_CHECKING
from urllib.parse import urlsplit

from gallant.core.errors import Refused, WrongUse
from gallant.core.estate.systems import node_name
from gallant.core.records import Record, clean
from gallant.drivers.greeting import NETCONF_PORT, greet
from gallant.operations.ground.workplace import SPEAK_HTTP, Workplace

if TYPE_CHECKING:
    pass
from gallant.operations.setup.adding import AT_ONCE, KNOCK_S, LARGEST_SCAN, PER_SECOND


class Met(Record):
    """What answers somewhere in a network; `known` is the node of the estate at this address."""

    address: str
    protocol: str
    says: str
    fingerprint: str | None
    known: str | None


class Scan(Record):
    """What answered, of so many addresses that were knocked at."""

    asked: int
    met: tuple[Met, ...]


async def scan(place: Workplace, text: str, ports: Sequence[int]) -> Scan:
    """Knock at every address of a network, slowly and no more than
    `LARGEST_SCAN` of them, and tell what answers. Nobody logs in."""
    addresses = list(_addresses(place, text))
    known = _known(place)
    gate, met = asyncio.Semaphore(AT_ONCE), list[Met]()

    async def knock(host: str, port: int) -> None:
        async with gate:
            found = await greet(host, port, KNOCK_S)
        if found is not None:
            met.append(
                Met(
                    address=found.address,
                    protocol=found.protocol,
                    says=found.says,
                    fingerprint=found.fingerprint,
                    known=known.get((host, port)),
                )
            )

    async with asyncio.TaskGroup() as group:
        async for host, port in _paced(place, addresses, ports):
            group.create_task(knock(host, port))
    order = {address: number for number, address in enumerate(addresses)}
    met.sort(key=lambda one: (one.known is not None, order.get(urlsplit(one.address).hostname or "", 0), one.address))
    return Scan(asked=len(addresses), met=tuple(met))


async def _paced(place: Workplace, addresses: Sequence[str], ports: Sequence[int]) -> AsyncIterator[tuple[str, int]]:
    """Every door, no more of them in a second than a network of others is glad of."""
    for number, (host, port) in enumerate((host, port) for host in addresses for port in ports):
        if number:
            await asyncio.sleep(1 / PER_SECOND)
        yield host, port


def _addresses(place: Workplace, text: str) -> Iterator[str]:
    try:
        network = ipaddress.ip_network(text.strip(), strict=False)
    except ValueError:
        raise WrongUse(
            f"{clean(text, 60)!r} is no network.", next="Write it as 192.0.2.0/24 or 2001:db8::/120"
        ) from None
    if network.num_addresses > LARGEST_SCAN:
        raise WrongUse(
            f"{network} has {network.num_addresses:,} addresses; at most {LARGEST_SCAN:,} are knocked at in one go.",
            next="Name a part of it",
        )
    if place.estate.simulation is not None and not network.is_loopback:
        raise Refused(f"{network} is no loopback network; a simulated estate never speaks to a real machine.")
    return (str(address) for address in (network.hosts() if network.num_addresses > 2 else network))


def _known(place: Workplace) -> dict[tuple[str, int], str]:
    found = {}
    for system in place.estate.systems.values():
        for key, node in system.nodes.items():
            usual = 443 if system.driver in SPEAK_HTTP else NETCONF_PORT if system.driver == "netconf" else 22
            found[node.host, node.port or usual] = node_name(system, key)
    return found
