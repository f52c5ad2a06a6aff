"""When work is allowed: over midnight, over changes of the clock, and in one another's way."""

from __future__ import annotations

from datetime import UTC, date, datetime, timedelta
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given
from hypothesis import strategies as st

from gallant.core.documents import Invalid
from gallant.core.estate.calendar import most_special, windows_of, windows_of_all
from gallant.core.estate.reading import parse_estate
from gallant.core.windows.rules import Span, WindowRule, common, joined, next_after, open_at, spans_of, without

LONDON, LORD_HOWE, KIRITIMATI = (ZoneInfo(z) for z in ("Europe/London", "Australia/Lord_Howe", "Pacific/Kiritimati"))


def at(text: str) -> datetime:
    return datetime.fromisoformat(text).replace(tzinfo=UTC)


def spans(rule: WindowRule, zone: ZoneInfo, begin: str, days: int, closes: bool = False) -> list[tuple[str, str]]:
    first = at(begin)
    found = spans_of(rule, zone, first, first + timedelta(days=days), closes)
    return [(f"{s.begin:%m-%d %H:%M}", f"{s.end:%m-%d %H:%M}") for s in found]


def weekly(*days: str, begin: str = "22:00", end: str = "04:00") -> WindowRule:
    return WindowRule(for_="*", days=days, from_=begin, to=end)


def test_a_window_over_midnight_ends_on_the_next_day():
    assert spans(weekly("tue", "sat"), LONDON, "2026-11-23", 7) == [
        ("11-24 22:00", "11-25 04:00"),
        ("11-28 22:00", "11-29 04:00"),
    ]


def test_one_that_began_before_is_still_open():
    assert spans(weekly("tue"), LONDON, "2026-11-25T01:00", 1) == [("11-24 22:00", "11-25 04:00")]


CHANGES = [
    # Clocks go forward at 01:00 UTC on 29 March 2026 in London: the night is an hour shorter.
    (weekly("sat"), LONDON, "2026-03-28", [("03-28 22:00", "03-29 03:00")]),
    # and back at 01:00 UTC on 25 October: it is an hour longer.
    (weekly("sat"), LONDON, "2026-10-24", [("10-24 21:00", "10-25 04:00")]),
    # 01:30 does not exist on that night: it is 01:30 UTC by the
    # offset before the change, and 00:30 by the one after it.
    (weekly("sun", begin="01:30", end="05:00"), LONDON, "2026-03-29", [("03-29 01:30", "03-29 04:00")]),
    # 01:30 is there twice: it ends with the first of them, and begins with the second.
    (weekly("sun", begin="00:00", end="01:30"), LONDON, "2026-10-25", [("10-24 23:00", "10-25 00:30")]),
    (weekly("sun", begin="01:30", end="05:00"), LONDON, "2026-10-25", [("10-25 01:30", "10-25 05:00")]),
    # Half an hour, on the other half of the world: back on 5 April, forward on 4 October 2026, at 02:00.
    (weekly("sat"), LORD_HOWE, "2026-04-04", [("04-04 11:00", "04-04 17:30")]),
    (weekly("sat"), LORD_HOWE, "2026-10-03", [("10-03 11:30", "10-03 17:00")]),
    # A day that begins ten hours before London's.
    (weekly("mon", begin="00:00", end="24:00"), KIRITIMATI, "2026-11-22T12:00", [("11-22 10:00", "11-23 10:00")]),
]  # fmt: skip


@pytest.mark.parametrize(("rule", "zone", "begin", "found"), CHANGES)
def test_the_clock_on_the_wall_counts(rule, zone, begin, found):
    assert spans(rule, zone, begin, 1)[:1] == found


CLOSED = [
    # 01:30 is gone on that night; work at 02:15, 01:15 UTC, is in it all the same.
    (weekly("sun", begin="01:30", end="02:30"), LONDON, "2027-03-28", [("03-28 00:30", "03-28 01:30")]),
    # 01:30 is there twice, and the second one is in it too.
    (weekly("sun", begin="00:30", end="01:45"), LONDON, "2027-10-30T12:00", [("10-30 23:30", "10-31 01:45")]),
    (weekly("sun", begin="01:50", end="02:10"), LONDON, "2027-10-30T12:00", [("10-31 00:50", "10-31 02:10")]),
    (weekly("sun", begin="00:30", end="01:15"), ZoneInfo("America/Santiago"), "2027-09-05", [("09-05 03:30", "09-05 04:15")]),
    (weekly("sun", begin="02:15", end="02:40"), LORD_HOWE, "2027-10-02T12:00", [("10-02 15:15", "10-02 15:40")]),
]  # fmt: skip


@pytest.mark.parametrize(("rule", "zone", "begin", "found"), CLOSED)
def test_a_blackout_over_a_change_of_the_clock_covers_each_time_that_is_in_it(rule, zone, begin, found):
    assert spans(rule, zone, begin, 1, closes=True)[:1] == found


ZONES = ("Europe/London", "Australia/Lord_Howe", "America/St_Johns", "America/Santiago", "Africa/Casablanca")
CLOCKS = st.integers(0, 24 * 12 - 1).map(lambda n: f"{n // 12:02}:{n % 12 * 5:02}")


def changes_of(zone: str) -> list[datetime]:
    """The hours of some years in which the clocks of a zone change."""
    hours = (datetime(2026, 1, 1, tzinfo=UTC) + timedelta(hours=n) for n in range(2 * 365 * 24))
    here = ZoneInfo(zone)
    return [h for h in hours if h.astimezone(here).utcoffset() != (h + timedelta(hours=1)).astimezone(here).utcoffset()]


CHANGED = [(zone, hour) for zone in ZONES for hour in changes_of(zone)]


@given(change=st.sampled_from(CHANGED), ends=st.tuples(CLOCKS, CLOCKS).filter(lambda e: e[0] < e[1]))
def test_where_clocks_change_a_blackout_leaves_out_no_moment_and_a_window_has_none_that_is_not_in_it(change, ends):
    zone, hour = ZoneInfo(change[0]), change[1]
    rule = WindowRule(for_="*", days=("daily",), from_=ends[0], to=ends[1])
    begin, end = hour - timedelta(hours=30), hour + timedelta(hours=30)
    opened, closed = (list(spans_of(rule, zone, begin, end, closes)) for closes in (False, True))
    for n in range(-60, 60):
        moment = hour + timedelta(minutes=5 * n)
        inside = ends[0] <= f"{moment.astimezone(zone):%H:%M}" < ends[1]
        if inside:
            assert open_at(closed, moment) is not None
        if open_at(opened, moment) is not None:
            assert inside


@given(
    day=st.dates(date(2025, 1, 1), date(2027, 12, 31)),
    begin=st.integers(0, 23),
    end=st.integers(0, 23),
    zone=st.sampled_from(
        [
            "Europe/London",
            "Australia/Lord_Howe",
            "America/St_Johns",
            "Pacific/Apia",
            "UTC",
            "Asia/Kathmandu",
            "America/Santiago",
        ]
    ),
)
def test_in_any_zone_a_window_begins_and_ends_as_a_clock_there_shows(day, begin, end, zone):
    if begin == end:
        return
    here = ZoneInfo(zone)
    rule = WindowRule(for_="*", days=("daily",), from_=f"{begin:02}:00", to=f"{end:02}:00")
    first = datetime(day.year, day.month, day.day, tzinfo=here).astimezone(UTC)
    found = list(spans_of(rule, here, first, first + timedelta(days=2)))
    for span in found:
        assert timedelta(0) < span.length <= timedelta(hours=25)
        local = span.begin.astimezone(here)
        changed = local.utcoffset() != (span.begin - timedelta(hours=3)).astimezone(here).utcoffset()
        assert local.hour == begin or changed


def test_dates_come_once_and_to_the_last_day():
    holidays = WindowRule(for_="*", date=at("2026-12-24"), until=at("2026-12-26"))
    assert spans(holidays, LONDON, "2026-12-20", 14) == [
        ("12-24 00:00", "12-25 00:00"),
        ("12-25 00:00", "12-26 00:00"),
        ("12-26 00:00", "12-27 00:00"),
    ]
    assert [
        f"{s.begin:%d}-{s.end:%d}" for s in joined(spans_of(holidays, LONDON, at("2026-12-20"), at("2027-01-03")))
    ] == ["24-27"]


MOMENTS = st.integers(0, 100).map(lambda h: at("2026-11-23") + timedelta(hours=h))
SPANS = st.lists(
    st.tuples(MOMENTS, MOMENTS).filter(lambda p: p[0] < p[1]).map(lambda p: Span(begin=p[0], end=p[1])), max_size=6
)


@given(one=SPANS, other=SPANS, moment=MOMENTS)
def test_what_is_joined_taken_away_and_shared_holds_at_every_moment(one, other, moment):
    a, b = (any(s.begin <= moment < s.end for s in spans) for spans in (one, other))
    assert (open_at(joined(one), moment) is not None) == a
    assert (open_at(without(one, other), moment) is not None) == (a and not b)
    assert (open_at(common(joined(one), joined(other)), moment) is not None) == (a and b)
    following = next_after(joined(one), moment)
    assert following is None or following.begin > moment


TEXT = """
gallant: estate/1
name: t
sites: {harbour: {time_zone: Europe/London}, ship: {}}
windows:
  - {for: site:harbour, days: [tue, sat], from: "22:00", to: "04:00"}
  - {for: kind:storage, days: [sun], from: "01:00", to: "05:00"}
  - {for: tickets, date: 2026-12-05, from: "20:00", to: "23:00"}
blackouts:
  - {for: "*", date: 2026-12-05, until: 2026-12-06, from: "22:00", to: "24:00", reason: "a concert"}
systems:
  tickets: {product: o/s, kind: storage, shape: single, site: harbour, driver: debian, nodes: {a: {address: "ssh://127.0.0.1"}}}
  store: {product: o/s, kind: storage, shape: single, site: harbour, driver: debian, nodes: {a: {address: "ssh://127.0.0.2"}}}
  gates: {product: o/s, shape: single, site: harbour, driver: debian, nodes: {a: {address: "ssh://127.0.0.3"}}}
  box: {product: o/s, shape: single, site: ship, driver: debian, nodes: {a: {address: "ssh://127.0.0.4"}}}
  spare: {product: o/s, shape: single, site: harbour, in_service: no, driver: debian, nodes: {a: {address: "ssh://127.0.0.5"}}}
"""


def windows(name: str) -> list[str] | None:
    estate = parse_estate("e", TEXT)
    found = windows_of(estate, estate.systems[name], at("2026-12-01"), at("2026-12-08"))
    return None if found is None else [f"{s.begin:%d %H:%M}-{s.end:%d %H:%M}" for s in found]


def test_the_most_special_windows_count_and_every_blackout_takes_from_them():
    assert windows("tickets") == ["05 20:00-05 22:00"]
    assert windows("store") == ["06 01:00-06 05:00"]
    assert windows("gates") == ["01 22:00-02 04:00", "06 00:00-06 04:00"]
    assert windows("box") == [
        "01 00:00-05 22:00",
        "06 00:00-06 22:00",
        "07 00:00-08 00:00",
    ]  # only blackouts are for it
    assert windows("spare") is None  # nobody depends on it
    estate = parse_estate("e", TEXT)
    assert [rule.for_ for rule in most_special(estate.windows, estate.systems["tickets"])] == ["tickets"]


def test_systems_that_are_disturbed_together_have_what_their_windows_share():
    estate = parse_estate("e", TEXT)
    both = [estate.systems["gates"], estate.systems["store"]]
    found = windows_of_all(estate, both, at("2026-12-01"), at("2026-12-08"))
    assert [f"{s.begin:%d %H:%M}-{s.end:%d %H:%M}" for s in found] == ["06 01:00-06 04:00"]
    assert windows_of_all(estate, [estate.systems["spare"]], at("2026-12-01"), at("2026-12-08")) is None


@pytest.mark.parametrize(
    ("old", "new", "said"),
    [
        ("days: [tue, sat]", "days: [tuesday]", "days: mon, tue"),
        ("days: [tue, sat]", "days: [tue], date: 2026-12-01", "one of the two"),
        ('from: "22:00", to: "04:00"', 'from: "22", to: "04:00"', "a time of day between quotes"),
        ('from: "22:00", to: "04:00"', 'from: "22:00", to: "22:00"', "are the same"),
        ("for: site:harbour, days", "for: site:harbor, days", "did you mean harbour?"),
        ("for: tickets, date", "for: tikets, date", "did you mean tickets?"),
        ("for: tickets, date", "for: tickets/a, date", "windows are of systems"),
        ("until: 2026-12-06", "until: 2026-12-04", "until: a date after"),
    ],
)
def test_a_window_that_could_not_be_meant_so_is_told_with_its_place(old, new, said):
    assert old in TEXT
    with pytest.raises(Invalid) as wrong:
        parse_estate("e", TEXT.replace(old, new, 1))
    assert said in wrong.value.what
