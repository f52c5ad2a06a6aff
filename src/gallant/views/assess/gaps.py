"""Gaps: bars for the whole estate, then rows, worst first, each with its reasons."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence
from datetime import datetime
from itertools import groupby, islice
from typing import TYPE_CHECKING, Annotated

from gallant.core.assess.fleet import AlikeGap, alike
from gallant.core.assess.gaps import STANDINGS, Verdict
from gallant.core.records import replace
from gallant.views.ground.palette import TERMINAL
from gallant.views.ground.parts import Drawn, Listed, View
from gallant.views.ground.rows import Counts, ListRow, Says
from gallant.views.ground.tables import MOST_BARRED, Grid, barred_lines, few, next_steps, table
from gallant.views.ground.words import (
    BOLD,
    DIM,
    LOUD,
    OFF,
    WordMarks,
    ago,
    many,
    mark,
    moment,
    on,
    plain,
    said,
)

if TYPE_CHECKING:
    from gallant.core.catalog.bundles import BundleMatch
    from gallant.core.estate.rules import Decision
    from gallant.operations.assess.gaps import Assessment, GapShown

STANDING_MARKS = WordMarks(
    {
        "current": "good",
        "ahead": "note",
        "behind": "work",
        "waits for restart": "work",
        "recalled": "bad",
        "blocked": "bad",
        "unknown": "quiet",
    }
)
# Each standing has a filling of its own, so that a bar reads without colour too.
FILLINGS = {
    "recalled": ("✗", TERMINAL["bad"]),
    "blocked": ("▚", TERMINAL["bad"]),
    "behind": ("▒", TERMINAL["warn"]),
    "waits for restart": ("▲", TERMINAL["warn"]),
    "unknown": ("?", TERMINAL["odd"]),
    "ahead": ("░", TERMINAL["accent"]),
    "current": ("█", TERMINAL["good"]),
}
BAR = 36  # columns of the longest bar
MOST_NAMES = 6  # that one set of reasons stands under
MOST_UNKNOWN = 5  # nodes, a line each
MOST_BY_SYSTEM = 40  # rows; beyond, alike systems are one row
# A fleet fits one screen of 40 lines: rows, reasons, bars, and what is said of catalogs and of what cannot be planned.
MOST_ALIKE, MOST_REASONS, MOST_BARS, MOST_CATALOGS = 14, 4, 6, 2
KNOWN = tuple(standing for standing in STANDINGS if standing != "unknown")
FLAG = f"{DIM}⚑ closes a security hole{OFF}"


class GapRow(ListRow):
    """A component, what it runs and what is to be said of it; the worst first."""

    system: str
    node: str
    component: str
    product: str
    installed: str
    target: str | None
    standing: str
    severity: str | None
    restart: str | None
    hops: tuple[str, ...]
    reasons: tuple[str, ...]
    security: Annotated[bool, Says("the target closes a security hole")]
    kind: str
    aim: Annotated[str, Says("what the estate asks for")]
    releases_behind: int | None
    days_behind: Annotated[int | None, Counts("days")]
    disruptive: Annotated[bool, Says("a service or a node is out for a while")]
    one_way: tuple[str, ...]
    terms: tuple[str, ...]
    then: Annotated[str | None, Says("what its rule does once there is a notice")]
    rule: Annotated[int | None, Says("which of the estate's rules says so")]
    change: Annotated[str | None, Says("since the survey before, with --changed")]

    @classmethod
    def of(cls, shown: GapShown) -> GapRow:
        gap, verdict, part = shown.gap, shown.gap.verdict, shown.gap.part
        work = gap.needs_work
        return cls(
            system=gap.reading.system,
            node=gap.reading.node,
            component=part.name,
            product=part.product,
            installed=part.version,
            target=verdict.target,
            standing=verdict.standing,
            severity=verdict.severity,
            restart=verdict.restart,
            hops=verdict.hops,
            reasons=verdict.reasons,
            security=verdict.security,
            kind=part.kind,
            aim=verdict.aim,
            releases_behind=verdict.releases_behind,
            days_behind=verdict.days_behind,
            disruptive=gap.disruptive,
            one_way=verdict.one_way,
            terms=verdict.terms,
            then=shown.decision.then if work else None,
            rule=shown.decision.rule if work else None,
            change=shown.change,
        )


GAPS: Listed[GapRow] = Listed(
    "gaps",
    "gaps",
    beside=("summary", "lags", "bundles", "unread", "compared_with", "barred"),
    headings={"lag": "days_behind", "systems": "system"},
)


def gap_rows(every: Iterable[GapShown]) -> Iterator[GapRow]:
    """A row for each gap. Of hundreds of thousands all but some hundreds differ from another one in where they are
    alone, so each is a copy of the first that says the same."""
    made: dict[tuple[int, int, str, str, str, str | None], tuple[GapShown, Decision, GapRow]] = {}
    for shown in every:
        reading, part, decision = shown.gap.reading, shown.gap.part, shown.decision
        key = (id(shown.gap.verdict), id(decision), part.product, part.version, part.kind, shown.change)
        known = made.get(key)
        if known is None:  # the first is kept as well, so that no other verdict or decision can have its identity
            known = made[key] = (shown, decision, GapRow.of(shown))
        yield replace(known[2], system=reading.system, node=reading.node, component=part.name)


def gaps_view(result: Assessment, now: datetime, selected: bool, whole: bool = False) -> View:
    """`whole`: every row, where somebody asked for all, or for an order or a number of them."""
    more = {
        "summary": [
            {"site": site, "kind": kind, "components": sum(tally.values()), "standings": tally}
            for (site, kind), tally in result.tallies.items()
        ],
        "lags": result.lags,
        "bundles": result.matches,
        "unread": result.unread,
        "compared_with": result.compared_with,
        "barred": result.barred,
    }
    return GAPS.view(lambda: gap_rows(result.shown), lambda: _gaps_text(result, now, selected, whole), more)


def _gaps_text(result: Assessment, now: datetime, selected: bool, whole: bool) -> Drawn:
    narrow = result.narrow
    every = bool(narrow.changed or narrow.component or result.picked)
    groups = _by_system(result, every, None if result.named or whole else MOST_BY_SYSTEM)
    if not selected and not (every or narrow.severe):
        yield from _bars(result.tallies, MOST_BARS if groups is None else None)
    if groups is None:
        yield from _fleet(result, every, now)
    else:
        yield from _each(result, groups, every, now)


def _each(result: Assessment, groups: Sequence[Sequence[GapShown]], every: bool, now: datetime) -> Drawn:
    """Every system by itself, with all that is to be said of it."""
    visible = [shown for group in groups for shown in group]
    if visible:
        yield _gap_table(groups, result.narrow.changed)
    if any(shown.gap.verdict.security for shown in visible):
        yield FLAG
    yield from _reasons(visible, brief=not result.named)
    yield from _bundles(result.matches)
    yield _closing(result, len(visible))
    if not every and not result.narrow.unknown:
        yield from _unknown(result)
    yield from (f"{mark('bad')} {name} was never read." for name in result.unread)
    yield from _ages(result, now)
    yield from barred_lines(result.barred)
    behind = [shown.gap.reading.system for shown in visible if shown.gap.needs_work and shown.gap.verdict.hops]
    yield from _next_of(result, behind[:1], any(shown.gap.needs_work for shown in visible))


def _fleet(result: Assessment, every: bool, now: datetime) -> Drawn:
    """Alike systems in one row, as many rows as a screen holds: how bad, where, what next."""
    rows = alike(result.shown.rows(but=_quiet(result, every)))
    yield fleet_table(rows[:MOST_ALIKE], result.narrow.changed)
    if any(row.verdict.security for row in rows[:MOST_ALIKE]):
        yield FLAG
    if len(rows) > MOST_ALIKE:
        left = sum(row.nodes for row in rows[MOST_ALIKE:])
        yield (
            f"{mark('note')} {many(len(rows) - MOST_ALIKE, 'more row')} of {many(left, 'component')};"
            " gallant gaps --all has every system by itself, gallant gaps --severe what should not wait"
        )
    yield from few(list(fleet_reasons(rows[:MOST_ALIKE])), MOST_REASONS, "reason")
    yield from few(list(_bundles(result.matches)), MOST_BARRED, "line")
    yield _closing(result, sum(row.nodes for row in rows))
    if not every and not result.narrow.unknown:
        yield from _unknown_in_all(result)
    if result.unread:
        names = f"{', '.join(result.unread[:3])}{' and others' if len(result.unread) > 3 else ''}"
        yield f"{mark('bad')} {many(len(result.unread), 'node')} never read: {plain(names)}"
    yield from islice(_ages(result, now), MOST_CATALOGS)
    yield from barred_lines(result.barred, MOST_CATALOGS)
    behind = [next(iter(row.systems)) for row in rows if row.verdict.needs_work and row.verdict.hops]
    yield from _next_of(result, behind[:1], any(row.verdict.needs_work for row in rows))


def _quiet(result: Assessment, every: bool) -> tuple[str, ...]:
    """The standings of which no row is shown."""
    return () if every else ("current",) if result.narrow.unknown else ("current", "unknown")


def _by_system(result: Assessment, every: bool, most: int | None) -> list[list[GapShown]] | None:
    """The rows of each system, nodes that are alike together; None where there are more than `most` of them."""
    quiet = _quiet(result, every)
    loud = (shown for shown in result.shown if shown.gap.verdict.standing not in quiet)
    groups = (list(group) for _, group in groupby(loud, key=None if result.named else _alike))
    found = list(islice(groups, most + 1 if most is not None else None))
    return None if most is not None and len(found) > most else found


def _next_of(result: Assessment, behind: Sequence[str], work: bool) -> list[str]:
    return next_steps(
        *(f"gallant survey {name}" for name in result.unread),
        *(f"gallant route {system}" for system in behind),
        "gallant notice list" if work else None,
    )


def _bars(tallies: Mapping[tuple[str, str], Mapping[str, int]], most: int | None) -> Iterator[Grid | str]:
    """One bar a site and kind, as long as it has components, filled by standing, worst first; of more than `most` the
    best are left out."""
    shown = table("site", "kind", "components", "", right=())
    longest = max((sum(t.values()) for t in tallies.values()), default=0)
    sites: dict[str, int] = {}
    for (site, _), tally in tallies.items():  # a site stands together, where its worst kind would
        sites[site] = min(sites.get(site, len(STANDINGS)), _standing_order(tally))
    worst = sorted(tallies.items(), key=lambda item: (sites[item[0][0]], item[0][0], _standing_order(item[1]), item[0]))
    last = None
    for (site, kind), tally in worst[:most]:
        bar = "".join(f"{on(FILLINGS[s][1])}{FILLINGS[s][0] * n}{OFF}" for s, n in _cells(tally, longest))
        told = ", ".join(f"{count} {standing}" for standing in STANDINGS if (count := tally.get(standing, 0)))
        shown.add_row(f"{BOLD}{site}{OFF}" if site != last else "", kind, bar, f"{sum(tally.values())}: {told}")
        last = site
    yield shown
    if most is not None and len(worst) > most:
        left = sum(sum(tally.values()) for _, tally in worst[most:])
        yield f"{DIM}and {many(left, 'component')} of {len(worst) - most} more kinds and sites{OFF}"


def _standing_order(tally: Mapping[str, int]) -> int:
    return next((n for n, standing in enumerate(STANDINGS) if tally.get(standing)), len(STANDINGS))


def _cells(tally: Mapping[str, int], longest: int) -> list[tuple[str, int]]:
    """Columns by standing: in proportion, and at least one for whatever there is."""
    scale = min(1.0, BAR / longest) if longest > BAR else min(BAR / max(1, longest), 4)
    return [(standing, max(1, round(count * scale))) for standing in STANDINGS if (count := tally.get(standing, 0))]


def _alike(shown: GapShown) -> tuple[object, ...]:
    """Nodes of a system that have the same gap in the same component are one row."""
    gap = shown.gap
    return (gap.reading.system, gap.part.name, gap.part.version, gap.verdict, shown.change)


def _whose(group: Sequence[GapShown]) -> str:
    """Which nodes a row is of: `tickets/a`, `tickets/a,b`, `deck-hw, 5 nodes`."""
    system, nodes = group[0].gap.reading.system, [s.gap.reading.node for s in group]
    names = ",".join(nodes)
    return f"{system}/{names}" if len(names) <= 12 else f"{system}, {len(nodes)} nodes"


def _gap_table(groups: Sequence[Sequence[GapShown]], changed: bool) -> Grid:
    columns = ["node", "component", "installed", "target", "standing", "lag", "severity", "restart", "hops"]
    if changed:
        columns.insert(3, "before")
    shown = table(*columns, right=("lag",), optional=("restart", "hops"))
    for group in groups:
        s, g = group[0], group[0].gap
        cells = [f"{BOLD}{plain(_whose(group))}{OFF}", g.part.name, plain(g.part.version), *verdict_cells(g.verdict)]
        if changed:
            cells.insert(3, plain(s.change or ""))
        shown.add_row(*cells)
    return shown


def verdict_cells(verdict: Verdict) -> list[str]:
    """Target, standing, lag, severity, restart and hops, as every table of gaps has them."""
    severity = f"{verdict.severity}{' ⚑' if verdict.security else ''}" if verdict.severity else "–"
    days = verdict.days_behind if verdict.needs_work else None
    return [
        plain(verdict.target or "–"),
        said(STANDING_MARKS[verdict.standing], verdict.standing),
        f"{days} d" if days is not None else "–",
        f"{LOUD}{severity}{OFF}" if verdict.severity in ("critical", "high") else severity,
        verdict.restart or "–",
        " → ".join(verdict.hops) or "–",
    ]


def fleet_table(rows: Sequence[AlikeGap], changed: bool) -> Grid:
    """A row for each gap that systems share: whose it is by name as far as they fit, and on how many nodes."""
    columns = ["systems", "nodes", "component", "installed", "target", "standing", "lag", "severity", "restart", "hops"]
    if changed:
        columns.insert(4, "before")
    shown = table(*columns, right=("nodes", "lag"), optional=("hops", "restart", "lag", "nodes"))
    for row in rows:
        what = row.parts[0] if len(row.parts) == 1 else row.product
        cells = [f"{BOLD}{_who(row)}{OFF}", str(row.nodes), plain(what), plain(row.installed)]
        cells += [*([plain(row.change or "")] if changed else []), *verdict_cells(row.verdict)]
        shown.add_row(*cells)
    return shown


def _who(row: AlikeGap) -> str:
    more = len(row.systems) - 1
    return plain(next(iter(row.systems))) + (f" and {more} more" if more else "")


def fleet_reasons(rows: Sequence[AlikeGap]) -> Iterator[str]:
    """What is to be said of a row besides by how much it is behind, once for all rows of which it is said."""
    reasons: dict[tuple[str, ...], list[str]] = {}
    for row in rows:
        why = tuple(reason for reason in row.verdict.reasons if reason != row.verdict.lag)
        if why and row.verdict.standing != "current":
            reasons.setdefault(why, []).append(row.parts[0] if len(row.parts) == 1 else row.product)
    for why, parts in reasons.items():
        names = list(dict.fromkeys(parts))
        more = f" and {len(names) - 2} more" if len(names) > 2 else ""
        yield f"{BOLD}{plain(', '.join(names[:2]))}{OFF}{more}: {plain('; '.join(why))}"


def _reasons(visible: Sequence[GapShown], brief: bool) -> Iterator[str]:
    """Each set of reasons once, under the names that share it; `brief` leaves out by how much, which the table says."""
    reasons: dict[tuple[str, ...], list[str]] = {}
    for s in visible:
        why = tuple(r for r in s.gap.verdict.reasons if not (brief and r == s.gap.verdict.lag))
        if why and s.gap.verdict.standing != "current":
            reasons.setdefault(why, []).append(s.gap.name)
    for why, names in reasons.items():
        more = f" and {len(names) - MOST_NAMES} more" if len(names) > MOST_NAMES else ""
        yield f"{BOLD}{', '.join(names[:MOST_NAMES])}{OFF}{more}"
        yield from (f"  {plain(reason)}" for reason in why)


def _ages(result: Assessment, now: datetime) -> Iterator[str]:
    """How old what is known is: a line for each catalog that
    something is wrong with, and one for all others, by the oldest."""
    for name, fetched, problem in result.catalogs:
        if problem:
            yield f"{mark('bad')} catalog {plain(name)}: fetched {ago(fetched, now)}; {plain(problem)}"
    good = [(name, fetched) for name, fetched, problem in result.catalogs if not problem]
    if good:
        more = f", the oldest of {len(good)} that are about this" if len(good) > 1 else ""
        yield f"{DIM}catalog {plain(good[0][0])}: fetched {ago(good[0][1], now)}{more}{OFF}"


def _unknown(result: Assessment) -> Iterator[str]:
    """What no catalog says anything of, counted: it is no gap, and not
    nothing either. Nodes of a system that have the same are one."""
    parts: dict[tuple[str, str], list[str]] = {}
    for reading, part, _, _ in result.shown.rows(but=KNOWN):
        parts.setdefault((reading.system, reading.node), []).append(part.name)
    alike: dict[tuple[str, tuple[str, ...]], list[str]] = {}
    for (system, node), own in parts.items():
        alike.setdefault((system, tuple(own)), []).append(node)
    for (system, every), nodes in islice(alike.items(), MOST_UNKNOWN):
        told = f" and {len(every) - MOST_NAMES} more" if len(every) > MOST_NAMES else ""
        whose = f"{plain(system)}/{plain(nodes[0])}" if len(nodes) == 1 else f"{plain(system)}, {len(nodes)} nodes"
        each = " each" if len(nodes) > 1 else ""
        yield (
            f"{mark('quiet')} {BOLD}{whose}{OFF}: no catalog says anything of {many(len(every), 'component')}{each}"
            f" {DIM}({plain(', '.join(every[:MOST_NAMES]))}{told}){OFF}"
        )
    left = list(islice(alike.items(), MOST_UNKNOWN, None))
    if left:
        rest = sum(len(every) * len(nodes) for (_, every), nodes in left)
        yield (
            f"{mark('quiet')} and of {many(rest, 'component')} on"
            f" {many(sum(len(nodes) for _, nodes in left), 'more node', 'more nodes')}"
        )
    if parts:
        yield f"{DIM}gallant gaps --unknown shows them{OFF}"


def _unknown_in_all(result: Assessment) -> Iterator[str]:
    """The same of a fleet, in one line."""
    systems, count = dict[str, None](), 0
    for reading, _, _, _ in result.shown.rows(but=KNOWN):
        systems[reading.system] = None
        count += 1
    if count:
        names = f"{', '.join(islice(systems, 3))}{' and others' if len(systems) > 3 else ''}"
        yield (
            f"{mark('quiet')} No catalog says anything of {many(count, 'component')} on {many(len(systems), 'system')}"
            f" {DIM}({plain(names)}); gallant gaps --unknown shows them{OFF}"
        )


def _bundles(matches: Sequence[BundleMatch]) -> Iterator[str]:
    for match in matches:
        if match.whole:
            yield f"{mark('good')} {match.system} runs the bundle {plain(match.bundle)}"
            continue
        yield f"{mark('note')} {match.system} runs no bundle; nearest is {plain(match.bundle)}, broken by"
        yield from (f"  {plain(one.words)}" for one in match.breaks)


def _closing(result: Assessment, count: int) -> str:
    narrow = result.narrow
    if narrow.changed:
        when = (
            f" since the survey of {moment(result.compared_with)}"
            if result.compared_with
            else ": there was no survey before"
        )
        return f"{mark('note')} {many(count, 'component')} changed{when}."
    counts: Counter[str] = Counter()
    for tally in result.tallies.values():
        counts.update(tally)
    if narrow.component or narrow.severe or result.picked:
        return f"{mark('note')} {count} of {many(counts.total(), 'component')} shown."
    current = counts["current"]
    return (
        f"{mark('good')} {many(current, 'component')} current."
        if current
        else f"{mark('work')} No component is current."
    )
