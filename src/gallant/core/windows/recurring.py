"""Events of a calendar that come again (RFC 5545, 3.3.10 and 3.8.5),
by the day: looked for in a stretch of days and nowhere else.

General libraries go from one occurrence to the next, so that a rule that never holds (30
February, a second first of a month) is followed to the year 9999. Here each day is
asked. Rules by the year, or by hours and less, are no windows and are refused.
"""

from __future__ import annotations

import calendar
from collections.abc import Iterator
from datetime import date, datetime, time, timedelta
from functools import lru_cache

from gallant.core.records import Record

DAILY, WEEKLY, MONTHLY = FREQUENCIES = ("DAILY", "WEEKLY", "MONTHLY")
MOST_DAYS = 40_000  # from an event's first day on, where its occurrences are counted
YEARS = range(1970, 2200)  # in which an event may begin
LONGEST_DAYS = 3660  # of one occurrence, and by which a change may move it


class Repeat(Record):
    """A rule. `by_day` are (which of the month, or 0 for each; weekday
    from Monday, 0); `until` is local to the event's own zone."""

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
    """One event: it begins at `start` on the wall's clock of `zone` (empty: the site's), and lasts `length_s`, or so
    many `whole_days` by that clock. `without` are beginnings that are left out, `also` those that come on top. Of all
    of them those from `since` on and before `before` count, each moved by `shift_s`."""

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

    def __post_init__(self) -> None:
        for moment in (self.start, *self.without, *self.also):
            if moment.year not in YEARS:
                raise ValueError(f"the year {moment.year}: a window lies between {YEARS[0]} and {YEARS[-1]}")
        if max(self.length_s, self.whole_days * 86_400) > LONGEST_DAYS * 86_400:
            raise ValueError(f"it lasts longer than {LONGEST_DAYS} days")
        if abs(self.shift_s) > LONGEST_DAYS * 86_400:
            raise ValueError(f"it is moved by more than {LONGEST_DAYS} days")

    def begins(self, first: date, last: date) -> Iterator[datetime]:
        """The beginnings from one day to another, both in it, on the wall's clock, each once, in their order."""
        shift = timedelta(seconds=self.shift_s)
        low, high = (datetime.combine(first, time()) - shift).date(), (datetime.combine(last, time.max) - shift).date()
        low = max(low, self.since.date()) if self.since is not None else low
        high = min(high, self.before.date()) if self.before is not None else high
        every = self._unmoved(low, high)
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
        start = self.start.date()
        end = min(last, _last_day(repeat, start) or last)
        for day in _days(repeat, start, max(start, first), end):
            begin = datetime.combine(day, self.start.time())
            if repeat.until is not None and begin > repeat.until:
                return
            yield begin


def _days(repeat: Repeat, start: date, first: date, last: date) -> Iterator[date]:
    """The days of a rule from one to another, both in it. The first of all
    counts even where the rule would not have it (RFC 5545, 3.8.5.3)."""
    day = first
    while day <= last:
        if day == start or _holds(repeat, start, day):
            yield day
        day += timedelta(days=1)


@lru_cache(maxsize=10_000)
def _last_day(repeat: Repeat, start: date) -> date | None:
    """The day of the last of so many occurrences as a rule counts, found
    once; None where it counts none. Counted are those of `MOST_DAYS`."""
    if repeat.count is None:
        return None
    found, last = start, start + timedelta(days=MOST_DAYS)
    for number, day in enumerate(_days(repeat, start, start, last), 1):
        found = day
        if number == repeat.count:
            return day
    return found


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
    return day in _of_month(repeat, start.day, day.year, day.month)


@lru_cache(maxsize=100_000)
def _of_month(repeat: Repeat, start_day: int, year: int, month: int) -> frozenset[date]:
    """The days of a month that a rule means; where it says none, that of the month on which it began."""
    found = [d for d in _days_of(date(year, month, 1)) if _is_meant(repeat, start_day, d)]
    if not repeat.by_set_pos:
        return frozenset(found)
    at = (pos - 1 if pos > 0 else len(found) + pos for pos in repeat.by_set_pos)
    return frozenset(found[n] for n in at if 0 <= n < len(found))


def _is_meant(repeat: Repeat, start_day: int, day: date) -> bool:
    if not repeat.by_month_day and not repeat.by_day:
        return day.day == start_day
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
