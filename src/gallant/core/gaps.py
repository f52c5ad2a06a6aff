"""Gaps: readings against catalogs and aims, one for each component, with its standing and the reasons.

Each distinct (product, installed, next, aim) is assessed once; an estate of ten thousand nodes runs few of them.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from datetime import datetime, timedelta
from operator import itemgetter

from gallant.core.aims import choose, parse_aim
from gallant.core.catalog import SEVERITIES, Product, Release
from gallant.core.estate import Estate, aim_for
from gallant.core.readings import Reading
from gallant.core.records import Record
from gallant.core.routes import describe_unknown, find_route
from gallant.core.versions import NotAVersion, parse

# Worst first: what a person should look at before the rest.
STANDINGS = ("recalled", "blocked", "unknown", "behind", "waits for restart", "ahead", "current")
SUPPORT_NEARLY_OVER = timedelta(days=90)


class Verdict(Record):
    """What is to be said of one installed version under one aim; `hops` are the versions to go through."""

    target: str | None = None
    standing: str
    severity: str | None = None
    security: bool = False
    restart: str | None = None
    hops: tuple[str, ...] = ()
    reasons: tuple[str, ...] = ()

    @property
    def rank(self) -> tuple[int, int]:
        """Worst standing first, then most severe."""
        return STANDINGS.index(self.standing), SEVERITIES.index(self.severity) if self.severity else len(SEVERITIES)


class Gap(Record, gc=False):
    """The difference between what a component runs and what its aim asks for: the component, and the verdict on it."""

    system: str
    node: str
    component: str
    product: str
    installed: str
    verdict: Verdict

    @property
    def target(self) -> str | None:
        return self.verdict.target

    @property
    def standing(self) -> str:
        return self.verdict.standing

    @property
    def severity(self) -> str | None:
        return self.verdict.severity

    @property
    def security(self) -> bool:
        return self.verdict.security

    @property
    def restart(self) -> str | None:
        return self.verdict.restart

    @property
    def hops(self) -> tuple[str, ...]:
        return self.verdict.hops

    @property
    def reasons(self) -> tuple[str, ...]:
        return self.verdict.reasons

    @property
    def needs_work(self) -> bool:
        return self.verdict.standing not in ("current", "ahead")


def find_gaps(estate: Estate, readings: Iterable[Reading], products: Mapping[str, Product], now: datetime) -> list[Gap]:
    """One gap a component, worst standing first, then most severe, then by system, component (the image first) and node."""
    by_system: dict[str, list[Reading]] = {}
    for reading in readings:
        by_system.setdefault(reading.system, []).append(reading)
    # Each verdict beside the way into its bucket.
    known: dict[tuple[str, str, str | None, str], tuple[Verdict, Callable[[Gap], None]]] = {}
    buckets: dict[tuple[int, int], list[Gap]] = {}
    for name in sorted(by_system):
        aims = {r.node: aim_for(estate, estate.systems[name], r.node) for r in by_system[name]}
        parts = [(c.name != "image", c.name, r.node, c) for r in by_system[name] for c in r.components]
        parts.sort(key=itemgetter(0, 1, 2))
        for _, component, node, c in parts:
            key = (c.product, c.version, c.next_version, aims[node])
            found = known.get(key)
            if found is None:
                verdict = assess(*key, products=products, now=now)
                found = known[key] = (verdict, buckets.setdefault(verdict.rank, []).append)
            found[1](
                Gap(
                    system=name,
                    node=node,
                    component=component,
                    product=c.product,
                    installed=c.version,
                    verdict=found[0],
                )
            )
    return [gap for rank in sorted(buckets) for gap in buckets[rank]]


def assess(
    product_name: str,
    installed: str,
    next_version: str | None,
    aim: str,
    *,
    products: Mapping[str, Product],
    now: datetime,
) -> Verdict:
    """The verdict on one installed version under one aim."""
    product = products.get(product_name)
    if product is None:
        return Verdict(standing="unknown", reasons=(f"no catalog here lists {product_name}",))
    choice = choose(parse_aim(aim), product, now)
    passed = tuple(f"{version} passed over: {why}" for version, why in choice.passed_over)
    running = product.resolve(installed)
    off_catalog = describe_unknown(product, installed)
    if choice.release is None:
        return Verdict(standing="unknown", reasons=(f"no release fits the aim {aim}", *passed))
    target = choice.release
    try:
        at = product.key(running) if running else parse(product.scheme, installed)
    except NotAVersion:
        return Verdict(target=target.version, standing="unknown", reasons=(f"{installed}: {off_catalog}",))
    notes = [f"{installed}: {off_catalog}"] if off_catalog else []
    notes += _support(running, now)
    if next_version is not None and next_version != installed:
        awaited = product.resolve(next_version)
        right = awaited is not None and awaited == target
        notes.insert(
            0,
            f"{next_version} is installed and runs from the next restart on"
            + ("" if right else f"; the aim is {target.version}"),
        )
        return Verdict(
            target=target.version,
            standing="waits for restart",
            severity=target.severity,
            security=target.security,
            restart=target.restart,
            hops=_hops_from(product, next_version, target),
            reasons=(*notes, *passed),
        )
    if at == product.key(target):
        return Verdict(target=target.version, standing="current", reasons=(*notes, *passed))
    if at > product.key(target):
        recalled = running is not None and running.recall is not None
        reason = running.recall.words if running and running.recall else f"newer than the aim {aim} asks for"
        return Verdict(
            target=target.version, standing="recalled" if recalled else "ahead", reasons=(reason, *notes, *passed)
        )
    return _behind(product, running, installed, target, tuple(notes), passed)


def _behind(
    product: Product,
    running: Release | None,
    installed: str,
    target: Release,
    notes: tuple[str, ...],
    passed: tuple[str, ...],
) -> Verdict:
    at = product.key(running) if running else parse(product.scheme, installed)
    newer = [r for _, r in product.between(at, product.key(target)) if r.recall is None]
    route = find_route(product, installed, target, explain=False)
    worst = min((r.severity for r in newer), key=SEVERITIES.index, default=target.severity)
    security = any(r.security for r in newer)
    if not route.found:
        why = next((r.why for r in route.refused if r.version == target.version), "no chain of releases leads there")
        return Verdict(
            target=target.version,
            standing="blocked",
            severity=worst,
            security=security,
            restart=target.restart,
            reasons=(f"no route to {target.version}: {why}", *notes, *passed),
        )
    days = (target.released - running.released).days if running else None
    behind = f"behind by {len(newer)} release{'s' * (len(newer) != 1)}" + (f" and {days} d" if days is not None else "")
    recalled = running is not None and running.recall is not None
    first = running.recall.words if running and running.recall else behind
    return Verdict(
        target=target.version,
        standing="recalled" if recalled else "behind",
        severity=worst,
        security=security,
        restart=target.restart,
        hops=tuple(hop.to for hop in route.hops),
        reasons=(first, *notes, *passed),
    )


def _hops_from(product: Product, start: str, target: Release) -> tuple[str, ...]:
    try:
        return tuple(hop.to for hop in find_route(product, start, target, explain=False).hops)
    except NotAVersion:
        return ()


def _support(running: Release | None, now: datetime) -> list[str]:
    if running is None or running.support_ends is None:
        return []
    if running.support_ends <= now:
        return [f"support ended on {running.support_ends:%Y-%m-%d}"]
    if running.support_ends - now <= SUPPORT_NEARLY_OVER:
        return [f"support ends on {running.support_ends:%Y-%m-%d}"]
    return []
