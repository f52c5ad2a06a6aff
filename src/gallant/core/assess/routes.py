"""Routes: the cheapest chain of releases from the running one to the aim, and why shorter or newer ones are refused.

An edge leads from a version to a newer release; rules bar it: the release's `from_range` (absent: any older one), a
recall, an updater that does not stop there, no package that goes on that version, and what the nodes of one system may
run next to each other (a requirement of a release on its own product). Cost is the publisher's minutes, then
the number of hops. Where no chain is left, irreducible sets of these rules are named that bar every one.
"""

from __future__ import annotations

import heapq
import itertools
from collections.abc import Sequence
from collections.abc import Set as AbstractSet

from gallant.core.catalog.products import Product, Release
from gallant.core.estate.aims import runs_on
from gallant.core.reasons import reasons
from gallant.core.records import Record
from gallant.core.versions import NotAVersion, Version, parse, parse_range


class RouteHop(Record, rename={"from_": "from"}):
    """One release to the next, with the publisher's minutes for one node and the package that brings it.

    `snapshots` false: on the release that is entered no snapshot can be taken.
    `leaves_recall` says why the release that is left was recalled.
    """

    from_: str
    to: str
    minutes: float
    bridge: bool
    one_way: bool
    restart: str = "node"
    snapshots: bool = True
    package: str | None = None
    leaves_recall: str | None = None


class Refusal(Record):
    """A release that is not on the route, and why."""

    version: str
    why: str


class ByHand(Record):
    """A fresh install with the saved configuration: what remains for people at the machine."""

    to: str
    takes: str
    possible: bool
    why: str


class Route(Record):
    """The chain of hops (empty: nothing to do, or `found` is false) and what was refused on the way.

    Not found: `rules` is an irreducible set of what bars every chain; where dropping
    one of them would not be enough, `others` are the sets that bar it besides.
    """

    start: str
    target: str
    found: bool
    hops: tuple[RouteHop, ...]
    refused: tuple[Refusal, ...]
    rules: tuple[Refusal, ...] = ()
    others: tuple[tuple[Refusal, ...], ...] = ()
    by_hand: ByHand | None = None

    @property
    def minutes(self) -> float:
        """What its hops take in all, by the publisher."""
        return sum(hop.minutes for hop in self.hops)


def why_not_enter(release: Release, despite: AbstractSet[str] = frozenset()) -> str | None:
    """The reason for which no route enters this release, whatever it comes from; None when it may.

    `despite` are versions whose recall a named person set aside.
    """
    if release.recall is not None and release.version not in despite:
        return release.recall.words
    if not release.packages:
        return "the publisher offers no installer for it"
    return None


def admits(product: Product, release: Release, start: Version, delivery: str | None = None) -> str | None:
    """None when `release` installs on `start`, else why not."""
    if product.key(release) <= start:
        return f"it is not newer than {start}"
    if release.from_range is not None:
        allowed = parse_range(release.from_range)
        if start not in allowed:
            return f"it installs on {allowed.words()}; not on {start}"
    for skew in _skew(product, release):
        if start not in parse_range(skew):
            return f"its nodes run together with {parse_range(skew).words()} only, not with {start}"
    if release.packages and release.package_on(start, delivery) is None:
        return f"no package of it goes on {start}" + (f" by way of {delivery}" if delivery else "")
    return None


def _skew(product: Product, release: Release) -> list[str]:
    """What other nodes of the system may run while one runs this release: ranges of its own product."""
    return [requirement.range for requirement in release.requires if requirement.product == product.name]


class _Rule(Record):
    """What one release asks of the version it goes on: `allows` tells of each station whether it may."""

    version: str
    why: str
    allows: tuple[bool, ...]


class Stations:
    """Where a system may stand: number 0 is what it runs, the rest are the releases up to the goal, oldest first."""

    def __init__(
        self,
        product: Product,
        start: Version,
        goal: Version,
        delivery: str | None = None,
        despite: AbstractSet[str] = frozenset(),
    ) -> None:
        found = product.between(start, goal)
        self.product, self.delivery, self.despite = product, delivery, despite
        self.versions: list[Version] = [start, *(key for key, _ in found)]
        self.releases: list[Release] = [release for _, release in found]
        self._inside: dict[str, tuple[bool, ...]] = {}

    def inside(self, text: str) -> tuple[bool, ...]:
        """Which stations a VERS range holds; many releases share few ranges, so each is asked once."""
        found = self._inside.get(text)
        if found is None:
            allowed = parse_range(text)
            found = self._inside[text] = tuple(version in allowed for version in self.versions)
        return found

    def rules(self, number: int) -> list[_Rule]:
        """What bars the way to station `number` (1 and up), where anything does."""
        release = self.releases[number - 1]
        nowhere = (False,) * len(self.versions)
        made: list[tuple[str, tuple[bool, ...]]] = []
        if release.recall is not None and release.version not in self.despite:
            made.append((release.recall.words, nowhere))
        if passing := runs_on(release, self.product):
            made.append((passing, nowhere))
        if release.from_range is not None:
            allowed = self.inside(release.from_range)
            made.append((f"it installs on {parse_range(release.from_range).words()}", allowed))
        for skew in _skew(self.product, release):
            made.append((f"its nodes run together with {parse_range(skew).words()} only", self.inside(skew)))
        if not release.packages:
            made.append(("the publisher offers no installer for it", nowhere))
        elif any(p.from_range is not None or p.delivery is not None or p.kind != "installer" for p in release.packages):
            fits = tuple(release.package_on(v, self.delivery) is not None for v in self.versions)
            by_way = f" by way of {self.delivery}" if self.delivery else ""
            made.append((f"its packages go on some releases only{by_way}", fits))
        return [_Rule(version=release.version, why=why, allows=allows) for why, allows in made if not all(allows)]

    def edges(self, rules: Sequence[Sequence[_Rule]]) -> list[list[int]]:
        """From each station the stations that it leads to, under rules by station (those of station 1 first)."""
        ways: list[list[int]] = [[] for _ in self.versions]
        for number, own in enumerate(rules, 1):
            for at in range(number):
                if all(rule.allows[at] for rule in own):
                    ways[at].append(number)
        return ways


def find_route(
    product: Product,
    start: str,
    target: Release,
    *,
    explain: bool = True,
    delivery: str | None = None,
    hands: bool | None = None,
    despite: AbstractSet[str] = frozenset(),
) -> Route:
    """The cheapest route from the version `start` to `target`. `start` need not be in the catalog.

    `explain` false leaves `refused` empty where a route is found, and `rules` empty where none is, for anyone who looks
    at thousands of them. `hands` says whether anybody is at the machine, for the way by hand (None: do not look for
    one). Raises `NotAVersion` when `start` is none of the product's scheme.
    """
    running = product.resolve(start)
    at = product.key(running) if running else parse(product.scheme, start)
    goal = product.key(target)
    straight = why_not_enter(target, despite) or runs_on(target, product) or admits(product, target, at, delivery)
    if at == goal:
        hops: tuple[RouteHop, ...] | None = ()
    elif straight is None:  # minutes belong to the release that is entered, so no other chain is cheaper than one hop
        hops = (_hop(product, at, target, delivery),)
    else:
        stations = Stations(product, at, goal, delivery, despite)
        hops = _cheapest(stations) if goal > at else None
    why = _reasons(product, at, goal, delivery, despite) if explain and hops is None else []
    return Route(
        start=start,
        target=target.version,
        found=hops is not None,
        hops=hops or (),
        refused=tuple(_refusals(product, at, goal, hops, delivery, despite)) if explain or hops is None else (),
        rules=why[0] if why else (),
        others=tuple(why[1:]),
        by_hand=None if hands is None or at >= goal else _by_hand(target, at, hands),
    )


def _cheapest(stations: Stations) -> tuple[RouteHop, ...] | None:
    """Dijkstra over (minutes, hops); among equal costs the chain of the newest releases wins, so the answer is one."""
    ways = stations.edges([stations.rules(n) for n in range(1, len(stations.versions))])
    goal, counter = len(stations.versions) - 1, 0
    queue: list[tuple[float, int, int, tuple[int, ...]]] = [(0.0, 0, 0, (0,))]
    settled: set[int] = set()
    while queue:
        minutes, count, _, chain = heapq.heappop(queue)
        at = chain[-1]
        if at == goal:
            return tuple(
                _hop(stations.product, stations.versions[a], stations.releases[b - 1], stations.delivery)
                for a, b in itertools.pairwise(chain)
            )
        if at in settled:
            continue
        settled.add(at)
        for to in reversed(ways[at]):
            if to not in settled:
                counter += 1
                price = minutes + stations.releases[to - 1].minutes.total
                heapq.heappush(queue, (price, count + 1, counter, (*chain, to)))
    return None


def _hop(product: Product, start: Version, release: Release, delivery: str | None) -> RouteHop:
    left, package = product.release(start), release.package_on(start, delivery)
    return RouteHop(
        from_=left.version if left else start.text,
        to=release.version,
        minutes=release.minutes.total,
        bridge=release.bridge,
        one_way=release.one_way,
        restart=release.restart,
        snapshots=release.snapshots,
        package=package.name if package else None,
        leaves_recall=left.recall.words if left and left.recall else None,
    )


def _reasons(
    product: Product, start: Version, goal: Version, delivery: str | None, despite: AbstractSet[str]
) -> list[tuple[Refusal, ...]]:
    """What bars every chain: each reason a set of rules that do it together (core/reasons.py)."""
    if goal < start:
        return [
            (Refusal(version=goal.text, why=f"it is older than {start}, and nothing is rolled to an older release"),)
        ]
    stations = Stations(product, start, goal, delivery, despite)
    by_station = [stations.rules(n) for n in range(1, len(stations.versions))]
    every = [(n, k) for n, own in enumerate(by_station) for k in range(len(own))]

    def barred(kept: Sequence[tuple[int, int]]) -> bool:
        left: list[list[_Rule]] = [[] for _ in by_station]
        for n, k in kept:
            left[n].append(by_station[n][k])
        ways = stations.edges(left)
        seen, waiting = {0}, [0]
        while waiting:
            for to in ways[waiting.pop()]:
                if to not in seen:
                    seen.add(to)
                    waiting.append(to)
        return len(by_station) not in seen

    return [
        tuple(Refusal(version=by_station[n][k].version, why=by_station[n][k].why) for n, k in reversed(chosen))
        for chosen in reasons(every, barred)
    ]


def _by_hand(target: Release, start: Version, hands: bool) -> ByHand | None:
    """A fresh install of the target, where its publisher allows it and it takes the configuration saved on `start`."""
    if target.fresh_install is None or target.installer is None or target.recall is not None:
        return None
    taken = parse_range(target.fresh_install)
    fits = start in taken
    why = (
        "somebody is at the site to do it"
        if fits and hands
        else "nobody is at its site"
        if fits
        else f"it takes a configuration saved on {taken.words()}; not on {start}"
    )
    return ByHand(to=target.version, takes=taken.words(), possible=fits and hands, why=why)


def _refusals(
    product: Product,
    start: Version,
    goal: Version,
    hops: tuple[RouteHop, ...] | None,
    delivery: str | None,
    despite: AbstractSet[str],
) -> list[Refusal]:
    """Why not straight to the goal, and why not by any release between that a person might expect."""
    on_route = {hop.to for hop in hops or ()}
    refused: list[Refusal] = []
    for key, release in reversed(product.between(start, goal) if start < goal else []):
        blocked = why_not_enter(release, despite) or runs_on(release, product)
        direct = admits(product, release, start, delivery)
        if key == goal and release.version in on_route and len(hops or ()) > 1 and direct is not None:
            refused.append(Refusal(version=release.version, why=f"not in one hop: {direct}"))
        elif release.version not in on_route:
            reason = blocked or (f"not from here: {direct}" if direct else None)
            refused.append(
                Refusal(version=release.version, why=reason or "it would add a hop or minutes and nothing else")
            )
    return refused


def describe_unknown(product: Product, text: str) -> str | None:
    """For a version that the catalog lacks: where it lies among the known ones; None when the catalog has it."""
    if product.resolve(text) is not None:
        return None
    try:
        key = parse(product.scheme, text)
    except NotAVersion:
        return "not in the catalog, and no version of its scheme"
    older = [r.version for k, r in product.ascending if k < key]
    newer = [r.version for k, r in product.ascending if k > key]
    if older and newer:
        return f"not in the catalog; between {older[-1]} and {newer[0]}"
    if older:
        return f"not in the catalog; after {older[-1]}, the newest there"
    return (
        f"not in the catalog; before {newer[0]}, the oldest there"
        if newer
        else "not in the catalog, which has no releases"
    )
