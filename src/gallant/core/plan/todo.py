"""What there is to do on each node of a hop, by what it runs."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from gallant.core.catalog.products import Product, Release, version_of
from gallant.core.readings import Reading
from gallant.core.records import Record
from gallant.core.steps.kinds import (
    KINDS,
    nodes_of,
)
from gallant.core.work.hop_work import HopWork
from gallant.core.work.plan import Hop, Part, Wave, steps_of


class Runs(Record):
    """What a node runs and would start: its image, and by name its other components; what lies in its other slot.
    `unsaved`: a restart would lose what was configured on it."""

    version: str
    next_version: str | None = None
    other_slot: str | None = None
    parts: dict[str, tuple[str, str | None]] = {}
    unsaved: bool = False


def runs_of(reading: Reading) -> Runs:
    """What a node runs and would start, of image and components."""
    parts = {part.name: (part.version, part.next_version) for part in reading.components}
    return Runs(
        version=reading.version,
        next_version=reading.next_version,
        other_slot=reading.other_slot,
        parts=parts,
        unsaved=reading.unsaved,
    )


class Todo(Record):
    """What a hop has to do on one node.

    `image`: bring the release; `waiting`: it is installed already, and runs from the next restart on. `parts` are the
    components to be brought, `awaiting` those that are installed already and wait for the restart too. `stays`: all of
    it runs already, and only what would start next is laid as it was. `runs` is the image that the node runs now.
    `slotted`: the image lies in the node's other slot. `returns`: the node is out of service, and is taken back.
    `again`: it is restarted, or worked on by hand, and runs what it ran. `unsaved`: its configuration is saved first.
    """

    image: bool = False
    waiting: bool = False
    parts: tuple[Part, ...] = ()
    awaiting: tuple[Part, ...] = ()
    runs: str = ""
    stays: bool = False
    slotted: bool = False
    returns: bool = False
    again: bool = False
    unsaved: bool = False

    @property
    def restarts(self) -> bool:
        """Whether the node is restarted."""
        comes = (
            self.again or self.image or self.waiting or bool(self.awaiting) or any(part.waits for part in self.parts)
        )
        return comes and not self.stays

    @property
    def ahead(self) -> tuple[Part, ...]:
        """The components that are brought before any node's turn comes."""
        return tuple(part for part in self.parts if self.stays or not part.in_turn)

    @property
    def in_turn(self) -> tuple[Part, ...]:
        """The components that take a service down."""
        return () if self.stays else tuple(part for part in self.parts if part.in_turn)

    @property
    def has_turn(self) -> bool:
        """Whether the node is taken out at all."""
        return self.restarts or self.returns or bool(self.in_turn)


def hop_todo(
    hop: Hop | HopWork, product: Product, products: Mapping[str, Product], runs: Mapping[str, Runs]
) -> dict[str, Todo]:
    """The nodes that a hop works on, and what is to be done on each: whatever is
    older than the hop's releases, or of which the catalog does not know.

    What is ahead is left alone. A hop that leads back works on what is newer, and on
    what would start something newer. The planner and the engine both go by this.
    """
    chosen = {node: now for node, now in runs.items() if node in (hop.nodes or runs)}
    if hop.restarts or hop.by_hand:
        return {n: Todo(again=True, runs=now.version, unsaved=now.unsaved) for n, now in chosen.items()}
    if hop.back:
        back = {node: _todo_back(hop, product, products, node, now) for node, now in chosen.items()}
        return {node: todo for node, todo in back.items() if todo is not None}
    ahead = {node: _todo_ahead(hop, product, products, now) for node, now in chosen.items()}
    return {node: todo for node, todo in ahead.items() if todo is not None}


def _todo_ahead(hop: Hop | HopWork, product: Product, products: Mapping[str, Product], now: Runs) -> Todo | None:
    """What is to be done on a node that a hop leads on: None where nothing on it is older."""
    image = hop.image and is_older(product, now.version, hop.to)
    waiting = image and product.same(now.next_version, hop.to)
    here = [(part, *now.parts[part.component]) for part in hop.parts if part.component in now.parts]
    older = [(part, after) for part, at, after in here if _part_is_older(products[part.product], at, part)]
    if not image and not older:
        return None
    installed = [part for part, after in older if part.waits and products[part.product].same(after, part.to)]
    return Todo(
        image=image and not waiting,
        waiting=waiting,
        parts=tuple(part for part, _ in older if part not in installed),
        awaiting=tuple(installed),
        runs=now.version,
        unsaved=now.unsaved,
    )


def _todo_back(
    hop: Hop | HopWork, product: Product, products: Mapping[str, Product], node: str, now: Runs
) -> Todo | None:
    """What is to be done on a node that a hop leads back: None where nothing on it is newer or would start so."""
    newer = hop.image and _is_newer(product, now.version, hop.to)
    starts_newer = hop.image and _is_newer(product, now.next_version or now.version, hop.to)
    parts, awaiting, any_newer = _parts_back(hop, products, now)
    todo = Todo(
        image=starts_newer,
        waiting=newer and not starts_newer,
        parts=parts,
        awaiting=awaiting,
        runs=now.version,
        stays=not newer and not any_newer,
        slotted=product.same(now.other_slot, hop.to) or (not newer and now.other_slot is not None),
        returns=node in hop.returns,
        unsaved=now.unsaved,
    )
    return todo if todo.image or todo.waiting or todo.parts or todo.awaiting or todo.returns else None


def _parts_back(
    hop: Hop | HopWork, products: Mapping[str, Product], now: Runs
) -> tuple[tuple[Part, ...], tuple[Part, ...], bool]:
    """The components that are to go back, those that wait for a restart alone, and whether any newer one runs."""
    parts = [part for part in hop.parts if part.component in now.parts]
    run = [p for p in parts if _part_is_newer(products[p.product], now.parts[p.component][0], p)]
    would = {p.component: now.parts[p.component][1] or now.parts[p.component][0] for p in parts}
    start = [p for p in parts if _part_is_newer(products[p.product], would[p.component], p)]
    back = tuple(p for p in parts if p in (start if p.waits else run))
    return back, tuple(p for p in run if p.waits and p not in start), bool(run)


def _is_newer(product: Product, text: str, goal: str) -> bool:
    """Whether an image is newer than its goal; one that its catalog does not know is nothing that a roll brought."""
    release, running = product.resolve(goal), product.resolve(text)
    return release is not None and running is not None and product.key(running) > product.key(release)


def _part_is_newer(product: Product, text: str, part: Part) -> bool:
    goal, running = version_of(product, part.to), version_of(product, text)
    return goal is not None and running is not None and running > goal


def is_older(product: Product, text: str, goal: str) -> bool:
    """Whether an image is older than its goal; one that its catalog does not know counts as older."""
    release, running = product.resolve(goal), product.resolve(text)
    return release is None or running is None or product.key(running) < product.key(release)


def _part_is_older(product: Product, text: str, part: Part) -> bool:
    """The same for a component; a version that its catalog does not list can be compared all the same."""
    goal, running = version_of(product, part.to), version_of(product, text)
    return goal is None or running is None or running < goal


def closed_channels(
    readings: Mapping[str, Reading], hop: Hop, release: Release | None, todo: Mapping[str, Todo]
) -> dict[str, tuple[str, ...]]:
    """The channels that something of a hop comes through and that are disabled on its node, by node."""
    found = {}
    for node, own in todo.items():
        wanted = {part.channel for part in own.parts}
        wanted |= {release.channel} if release is not None and own.image else set()
        closed = tuple(c.name for c in readings[node].channels or () if not c.enabled and c.name in wanted)
        if closed:
            found[node] = closed
    return found


def touched(waves: Sequence[Wave]) -> set[tuple[str, str]]:
    """What steps of these waves change something of: nodes, and on each the image or another component."""
    return {(n, step.component) for step in steps_of(waves) if KINDS[step.kind].touches for n in nodes_of(step)}


def widest(waves: Sequence[Wave]) -> int:
    """How many nodes these waves take out at the same time."""
    return max((sum(any(s.disturbs for s in t.steps) for t in wave.tracks) for wave in waves), default=1) or 1
