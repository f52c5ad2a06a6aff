"""The order of the ways back of several systems: at no moment is a requirement broken that holds today."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

from gallant.core.assess.compat import Rule, Task, breaches
from gallant.core.assess.requirements import related, requirements
from gallant.core.catalog.products import version_of
from gallant.core.estate.stacks import systems_above
from gallant.core.estate.systems import node_name
from gallant.core.plan.back.case import Obstacle
from gallant.core.plan.ground import Ground
from gallant.core.readings import IMAGE
from gallant.core.records import Record, replace
from gallant.core.versions import parse_range
from gallant.core.work.plan import Lane


class BackOrder(Record):
    """An order of the hops of all lanes, as (lane, hop) by their numbers; where there is none, why."""

    hops: tuple[tuple[int, int], ...] = ()
    obstacles: tuple[Obstacle, ...] = ()


def with_needs(ground: Ground, lanes: Sequence[Lane], way: BackOrder) -> list[Lane]:
    """Every hop waits for the last one before it of each system that a rule or a machine ties to its own."""
    tied = ties_of(ground)
    last: dict[int, str] = {}
    made = [list(lane.hops) for lane in lanes]
    for lane, number in way.hops:
        own = lanes[lane].system
        needs = tuple(last[n] for n in last if n != lane and frozenset((own, lanes[n].system)) in tied)
        made[lane][number] = replace(made[lane][number], needs=needs)
        last[lane] = made[lane][number].id
    return [replace(lane, hops=tuple(hops)) for lane, hops in zip(lanes, made, strict=True)]


def ties_of(ground: Ground) -> set[frozenset[str]]:
    """The pairs of systems of which one asks something of the other, or stands on it."""
    rules = requirements(ground.estate, ground.readings, ground.products, {}).rules
    stands = {
        frozenset((name, above))
        for name, system in ground.estate.systems.items()
        for above in systems_above(ground.estate, system)
    }
    return stands | {frozenset((rule.system, rule.other)) for rule in rules}


def way_of_lanes(ground: Ground, lanes: Sequence[Lane]) -> BackOrder:
    """An order in which no requirement between images breaks that holds now, a system in a hop counting as running both
    of its releases; and none of components at its end."""
    search = _Search(ground, lanes)
    found = search.onwards((0,) * len(lanes))
    if found is None:
        return BackOrder(obstacles=tuple(dict.fromkeys(search.against))[:3])
    return BackOrder(hops=found, obstacles=tuple(parts_against(ground, lanes)))


class _Search:
    """Depth first over how many hops of each lane are done. The lanes of
    the roll are tried in reverse: what came last goes back first."""

    def __init__(self, ground: Ground, lanes: Sequence[Lane]) -> None:
        known = requirements(ground.estate, ground.readings, ground.products, {})
        self.lanes, self.rules = lanes, known.rules
        self.tasks = {task.system: task for task in known.tasks}
        self.already = set(_broken(self.tasks, known.rules))
        self.began = [
            {node: reading.version for node, reading in ground.of(ground.estate.systems[lane.system]).items()}
            for lane in lanes
        ]
        self.against: list[Obstacle] = []
        self._tried = set[tuple[int, ...]]()

    def onwards(self, at: tuple[int, ...]) -> tuple[tuple[int, int], ...] | None:
        """The moves from here to the end; None where there are none."""
        if all(count == len(lane.hops) for count, lane in zip(at, self.lanes, strict=True)):
            return ()
        if at in self._tried:
            return None
        self._tried.add(at)
        for n in reversed(range(len(self.lanes))):
            if at[n] == len(self.lanes[n].hops):
                continue
            new = self._breaks(at, n)
            if new is not None:
                hop = self.lanes[n].hops[at[n]]
                self.against.append(Obstacle(system=hop.system, nodes=(), why=f"on {hop.to} it breaks: {new.words}"))
            elif (rest := self.onwards((*at[:n], at[n] + 1, *at[n + 1 :]))) is not None:
                return ((n, at[n]), *rest)
        return None

    def _breaks(self, at: tuple[int, ...], moving: int) -> Rule | None:
        """A requirement that holds today and would not while the next hop of a lane is under way."""
        tasks = dict(self.tasks)
        for n, lane in enumerate(self.lanes):
            if lane.system in tasks:
                runs = list(self._runs(n, at[n]).values())
                hop = lane.hops[at[n]] if n == moving else None
                tasks[lane.system] = _running(tasks[lane.system], [*runs, *([hop.to] if hop and hop.image else [])])
        return next((rule for rule in _broken(tasks, self.rules) if rule not in self.already), None)

    def _runs(self, n: int, count: int) -> dict[str, str]:
        """What each node of a lane runs once so many of its hops are done."""
        now = dict(self.began[n])
        for hop in (hop for hop in self.lanes[n].hops[:count] if hop.image):
            now |= dict.fromkeys(hop.nodes or now, hop.to)
        return now


def _broken(tasks: Mapping[str, Task], rules: Sequence[Rule]) -> list[Rule]:
    return [breach.rule for breach in breaches(list(tasks.values()), rules)]


def _running(task: Task, versions: Sequence[str]) -> Task:
    first, *rest = dict.fromkeys(versions)
    return replace(task, running=first, target=first, also=tuple(rest))


def parts_against(ground: Ground, lanes: Sequence[Lane]) -> list[Obstacle]:
    """What a component or an image that stays needs of something that goes back: it held before, and would not
    after."""
    before = _everything(ground)
    after = {**before, **dict(_moved_back(ground, lanes, before))}
    obstacles = []
    for (node, component), (name, version) in after.items():
        product = ground.products.get(name)
        release = product.resolve(version) if product is not None else None
        for need in release.requires if release is not None else ():
            held, holds = (_held(ground, runs, node, need.product, need.range) for runs in (before, after))
            if held and not holds:
                what = node if component == IMAGE else f"{component} of {node}"
                words = f"{what} on {version} needs {need.product} on {parse_range(need.range).words()}"
                obstacles.append(Obstacle(system=node.partition("/")[0], nodes=(), why=words))
    return obstacles[:3]


def _moved_back(
    ground: Ground, lanes: Sequence[Lane], before: Everything
) -> Iterator[tuple[tuple[str, str], tuple[str, str]]]:
    """What runs after these lanes, of all that they move: product and version by node and component."""
    for lane in lanes:
        system = ground.estate.systems[lane.system]
        for hop in lane.hops:
            image = [(IMAGE, system.product, hop.to)] if hop.image else []
            moves = [*image, *((part.component, part.product, part.to) for part in hop.parts)]
            for here in (node_name(system, node) for node in hop.nodes or tuple(system.nodes)):
                for component, product, to in moves:
                    if (here, component) in before:
                        yield (here, component), (product, to)


Everything = dict[tuple[str, str], tuple[str, str]]


def _everything(ground: Ground) -> Everything:
    """What every node runs, by node and component: product and version."""
    found: Everything = {}
    for name, reading in ground.readings.items():
        found[name, IMAGE] = (reading.product, reading.version)
        found |= {(name, p.name): (p.product, p.version) for p in reading.components if p.name != IMAGE}
    return found


def _held(ground: Ground, runs: Everything, node: str, product: str, allowed: str) -> bool:
    """Whether every version of a product lies in a range: of what the node
    runs of it, else its system, else the systems that it is about."""
    known, span = ground.products.get(product), parse_range(allowed)
    if known is None:
        return True
    versions = [version_of(known, text) for text in _nearest(ground, runs, node, product)]
    return all(version is not None and version in span for version in versions)


def _nearest(ground: Ground, runs: Everything, node: str, product: str) -> list[str]:
    """The versions of a product that count for a node: its own, else its system's, else those of related systems."""
    system = ground.estate.systems[node.partition("/")[0]]
    about = {system.name, *related(ground.estate, system, product)}
    of = [(n, v) for (n, _), (p, v) in runs.items() if p == product]
    own = [v for n, v in of if n == node]
    near = [v for n, v in of if n.partition("/")[0] == system.name]
    return own or near or [v for n, v in of if n.partition("/")[0] in about]
