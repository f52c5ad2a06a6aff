"""Simulated nights of clusters: every shape of several nodes, its promises asserted from the world's own truth.

`tolerated` shares no code with the table that it judges: docs/rolling.md, table 1, written once more.
"""

from __future__ import annotations

import hashlib
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from datetime import timedelta
from types import SimpleNamespace

from gallant.core.catalog.products import Minutes, Package, Product, Release, Requirement
from gallant.core.estate.systems import System
from gallant.core.plan.ground import PartGoal
from gallant.core.plan.planning import make_plan
from gallant.core.plan.returning import with_ways_back
from gallant.core.ports import DeviceRefused
from gallant.core.readings import AtHand, Component, Gauge, PackagePresent, Reading
from gallant.core.records import replace
from gallant.core.versions import parse, parse_range
from gallant.core.work.knows import Knows
from gallant.core.work.plan import Plan
from gallant.standin.cluster import Cluster, Member, PartImage
from gallant.standin.shoal import Denied, PairTask

from .night import BEGAN, HEAD, Night, SimDriver, body, images_of, jobs_of, make_product

ORDERS = {"install": "install", "restart": "restart", "handover": "hand-over", "failback": "lead", "drain": "drain"}
ORDERS |= {"update_all": "update-all", "pause": "pause", "go_on": "go-on", "cancel": "give-up"}
ORDERS |= {"refill": "refill", "install_part": "install-part", "raise_format": "raise"}
KINDS = {order: kind for kind, order in ORDERS.items()} | {"install-part": "install"}
LETTERS = "abcdefghijkl"


def tolerated(shape: str, nodes: int) -> int:
    """How many of so many nodes may be out because of Gallant; one where there is nothing else, with consent."""
    most = {"single": 0, "pair": 1, "fabric": 1, "quorum": (nodes - 1) // 2, "pool": nodes - 1}[shape]
    return max(1, min(most, nodes))


def estate_text(shape: str, nodes: int, more: str = "", domains: dict[str, str] | None = None, limits: str = "") -> str:
    rows = "".join(
        f'      {n}: {{address: "https://10.1.0.{at}", serial: S{n}{f", domain: {domains[n]}" if domains else ""}}}\n'
        for at, n in enumerate(LETTERS[:nodes], 1)
    )
    return f"""{HEAD.replace("steady_s: 60", f"steady_s: 60{limits}")}
  tickets:
    product: ostrel/shoal
    shape: {shape}
    site: harbour
    driver: http
    profile: ostrel-shoal
    nodes:
{rows}{more}"""


class SimCluster(Cluster):
    """A cluster that answers as the night asks a pair; restore points are of the whole of it."""

    comes_back_by_itself = True  # a member that was set aside is in service again after its restart

    def __post_init__(self) -> None: ...

    @property
    def nodes(self) -> dict[str, Member]:
        return self.members

    @property
    def serving(self) -> str | None:
        return next((n for n, m in self.members.items() if m.up and not m.drained), None)

    def snapshot(self, name: str) -> None:  # type: ignore[override]
        kept = {n: (m.version, dict(m.parts)) for n, m in self.members.items()}
        self.snapshots.append(SimpleNamespace(name=name, kept=kept))  # type: ignore[arg-type]

    def revert(self, name: str) -> None:  # type: ignore[override]
        """Every member goes down, and comes back as it was then."""
        found = next(s for s in self.snapshots if s.name == name)
        for member, (version, parts) in found.kept.items():  # type: ignore[attr-defined]
            own = self.members[member]
            self.halt(member)
            own.version, own.next_version, own.parts, own.next_parts = version, version, dict(parts), {}
            self.world.after(60.0, lambda m=member: self.start(m))  # type: ignore[misc]

    def forget_snapshot(self, name: str) -> None:
        self.snapshots = [s for s in self.snapshots if s.name != name]

    def _back(self, member: Member, task: PairTask) -> None:
        if self.comes_back_by_itself:
            member.drained = False
        super()._back(member, task)


@dataclass(frozen=True)
class Extra:
    """A component besides the image: it goes from 1.0 to 2.0.
    `needs` another to be at its 2.0 (or the image at a release)."""

    kind: str
    restart: str = "node"
    needs: tuple[str, str] | None = None


def product_of(name: str, extra: Extra) -> Product:
    needs = (
        () if extra.needs is None else (Requirement(product=extra.needs[0], range=f"vers:dotted/>={extra.needs[1]}"),)
    )
    one_way = extra.kind == "on-disk format"
    new = Release(
        version="2.0",
        released=BEGAN - timedelta(days=30),
        restart=extra.restart,
        requires=needs,
        minutes=Minutes(install=2, restart=3, sync=0),
        one_way=one_way,
        one_way_because="Older nodes cannot join." if one_way else None,
        packages=(_package(name, "2.0"),),
    )
    old = replace(new, version="1.0", requires=(), one_way=False, packages=(_package(name, "1.0"),))
    return Product(name=f"ostrel/{name}", scheme="dotted", releases=(old, new))


def _package(name: str, version: str) -> Package:
    digest = hashlib.sha256(body(f"{name} {version}")).hexdigest()
    return Package(name=f"{name}.pkg", url="x", bytes=1, sha256=digest)


class ClusterDriver(SimDriver):
    orders = ORDERS
    kinds = KINDS

    def knows(self) -> Knows:
        return replace(super().knows(), parts=tuple(self.night.extras), fetches=self.night.fetched)

    def _do(self, node: str, act) -> str | None:
        if act.component == "image":
            return super()._do(node, act)
        cluster = self.night.pairs[self.system]
        self.night.judge_part(self.system, node, act.component, act.kind, act.release)
        cluster.keep(node, f"{act.component}.pkg", body(f"{act.component} {act.release}"))
        order, what = (
            ("raise", act.component) if act.kind == "raise_format" else ("install-part", f"{act.component}.pkg")
        )
        try:
            return str(cluster.order(node, order, what).number)
        except Denied as denied:
            raise DeviceRefused(f"{self.system}/{node} refuses: {denied.message}", meaning="refused") from None

    def capabilities(self) -> frozenset[str]:
        more = {"drain", "refill"} if self.night.can_drain(self.system) else set()
        return super().capabilities() | more


@dataclass
class ClusterNight(Night):
    """`nodes` and what each runs; `out` are those that are out of service when the night begins; `load` is what each
    carries, in percent (None: it does not tell)."""

    shape: str = "quorum"
    running: dict[str, str] = field(default_factory=lambda: dict.fromkeys("abc", "2.8.5"))
    aside: tuple[str, ...] = ()
    leader: str | None = "a"
    drains: bool = False
    load: float | None = None
    usual: bool = True
    domains: dict[str, str] | None = None
    limits: str = ""
    extras: dict[str, Extra] = field(default_factory=dict)
    ahead: tuple[tuple[str, str], ...] = ()  # (node, component) that are at their 2.0 already
    fetched: tuple[str, ...] = ()  # components whose packages the nodes bring by themselves
    gone: frozenset[tuple[str, str]] = frozenset()  # (node, component) of which nobody has the 1.0 any more

    def more_systems(self) -> str:
        return ""

    def __post_init__(self) -> None:
        leads = self.leader is not None and self.shape in ("quorum", "fabric")
        usual = "    usual: {leader: a}\n" if self.usual and leads else ""
        services = '    services: {blocks: {address: "10.1.1.1:860"}}\n'
        self.estate_text = estate_text(self.shape, len(self.running), usual + services, self.domains, self.limits)
        self.estate_text += self.more_systems()
        super().__post_init__()
        self.catalogs |= {f"ostrel/{name}": product_of(name, extra) for name, extra in self.extras.items()}
        self.most_out = 0

    def plan(self) -> Plan:
        goals = tuple(PartGoal(component=name, target="2.0") for name in self.extras)
        ground = replace(self.ground(), parts={"tickets": goals})
        return with_ways_back(make_plan(ground, self.planned(), {"ostrel-shoal": "p"}, by="tester"), ground)

    def _pair(self, system: System, running: dict[str, str]) -> SimCluster:
        images = images_of(self.catalogs[system.product])
        members = {n: Member(n, system.nodes[n].serial, v, 2 if self.drains else 0) for n, v in running.items()}
        for name in self.aside:
            members[name].drained = True
            members[name].guests = []
        cluster = SimCluster(self.world, system.name, members, images, self.leader, sync_s=120)
        for name, extra in self.extras.items():
            for node, member in members.items():
                member.parts[name] = "2.0" if (node, name) in self.ahead else "1.0"
            if extra.kind == "on-disk format":
                cluster.formats[name] = ("2.0", "3.2.4")
            for version in ("1.0", "2.0"):
                digest = hashlib.sha256(body(f"{name} {version}")).hexdigest()
                cluster.part_images[digest] = PartImage(part=name, version=version, at_once=extra.restart != "node")
        cluster.comes_back_by_itself = not self.drains
        return cluster

    def driver(self, system: str) -> SimDriver:
        return ClusterDriver(self, system)

    def can_drain(self, system: str) -> bool:
        return self.drains

    def _reading(self, system: str, name: str) -> Reading:
        cluster = self.pairs[system]
        member = cluster.members[name]
        word, left = cluster.sync(name)
        product = self.estate.systems[system].product
        role = {"leading": "leader", "following": "member", "alone": "alone"}[cluster.role(name)]
        return Reading(
            system=system,
            node=name,
            taken=self.world.moment,
            serial=member.serial,
            product=product,
            version=member.version,
            boot=member.boot,
            role="member" if system == "tickets" and self.leader is None and role == "leader" else role,
            state="out_of_service" if member.drained else "in_service",
            next_version=member.next_version,
            in_sync=word == "level",
            sync_word=word,
            sync_remaining_s=left,
            components=(
                Component(name="image", kind="system image", product=product, version=member.version),
                *(
                    Component(
                        name=part,
                        kind=self.extras[part].kind,
                        product=f"ostrel/{part}",
                        version=version,
                        next_version=member.next_parts.get(part),
                    )
                    for part, version in member.parts.items()
                ),
            ),
            packages=tuple(PackagePresent(name=n, sha256=d, bytes=s) for n, (d, s) in member.packages.items()),
            at_hand=tuple(self._at_hand(name, member.parts)) if self.fetched else None,
            not_at_hand=tuple(p for p in self.fetched if member.parts.get(p) == "1.0" and (name, p) in self.gone),
            gauges=() if self.load is None else (Gauge(name="load", value=self.load, unit="%"),),
            jobs=jobs_of(member.tasks_with(cluster.shared), self.world.now, KINDS),
        )

    def _at_hand(self, node: str, parts: Mapping[str, str]) -> Iterator[AtHand]:
        """The other versions that a node could be given."""
        for part in self.fetched:
            if part in parts and not (parts[part] == "2.0" and (node, part) in self.gone):
                yield AtHand(name=part, version="1.0" if parts[part] == "2.0" else "2.0")

    def judge(self, system: str, node: str, kind: str, release: str) -> None:
        cluster, name = self.pairs[system], f"{system}/{node}"
        mine = cluster.members[node]
        busy = {n for n, m in cluster.members.items() if (t := m.busy) is not None and t.what in ("restart", "drain")}
        away = {n for n, m in cluster.members.items() if not m.up or m.drained} | busy
        behind = {n for n in cluster.members if cluster.sync(n)[0] != "level"}
        if kind in ("restart", "drain") and node not in away:
            out = away | {node}
            self.most_out = max(self.most_out, len(out))
            if len(out) > tolerated(self.shape, len(cluster.members)):
                self.broken.append(f"I1: {kind} of {name} while {sorted(out)} are out")
            if self.shape != "pool" and (away | behind) - {node}:
                self.broken.append(f"I2: {kind} of {name} while {sorted(away | behind)} are not whole")
            if self.domains and len({self.domains[n] for n in out}) > 1:
                self.broken.append(f"domains: {sorted(out)} are out at once")
            if self.load is not None and self.load * len(cluster.members) / (len(cluster.members) - len(out)) > 80:
                self.broken.append(f"capacity: {sorted(out)} are out at once")
        leads = self.shape in ("quorum", "fabric") and self.leader is not None and cluster.leader == node
        if kind == "restart" and leads and len(cluster.members) > 1:
            self.broken.append(f"I1: restart of {name}, which leads")
        if kind == "restart" and not any(b.versions[node] == mine.version for b in self.backups):
            self.broken.append(f"I3: restart of {name} without a backup of {mine.version}")
        if kind in ("install", "restart") and self.snapshots and not cluster.snapshots:
            self.broken.append(f"I3: {kind} of {name} without the restore point that the plan asks for")

        if kind == "restart" and system == "tickets":
            self._image_needs(node, release, {**mine.parts, **mine.next_parts})
            if mine.version != release:  # what is broken already may stay so until this restart
                self._image_needs(node, release, mine.parts)

    def _image_needs(self, node: str, version: str, parts: Mapping[str, str]) -> None:
        """What an image asks of the node's own components, next to which it would run."""
        entered = self.catalogs[self.estate.systems["tickets"].product].resolve(version)
        for needed in entered.requires if entered is not None else ():
            runs = parts.get(needed.product.removeprefix("ostrel/"))
            if runs is not None and parse("dotted", runs) not in parse_range(needed.range):
                self.broken.append(f"I7: tickets/{node} runs {version}, and {needed.product} {runs}")

    def judge_part(self, system: str, node: str, component: str, kind: str, release: str) -> None:
        """What a component's order could break: its requirement or one
        of it, the backup before it, the readers of a format."""
        cluster, extra = self.pairs[system], self.extras[component]
        mine = cluster.members[node]
        if release == "1.0":
            need_it = [n for n, e in self.extras.items() if e.needs == (f"ostrel/{component}", "2.0")]
            at = {n: mine.parts[n] for n in need_it if (extra.restart == "none" or self.extras[n].restart != "node")}
            if "2.0" in at.values():
                self.broken.append(f"I7: {component} on {node} goes back, and {at} need it")
        elif extra.needs is not None:
            product, least = extra.needs
            part = product.removeprefix("ostrel/")
            running = {m.version for m in cluster.members.values()} if part == "shoal" else {mine.parts[part]}
            if any(parse("dotted", v) < parse("dotted", least) for v in running):
                self.broken.append(f"I7: {component} on {node}, and {part} runs {running}")
        if extra.restart != "node":  # it runs at once, next to the image that does
            self._image_needs(node, mine.version, {**mine.parts, component: release})
        if not any(b.versions[node] == mine.version for b in self.backups):
            self.broken.append(f"I3: {component} on {node} without a backup of {mine.version}")
        if any(m.busy is not None and m is not mine for m in cluster.members.values()) and self.shape != "pool":
            self.broken.append(f"I13: {component} on {node} while another job runs")
        leads = self.shape in ("quorum", "fabric") and cluster.leader == node
        if extra.restart == "service" and leads and len(cluster.members) > 1:
            self.broken.append(f"I1: {component} on {node}, which leads")

    def restarts(self, node: str) -> int:
        return sum(kind == "restart" and at == node for at, kind, _ in self.acts)

    def end_state(self, system: str = "tickets") -> dict[str, tuple[str, str]]:
        cluster = self.pairs[system]
        return {n: (m.version, cluster.role(n)) for n, m in cluster.members.items()}

    def whole(self) -> list[str]:
        """What is not as it should be at the end, besides what was broken on the way."""
        cluster = self.pairs["tickets"]
        said = self.all_well()
        said += [f"{n} runs {m.version}" for n, m in cluster.members.items() if m.version != "3.2.4"]
        said += [f"{n} is out of service" for n, m in cluster.members.items() if not m.up or m.drained]
        said += [
            f"{n} runs {part} {version}"
            for n, m in cluster.members.items()
            for part, version in m.parts.items()
            if version != "2.0"
        ]
        if self.usual and self.leader is not None and self.shape in ("quorum", "fabric") and cluster.leader != "a":
            said.append(f"{cluster.leader} leads")
        return said


@dataclass
class StackedNight(ClusterNight):
    """Machines (`tickets`, a pool) and a quorum of hosts on them, one on each. When a machine goes down, so does its
    host; that starts a minute after it. `lead` leads the hosts; both are planned where `both` is set."""

    shape: str = "pool"
    leader: str | None = None
    running: dict[str, str] = field(default_factory=lambda: dict.fromkeys("abc", "2.11.3"))
    hosts: dict[str, str] = field(default_factory=lambda: dict.fromkeys("abc", "2.11.3"))
    lead: str = "b"
    both: bool = False
    hosts_drain: bool = True
    hosts_shape: str = "quorum"

    def __post_init__(self) -> None:
        super().__post_init__()
        machines, hosts = self.pairs["tickets"], self.pairs["hosts"]
        for name in self.hosts:
            machines.stopped.setdefault(name, []).append(lambda n=name: self._below(hosts, n, False))
            machines.started.setdefault(name, []).append(lambda n=name: self._below(hosts, n, True))

    def more_systems(self) -> str:
        rows = "".join(
            f'      {n}: {{address: "https://10.2.0.{at}", serial: H{n}, runs_on: tickets/{n}}}\n'
            for at, n in enumerate(self.hosts, 1)
        )
        head = f"  hosts: {{product: ostrel/hosts, shape: {self.hosts_shape}, site: harbour, driver: http, profile: ostrel-shoal,\n"
        return f"{head}    nodes: {{\n{rows.replace(chr(10), ',' + chr(10))}    }}}}\n"

    def _below(self, hosts: SimCluster, name: str, powered: bool) -> None:
        member = hosts.members[name]
        member.powered = powered
        if powered:
            self.world.after(60.0, lambda: hosts.start(name))
            return
        if self.hosts_drain and not member.drained:
            self.broken.append(f"hosts/{name} went down with its machine, and carried")
        kept = [b for b in self.backups if b.system == "hosts" and b.versions[name] == member.version]
        if member.next_version != member.version and not kept:
            self.broken.append(f"I3: hosts/{name} enters {member.next_version} without a backup of {member.version}")
        if hosts.leader == name and len(hosts.members) > 1:
            self.broken.append(f"I1: hosts/{name} went down with its machine, and led")
        hosts.halt(name)
        out = sorted(n for n, m in hosts.members.items() if not m.up or m.drained)
        if len(out) > tolerated(self.hosts_shape, len(hosts.members)):
            self.broken.append(f"I1: {out} of the hosts are out at once")

    def more_catalogs(self) -> dict[str, Product]:
        return {"ostrel/hosts": make_product(self.versions, "ostrel/hosts")}

    def planned(self) -> list[System]:
        return [s for s in self.estate.systems.values() if self.both or s.name == "tickets"]

    def can_drain(self, system: str) -> bool:
        return system == "hosts" and self.hosts_drain

    def _pair(self, system: System, running: dict[str, str]) -> SimCluster:
        if system.name == "tickets":
            return super()._pair(system, running)
        cluster = super()._pair(system, self.hosts)
        cluster.leader = self.lead if len(self.hosts) > 1 else None
        cluster.comes_back_by_itself = False
        return cluster

    def judge(self, system: str, node: str, kind: str, release: str) -> None:
        if system == "tickets":
            super().judge(system, node, kind, release)
        elif kind == "restart" and self.pairs["tickets"].members[node].busy is not None:
            self.broken.append(f"I1: hosts/{node} is restarted while its machine is worked on")
