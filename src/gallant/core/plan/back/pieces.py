"""What one hop gives back on each node: its image, its components, or both from a restore point."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Literal

from gallant.core.catalog.products import Package, Product, Release, version_of
from gallant.core.plan.back.case import BackCase, BackPiece, Obstacle
from gallant.core.plan.todo import Runs
from gallant.core.readings import IMAGE
from gallant.core.records import replace
from gallant.core.versions import parse_range
from gallant.core.work.plan import Hop, Part

Goal = str | Obstacle | None  # a version to go back to, what is in the way, or nothing that was done


def pieces_of(case: BackCase, hop: Hop, runs: Mapping[str, Runs]) -> Iterator[BackPiece | tuple[Obstacle, ...]]:
    """A hop's image and what shares its restart first, then what took a service
    down, then what went ahead of all; what is in the way of any of it instead."""
    together = tuple(part for part in hop.parts if part.waits)
    rest = tuple(part for part in reversed(hop.parts) if not part.waits)
    turns = tuple(part for part in rest if part.in_turn)
    ahead = tuple(part for part in rest if not part.in_turn)
    for image, parts in ((hop.image, together), (False, turns), (False, ahead)):
        for key, nodes in _alike(case, hop, image, parts, runs).items():
            yield _piece(case, hop, key, parts, tuple(nodes), runs)


def _alike(
    case: BackCase, hop: Hop, image: bool, parts: Sequence[Part], runs: Mapping[str, Runs]
) -> dict[tuple[Goal, ...], list[str]]:
    """The nodes that have anything to go back to, by what that is: the image's goal, then those of the parts."""
    goals: dict[tuple[Goal, ...], list[str]] = {}
    for node in case.nodes:
        own = _image_goal(case, hop, node, runs[node]) if image else None
        key = (own, *(part_goal(case, part, node, runs[node]) for part in parts))
        if any(goal is not None for goal in key):
            goals.setdefault(key, []).append(node)
    return goals


def _piece(
    case: BackCase,
    hop: Hop,
    goals: tuple[Goal, ...],
    parts: Sequence[Part],
    nodes: tuple[str, ...],
    runs: Mapping[str, Runs],
) -> BackPiece | tuple[Obstacle, ...]:
    """What some nodes go back to together: the image's goal first, then those of the parts."""
    image, *versions = goals
    to = image if isinstance(image, str) else None
    package = _package(case, hop, to, runs, nodes) if to is not None else None
    wanted = [(part, goal) for part, goal in zip(parts, versions, strict=True) if isinstance(goal, str)]
    back = [part_back(case, part, goal, nodes) for part, goal in wanted]
    if against := tuple(one for one in (*goals, package, *back) if isinstance(one, Obstacle)):
        return against
    return BackPiece(
        image=to,
        parts=tuple(part for part in back if isinstance(part, Part)),
        nodes=nodes,
        package=package if isinstance(package, Package) else None,
    )


def rewind(hop: Hop, nodes: tuple[str, ...]) -> BackPiece:
    """All of a hop at once, from the restore point that was taken before it."""
    oldest = {part.component: part for part in hop.parts}  # the last that is named is the oldest
    parts = tuple(replace(part, to=part.from_, from_=part.to) for part in oldest.values())
    return BackPiece(image=hop.from_, parts=parts, nodes=nodes, rewinds=hop.to)


def _image_goal(case: BackCase, hop: Hop, node: str, now: Runs) -> Goal:
    """What a node's image goes back to from this hop's release; None where nothing of it was begun there."""
    product, began = case.product, case.began(node)
    if began is None or not case.altered(node, IMAGE):
        return None
    to, base = product.resolve(hop.to), product.resolve(began)
    if base is None and (product.same(now.version, hop.to) or product.same(now.next_version, hop.to)):
        return case.obstacle(f"{began}, which ran before, is not in its catalog", [node])
    if base is None or to is None or product.key(base) >= product.key(to):
        return None
    bar = _in_the_way(case, hop, to, node, now)
    if bar is not True:
        return bar
    before = product.resolve(hop.from_)
    return began if before is None or product.key(base) > product.key(before) else hop.from_


def _in_the_way(case: BackCase, hop: Hop, to: Release, node: str, now: Runs) -> Obstacle | Literal[True] | None:
    """True where an image runs or would start the hop's release and may leave it; None where it does neither."""
    product = case.product
    at = product.resolve(now.version)
    if at is None or product.key(at) > product.key(to):
        return case.obstacle(f"it runs {now.version}, which this roll did not bring", [node])
    runs_it = product.key(at) == product.key(to)
    if runs_it and hop.one_way:
        return case.obstacle(_no_way_back(hop.to, hop.one_way_because), [node])
    return True if runs_it or product.same(now.next_version, hop.to) else None


def part_goal(case: BackCase, part: Part, node: str, now: Runs) -> Goal:
    """What a component goes back to; None where nothing of it was begun on the node."""
    product, began = case.ground.products.get(part.product), case.began(node, part.component)
    if not case.altered(node, part.component) or part.component not in now.parts or product is None or began is None:
        return None
    base, to = version_of(product, began), version_of(product, part.to)
    version, following = now.parts[part.component]
    runs_it = version_of(product, version) == to
    if base is None or to is None or base >= to or not (runs_it or product.same(following, part.to)):
        return None
    if part.one_way_because is None:
        before = version_of(product, part.from_)
        return began if before is None or base > before else part.from_
    words = _no_way_back(f"{part.component} {part.to}", part.one_way_because)
    return case.obstacle(words, () if part.raised else [node]) if runs_it else None


def _no_way_back(what: str, because: str | None) -> str:
    return f"there is no way back from {what}: {(because or 'the publisher gives none').rstrip('.')}"


def part_back(case: BackCase, part: Part, goal: str, nodes: Sequence[str]) -> Part | Obstacle:
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


def _without(case: BackCase, part: Part, product: Product, goal: str, nodes: Sequence[str]) -> tuple[str, ...]:
    """The nodes that could not be given a component's older release by what is at hand there."""
    read = case.ground.of(case.system)
    return tuple(
        n for n in nodes if not any(product.same(text, goal) for text in read[n].versions_at_hand(part.component))
    )


def _package(
    case: BackCase, hop: Hop, goal: str, runs: Mapping[str, Runs], nodes: Sequence[str]
) -> Package | Obstacle | None:
    """What the nodes are installed with on the way back; those that have it in their other slot need none."""
    product = case.product
    release, at = product.resolve(goal), product.resolve(hop.to)
    if release is None or at is None:
        return case.obstacle(f"{goal if release is None else hop.to} is no longer in its catalog", nodes)
    fitting = release.package_on(product.key(at), case.system.delivery)
    if fitting is not None and _goes_on(release, product, at.version):
        return fitting
    need = [node for node in nodes if not _has_it(case, runs[node], goal)]
    words = f"no package of {release.version} goes on {at.version}, and no other slot holds it"
    return case.obstacle(words, need) if need else None


def _has_it(case: BackCase, now: Runs, goal: str) -> bool:
    """Whether a node needs no package: it runs the release already, or falls back to its other slot."""
    has = case.product.same(now.other_slot, goal) or case.product.same(now.version, goal)
    return has and "fall_back" in case.knows.capabilities


def _goes_on(release: Release, product: Product, running: str) -> bool:
    """Whether a release may be installed where a newer one runs: as far as its publisher bounds what it goes on."""
    at = version_of(product, running)
    return release.from_range is None or (at is not None and at in parse_range(release.from_range))
