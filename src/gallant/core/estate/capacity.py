"""How many nodes may be away at once, by what the others can carry.

What the nodes carry is told by their gauges in percent: a load
that all of them tell is spread evenly over those that stay.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from gallant.core.estate.systems import Limits, System
from gallant.core.readings import IN_SERVICE, Reading
from gallant.core.records import Record
from gallant.core.shapes import SHAPES, Standing


class Room(Record):
    """One gauge over all nodes, in percent: what each carries on average now, and with some of them away."""

    gauge: str
    now: float
    then: float


def rooms(readings: Sequence[Reading], away: int) -> list[Room]:
    """Each gauge in percent that all nodes tell, with `away` of them gone. None where nobody would be left to carry
    it."""
    stay = len(readings) - away
    if stay < 1:
        return []
    found = []
    for name in dict.fromkeys(g.name for g in readings[0].gauges if g.unit == "%"):
        values = [v for r in readings if (v := r.gauge(name)) is not None]
        if len(values) == len(readings):
            found.append(Room(gauge=name, now=sum(values) / len(values), then=sum(values) / stay))
    return found


def width(system: System, readings: Mapping[str, Reading], limits: Limits) -> int:
    """How many nodes of a system may be worked on at once: as many as leave every gauge under the ceiling, no more than
    its shape tolerates and the estate allows. One where no gauge tells what the others could carry."""
    shape, carrying = SHAPES[system.shape], [r for r in readings.values() if r.state == IN_SERVICE]
    if not shape.side_by_side or not carrying:
        return 1
    most = min(shape.tolerates(len(system.nodes)), len(carrying) - 1, limits.width or len(carrying))
    fitting = 1
    for away in range(2, most + 1):
        found = rooms(carrying, away)
        if not found or any(room.then > limits.ceiling_percent for room in found):
            break
        fitting = away
    return fitting


def standing_of(system: System, readings: Mapping[str, Reading], limits: Limits) -> Standing:
    """How a system's nodes stand, by fresh readings."""
    return Standing(
        roles={node: reading.role for node, reading in readings.items()},
        out=tuple(node for node, reading in readings.items() if reading.state == OUT) if system.in_service else (),
        width=width(system, readings, limits),
        domains={name: node.domain for name, node in system.nodes.items() if node.domain is not None},
    )


OUT = "out_of_service"
