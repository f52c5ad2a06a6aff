"""Health, now: read the systems, gather the facts, run the checks."""

from __future__ import annotations

import asyncio
import itertools
from collections.abc import Sequence
from typing import Any

from gallant.core.catalog import Release
from gallant.core.checks import run_checks, worst_first
from gallant.core.errors import GallantError
from gallant.core.estate import System
from gallant.core.findings import Facts, Finding
from gallant.core.notes import notes_on
from gallant.core.outages import Sample
from gallant.core.readings import Alarm
from gallant.core.records import replace
from gallant.operations.assess import Ahead, issues_here, releases_ahead
from gallant.operations.sources import with_channel_states
from gallant.operations.survey import Survey, survey_with
from gallant.operations.workplace import Workplace
from gallant.stock.shelf import Shelf
from gallant.vault.backups import BackupStore


async def check(place: Workplace, terms: Sequence[str]) -> list[Finding]:
    """Findings on every selected system, worst first."""
    systems = place.systems(terms)
    async with place.drivers(systems) as drivers:
        findings, _ = await check_with(place, systems, drivers)
    return findings


def exit_code(findings: Sequence[Finding]) -> int:
    return 1 if any(f.level in ("stop", "warn") for f in findings) else 0


async def check_with(
    place: Workplace, systems: Sequence[System], drivers: Any, own_roll: str | None = None
) -> tuple[list[Finding], Survey]:
    """Findings and the survey they rest on. `own_roll` is the roll that asks, which does not stand in its own way."""
    survey = await survey_with(place, [(s, tuple(s.nodes)) for s in systems], drivers)
    probes = await asyncio.gather(*(probe_services(place, s) for s in systems))
    facts = [_facts(place, s, survey, p, own_roll) for s, p in zip(systems, probes, strict=True)]
    facts = await asyncio.gather(*(_with_readiness(place, f, drivers[f.name]) for f in facts))
    return worst_first([finding for f in facts for finding in run_checks(f)]), survey


async def _with_readiness(place: Workplace, facts: Facts, driver: Any) -> Facts:
    """With what each node's own readiness test for the next release says; a test that cannot be had is a warning."""
    if "self_test" not in driver.capabilities():
        return facts
    entered = releases_ahead(place, facts.system, [r.version for r in facts.readings.values()]).entered
    if not entered:
        return facts
    release, tested, announced = entered[0][0].version, {}, {}
    for node in facts.readings:
        try:
            found = await driver.self_test(node, release)
        except GallantError as error:
            tested[node] = (Alarm(text=f"it could not be had: {error.what}", level="warn"),)
            continue
        tested[node] = found.findings
        if found.minutes is not None:
            announced[node] = found.minutes
    return replace(facts, tested=tested, announced=announced)


async def probe_services(place: Workplace, system: System) -> dict[str, Sample]:
    from gallant.drivers.probe import probe

    samples = await asyncio.gather(
        *(probe(name, service, place.clock, 3.0) for name, service in system.services.items())
    )
    return {sample.service: sample for sample in samples}


def _facts(place: Workplace, system: System, survey: Survey, probes: dict[str, Sample], own_roll: str | None) -> Facts:
    seen = [n for n in survey.nodes if n.system == system.name]
    readings = {n.node: with_channel_states(place, n.reading) for n in seen if n.reading is not None}
    versions = [r.version for r in readings.values()]
    ahead = releases_ahead(place, system, versions) if readings else Ahead(entered=(), running=())
    shelf = Shelf(place.folder)
    kept = [p for r in ahead.running if (p := r.package_on(None, system.delivery)) is not None]
    rolls = [r.id for r in place.journal.open_rolls(system.name) if r.id != own_roll]
    product = place.products.get(system.product)
    releases = [release for release, _ in ahead.entered]
    return Facts(
        system=system,
        readings={n: readings[n] for n in system.nodes if n in readings},
        errors={n.node: n.error for n in seen if n.error is not None},
        alike={n.node: n.alike for n in seen if n.alike is not None},
        now=place.clock.now(),
        limits=place.estate.limits,
        backups=tuple(BackupStore(place.folder).all(system.name)),
        wanted=ahead.packages,
        missing=tuple(p.name for p in ahead.packages if not shelf.has(p)),
        unkept=tuple(p.name for p in kept if not shelf.has(p)),
        probes=probes,
        open_roll=rolls[0] if rolls else None,
        notes=tuple(notes_on(place.estate, system, product, hops_of(versions, releases))) if product else (),
        issues=tuple(issues_here(place, system, product, releases, readings.values())) if product else (),
        terms=tuple(
            t
            for t in dict.fromkeys(r.terms for r in releases if r.terms)
            if not place.ledger.accepted(t, system.product.partition("/")[0])
        ),
    )


def hops_of(versions: Sequence[str], releases: Sequence[Release]) -> list[tuple[str, str]]:
    """From and to of each hop that enters `releases`, the first from any of the running versions."""
    if not releases:
        return []
    first = [(version, releases[0].version) for version in dict.fromkeys(versions)]
    return first + [(a.version, b.version) for a, b in itertools.pairwise(releases)]
