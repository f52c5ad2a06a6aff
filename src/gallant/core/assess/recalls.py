"""Ways out of a recalled release that some or all nodes of a system already run.

Leaving it is always allowed. Which way is open depends on what is published, on whether the nodes that run it can go
back, and on the recall's own condition: where that is shown not to concern any node, the release may be finished by
somebody who signs for it by name.
"""

from __future__ import annotations

from collections.abc import Mapping

from gallant.core.assess.routes import find_route
from gallant.core.catalog.conditions import FactsByName, holds
from gallant.core.catalog.products import Product, Release
from gallant.core.records import Record

FORWARD, BACK, WAIT, FINISH = "forward", "back", "wait", "finish"


class WayOut(Record):
    """One way: whether it is open, what it does, and why it is
    (not) open; `next` is the command, where there is one."""

    way: str
    open: bool
    what: str
    why: str
    next: str | None = None


def recalled_among(product: Product, running: Mapping[str, Release]) -> Release | None:
    """The newest recalled release that a node runs."""
    found = [release for release in running.values() if release.recall is not None]
    return max(found, key=product.key, default=None)


def concerns(
    recalled: Release, product: Product, running: Mapping[str, Release], facts: Mapping[str, FactsByName]
) -> dict[str, bool | None]:
    """By node: whether the recall's condition holds there; None where the reading does not tell."""
    when = recalled.recall.when if recalled.recall else None
    return {node: holds(when, facts[node], product.key(release)) for node, release in running.items()}


def ways_out(
    system: str,
    product: Product,
    running: Mapping[str, Release],
    target: Release | None,
    facts: Mapping[str, FactsByName],
    delivery: str | None = None,
) -> tuple[WayOut, ...]:
    """Forward, back, wait, finish, in this order; empty where no node runs a recalled release. All by node name."""
    recalled = recalled_among(product, running)
    if recalled is None:
        return ()
    on = sorted(node for node, release in running.items() if release == recalled)
    forward = _forward(system, product, running, target, delivery)
    wait = WayOut(
        way=WAIT,
        open=not forward.open,
        what=f"leave it as it is until {product.name} has a successor that installs on what the nodes run",
        why="a successor is out" if forward.open else "none is out yet; gallant catalog sync looks for one",
        next=None if forward.open else "gallant catalog sync",
    )
    return (
        forward,
        _back(system, product, running, recalled, on),
        wait,
        _finish(system, product, running, recalled, facts),
    )


def _forward(
    system: str, product: Product, running: Mapping[str, Release], target: Release | None, delivery: str | None
) -> WayOut:
    what = f"every node on to {target.version}" if target else "on to a later release"
    if target is None or target.recall is not None:
        return WayOut(way=FORWARD, open=False, what=what, why="no release that is not recalled fits the aim")
    for node, release in sorted(running.items()):
        route = find_route(product, release.version, target, delivery=delivery)
        if not route.found:
            why = "; ".join(f"{r.version}: {r.why}" for r in route.rules)
            return WayOut(way=FORWARD, open=False, what=what, why=f"{system}/{node} has no route there: {why}")
    return WayOut(way=FORWARD, open=True, what=what, why="every node has a route there", next=f"gallant plan {system}")


def _back(system: str, product: Product, running: Mapping[str, Release], recalled: Release, on: list[str]) -> WayOut:
    older = [r for r in running.values() if product.key(r) < product.key(recalled)]
    names = ", ".join(f"{system}/{node}" for node in on)
    if not older:
        why = "every node runs it, and what they ran before is not known here"
        return WayOut(way=BACK, open=False, what=f"{names} back to an older release", why=why)
    before = max(older, key=product.key)
    what = f"{names} back to {before.version}, what the others run"
    if recalled.one_way:
        why = recalled.one_way_because or "there is no way back from it"
        return WayOut(way=BACK, open=False, what=what, why=why)
    if before.recall is not None:
        return WayOut(way=BACK, open=False, what=what, why=f"{before.version} was {before.recall.words}")
    why = "by hand: start the other image, or restore the backup taken before the hop"
    return WayOut(way=BACK, open=True, what=what, why=why, next=f"gallant backup list {system}")


def _finish(
    system: str, product: Product, running: Mapping[str, Release], recalled: Release, facts: Mapping[str, FactsByName]
) -> WayOut:
    rest = [node for node, release in sorted(running.items()) if product.key(release) < product.key(recalled)]
    what = f"{', '.join(f'{system}/{node}' for node in rest)} on to {recalled.version} too, signed for by name"
    if not rest:
        return WayOut(way=FINISH, open=False, what="nothing is left to finish", why="every node runs it")
    if recalled.recall is None or recalled.recall.when is None:
        return WayOut(way=FINISH, open=False, what=what, why="the recall names no condition, so it concerns every node")
    found = concerns(recalled, product, running, facts)
    for verdict, words in (
        (True, "the recall concerns"),
        (None, "the readings do not tell whether the recall concerns"),
    ):
        nodes = [f"{system}/{node}" for node, value in sorted(found.items()) if value is verdict]
        if nodes:
            return WayOut(way=FINISH, open=False, what=what, why=f"{words} {', '.join(nodes)}")
    command = f"gallant plan {system} --despite-recall {recalled.version}"
    return WayOut(way=FINISH, open=True, what=what, why="its condition holds on no node of the system", next=command)
