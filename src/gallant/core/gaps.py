"""Gaps: readings against catalogs and aims, one for each component, with its standing and the reasons.

Each distinct (product, installed, next, aim) is assessed once; an estate of ten thousand nodes runs few of them.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from datetime import datetime, timedelta

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


class Gap(Record):
    """The difference between what a component runs and what its aim asks for. `hops` are the versions to go through."""

    system: str
    node: str
    component: str
    product: str
    installed: str
    target: str | None
    standing: str
    severity: str | None
    security: bool
    restart: str | None
    hops: tuple[str, ...]
    reasons: tuple[str, ...]

    @property
    def needs_work(self) -> bool:
        return self.standing not in ("current", "ahead")


class _Verdict(Record):
    target: str | None = None
    standing: str
    severity: str | None = None
    security: bool = False
    restart: str | None = None
    hops: tuple[str, ...] = ()
    reasons: tuple[str, ...] = ()


def find_gaps(estate: Estate, readings: Iterable[Reading], products: Mapping[str, Product], now: datetime) -> list[Gap]:
    """One gap a component, worst standing first, then most severe, then by name."""
    known: dict[tuple[str, str, str | None, str], _Verdict] = {}
    gaps: list[Gap] = []
    for reading in readings:
        aim = aim_for(estate, estate.systems[reading.system], reading.node)
        for component in reading.components:
            key = (component.product, component.version, component.next_version, aim)
            verdict = known.get(key)
            if verdict is None:
                verdict = known[key] = assess(*key, products=products, now=now)
            gaps.append(
                Gap(
                    system=reading.system,
                    node=reading.node,
                    component=component.name,
                    product=component.product,
                    installed=component.version,
                    target=verdict.target,
                    standing=verdict.standing,
                    severity=verdict.severity,
                    security=verdict.security,
                    restart=verdict.restart,
                    hops=verdict.hops,
                    reasons=verdict.reasons,
                )
            )
    gaps.sort(
        key=lambda g: (
            STANDINGS.index(g.standing),
            SEVERITIES.index(g.severity) if g.severity else len(SEVERITIES),
            g.system,
            g.component != "image",
            g.component,
            g.node,
        )
    )
    return gaps


def assess(
    product_name: str,
    installed: str,
    next_version: str | None,
    aim: str,
    *,
    products: Mapping[str, Product],
    now: datetime,
) -> _Verdict:
    """The verdict on one installed version under one aim."""
    product = products.get(product_name)
    if product is None:
        return _Verdict(standing="unknown", reasons=(f"no catalog here lists {product_name}",))
    choice = choose(parse_aim(aim), product, now)
    passed = tuple(f"{version} passed over: {why}" for version, why in choice.passed_over)
    running = product.resolve(installed)
    off_catalog = describe_unknown(product, installed)
    if choice.release is None:
        return _Verdict(standing="unknown", reasons=(f"no release fits the aim {aim}", *passed))
    target = choice.release
    try:
        at = product.key(running) if running else parse(product.scheme, installed)
    except NotAVersion:
        return _Verdict(target=target.version, standing="unknown", reasons=(f"{installed}: {off_catalog}",))
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
        return _Verdict(
            target=target.version,
            standing="waits for restart",
            severity=target.severity,
            security=target.security,
            restart=target.restart,
            hops=_hops_from(product, next_version, target),
            reasons=(*notes, *passed),
        )
    if at == product.key(target):
        return _Verdict(target=target.version, standing="current", reasons=(*notes, *passed))
    if at > product.key(target):
        recalled = running is not None and running.recall is not None
        reason = running.recall.words if running and running.recall else f"newer than the aim {aim} asks for"
        return _Verdict(
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
) -> _Verdict:
    at = product.key(running) if running else parse(product.scheme, installed)
    newer = [r for r in product.releases if at < product.key(r) <= product.key(target) and r.recall is None]
    route = find_route(product, installed, target)
    worst = min((r.severity for r in newer), key=SEVERITIES.index, default=target.severity)
    security = any(r.security for r in newer)
    if not route.found:
        why = next((r.why for r in route.refused if r.version == target.version), "no chain of releases leads there")
        return _Verdict(
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
    return _Verdict(
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
        return tuple(hop.to for hop in find_route(product, start, target).hops)
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
