"""What a way back is made from: what was done, what is in the way, and one system with both."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

from gallant.core.catalog.products import Package, Product
from gallant.core.estate.systems import System, node_name
from gallant.core.plan.ground import Ground
from gallant.core.readings import IMAGE
from gallant.core.records import Record
from gallant.core.steps.kinds import KINDS, nodes_of
from gallant.core.work.knows import Knows
from gallant.core.work.plan import Hop, Lane, Part, Plan, Step

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


class BackPiece(Record):
    """What `nodes` go back to together: the image, components, or both behind one restart; with `rewinds` all of a
    system by the restore point that was taken before that release, with `returns` nothing but into service."""

    nodes: tuple[str, ...]
    image: str | None = None
    parts: tuple[Part, ...] = ()
    package: Package | None = None
    rewinds: str | None = None
    returns: bool = False


class BackCase(Record):
    """One system's part of what is taken back: the `nodes` that go, and what the roll was to do and did on them."""

    ground: Ground
    system: System
    lane: Lane | None
    undone: Plan
    done: Did
    nodes: tuple[str, ...]

    @property
    def product(self) -> Product:
        """The image's catalog."""
        return self.ground.image_of(self.system)

    @property
    def knows(self) -> Knows:
        """What the system's driver knows."""
        return self.ground.known_of(self.system)

    @property
    def hops(self) -> tuple[Hop, ...]:
        """The hops that were planned for the system."""
        return self.lane.hops if self.lane is not None else ()

    def altered(self, node: str, component: str) -> bool:
        """Whether anything of a component was begun on a node."""
        return (self.system.name, node, component) in self.done.altered

    def began(self, node: str, component: str = IMAGE) -> str | None:
        """What ran before the roll did anything."""
        here = node_name(self.system, node)
        return self.undone.basis.versions.get(here if component == IMAGE else f"{here}:{component}")

    def obstacle(self, why: str, nodes: Sequence[str] = ()) -> Obstacle:
        """Why something cannot go back, as an obstacle of this system."""
        return Obstacle(system=self.system.name, nodes=tuple(nodes), why=why)


def newest(product: Product, texts: Sequence[str]) -> str:
    """Of some versions the newest, by the catalog."""
    known = [release for text in texts if (release := product.resolve(text)) is not None]
    return max(known, key=product.key).version if known else texts[0]
