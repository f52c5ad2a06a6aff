"""The promises I1 to I13 (docs/proof.md), judged from the world's truth at every act and at every entry of the journal.

Nothing here asks Gallant what it read or meant: what is out of service, what runs where,
what was recalled and what has a backup is the world's own. `tolerated` and the range of a
requirement are written once more, so that judge and judged share no reasoning.
"""

from __future__ import annotations

from datetime import timedelta

import msgspec

from gallant.core.windows.rules import Span
from gallant.core.work.plan import Hop, Plan
from gallant.engine.means import End

from .shapes import SimCluster, tolerated

CANARY = "pa55word-in-a-driver"
# estate seconds: what was recalled, or lost, later than so long
# before an order arrives could not be known when it was sent
LATE_S = 60.0
ON_ITS_WAY_S = 5.0  # estate seconds from the reading that lets an order be given to its arrival
BACKUP_AGE = timedelta(hours=24)


class Judged:
    """A night whose every act and entry is held against the promises. It stands before a `Night` among the bases."""

    made: Plan | None = None  # the plan that is carried out
    consents: tuple[str, ...] = ()
    recalled_at: dict[str, float]  # by version of tickets, in seconds of the world
    lost_at: dict[str, float]
    spans: tuple[Span, ...] | None = None  # when tickets may be disturbed; None: always
    in_time: bool = False  # nothing was drawn that could make a step take longer than it says
    meets = None  # what happens to devices besides (mishaps.py)
    lease_tolerance_s = 400.0  # a third of a lease, in estate time

    def prepare(self) -> None:
        self.own_doing: dict[
            str, float
        ] = {}  # by node of tickets, when it went or moved by itself, or by a person's hand
        self.recalled_at, self.lost_at, self._said = {}, {}, set()
        self.begin_out = {name: self._out(name) for name in self.pairs}
        self.started_as = {f"{s}/{n}": node.version for s, pair in self.pairs.items() for n, node in pair.nodes.items()}

    @property
    def _goes_back(self) -> bool:
        return self.made is not None and self.made.undoes is not None

    def breaks(self, promise: str, words: str) -> None:
        if (promise, words) not in self._said:
            self._said.add((promise, words))
            self.broken.append(f"{promise}: {words}")

    # --- after every event

    def happens(self, what: str, name: str, node: str = "") -> None:
        super().happens(what, name, node)
        if what == "append":
            self.look()

    def acted(self, system: str, node: str, kind: str, release: str, why: str = "") -> None:
        super().acted(system, node, kind, release, why)
        if kind == "restart" and self.meets is not None:
            self.meets.restarted(system, node)
        self.look()

    def look(self) -> None:
        """I1, wherever the world stands now."""
        self.now()
        for name, pair in self.pairs.items():
            own = {n for n in self.own_doing if self._by_itself(n)} if name in ("tickets", "hosts") else set()
            out = self._out(name) - self.begin_out[name] - own
            shape = self.estate.systems[name].shape
            if len(out) > tolerated(shape, len(pair.nodes)) and self.estate.systems[name].in_service:
                self.breaks("I1", f"{sorted(out)} of {name} are out at once")
        if self.in_time and not self._open() and self._disturbed():
            self.breaks("I8", "tickets is disturbed outside of its window")

    def _open(self) -> bool:
        # The clock on the wall: a window is a time of day, whoever sets it.
        # The world may be behind a process that has just begun.
        now = self.world.moment + self.clock.ahead
        return self.spans is None or any(span.begin <= now <= span.end for span in self.spans)

    def _disturbed(self) -> bool:
        pair = self.pairs["tickets"]
        return bool(self._out("tickets")) or pair.replica()[0] != "matched"

    def _out(self, system: str) -> set[str]:
        return {n for n, node in self.pairs[system].nodes.items() if not node.up or getattr(node, "drained", False)}

    # --- when an act arrives

    def _by_itself(self, node: str) -> bool:
        """Whether a node is out, or its system not whole, since it went by itself:
        until it is whole again, and as long as an order may be on its way."""
        pair, since = self.pairs["tickets"], self.own_doing.get(node)
        if since is None:
            return False
        return (
            not (self._out("tickets") == self.begin_out["tickets"] and self._whole(pair))
            or self.world.now - since < ON_ITS_WAY_S
        )

    @staticmethod
    def _whole(pair) -> bool:
        if isinstance(pair, SimCluster):
            return all(pair.sync(node)[0] == "level" for node in pair.members)
        return pair.replica()[0] == "matched"

    def judge(self, system: str, node: str, kind: str, release: str) -> None:
        before = len(self.broken)
        super().judge(system, node, kind, release)
        if system == "tickets" and any(self.world.now - since < ON_ITS_WAY_S for since in self.own_doing.values()):
            # Read whole, and gone in the moment in which the order was on its way.
            self.broken[before:] = [b for b in self.broken[before:] if not b.startswith(("I1", "I2"))]
        at_rest = self.spans is not None and not self._disturbed()
        if kind in ("restart", "handover", "failback") and at_rest and not self._open() and system == "tickets":
            self.breaks("I8", f"{kind} of {system}/{node} outside of its window")
        if kind in ("install", "restart"):
            self._recall(system, node, kind, release)
            self._again(system, node, kind, release)
        if kind == "update_all":  # on every node that does not run it yet
            for name, member in self.pairs[system].nodes.items():
                if member.version != release:
                    self._recall(system, name, "install", release)
                    self._backed_up(system, name)
            self._needs(system, release)
        if kind == "install":
            self._verified(system, node, release)
        if kind == "restart":
            self._backed_up(system, node)
            self._needs(system, release)
        self._ours(system, kind)

    def _recall(self, system: str, node: str, kind: str, release: str) -> None:
        mine = self.pairs[system].nodes[node]
        recalled = self.recalled_at.get(release) if system == "tickets" and not self._goes_back else None
        if (
            recalled is not None
            and kind == "install"
            and mine.version != release
            and self.world.now - recalled > LATE_S
        ):
            self.breaks("I4", f"{kind} of {release} on {system}/{node}, which was recalled")

    def _again(self, system: str, node: str, kind: str, release: str) -> None:
        """I5: what has taken effect is not done again, nor what is under way."""
        pair = self.pairs[system]
        mine = pair.nodes[node]
        task = mine.busy if isinstance(pair, SimCluster) else mine.busy_task
        if task is not None and task.what == kind:
            self.breaks("I5", f"{kind} of {system}/{node} while that is under way")
        has = {mine.next_version} if self._goes_back else {mine.version, mine.next_version}
        if kind == "install" and release in has:
            self.breaks("I5", f"{system}/{node} has {release} already, and it is installed again")
        waits = bool(getattr(mine, "next_parts", {}))
        if kind == "restart" and mine.version == mine.next_version and not waits:
            self.breaks("I5", f"{system}/{node} runs {mine.version} already, and is restarted again")

    def _verified(self, system: str, node: str, release: str) -> None:
        """I4: what is installed is what the catalog says, byte for byte."""
        product = self.catalogs[self.estate.systems[system].product]
        known = product.resolve(release)
        for name, (digest, _) in self.pairs[system].nodes[node].packages.items():
            for package in known.packages if known is not None else ():
                if package.name == name and package.sha256 != digest:
                    self.breaks("I4", f"{name} on {system}/{node} is not the catalog's when it is installed")

    def _backed_up(self, system: str, node: str) -> None:
        mine, now = self.pairs[system].nodes[node], self.clock.now()
        kept = [b for b in self.backups if b.system == system and b.versions[node] == mine.version]
        # One that was sealed and went stale while a step was on its way counts until a while after.
        if self.exports and not any(now - b.taken <= BACKUP_AGE + timedelta(hours=1) for b in kept):
            self.breaks("I3", f"restart of {system}/{node} without a young backup of {mine.version}")

    def _needs(self, system: str, release: str) -> None:
        """I9: nothing is begun before what it needs is finished."""
        hops = {hop.id: (lane.system, hop) for lane in self.made.lanes for hop in lane.hops} if self.made else {}
        for own, hop in hops.values():
            if own == system and hop.to == release and hop.image and not hop.lays:
                for need in (n for n in hop.needs if not hops[n][1].lays):
                    self._has(need, *hops[need])

    def _has(self, need: str, system: str, hop: Hop) -> None:
        product = self.catalogs[self.estate.systems[system].product]
        for name in hop.nodes or tuple(self.pairs[system].nodes):
            runs = self.pairs[system].nodes[name].version
            if hop.image and product.key(product.resolve(runs)) < product.key(product.resolve(hop.to)):
                self.breaks("I9", f"what needs {need} is begun, and {system}/{name} runs {runs}")

    def _ours(self, system: str, kind: str) -> None:
        lost = self.lost_at.get(system)
        if lost is not None and self.world.now - lost > self.lease_tolerance_s:
            self.breaks("I13", f"{kind} on {system} after its lease was lost")

    def judge_part(self, system: str, node: str, component: str, kind: str, release: str) -> None:
        super().judge_part(system, node, component, kind, release)
        self._ours(system, kind)
        pair = self.pairs[system]
        rewinds = len(pair.nodes) == 1 and bool(pair.snapshots)  # its restore point takes everything back at once
        if kind == "raise_format" and not rewinds and f"one-way:{system}" not in self.consents:
            self.breaks("I11", f"{component} of {system} is raised, and nobody has consented")

    # --- when a run has ended

    def ended(self, end: End) -> None:
        text = msgspec.json.encode([event.entry for event in self.events]).decode() + repr(end)
        if CANARY in text:
            self.breaks("I12", "what a driver let slip is in the journal")
        if end.state == "finished":
            self._finished(end)

    def _finished(self, end: End) -> None:
        for lane in self.made.lanes if self.made else ():
            pair, system = self.pairs[lane.system], self.estate.systems[lane.system]
            last = {}
            for hop in lane.hops:
                for node in hop.nodes or tuple(system.nodes):
                    last[node] = hop.to if hop.image else last.get(node, pair.nodes[node].version)
            for node, to in last.items():
                if pair.nodes[node].version != to:
                    self.breaks("I10", f"finished, and {lane.system}/{node} runs {pair.nodes[node].version}, not {to}")
            out = self._out(lane.system)
            if (
                out
                and system.in_service
                and not any(map(self._by_itself, out if lane.system in ("tickets", "hosts") else ()))
            ):
                self.breaks("I10", f"finished, and {sorted(out)} of {lane.system} are out")
            if pair.serving is None and system.in_service:
                self.breaks("I10", f"finished, and nobody serves of {lane.system}")
            self._usual(lane.system)
            now = {f"{lane.system}/{n}": self._reading(lane.system, n) for n in system.nodes}
            for name, reading in now.items():
                states = {f.name: f.state for f in self.bend(reading).facets}
                for facet in (f for f in self.before[name].facets if f.state == "synchronised" != states.get(f.name)):
                    if f"{name}: {facet.name}" not in end.message:
                        self.breaks("I10", f"finished, {facet.name} of {name} is lost, and that is not said")

    def _usual(self, system: str) -> None:
        if any(self.world.now - since < LATE_S for since in self.own_doing.values()):
            return  # somebody moved it after it was seen to be where it belongs
        for role, node in self.estate.systems[system].usual.items():
            if self._reading(system, node).role != role:
                self.breaks("I10", f"finished, and {system}/{node} is not {role}")
