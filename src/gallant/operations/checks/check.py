"""Health, now: read the systems, gather the facts, run the checks; keep what they found, and say what changed since."""

from __future__ import annotations

import asyncio
import itertools
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from datetime import datetime, timedelta

from gallant.core.catalog.products import Package, Release
from gallant.core.checks.all import CHECKS, check_named, run_checks, worst_first
from gallant.core.checks.drift import Drift, drift
from gallant.core.checks.facts import LEVELS, AskedFacts, BookedTime, Facts, Finding, RouteFacts
from gallant.core.decide.waivers import WAIVE, waivers, with_waivers
from gallant.core.documents import suggestion
from gallant.core.errors import GallantError, WrongUse
from gallant.core.estate.notes import notes_on
from gallant.core.estate.systems import System
from gallant.core.outages import Sample
from gallant.core.plan.alike import Routes
from gallant.core.ports import Driver
from gallant.core.readings import Alarm, Reading
from gallant.core.records import Record, clean, replace
from gallant.operations.assess.plannable import ways_to_plan
from gallant.operations.catalogs.sources import with_channel_states
from gallant.operations.checks import surroundings
from gallant.operations.ground.keepers import drivers_of
from gallant.operations.ground.last import Ahead, conflicts, issues_here, last_readings, releases_ahead
from gallant.operations.ground.survey import Survey, Surveyed, survey_with
from gallant.operations.ground.workplace import Workplace
from gallant.operations.length.jobs import job_seconds

NOTHING_AHEAD = Ahead(entered=(), running=())


class Health(Record):
    """What the checks found, worst first, and what is not as it was at an earlier run (`compared_with`: when that was).
    `ways` are the next steps towards a plan, where nothing prevents one."""

    findings: tuple[Finding, ...]
    drift: tuple[Drift, ...] = ()
    compared_with: datetime | None = None
    ways: tuple[str, ...] = ()


async def check(
    place: Workplace,
    terms: Sequence[str],
    only: Collection[str] = (),
    nodes: Collection[str] = (),
    phase: str | None = None,
    since: timedelta | None = None,
) -> Health:
    """Findings on every selected system, held against the run before, or against the one that was `since` ago."""
    systems, now = place.systems(terms), place.clock.now()
    nodes = {n.rpartition("/")[2] for n in nodes}
    _known_here(systems, only, nodes)
    moment = now if since is None else now - since
    earlier = {s.name: found for s in systems if (found := place.readings.findings_before(s.name, moment)) is not None}
    async with drivers_of(place, systems) as drivers:
        findings, survey = await check_with(place, systems, drivers, only=only, phase=phase)
    chosen = [f for f in findings if not nodes or f.node in nodes]
    unread = {(node.system, node.node) for node in survey.nodes if node.reading is None}
    before = list(_looked_at((f for _, rows in earlier.values() for f in rows), unread, only, phase))
    known = [f for f in chosen if f.system in earlier]
    changed = [d for d in drift(before, known) if not nodes or d.finding.node in nodes]
    troubled = any(f.level in ("stop", "warn") for f in chosen)
    return Health(
        findings=tuple(chosen),
        drift=tuple(changed),
        compared_with=max((at for at, _ in earlier.values()), default=None),
        ways=() if troubled else ways_to_plan(place, [s.name for s in systems]),
    )


def _known_here(systems: Sequence[System], only: Collection[str], nodes: Collection[str]) -> None:
    """Raise `WrongUse` for a check that does not exist, or a node that none of these systems has."""
    for name in (name for name in only if check_named(name) is None):
        raise WrongUse(
            f"No check {clean(name, 60)!r}{suggestion(name, [c.id for c, _ in CHECKS])}.",
            next="gallant check --list",
        )
    for node in set(nodes) - {n for s in systems for n in s.nodes}:
        raise WrongUse(f"None of these systems has a node {clean(node, 60)!r}.", next="gallant inventory lists them.")


def _looked_at(
    findings: Iterable[Finding], unread: Collection[tuple[str, str]], only: Collection[str], phase: str | None
) -> Iterator[Finding]:
    """Those of an earlier run whose check ran this time too, on what it could look at: what was not looked at is not
    gone. Of a system of which a node did not answer (`unread`), that is what concerns the nodes that did."""
    short = {system for system, _ in unread}
    for finding in findings:
        check = check_named(finding.check)
        if check is None or not check.is_asked(only, phase):
            continue
        of_node = finding.node is not None and (finding.system, finding.node) not in unread
        if of_node or finding.system not in short:
            yield finding


def exit_code(findings: Sequence[Finding], fail_on: str = "warn") -> int:
    """1 where a finding is as bad as `fail_on`, or worse."""
    worst = LEVELS.index(fail_on)
    return 1 if any(LEVELS.index(f.level) <= worst for f in findings) else 0


async def check_with(
    place: Workplace,
    systems: Sequence[System],
    drivers: Mapping[str, Driver],
    own_roll: str | None = None,
    only: Collection[str] = (),
    phase: str | None = None,
    entering: bool = True,
    still: Collection[str] = (),
) -> tuple[list[Finding], Survey]:
    """Findings and the survey they rest on. `own_roll` is the roll that asks, which does
    not stand in its own way. Without `entering` nothing is asked that concerns releases
    to come, nor of systems that stay `still`, whatever moves beside their image."""
    survey = await survey_with(place, [(s, tuple(s.nodes)) for s in systems], drivers)
    systems = [place.estate.systems[s.name] for s in systems]  # with what was just seen for the first time
    facts = await _all_facts(place, systems, survey, drivers, own_roll, still)
    known = waivers(place.ledger.about([WAIVE]))
    found = {f.name: with_waivers(run_checks(f, only, phase, entering), known, place.clock.now()) for f in facts}
    if not only and phase is None and entering and not still:
        place.readings.keep_findings(place.clock.now(), found)
    return worst_first([finding for rows in found.values() for finding in rows]), survey


async def _all_facts(
    place: Workplace,
    systems: Sequence[System],
    survey: Survey,
    drivers: Mapping[str, Driver],
    own_roll: str | None,
    still: Collection[str],
) -> list[Facts]:
    """What is known of each system; what is of the whole estate is looked up once for all of them."""
    hosts = await surroundings.read_hosts(place, systems, drivers, survey.readings())
    said, seen, routes = dict[str, list[str]](), dict[str, list[Surveyed]](), place.routes()
    for conflict in conflicts(place, []):
        said.setdefault(conflict.system, []).append(conflict.words)
    for node in survey.nodes:
        seen.setdefault(node.system, []).append(node)
    ways = _ways_of_the_uneven(place, survey)
    return await asyncio.gather(
        *(
            _facts(
                place,
                s,
                seen.get(s.name, ()),
                drivers[s.name],
                hosts,
                own_roll,
                said.get(s.name, ()),
                ways.get(s.name),
                s.name in still,
                routes,
            )
            for s in systems
        )
    )


def _ways_of_the_uneven(place: Workplace, survey: Survey) -> dict[str, str]:
    """The next step towards a plan of each system whose nodes run different versions."""
    versions: dict[str, set[str]] = {}
    for reading in survey.readings().values():
        versions.setdefault(reading.system, set()).add(reading.version)
    uneven = [name for name, found in versions.items() if len(found) > 1]
    every = last_readings(place, [])[0] if uneven else {}
    ways = {name: ways_to_plan(place, [name], every) for name in uneven}
    return {name: steps[0] for name, steps in ways.items() if steps}


def drifted(place: Workplace, systems: Sequence[System], findings: Sequence[Finding], before: datetime) -> list[Drift]:
    """What is new or worse since the run of the checks that was the newest at a moment; nothing where there was
    none."""
    earlier = {s.name: found for s in systems if (found := place.readings.findings_before(s.name, before)) is not None}
    old = [f for _, rows in earlier.values() for f in rows]
    return [d for d in drift(old, [f for f in findings if f.system in earlier]) if d.what in ("new", "worse")]


async def _facts(
    place: Workplace,
    system: System,
    seen: Sequence[Surveyed],
    driver: Driver,
    hosts: Mapping[str, Reading],
    own_roll: str | None,
    broken: Sequence[str],
    plan: str | None,
    still: bool,
    routes: Routes,
) -> Facts:
    """What is known of one system: its own nodes, its way ahead, what lies around it, and what only asking tells."""
    read = {n.node: with_channel_states(place, n.reading) for n in seen if n.reading is not None}
    readings = {n: read[n] for n in system.nodes if n in read}
    versions = [reading.version for reading in readings.values()]
    ahead = releases_ahead(place, system, versions, routes) if readings else NOTHING_AHEAD
    ahead = replace(ahead, entered=()) if still else ahead
    around = await surroundings.around(place, system, readings, hosts, own_roll)
    return Facts(
        system=system,
        readings=readings,
        errors={n.node: n.error for n in seen if n.error is not None},
        remedies={n.node: n.next for n in seen if n.error is not None and n.next is not None},
        alike={n.node: n.alike for n in seen if n.alike is not None},
        now=place.clock.now(),
        limits=place.estate.limits,
        route=_on_the_route(place, system, readings, ahead, broken, around.booked, plan),
        around=around,
        asked=await _asked(place, system, readings, ahead, driver),
    )


def _on_the_route(
    place: Workplace,
    system: System,
    readings: Mapping[str, Reading],
    ahead: Ahead,
    broken: Sequence[str],
    booked: BookedTime | None,
    plan: str | None,
) -> RouteFacts:
    product = place.products.get(system.product)
    kept = [p for r in ahead.running if (p := r.package_on(None, system.delivery)) is not None]
    releases = [release for release, _ in ahead.entered]
    hops = hops_of([r.version for r in readings.values()], releases)
    job = job_seconds(place, system, readings, releases) if booked else None
    return RouteFacts(
        wanted=ahead.packages,
        missing=_not_here(place, ahead.packages),
        unkept=_not_here(place, kept),
        notes=tuple(notes_on(place.estate, system, product, hops)) if product else (),
        issues=tuple(issues_here(place, system, product, releases, readings.values())) if product else (),
        terms=_terms_to_accept(place, system, releases),
        entering=tuple(r.version for r in releases),
        recalled={r.version: r.recall.words for r in (*ahead.running, *releases) if r.recall is not None},
        conflicts=tuple(broken),
        no_snapshots_from=next((r.version for r in releases if not r.snapshots), None),
        needed_s=job[0] if job is not None else None,
        plan=plan,
    )


def _not_here(place: Workplace, packages: Iterable[Package]) -> tuple[str, ...]:
    """The packages that are not in stock, by name."""
    return tuple(package.name for package in packages if not place.stock.has(package))


def _terms_to_accept(place: Workplace, system: System, releases: Sequence[Release]) -> tuple[str, ...]:
    """The terms of releases on the way that nobody has accepted yet."""
    publisher = system.product.partition("/")[0]
    terms = dict.fromkeys(release.terms for release in releases if release.terms)
    return tuple(one for one in terms if not place.ledger.accepted(one, publisher))


async def _asked(
    place: Workplace, system: System, readings: Mapping[str, Reading], ahead: Ahead, driver: Driver
) -> AskedFacts:
    """Whether services answer, whether the account for work is let in, and the nodes' own readiness test."""
    probes = await probe_services(place, system)
    let_in = await surroundings.may_act(place, driver, system, readings)
    tested, announced = await _own_tests(readings, ahead, driver)
    return AskedFacts(tested=tested, announced=announced, may_act=let_in, probes=probes)


async def _own_tests(
    nodes: Iterable[str], ahead: Ahead, driver: Driver
) -> tuple[dict[str, tuple[Alarm, ...]], dict[str, float]]:
    """What each node's own readiness test for the next release says; a test that cannot be had is a warning."""
    tested: dict[str, tuple[Alarm, ...]] = {}
    announced: dict[str, float] = {}
    if "self_test" not in driver.capabilities() or not ahead.entered:
        return tested, announced
    for node in nodes:
        try:
            found = await driver.self_test(node, ahead.entered[0][0].version)
        except GallantError as error:
            tested[node] = (Alarm(text=f"it could not be had: {error.what}", level="warn"),)
            continue
        tested[node] = found.findings
        if found.minutes is not None:
            announced[node] = found.minutes
    return tested, announced


async def probe_answers(place: Workplace, system: System, times: int = 3) -> dict[str, list[Sample]]:
    """By service of a system a few probes one after another, so that one that is
    slow by chance counts for nothing. What runs a command is asked once."""
    found: dict[str, list[Sample]] = {name: [] for name in system.services}
    for n in range(times):
        some = {name for name, service in system.services.items() if n == 0 or service.run is None}
        samples = await probe_services(place, replace(system, services={s: system.services[s] for s in some}))
        for name, sample in samples.items():
            found[name].append(sample)
    return found


async def probe_services(place: Workplace, system: System) -> dict[str, Sample]:
    """One probe of each service of a system."""
    from gallant.drivers.asking import ways_in
    from gallant.drivers.probe import probe

    ways = ways_in(place.folder)

    samples = await asyncio.gather(
        *(probe(name, service, place.clock, ways, 3.0) for name, service in system.services.items())
    )
    return {sample.service: sample for sample in samples}


def hops_of(versions: Sequence[str], releases: Sequence[Release]) -> list[tuple[str, str]]:
    """From and to of each hop that enters `releases`, the first from any of the running versions."""
    if not releases:
        return []
    first = [(version, releases[0].version) for version in dict.fromkeys(versions)]
    return first + [(a.version, b.version) for a, b in itertools.pairwise(releases)]
