"""The hops of one lane, each with its waves and with how long it takes."""

from __future__ import annotations

import itertools
from collections.abc import Iterable, Mapping, Sequence

from gallant.core.assess.compat import OrderedHop
from gallant.core.catalog.products import Product, Release
from gallant.core.estate.capacity import standing_of
from gallant.core.estate.systems import System
from gallant.core.length.learning import paces_of
from gallant.core.length.spread import room_s
from gallant.core.plan.components import legs_of
from gallant.core.plan.ground import Ground, work_now
from gallant.core.plan.hops import hop_rounds, hop_waves
from gallant.core.plan.todo import Runs, Todo, closed_channels, hop_todo, runs_of
from gallant.core.records import replace
from gallant.core.shapes import SHAPES, NotSafe
from gallant.core.steps.kinds import DISABLE_CHANNEL, ENABLE_CHANNEL, RENEW_SPARE
from gallant.core.work.hop_work import HopWork
from gallant.core.work.paces import Pace, hop_key
from gallant.core.work.plan import (
    Hop,
    Part,
    waves_seconds,
)


def lane_hops(ground: Ground, system: System, ordered: Sequence[OrderedHop]) -> tuple[tuple[Hop, ...], dict[str, str]]:
    """The hops of one system with all of their waves, and the components
    that stay behind, each with the reason. Raises `NotSafe`."""
    _not_by_halves(ground, system)
    legs, left = legs_of(ground, system, ordered)
    last = max((n for n, (leg, _) in enumerate(legs) if leg.from_ != leg.to), default=None)
    planned = list[tuple[Hop, Release | None]]()
    for number, (leg, parts) in enumerate(legs):
        hop, release = _planned(ground, system, leg, parts)
        renews = number == last and RENEW_SPARE in ground.known_of(system).capabilities
        planned.append((replace(hop, renews_spare=renews), release))
    return with_waves(ground, system, planned), left


def with_waves(ground: Ground, system: System, planned: Iterable[tuple[Hop, Release | None]]) -> tuple[Hop, ...]:
    """Those hops of one system on which there is anything to do, with all of their waves, each from the roles and the
    versions that the one before it leaves. Raises `NotSafe`."""
    product, read, shape = ground.image_of(system), ground.of(system), SHAPES[system.shape]
    standing = standing_of(system, read, ground.estate.limits)
    runs = {node: runs_of(reading) for node, reading in read.items()}
    hops: list[Hop] = []
    for hop, release in planned:
        standing = replace(standing, wish=hop.wish)
        work = work_now(ground, system, hop, release)
        todo = hop_todo(work, product, ground.products, runs)
        if todo:
            _none_is_taken_back(system, work, product, runs, todo)
            if opens := _opened(ground, system, hop, release, todo):
                hop, work = replace(hop, channels=opens), replace(work, channels=opens)
            hops.append(replace(hop, waves=hop_waves(system, work, standing, todo)))
        taken = [t for together in hop_rounds(system, todo, standing) for t in together]
        out = () if any(work.has_turn for work in todo.values()) else standing.out
        standing = replace(standing, roles=shape.roles_after(tuple(system.nodes), standing.roles, taken), out=out)
        runs = {node: after_hop(now, todo[node], hop.to) if node in todo else now for node, now in runs.items()}
    return tuple(hops)


def _opened(
    ground: Ground, system: System, hop: Hop, release: Release | None, todo: Mapping[str, Todo]
) -> dict[str, tuple[str, ...]]:
    """The channels that are to be opened for a hop, by node, where the profile knows how to open and close one."""
    if not ground.known_of(system).capabilities.issuperset((ENABLE_CHANNEL, DISABLE_CHANNEL)):
        return {}
    return closed_channels(ground.of(system), hop, release, todo)


def _not_by_halves(ground: Ground, system: System) -> None:
    """Raise `NotSafe` where some nodes, or an order of them, are asked of a device that decides that by itself."""
    chosen, wish = ground.chosen.get(system.name, ()), ground.wishes.get(system.name, ())
    if ground.known_of(system).updates_all and system.name not in ground.still and (chosen or wish):
        raise NotSafe(
            f"{system.name} updates all of its nodes by one order, in an order of its own.",
            f"It takes no choice of {'nodes' if chosen else 'their order'}.",
            f"gallant plan {system.name}",
        )


def _none_is_taken_back(
    system: System, work: HopWork, product: Product, runs: Mapping[str, Runs], todo: Mapping[str, Todo]
) -> None:
    """Raise `NotSafe` where an order for all nodes would reach one that is ahead of it."""
    if not (work.image and work.knows.updates_all and any(one.image for one in todo.values())):
        return
    ahead = [n for n, now in runs.items() if n not in todo and not product.same(now.version, work.to)]
    if ahead:
        raise NotSafe(
            f"{system.name} brings all of its nodes to {work.to}, and {ahead[0]} runs {runs[ahead[0]].version}.",
            "Its one order would take that back.",
            f"Bring the others of {system.name} to {runs[ahead[0]].version} by hand",
        )


def after_hop(now: Runs, todo: Todo, to: str) -> Runs:
    """What a node runs once its part of a hop is done; what waits for a restart in vain still waits."""
    parts = {**now.parts, **{part.component: (part.to, None) for part in (*todo.parts, *todo.awaiting)}}
    if todo.image or todo.waiting:
        return Runs(version=to, parts=parts)
    return replace(now, parts=parts)


def _planned(ground: Ground, system: System, leg: OrderedHop, parts: tuple[Part, ...]) -> tuple[Hop, Release | None]:
    """A hop before it has waves, and the release that its image enters."""
    product = ground.image_of(system)
    at, image = product.resolve(leg.from_), leg.from_ != leg.to
    release = product.resolve(leg.to) if image else None
    hop = Hop(
        id=leg.id,
        system=system.name,
        from_=leg.from_,
        to=leg.to,
        image=release is not None,
        parts=parts,
        build=release.build if release is not None else None,
        one_way=release is not None and release.one_way,
        one_way_because=release.one_way_because if release is not None else None,
        snapshots=release is None or release.snapshots,
        restore_point=system.name in ground.snapshotted and at is not None and at.snapshots,
        package=release.package_on(product.key(at) if at else None, system.delivery) if release is not None else None,
        despite_recall=image and leg.to == ground.despite.get(system.name),
        needs=leg.needs,
        settings=release.settings if release is not None else (),
        nodes=ground.chosen.get(system.name, ()),
        paces=paces_for(ground, system, leg.from_, leg.to, parts),
        wish=ground.wishes.get(system.name, ()),
        waves=(),
    )
    return hop, release


def paces_for(ground: Ground, system: System, from_: str, to: str, parts: Sequence[Part]) -> dict[str, Pace]:
    """What was learned of the steps that such a hop has."""
    others = [(part.component, part.product, hop_key(part.from_, part.to)) for part in parts]
    return dict(paces_of(ground.learned, system.name, system.product, hop_key(from_, to), others))


def lane_seconds(ground: Ground, system: System, releases: Sequence[Release]) -> tuple[float, float]:
    """How long it takes to bring a system through `releases`, by the same steps as a plan's; and how long a window has
    to be in which none of its stretches is put off. Raises `NotSafe`."""
    read = ground.of(system)
    stations = [next(iter(read.values())).version, *(r.version for r in releases)]
    legs = [
        OrderedHop(id=f"{system.name}.{n}", system=system.name, from_=a, to=b)
        for n, (a, b) in enumerate(itertools.pairwise(stations), 1)
    ]
    hops = lane_hops(ground, system, legs)[0]
    return float(sum(waves_seconds(hop.waves) for hop in hops)), room_s(hops)
