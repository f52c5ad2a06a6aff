"""Gaps and routes: bars for the whole estate, then rows, worst first, each with its reasons."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from datetime import datetime
from itertools import groupby, islice
from typing import TYPE_CHECKING

from gallant.core.assess.gaps import STANDINGS, Gap
from gallant.core.assess.routes import Route, RouteHop
from gallant.core.versions import parse_range
from gallant.views.palette import TERMINAL
from gallant.views.parts import Drawn, View
from gallant.views.tables import Grid, barred_lines, next_steps, table
from gallant.views.words import (
    BOLD,
    DIM,
    LOUD,
    OFF,
    YELLOW,
    WordMarks,
    ago,
    duration,
    many,
    mark,
    moment,
    on,
    plain,
    said,
)

if TYPE_CHECKING:
    from gallant.core.catalog.bundles import BundleMatch
    from gallant.core.estate.systems import Note
    from gallant.operations.assess.gaps import Assessment, GapShown
    from gallant.operations.assess.route import RouteAnswer
    from gallant.operations.ground.last import ConflictRow

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
MOST_ROWS = 40  # a screen or two; beyond, a person names what to look at


def gaps_view(result: Assessment, now: datetime, selected: bool, whole: bool = False) -> View:
    """`whole`: every row, where somebody asked for an order or a number of them."""
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
    return View(
        "gaps",
        lambda: [_row(s) for s in result.shown],
        lambda: _gaps_text(result, now, selected, whole),
        more,
        fields=GAP_FIELDS,
    )


def _row(shown: GapShown) -> dict[str, object]:
    gap: Gap = shown.gap
    verdict = gap.verdict
    return {
        "system": gap.system,
        "node": gap.node,
        "component": gap.component,
        "product": gap.product,
        "installed": gap.installed,
        "target": gap.target,
        "standing": gap.standing,
        "severity": gap.severity,
        "restart": gap.restart,
        "hops": gap.hops,
        "reasons": gap.reasons,
        "security": gap.security,
        "kind": gap.kind,
        "aim": verdict.aim,
        "releases_behind": verdict.releases_behind,
        "days_behind": verdict.days_behind,
        "disruptive": gap.disruptive,
        "one_way": verdict.one_way,
        "terms": verdict.terms,
        "then": shown.decision.then if gap.needs_work else None,
        "rule": shown.decision.rule if gap.needs_work else None,
        "change": shown.change,
    }


# The columns whose fields are called otherwise in the data.
GAP_FIELDS = {"aim": "target", "lag": "days_behind", "by way of": "hops"}


def _gaps_text(result: Assessment, now: datetime, selected: bool, whole: bool) -> Drawn:
    narrow = result.narrow
    if not selected and not (narrow.component or narrow.severe or narrow.changed or result.picked):
        yield _bars(result.tallies)
    every = narrow.changed or narrow.component or result.picked
    quiet = ("current",) if narrow.unknown else ("current", "unknown")
    loud = (s for s in result.shown if every or s.gap.standing not in quiet)
    alike = (list(group) for _, group in groupby(loud, key=None if result.named else _alike))
    groups = list(islice(alike, None if result.named or whole else MOST_ROWS))
    visible = [s for group in groups for s in group]
    more = sum(len(group) for group in alike)
    if visible:
        yield _gap_table(groups, narrow.changed)
    if any(s.gap.security for s in visible):
        yield f"{DIM}⚑ closes a security hole{OFF}"
    if more:
        yield f"{mark('note')} {more} more; name a system, or narrow it: gallant gaps --severe"
    yield from _reasons(visible, brief=not result.named)
    yield from _bundles(result.matches)
    yield _closing(result, len(visible) + more)
    if not every and not narrow.unknown:
        yield from _unknown(result)
    for name in result.unread:
        yield f"{mark('bad')} {name} was never read."
    yield from _ages(result, now)
    yield from barred_lines(result.barred)
    behind = [s.gap.system for s in visible if s.gap.needs_work and s.gap.hops]
    yield from next_steps(
        *(f"gallant survey {n}" for n in result.unread),
        *(f"gallant route {s}" for s in dict.fromkeys(behind[:1])),
        "gallant notice list" if any(s.gap.needs_work for s in visible) else None,
    )


def _bars(tallies: Mapping[tuple[str, str], Mapping[str, int]]) -> Grid:
    """One bar a site and kind, as long as it has components, filled by standing, worst first."""
    shown = table("site", "kind", "components", "", right=())
    longest = max((sum(t.values()) for t in tallies.values()), default=0)
    sites: dict[str, int] = {}
    for (site, _), tally in tallies.items():  # a site stands together, where its worst kind would
        sites[site] = min(sites.get(site, len(STANDINGS)), _standing_order(tally))
    worst = sorted(tallies.items(), key=lambda item: (sites[item[0][0]], item[0][0], _standing_order(item[1]), item[0]))
    last = None
    for (site, kind), tally in worst:
        bar = "".join(f"{on(FILLINGS[s][1])}{FILLINGS[s][0] * n}{OFF}" for s, n in _cells(tally, longest))
        told = ", ".join(f"{count} {standing}" for standing in STANDINGS if (count := tally.get(standing, 0)))
        shown.add_row(f"{BOLD}{site}{OFF}" if site != last else "", kind, bar, f"{sum(tally.values())}: {told}")
        last = site
    return shown


def _standing_order(tally: Mapping[str, int]) -> int:
    return next((n for n, standing in enumerate(STANDINGS) if tally.get(standing)), len(STANDINGS))


def _cells(tally: Mapping[str, int], longest: int) -> list[tuple[str, int]]:
    """Columns by standing: in proportion, and at least one for whatever there is."""
    scale = min(1.0, BAR / longest) if longest > BAR else min(BAR / max(1, longest), 4)
    return [(standing, max(1, round(count * scale))) for standing in STANDINGS if (count := tally.get(standing, 0))]


def _alike(shown: GapShown) -> tuple[object, ...]:
    """Nodes of a system that have the same gap in the same component are one row."""
    gap = shown.gap
    return (gap.system, gap.component, gap.installed, gap.verdict, shown.change)


def _whose(group: Sequence[GapShown]) -> str:
    """Which nodes a row is of: `tickets/a`, `tickets/a,b`, `deck-hw, 5 nodes`."""
    system, nodes = group[0].gap.system, [s.gap.node for s in group]
    names = ",".join(nodes)
    return f"{system}/{names}" if len(names) <= 12 else f"{system}, {len(nodes)} nodes"


def _gap_table(groups: Sequence[Sequence[GapShown]], changed: bool) -> Grid:
    columns = ["node", "component", "installed", "aim", "standing", "lag", "severity", "restart", "by way of"]
    if changed:
        columns.insert(3, "before")
    shown = table(*columns, right=("lag",), optional=("restart", "by way of"))
    for group in groups:
        s, g = group[0], group[0].gap
        severity = f"{g.severity}{' ⚑' if g.security else ''}" if g.severity else "–"
        cells = [
            f"{BOLD}{plain(_whose(group))}{OFF}",
            g.component,
            plain(g.installed),
            plain(g.target or "–"),
            said(STANDING_MARKS[g.standing], g.standing),
            _lag(g),
            f"{LOUD}{severity}{OFF}" if g.severity in ("critical", "high") else severity,
            g.restart or "–",
            " → ".join(g.hops) or "–",
        ]
        if changed:
            cells.insert(3, plain(s.change or ""))
        shown.add_row(*cells)
    return shown


def _lag(gap: Gap) -> str:
    days = gap.verdict.days_behind
    return f"{days} d" if gap.needs_work and days is not None else "–"


def _reasons(visible: Sequence[GapShown], brief: bool) -> Iterator[str]:
    """Each set of reasons once, under the names that share it; `brief` leaves out by how much, which the table says."""
    reasons: dict[tuple[str, ...], list[str]] = {}
    for s in visible:
        why = tuple(r for r in s.gap.reasons if not (brief and r == s.gap.verdict.lag))
        if why and s.gap.standing != "current":
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
    for s in result.shown:
        if s.gap.standing == "unknown":
            parts.setdefault((s.gap.system, s.gap.node), []).append(s.gap.component)
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


def conflicts_view(rows: Sequence[ConflictRow]) -> View:
    def text() -> Drawn:
        if not rows:
            yield said("good", "Every requirement between products that is known here holds.")
            return
        shown = table("system", "runs", "standing", "needs", "on", "which runs", "said by")
        for r in rows:
            shown.add_row(
                f"{BOLD}{r.system}{OFF}",
                plain(r.running),
                said("bad" if r.standing == "broken" else "work", r.standing),
                r.needs,
                plain(parse_range(r.range).words()),
                plain(r.other_running or "–"),
                plain(r.said_by),
            )
        yield shown
        yield from next_steps(*(f"gallant plan {r.system}" for r in rows if r.standing == "broken"))

    return View("gaps-conflicts", rows, text)


def route_view(answer: RouteAnswer) -> View:
    rows = [
        {
            "from": h.from_,
            "to": h.to,
            "minutes": h.minutes,
            "bridge": h.bridge,
            "one_way": h.one_way,
            "restart": h.restart,
            "snapshots": h.snapshots,
            "package": h.package,
            "leaves_recall": h.leaves_recall,
        }
        for h in answer.route.hops
    ]
    more = {
        "system": answer.system,
        "product": answer.product,
        "aim": answer.aim,
        "start": answer.start,
        "found": answer.route.found,
        "target": answer.route.target,
        "refused": answer.refused,
        "rules": answer.route.rules,
        "other_reasons": answer.route.others,
        "by_hand": answer.route.by_hand,
        "ways_out": answer.ways_out,
        "notes": answer.notes,
    }
    return View("route", rows, lambda: _route_text(answer), more)


def _what_bars(route: Route) -> Iterator[str]:
    """One reason, or several that each bar the way by themselves."""
    sole = not route.others
    without = "; without any one of these there would be one" if sole and len(route.rules) > 1 else ""
    count = "" if sole else f", for {1 + len(route.others)} reasons that each do it alone"
    yield f"{BOLD}What bars the way{OFF}{count}{without}"
    for number, reason in enumerate((route.rules, *route.others), 1):
        if not sole:
            yield f"  {BOLD}{number}{OFF} {'these together:' if len(reason) > 1 else ''}"
        yield from (f"  {'' if sole else '  '}{mark('bad')} {plain(r.version)}: {plain(r.why)}" for r in reason)


def _route_text(answer: RouteAnswer) -> Drawn:
    route = answer.route
    if not route.found:
        yield said("bad", f"{answer.system}: no route from {answer.start} to {route.target}")
        yield from _what_bars(route)
    elif not route.hops:
        yield said("good", f"{answer.system} runs {answer.start}, what its aim ({answer.aim}) asks for")
    else:
        path = " → ".join([answer.start, *(h.to for h in route.hops)])
        yield f"{BOLD}{answer.system}{OFF}  {plain(path)}   {DIM}aim: {answer.aim}; {answer.product}{OFF}"
        yield _hops(route.hops)
    if route.by_hand is not None and (route.by_hand.possible or not route.found):
        kind = "bad" if not route.by_hand.possible else "note" if route.found else "work"
        yield (
            f"{said(kind, 'By hand:')} a fresh install of {plain(route.by_hand.to)} with the saved configuration;"
            f" {plain(route.by_hand.why)}"
        )
    for note in answer.notes:
        yield note_line(note)
    if answer.ways_out:
        yield f"{BOLD}Ways out of the recalled release{OFF}"
        shown = table("way", "", "what", "why")
        for way in answer.ways_out:
            shown.add_row(
                f"{BOLD}{way.way}{OFF}",
                said("good", "open") if way.open else said("bad", "closed"),
                plain(way.what),
                plain(way.why),
            )
        yield shown
    if answer.refused:
        yield f"{BOLD}Refused{OFF}"
        other = table("release", "why")
        for r in answer.refused:
            other.add_row(plain(r.version), plain(r.why))
        yield other
    open_ways = [way.next for way in answer.ways_out if way.open]
    yield from next_steps(*open_ways, f"gallant stock fetch {answer.system}" if route.hops else None)


def note_line(note: Note) -> str:
    """The site's own word, with whose it is and when."""
    when = f", {note.date:%Y-%m-%d}" if note.date else ""
    return (
        f"{mark('note')} {BOLD}your own note{OFF} on {plain(note.about)}: {plain(note.text)}"
        f" {DIM}({plain(note.by)}{when}){OFF}"
    )


def _hops(hops: Sequence[RouteHop]) -> Grid:
    shown = table("hop", "from", "to", "per node", "restart", "", right=("per node",), optional=("restart",))
    for number, h in enumerate(hops, 1):
        flags = [
            words
            for words, yes in (
                ("bridge: the way to later releases", h.bridge),
                (f"{LOUD}✗ no way back: needs consent{OFF}", h.one_way),
                (f"{YELLOW}▲ no snapshots from here on{OFF}", not h.snapshots),
                (f"{YELLOW}▲ leaves {plain(h.from_)}, {plain(h.leaves_recall)}{OFF}", h.leaves_recall is not None),
            )
            if yes
        ]
        shown.add_row(
            str(number),
            plain(h.from_),
            f"{BOLD}{plain(h.to)}{OFF}",
            duration(h.minutes * 60),
            h.restart,
            "\n".join(flags),
        )
    return shown
