"""Which components of a system go together behind one restart,
and in which order: as few restarts as their rules allow.

A layer is one thing with a version of its own, and the releases that it is to go through. Some releases
run as soon as they are installed; the others wait for their node's restart, and any number of them can
share one. What bars that is a release's requirement on another layer's product: at every moment it must
hold for all that may be running then, and in a restart that is the old and the new release of everything
that it switches. A requirement that is broken today may stay so or be mended, and never comes back.
"""

from __future__ import annotations

import heapq
from collections.abc import Iterator, Mapping, Sequence
from itertools import combinations

from gallant.core.catalog.products import Product, Release, version_of
from gallant.core.readings import IMAGE
from gallant.core.records import Record
from gallant.core.versions import parse_range

AT_ONCE, SERVICE, RESTART = "none", "service", "node"
FORMAT = "on-disk format"
# What goes before what where no requirement says so: the lowest layer
# first, the data last. A kind that is not here comes before the data.
KIND_ORDER = (
    "management controller",
    "BIOS",
    "NIC",
    "disk",
    "enclosure module",
    "system image",
    "OS package",
    "container image",
    "add-on module",
    "unknown",
    "reference data",
    FORMAT,
)
# With more than this many that could share one restart, only the largest sets are tried: 2^n would be too many.
MOST_SUBSETS = 6
MOST_STATES = 50_000


class Layer(Record):
    """One thing of a system: `running` is what its slowest node runs, `stations` the releases that it is to go through.

    `waits`: its last station is installed already on some node, and runs from the next restart on.
    """

    component: str
    kind: str
    product: Product
    running: str
    stations: tuple[Release, ...]

    @property
    def rank(self) -> tuple[int, str]:
        """Its place where no requirement says what goes first."""
        return rank_of(self.kind), self.component


class Move(Record):
    """One layer to one of its stations."""

    component: str
    station: int  # of the layer's stations, from 0


class Pass(Record):
    """What is done between two restarts, in this order, and what the
    restart that follows it switches (nothing: there is none)."""

    first: tuple[Move, ...] = ()
    switched: tuple[Move, ...] = ()


class Layers(Record):
    """The passes, and the layers that cannot come to their last station, each with the requirements that bar it."""

    passes: tuple[Pass, ...]
    stuck: dict[str, str] = {}


def rank_of(kind: str) -> int:
    """The place of a kind of component from the lowest layer up."""
    return KIND_ORDER.index(kind) if kind in KIND_ORDER else KIND_ORDER.index("unknown")


def find_passes(layers: Sequence[Layer]) -> Layers:
    """The work on all layers in the fewest restarts, each thing as early as it can be; formats of data after all else
    where nothing needs them sooner."""
    found: list[list[Pass]] = []
    late: list[Move] = []
    stuck: dict[str, str] = {}
    for group in _tied(layers):
        solved = _LayerGroup(group).solved()
        found.append(list(solved.passes))
        late += solved.late
        stuck |= solved.stuck
    ranks = {layer.component: layer.rank for layer in layers}
    merged = [
        Pass(
            first=tuple(_in_turn([p.first for p in side_by_side], ranks)),
            switched=tuple(sorted((m for p in side_by_side for m in p.switched), key=lambda m: ranks[m.component])),
        )
        for side_by_side in _aligned(found)
    ]
    if late:
        merged.append(Pass(first=tuple(sorted(late, key=lambda m: (m.station, ranks[m.component])))))
    return Layers(passes=tuple(p for p in merged if p.first or p.switched), stuck=stuck)


def _aligned(groups: Sequence[Sequence[Pass]]) -> Iterator[list[Pass]]:
    """The n-th pass of every group; what one does after its last restart waits for nobody else's."""
    for number in range(max(map(len, groups), default=0)):
        yield [group[number] for group in groups if number < len(group)]


def _in_turn(sequences: Sequence[Sequence[Move]], ranks: Mapping[str, tuple[int, str]]) -> Iterator[Move]:
    """Several sequences as one, each in its own order, the lowest layer first."""
    waiting = [list(sequence) for sequence in sequences if sequence]
    while waiting:
        waiting.sort(key=lambda moves: ranks[moves[0].component])
        yield waiting[0].pop(0)
        waiting = [moves for moves in waiting if moves]


def _tied(layers: Sequence[Layer]) -> list[list[Layer]]:
    """Layers that some requirement ties together, directly or by way
    of others. A layer is looked at once: a host has hundreds."""
    by_product: dict[str, list[int]] = {}
    for n, layer in enumerate(layers):
        by_product.setdefault(layer.product.name, []).append(n)
    group_of = list(range(len(layers)))

    def head(n: int) -> int:
        while group_of[n] != n:
            n = group_of[n]
        return n

    for n, layer in enumerate(layers):
        for product in _wanted(layer):
            for m in by_product.get(product, ()):
                group_of[head(m)] = head(n)
    groups: dict[int, list[Layer]] = {}
    for n, layer in enumerate(layers):
        groups.setdefault(head(n), []).append(layer)
    return [sorted(group, key=lambda one: one.rank) for group in groups.values()]


def _wanted(layer: Layer) -> set[str]:
    """The products that any of its releases requires something of."""
    releases = (*layer.stations, layer.product.resolve(layer.running))
    return {need.product for release in releases if release is not None for need in release.requires}


State = tuple[int, ...]  # by layer: 0 is what runs now, n its n-th station
Breach = tuple[int, int, str, str, int]


class _Solved(Record):
    passes: tuple[Pass, ...]
    late: tuple[Move, ...]
    stuck: dict[str, str]


class _LayerGroup:
    """The layers of one group, and what each requires of the others.

    The search is Dijkstra's over what all of them run, for the fewest restarts, and of those
    for the way on which everything is done earliest. It goes through every state that can be
    reached at all, so that where the goal cannot be, the best that can be is known too.
    """

    def __init__(self, layers: Sequence[Layer]) -> None:
        self.layers = list(layers)
        self.versions = [
            (version_of(layer.product, layer.running), *map(layer.product.key, layer.stations)) for layer in self.layers
        ]
        self.releases = [(layer.product.resolve(layer.running), *layer.stations) for layer in self.layers]
        self.goal = tuple(len(layer.stations) for layer in self.layers)
        self._needs = {
            (n, at): self._needs_of(n, release) for n, row in enumerate(self.releases) for at, release in enumerate(row)
        }

    def _needs_of(self, n: int, release: Release | None) -> list[tuple[str, str, int, tuple[bool, ...]]]:
        """What a release requires of other layers: product, range,
        which layer, and at which of its stations that holds."""
        found = []
        for need in release.requires if release is not None else ():
            allowed = parse_range(need.range)
            for m, other in enumerate(self.layers):
                if m != n and other.product.name == need.product:
                    holds = tuple(version is not None and version in allowed for version in self.versions[m])
                    found.append((need.product, need.range, m, holds))
        return found

    def solved(self) -> _Solved:
        formats = {n for n, layer in enumerate(self.layers) if layer.kind == FORMAT}
        if formats:
            way = self._search(frozenset(formats))
            rest = tuple(0 if n in formats else goal for n, goal in enumerate(self.goal))
            if way[-1][0] == rest and (late := self._raised(rest, sorted(formats))) is not None:
                return _Solved(passes=self._passes(way), late=tuple(late), stuck={})
        way = self._search(frozenset())
        return _Solved(passes=self._passes(way), late=(), stuck=self._stuck(way[-1][0]))

    def _raised(self, state: State, formats: Sequence[int]) -> list[Move] | None:
        """The formats raised one after the other, when all else is done; None where some rule bars that."""
        moves = []
        for n in formats:
            while state[n] < self.goal[n]:
                if not self._allowed(state, (n,)):
                    return None
                state = _moved(state, (n,))
                moves.append(Move(component=self.layers[n].component, station=state[n] - 1))
        return moves

    def _search(self, frozen: frozenset[int]) -> list[tuple[State, tuple[int, ...], bool]]:
        """The best way as (state, the layers that were moved into it, whether a restart did it), from the start on."""
        start = (0,) * len(self.layers)
        best: dict[State, tuple[int, int]] = {start: (0, 0)}
        waiting = [(*best[start], start)]
        before: dict[State, tuple[State, tuple[int, ...], bool]] = {}
        seen: set[State] = set()
        while waiting and len(seen) < MOST_STATES:
            restarts, late, state = heapq.heappop(waiting)
            if state in seen:
                continue
            seen.add(state)
            for moved, restart in self._moves(state, frozen):
                after = _moved(state, moved)
                cost = (restarts + restart, late + len(moved) * (restarts + restart))
                if after not in best or cost < best[after]:
                    best[after], before[after] = cost, (state, moved, restart)
                    heapq.heappush(waiting, (*cost, after))
        return self._way(min(seen, key=lambda state: (*self._short(state, frozen), best[state], state)), before)

    def _short(self, state: State, frozen: frozenset[int]) -> tuple[bool, int, int]:
        """How much of the goal a state lacks: the image's first of all."""
        lacks = [n for n, at in enumerate(state) if n not in frozen and at < self.goal[n]]
        image = any(self.layers[n].component == IMAGE for n in lacks)
        return image, len(lacks), sum(self.goal[n] - state[n] for n in lacks)

    def _way(
        self, state: State, before: Mapping[State, tuple[State, tuple[int, ...], bool]]
    ) -> list[tuple[State, tuple[int, ...], bool]]:
        way: list[tuple[State, tuple[int, ...], bool]] = []
        while state in before:
            previous, moved, restart = before[state]
            way.append((state, moved, restart))
            state = previous
        return [(state, (), False), *reversed(way)]

    def _moves(self, state: State, frozen: frozenset[int]) -> Iterator[tuple[tuple[int, ...], bool]]:
        """What can be done next: one layer that needs no restart, or one restart for some of those that do."""
        switched = []
        for n, layer in enumerate(self.layers):
            if n in frozen or state[n] == self.goal[n]:
                continue
            if layer.stations[state[n]].restart == RESTART:
                switched.append(n)
            elif self._allowed(state, (n,)):
                yield (n,), False
        sizes = range(len(switched), 0, -1)
        for size in sizes:
            fitting = [some for some in combinations(switched, size) if self._allowed(state, some)]
            yield from ((some, True) for some in fitting)
            if fitting and len(switched) > MOST_SUBSETS:
                return

    def _allowed(self, state: State, moved: Sequence[int]) -> bool:
        after = _moved(state, moved)
        return self._breaches(state, after) <= self._breaches(state, state)

    def _breaches(self, state: State, after: State) -> set[Breach]:
        """The requirements that do not hold while each layer runs either of the two."""
        return {
            (n, at, product, text, m)
            for n, both in enumerate(zip(state, after, strict=True))
            for at in both
            for product, text, m, holds in self._needs[n, at]
            if not (holds[state[m]] and holds[after[m]])
        }

    def _passes(self, way: Sequence[tuple[State, tuple[int, ...], bool]]) -> tuple[Pass, ...]:
        made: list[Pass] = []
        first: list[Move] = []
        for state, moved, restart in way[1:]:
            moves = [Move(component=self.layers[n].component, station=state[n] - 1) for n in moved]
            if restart:
                made.append(Pass(first=tuple(first), switched=tuple(moves)))
                first = []
            else:
                first += moves
        return (*made, Pass(first=tuple(first))) if first else tuple(made)

    def _stuck(self, state: State) -> dict[str, str]:
        """The layers that stay short of their last station, and which requirements bar their next step."""
        found: dict[str, str] = {}
        for n, layer in enumerate(self.layers):
            if state[n] == self.goal[n]:
                continue
            bars = self._breaches(state, _moved(state, (n,))) - self._breaches(state, state)
            said = [self._words(bar) for bar in sorted(bars)]
            found[layer.component] = "; ".join(said) or "too many ways to look at"
        return found

    def _words(self, bar: Breach) -> str:
        n, at, _, text, m = bar
        release = self.releases[n][at]
        assert release is not None  # only a release that is known requires anything
        needs = f"needs {self.layers[m].component} on {parse_range(text).words()}"
        return f"{self.layers[n].component} {release.version} {needs}"


def _moved(state: State, moved: Sequence[int]) -> State:
    return tuple(at + 1 if n in moved else at for n, at in enumerate(state))
