"""Which nodes together, and which next, from shape and role. What differs between shapes is a row of `SHAPES`.

A turn is one piece of the order: a node's own work, or a move of roles. The order is decided from the roles as they are
observed at the start of a hop, never from those that the estate would like. No word for a role is used outside this file
and the profiles: everybody else asks the shape.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence

from gallant.core.errors import Refused
from gallant.core.readings import Reading
from gallant.core.records import Record

WORK, HANDOVER, FAILBACK = "work", "handover", "failback"
ACTIVE, STANDBY, LEADER, MEMBER, ALONE = "active", "standby", "leader", "member", "alone"
ROLES = (ACTIVE, STANDBY, LEADER, MEMBER, ALONE)

Roles = Mapping[str, str]


class Turn(Record):
    """`kind` is work, handover (the node gives its roles away) or failback (the node takes its usual roles again)."""

    kind: str
    node: str


class NotSafe(Refused):
    """No order exists that keeps the shape's promise; the message says what stands in the way."""


def _unmoved(roles: Roles, taken: Iterable[Turn]) -> dict[str, str]:
    return dict(roles)


Order = Callable[[Sequence[str], Sequence[str], Roles, Roles], tuple[Turn, ...]]


class Shape(Record):
    """What one shape means, all of it (docs/rolling.md, table 1).

    `heads` are the roles of the one node that speaks for all (and has their address), `carrying` those in which a node serves,
    `leaving` those in which it may be taken out. `tolerates` says how many of so many nodes may be out at once. `turns` is the rolling order (None: none is known yet), `roles_after` the roles once
    some turns were taken. `shares_load`: what the nodes carry has to fit onto those that stay. `shares_export`: one export,
    from the node that serves, is the configuration of all. `plain_role` is that of a node of which no role is told. It has
    `least` to `most` nodes.
    """

    name: str
    heads: tuple[str, ...]
    carrying: tuple[str, ...]
    leaving: tuple[str, ...]
    tolerates: Callable[[int], int]
    turns: Order | None = None
    roles_after: Callable[[Roles, Iterable[Turn]], dict[str, str]] = _unmoved
    shares_load: bool = False
    shares_export: bool = False
    plain_role: str = MEMBER
    least: int = 1
    most: int = 100_000

    def serving(self, readings: Iterable[Reading]) -> list[Reading]:
        """The nodes that say that they carry the load now."""
        return [reading for reading in readings if reading.role in self.carrying]

    def head(self, nodes: Iterable[str], roles: Roles) -> str:
        """The node that speaks for the system now, else the first of all."""
        names = list(nodes)
        return next((n for n in names if roles.get(n) in self.heads), names[0])

    def usual_head(self, nodes: Iterable[str], usual: Roles) -> str:
        """The node that speaks for the system when all is well; `usual` has the node of each declared role."""
        return next((usual[role] for role in self.heads if role in usual), next(iter(nodes)))

    def may_leave(self, reading: Reading) -> bool:
        """Whether a node's role lets it be taken out now."""
        return reading.role in self.leaving

    def must_stay(self, nodes: int) -> int:
        """How many of so many nodes have to be in service while others are out."""
        return nodes - self.tolerates(nodes)

    @property
    def has_spare(self) -> bool:
        """Whether anything carries on while one node is out."""
        return self.most > 1


def turns(shape: str, nodes: Sequence[str], todo: Sequence[str], roles: Roles, usual: Roles) -> tuple[Turn, ...]:
    """The order of work on the nodes in `todo`, given each node's observed role.

    Raises `NotSafe` where the roles allow no order, or where no rule for the shape is known here.
    """
    rule = SHAPES[shape].turns if shape in SHAPES else None
    if rule is None:
        known = ", ".join(name for name, row in SHAPES.items() if row.turns is not None)
        raise NotSafe(
            f"No rolling order for the shape {shape!r} is known to this Gallant; known: {known}.",
            next="Update this system by hand, or with a Gallant that knows the shape.",
        )
    return rule(nodes, todo, roles, usual)


# --- the pair


def _pair(nodes: Sequence[str], todo: Sequence[str], roles: Roles, usual: Roles) -> tuple[Turn, ...]:
    """Standby, handover, the former active, failback where the estate declares usual places."""
    active = [n for n in nodes if roles.get(n) == ACTIVE]
    standby = [n for n in nodes if roles.get(n) == STANDBY]
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
    wanted = usual.get(ACTIVE)
    if order and wanted is not None and wanted != serving:
        order.append(Turn(kind=FAILBACK, node=wanted))
    return tuple(order)


def _pair_after(roles: Roles, taken: Iterable[Turn]) -> dict[str, str]:
    now = dict(roles)
    for turn in taken:
        if turn.kind != WORK:  # a handover makes the other node active, a failback this one
            here, there = (STANDBY, ACTIVE) if turn.kind == HANDOVER else (ACTIVE, STANDBY)
            now = {node: here if node == turn.node else there for node in now}
    return now


# --- the table

SHAPES: Mapping[str, Shape] = {
    row.name: row
    for row in (
        Shape(
            name="single",
            plain_role=ALONE,
            most=1,
            heads=(ALONE, ACTIVE),
            carrying=(ALONE, ACTIVE),
            leaving=(ALONE, ACTIVE),
            tolerates=lambda n: 0,
        ),
        Shape(
            name="pair",
            heads=(ACTIVE,),
            carrying=(ACTIVE,),
            leaving=(STANDBY,),
            tolerates=lambda n: 1,
            turns=_pair,
            roles_after=_pair_after,
            shares_export=True,
            least=2,
            most=2,
        ),
        Shape(
            name="fabric",
            heads=(LEADER,),
            carrying=(LEADER, MEMBER),
            leaving=(MEMBER,),
            tolerates=lambda n: 1,
        ),
        Shape(
            name="pairs",
            heads=(ACTIVE,),
            carrying=(ACTIVE,),
            leaving=(STANDBY,),
            tolerates=lambda n: n - n // 2,
            shares_load=True,
        ),
        Shape(
            name="quorum",
            heads=(LEADER,),
            carrying=(LEADER, MEMBER),
            leaving=(MEMBER,),
            tolerates=lambda n: (n - 1) // 2,
            shares_load=True,
        ),
        Shape(
            name="pool",
            heads=(LEADER, ACTIVE),
            carrying=(ACTIVE, LEADER, MEMBER),
            leaving=(MEMBER,),
            tolerates=lambda n: n - 1,
            shares_load=True,
        ),
    )
}
