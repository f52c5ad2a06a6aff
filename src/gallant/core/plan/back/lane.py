"""The way back of one system, newest change first."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

from gallant.core.catalog.products import Release
from gallant.core.estate.capacity import standing_of
from gallant.core.estate.stacks import systems_above
from gallant.core.estate.systems import System
from gallant.core.plan.back.case import BackCase, BackPiece, Did, Obstacle, newest
from gallant.core.plan.back.pieces import pieces_of, rewind
from gallant.core.plan.ground import Ground, all_read, work_now
from gallant.core.plan.hops import hop_rounds, hop_waves
from gallant.core.plan.lane_hops import after_hop, paces_for
from gallant.core.plan.lanes import lane_of
from gallant.core.plan.todo import Runs, Todo, hop_todo, runs_of
from gallant.core.readings import IMAGE
from gallant.core.records import replace
from gallant.core.shapes import SHAPES, Standing
from gallant.core.work.plan import BACKOUT, Hop, Lane, Plan


def lane_back(
    ground: Ground, undone: Plan, done: Did, name: str, nodes: Sequence[str]
) -> tuple[Lane | None, tuple[Obstacle, ...]]:
    """The lane that takes nodes of one system back (None: nothing of it is left),
    or what is in its way; what others need of the system is not looked at."""
    system = ground.estate.systems[name]
    for each in (system, *(ground.estate.systems[n] for n in systems_above(ground.estate, system))):
        all_read(ground, each)
    lane = next((lane for lane in undone.lanes if lane.system == name), None)
    case = BackCase(ground=ground, system=system, lane=lane, undone=undone, done=done, nodes=tuple(nodes))
    hops, against = _lane_hops(case)
    if against or not hops:
        return None, against
    also = systems_above(ground.estate, system) if system.in_service else ()
    return lane_of(ground, system, hops, {}, also, BACKOUT), ()


def _lane_hops(case: BackCase) -> tuple[tuple[Hop, ...], tuple[Obstacle, ...]]:
    """A lane's hops the other way round, from what runs now; or what is in the way of the first that cannot go back."""
    made = _Made(case)
    # One that is worked on anyway is taken back after that: what it runs may be why it cannot serve.
    aside = [n for n in case.nodes if (case.system.name, n) in case.done.aside and not _has_turn(case, n, made.runs[n])]
    if aside:
        made.add(BackPiece(nodes=tuple(aside), returns=True))
    for hop in newest_first(case, made.runs):
        found = list(pieces_of(case, hop, made.runs) if hop.rewinds is None else [rewind(hop, case.nodes)])
        against = [one for piece in found if isinstance(piece, tuple) for one in piece]
        if against := [*against, *_by_halves(case, found)]:
            return (), tuple(against)  # what lies before that cannot be reached either
        for piece in found:
            assert isinstance(piece, BackPiece)  # the others were told
            made.add(piece)
    return tuple(made.hops), ()


class _Made:
    """The hops of a way back as they are made: each starts from what the ones before it leave."""

    def __init__(self, case: BackCase) -> None:
        ground, system = case.ground, case.system
        self.case, self.hops = case, list[Hop]()
        self.standing = standing_of(system, ground.of(system), ground.estate.limits)
        self.runs = {node: runs_of(reading) for node, reading in ground.of(system).items()}

    def add(self, piece: BackPiece) -> None:
        case, system = self.case, self.case.system
        hop, release = _planned(case, piece, f"{system.name}.back{len(self.hops) + 1}", self.runs)
        work = work_now(case.ground, system, hop, release)
        todo = hop_todo(work, case.product, case.ground.products, self.runs)
        if not todo:
            return
        self.hops.append(replace(hop, waves=hop_waves(system, work, self.standing, todo)))
        self.standing = standing_after(system, self.standing, todo)
        for node, own in todo.items():
            self.runs[node] = _after(self.runs[node], own, hop, case.knows.slots)


def _by_halves(case: BackCase, found: Sequence[BackPiece | tuple[Obstacle, ...]]) -> Iterator[Obstacle]:
    """A device that updates all of its nodes by one order takes them back by one too: all of them, to one release."""
    images = [
        piece for piece in found if isinstance(piece, BackPiece) and piece.image is not None and not piece.rewinds
    ]
    if case.knows.updates_all and images and (len(images) > 1 or set(case.nodes) != set(case.system.nodes)):
        yield case.obstacle("its device brings all of its nodes to one release, and they would not go back to one")


def standing_after(system: System, standing: Standing, todo: Mapping[str, Todo]) -> Standing:
    """How the nodes stand once a hop back is over."""
    taken = [turn for together in hop_rounds(system, todo, standing) for turn in together]
    roles = SHAPES[system.shape].roles_after(tuple(system.nodes), standing.roles, taken)
    return replace(standing, roles=roles, out=() if any(one.has_turn for one in todo.values()) else standing.out)


def _has_turn(case: BackCase, node: str, now: Runs) -> bool:
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


def newest_first(case: BackCase, runs: Mapping[str, Runs]) -> Iterator[Hop]:
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


def _planned(case: BackCase, piece: BackPiece, hop_id: str, runs: Mapping[str, Runs]) -> tuple[Hop, Release | None]:
    """A hop back before it has waves, and the release that its image goes back to."""
    product, nodes = case.product, piece.nodes
    release = product.resolve(piece.image) if piece.image is not None else None
    from_ = newest(product, [runs[node].version for node in nodes])
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
