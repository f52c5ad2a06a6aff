"""What becomes of what stands on a node that is taken away: by what its host does
with its guests where that is emptied first, and by which of them cannot move.

A guest that is a system of the estate is known by its system's name, or by its node's, in the list of its host; where
that lists it, it is where it is listed, else where the estate declares it.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence

from gallant.core.estate.stacks import Upper
from gallant.core.estate.systems import Estate, System, node_name
from gallant.core.readings import Guest, Reading
from gallant.core.records import Record
from gallant.core.steps.away import out_s
from gallant.core.steps.kinds import KINDS
from gallant.core.steps.minutes import RESTART_MINUTES
from gallant.core.work.knows import ELSEWHERE, MOVE, STAY, Knows
from gallant.core.work.plan import Down, Hop, NodesFate

# For how long a guest is down that is started anew elsewhere, in seconds: nobody says what runs in it.
ANEW_S = RESTART_MINUTES * 60

Readings = Mapping[str, Mapping[str, Reading]]  # by system, and by its nodes' own names


class Carrying(Record):
    """A system with its nodes, what stands on it, and what is known of
    both: `readings` and `knows` are of it and of every system above."""

    estate: Estate
    readings: Readings
    knows: Mapping[str, Knows]

    def on(self, name: str) -> tuple[str, ...]:
        """The nodes that live directly on a node."""
        system, _, node = name.partition("/")
        below = self.estate.systems[system]
        return tuple(
            node_name(other, guest)
            for at in below.nodes
            for other, guest in self.estate.upper_nodes.get(node_name(below, at), ())
            if (self._listed_on(below, other, guest) or at) == node
        )

    def serves(self, name: str) -> bool:
        """Whether a system is in service."""
        return self.estate.systems[name.partition("/")[0]].in_service

    def _listed_on(self, below: System, system: System, node: str) -> str | None:
        read = self.readings.get(below.name, {})
        return next((at for at, r in read.items() if any(is_it(g, system, node) for g in r.guests or ())), None)

    def carried(self, system: System) -> dict[str, dict[str, str]]:
        """By system whose nodes live directly on this one's, one on each: its nodes by those below them."""
        pairs: dict[str, list[tuple[str, str]]] = {}
        for node in system.nodes:
            for name in filter(self.serves, self.on(node_name(system, node))):
                other, _, guest = name.partition("/")
                pairs.setdefault(other, []).append((node, guest))
        return {name: dict(on) for name, on in pairs.items() if len({below for below, _ in on}) == len(on)}

    def empties(self, system: str) -> bool:
        """Whether a system empties its nodes before they go down."""
        return "drain" in self.knows[system].capabilities

    def becomes(self, name: str) -> str:
        """What becomes of a node when the one below it is emptied: one of `GUESTS`."""
        other, _, node = name.partition("/")
        system = self.estate.systems[other]
        below, _, _ = (system.nodes[node].runs_on or "").partition("/")
        rows = (g for r in self.readings.get(below, {}).values() for g in r.guests or ())
        tied = any(g.tied and is_it(g, system, node) for g in rows)
        return STAY if tied or below not in self.knows else self.knows[below].guests

    def fate(self, name: str) -> NodesFate:
        """What becomes of all that stands on a node that is emptied."""
        stay, anew = (
            [n for first in self.on(name) if self.becomes(first) == word for n in (first, *self.above(first))]
            for word in (STAY, ELSEWHERE)
        )
        return NodesFate(
            down=tuple(dict.fromkeys(filter(self.serves, stay))), anew=dict.fromkeys(filter(self.serves, anew), ANEW_S)
        )

    def above(self, name: str, emptied: Callable[[str], bool] = lambda name: False) -> tuple[str, ...]:
        """Every node in service that goes down with this one, the nearest first. What is emptied first takes nothing
        with it: what becomes of that was decided then."""
        found: dict[str, None] = {}
        waiting = [name]
        while waiting:
            for here in self.on(waiting.pop(0)):
                if here not in found:
                    found[here] = None
                    waiting += [] if emptied(here) else [here]
        return tuple(filter(self.serves, found))

    def falling(self, system: System) -> dict[str, dict[str, str]]:
        """As `carried`, of what is down for a while when its node's turn comes: all
        of it where the nodes cannot be emptied, else what does not move."""
        every = self.carried(system)
        if not self.empties(system.name):
            return every
        kept = {
            name: {at: node for at, node in on.items() if self.becomes(f"{name}/{node}") != MOVE}
            for name, on in every.items()
        }
        return {name: on for name, on in kept.items() if on}

    def stacked(
        self, system: System, uppers: Sequence[Upper]
    ) -> tuple[dict[str, tuple[str, ...]], dict[str, NodesFate]]:
        """What goes down with each of a system's nodes where nothing empties that first; and, by the name of each node
        that is emptied in its turn, what becomes of what stands on it."""
        first = {f"{upper.system.name}/{node}" for upper in uppers if upper.drains for node in upper.on.values()}
        own = [node_name(system, node) for node in system.nodes]
        return (
            {node: self.above(name, first.__contains__) for node, name in zip(system.nodes, own, strict=True)},
            {name: self.fate(name) for name in (*(own if self.empties(system.name) else ()), *sorted(first))},
        )


def is_it(guest: Guest, system: System, node: str) -> bool:
    """Whether a host's guest is this node of the estate."""
    whole = system.name if len(system.nodes) == 1 else ""
    return guest.name in (whole, f"{system.name}/{node}", f"{system.name}-{node}")


def downs(carrying: Carrying, hops: Sequence[Hop]) -> Iterator[Down]:
    """The guests that are down by the work, of every node that is emptied
    in its turn, whether they are systems of the estate or not."""
    found: dict[tuple[str, str], Down] = {}
    for track in (track for hop in hops for wave in hop.waves for track in wave.tracks):
        for step in (step for step in track.steps if KINDS[step.kind].sets_aside):
            reading, does = carrying.readings[step.system].get(step.node), carrying.knows[step.system].guests
            for guest in (reading.guests or ()) if reading is not None else ():
                if not guest.runs or (does == MOVE and not guest.tied):
                    continue
                stays = bool(guest.tied) or does == STAY
                lasts = out_s(track.steps, step.subject) if stays else ANEW_S
                before = found.get((step.subject, guest.name))
                found[step.subject, guest.name] = Down(
                    node=step.subject,
                    guest=guest.name,
                    why=guest.tied,
                    elsewhere=not stays,
                    down_s=lasts + (before.down_s if before is not None else 0.0),
                )
    return iter(found.values())
