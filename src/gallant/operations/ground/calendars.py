"""Calendars as files (RFC 5545), read for the estate's windows and blackouts; by icalendar, an extra."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Iterator, Sequence
from datetime import UTC, date, datetime, timedelta
from pathlib import Path
from typing import Any, TypeAlias
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from gallant.core.errors import WrongUse
from gallant.core.estate.systems import Estate
from gallant.core.records import clean, replace
from gallant.core.windows.recurring import CalendarEvent, Repeat
from gallant.core.windows.rules import WindowRule

Parsed: TypeAlias = (
    Any  # what icalendar makes of a file: it is loaded late, and says of its values only that they are some
)
LARGEST_BYTES = 4 * 1024 * 1024
MOST_EVENTS = 5000
DAYS = ("MO", "TU", "WE", "TH", "FR", "SA", "SU")
PARTS = ("FREQ", "INTERVAL", "COUNT", "UNTIL", "BYDAY", "BYMONTHDAY", "BYMONTH", "BYSETPOS", "WKST")


def with_calendars(estate: Estate, folder: Path) -> Estate:
    """The estate with the events of the files that its windows and blackouts name. Raises `WrongUse`."""
    if not any(rule.file for rule in (*estate.windows, *estate.blackouts)):
        return estate
    read = dict[str, tuple[CalendarEvent, ...]]()

    def filled(rule: WindowRule) -> WindowRule:
        if not rule.file:
            return rule
        if rule.file not in read:
            read[rule.file] = tuple(events_of(folder / rule.file, rule.file))
        return replace(rule, events=read[rule.file])

    return replace(estate, windows=tuple(map(filled, estate.windows)), blackouts=tuple(map(filled, estate.blackouts)))


def library() -> Parsed:
    """icalendar. Raises `WrongUse` where it is not installed."""
    try:
        import icalendar
    except ImportError:
        raise WrongUse(
            "Calendar files are read and written by icalendar, which is not installed.",
            next="pip install 'gallant[calendar]'",
        ) from None
    return icalendar


def events_of(path: Path, name: str) -> Iterator[CalendarEvent]:
    """The events of a calendar's file. Raises `WrongUse` for what cannot be read, or says what is no window."""
    raw = _bytes_of(path, name)
    events = _parsed(raw, name)
    lines = raw.decode("utf-8", "replace").splitlines()
    by_uid = dict[str, list[Parsed]]()
    for event in events:
        by_uid.setdefault(str(event.get("UID")), []).append(event)
    for same in by_uid.values():  # the series itself before what changes it
        same.sort(key=lambda event: event.get("RECURRENCE-ID") is not None)
    for event in events:
        summary = clean(str(event.get("SUMMARY", "")), 120)
        try:
            found = list(_series(event, by_uid[str(event.get("UID"))], summary))
        except _NoZone as error:
            line = next((n for n, text in enumerate(lines, 1) if f"TZID={error.zone}" in text.replace('"', "")), 0)
            raise WrongUse(
                f"{name}:{line}: its time zone {clean(error.zone, 60)!r} is none of the IANA's.",
                "What the file itself says of such a zone (VTIMEZONE) is not read: its clock would be guessed.",
                "Write the name of the zone, as Europe/London, or the time in UTC.",
            ) from None
        except (ValueError, KeyError, TypeError, AttributeError, OverflowError, ZoneInfoNotFoundError) as error:
            what = f"the event {summary!r}" if summary else "an event"
            raise WrongUse(f"{name}: {what} is no window: {clean(str(error), 160)}.") from None
        yield from found


def _bytes_of(path: Path, name: str) -> bytes:
    try:
        with path.open("rb") as file:
            raw = file.read(LARGEST_BYTES + 1)
    except OSError as error:
        raise WrongUse(f"{name} cannot be read: {error.strerror}.", next="Look at windows: and blackouts:") from None
    if len(raw) > LARGEST_BYTES:
        raise WrongUse(f"{name} is larger than {LARGEST_BYTES // 1024 // 1024} MiB.")
    return raw


def _parsed(raw: bytes, name: str) -> list[Parsed]:
    """The events of a file as the library has them; what it raises for a broken file is of many kinds."""
    icalendar = library()
    try:
        calendars = icalendar.Calendar.from_ical(raw, multiple=True)
        events = [event for calendar in calendars for event in calendar.walk("VEVENT")]
    except (ValueError, KeyError, IndexError, TypeError, AttributeError) as error:
        raise WrongUse(f"{name} is no calendar (RFC 5545): {clean(str(error), 120)}.") from None
    if len(events) > MOST_EVENTS:
        raise WrongUse(f"{name} has more than {MOST_EVENTS} events.")
    return events


class _NoZone(ValueError):
    """A time zone that the tz database does not have."""

    def __init__(self, zone: str) -> None:
        super().__init__(f"its time zone {zone} is none of the IANA's")
        self.zone = zone


def _series(event: Parsed, same: Sequence[Parsed], summary: str) -> Iterator[CalendarEvent]:
    """What an event comes to among those of the `same` UID: what one of them changes (RFC
    5545, 3.8.4.4) is not in it, and what it changes from there on (RANGE=THISANDFUTURE,
    3.2.13) is a series of its own, moved as that one is and as long as it."""
    which = event.get("RECURRENCE-ID")
    if which is not None:
        if _ranges(event) and same[0].get("RECURRENCE-ID") is not None:
            raise ValueError("it changes all to come of a series that is not in the file")
        if not _ranges(event) and not _is_cancelled(event):
            yield replace(_event(event, summary), repeat=None)
        return
    if _is_cancelled(event):
        return
    found = _event(event, summary)
    _known_zone(event.get("RECURRENCE-ID"))
    changes = [(_local(e["RECURRENCE-ID"].dt, found.zone), e) for e in same if e.get("RECURRENCE-ID") is not None]
    without = sorted({*found.without, *(at for at, e in changes if not _ranges(e))})
    found = replace(found, without=tuple(without), also=tuple(sorted(set(found.also))))
    cuts = sorted(((at, e) for at, e in changes if _ranges(e)), key=lambda cut: cut[0])
    ends = [at for at, _ in cuts] + [None]
    yield _part(found, None, ends[0])
    for (at, e), before in zip(cuts, ends[1:], strict=True):
        if _is_cancelled(e):
            continue
        if e.get("RRULE") is not None:
            raise ValueError("it changes all to come of a series, and has a rule of its own")
        own = _event(e, summary)
        shift = _local(e["DTSTART"].dt, found.zone) - at
        yield replace(
            _part(found, at, before),
            length_s=own.length_s,
            whole_days=own.whole_days,
            summary=own.summary,
            shift_s=shift.total_seconds(),
        )


def _part(whole: CalendarEvent, since: datetime | None, before: datetime | None) -> CalendarEvent:
    """What a series has from one beginning on and before another; of many parts each has its own exceptions alone."""

    def own(moments: Sequence[datetime]) -> tuple[datetime, ...]:
        low = bisect_left(moments, since) if since is not None else 0
        return tuple(moments[low : bisect_left(moments, before) if before is not None else len(moments)])

    return replace(whole, since=since, before=before, without=own(whole.without), also=own(whole.also))


def _is_cancelled(event: Parsed) -> bool:
    return str(event.get("STATUS", "")).upper() == "CANCELLED"


def _ranges(event: Parsed) -> bool:
    """Whether an event changes all to come of its series. Raises `ValueError` for a range that is none."""
    said = str(event["RECURRENCE-ID"].params.get("RANGE", "")).upper()
    if said not in ("", "THISANDFUTURE"):
        raise ValueError(f"RANGE={said}: THISANDFUTURE is the one that there is")
    return bool(said)


def _event(event: Parsed, summary: str) -> CalendarEvent:
    if event.get("DTSTART") is None:
        raise ValueError("it has no DTSTART")
    for name in ("DTSTART", "DTEND", "RECURRENCE-ID", "EXDATE", "RDATE"):
        _known_zone(event.get(name))
    begins = event["DTSTART"].dt
    whole_day = not isinstance(begins, datetime)
    zone = "" if whole_day else _zone(begins)
    start = _local(begins, zone)
    if event.get("DURATION") is not None:
        length = event["DURATION"].dt
    elif event.get("DTEND") is not None:
        ends = event["DTEND"].dt
        length = _instant(ends, zone) - _instant(begins, zone)
    else:
        length = timedelta(days=1) if whole_day else timedelta(0)
    if length <= timedelta(0):
        raise ValueError("it ends no later than it begins")
    rules = event.get("RRULE")
    if isinstance(rules, list):
        raise ValueError("it has more than one RRULE")
    return CalendarEvent(
        start=start,
        length_s=length.total_seconds(),
        zone=zone,
        whole_days=length.days if whole_day else 0,
        repeat=_repeat(rules, zone) if rules is not None else None,
        without=tuple(_moments(event.get("EXDATE"), zone)),
        also=tuple(_moments(event.get("RDATE"), zone)),
        summary=summary,
    )


def _known_zone(said: Parsed) -> None:
    """Raise `ValueError` for a time zone that the library took for none: what is local there would be local here."""
    for part in said if isinstance(said, list) else [said] if said is not None else []:
        zone = part.params.get("TZID")
        dates = [one.dt for one in part.dts] if hasattr(part, "dts") else [part.dt]
        if zone is not None and any(isinstance(one, datetime) and one.tzinfo is None for one in dates):
            raise _NoZone(str(zone))
        if zone is not None and not _are_known(dates):
            raise _NoZone(str(zone))


def _are_known(dates: Sequence[Parsed]) -> bool:
    """Whether the zones of some moments are those of the tz database, and no rules of the file's own."""
    zones = [one.tzinfo for one in dates if isinstance(one, datetime) and one.tzinfo is not None]
    return all(zone is UTC or getattr(zone, "key", None) is not None for zone in zones)


def _zone(moment: datetime) -> str:
    """The name of a moment's zone; empty for one that floats."""
    if moment.tzinfo is None:
        return ""
    key = "UTC" if moment.tzinfo is UTC else getattr(moment.tzinfo, "key", None)
    if key is None:  # that its clock shows the time of UTC today says nothing of July
        raise _NoZone(str(moment.tzname()))
    ZoneInfo(key)
    return str(key)


def _local(moment: date, zone: str) -> datetime:
    """A moment on the wall's clock of a zone."""
    if not isinstance(moment, datetime):
        return datetime(moment.year, moment.month, moment.day)
    if moment.tzinfo is None:
        return moment
    return moment.astimezone(ZoneInfo(zone or "UTC")).replace(tzinfo=None)


def _instant(moment: date, zone: str) -> datetime:
    """A moment from which a length can be counted: exact where a zone is known, else by the wall's clock."""
    local = _local(moment, zone)
    return local.replace(tzinfo=ZoneInfo(zone)).astimezone(UTC) if zone else local


def _moments(said: Parsed, zone: str) -> Iterator[datetime]:
    for part in said if isinstance(said, list) else [said] if said is not None else []:
        for one in part.dts:
            if isinstance(one.dt, tuple):
                raise ValueError("RDATE has periods; write events of their own")
            yield _local(one.dt, zone)


def _repeat(rule: Parsed, zone: str) -> Repeat:
    if strange := [part for part in rule if part.upper() not in PARTS]:
        raise ValueError(f"{strange[0]} is no part of a window's rule; {', '.join(PARTS)} are")
    until = next(iter(rule.get("UNTIL", [])), None)
    if until is not None:
        ends = _local(until, zone)
        until = ends if isinstance(until, datetime) else ends + timedelta(days=1) - timedelta(seconds=1)
    return Repeat(
        freq=str(rule["FREQ"][0]).upper(),
        interval=int(next(iter(rule.get("INTERVAL", [1])))),
        count=next((int(n) for n in rule.get("COUNT", [])), None),
        until=until,
        by_day=tuple(_weekday(str(day)) for day in rule.get("BYDAY", [])),
        by_month_day=tuple(int(n) for n in rule.get("BYMONTHDAY", [])),
        by_month=tuple(int(n) for n in rule.get("BYMONTH", [])),
        by_set_pos=tuple(int(n) for n in rule.get("BYSETPOS", [])),
        week_start=DAYS.index(str(next(iter(rule.get("WKST", ["MO"])))).upper()),
    )


def _weekday(text: str) -> tuple[int, int]:
    which, day = text[:-2], text[-2:].upper()
    return int(which) if which else 0, DAYS.index(day)
