"""Events of a calendar that come again (RFC 5545, 3.3.10 and 3.8.5), by the day: looked for in a stretch of days and nowhere else.

General libraries go from one occurrence to the next, so that a rule that never holds (30 February, a second first of a month) is followed to the year 9999. Here
each day is asked. Rules by the year, or by hours and less, are no windows and are refused.
"""

from __future__ import annotations

import calendar
from collections.abc import Iterator
from datetime import date, datetime, time, timedelta

from gallant.core.records import Record

DAILY, WEEKLY, MONTHLY = FREQUENCIES = ("DAILY", "WEEKLY", "MONTHLY")
MOST_DAYS = 40_000  # from an event's first day on, where its occurrences are counted


class Repeat(Record):
    """A rule. `by_day` are (which of the month, or 0 for each; weekday from Monday, 0); `until` is local to the event's own zone."""

    freq: str
    interval: int = 1
    count: int | None = None
    until: datetime | None = None
    by_day: tuple[tuple[int, int], ...] = ()
    by_month_day: tuple[int, ...] = ()
    by_month: tuple[int, ...] = ()
    by_set_pos: tuple[int, ...] = ()
    week_start: int = 0

    def __post_init__(self) -> None:
        if self.freq not in FREQUENCIES:
            raise ValueError(f"FREQ={self.freq}: a window comes again {', '.join(FREQUENCIES)}")
        if self.interval < 1:
            raise ValueError("INTERVAL: at least 1")
        if self.freq != MONTHLY and (self.by_set_pos or any(which for which, _ in self.by_day)):
            raise ValueError("BYSETPOS, and which BYDAY of them, go with MONTHLY")
        if self.freq == WEEKLY and self.by_month_day:
            raise ValueError("BYMONTHDAY does not go with WEEKLY")


class CalendarEvent(Record):
    """One event: it begins at `start` on the wall's clock of `zone` (empty: the site's), and lasts `length_s`, or so many `whole_days` by that clock. `without` are
    beginnings that are left out, `also` those that come on top. Of all of them those from `since` on and before `before` count, each moved by `shift_s`."""

    start: datetime
    length_s: float
    zone: str = ""
    whole_days: int = 0
    repeat: Repeat | None = None
    without: tuple[datetime, ...] = ()
    also: tuple[datetime, ...] = ()
    summary: str = ""
    since: datetime | None = None
    before: datetime | None = None
    shift_s: float = 0

    def begins(self, first: date, last: date) -> Iterator[datetime]:
        """The beginnings from one day to another, both in it, on the wall's clock, each once, in their order."""
        shift = timedelta(seconds=self.shift_s)
        every = self._unmoved((datetime.combine(first, time()) - shift).date(), (datetime.combine(last, time.max) - shift).date())  # fmt: skip
        moved = (
            begin + shift
            for begin in every
            if (self.since is None or begin >= self.since) and (self.before is None or begin < self.before)
        )
        yield from sorted(begin for begin in moved if first <= begin.date() <= last)

    def _unmoved(self, first: date, last: date) -> set[datetime]:
        found = {begin for begin in self.also if first <= begin.date() <= last}
        if self.repeat is None:
            found |= {self.start} if first <= self.start.date() <= last else set()
        else:
            found |= set(self._repeated(self.repeat, first, last))
        return found - set(self.without)

    def _repeated(self, repeat: Repeat, first: date, last: date) -> Iterator[datetime]:
        day, seen = self.start.date(), 0
        if repeat.count is None:
            day = max(day, first)
        limit = day + timedelta(days=MOST_DAYS)
        while day <= min(last, limit):
            begin = datetime.combine(day, self.start.time())
            if repeat.until is not None and begin > repeat.until:
                return
            # the first one counts even where the rule would not have it (RFC 5545, 3.8.5.3)
            if day == self.start.date() or _holds(repeat, self.start.date(), day):
                seen += 1
                if repeat.count is not None and seen > repeat.count:
                    return
                if day >= first:
                    yield begin
            day += timedelta(days=1)


def _holds(repeat: Repeat, start: date, day: date) -> bool:
    if repeat.by_month and day.month not in repeat.by_month:
        return False
    return _BY[repeat.freq](repeat, start, day)


def _daily(repeat: Repeat, start: date, day: date) -> bool:
    return (
        (day - start).days % repeat.interval == 0
        and (not repeat.by_month_day or _is_day_of_month(repeat, day))
        and (not repeat.by_day or any(weekday == day.weekday() for _, weekday in repeat.by_day))
    )


def _weekly(repeat: Repeat, start: date, day: date) -> bool:
    weeks = (_week(repeat, day) - _week(repeat, start)).days // 7
    days = [weekday for _, weekday in repeat.by_day] or [start.weekday()]
    return weeks % repeat.interval == 0 and day.weekday() in days


def _week(repeat: Repeat, day: date) -> date:
    return day - timedelta(days=(day.weekday() - repeat.week_start) % 7)


def _monthly(repeat: Repeat, start: date, day: date) -> bool:
    months = (day.year - start.year) * 12 + day.month - start.month
    if months % repeat.interval:
        return False
    found = [d for d in _days_of(day) if _is_meant(repeat, start, d)]
    if not repeat.by_set_pos:
        return day in found
    at = (pos - 1 if pos > 0 else len(found) + pos for pos in repeat.by_set_pos)
    return day in [found[n] for n in at if 0 <= n < len(found)]


def _is_meant(repeat: Repeat, start: date, day: date) -> bool:
    if not repeat.by_month_day and not repeat.by_day:
        return day.day == start.day
    by_date = not repeat.by_month_day or _is_day_of_month(repeat, day)
    return by_date and (not repeat.by_day or any(_is_weekday(which, wd, day) for which, wd in repeat.by_day))


def _is_weekday(which: int, weekday: int, day: date) -> bool:
    if day.weekday() != weekday:
        return False
    from_end = (calendar.monthrange(day.year, day.month)[1] - day.day) // 7
    return which in (0, (day.day - 1) // 7 + 1, -from_end - 1)


def _is_day_of_month(repeat: Repeat, day: date) -> bool:
    length = calendar.monthrange(day.year, day.month)[1]
    return day.day in repeat.by_month_day or day.day - length - 1 in repeat.by_month_day


def _days_of(day: date) -> Iterator[date]:
    for number in range(calendar.monthrange(day.year, day.month)[1]):
        yield day.replace(day=number + 1)


_BY = {DAILY: _daily, WEEKLY: _weekly, MONTHLY: _monthly}
