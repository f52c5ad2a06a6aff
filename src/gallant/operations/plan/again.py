"""When what lapsed would fit: placed anew beside all that is booked and under way, by what was read last."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping
from datetime import datetime, timedelta

from gallant.core.decide.notices import BOOKED
from gallant.core.length.pieces import PieceShare
from gallant.core.length.placing import Piece, first_fit, nights_of
from gallant.core.records import replace
from gallant.core.windows.rules import Span
from gallant.operations.decide import notices
from gallant.operations.ground.workplace import Workplace
from gallant.operations.plan.making import foreseen
from gallant.operations.plan.over_windows import at_once, booked_already, kept_as_booked, shares_of

FIRST = 1e9  # the weight of what has its time already: it is placed before what looks for one
AT_LEAST = timedelta(minutes=5)  # more that a roll needs which should have ended by now


def next_times(place: Workplace, lapsed: Mapping[str, Collection[str]]) -> dict[str, datetime]:
    """By system of what `lapsed` (system, components): the first time to come at which its work fits. Raises what
    `plan` would where none of it can be planned."""
    wanted = {name: set(parts) for name, parts in lapsed.items() if name in place.estate.systems}
    decided = [n for n in notices.listed(place, []).notices if n.state == BOOKED]
    for n in decided:
        wanted.setdefault(n.system, set()).add(n.component)
    if not wanted:
        return {}
    made, _ = foreseen(place, {name: tuple(sorted(parts)) for name, parts in sorted(wanted.items())}, partly=True)
    times = booked_already(decided, place.clock.now())
    shares = [_weighed(kept_as_booked(share, times), times) for share in shares_of(place, made)]
    pieces = [*_under_way(place), *(share.piece for share in shares)]
    begins = {p.piece: p.span.begin for p in first_fit(pieces, at_once(place.estate.limits), nights_of(pieces)).placed}
    return {
        name: _whole_minute(begins[share.piece.name])
        for share in shares
        if share.part == 1 and share.piece.name in begins
        for name in share.lanes
        if name in lapsed
    }


def _whole_minute(moment: datetime) -> datetime:
    """The first whole minute that is not before: what it would begin beside has ended by then."""
    down = moment.replace(second=0, microsecond=0)
    return down if down == moment else down + timedelta(minutes=1)


def _weighed(share: PieceShare, times: Mapping[str, datetime]) -> PieceShare:
    if share.part > 1 or not any(name in times for name in share.lanes):
        return share
    return replace(share, piece=replace(share.piece, weight=FIRST))


def _under_way(place: Workplace) -> Iterator[Piece]:
    """The rolls that a process carries out, each of their systems as long as its whole plan."""
    now = place.clock.now()
    for row in (row for row in place.journal.open_rolls() if place.journal.is_running(row.id)):
        end = max(row.began + timedelta(seconds=row.plan.estimate_s), now + AT_LEAST)
        for name in (name for name in row.plan.systems if name in place.estate.systems):
            yield Piece(
                name=f"{row.id} {name}",
                site=place.estate.systems[name].site,
                kind=place.estate.systems[name].kind or "",
                length_s=(end - now).total_seconds(),
                spans=(Span(begin=now, end=end),),
                touches=(name,),
                weight=FIRST,
            )
