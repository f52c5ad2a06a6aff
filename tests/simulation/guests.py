"""A quorum of hosts, and a system of one node that is a guest of
one of them: what becomes of it when its host is emptied."""

from __future__ import annotations

from dataclasses import dataclass, field

from gallant.core.catalog.products import Product
from gallant.core.estate.systems import System
from gallant.core.readings import Guest, Reading
from gallant.core.records import replace
from gallant.core.work.knows import Knows
from gallant.standin.cluster import DRAIN_S, Member
from gallant.standin.shoal import PairTask

from .night import SimDriver, images_of, make_product
from .shapes import ClusterDriver, ClusterNight, SimCluster

ANEW_S = 150.0  # until a guest is up again that is started elsewhere; less than what is planned for it


class Hosts(SimCluster):
    """Hosts that do with their guests as `does` says."""

    does = "move"

    def _drain(self, member: Member) -> PairTask:
        mine = [guest for guest in member.guests if guest in self.carried]
        task = super()._drain(member)
        for guest in mine if self.does == "restart" and not self.tied else ():
            self.carried[guest].halt("a")
            self.world.after(ANEW_S, lambda g=guest: self.carried[g].start("a"))  # type: ignore[misc]
        if self.does == "stay":
            self._power_guests(member, False)
        return task

    def _refill(self, member: Member) -> PairTask:
        task = super()._refill(member)
        if self.does == "stay":
            self.world.after(DRAIN_S, lambda: self._power_guests(member, True))
        return task


class HostDriver(ClusterDriver):
    def knows(self) -> Knows:
        return replace(super().knows(), guests=self.night.does)


@dataclass
class GuestNight(ClusterNight):
    """`does` is what a host does with its guests when it is emptied; `tied`: this one cannot move."""

    does: str = "move"
    tied: str = ""
    running: dict[str, str] = field(default_factory=lambda: dict.fromkeys("abc", "2.11.3"))
    drains: bool = True

    def __post_init__(self) -> None:
        super().__post_init__()
        self.down: list[list[float]] = []  # each time that the guest was down: from when, until when
        hosts, guest = self.pairs["tickets"], self.pairs["guest"]
        hosts.does = self.does
        hosts.carried["guest"] = guest
        hosts.members["b"].guests.append("guest")
        if self.tied or self.does == "stay":
            hosts.tied["guest"] = self.tied or "its host moves none"
        guest.stopped["a"] = [lambda: self.down.append([self.world.now])]
        guest.started["a"] = [lambda: self.down[-1].append(self.world.now)]

    def more_systems(self) -> str:
        return (
            "  guest: {product: ostrel/guest, shape: single, site: harbour, driver: http, profile: ostrel-shoal,\n"
            '    nodes: {a: {address: "https://10.2.0.1", serial: G1, runs_on: tickets/b}}}\n'
        )

    def more_catalogs(self) -> dict[str, Product]:
        return {"ostrel/guest": make_product(self.versions, "ostrel/guest")}

    def _pair(self, system: System, running: dict[str, str]) -> SimCluster:
        if system.name == "guest":
            images = images_of(self.catalogs[system.product])
            return SimCluster(self.world, "guest", {"a": Member("a", "G1", "2.11.3")}, images)
        hosts = super()._pair(system, running)
        hosts.__class__ = Hosts
        return hosts

    def planned(self) -> list[System]:
        return [self.estate.systems["tickets"]]

    def can_drain(self, system: str) -> bool:
        return system == "tickets"

    def driver(self, system: str) -> SimDriver:
        return HostDriver(self, system) if system == "tickets" else ClusterDriver(self, system)

    def _reading(self, system: str, name: str) -> Reading:
        reading = super()._reading(system, name)
        if system == "guest":
            return reading
        hosts = self.pairs["tickets"]
        rows = tuple(
            Guest(name=g, state="runs" if hosts.runs(g) else "off", tied=self.tied if g == "guest" else "")
            for g in hosts.members[name].guests
        )
        return replace(reading, guests=rows)

    @property
    def down_s(self) -> float:
        """For how long the guest was down."""
        return sum(until - since for since, until in self.down)
