"""When disruptive work is allowed: windows, blackouts, and the calendar that they make in the time zone of a site.

A local time that does not exist, because clocks go forward, or that exists twice, because they go back, can be read in
two ways (RFC 5545, 3.3.5 takes one of them). Nothing is disturbed by the wrong one: a window is what both readings
allow, and a blackout takes what either of them closes.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Sequence
from datetime import UTC, datetime, time, timedelta
from datetime import date as Day
from functools import lru_cache
from zoneinfo import ZoneInfo

from gallant.core.records import Moment, Record
from gallant.core.terms import Term, parse_term
from gallant.core.windows.recurring import CalendarEvent

DAYS = ("mon", "tue", "wed", "thu", "fri", "sat", "sun")
_CLOCK = re.compile(r"([01]\d|2[0-3]):([0-5]\d)|24:00")
AHEAD = timedelta(days=60)  # as far as anybody plans


class WindowRule(Record, rename={"for_": "for", "from_": "from"}):
    """A window, or a blackout: `for` a system, `site:`, `tag:`, `kind:` or `*`; on some `days` of every week, or on a
    `date` and up to `until` another; `from` one time of day `to` another, in the site's time zone. One that ends before
    it begins goes over midnight. Or all that a calendar's `file` (RFC 5545, relative to the estate's folder) has: its
    `events`. `known: no`: it is for systems to come."""

    for_: str
    days: tuple[str, ...] = ()
    date: Moment | None = None
    until: Moment | None = None
    from_: str = "00:00"
    to: str = "24:00"
    reason: str = ""
    file: str = ""
    events: tuple[CalendarEvent, ...] = ()
    known: bool = True

    def __post_init__(self) -> None:
        parse_term(self.for_)
        if self.file:
            if self.days or self.date or self.until or (self.from_, self.to) != ("00:00", "24:00"):
                raise ValueError("file: the calendar says when; days:, date:, until:, from: and to: do not go with it")
            return
        for word in self.days:
            if word not in (*DAYS, "daily"):
                raise ValueError(f"days: {', '.join(DAYS)}, or daily")
        if bool(self.days) == (self.date is not None):
            raise ValueError("days: or date: one of the two")
        if self.until is not None and (self.date is None or self.until < self.date):
            raise ValueError("until: a date after date:")
        for field, text in (("from", self.from_), ("to", self.to)):
            if not _CLOCK.fullmatch(text):
                raise ValueError(f'{field}: a time of day between quotes, as "22:00"')
        if self.from_ == self.to:
            raise ValueError("from: and to: are the same; from 00:00 to 24:00 is a whole day")

    @property
    def term(self) -> Term:
        return _term(self.for_)

    @property
    def words(self) -> str:
        if self.file:
            return f"as {self.file} says" + (f" ({self.reason})" if self.reason else "")
        when = (
            ", ".join(self.days)
            if self.days
            else f"{self.date:%Y-%m-%d}" + (f" to {self.until:%Y-%m-%d}" if self.until else "")
        )
        return f"{when} {self.from_} to {self.to}" + (f" ({self.reason})" if self.reason else "")


_term = lru_cache(maxsize=4096)(parse_term)


class Span(Record):
    """A stretch of time, its end not in it."""

    begin: datetime
    end: datetime

    @property
    def length(self) -> timedelta:
        return self.end - self.begin


def instants_of(local: datetime, zone: ZoneInfo) -> tuple[datetime, datetime]:
    """Both instants (UTC) that a time on the clock of a zone may mean, the earlier first:
    the same one but where clocks change. They go back, and it is there twice; they go
    forward, and it is not there: it is counted by the offset after and before the change."""
    one, other = (local.replace(tzinfo=zone, fold=fold).astimezone(UTC) for fold in (0, 1))
    return min(one, other), max(one, other)


def is_skipped(local: datetime, zone: ZoneInfo) -> bool:
    """Whether the clock of a zone never shows it, since it goes forward over it."""
    return instants_of(local, zone)[0].astimezone(zone).replace(tzinfo=None) != local


def spans_of(rule: WindowRule, zone: ZoneInfo, begin: datetime, end: datetime, closes: bool = False) -> Iterator[Span]:
    """The stretches of a rule that touch the time from `begin` to `end`, in their order; those of a calendar event by
    event. Where its times can be read in two ways: what both readings have, or what either has where it `closes`."""
    if rule.file:
        for event in rule.events:
            yield from _spans_of_event(event, zone, begin, end, closes)
        return
    day, last = begin.astimezone(zone).date() - timedelta(days=1), end.astimezone(zone).date()
    while day <= last:
        if _is_on(rule, day):
            over = rule.to != "24:00" and rule.to < rule.from_
            found = _between(_at(day, rule.from_), _at(day + timedelta(days=over), rule.to), zone, closes)
            if found.begin < found.end and found.end > begin and found.begin < end:
                yield found
        day += timedelta(days=1)


def _between(first: datetime, last: datetime, zone: ZoneInfo, closes: bool) -> Span:
    """From one time on a zone's clock to another."""
    begins, ends = instants_of(first, zone), instants_of(last, zone)
    return Span(begin=begins[0], end=ends[1]) if closes else Span(begin=begins[1], end=ends[0])


def _spans_of_event(
    event: CalendarEvent, zone: ZoneInfo, begin: datetime, end: datetime, closes: bool
) -> Iterator[Span]:
    """Each occurrence lasts as long as the first one, whatever clocks do
    meanwhile (RFC 5545, 3.8.5.3); one of whole days ends with them."""
    own, length = ZoneInfo(event.zone) if event.zone else zone, timedelta(seconds=event.length_s)
    first = (begin - length).astimezone(own).date() - timedelta(days=1)
    for local in event.begins(first, end.astimezone(own).date() + timedelta(days=1)):
        if event.whole_days:  # however long those days are
            found = _between(local, local + timedelta(days=event.whole_days), own, closes)
        else:
            early, late = instants_of(local, own)
            last = (late + length).astimezone(own).replace(tzinfo=None)
            found = Span(begin=early, end=instants_of(last, own)[1]) if closes else Span(begin=late, end=early + length)
        if found.begin < found.end and found.begin < end and found.end > begin:
            yield found


def _is_on(rule: WindowRule, day: Day) -> bool:
    if rule.date is not None:
        return rule.date.date() <= day <= (rule.until or rule.date).date()
    return "daily" in rule.days or DAYS[day.weekday()] in rule.days


def _at(day: Day, clock: str) -> datetime:
    """A time of a day as the clock there shows it, without a zone."""
    if clock == "24:00":
        return _at(day + timedelta(days=1), "00:00")
    return datetime.combine(day, time.fromisoformat(clock))


def joined(spans: Iterable[Span]) -> list[Span]:
    """Stretches that touch or overlap as one."""
    found: list[Span] = []
    for span in sorted(spans, key=lambda s: (s.begin, s.end)):
        if found and span.begin <= found[-1].end:
            found[-1] = Span(begin=found[-1].begin, end=max(found[-1].end, span.end))
        else:
            found.append(span)
    return found


def without(spans: Iterable[Span], taken: Iterable[Span]) -> list[Span]:
    """What of some stretches is left beside others."""
    left = joined(spans)
    for gone in taken:
        left = [part for span in left for part in _cut(span, gone)]
    return left


def _cut(span: Span, gone: Span) -> Iterator[Span]:
    if gone.end <= span.begin or gone.begin >= span.end:
        yield span
        return
    if span.begin < gone.begin:
        yield Span(begin=span.begin, end=gone.begin)
    if gone.end < span.end:
        yield Span(begin=gone.end, end=span.end)


def common(one: Sequence[Span], other: Sequence[Span]) -> list[Span]:
    """Where both are."""
    return joined(
        Span(begin=max(a.begin, b.begin), end=min(a.end, b.end))
        for a in one
        for b in other
        if max(a.begin, b.begin) < min(a.end, b.end)
    )


def open_at(spans: Sequence[Span], now: datetime) -> Span | None:
    return next((span for span in spans if span.begin <= now < span.end), None)


def next_after(spans: Sequence[Span], now: datetime) -> Span | None:
    """The first that begins later."""
    return next((span for span in spans if span.begin > now), None)
