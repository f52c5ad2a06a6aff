"""Events that come again: as RFC 5545 has them, by its own examples and beside a library that is older than this
code."""

from __future__ import annotations

from datetime import datetime, time, timedelta
from zoneinfo import ZoneInfo

import pytest
from dateutil import rrule
from hypothesis import given, settings
from hypothesis import strategies as st

from gallant.core.windows.recurring import CalendarEvent, Repeat
from gallant.core.windows.rules import WindowRule, spans_of

START = datetime(2026, 1, 6, 22, 0)  # a Tuesday
FAR = datetime(2031, 12, 31)
KINDS = {"DAILY": rrule.DAILY, "WEEKLY": rrule.WEEKLY, "MONTHLY": rrule.MONTHLY}
DAYS = (rrule.MO, rrule.TU, rrule.WE, rrule.TH, rrule.FR, rrule.SA, rrule.SU)


def begins(repeat: Repeat | None, start: datetime = START, until: datetime = FAR, **more) -> list[datetime]:
    return list(CalendarEvent(start=start, length_s=3600, repeat=repeat, **more).begins(start.date(), until.date()))


@pytest.mark.parametrize(
    ("repeat", "expected"),
    [
        (Repeat(freq="WEEKLY", by_day=((0, 1), (0, 5)), count=4), ["01-06", "01-10", "01-13", "01-17"]),
        (Repeat(freq="MONTHLY", by_day=((1, 1),), count=3), ["01-06", "02-03", "03-03"]),
        (Repeat(freq="MONTHLY", by_day=((-1, 4),), count=3), ["01-06", "01-30", "02-27"]),
        (Repeat(freq="MONTHLY", by_month_day=(-1,), count=3), ["01-06", "01-31", "02-28"]),
        (Repeat(freq="MONTHLY", by_day=tuple((0, n) for n in range(5)), by_set_pos=(-1,), count=3), ["01-06", "01-30", "02-27"]),
        (Repeat(freq="DAILY", interval=10, count=3), ["01-06", "01-16", "01-26"]),
        (Repeat(freq="WEEKLY", interval=2, by_day=((0, 6), (0, 1)), week_start=6, count=4), ["01-06", "01-18", "01-20", "02-01"]),
    ],
)  # fmt: skip
def test_a_rule_gives_the_days_that_the_standard_says(repeat, expected):
    assert [f"{begin:%m-%d}" for begin in begins(repeat)] == expected


def test_of_a_series_in_many_parts_each_has_its_own_beginnings_alone():
    daily = Repeat(freq="DAILY", count=9)
    cut = START + timedelta(days=4)
    first = begins(daily, before=cut, without=(START + timedelta(days=1),))
    rest = begins(daily, since=cut, shift_s=3600)
    assert first == [START, *(START + timedelta(days=n) for n in (2, 3))]
    assert rest == [START + timedelta(days=n, hours=1) for n in range(4, 9)]


@pytest.mark.parametrize(
    "repeat",
    [
        Repeat(freq="MONTHLY", by_month=(2,), by_month_day=(30,)),
        Repeat(freq="DAILY", interval=7, by_day=((0, 2),)),
        Repeat(freq="MONTHLY", interval=12, by_month=(3,)),
        Repeat(freq="MONTHLY", by_day=((0, 0),), by_month_day=(1,), by_set_pos=(2,)),
    ],
)
def test_a_rule_that_never_holds_ends(repeat):
    assert begins(repeat) == [START]  # which counts whatever the rule says


@pytest.mark.parametrize(
    "said",
    [
        {"freq": "SECONDLY"},
        {"freq": "YEARLY"},
        {"freq": "DAILY", "interval": 0},
        {"freq": "WEEKLY", "by_day": ((2, 1),)},
        {"freq": "DAILY", "by_set_pos": (1,)},
        {"freq": "WEEKLY", "by_month_day": (3,)},
    ],
)
def test_what_is_no_rule_of_a_window_is_refused(said):
    with pytest.raises(ValueError, match=r"\w"):
        Repeat(**said)


@st.composite
def repeats(draw):
    """Rules that hold again and again: one that does not is followed
    for minutes by the library beside which these are held."""
    freq = draw(st.sampled_from(sorted(KINDS)))
    by_month = tuple(draw(st.lists(st.integers(1, 12), max_size=3, unique=True)))
    ordinal = freq == "MONTHLY" and draw(st.booleans())
    which = st.sampled_from([1, 2, 4, -1, -2]) if ordinal else st.just(0)
    by_day = tuple(draw(st.lists(st.tuples(which, st.integers(0, 6)), max_size=3, unique_by=lambda d: d)))
    dates = st.lists(st.integers(1, 28) | st.integers(-28, -1), max_size=3, unique=True)
    by_month_day = tuple(draw(dates)) if freq != "WEEKLY" and not ordinal else ()
    narrowed = by_month or by_day or by_month_day
    set_pos = st.sampled_from([(), (1,), (-1,)]) if freq == "MONTHLY" and (by_day or by_month_day) else st.just(())
    counted = draw(st.booleans())
    return Repeat(
        freq=freq,
        interval=1 if narrowed and freq != "WEEKLY" else draw(st.integers(1, 4)),
        count=draw(st.integers(1, 20)) if counted else None,
        until=None if counted else draw(st.none() | st.datetimes(START, START + timedelta(days=700))),
        by_day=by_day,
        by_month_day=by_month_day,
        by_month=by_month,
        by_set_pos=draw(set_pos),
        week_start=draw(st.sampled_from([0, 6])),
    )


@settings(max_examples=300, deadline=None)
@given(repeats(), st.integers(0, 27))
def test_every_rule_gives_what_a_general_library_gives(repeat, shift):
    start = START + timedelta(days=shift)
    end = start + timedelta(days=800)
    limit = min(repeat.until or end, end)
    theirs = rrule.rrule(
        KINDS[repeat.freq],
        dtstart=start,
        interval=repeat.interval,
        wkst=repeat.week_start,
        byweekday=[DAYS[wd](which) if which else DAYS[wd] for which, wd in repeat.by_day] or None,
        bymonthday=repeat.by_month_day or None,
        bymonth=repeat.by_month or None,
        bysetpos=repeat.by_set_pos or None,
        until=limit,
    )
    # by the standard the first one counts whatever the rule says; the library leaves it out
    expected = sorted({start, *theirs} if start <= limit else set())[: repeat.count]
    assert begins(repeat, start, end) == expected


def test_what_is_left_out_and_what_comes_on_top():
    weekly = Repeat(freq="WEEKLY")
    found = begins(
        weekly,
        until=START + timedelta(days=20),
        without=(START + timedelta(days=7),),
        also=(START + timedelta(days=2),),
    )
    assert [f"{b:%m-%d}" for b in found] == ["01-06", "01-08", "01-20"]


@pytest.mark.parametrize(
    ("day", "begins_utc"), [("2026-03-28", 22), ("2026-03-29", 21), ("2026-10-24", 21), ("2026-10-25", 22)]
)
def test_an_occurrence_is_as_long_as_the_first_one_over_every_change_of_clocks(day, begins_utc):
    event = CalendarEvent(start=datetime(2026, 1, 1, 22), length_s=4 * 3600, repeat=Repeat(freq="DAILY"))
    rule = WindowRule(for_="*", file="x.ics", events=(event,))
    zone = ZoneInfo("Europe/London")
    noon = datetime.combine(datetime.fromisoformat(day).date(), time(12), zone)
    [span] = spans_of(rule, zone, noon, noon + timedelta(hours=20))
    assert span.length == timedelta(hours=4)
    assert span.begin.hour == begins_utc


@pytest.mark.parametrize(("day", "hours"), [("2026-03-29", 23), ("2026-10-25", 25), ("2026-06-01", 24)])
def test_an_event_of_whole_days_is_as_long_as_its_days_are(day, hours):
    event = CalendarEvent(start=datetime.fromisoformat(day), length_s=86400, whole_days=1)
    zone = ZoneInfo("Europe/London")
    noon = datetime.combine(datetime.fromisoformat(day).date(), time(12), zone)
    [span] = spans_of(WindowRule(for_="*", file="x.ics", events=(event,)), zone, noon, noon + timedelta(hours=1))
    assert span.length == timedelta(hours=hours)
