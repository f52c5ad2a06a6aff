"""Routes: the cheapest chain of releases from the running one to the aim, and why shorter or newer ones are refused.

An edge leads from any version that a release's `from_range` admits (absent: any older one) to that release. A recalled
release is never entered, nor one without a package. Cost is the publisher's minutes, then the number of hops.
"""

from __future__ import annotations

import heapq

from gallant.core.catalog import Product, Release
from gallant.core.records import Record
from gallant.core.versions import NotAVersion, Version, parse, parse_range


class RouteHop(Record, rename={"from_": "from"}):
    """One release to the next, with the publisher's minutes for one node."""

    from_: str
    to: str
    minutes: float
    bridge: bool
    one_way: bool


class Refusal(Record):
    """A release that is not on the route, and why."""

    version: str
    why: str


class Route(Record):
    """The chain of hops (empty: nothing to do, or `found` is false) and what was refused on the way."""

    start: str
    target: str
    found: bool
    hops: tuple[RouteHop, ...]
    refused: tuple[Refusal, ...]

    @property
    def minutes(self) -> float:
        return sum(hop.minutes for hop in self.hops)


def why_not_enter(release: Release) -> str | None:
    """The reason for which no route enters this release, whatever it comes from; None when it may."""
    if release.recall is not None:
        return release.recall.words
    if release.installer is None:
        return "the publisher offers no installer for it"
    return None


def admits(product: Product, release: Release, start: Version) -> str | None:
    """None when `release` installs on `start`, else why not."""
    if product.key(release) <= start:
        return f"it is not newer than {start}"
    if release.from_range is not None:
        allowed = parse_range(release.from_range)
        if start not in allowed:
            return f"it installs on {allowed.words()}; not on {start}"
    return None


def find_route(product: Product, start: str, target: Release, *, explain: bool = True) -> Route:
    """The cheapest route from the version `start` to `target`. `start` need not be in the catalog.

    `explain` false leaves `refused` empty where a route is found, for whoever looks at thousands of them. Raises `NotAVersion` when `start` is none of the product's scheme.
    """
    running = product.resolve(start)
    at = product.key(running) if running else parse(product.scheme, start)
    goal = product.key(target)
    hops = () if at == goal else _cheapest(product, at, goal)
    return Route(
        start=start,
        target=target.version,
        found=hops is not None,
        hops=hops or (),
        refused=tuple(_refusals(product, at, goal, hops)) if explain or hops is None else (),
    )


def _cheapest(product: Product, start: Version, goal: Version) -> tuple[RouteHop, ...] | None:
    """Dijkstra over (minutes, hops); among equal costs the chain of the newest releases wins, so the answer is one.

    Minutes belong to the release that is entered, and every chain enters the goal: where one hop leads there, no other
    chain is cheaper.
    """
    last = product.release(goal)
    if last is not None and why_not_enter(last) is None and admits(product, last, start) is None:
        return (_hop(start.text, last),)
    enterable = [
        (key, release)
        for key, release in reversed(product.between(start, goal))
        if why_not_enter(release) is None and (key == goal or release.stops_here)
    ]
    counter = 0
    queue: list[tuple[float, int, int, Version, tuple[RouteHop, ...]]] = [(0.0, 0, 0, start, ())]
    settled: set[Version] = set()
    while queue:
        minutes, count, _, at, chain = heapq.heappop(queue)
        if at == goal:
            return chain
        if at in settled:
            continue
        settled.add(at)
        for key, release in enterable:
            if key in settled or admits(product, release, at) is not None:
                continue
            hop = _hop(at.text, release)
            counter += 1
            heapq.heappush(queue, (minutes + hop.minutes, count + 1, counter, key, (*chain, hop)))
    return None


def _hop(start: str, release: Release) -> RouteHop:
    return RouteHop(
        from_=start, to=release.version, minutes=release.minutes.total, bridge=release.bridge, one_way=release.one_way
    )


def _refusals(product: Product, start: Version, goal: Version, hops: tuple[RouteHop, ...] | None) -> list[Refusal]:
    """Why not straight to the goal, and why not by any release between that a person might expect."""
    on_route = {hop.to for hop in hops or ()}
    refused: list[Refusal] = []
    for release in sorted(product.releases, key=product.key, reverse=True):
        key = product.key(release)
        if not start < key <= goal:
            continue
        blocked = why_not_enter(release)
        direct = admits(product, release, start)
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
    known = sorted(product.releases, key=product.key)
    older = [r.version for r in known if product.key(r) < key]
    newer = [r.version for r in known if product.key(r) > key]
    if older and newer:
        return f"not in the catalog; between {older[-1]} and {newer[0]}"
    if older:
        return f"not in the catalog; after {older[-1]}, the newest there"
    return (
        f"not in the catalog; before {newer[0]}, the oldest there"
        if newer
        else "not in the catalog, which has no releases"
    )
