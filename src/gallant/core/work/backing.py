"""How a plan is made that takes back what a roll did: the newest
change first, each node to what it ran before the roll began.

What was done at one restart is undone at one restart, and what came before it after it. So
the systems go through the same states as on the way there, only the other way round, and no
rule that held then breaks now; what has changed elsewhere since is looked at again.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence

from gallant.core.assess.compat import Rule, Task, breaches
from gallant.core.assess.requirements import related, requirements
from gallant.core.catalog.products import Package, Product, Release, version_of
from gallant.core.errors import Refused
from gallant.core.estate.capacity import standing_of
from gallant.core.estate.order import SHAPES, Standing
from gallant.core.estate.stacks import systems_above
from gallant.core.estate.systems import System, node_name
from gallant.core.readings import IMAGE
from gallant.core.records import Record, replace
from gallant.core.versions import parse_range
from gallant.core.work.ground import Ground, all_read, work_now
from gallant.core.work.hops import Runs, Todo, hop_rounds, hop_todo, hop_waves, runs_of
from gallant.core.work.lanes import lane_of
from gallant.core.work.plan import BACKOUT, Hop, Knows, Lane, NothingToDo, Part, Plan, Step
from gallant.core.work.planning import after_hop, paces_for, plan_of
from gallant.core.work.steps import KINDS, nodes_of

Chosen = Mapping[str, Sequence[str]]


class Did(Record):
    """What a roll is known to have begun on nodes, by its journal: what it `altered`
    (system, node, component), which nodes it took out of service and did not take back,
    and the releases before which it took a restore point that is there still."""

    altered: frozenset[tuple[str, str, str]] = frozenset()
    aside: frozenset[tuple[str, str]] = frozenset()
    points: frozenset[tuple[str, str]] = frozenset()


def did(begun: Iterable[Step], points: Iterable[tuple[str, str]] = ()) -> Did:
    """From the steps that were begun, in the order in which they were."""
    altered, aside = set[tuple[str, str, str]](), set[tuple[str, str]]()
    for step in begun:
        row, node = KINDS[step.kind], (step.system, step.node)
        if row.alters:
            components = (step.component, *(one.component for one in step.brings))
            altered |= {(step.system, n, component) for n in nodes_of(step) for component in components}
        if row.sets_aside:
            aside.add(node)
        elif row.takes_back:
            aside.discard(node)
    return Did(altered=frozenset(altered), aside=frozenset(aside), points=frozenset(points))


class Obstacle(Record):
    """Why nodes of a system cannot go back."""

    system: str
    nodes: tuple[str, ...]
    why: str


class _Piece(Record):
    """What `nodes` go back to together: the image, components, or both behind one restart; with `rewinds` all of a
    system by the restore point that was taken before that release, with `returns` nothing but into service."""

    nodes: tuple[str, ...]
    image: str | None = None
    parts: tuple[Part, ...] = ()
    package: Package | None = None
    rewinds: str | None = None
    returns: bool = False


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
    return plan_of(ground, _with_needs(ground, found.lanes, found.way), profiles, by, identity, undoes=roll)


class _Way(Record):
    """An order of the hops of all lanes, as (lane, hop) by their numbers; where there is none, why."""

    hops: tuple[tuple[int, int], ...] = ()
    obstacles: tuple[Obstacle, ...] = ()


class Ways(Record):
    """The lanes that take systems back, an order of their hops, and what is in the way of others."""

    lanes: tuple[Lane, ...]
    way: _Way
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
    rest = {
        system: left
        for system, nodes in chosen.items()
        if (left := [n for n in nodes if all(b.system != system or (b.nodes and n not in b.nodes) for b in obstacles)])
    }
    found = ways_back(ground, undone, done, rest)
    if found.lanes and not found.obstacles:
        words = [
            name
            for system, nodes in rest.items()
            if any(lane.system == system for lane in found.lanes)
            for name in (
                [system]
                if len(nodes) == len(ground.estate.systems[system].nodes)
                else [f"{system}/{node}" for node in nodes]
            )
        ]
        return f"gallant backout {roll} {' '.join(words)} takes back the rest"
    names = " ".join(dict.fromkeys(bar.system for bar in obstacles))
    return f"gallant backup list {names} and gallant snapshot list {names} show what was kept of before"


# --- lanes


class _Case(Record):
    """One system's part of what is taken back: the `nodes` that go, and what the roll was to do and did on them."""

    ground: Ground
    system: System
    lane: Lane | None
    undone: Plan
    done: Did
    nodes: tuple[str, ...]

    @property
    def product(self) -> Product:
        return self.ground.image_of(self.system)

    @property
    def knows(self) -> Knows:
        return self.ground.known_of(self.system)

    @property
    def hops(self) -> tuple[Hop, ...]:
        return self.lane.hops if self.lane is not None else ()

    def altered(self, node: str, component: str) -> bool:
        return (self.system.name, node, component) in self.done.altered

    def began(self, node: str, component: str = IMAGE) -> str | None:
        """What ran before the roll did anything."""
        here = node_name(self.system, node)
        return self.undone.basis.versions.get(here if component == IMAGE else f"{here}:{component}")

    def obstacle(self, why: str, nodes: Sequence[str] = ()) -> Obstacle:
        return Obstacle(system=self.system.name, nodes=tuple(nodes), why=why)


def lane_back(
    ground: Ground, undone: Plan, done: Did, name: str, nodes: Sequence[str]
) -> tuple[Lane | None, tuple[Obstacle, ...]]:
    """The lane that takes nodes of one system back (None: nothing of it is left),
    or what is in its way; what others need of the system is not looked at."""
    system = ground.estate.systems[name]
    for each in (system, *(ground.estate.systems[n] for n in systems_above(ground.estate, system))):
        all_read(ground, each)
    lane = next((lane for lane in undone.lanes if lane.system == name), None)
    case = _Case(ground=ground, system=system, lane=lane, undone=undone, done=done, nodes=tuple(nodes))
    hops, against = _lane_hops(case)
    if against or not hops:
        return None, against
    also = systems_above(ground.estate, system) if system.in_service else ()
    return lane_of(ground, system, hops, {}, also, BACKOUT), ()


def _lane_hops(case: _Case) -> tuple[tuple[Hop, ...], tuple[Obstacle, ...]]:
    """A lane's hops the other way round, from what runs now; or what is in the way of the first that cannot go back."""
    ground, system = case.ground, case.system
    standing = standing_of(system, ground.of(system), ground.estate.limits)
    runs = {node: runs_of(reading) for node, reading in ground.of(system).items()}
    made: list[Hop] = []

    def add(piece: _Piece) -> None:
        nonlocal runs, standing
        hop, release = _planned(case, piece, f"{system.name}.back{len(made) + 1}", runs)
        work = work_now(ground, system, hop, release)
        todo = hop_todo(work, case.product, ground.products, runs)
        if todo:
            made.append(replace(hop, waves=hop_waves(system, work, standing, todo)))
            standing = _standing_after(system, standing, todo)
            runs = {n: _after(now, todo[n], hop, case.knows.slots) if n in todo else now for n, now in runs.items()}

    # One that is worked on anyway is taken back after that: what it runs may be why it cannot serve.
    aside = [n for n in case.nodes if (system.name, n) in case.done.aside and not _has_turn(case, n, runs[n])]
    if aside:
        add(_Piece(nodes=tuple(aside), returns=True))
    for hop in _newest_first(case, runs):
        found = list(_pieces(case, hop, runs) if hop.rewinds is None else [_rewind(hop, case.nodes)])
        if against := [
            *(one for piece in found if isinstance(piece, tuple) for one in piece),
            *_by_halves(case, found),
        ]:
            return (), tuple(against)  # what lies before that cannot be reached either
        for piece in found:
            assert isinstance(piece, _Piece)  # the others were told
            add(piece)
    return tuple(made), ()


def _by_halves(case: _Case, found: Sequence[_Piece | tuple[Obstacle, ...]]) -> Iterator[Obstacle]:
    """A device that updates all of its nodes by one order takes them back by one too: all of them, to one release."""
    images = [piece for piece in found if isinstance(piece, _Piece) and piece.image is not None and not piece.rewinds]
    if case.knows.updates_all and images and (len(images) > 1 or set(case.nodes) != set(case.system.nodes)):
        yield case.obstacle("its device brings all of its nodes to one release, and they would not go back to one")


def _standing_after(system: System, standing: Standing, todo: Mapping[str, Todo]) -> Standing:
    taken = [turn for together in hop_rounds(system, todo, standing) for turn in together]
    roles = SHAPES[system.shape].roles_after(tuple(system.nodes), standing.roles, taken)
    return replace(standing, roles=roles, out=() if any(one.has_turn for one in todo.values()) else standing.out)


def _has_turn(case: _Case, node: str, now: Runs) -> bool:
    """Whether a node runs something of the roll that it goes back from out of service."""
    began = case.began(node)
    if case.altered(node, IMAGE) and not case.product.same(now.version, began):
        return True
    return any(
        part.in_turn
        and case.altered(node, part.component)
        and part.component in now.parts
        and now.parts[part.component][0] != case.began(node, part.component)
        for hop in case.hops
        for part in hop.parts
    )


def _after(now: Runs, todo: Todo, hop: Hop, slots: int) -> Runs:
    """What a node runs once it has gone back. With a second slot that holds what it left."""
    if hop.rewinds is not None:
        parts = {**now.parts, **{part.component: (part.to, None) for part in hop.parts}}
        return Runs(version=hop.to, parts=parts)
    after = after_hop(now, todo, hop.to)
    left = now.version if todo.restarts and slots > 1 and (todo.image or todo.waiting) else now.other_slot
    return replace(after, other_slot=left)


def _newest_first(case: _Case, runs: Mapping[str, Runs]) -> Iterator[Hop]:
    """The hops of a lane, the newest first. Where a system of one node has a
    restore point, that takes back its own hop and every later one at once."""
    hops, name = list(case.hops), case.system.name
    points = [n for n, hop in enumerate(hops) if hop.image and (name, hop.to) in case.done.points]
    alone = len(case.system.nodes) == 1
    if alone and points and case.product.same(runs[case.nodes[0]].version, hops[points[-1]].to):
        first = points[-1]
        later = tuple(part for hop in hops[first:] for part in reversed(hop.parts))
        yield replace(hops[first], parts=later, rewinds=hops[first].to)
        hops = hops[:first]
    yield from reversed(hops)


# --- what goes back together


Goal = str | Obstacle | None  # a version to go back to, what is in the way, or nothing that was done


def _pieces(case: _Case, hop: Hop, runs: Mapping[str, Runs]) -> Iterator[_Piece | tuple[Obstacle, ...]]:
    """A hop's image and what shares its restart first, then what took a service
    down, then what went ahead of all; what is in the way of any of it instead."""
    together = tuple(part for part in hop.parts if part.waits)
    turns = tuple(part for part in reversed(hop.parts) if part.in_turn and not part.waits)
    ahead = tuple(part for part in reversed(hop.parts) if not part.in_turn and not part.waits)
    for image, parts in ((hop.image, together), (False, turns), (False, ahead)):
        goals: dict[tuple[Goal, ...], list[str]] = {}
        for node in case.nodes:
            own = _image_goal(case, hop, node, runs[node]) if image else None
            key = (own, *(_part_goal(case, part, node, runs[node]) for part in parts))
            if any(goal is not None for goal in key):
                goals.setdefault(key, []).append(node)
        for key, nodes in goals.items():
            yield _piece(case, hop, key, parts, tuple(nodes), runs)


def _piece(
    case: _Case,
    hop: Hop,
    goals: tuple[Goal, ...],
    parts: Sequence[Part],
    nodes: tuple[str, ...],
    runs: Mapping[str, Runs],
) -> _Piece | tuple[Obstacle, ...]:
    """What some nodes go back to together: the image's goal first, then those of the parts."""
    image, *versions = goals
    against = [goal for goal in goals if isinstance(goal, Obstacle)]
    package = _package(case, hop, image, runs, nodes) if isinstance(image, str) else None
    back = [
        _part_back(case, part, goal, nodes) for part, goal in zip(parts, versions, strict=True) if isinstance(goal, str)
    ]
    against += [one for one in (package, *back) if isinstance(one, Obstacle)]
    if against:
        return tuple(against)
    return _Piece(
        image=image if isinstance(image, str) else None,
        parts=tuple(part for part in back if isinstance(part, Part)),
        nodes=nodes,
        package=package if isinstance(package, Package) else None,
    )


def _rewind(hop: Hop, nodes: tuple[str, ...]) -> _Piece:
    oldest = {part.component: part for part in hop.parts}  # the last that is named is the oldest
    parts = tuple(replace(part, to=part.from_, from_=part.to) for part in oldest.values())
    return _Piece(image=hop.from_, parts=parts, nodes=nodes, rewinds=hop.to)


def _image_goal(case: _Case, hop: Hop, node: str, now: Runs) -> Goal:
    """What a node's image goes back to from this hop's release; None where nothing of it was begun there."""
    product, began = case.product, case.began(node)
    to, base = product.resolve(hop.to), product.resolve(began) if began is not None else None
    brought = case.altered(node, IMAGE) and began is not None
    if brought and base is None and (product.same(now.version, hop.to) or product.same(now.next_version, hop.to)):
        return case.obstacle(f"{began}, which ran before, is not in its catalog", [node])
    if not brought or base is None or to is None or product.key(base) >= product.key(to):
        return None
    at = product.resolve(now.version)
    if at is None or product.key(at) > product.key(to):
        return case.obstacle(f"it runs {now.version}, which this roll did not bring", [node])
    runs_it = product.key(at) == product.key(to)
    if not runs_it and not product.same(now.next_version, hop.to):
        return None
    if runs_it and hop.one_way:
        return case.obstacle(_no_way_back(hop.to, hop.one_way_because), [node])
    before = product.resolve(hop.from_)
    return began if before is None or product.key(base) > product.key(before) else hop.from_


def _part_goal(case: _Case, part: Part, node: str, now: Runs) -> Goal:
    """What a component goes back to; None where nothing of it was begun on the node."""
    product, began = case.ground.products.get(part.product), case.began(node, part.component)
    if not case.altered(node, part.component) or part.component not in now.parts or product is None or began is None:
        return None
    base, to = version_of(product, began), version_of(product, part.to)
    version, following = now.parts[part.component]
    at = version_of(product, version)
    if base is None or to is None or base >= to or (at != to and not product.same(following, part.to)):
        return None
    if part.one_way_because is not None:
        words = _no_way_back(f"{part.component} {part.to}", part.one_way_because)
        return case.obstacle(words, () if part.raised else [node]) if at == to else None
    before = version_of(product, part.from_)
    return began if before is None or base > before else part.from_


def _no_way_back(what: str, because: str | None) -> str:
    return f"there is no way back from {what}: {(because or 'the publisher gives none').rstrip('.')}"


def _part_back(case: _Case, part: Part, goal: str, nodes: Sequence[str]) -> Part | Obstacle:
    """The component the other way round, or why its older release cannot be had."""
    product = case.ground.products[part.product]
    release, at = product.resolve(goal), version_of(product, part.to)
    if release is None:
        return case.obstacle(f"{part.component} {goal} is not in its catalog", nodes)
    if not case.knows.brings(part.component, part.kind):
        return case.obstacle(f"its profile does not know how to bring {part.component} back to {goal}", nodes)
    if case.knows.is_fetched(part.component, part.kind):
        without = (
            () if case.knows.brings_older(part.component, part.kind) else _without(case, part, product, goal, nodes)
        )
        if without:
            return case.obstacle(f"neither a channel nor the cache of its host has {part.component} {goal}", without)
        return replace(part, from_=part.to, to=release.version, install_s=release.minutes.install * 60, package=None)
    package = release.package_on(at, case.system.delivery)
    if package is None or not _goes_on(release, product, part.to):
        return case.obstacle(f"no package of {part.component} {goal} goes on {part.to}", nodes)
    return replace(part, from_=part.to, to=release.version, install_s=release.minutes.install * 60, package=package)


def _without(case: _Case, part: Part, product: Product, goal: str, nodes: Sequence[str]) -> tuple[str, ...]:
    """The nodes that could not be given a component's older release by what is at hand there."""
    read = case.ground.of(case.system)
    return tuple(
        n for n in nodes if not any(product.same(text, goal) for text in read[n].versions_at_hand(part.component))
    )


def _package(
    case: _Case, hop: Hop, goal: str, runs: Mapping[str, Runs], nodes: Sequence[str]
) -> Package | Obstacle | None:
    """What the nodes are installed with on the way back; those that have it in their other slot need none."""
    product = case.product
    release, at = product.resolve(goal), product.resolve(hop.to)
    if release is None or at is None:
        return case.obstacle(f"{goal if release is None else hop.to} is no longer in its catalog", nodes)
    fitting = release.package_on(product.key(at), case.system.delivery)
    if fitting is not None and _goes_on(release, product, at.version):
        return fitting
    slots = "fall_back" in case.knows.capabilities
    held = [n for n in nodes if product.same(runs[n].other_slot, goal) or product.same(runs[n].version, goal)]
    need = [n for n in nodes if not (slots and n in held)]
    words = f"no package of {release.version} goes on {at.version}, and no other slot holds it"
    return case.obstacle(words, need) if need else None


def _goes_on(release: Release, product: Product, running: str) -> bool:
    """Whether a release may be installed where a newer one runs: as far as its publisher bounds what it goes on."""
    at = version_of(product, running)
    return release.from_range is None or (at is not None and at in parse_range(release.from_range))


def _planned(case: _Case, piece: _Piece, hop_id: str, runs: Mapping[str, Runs]) -> tuple[Hop, Release | None]:
    """A hop back before it has waves, and the release that its image goes back to."""
    product, nodes = case.product, piece.nodes
    release = product.resolve(piece.image) if piece.image is not None else None
    from_ = _newest(product, [runs[node].version for node in nodes])
    to = release.version if release is not None else runs[nodes[0]].version
    hop = Hop(
        id=hop_id,
        system=case.system.name,
        from_=from_,
        to=to,
        image=release is not None,
        parts=piece.parts,
        build=release.build if release is not None else None,
        snapshots=release is None or release.snapshots,
        package=piece.package,
        despite_recall=release is not None and release.recall is not None,
        nodes=() if len(nodes) == len(case.system.nodes) else nodes,
        back=True,
        returns=nodes if piece.returns else (),
        rewinds=piece.rewinds,
        paces=paces_for(case.ground, case.system, from_, to, piece.parts),
        waves=(),
    )
    return hop, release


def _newest(product: Product, texts: Sequence[str]) -> str:
    known = [release for text in texts if (release := product.resolve(text)) is not None]
    return max(known, key=product.key).version if known else texts[0]


# --- across systems


def _with_needs(ground: Ground, lanes: Sequence[Lane], way: _Way) -> list[Lane]:
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


def way_of_lanes(ground: Ground, lanes: Sequence[Lane]) -> _Way:
    """An order in which no requirement between images breaks that holds now, a system in a hop counting as running both
    of its releases; and none of components at its end."""
    search = _Search(ground, lanes)
    found = search.onwards((0,) * len(lanes))
    if found is None:
        return _Way(obstacles=tuple(dict.fromkeys(search.against))[:3])
    return _Way(hops=found, obstacles=tuple(_parts_against(ground, lanes)))


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


def _parts_against(ground: Ground, lanes: Sequence[Lane]) -> list[Obstacle]:
    """What a component or an image that stays needs of something that goes back: it held before, and would not
    after."""
    before = _everything(ground)
    after = dict(before)
    for lane in lanes:
        system = ground.estate.systems[lane.system]
        for hop in lane.hops:
            for node in hop.nodes or tuple(system.nodes):
                here = node_name(system, node)
                if hop.image and (here, IMAGE) in after:
                    after[here, IMAGE] = (system.product, hop.to)
                for part in hop.parts:
                    if (here, part.component) in after:
                        after[here, part.component] = (part.product, part.to)
    obstacles = []
    for (node, component), (name, version) in after.items():
        product = ground.products.get(name)
        release = product.resolve(version) if product is not None else None
        for need in release.requires if release is not None else ():
            if _held(ground, before, node, need.product, need.range) and not _held(
                ground, after, node, need.product, need.range
            ):
                what = node if component == IMAGE else f"{component} of {node}"
                words = f"{what} on {version} needs {need.product} on {parse_range(need.range).words()}"
                obstacles.append(Obstacle(system=node.partition("/")[0], nodes=(), why=words))
    return obstacles[:3]


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
    system = ground.estate.systems[node.partition("/")[0]]
    about = {system.name, *related(ground.estate, system, product)}
    of = [(n, v) for (n, _), (p, v) in runs.items() if p == product]
    own = [v for n, v in of if n == node]
    near = [v for n, v in of if n.partition("/")[0] == system.name]
    texts = own or near or [v for n, v in of if n.partition("/")[0] in about]
    known, span = ground.products.get(product), parse_range(allowed)
    versions = [version_of(known, text) for text in texts] if known is not None else []
    return all(version is not None and version in span for version in versions)
