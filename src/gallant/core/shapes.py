"""Which nodes together, and which next, from shape and role. What differs between shapes is a row of `SHAPES`.

A turn is one piece of the order: a node's own work, or a move of roles. The order is decided from the roles as they are
observed at the start of a hop, never from those that the estate would like. No word for a role is used outside this
file and the profiles: everybody else asks the shape.
"""

from __future__ import annotations

import itertools
from collections.abc import Callable, Iterable, Mapping, Sequence

from gallant.core.errors import Refused
from gallant.core.readings import Reading
from gallant.core.records import Record

WORK, HANDOVER, FAILBACK = "work", "handover", "failback"
ACTIVE, STANDBY, LEADER, MEMBER, ALONE = "active", "standby", "leader", "member", "alone"
ROLES = (ACTIVE, STANDBY, LEADER, MEMBER, ALONE)

Roles = Mapping[str, str]


class Turn(Record):
    """`kind` is work, handover (the node gives its roles away) or failback (the node takes its usual roles again).
    `system` is that of the node where it is another than the one that is worked on: one that stands on it."""

    kind: str
    node: str
    system: str = ""


class NotSafe(Refused):
    """No order exists that keeps the shape's promise; the message says what prevents it."""


class Standing(Record):
    """How the nodes of a system stand when an order is made: each one's role, the nodes that are out
    of service already, and how many may be worked on at once where the shape lets several go
    (`width`, by what the others can carry). Nodes of different failure domains are never away
    together. `wish` is a person's order of some or all of the nodes, kept as far as it is safe.
    """

    roles: dict[str, str]
    out: tuple[str, ...] = ()
    width: int = 1
    domains: dict[str, str] = {}
    wish: tuple[str, ...] = ()

    def as_wished(self, nodes: Iterable[str]) -> list[str]:
        """Nodes in the order that was asked for; those of which nothing was said come after, as they are declared."""
        place = {node: number for number, node in enumerate(self.wish)}
        return sorted(nodes, key=lambda node: place.get(node, len(place)))


Round = tuple[Turn, ...]  # turns that go on side by side
Groups = Callable[[Sequence[str]], tuple[tuple[str, ...], ...]]


def _all_one(nodes: Sequence[str]) -> tuple[tuple[str, ...], ...]:
    return (tuple(nodes),)


def _two_and_two(nodes: Sequence[str]) -> tuple[tuple[str, ...], ...]:
    """Pairs in the order in which the estate declares their nodes: the first two, the next two, and so on."""
    return tuple(tuple(nodes[at : at + 2]) for at in range(0, len(nodes), 2))


def _each_alone(nodes: Sequence[str]) -> tuple[tuple[str, ...], ...]:
    return tuple((node,) for node in nodes)


def _elected(roles: Roles, group: Sequence[str], turn: Turn, shape: Shape) -> dict[str, str]:
    """After a move of roles: the node that gave its role away stands
    back, the next of its group leads; or it has it again."""
    head, back = shape.heads[0], shape.leaving[0]
    other = next(n for n in group if n != turn.node)
    lead = other if turn.kind == HANDOVER else turn.node
    return {**roles, **{n: head if n == lead else back for n in group}}


class Shape(Record):
    """What one shape means, all of it (docs/rolling.md, table 1).

    `heads` are the roles of the one node that speaks for all (and has their address), `carrying` those in
    which a node serves, `leaving` those in which it may be taken out. `tolerates` says how many of so many
    nodes may be out at once. `groups` are the nodes among which roles move; of each group one node is worked
    on at a time, and groups go side by side as far as the rest can carry them (`side_by_side`). `needs_head`:
    there is no order without exactly one head in each group. `shares_load`: what the nodes carry has to fit
    onto those that stay. `shares_export`: one export, from the node that serves, is the configuration of all.
    `plain_role` is that of a node of which no role is told. It has `least` to `most` nodes.
    """

    name: str
    heads: tuple[str, ...]
    carrying: tuple[str, ...]
    leaving: tuple[str, ...]
    tolerates: Callable[[int], int]
    groups: Groups = _all_one
    side_by_side: bool = False
    needs_head: bool = False
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

    def may_leave(self, reading: Reading, nodes: int) -> bool:
        """Whether a node's role lets it be taken out now; one of `nodes` = 1 has nobody to give a role to."""
        return nodes == 1 or reading.role in self.leaving

    def must_stay(self, nodes: int) -> int:
        """How many of so many nodes have to be in service while others are out."""
        return nodes - self.tolerates(nodes)

    @property
    def has_spare(self) -> bool:
        """Whether anything carries on while one node is out."""
        return self.most > 1

    def roles_after(self, nodes: Sequence[str], roles: Roles, taken: Iterable[Turn]) -> dict[str, str]:
        """The roles once some turns were taken."""
        now = dict(roles)
        group_of = {node: group for group in self.groups(nodes) for node in group}
        for turn in taken:
            if turn.kind != WORK:  # a node that is alone in its group has no move to make
                now = _elected(now, group_of[turn.node], turn, self)
        return now


def rounds(
    shape: str, nodes: Sequence[str], todo: Sequence[str], standing: Standing, usual: Roles
) -> tuple[Round, ...]:
    """The order of work on the nodes in `todo`, by how they stand; the turns of a round go on side by side.

    What is out of service already comes first, all of it at once, since nobody waits for it. Raises `NotSafe` where the
    roles allow no order, or where a node is out that no work here brings back.
    """
    row = SHAPES[shape]
    left = [node for node in standing.out if node not in todo]
    if left and todo:
        one = len(left) == 1
        raise NotSafe(
            f"{', '.join(left)} {'is' if one else 'are'} out of service, and no work here brings "
            f"{'it' if one else 'them'} back; nothing else is taken out meanwhile.",
            next="gallant check says what is wrong.",
        )
    first = tuple(Turn(kind=WORK, node=node) for node in standing.as_wished(todo) if node in standing.out)
    by_node = {
        line[0].node: line for group in row.groups(nodes) if (line := _group_turns(row, group, todo, standing, usual))
    }
    lines = [by_node[node] for node in standing.as_wished(by_node)]
    width = standing.width if row.side_by_side else 1
    order = (*((first,) if first else ()), *_side_by_side(lines, width, standing.domains))
    _keeps_the_wish(row, order, standing)
    return order


def _keeps_the_wish(row: Shape, order: Sequence[Round], standing: Standing) -> None:
    """Raises `NotSafe` where a node comes later than was asked for, and says why."""
    when = {turn.node: number for number, together in enumerate(order) for turn in together if turn.kind == WORK}
    wished = [node for node in standing.wish if node in when]
    for earlier, later in itertools.pairwise(wished):
        if when[earlier] <= when[later]:
            continue
        if later in standing.out:
            why = f"{later} is out of service already, and is brought back before another is taken out"
        elif standing.roles.get(earlier) in row.heads:
            why = f"{earlier} is {standing.roles[earlier]}, and is worked on once another node has taken over"
        else:
            why = f"{later} is worked on together with nodes that come before {earlier}"
        raise NotSafe(
            f"{earlier} before {later} is not safe: {why}.", next="Leave --order out, or give one that is safe."
        )


def _group_turns(row: Shape, group: Sequence[str], todo: Sequence[str], standing: Standing, usual: Roles) -> list[Turn]:
    """One group: those that do not lead, then the head once another has taken over, then the usual places again."""
    worked = standing.as_wished(node for node in group if node in todo)
    own = [node for node in worked if node not in standing.out]  # what is out has its round already
    heads = [node for node in group if standing.roles.get(node) in row.heads and node not in standing.out]
    if len(group) == 1:
        return [Turn(kind=WORK, node=node) for node in own]
    if own and row.needs_head:
        _one_head(row, group, heads, standing)
    order = [Turn(kind=WORK, node=node) for node in own if node not in heads]
    leads = heads[0] if heads else None
    if leads in own:
        order += [Turn(kind=HANDOVER, node=leads), Turn(kind=WORK, node=leads)]
        others = [node for node in group if node != leads]
        leads = others[0] if len(others) == 1 else None  # of several, one is elected
    wanted = next((usual[role] for role in row.heads if usual.get(role) in group), None)
    if worked and heads and wanted not in (None, leads):
        order.append(Turn(kind=FAILBACK, node=wanted))
    return order


def _one_head(row: Shape, group: Sequence[str], heads: Sequence[str], standing: Standing) -> None:
    strange = [
        n for n in group if n not in heads and n not in standing.out and standing.roles.get(n) not in row.leaving
    ]
    if len(heads) != 1 or strange:
        said = ", ".join(f"{n} is {standing.roles.get(n, 'unknown')}" for n in group)
        raise NotSafe(
            f"A {row.name} needs one {row.heads[0]} and {'one' if len(group) == 2 else 'else only'} {row.leaving[0]} "
            f"node{'' if len(group) == 2 else 's'}; here {said}.",
            next="gallant check says what is wrong.",
        )


def _side_by_side(lines: Sequence[Sequence[Turn]], width: int, domains: Mapping[str, str]) -> list[Round]:
    """The groups' turns as rounds: work of several groups together, as wide as may be, each move of roles by itself.
    Where one hands over, all that are to do so do first, so that the work after it is done together."""
    waiting, made = [list(line) for line in lines if line], list[Round]()
    while waiting:
        made.append(tuple(line.pop(0) for line in _next_together(waiting, width, domains)))
        waiting = [line for line in waiting if line]
    return made


def _next_together(waiting: Sequence[list[Turn]], width: int, domains: Mapping[str, str]) -> Sequence[list[Turn]]:
    """The groups whose next turns go on together: one that hands over, else work in one domain, else any one."""
    leaving = [line for line in waiting if line[0].kind == HANDOVER]
    work = [line for line in waiting if line[0].kind == WORK]
    near = [line for line in work if domains.get(line[0].node) == domains.get(work[0][0].node)]
    return leaving[:1] or near[:width] or waiting[:1]


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
            needs_head=True,
            shares_export=True,
            least=2,
            most=2,
        ),
        Shape(
            name="fabric",
            heads=(LEADER,),
            carrying=(LEADER, MEMBER),
            leaving=(MEMBER,),
            tolerates=lambda n: 1 if n > 1 else 0,
        ),
        Shape(
            name="pairs",
            heads=(ACTIVE,),
            carrying=(ACTIVE,),
            leaving=(STANDBY,),
            tolerates=lambda n: n - n // 2,
            groups=_two_and_two,
            side_by_side=True,
            needs_head=True,
            shares_load=True,
            least=2,
        ),
        Shape(
            name="quorum",
            heads=(LEADER,),
            carrying=(LEADER, MEMBER),
            leaving=(MEMBER,),
            tolerates=lambda n: (n - 1) // 2,
            needs_head=True,
            shares_load=True,
        ),
        Shape(
            name="pool",
            heads=(LEADER, ACTIVE),
            carrying=(ACTIVE, LEADER, MEMBER),
            leaving=(MEMBER, ACTIVE, LEADER),
            tolerates=lambda n: n - 1,
            groups=_each_alone,
            side_by_side=True,
            shares_load=True,
        ),
    )
}
