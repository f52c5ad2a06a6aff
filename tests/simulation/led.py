"""Systems that bring their own nodes to a release by one order, in a world without sockets."""

from __future__ import annotations

from dataclasses import dataclass

from .shapes import ClusterDriver, ClusterNight, tolerated

BY_GALLANT = {"install", "restart"}


class LedDriver(ClusterDriver):
    def capabilities(self):
        return (super().capabilities() - BY_GALLANT) | {"update_all", *self.night.steering}


@dataclass
class LedNight(ClusterNight):
    """`steering` is what the device knows besides the one order;
    `careful`: the judge has it take no more than its shape tolerates."""

    steering: tuple[str, ...] = ("pause", "go_on")
    careful: bool = True

    def driver(self, system):
        return LedDriver(self, system)

    def _pair(self, system, running):
        cluster = super()._pair(system, running)
        for name in cluster.members:
            cluster.stopped.setdefault(name, []).append(lambda n=name: self._down(cluster, n))
        return cluster

    def _down(self, cluster, name):
        out = [n for n, m in cluster.members.items() if not m.up]
        self.most_out = max(self.most_out, len(out))
        if self.careful and len(out) > tolerated(self.shape, len(cluster.members)):
            self.broken.append(f"I1: {out} are out at once")

    def judge(self, system, node, kind, release):
        """The one order for all, from the world's truth, at the moment in which it arrives."""
        if kind != "update_all":
            return
        cluster = self.pairs[system]
        for name, member in cluster.members.items():
            behind = member.version != release
            if behind and not any(b.versions[name] == member.version for b in self.backups):
                self.broken.append(f"I3: {release} on all nodes without a backup of {member.version} of {name}")
            if not member.up or cluster.sync(name)[0] != "level":
                self.broken.append(f"I2: {release} on all nodes while {name} is not whole")
        if any(task.state in ("busy", "pausing", "paused") for task in cluster.shared):
            self.broken.append("I5: the order was given while it was carried out already")
        if self.snapshots and not cluster.snapshots:
            self.broken.append("I3: an order without the restore point that the plan asks for")

    @property
    def ordered(self) -> list[str]:
        return [release for _, kind, release in self.acts if kind == "update_all"]
