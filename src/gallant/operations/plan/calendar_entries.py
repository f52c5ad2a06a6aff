"""Work as a calendar (RFC 5545) for other people's: the windows that a plan takes, and where each piece of it lies."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import TYPE_CHECKING

from gallant.core.errors import GallantError
from gallant.core.records import Record
from gallant.core.windows.rules import Span
from gallant.core.work.plan import Plan
from gallant.disk import put_whole, why_not
from gallant.operations.ground.calendars import library

if TYPE_CHECKING:
    from gallant.operations.plan.making import Planned
    from gallant.operations.plan.over_windows import OverWindows


class CalendarEntry(Record):
    """Something that is written into a calendar; `name` tells it from every other of this estate."""

    name: str
    span: Span
    summary: str
    description: str


def write(path: Path, entries: Iterable[CalendarEntry], now: datetime, estate: str) -> int:
    """Write a calendar, whole or not at all; how many events it has."""
    icalendar = library()
    calendar = icalendar.Calendar()
    calendar.add("PRODID", "-//Gallant//plan//EN")
    calendar.add("VERSION", "2.0")
    every: Sequence[CalendarEntry] = list(entries)
    for entry in every:
        event = icalendar.Event()
        event.add("UID", f"{entry.name}@{estate}")
        event.add("DTSTAMP", now.astimezone(UTC).replace(microsecond=0))
        event.add("DTSTART", entry.span.begin.astimezone(UTC))
        event.add("DTEND", entry.span.end.astimezone(UTC))
        event.add("SUMMARY", entry.summary)
        event.add("DESCRIPTION", entry.description)
        calendar.add_component(event)
    try:
        put_whole(path, calendar.to_ical())
    except OSError as error:
        raise GallantError(f"{path} cannot be written: {why_not(error, path)}.") from None
    return len(every)


def entries_of(planned: Planned) -> Iterator[CalendarEntry]:
    """The windows that a plan's lanes take, each as long as it needs at most."""
    for fit in planned.fits:
        for number, (span, needed) in enumerate(fit.parts, 1):
            part = f" ({number} of {len(fit.parts)})" if len(fit.parts) > 1 else ""
            yield CalendarEntry(
                name=f"{planned.plan.id}.{fit.system}.{number}",
                span=Span(begin=span.begin, end=min(span.end, span.begin + timedelta(seconds=needed))),
                summary=f"{fit.system}: {', '.join(_ways(planned.plan, [fit.system]))}{part}",
                description=f"{planned.roll}\ngallant plan --show {planned.plan.id}",
            )


def entries_over(found: OverWindows, plan: Plan) -> Iterator[CalendarEntry]:
    """Where each piece of the work lies."""
    for slot in found.slots:
        if slot.span is not None:
            yield CalendarEntry(
                name=f"{found.plan}.{slot.piece.replace(' ', '-')}",
                span=slot.span,
                summary=f"{slot.piece}: {', '.join(_ways(plan, slot.systems))}",
                description="\n".join(["booked" if slot.booked else "not booked", *slot.notices]),
            )


def _ways(plan: Plan, systems: Sequence[str]) -> list[str]:
    lanes = (lane for lane in plan.lanes if lane.system in systems)
    return [f"{hop.from_} → {hop.to}" for lane in lanes for hop in lane.hops if not hop.lays]
