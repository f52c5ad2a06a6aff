"""What is not ours, in what other programs read: pipelines, collectors, calendars
and systemd get text of it, and never a line, an element or an option."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from pathlib import Path
from xml.etree import ElementTree as Xml

import icalendar
import pytest
from hypothesis import given
from hypothesis import strategies as st

from gallant.core.errors import WrongUse
from gallant.core.windows.rules import Span
from gallant.operations.plan.calendar_entries import CalendarEntry, write
from gallant.operations.setup import timers
from gallant.views.ground.junit import Case, write_junit

NOW = datetime(2026, 12, 2, 4, 0, tzinfo=UTC)
WORDS = st.one_of(
    st.text(max_size=40),
    st.sampled_from(
        [
            "x\r\nEND:VEVENT\r\nBEGIN:VEVENT\r\nSUMMARY:mine",
            "]]><testcase name='mine'/>",
            'a" type="b',
            "\ud7ff\x00\x1b[31m\u202e",
            "a;b,c\\n:d",
        ]
    ),
)


@given(st.lists(WORDS, min_size=1, max_size=4))
def test_a_pipeline_reads_as_many_cases_as_there_are_whatever_they_say(tmp_path_factory, words):
    path = tmp_path_factory.mktemp("junit") / "found.xml"
    write_junit(path, words[0], [Case(of=one, name=one, failed=one, kind=one) for one in words], NOW)
    root = Xml.parse(path).getroot()
    assert [one.tag for one in root.iter()] == ["testsuites", "testsuite", *["testcase", "failure"] * len(words)]


@given(st.lists(WORDS, min_size=1, max_size=4))
def test_a_calendar_has_as_many_events_as_were_written_whatever_they_are_called(tmp_path_factory, words):
    path = tmp_path_factory.mktemp("ics") / "plan.ics"
    span = Span(begin=NOW, end=NOW + timedelta(hours=1))
    count = write(
        path, [CalendarEntry(name=one, span=span, summary=one, description=one) for one in words], NOW, "line"
    )
    calendar = icalendar.Calendar.from_ical(path.read_bytes())
    events = [one for one in calendar.walk() if one.name == "VEVENT"]
    assert len(events) == count == len(words)
    assert {key for event in events for key in event} == {
        "UID",
        "DTSTAMP",
        "DTSTART",
        "DTEND",
        "SUMMARY",
        "DESCRIPTION",
    }


@pytest.mark.parametrize("name", ["line\nExecStartPre=true", "line\\", "line\x1b", "line\r[Service]"])
def test_a_folder_whose_name_would_be_a_line_of_its_own_has_no_units(tmp_path, name):
    folder = tmp_path / name
    folder.mkdir()
    (folder / "estate.yaml").write_text("")
    with pytest.raises(WrongUse, match="no unit can hold"):
        timers.units(folder, "system", ("/usr/bin/gallant",))


@pytest.mark.parametrize("name", ["fähre 1", "100% sure", "$HOME", 'a "quoted" one', "a;b #c"])
def test_a_folder_is_one_word_of_its_units_whatever_it_is_called(tmp_path, name):
    folder = tmp_path / name
    folder.mkdir()
    (folder / "estate.yaml").write_text("")
    for unit in timers.units(folder, "system", ("/usr/bin/gallant",)):
        keys = [line.partition("=")[0] for line in unit.text.splitlines() if "=" in line and not line.startswith("#")]
        assert set(keys) <= {
            "Description", "Wants", "After", "Type", "User", "WorkingDirectory", "ExecStart", "EnvironmentFile", "KillMode", "UMask",
            "SuccessExitStatus", "OnCalendar", "AccuracySec", "Persistent", "WantedBy",
        }  # fmt: skip
        for line in unit.text.splitlines():
            if line.startswith("ExecStart="):
                assert line.endswith(timers._word(str(folder)))
            if line.startswith("WorkingDirectory="):
                assert Path(line.partition("=")[2].replace("%%", "%")) == folder
