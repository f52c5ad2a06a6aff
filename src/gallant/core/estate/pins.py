"""Serials that were taken at first sight, where `estate.yaml` names
none: kept in a file of their own beside it, as host keys are.

One line each, later ones count: the node, its serial, when, and who confirmed it (`-`: nobody yet), between tabs.
"""

from __future__ import annotations

from collections.abc import Mapping

from gallant.core.estate.systems import Estate, System, node_name
from gallant.core.records import Record, clean, replace

NOBODY = "-"


class Pin(Record):
    """The serial that a node is held to, since when, and who confirmed it (None: nobody yet)."""

    serial: str
    since: str
    by: str | None = None


def parse_pins(text: str) -> dict[str, Pin]:
    """By the name of a node. Raises `ValueError` with the line of
    what is none: whom it held to its serial is not known."""
    found: dict[str, Pin] = {}
    for number, line in enumerate(text.splitlines(), 1):
        if not line.strip() or line.startswith("#"):
            continue
        parts = line.split("\t")
        if len(parts) != 4 or not parts[0]:
            raise ValueError(f"line {number} has no node, serial, time and person")
        node, serial, since, by = parts
        found[node] = Pin(serial=serial, since=since, by=None if by == NOBODY else by)
    return found


def pin_line(node: str, pin: Pin) -> str:
    """A line of known_nodes: node, serial, since when, by whom."""
    return "\t".join((node, clean(pin.serial, 200), pin.since, pin.by or NOBODY)) + "\n"


def without_serial(estate: Estate) -> bool:
    """Whether any node is told from others by nothing but what was seen first."""
    return any(not node.serial for system in estate.systems.values() for node in system.nodes.values())


def with_pins(estate: Estate, pins: Mapping[str, Pin]) -> Estate:
    """The estate with the serials that were taken at first sight,
    where its file names none; the file's word comes first."""
    return replace(estate, systems={name: _pinned(system, pins) for name, system in estate.systems.items()})


def _pinned(system: System, pins: Mapping[str, Pin]) -> System:
    own = {
        n: p
        for n, node in system.nodes.items()
        if not node.serial and (p := pins.get(node_name(system, n))) is not None
    }
    if not own:
        return system
    nodes = {
        n: replace(node, serial=own[n].serial, held_by="person" if own[n].by else "sight") if n in own else node
        for n, node in system.nodes.items()
    }
    return replace(system, nodes=nodes)
