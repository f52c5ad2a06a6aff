"""What happens to devices, and to the network before them, while nobody
of Gallant does anything: drawn by the minute, each for a while.

What a device or a person does by itself is noted in `own_doing`, so that the judge blames nobody else for it.
"""

from __future__ import annotations

import random
from dataclasses import dataclass

from gallant.core.ports import NotReached, WrongMachine
from gallant.core.readings import Reading
from gallant.core.records import replace

from .night import Night
from .shapes import SimCluster

REBOOT_S = 90.0  # for which a node is away that starts by itself
WHEN_S = 9000.0  # within so many seconds from the beginning it happens


@dataclass(frozen=True)
class Mishaps:
    """`away`: a node does not answer from a moment on for so long (empty: none of them). `moved`: another
    machine answers at its address. `stale_s`: after a start a node tells for so long what it ran before.
    `clock_s`: by how much the devices' clocks are off. `renamed`: the last release is told by its label.
    `second_start`: so long after a restart the node starts once more. `person`: when somebody at a
    console restarts a node, or moves the lead. `repaired`: whoever mends what stopped a roll also starts
    the node on what it was to run. `halts`: where the process stands still, and for how long."""

    away: tuple[tuple[str, float, float], ...] = ()
    moved: tuple[tuple[str, float, float], ...] = ()
    stale_s: float = 0.0
    clock_s: float = 0.0
    renamed: bool = False
    second_start: float | None = None
    person: tuple[tuple[str, str, float], ...] = ()
    repaired: bool = False
    halts: tuple[tuple[str, int, float], ...] = ()

    @property
    def timed(self) -> bool:
        """Whether any of it happens at a moment, and not at an order: a
        roll that is killed meets it elsewhere than one left alone."""
        return bool(self.away or self.moved or self.person or self.halts or self.second_start)


def mishaps_of(seed: int, names: str, family: str) -> Mishaps:
    """Those of a seed, drawn apart from the rest of its night; a third
    of all nights has none, and is killed and left alone (I6)."""
    if seed % 3 == 0:
        return Mishaps()
    dice = random.Random(f"mishaps {seed}")

    def stretch() -> tuple[str, float, float]:
        node = dice.choice((*names, ""))
        return (
            node,
            round(dice.uniform(0, WHEN_S), 1),
            round(dice.choice((60.0, 600.0, 7200.0)) * dice.uniform(0.5, 1), 1),
        )

    moments = ("after append", "before act", "after act")
    return Mishaps(
        away=(stretch(),) if dice.random() < 0.12 else (),
        moved=((dice.choice(names), *stretch()[1:]),) if dice.random() < 0.05 else (),
        stale_s=dice.choice((5.0, 15.0)) if dice.random() < 0.15 else 0.0,
        clock_s=dice.choice((-900.0, -120.0, 300.0)) if dice.random() < 0.15 else 0.0,
        renamed=dice.random() < 0.12,
        second_start=round(dice.uniform(5, 400), 1) if dice.random() < 0.08 and family != "led" else None,
        person=tuple(
            (dice.choice(("restart", "lead")), dice.choice(names), round(dice.uniform(0, WHEN_S), 1))
            for _ in range(1 if dice.random() < 0.1 else 0)
        ),
        repaired=dice.random() < 0.3,
        halts=tuple((dice.choice(moments), dice.randint(1, 120), round(dice.uniform(20, 20000), 1)) for _ in range(1 if dice.random() < 0.15 else 0)),
    )  # fmt: skip


class Meets:
    """What a night meets of it: asked at every read and act, and of every reading."""

    def __init__(self, night: Night, mishaps: Mishaps) -> None:
        self.night, self.mishaps = night, mishaps
        # By node the number of its start, what it ran before that and runs since, and when it started.
        self.newest: dict[str, tuple[int, str, str, float]] = {}
        night.world.on_change.append(self._changed)
        self._changed()
        night.halts |= {(when, n): seconds for when, n, seconds in mishaps.halts}
        for what, node, at in mishaps.person:
            night.world.after(at, lambda w=what, n=node: self.person(w, n))  # type: ignore[misc]

    def lost(self, what: str, system: str, node: str) -> None:
        """Raise what a read, or an act, meets now instead of the node."""
        if what not in ("read", "act") or system != "tickets":
            return
        now = self.night.world.now
        for name, since, lasts in self.mishaps.away:
            if name in ("", node) and since <= now < since + lasts:
                raise NotReached(f"{system}/{node} cannot be reached.")
        for name, since, lasts in self.mishaps.moved:
            if name == node and since <= now < since + lasts:
                raise WrongMachine(f"{system}/{node}: another machine answers at its address.", serial="OTHER")

    def _changed(self) -> None:
        for system, pair in self.night.pairs.items():
            for name, node in pair.nodes.items():
                known = self.newest.get(f"{system}/{name}", (node.boots, node.version, node.version, -1e9))
                if known[0] != node.boots:
                    known = (node.boots, known[2], node.version, self.night.world.now)
                self.newest[f"{system}/{name}"] = known

    def told(self, reading: Reading) -> Reading:
        """What a node tells of itself instead of what is so."""
        said = self.mishaps
        _, before, _, since = self.newest[reading.name]
        version = before if self.night.world.now < since + said.stale_s else reading.version
        label = next((r.label for r in self.night.catalog.releases if r.version == version), None)
        return replace(
            reading,
            version=label if said.renamed and label is not None and version == self.night.catalog.releases[-1].version else version,
            clock_offset_s=said.clock_s or None,
            clock_uncertainty_s=1.0 if said.clock_s else None,
        )  # fmt: skip

    def restarted(self, system: str, node: str) -> None:
        """A node was told to restart: it may do so once more by itself, a while after it is back."""
        if self.mishaps.second_start is not None and system == "tickets":
            self.night.world.after(320.0 + self.mishaps.second_start, lambda: self.starts_anew(node))

    def person(self, what: str, node: str) -> None:
        pair = self.night.pairs["tickets"]
        if what == "restart":
            self.starts_anew(node)
        elif isinstance(pair, SimCluster) and pair.leader is not None and pair.members[node].up:
            self._own(node)
            pair.leader = node
        elif not isinstance(pair, SimCluster) and pair.replica()[0] == "matched" and pair.going_to is None:
            self._own(node)
            pair.active = node

    def starts_anew(self, name: str) -> None:
        """A node goes down and comes back, and nobody asked it to; what it would start it runs then."""
        pair = self.night.pairs["tickets"]
        node = pair.nodes[name]
        if not node.up or any(task.state == "busy" for task in node.tasks):
            return
        self._own(name)
        if isinstance(pair, SimCluster):
            pair.halt(name)
            self.night.world.after(REBOOT_S, lambda: pair.start(name))
            return
        node.up, node.down_since, pair.synced_at = False, self.night.world.now, None
        other = pair.other(name)
        if pair.active == name:
            pair.active = other.name if other is not None and other.up else None
        self.night.world.changed()

        def back() -> None:
            node.up, node.down_since, node.boots = True, None, node.boots + 1
            node.runs_from = node.boots_from
            pair.active = pair.active or name
            pair._resync(node)
            self.night.world.changed()

        self.night.world.after(REBOOT_S, back)

    def _own(self, node: str) -> None:
        self.night.own_doing[node] = self.night.world.now
