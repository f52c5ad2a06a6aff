"""All machines of the Skerry Line on one world: what stands where, what lives on what, what runs at the first moment.

The first moment is an interesting one: behind, recalled, mixed, a leader that is not where
it usually is, a password that ends soon, a disk that is nearly full, a channel that is
switched off, a switch that runs unlike its startup, an update that waits for its restart.
"""

from __future__ import annotations

import hashlib
import socket
import ssl
from collections.abc import Callable, Mapping

from gallant.standin.certificates import self_signed
from gallant.standin.cluster import Cluster, Member, PartImage
from gallant.standin.cluster_http import ArchiveServer, HostServer, ManagerServer, MemberServer
from gallant.standin.command_line import CommandLineServer
from gallant.standin.debian_host import DebianHost, HostSetup, Offered
from gallant.standin.listening import Following
from gallant.standin.manifest import KISSGATE, MANIFEST
from gallant.standin.ports import reserve
from gallant.standin.publishers import body_of
from gallant.standin.quernix import Firmware, Server
from gallant.standin.quernix_redfish import RedfishServer
from gallant.standin.shoal import Image, ShoalNode, ShoalPair
from gallant.standin.stile_ssh import StileServer
from gallant.standin.weir_netconf import WeirServer
from gallant.standin.world import World

# product → versions that its devices know, oldest first: version, install s, restart s.
RELEASES: dict[str, tuple[tuple[str, float, float], ...]] = {
    "tarnholt/weir": (("61.2", 300, 240), ("61.5", 300, 240), ("62.1", 360, 300)),
    "sundholm/overlook": (("17.4", 600, 300), ("17.6", 600, 300)),
    "sundholm/berth": (("31.2", 480, 420), ("31.2.1", 480, 420), ("31.5", 480, 420)),
    "ostrel/ledge": (("4.8", 300, 180), ("5.1", 420, 180)),
    "gorsefield/stile": (("38.1b", 240, 180), ("38.1k", 240, 180), ("38.2", 300, 180)),
    "quernix/q4": (("2026.1", 180, 240), ("2026.3", 180, 240)),
    "quernix/q4-bios": (("0.46", 180, 240), ("0.51", 180, 240)),
    "quernix/q4-controller": (("3.1", 180, 240), ("3.2", 180, 240)),
    "quernix/n25": (("5.16", 180, 240), ("5.20", 180, 240)),
}
SERVER_PARTS = {
    "base_image": "2026.1",
    "bios": "0.46",
    "controller": "3.1",
    "card_1": "5.16",
    "card_2": "5.16",
    "shelf": "4.0",
}
DRIVES = 6
# Which of the publisher's products is for which components.
FIRMWARE = {
    "base_image": "quernix/q4",
    "bios": "quernix/q4-bios",
    "controller": "quernix/q4-controller",
    "card": "quernix/n25",
}


def images(product: str) -> dict[str, Image]:
    """What a device knows of its releases; a publisher's packages have the same bytes."""
    found = {}
    for version, install_s, restart_s in RELEASES[product]:
        body = body_of(product, version)
        build = str(int(hashlib.sha256(f"{product} {version}".encode()).hexdigest()[:6], 16) % 90000 + 10000)
        digest = hashlib.sha256(body).hexdigest()
        found[version] = Image(
            version=version, build=build, label="", sha256=digest, bytes=len(body), install_s=install_s,
            restart_s=restart_s, sync_s=120,
        )  # fmt: skip
    return found


def part_images(product: str, part: str, versions: tuple[str, ...], at_once: bool) -> dict[str, PartImage]:
    """What a part takes, by its digest; what it ran before too."""
    digests = {v: hashlib.sha256(body_of(product, v)).hexdigest() for v in versions}
    return {digest: PartImage(part=part, version=v, at_once=at_once) for v, digest in digests.items()}


class Line:
    """The whole line: servers to start, follow and stop, and what an estate file has to say of each node."""

    def __init__(self, world: World, accounts: Mapping[str, str], refresh: Callable[[], None], channel: str) -> None:
        """`channel` is the address of the channel of packages that the Linux hosts follow."""
        self.world, self.accounts, self.refresh, self.channel = world, accounts, refresh, channel
        self.servers: list[Following] = []
        self.said: dict[str, dict[str, str]] = {}
        self.kept: list[socket.socket] = []  # of the ports that are reserved
        self._hardware()
        self._hosts()
        self._manager()
        self._archive()
        self._switches()
        self._firewalls()
        self._linux()

    # --- places

    def _https(self, name: str, address: str, serial: str) -> tuple[ssl.SSLContext, int]:
        context, fingerprint, pem = self_signed(name.replace("/", "-"), address)
        keeper, port = reserve(address)
        self.kept.append(keeper)
        self.said[name] = {
            "address": f"https://{address}:{port}",
            "serial": serial,
            "fingerprint": fingerprint,
            "certificate": pem.decode(),
        }
        return context, port

    def _ssh_port(self, address: str) -> int:
        keeper, port = reserve(address)
        self.kept.append(keeper)
        return port

    def _ssh(self, name: str, address: str, port: int, serial: str, line: CommandLineServer) -> None:
        self.said[name] = {"address": f"ssh://{address}:{port}", "serial": serial, "fingerprint": line.fingerprint}

    # --- systems

    def _hardware(self) -> None:
        """deck-hw: a pool of five servers; c has another NIC firmware than the rest."""
        known = {
            i.sha256: Firmware(component=component, version=i.version, sha256=i.sha256)
            for component, product in FIRMWARE.items()
            for i in images(product).values()
        }
        self.machines: dict[str, Server] = {}
        for number, name in enumerate("abcde"):
            full, serial, address = f"deck-hw/{name}", f"Q4-77{number}1", f"127.0.60.{11 + number}"
            parts = (
                SERVER_PARTS
                | {f"drive_{n}": "3.7" for n in range(DRIVES)}
                | ({"card_2": "5.20"} if name == "c" else {})
            )
            server = self.machines[name] = Server(self.world, full, serial, parts, known)
            context, port = self._https(full, address, serial)
            self.servers.append(
                RedfishServer(server, address, port, context, self.accounts, self.refresh, old=name == "e")
            )

    def _members(self, kind: type[MemberServer], cluster: Cluster, network: str) -> None:
        for number, (name, member) in enumerate(cluster.members.items()):
            full, address = cluster.full(name), f"{network}.{11 + number}"
            context, port = self._https(full, address, member.serial)
            self.servers.append(kind(cluster, name, address, port, context, self.accounts, self.refresh))

    def _hosts(self) -> None:
        """deck: a quorum of five hosts on those servers; b is ahead of the rest, c leads though a usually does."""
        versions = {"b": "31.2.1"}
        members = {
            name: Member(name, f"BT-31{n}7", versions.get(name, "31.2"), guests=3 + n % 2)
            for n, name in enumerate("abcde")
        }
        self.deck = deck = Cluster(self.world, "deck", members, images("sundholm/berth"), leader="c", sync_s=60)
        deck.tied = {"guest-d-1": "pinned: it uses a card of its host"}
        for name, machine in self.machines.items():
            machine.stopped.append(lambda n=name: deck.power(n, False))  # type: ignore[misc]
            machine.started.append(lambda n=name: deck.power(n, True))  # type: ignore[misc]
        self._members(HostServer, deck, "127.0.61")

    def _manager(self) -> None:
        """overlook: a guest of deck/a, with its disk there; when its host stops, so does it."""
        member = Member("a", "OV-0021", "17.4")
        cluster = Cluster(self.world, "overlook", {"a": member}, images("sundholm/overlook"))
        self.deck.carried["overlook"] = cluster
        self.deck.members["a"].guests.append("overlook")
        self.deck.tied["overlook"] = "its own disk is on this host"
        self._members(ManagerServer, cluster, "127.0.62")

    def _archive(self) -> None:
        members = {name: Member(name, f"LD-08{n}", "4.8") for n, name in enumerate("abc")}
        cluster = Cluster(self.world, "tidegauge", members, images("ostrel/ledge"), leader="a", sync_s=300)
        cluster.part_images = part_images("ostrel/ledge-collector", "collector", ("4.1", "4.2"), at_once=True)
        cluster.formats = {"format": ("4", "5.1")}
        for member in members.values():
            member.parts = {"format": "3", "collector": "4.1"}
        self._members(ArchiveServer, cluster, "127.0.63")

    def _switches(self) -> None:
        """slipway: two switches, one of which runs unlike its startup."""
        members = {name: Member(name, f"WR-55{n}", "61.2") for n, name in enumerate("ab")}
        cluster = Cluster(self.world, "slipway", members, images("tarnholt/weir"), leader="a")
        cluster.part_images = part_images("tarnholt/uplink", "uplink-", ("4.2", "4.4"), at_once=False)
        for member in members.values():
            member.parts = {"uplink-1": "4.2", "uplink-2": "4.2"}
        for number, (name, member) in enumerate(members.items()):
            address = f"127.0.64.{11 + number}"
            port = self._ssh_port(address)
            server = WeirServer(cluster, name, address, port, self.accounts, self.refresh, saved=name != "b")
            self._ssh(f"slipway/{name}", address, port, member.serial, server.line)
            self.servers.append(server)

    def _firewalls(self) -> None:
        """sealock: two firewalls, whose uplinks are held down after a start."""
        nodes = {n: ShoalNode(n, f"ST-40{i}", "127.0.65.0/24", "38.1b") for i, n in enumerate("ab")}
        pair = ShoalPair(self.world, "sealock", nodes, images("gorsefield/stile"), active="a")
        pair.link_hold_s = 180.0
        for number, name in enumerate("ab"):
            address = f"127.0.65.{11 + number}"
            port = self._ssh_port(address)
            server = StileServer(
                pair, name, address, port, self.accounts, self.refresh, self.accounts.get("master", "")
            )
            self._ssh(f"sealock/{name}", address, port, nodes[name].serial, server.line)
            self.servers.append(server)

    def _linux(self) -> None:
        """gates waits for its restart; manifest has a package kept back, a changed conffile and a channel switched
        off."""
        base = {"line-base": "3.2-4", "line-login": "1:5.6-2+l3", "line-libs": "0.28-9"}
        kinds = (
            (
                "gates",
                "127.0.66.11",
                HostSetup(
                    packages=base | {"kissgate": "1.2-1", "kissgate-lanes": "3.0-1"},
                    offered=(
                        Offered(package="kissgate", version="1.2-1"),
                        Offered(package="kissgate", version="1.3-1"),
                    ),
                    services=("ssh", "cron", "kissgate"),
                    files={"/etc/kissgate/addons": "lanes 3.0\nscanner 2.2 needs lanes>=2.8\n"},
                    tools=KISSGATE,
                    waits=True,
                ),
            ),
            (
                "manifest",
                "127.0.66.12",
                HostSetup(
                    packages=base | {"manifest": "2.4-2", "manifest-tools": "1.1-1", "manifest-db": "0.9-3"},
                    offered=(
                        Offered(package="manifest-tools", version="1.1-1"),
                        Offered(package="manifest-tools", version="1.2-1"),
                        Offered(package="manifest", version="2.5-1"),
                    ),
                    services=("ssh", "cron", "manifest", "manifest-db"),
                    tools=MANIFEST,
                    files={"/srv/manifest/passengers": "17\n", "/state/schema": "2026-03\n", "/state/due": ""},
                    kept_back=("manifest-db",),
                    changed=("/etc/manifest.conf",),
                    disabled_channel="http://packages.skerry.invalid/manifest stable",
                ),
            ),
        )
        for name, address, setup in kinds:
            port, serial = self._ssh_port(address), hashlib.sha256(name.encode()).hexdigest()[:32]
            host = DebianHost(
                self.world, f"{name}/a", serial, setup, address, port, self.accounts, self.refresh, self.channel
            )
            self._ssh(f"{name}/a", address, port, serial, host.line)
            self.servers.append(host)
