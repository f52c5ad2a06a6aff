"""The route of a system to its target, and what bars it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

from gallant.core.assess.routes import Route, RouteHop
from gallant.views.ground.notes import note_line
from gallant.views.ground.parts import Drawn, Listed, View
from gallant.views.ground.tables import Grid, next_steps, table
from gallant.views.ground.words import (
    BOLD,
    DIM,
    LOUD,
    OFF,
    YELLOW,
    duration,
    mark,
    plain,
    said,
)

if TYPE_CHECKING:
    from gallant.operations.assess.route import RouteAnswer

ROUTE: Listed[RouteHop] = Listed(
    "route",
    "route",
    beside=(
        "system",
        "product",
        "aim",
        "start",
        "found",
        "target",
        "refused",
        "rules",
        "other_reasons",
        "by_hand",
        "ways_out",
        "notes",
    ),
)


def route_view(answer: RouteAnswer) -> View:
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
    return ROUTE.view(answer.route.hops, lambda: _route_text(answer), more)


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
