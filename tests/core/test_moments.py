"""Times as people write them: what they mean, and which of them are not clear."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given
from hypothesis import strategies as st

from gallant.core.windows.moments import NotATime, Unclear, moment_meant

LONDON = ZoneInfo("Europe/London")


def at(text: str) -> datetime:
    return datetime.fromisoformat(text).replace(tzinfo=UTC)


def meant(text: str, now: str) -> str:
    return f"{moment_meant(text, LONDON, at(now)):%Y-%m-%dT%H:%M}"


@pytest.mark.parametrize(
    ("text", "now", "found"),
    [
        ("22:00", "2026-11-24T21:59", "2026-11-24T22:00"),
        ("22:00", "2026-11-24T22:00", "2026-11-25T22:00"),
        ("2026-07-01T22:00", "2026-11-24T22:00", "2026-07-01T21:00"),
        ("2026-11-28T22:00-03:00", "2026-11-24T22:00", "2026-11-29T01:00"),
        ("2026-11-28", "2026-11-24T22:00", "2026-11-28T00:00"),
        # 01:05 is there the second time: 01:30 is to come once more, and the first one is past.
        ("01:30", "2027-10-31T01:05", "2027-10-31T01:30"),
        ("2027-10-31T01:30", "2027-10-31T01:05", "2027-10-31T01:30"),
        ("01:30", "2027-10-31T01:30", "2027-11-01T01:30"),
        # Clocks went over it: it is there on the next day.
        ("01:30", "2027-03-28T01:10", "2027-03-29T00:30"),
    ],
)
def test_a_time_is_the_next_one_that_the_clock_there_shows(text, now, found):
    assert meant(text, now) == found


@pytest.mark.parametrize(
    ("text", "now", "skipped", "both"),
    [
        ("01:30", "2027-03-27T22:00", True, ("2027-03-28T00:30", "2027-03-28T01:30")),
        ("2027-03-28T01:30", "2027-03-01T22:00", True, ("2027-03-28T00:30", "2027-03-28T01:30")),
        ("01:30", "2027-10-30T22:00", False, ("2027-10-31T00:30", "2027-10-31T01:30")),
        ("2027-10-31T01:00", "2027-10-31T00:05", False, None),
    ],
)
def test_a_time_that_is_there_twice_or_never_is_not_guessed(text, now, skipped, both):
    if both is None:
        assert meant(text, now) == "2027-10-31T01:00"
        return
    with pytest.raises(Unclear) as caught:
        meant(text, now)
    assert caught.value.skipped is skipped
    assert tuple(f"{i:%Y-%m-%dT%H:%M}" for i in caught.value.instants) == both


@pytest.mark.parametrize(
    "text", ["", "soon", "25:00", "2026-13-01T00:00", "99999-01-01", "9999-12-31T23:59-14:00", "12:5a"]
)
def test_what_is_no_time_is_said_to_be_none(text):
    with pytest.raises(NotATime):
        meant(text, "2026-11-24T22:00")


@given(
    now=st.integers(0, 3 * 365 * 24 * 12).map(lambda n: at("2025-01-01") + timedelta(minutes=5 * n)),
    clock=st.times(),
    zone=st.sampled_from(["Europe/London", "America/Santiago", "Australia/Lord_Howe", "Pacific/Chatham"]),
)
def test_a_time_of_day_is_to_come_within_two_days_and_shown_by_the_clock_there(now, clock, zone):
    text, unclear = f"{clock:%H:%M}", False
    try:
        found = moment_meant(text, ZoneInfo(zone), now)
    except Unclear as either:
        found, unclear = min(either.instants), True
    assert now < found <= now + timedelta(hours=49)
    assert unclear or f"{found.astimezone(ZoneInfo(zone)):%H:%M}" == text
