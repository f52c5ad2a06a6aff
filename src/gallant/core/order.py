"""Which nodes together, and which next, from shape and role. What differs between shapes is the table `SHAPES`.

A turn is one piece of the order: a node's own work, or a move of roles. The order is decided from the roles as they are
observed at the start of a hop, never from those that the estate would like.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence

from gallant.core.errors import Refused
from gallant.core.records import Record

WORK, HANDOVER, FAILBACK = "work", "handover", "failback"


class Turn(Record):
    """`kind` is work, handover (the node gives its roles away) or failback (the node takes its usual roles again)."""

    kind: str
    node: str


class NotSafe(Refused):
    """No order exists that keeps the shape's promise; the message says what stands in the way."""


def turns(
    shape: str, nodes: Sequence[str], todo: Sequence[str], roles: Mapping[str, str], usual: Mapping[str, str]
) -> tuple[Turn, ...]:
    """The order of work on the nodes in `todo`, given each node's observed role.

    Raises `NotSafe` where the roles allow no order, or where no rule for the shape is known here.
    """
    rule = SHAPES.get(shape)
    if rule is None:
        raise NotSafe(
            f"No rolling order for the shape {shape!r} is known to this Gallant; known: {', '.join(SHAPES)}.",
            next="Update this system by hand, or with a Gallant that knows the shape.",
        )
    return rule(nodes, todo, roles, usual)


def _pair(
    nodes: Sequence[str], todo: Sequence[str], roles: Mapping[str, str], usual: Mapping[str, str]
) -> tuple[Turn, ...]:
    """Standby, handover, the former active, failback where the estate declares usual places."""
    active = [n for n in nodes if roles.get(n) == "active"]
    standby = [n for n in nodes if roles.get(n) == "standby"]
    if len(active) != 1 or len(standby) != 1:
        said = ", ".join(f"{n} is {roles.get(n, 'unknown')}" for n in nodes)
        raise NotSafe(
            f"A pair needs one active and one standby node; here {said}.", next="gallant check says what is wrong."
        )
    order: list[Turn] = []
    serving = active[0]
    if standby[0] in todo:
        order.append(Turn(kind=WORK, node=standby[0]))
    if active[0] in todo:
        order += [Turn(kind=HANDOVER, node=active[0]), Turn(kind=WORK, node=active[0])]
        serving = standby[0]
    wanted = usual.get("active")
    if order and wanted is not None and wanted != serving:
        order.append(Turn(kind=FAILBACK, node=wanted))
    return tuple(order)


SHAPES: dict[str, Callable[[Sequence[str], Sequence[str], Mapping[str, str], Mapping[str, str]], tuple[Turn, ...]]] = {
    "pair": _pair,
}
