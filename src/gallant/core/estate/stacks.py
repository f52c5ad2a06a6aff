"""What stands on what: nodes that live on other nodes, and what goes down with the one below."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from gallant.core.estate.systems import Estate, System, node_name
from gallant.core.records import Record
from gallant.core.shapes import SHAPES, Standing


class Upper(Record):
    """A system in service whose nodes live on the nodes of another,
    one on each: `on` has them by the lower node's name.

    `laid` are its nodes that enter another release at their next start. `drains`: its driver can take a node out of
    service before that goes down, and back again; `repeat` is how its profile says that each order may be repeated.
    """

    system: System
    on: dict[str, str]
    standing: Standing
    drains: bool
    repeat: dict[str, str] = {}
    laid: frozenset[str] = frozenset()

    @property
    def lower(self) -> dict[str, str]:
        """The lower nodes by the names of those on them."""
        return {upper: lower for lower, upper in self.on.items()}


def nodes_above(estate: Estate, name: str) -> tuple[str, ...]:
    """Every node in service that lives on this one, or on one that does; the nearest first."""
    found: dict[str, None] = {}
    waiting = [name]
    while waiting:
        for other, node in estate.upper_nodes.get(waiting.pop(0), ()):
            if (here := node_name(other, node)) not in found:
                waiting.append(here)
                if other.in_service:
                    found[here] = None
    return tuple(found)


def systems_above(estate: Estate, system: System) -> tuple[str, ...]:
    """The systems in service that have a node above one of this system's."""
    names = (above for node in system.nodes for above in nodes_above(estate, node_name(system, node)))
    return tuple(dict.fromkeys(name.partition("/")[0] for name in names))


def carried(estate: Estate, system: System) -> dict[str, dict[str, str]]:
    """By system in service whose nodes live directly on this one's, one on each: its nodes by those below them."""
    pairs: dict[str, list[tuple[str, str]]] = {}
    for below in system.nodes:
        for other, node in estate.upper_nodes.get(node_name(system, below), ()):
            if other.in_service:
                pairs.setdefault(other.name, []).append((below, node))
    return {name: dict(on) for name, on in pairs.items() if len({below for below, _ in on}) == len(on)}


def falls(estate: Estate, names: Sequence[str]) -> tuple[str, ...]:
    """The systems of which nothing carries on while these nodes are away."""
    systems = dict.fromkeys(name.partition("/")[0] for name in names)
    return tuple(s for s in systems if not SHAPES[estate.systems[s].shape].tolerates(len(estate.systems[s].nodes)))


def by_system(names: Sequence[str]) -> Mapping[str, tuple[str, ...]]:
    """Node names, put together by their systems; the nodes by their own names."""
    found: dict[str, list[str]] = {}
    for name in names:
        system, _, node = name.partition("/")
        found.setdefault(system, []).append(node)
    return {system: tuple(nodes) for system, nodes in found.items()}
