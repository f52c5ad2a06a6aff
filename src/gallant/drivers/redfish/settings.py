"""The settings of a server as its Redfish service tells them: what a
person would want to see again, or compare, after an update.

DMTF DSP0268: ComputerSystem (Boot, asset tag, power restore policy), Bios (Attributes), SecureBoot,
ManagerNetworkProtocol, EthernetInterface of the manager, ManagerAccount. What changes by itself (states, times, links)
is left out, and so are secrets, which a service does not tell anyway.
"""

from __future__ import annotations

import json
from typing import Protocol

from gallant.core.estate.systems import System
from gallant.core.ports import DeviceRefused


class Asks(Protocol):
    """What is wanted of the driver of a Redfish service: resources, and what they hold and link to."""

    system: System

    def rows(self, thing: object, node: str, *names: str) -> list[dict[str, object]]: ...
    def link(self, thing: object, node: str, *names: str) -> str | None: ...
    async def now(self, node: str, path: str, purpose: str = "act") -> dict[str, object]: ...


OF_SYSTEM = ("AssetTag", "HostName", "PowerRestorePolicy", "Boot")
OF_SECURE_BOOT = ("SecureBootEnable", "SecureBootMode")
OF_INTERFACE = (
    "Id", "InterfaceEnabled", "MTUSize", "HostName", "FQDN", "VLAN", "DHCPv4", "DHCPv6", "StatelessAddressAutoConfig",
    "IPv4StaticAddresses", "IPv6StaticAddresses", "StaticNameServers",
)  # fmt: skip
OF_ACCOUNT = ("UserName", "RoleId", "Enabled", "AccountTypes")
PASSING = (
    "Actions",
    "Links",
    "Status",
    "Id",
    "Name",
    "Description",
    "Oem",
    "Password",
    "CommunityStrings",
    "Certificates",
)
MOST_ACCOUNTS = 64


async def settings(driver: Asks, node: str) -> bytes:
    """All of them as one JSON document, in an order that stays. Raises what a request raises."""
    told = _Telling(driver, node)
    root = await told.at("/redfish/v1/")
    systems, manager = await told.members(root, "Systems"), next(iter(await told.members(root, "Managers")), {})
    serial = driver.system.nodes[node].serial
    own = next((s for s in systems if serial in (s.get("SerialNumber"), s.get("UUID"))), next(iter(systems), {}))
    secure = await told.linked(own, "SecureBoot")
    accounts = await told.members(await told.linked(root, "AccountService"), "Accounts")
    interfaces = await told.members(manager, "EthernetInterfaces")
    found = {
        "system": _picked(own, OF_SYSTEM),
        "bios": _plain((await told.linked(own, "Bios")).get("Attributes", {})),
        "secure boot": _picked(secure, OF_SECURE_BOOT),
        "manager services": _lasting(await told.linked(manager, "NetworkProtocol")),
        "manager interfaces": [_picked(row, OF_INTERFACE) for row in interfaces],
        "accounts": [_picked(row, OF_ACCOUNT) for row in accounts if row.get("UserName")],
    }
    return json.dumps(found, indent=1, sort_keys=True, ensure_ascii=False).encode() + b"\n"


class _Telling:
    """Resources as they are at this moment; one that is linked to and not had is empty."""

    def __init__(self, driver: Asks, node: str) -> None:
        self.driver, self.node = driver, node

    async def at(self, path: str) -> dict[str, object]:
        try:
            return await self.driver.now(self.node, path, "read")
        except DeviceRefused as error:
            if error.meaning in ("auth", "fatal"):
                raise
            return {}

    async def linked(self, thing: dict[str, object], name: str) -> dict[str, object]:
        path = self.driver.link(thing, self.node, name)
        return await self.at(path) if path is not None else {}

    async def members(self, thing: dict[str, object], name: str) -> list[dict[str, object]]:
        """The members of a collection that something links to, one by one."""
        rows = self.driver.rows(await self.linked(thing, name), self.node, "Members")[:MOST_ACCOUNTS]
        paths = [self.driver.link({"it": row}, self.node, "it") for row in rows]
        return [await self.at(path) for path in paths if path is not None]


def _picked(thing: dict[str, object], names: tuple[str, ...]) -> dict[str, object]:
    return {name: _plain(thing[name]) for name in names if thing.get(name) is not None}


def _lasting(thing: dict[str, object]) -> dict[str, object]:
    return {name: _plain(value) for name, value in thing.items() if name not in PASSING and "@" not in name}


def _plain(value: object) -> object:
    """Without what a service writes around a value: notes with an @ in their name, and links."""
    if isinstance(value, dict):
        return {k: _plain(v) for k, v in value.items() if "@" not in k and k not in PASSING}
    return [_plain(v) for v in value] if isinstance(value, list) else value
