"""How a plan is made that takes back what a roll did: the newest
change first, each node to what it ran before the roll began.

What was done at one restart is undone at one restart, and what came before it after it. So
the systems go through the same states as on the way there, only the other way round, and no
rule that held then breaks now; what has changed elsewhere since is looked at again.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from gallant.core.errors import Refused
from gallant.core.plan.back.case import Chosen, Did, Obstacle
from gallant.core.plan.back.lane import lane_back
from gallant.core.plan.back.order import BackOrder, way_of_lanes, with_needs
from gallant.core.plan.ground import Ground
from gallant.core.plan.planning import plan_of
from gallant.core.records import Record
from gallant.core.work.plan import Lane, NothingToDo, Plan


def make_backout(
    ground: Ground,
    roll: str,
    undone: Plan,
    done: Did,
    chosen: Chosen,
    profiles: Mapping[str, str],
    by: str,
    identity: str = "",
) -> Plan:
    """The plan that takes the `chosen` nodes, by system, back to what they ran before `undone` was begun.

    Raises `Refused` where something of it has no way back or would break a requirement, and says what is possible all
    the same; `NothingToDo` where nothing is left of it.
    """
    found = ways_back(ground, undone, done, chosen)
    if found.obstacles:
        raise Refused(
            "\n".join([f"{roll} is not taken back.", *_in_words(found.obstacles)]),
            "Nothing was begun.",
            _what_else(ground, roll, undone, done, chosen, found.obstacles),
        )
    if not found.lanes:
        raise NothingToDo(f"Nothing of what {roll} did is left to be taken back.", next="gallant verify looks closer.")
    return plan_of(ground, with_needs(ground, found.lanes, found.way), profiles, by, identity, undoes=roll)


class Ways(Record):
    """The lanes that take systems back, an order of their hops, and what is in the way of others."""

    lanes: tuple[Lane, ...]
    way: BackOrder
    obstacles: tuple[Obstacle, ...]


def ways_back(ground: Ground, undone: Plan, done: Did, chosen: Chosen) -> Ways:
    """What takes the `chosen` nodes back to what they ran before, as far as there is a way."""
    lanes, against = list[Lane](), list[Obstacle]()
    for system, nodes in chosen.items():
        lane, own = lane_back(ground, undone, done, system, nodes)
        lanes += [lane] if lane is not None else []
        against += own
    way = way_of_lanes(ground, lanes)
    return Ways(lanes=tuple(lanes), way=way, obstacles=(*against, *way.obstacles))


def _in_words(obstacles: Sequence[Obstacle]) -> list[str]:
    """A line for each system: every reason once, with the nodes that it is about."""
    said: dict[str, dict[str, list[str]]] = {}
    for bar in obstacles:
        said.setdefault(bar.system, {}).setdefault(bar.why, []).extend(bar.nodes)
    return [
        f"{system}: {'; '.join(f'{why} ({_names(nodes)})' if nodes else why for why, nodes in reasons.items())}."
        for system, reasons in said.items()
    ]


def _names(nodes: Sequence[str]) -> str:
    return f"node{'s' if len(set(nodes)) > 1 else ''} {', '.join(dict.fromkeys(nodes))}"


def _what_else(
    ground: Ground, roll: str, undone: Plan, done: Did, chosen: Chosen, obstacles: Sequence[Obstacle]
) -> str:
    """What can be taken back without that which cannot, else what a person has."""
    rest = {system: left for system, nodes in chosen.items() if (left := _free_of(system, nodes, obstacles))}
    found = ways_back(ground, undone, done, rest)
    if found.lanes and not found.obstacles:
        led = {lane.system for lane in found.lanes}
        words = [
            name for system, nodes in rest.items() if system in led for name in _chosen_words(ground, system, nodes)
        ]
        return f"gallant backout {roll} {' '.join(words)} takes back the rest"
    names = " ".join(dict.fromkeys(bar.system for bar in obstacles))
    return f"gallant backup list {names} and gallant snapshot list {names} show what was kept of before"


def _free_of(system: str, nodes: Sequence[str], obstacles: Sequence[Obstacle]) -> list[str]:
    """The nodes of a system that nothing is in the way of."""
    own = [bar for bar in obstacles if bar.system == system]
    return [node for node in nodes if all(bar.nodes and node not in bar.nodes for bar in own)]


def _chosen_words(ground: Ground, system: str, nodes: Sequence[str]) -> list[str]:
    whole = len(nodes) == len(ground.estate.systems[system].nodes)
    return [system] if whole else [f"{system}/{node}" for node in nodes]
