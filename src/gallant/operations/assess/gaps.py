"""Installed against aimed-for: the gaps of the selected systems, narrowed to what was asked for, with their tallies."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime

from gallant.core.assess.gaps import NO_GAP, STANDINGS, Gap, Gaps, Verdict, find_gaps
from gallant.core.catalog.bundles import BundleMatch, match_bundle
from gallant.core.errors import WrongUse
from gallant.core.estate.picks import Pick, nothing_called, split
from gallant.core.estate.rules import Decision, Marks, decide
from gallant.core.plan.sifting import Barred
from gallant.core.readings import Component, Reading
from gallant.core.records import Record
from gallant.operations.assess.plannable import SYSTEM, barred_here, moved_by
from gallant.operations.ground.last import last_readings
from gallant.operations.ground.workplace import Workplace


class Narrow(Record):
    """Which gaps to show: of one component everywhere (`installed`: where it runs that version), only severe ones, only
    those that are not as they were at the survey before."""

    component: str | None = None
    installed: str | None = None
    severe: bool = False
    unknown: bool = False
    changed: bool = False


@dataclass(frozen=True, slots=True)
class GapShown:
    """A gap that is shown, and what it was at the survey before; what happens with it by the estate's rules is looked
    up when it is asked for, since of a large estate few are."""

    gap: Gap
    change: str | None
    decide: Decisions

    @property
    def decision(self) -> Decision:
        """What was decided on it; looked up when it is shown."""
        return self.decide(self.gap.reading, self.gap.part, self.gap.verdict)


class Lag(Record):
    """How far behind its aim a system's own software is: that of its slowest node. None: not known."""

    system: str
    site: str
    kind: str
    standing: str
    days: int | None
    releases: int | None


@dataclass(frozen=True)
class Assessment:
    """The gaps that were asked for, worst first and each made when it is looked at, and what the assessment rests on.

    `tallies` counts the standings of every selected component by (site, kind); `matches` are the systems that a bundle
    is about; `catalogs` are (name, fetched, problem); `barred` are systems with work to do that cannot be planned, and
    why; `picked`: only some components were asked for; `named`: systems or nodes by their names.
    """

    shown: ShownGaps
    narrow: Narrow
    tallies: dict[tuple[str, str], dict[str, int]]
    lags: tuple[Lag, ...]
    matches: tuple[BundleMatch, ...]
    unread: tuple[str, ...]
    compared_with: datetime | None
    catalogs: tuple[tuple[str, datetime | None, str | None], ...]
    barred: tuple[Barred, ...] = ()
    picked: bool = False
    named: bool = False

    @property
    def exit_code(self) -> int:
        """1 where there is work to do."""
        work = any(count for t in self.tallies.values() for s, count in t.items() if s not in NO_GAP)
        return 1 if self.unread or work else 0


def assess(place: Workplace, terms: Sequence[str], narrow: Narrow | None = None) -> Assessment:
    """Installed against aimed-for, over the newest readings of the selected nodes."""
    narrow = narrow or Narrow()
    terms, pick = split(place.estate, terms)
    readings, unread = last_readings(place, terms)
    everywhere = Pick(components=(narrow.component.casefold(),) if narrow.component is not None else ())
    for asked in (pick, everywhere):
        if (wrong := wrongly_picked(asked, readings)) is not None:
            raise wrong
    found = find_gaps(place.estate, readings.values(), place.products, place.clock.now(), place.bundles)
    before, compared_with = _before(place, readings) if narrow.changed else ({}, None)
    by_system: dict[str, list[Reading]] = {}
    for reading in readings.values():
        by_system.setdefault(reading.system, []).append(reading)
    matches = (match_bundle(name, rows, place.bundles, place.products) for name, rows in by_system.items())
    return Assessment(
        shown=ShownGaps(place, found, narrow, pick, before),
        narrow=narrow,
        picked=pick.asked,
        named=any(":" not in term for term in terms),
        tallies=_tallies(place, found),
        lags=_lags(place, found),
        matches=tuple(sorted((m for m in matches if m), key=lambda m: (m.whole, m.system))),
        unread=tuple(unread),
        compared_with=compared_with,
        catalogs=_ages(place, readings),
        barred=tuple(barred_here(place, moved_by(place, found), None if terms else readings).values()),
    )


def _ages(place: Workplace, readings: Mapping[str, Reading]) -> tuple[tuple[str, datetime | None, str | None], ...]:
    """The catalogs that say anything of what was looked at: those with a problem first, then the oldest."""
    products = {part.product for reading in readings.values() for part in reading.components}
    products |= {reading.product for reading in readings.values()}
    concerned = {s.name for s, c in place.catalogs if any(p.name in products for p in c.products)}
    sources = [s for s in place.readings.sources() if s.name in concerned or s.problem is not None]
    sources.sort(key=lambda s: (s.problem is None, s.fetched is not None, s.fetched, s.name))
    return tuple((s.name, s.fetched, s.problem) for s in sources)


ShownRow = tuple[Reading, Component, Verdict, str | None]


class ShownGaps:
    """The gaps that a narrowing leaves, as often as they are gone through."""

    def __init__(
        self, place: Workplace, found: Gaps, narrow: Narrow, pick: Pick, before: Mapping[str, tuple[str, str]]
    ) -> None:
        self._place, self._found, self._narrow, self._pick, self._before = place, found, narrow, pick, before
        self._every = not pick.asked and not (narrow.component or narrow.installed or narrow.severe)

    def __iter__(self) -> Iterator[GapShown]:
        decide = Decisions(self._place)
        for reading, part, verdict, change in self.rows():
            yield GapShown(Gap(reading=reading, part=part, verdict=verdict), change, decide)

    def rows(self, but: Sequence[str] = ()) -> Iterator[ShownRow]:
        """What each is made of (reading, component, verdict) and what changed, for anyone who counts them all; those
        of some standings (`but`) are left out."""
        rows, changed = self._found.rows(but), self._narrow.changed
        if self._every and not changed:
            yield from ((reading, part, verdict, None) for reading, part, verdict in rows)
            return
        for reading, part, verdict in rows:
            if not self._every and not self._is_meant(reading, part, verdict):
                continue
            change = _change(part, verdict, self._before.get(_key(reading, part))) if changed else None
            if change is not None or not changed:
                yield reading, part, verdict, change

    def _is_meant(self, reading: Reading, part: Component, verdict: Verdict) -> bool:
        """Whether a gap is among those that were asked for."""
        narrow, called = self._narrow, (part.kind, part.product)
        if not self._pick.takes(reading.system, [reading.node], part.name, called, verdict.severity, verdict.standing):
            return False
        if narrow.component is not None and narrow.component.casefold() not in map(
            str.casefold, (part.name, part.kind, part.product)
        ):
            return False
        if narrow.installed is not None and not _runs(self._place, part, narrow.installed):
            return False
        return verdict.severe or not narrow.severe


def wrongly_picked(pick: Pick, readings: Mapping[str, Reading]) -> WrongUse | None:
    """What to say where a component is meant that no reading has."""
    if not (pick.components or pick.of):
        return None
    names, words = dict[str, set[str]](), set[str]()
    for reading in readings.values():
        names.setdefault(reading.system, set()).update(part.name for part in reading.components)
        words.update(word for part in reading.components for word in (part.name, part.kind, part.product) if word)
    return nothing_called(pick, names, words)


class Decisions:
    """What the estate's rules say of gaps; nothing acts by itself that has no way back, or no way at all. Each is
    decided once for all gaps of one verdict on one kind of component, on systems of one kind and the same tags."""

    def __init__(self, place: Workplace) -> None:
        self.rules = place.estate.rules
        self._marks = {s.name: ((s.kind,) if s.kind else (), s.tags) for s in place.estate.systems.values()}
        self._known: dict[tuple[int, str, tuple[str, ...], tuple[str, ...]], tuple[Verdict, Decision]] = {}

    def __call__(self, reading: Reading, part: Component, verdict: Verdict) -> Decision:
        kinds, tags = self._marks[reading.system]
        known = self._known.get(key := (id(verdict), part.kind, kinds, tags))
        if known is None:  # the verdict is kept with it, so that no other one can come to have its identity
            known = self._known[key] = (verdict, self._decided(part, verdict, kinds, tags))
        return known[1]

    def _decided(self, part: Component, verdict: Verdict, kinds: tuple[str, ...], tags: tuple[str, ...]) -> Decision:
        marks = Marks(
            security=verdict.security,
            severity=verdict.severity,
            restart=verdict.restart,
            kinds=(*kinds, part.kind) if part.kind else kinds,
            tags=tags,
        )
        person = None
        if verdict.one_way:
            person = f"there is no way back from {verdict.one_way[0]}"
        elif verdict.needs_work and not verdict.hops and verdict.standing != "waits for restart":
            person = f"it is {verdict.standing}"
        return decide(self.rules, marks, person)


def _key(reading: Reading, part: Component) -> str:
    return f"{reading.system}/{reading.node}:{part.name}"


def _runs(place: Workplace, part: Component, text: str) -> bool:
    product = place.products.get(part.product)
    release = product.resolve(text) if product else None
    return part.version == text or (
        release is not None and product is not None and product.resolve(part.version) == release
    )


def _before(place: Workplace, readings: Mapping[str, Reading]) -> tuple[dict[str, tuple[str, str]], datetime | None]:
    """By component: version and standing by the readings before the newest, under today's catalogs and aims."""
    older = {name: r for name, r in place.readings.before_newest().items() if name in readings}
    found = find_gaps(place.estate, older.values(), place.products, place.clock.now(), place.bundles)
    return {_key(r, part): (part.version, verdict.standing) for r, part, verdict in found.rows()}, max(
        (r.taken for r in older.values()), default=None
    )


def _change(part: Component, verdict: Verdict, before: tuple[str, str] | None) -> str | None:
    if before is None:
        return "new"
    version, standing = before
    if version != part.version:
        return f"ran {version}"
    return f"was {standing}" if standing != verdict.standing else None


def _tallies(place: Workplace, found: Gaps) -> dict[tuple[str, str], dict[str, int]]:
    """Components by (site, kind of system) and standing."""
    tallies: dict[tuple[str, str], dict[str, int]] = {}
    for standing, readings, _ in found.standings():
        for name, count in Counter(map(SYSTEM, readings)).items():
            system = place.estate.systems[name]
            own = tallies.setdefault((system.site, system.kind or system.product), {})
            own[standing] = own.get(standing, 0) + count
    return dict(sorted(tallies.items()))


def _lags(place: Workplace, found: Gaps) -> tuple[Lag, ...]:
    """One a system, the farthest behind first."""
    slowest: dict[str, Verdict] = {}
    images = {system.name: system.product for system in place.estate.systems.values()}
    for reading, part, verdict in found.rows():
        if part.product == images[reading.system]:
            known = slowest.get(reading.system)
            if known is None or _far(verdict) > _far(known):
                slowest[reading.system] = verdict
    rows = []
    for name, verdict in slowest.items():
        system, done = place.estate.systems[name], verdict.standing in ("current", "ahead")
        rows.append(
            Lag(
                system=name,
                site=system.site,
                kind=system.kind,
                standing=verdict.standing,
                days=0 if done else verdict.days_behind,
                releases=0 if done else verdict.releases_behind,
            )
        )
    return tuple(sorted(rows, key=lambda r: (-(r.days or 0), -(r.releases or 0), r.system)))


def _far(verdict: Verdict) -> tuple[int, int, int]:
    return verdict.days_behind or 0, verdict.releases_behind or 0, -STANDINGS.index(verdict.standing)
