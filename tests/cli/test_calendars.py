"""Calendars of others: windows that a file says, files that are none, and a plan as a calendar."""

from __future__ import annotations

import re
import shutil
from datetime import UTC, datetime, timedelta
from zoneinfo import ZoneInfo

import icalendar
import pytest

from ..conftest import Place, starting


@pytest.fixture(scope="module")
def line(tmp_path_factory):
    """Stand-ins for all of these, which change nothing at them."""
    for make in starting.__wrapped__(tmp_path_factory.mktemp("calendars")):
        yield make()


@pytest.fixture
def place(line, tmp_path) -> Place:
    """A folder of its own before them."""
    shutil.copytree(line.folder, tmp_path / "estate")
    return Place(tmp_path / "estate", line.said)


HEAD = "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//harbour office//EN\r\n"
EVENT = "BEGIN:VEVENT\r\nUID:{uid}\r\nDTSTAMP:20260101T000000Z\r\n{lines}END:VEVENT\r\n"


def calendar(*events: str) -> str:
    told = "".join(EVENT.format(uid=f"e{n}", lines=lines) for n, lines in enumerate(events))
    return f"{HEAD}{told}END:VCALENDAR\r\n"


def with_file(place, text: str, windows: str = "windows: harbour.ics\n") -> None:
    (place.folder / "harbour.ics").write_text(text, newline="")
    estate = place.folder / "estate.yaml"
    estate.write_text(estate.read_text() + windows)


def stamp(moment: datetime) -> str:
    return f"{moment:%Y%m%dT%H%M%SZ}"


@pytest.fixture
def soon() -> datetime:
    return (datetime.now(UTC) + timedelta(days=3)).replace(minute=0, second=0, microsecond=0)


def spans(place) -> list[tuple[datetime, datetime]]:
    rows = place.run("windows", "tickets", "--json").rows
    return [(datetime.fromisoformat(r["begin"]), datetime.fromisoformat(r["end"])) for r in rows]


def test_windows_are_what_a_calendar_says(place, soon):
    weekly = f"DTSTART:{stamp(soon)}\r\nDURATION:PT4H\r\nRRULE:FREQ=WEEKLY;COUNT=3\r\n"
    left_out = f"EXDATE:{stamp(soon + timedelta(days=7))}\r\n"
    once = f"DTSTART:{stamp(soon + timedelta(days=2))}\r\nDTEND:{stamp(soon + timedelta(days=2, hours=1))}\r\n"
    cancelled = f"DTSTART:{stamp(soon + timedelta(days=4))}\r\nDURATION:PT4H\r\nSTATUS:CANCELLED\r\n"
    with_file(place, calendar(weekly + left_out, once, cancelled))
    day = timedelta(days=1)
    assert spans(place) == [
        (soon, soon + timedelta(hours=4)),
        (soon + 2 * day, soon + 2 * day + timedelta(hours=1)),
    ]
    assert "as harbour.ics says" in place.run("windows", COLUMNS="140").out


def test_one_occurrence_that_was_moved_is_where_it_was_moved_to(place, soon):
    weekly = f"DTSTART:{stamp(soon)}\r\nDURATION:PT2H\r\nRRULE:FREQ=DAILY;COUNT=2\r\n"
    moved = f"RECURRENCE-ID:{stamp(soon)}\r\nDTSTART:{stamp(soon + timedelta(hours=5))}\r\nDURATION:PT2H\r\n"
    text = calendar(weekly, moved).replace("UID:e1", "UID:e0")
    with_file(place, text)
    assert [begin for begin, _ in spans(place)] == [soon + timedelta(hours=5), soon + timedelta(days=1)]


def daily(soon: datetime, *changes: str, count: int = 6) -> str:
    """A series of two hours a day, and what changes it."""
    series = f"DTSTART:{stamp(soon)}\r\nDURATION:PT2H\r\nRRULE:FREQ=DAILY;COUNT={count}\r\n"
    text = calendar(series, *changes)
    return re.sub("UID:e[0-9]+", "UID:e0", text)


def test_a_change_of_all_to_come_moves_each_of_them(place, soon):
    day, hour = timedelta(days=1), timedelta(hours=1)
    later = f"RECURRENCE-ID;RANGE=THISANDFUTURE:{stamp(soon + 2 * day)}\r\nDTSTART:{stamp(soon + 2 * day + 5 * hour)}\r\nDURATION:PT1H\r\n"
    once = f"RECURRENCE-ID:{stamp(soon + 3 * day)}\r\nDTSTART:{stamp(soon + 3 * day - hour)}\r\nDURATION:PT2H\r\n"
    ended = f"RECURRENCE-ID;RANGE=THISANDFUTURE:{stamp(soon + 5 * day)}\r\nDTSTART:{stamp(soon + 5 * day)}\r\nSTATUS:CANCELLED\r\n"
    with_file(place, daily(soon, later, once, ended))
    assert spans(place) == [
        (soon, soon + 2 * hour),
        (soon + day, soon + day + 2 * hour),
        (soon + 2 * day + 5 * hour, soon + 2 * day + 6 * hour),
        (soon + 3 * day - hour, soon + 3 * day + hour),
        (soon + 4 * day + 5 * hour, soon + 4 * day + 6 * hour),
    ]


OWN_ZONE = (
    "BEGIN:VTIMEZONE\r\nTZID:Harbour Time\r\n"
    "BEGIN:STANDARD\r\nDTSTART:19701025T030000\r\nTZOFFSETFROM:+0100\r\nTZOFFSETTO:+0000\r\nRRULE:FREQ=YEARLY;BYMONTH=10;BYDAY=-1SU\r\nEND:STANDARD\r\n"
    "BEGIN:DAYLIGHT\r\nDTSTART:19700329T020000\r\nTZOFFSETFROM:+0000\r\nTZOFFSETTO:+0100\r\nRRULE:FREQ=YEARLY;BYMONTH=3;BYDAY=-1SU\r\nEND:DAYLIGHT\r\n"
    "END:VTIMEZONE\r\n"
)


@pytest.mark.parametrize("day", ["20270115", "20270715"])
@pytest.mark.parametrize("quoted", ["Harbour Time", '"Harbour Time"'])
def test_a_zone_that_only_the_file_knows_is_refused_with_its_line_in_winter_and_in_summer(place, day, quoted):
    """In winter its clock shows the time of UTC, and was taken for that."""
    event = f"DTSTART;TZID={quoted}:{day}T220000\r\nDURATION:PT1H\r\nRRULE:FREQ=WEEKLY\r\n"
    text = calendar("DTSTART:20260101T000000Z\r\nDURATION:PT1H\r\n", event)
    with_file(place, text.replace("BEGIN:VEVENT", OWN_ZONE + "BEGIN:VEVENT", 1))
    refused = place.run("windows", "tickets")
    line = next(
        n for n, told in enumerate((place.folder / "harbour.ics").read_text().splitlines(), 1) if "TZID=" in told
    )
    assert refused.code == 2
    assert f"harbour.ics:{line}: its time zone 'Harbour Time' is none of the IANA's." in refused.err


def test_a_zone_of_the_tz_database_counts_as_it_stands_there_whatever_the_file_says_of_it(place, soon):
    event = f"DTSTART;TZID=Europe/London:{soon:%Y%m%d}T220000\r\nDURATION:PT1H\r\n"
    text = calendar(event).replace(
        "BEGIN:VEVENT", OWN_ZONE.replace("Harbour Time", "Europe/London") + "BEGIN:VEVENT", 1
    )
    with_file(place, text)
    [(begin, _)] = spans(place)
    assert begin.astimezone(ZoneInfo("Europe/London")).hour == 22


@pytest.mark.parametrize(
    ("change", "told"),
    [
        ("RECURRENCE-ID;RANGE=THISANDPRIOR:{at}\r\nDTSTART:{at}\r\n", "THISANDFUTURE is the one"),
        ("RECURRENCE-ID;RANGE=THISANDFUTURE:{at}\r\nDTSTART:{at}\r\nRRULE:FREQ=WEEKLY\r\n", "a rule of its own"),
        ("RECURRENCE-ID;RANGE=THISANDFUTURE:{at}\r\nDTSTART:{at}\r\nUID:other\r\n", "not in the file"),
    ],
)
def test_a_change_of_all_to_come_that_cannot_be_followed_is_refused(place, soon, change, told):
    text = daily(soon, change.format(at=stamp(soon)) + "DURATION:PT1H\r\n")
    if "UID:other" in change:
        text = text.replace("UID:e0", "UID:e1", 1)
    with_file(place, text)
    done = place.run("windows", "tickets")
    assert done.code == 2
    assert told in done.err


def test_blackouts_may_come_from_a_calendar_beside_windows_of_ones_own(place, soon):
    told = calendar(f"DTSTART:{stamp(soon)}\r\nDURATION:PT2H\r\n")
    rules = f'windows:\n  - {{for: tickets, date: {soon:%Y-%m-%d}, from: "00:00", to: "24:00"}}\nblackouts:\n  - {{for: "site:harbour", file: harbour.ics}}\n'
    with_file(place, told, rules)
    estate = place.folder / "estate.yaml"
    estate.write_text(estate.read_text().replace("Europe/London", "UTC"))
    found = spans(place)
    assert all(end <= soon or begin >= soon + timedelta(hours=2) for begin, end in found)
    assert found


@pytest.mark.parametrize(
    ("lines", "told"),
    [
        ("DTSTART:20260101T000000Z\r\nDURATION:PT1H\r\nRRULE:FREQ=SECONDLY\r\n", "SECONDLY"),
        ("DTSTART:20260101T000000Z\r\nDURATION:PT1H\r\nRRULE:FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=30\r\n", "YEARLY"),
        ("DTSTART:20260101T000000Z\r\nDURATION:PT1H\r\nRRULE:FREQ=DAILY;BYHOUR=1,2\r\n", "BYHOUR"),
        ("DTSTART:20260101T000000Z\r\n", "ends no later than it begins"),
        ("DTSTART;TZID=Nowhere/Else:20260101T000000\r\nDURATION:PT1H\r\n", "harbour.ics"),
        ("SUMMARY:no beginning\r\nDURATION:PT1H\r\n", "it has no DTSTART"),
        ("DTSTART:20260101T000000Z\r\nDURATION:P2900000D\r\n", "it lasts longer than 3660 days"),
        ("DTSTART:19180101T000000Z\r\nDURATION:PT1H\r\nRRULE:FREQ=MONTHLY;COUNT=9999\r\n", "the year 1918"),
        ("DTSTART:99991231T230000Z\r\nDURATION:PT2H\r\n", "the year 9999"),
        ("DTSTART:00010101T000000Z\r\nDURATION:PT1H\r\n", "the year 1"),
        ("DTSTART:20260101T000000Z\r\nDURATION:PT1H\r\nEXDATE:99991231T230000Z\r\n", "the year 9999"),
    ],
)
def test_an_event_that_is_no_window_is_refused_with_its_file_and_why(place, lines, told):
    with_file(place, calendar(lines))
    done = place.run("windows")
    assert done.code == 2, done.out
    assert told in done.err
    assert "harbour.ics" in done.err
    checked = place.run("validate", "estate.yaml")
    assert checked.code == 2
    assert told in checked.out


@pytest.mark.parametrize(
    "raw", [b"", b"\0\xff\xfe", b"BEGIN:VCALENDAR\r\n", b"hello\r\n" * 1000, b"BEGIN:VEVENT\r\n" * 9000]
)
def test_a_file_that_is_no_calendar_is_told_and_never_a_traceback(place, raw):
    with_file(place, "")
    (place.folder / "harbour.ics").write_bytes(raw)
    done = place.run("windows", "tickets", "--json")
    assert done.code in (0, 2)
    assert done.code == 2 or done.rows == []


def test_a_calendar_that_is_not_there_is_wrong_usage(place):
    with_file(place, "")
    (place.folder / "harbour.ics").unlink()
    assert place.run("survey").code == 2
    estate = place.folder / "estate.yaml"
    estate.write_text(
        estate.read_text().replace("windows: harbour.ics", 'windows: [{for: "*", file: x.ics, days: [mon]}]')
    )
    assert place.run("validate", "estate.yaml").code == 2


def test_what_never_holds_takes_no_time(place, soon):
    never = f"DTSTART:{stamp(soon)}\r\nDURATION:PT1H\r\nRRULE:FREQ=MONTHLY;BYMONTH=2;BYMONTHDAY=30\r\n"
    with_file(place, calendar(never))
    assert spans(place) == [(soon, soon + timedelta(hours=1))]


def test_a_plan_is_written_as_a_calendar_that_others_read(place, soon):
    with_file(place, calendar(f"DTSTART:{stamp(soon)}\r\nDURATION:PT9H\r\n"))
    plan = place.make_ready()
    assert place.run("plan", "--show", plan, "--ics", "plan.ics").code == 0
    [event] = icalendar.Calendar.from_ical((place.folder / "plan.ics").read_bytes()).walk("VEVENT")
    assert event["DTSTART"].dt == soon
    assert soon < event["DTEND"].dt <= soon + timedelta(hours=9)
    assert "tickets: 2.8.5 → 2.11.3, 2.11.3 → 3.2.4" in str(event["SUMMARY"])
    assert place.run("plan", "--all", "--search", "1s", "--ics", "all.ics").code == 0
    [event] = icalendar.Calendar.from_ical((place.folder / "all.ics").read_bytes()).walk("VEVENT")
    assert event["DTSTART"].dt == soon
    assert place.run("plan", "--show", plan, "--ics", "nowhere/plan.ics").code == 4
