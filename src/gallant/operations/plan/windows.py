"""When systems may be worked on: shown for the weeks to come, held against a plan, and given to a roll."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import datetime, timedelta

from gallant.core.errors import Refused
from gallant.core.estate.calendar import most_special, rules_for, windows_of, windows_of_all, zone_of
from gallant.core.estate.systems import System
from gallant.core.length.spread import is_disruptive, stretches_of, to_rest_s
from gallant.core.records import Record
from gallant.core.windows.rules import AHEAD, Span, next_after, open_at
from gallant.core.work.plan import Lane, Plan
from gallant.operations.decide import notices
from gallant.operations.ground.workplace import Workplace

SHOWN = timedelta(days=14)


class Calendar(Record):
    """A system's windows for two weeks in the time zone of its site; None: it may be worked on at any time. `rules` are
    the words of the estate that say so, `blackouts` those that take from them."""

    system: str
    site: str
    zone: str
    begin: datetime
    end: datetime
    spans: tuple[Span, ...] | None
    rules: tuple[str, ...] = ()
    blackouts: tuple[str, ...] = ()


def calendars(place: Workplace, terms: Sequence[str]) -> list[Calendar]:
    """When work is allowed on some systems, over the next two weeks."""
    now = place.clock.now()
    return [_calendar(place, system, now, now + SHOWN) for system in place.systems(terms)]


def _calendar(place: Workplace, system: System, begin: datetime, end: datetime) -> Calendar:
    estate = place.estate
    spans = windows_of(estate, system, begin, end)
    return Calendar(
        system=system.name,
        site=system.site,
        zone=zone_of(estate, system).key,
        begin=begin,
        end=end,
        spans=None if spans is None else tuple(spans),
        rules=tuple(f"{rule.for_}: {rule.words}" for rule in most_special(estate.windows, system)),
        blackouts=tuple(f"{rule.for_}: {rule.words}" for rule in rules_for(estate.blackouts, system)),
    )


def windows_of_plan(place: Workplace, plan: Plan, bookings: bool = True) -> dict[str, list[Span]]:
    """By system: when its lane may disturb it and all that stands on it; without those
    that may be worked on at any time. Where the estate says nothing, the time for
    which it is booked is its window, but for somebody who sets `bookings` aside."""
    return (notices.booked(place, plan) if bookings else {}) | _of_estate(place, plan)


def only_booked(place: Workplace, plan: Plan) -> frozenset[str]:
    """The systems whose window is what somebody booked, since the estate says nothing."""
    return frozenset(notices.booked(place, plan)) - frozenset(_of_estate(place, plan))


def _of_estate(place: Workplace, plan: Plan) -> dict[str, list[Span]]:
    now, found = place.clock.now(), dict[str, list[Span]]()
    for lane in plan.lanes:
        systems = [place.estate.systems[name] for name in (lane.system, *lane.also) if name in place.estate.systems]
        spans = windows_of_all(place.estate, systems, now - timedelta(days=1), now + AHEAD)
        if spans is not None:
            found[lane.system] = spans
    return found


class Fit(Record):
    """How a lane goes into its windows: `parts` are the windows that it takes, in their order, with the seconds that it
    needs of each at most; empty where its longest stretch fits into none. `longest_s` is that stretch."""

    system: str
    parts: tuple[tuple[Span, float], ...]
    longest_s: float
    needed_s: float


def fits(place: Workplace, plan: Plan) -> list[Fit]:
    """Each lane that has windows, by what its stretches from rest
    to rest take in nine of ten cases, one after the other."""
    now = place.clock.now()
    return [
        _fit(lane, windows[lane.system], now)
        for windows in [windows_of_plan(place, plan)]
        for lane in plan.lanes
        if lane.system in windows
    ]


def _fit(lane: Lane, spans: Sequence[Span], now: datetime) -> Fit:
    stretches = [to_rest_s(hop, stretch) for hop, stretch in stretches_of(lane.hops)]
    longest, parts = max(stretches, default=0.0), list[tuple[Span, float]]()
    left = [Span(begin=max(now, span.begin), end=span.end) for span in spans if span.end > now]
    for needed in stretches:
        while left and used(parts, left[0]) + needed > left[0].length.total_seconds():
            left.pop(0)
        if not left:
            return Fit(system=lane.system, parts=(), longest_s=longest, needed_s=sum(stretches))
        if parts and parts[-1][0] == left[0]:
            parts[-1] = (left[0], parts[-1][1] + needed)
        else:
            parts.append((left[0], needed))
    return Fit(system=lane.system, parts=tuple(parts), longest_s=longest, needed_s=sum(stretches))


def used(parts: Sequence[tuple[Span, float]], span: Span) -> float:
    """Seconds of a window that the stretches before take."""
    return parts[-1][1] if parts and parts[-1][0] == span else 0.0


def _closed(place: Workplace, plan: Plan, bookings: bool = True) -> dict[str, list[Span]]:
    """The windows of each lane that disturbs anything, where none of any of them is open now."""
    windows, now = windows_of_plan(place, plan, bookings), place.clock.now()
    disturbing = [
        lane.system
        for lane in plan.lanes
        if any(is_disruptive(s) for h in lane.hops for w in h.waves for t in w.tracks for s in t.steps)
    ]
    closed = {n: windows[n] for n in disturbing if n in windows and open_at(windows[n], now) is None}
    return closed if len(closed) == len(disturbing) else {}


def opens_at(place: Workplace, plan: Plan) -> datetime | None:
    """When a plan may be begun, where it may not be now: in the first
    window that one of its lanes fits into, else in the next one."""
    closed = _closed(place, plan)
    if not closed:
        return None
    begins = [fit.parts[0][0].begin for fit in fits(place, plan) if fit.system in closed and fit.parts]
    return min(begins, default=_soonest(closed, place.clock.now())[1])


def refuse_closed(place: Workplace, plan: Plan, bookings: bool) -> None:
    """Raise `Refused` where every lane that disturbs anything has windows, and none of them is open now."""
    closed = _closed(place, plan, bookings)
    if not closed:
        return
    name, at = _soonest(closed, place.clock.now())
    if only_booked(place, plan).issuperset(closed):
        raise Refused(
            f"{plan.id} did not start: {', '.join(closed)} {'is' if len(closed) == 1 else 'are'} not booked for now"
            + (f"; the time that {name} is booked for begins at {at:%Y-%m-%d %H:%M} UTC." if at is not None else "."),
            "A booking says when the work may be done where the estate has no windows.",
            f"gallant notice list {name}; or add --despite-booking --reason WHY",
        )
    when = (
        f"the next of {name} begins at {at:%Y-%m-%d %H:%M} UTC"
        if at is not None
        else "none is to come in the next weeks"
    )
    raise Refused(
        f"{plan.id} did not start: no window of {', '.join(closed)} is open now; {when}.",
        "The estate says when its systems may be disturbed (windows:, blackouts:).",
        f"gallant windows {' '.join(closed)}; or add --outside-window --reason WHY",
    )


def _soonest(closed: Mapping[str, Sequence[Span]], now: datetime) -> tuple[str, datetime | None]:
    found = [(span.begin, name) for name, spans in closed.items() if (span := next_after(spans, now)) is not None]
    return (min(found)[1], min(found)[0]) if found else (next(iter(closed)), None)
