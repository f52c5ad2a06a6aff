"""What is done without a person: begun once, at its time, in its window; and what is left, with the reason."""

from __future__ import annotations

import asyncio
import configparser
import os
import signal
import subprocess
import sys
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest

import gallant
from gallant.core.decide.due import MOST_TAKEN_UP
from gallant.core.decide.ledger import BEGUN
from gallant.core.errors import Refused
from gallant.operations.ground.deciding import record
from gallant.operations.ground.workplace import Workplace
from gallant.operations.plan.again import next_times
from gallant.operations.plan.loading import load_plan
from gallant.operations.roll import rolling as roll
from gallant.views.roll.live import LinesShow

from ..users import SOMEBODY


@pytest.fixture
def place(place):
    """With no rule that acts by itself: what is due is what a test books."""
    estate = place.folder / "estate.yaml"
    text = estate.read_text()
    acts = next(line for line in text.splitlines() if "then: act}" in line)
    estate.write_text(text.replace(acts + "\n", ""))
    return place


def now(place) -> datetime:
    return Workplace(place.folder).clock.now()


def said(moment: datetime) -> str:
    return f"{moment:%Y-%m-%dT%H:%MZ}"


def book(place, minutes: float, *more: str) -> datetime:
    at = (now(place) + timedelta(minutes=minutes + 1)).replace(second=0, microsecond=0)
    done = place.run("notice", "book", "tickets:image", said(at), "--yes", *more)
    assert done.code == 0, done.err
    return at


def until(place, moment: datetime) -> None:
    place.wait_for(lambda: now(place) >= moment)


def rolls(place) -> list[str]:
    from gallant.operations.after import history

    return [f"{run.run} {run.state}" for run in history.history(Workplace(place.folder))[0]]


def by_subject(done) -> dict:
    return {row["subject"]: row for row in done.rows}


def ledger(place, kind: str) -> list[dict]:
    rows = place.run("ledger", "--json").rows
    return sorted((e for e in rows if e["kind"] == kind), key=lambda e: e["at"])


def test_nothing_is_due_where_nothing_is_booked(place):
    done = place.run("due")
    assert (done.code, "Nothing is due, and nothing is booked." in done.out) == (0, True)


def test_what_is_booked_begins_once_at_its_time_however_often_due_is_called(place):
    place.make_ready()
    at = book(place, 40, "--for", "12h")  # a busy machine takes long by this clock
    before = place.run("due", "--json")
    assert before.code == 0
    assert by_subject(before)["tickets:image"]["did"] == "to come"
    assert rolls(place) == []
    until(place, at)
    both = [place.begin("due", "--json") for _ in range(2)]
    for process in both:
        out, err = process.communicate(timeout=90)
        assert process.returncode == 0, (out, err)
    place.wait_for(lambda: not rolls(place)[0].endswith("running"), said=lambda: str(rolls(place)))
    assert rolls(place) == ["roll-0001 finished"]
    assert place.run("due").code == 0
    assert rolls(place) == ["roll-0001 finished"]
    told = {(e["subject"], e["state"]) for e in ledger(place, "due")}
    [plan] = [subject for subject, state in told if state == "intended"]  # written down before the process is started
    assert told == {(plan, "intended"), ("tickets:image", "begun"), ("roll-0001", "begun")}
    began = min(e.at for e in place.entries())
    assert (
        timedelta(0) <= began - at < timedelta(hours=12)
    )  # within its booking; a busy machine takes hours by this clock


def test_what_is_left_is_told_once_and_tried_again_later(place):
    estate = place.folder / "estate.yaml"
    log = place.folder / "told.log"
    estate.write_text(
        estate.read_text()
        + "approval: {prod: 1}\ndue: {retry_minutes: 45}\n"
        + f"notify:\n  - {{run: \"sh -c 'cat >> {log}'\", when: [stopped]}}\n"
    )
    place.make_ready()
    at = book(place, 40, "--for", "12h")
    until(place, at)
    first = place.run("due", "--json")
    assert first.code == 1
    row = by_subject(first)["tickets:image"]
    assert (row["did"], "needs the approval of 1 other" in row["why"]) == ("left", True)
    plans = len(list((place.folder / "plans").iterdir()))
    again = place.run("due", "--json")
    assert (again.code, by_subject(again)["tickets:image"]["did"]) == (1, "left")
    assert len(list((place.folder / "plans").iterdir())) == plans  # no device was asked again so soon
    entries = ledger(place, "due")
    assert [(e["subject"], e["state"]) for e in entries] == [("tickets:image", "failed")]
    assert log.read_text().count("was due and is not done") == 1
    assert rolls(place) == []


def test_what_was_left_and_is_too_late_then_is_told_twice_and_no_more(place):
    estate = place.folder / "estate.yaml"
    estate.write_text(estate.read_text() + "approval: {prod: 1}\n")
    place.make_ready()
    at = book(place, 40, "--for", "4h")  # a busy machine takes long by this clock
    until(place, at)
    assert place.run("due").code == 1
    until(place, at + timedelta(minutes=241))
    for _ in range(3):
        assert place.run("due").code == 1
    told = [e["reason"] for e in ledger(place, "due")]
    assert len(told) == 2, told
    assert "its time has passed" in told[1]


def test_a_plan_that_somebody_else_approved_is_begun_in_its_time(place):
    estate = place.folder / "estate.yaml"
    estate.write_text(estate.read_text() + "approval: {prod: 1}\n")
    plan = place.make_ready()
    early = said(now(place) + timedelta(minutes=41))
    refused = place.run("notice", "book", "tickets:image", early, "--for", "12h")
    assert (refused.code, "no plan of it has the approval of 1 other" in refused.err) == (1, True), refused.err
    place.let_in()
    assert place.run_as(SOMEBODY, "approve", plan).code == 0
    at = (now(place) + timedelta(minutes=41)).replace(second=0, microsecond=0)
    assert place.run("notice", "book", "tickets:image", said(at), "--for", "12h", "--json").json["doubts"] == []
    until(place, at)
    row = by_subject(place.run("due", "--json"))["tickets:image"]
    assert (row["did"], row["plan"]) == ("begun", plan), row
    place.wait_for(lambda: rolls(place) == ["roll-0001 finished"])


def test_what_was_not_begun_in_its_time_is_said_to_be_late(place):
    place.make_ready()
    at = book(place, 40, "--for", "3m")
    until(place, at + timedelta(minutes=4))
    listed = place.run("due", "--list", "--json")
    assert (listed.code, by_subject(listed)["tickets:image"]["did"]) == (1, "left")
    done = place.run("due", "--json")
    assert done.code == 1
    row = by_subject(done)["tickets:image"]
    assert "its time has passed" in row["why"]
    assert rolls(place) == []
    assert now(place) < datetime.fromisoformat(row["again"]) < now(place) + timedelta(hours=3)
    assert place.run(*row["next"].split()[1:]).code == 0
    assert by_subject(place.run("due", "--list", "--json"))["tickets:image"]["did"] == "to come"


def test_what_lapsed_is_placed_beside_what_is_booked(standins):
    """As it is decided, with all that is read and booked here; no time is waited for."""
    line = standins(whole=True, speed=60.0)  # a command may take many seconds before twenty minutes have passed
    line.read_all()
    estate = line.folder / "estate.yaml"
    text = estate.read_text()

    def begins(limits: str) -> datetime:
        estate.write_text(f"{text}limits: {limits}\n")
        return next_times(Workplace(line.folder), {"tickets": ["image"]})["tickets"]

    soon = begins("{lanes_at_once: 1}")
    assert now(line) < soon < now(line) + timedelta(days=1)
    begin = (soon + timedelta(minutes=20)).replace(second=0, microsecond=0)
    booked = line.run("notice", "book", "overlook:image", said(begin), "--yes")  # of the same site, and another kind
    assert booked.code == 0, booked.err
    free = ("{lanes_at_once: 2}", "{lanes_at_once_per_kind: 1}")
    assert [begins(limits) < begin for limits in free] == [True, True]
    assert begins("{lanes_at_once: 1}").second == begins("{lanes_at_once: 1}").microsecond == 0  # as it is booked
    full = ("{lanes_at_once: 1}", "{lanes_at_once: 2, lanes_at_once_per_site: 1}")
    assert [begins(limits) > begin for limits in full] == [True, True]


def test_a_folder_of_this_name_where_somebody_stands_is_never_run(place, tmp_path):
    """By what goes on in a process of its own; and no other process of ours is started in a way that looks there."""
    theirs = tmp_path / "theirs" / "gallant"
    theirs.mkdir(parents=True)
    for name in ("__init__.py", "__main__.py"):
        (theirs / name).write_text(f"open({str(tmp_path / 'ran')!r}, 'w').write('theirs')\n")
    plan = place.make_ready()
    program = str(Path(sys.executable).parent / "gallant")
    words = (program, "roll", plan, "--detach", "--hold-after", "step", "--estate", str(place.folder / "estate.yaml"))
    done = subprocess.run(
        words, cwd=theirs.parent, env=place.environment(), capture_output=True, text=True, check=False
    )
    assert (done.returncode, "roll-0001" in done.stdout) == (0, True), done.stderr
    assert not (tmp_path / "ran").exists()
    lines = [line for path in Path(gallant.__file__).parent.rglob("*.py") for line in path.read_text().splitlines()]
    ours = [line for line in lines if "sys.executable, " in line]
    assert len(ours) >= 6
    assert [line for line in ours if 'sys.executable, "-P", "-m"' not in line] == []
    place.wait_for(lambda: rolls(place) == ["roll-0001 held"])


def test_what_was_decided_since_is_not_begun(place):
    plan = place.make_ready()
    book(place, 600)
    last = len(place.run("ledger", "--json").rows)
    assert place.run("notice", "book", "tickets:image", "--cancel").code == 0
    refused = place.run("roll", plan, "--decided-at", str(last))
    assert (refused.code, "decided on tickets:image meanwhile: cancel" in refused.err) == (5, True), refused.err
    assert place.run("notice", "assign", "tickets:image", "berta").code == 0  # whose it is says nothing of that
    begun = place.run("roll", plan, "--decided-at", str(last + 1), "--hold-after", "step")
    assert rolls(place) == ["roll-0001 held"], begun.err


def test_a_roll_that_began_while_somebody_took_it_back_ends_before_its_first_step(place):
    plan = place.make_ready()
    here = Workplace(place.folder)
    made, last = load_plan(here, plan), here.ledger.last()

    async def take_back():
        await asyncio.sleep(0)  # the roll is at its checks now
        record(here, "cancel", "tickets:image", target="3.2.4")

    async def both():
        pace = roll.HoldRules()
        going = roll.roll(here, made, LinesShow(quiet=True), pace=pace, consents=(), detach=False, decided_at=last)
        await asyncio.gather(going, take_back())

    with pytest.raises(Refused, match="decided on tickets:image meanwhile: cancel"):
        asyncio.run(both())
    assert rolls(place) == ["roll-0001 ended"]
    assert [entry.kind for entry in place.entries()] == ["ended"]
    assert place.journal_problems() == []
    for words in (("history", "roll-0001"), ("report", "roll-0001"), ("notice", "list"), ("plan", "--show", plan)):
        assert place.run(*words).code in (0, 1), words


def test_a_roll_that_was_begun_by_itself_and_cut_off_is_carried_on(place):
    place.make_ready()
    at = book(place, 40)
    until(place, at)
    assert place.run("due").code == 0
    place.wait_for(lambda: len(place.entries()) > 6)
    _kill(place)
    done = place.run("due", "--json")
    assert by_subject(done)["roll-0001"]["did"] == "begun", done.out
    place.wait_for(lambda: rolls(place) == ["roll-0001 finished"])
    assert place.journal_problems() == []


def test_a_booking_whose_aim_moved_is_left_and_told_once(place):
    place.make_ready()
    book(place, 40)
    estate = place.folder / "estate.yaml"
    estate.write_text(estate.read_text().replace("for: tickets, aim: settled 90d", "for: tickets, aim: pin 2.8.5"))
    for _ in range(2):
        done = place.run("due", "--json")
        assert done.code == 1
        left = by_subject(done)["tickets:image"]
        assert (left["did"], left["next"]) == ("left", "gallant notice list --all")
        assert "it was booked for 3.2.4, and" in left["why"]
    assert [e["subject"] for e in ledger(place, "due") if e["state"] == "failed"] == ["tickets:image"]
    assert rolls(place) == []


def _kill(place) -> None:
    lock = next(int(p.name) for p in Path("/proc").iterdir() if p.name.isdecimal() and _is_the_roll(p, place.folder))
    os.kill(lock, signal.SIGKILL)
    place.wait_for(lambda: not Workplace(place.folder).journal.is_running("roll-0001"))


def test_a_roll_that_was_cut_off_too_often_is_left_and_said_to_be(place):
    place.make_ready()
    until(place, book(place, 40))
    assert place.run("due").code == 0
    place.wait_for(lambda: len(place.entries()) > 6)
    _kill(place)
    for _ in range(MOST_TAKEN_UP):
        record(Workplace(place.folder), "due", "roll-0001", state=BEGUN, reason="carried on")
    done = place.run("due", "--json")
    assert done.code == 1
    left = by_subject(done)["roll-0001"]
    assert (left["did"], left["next"]) == ("left", "gallant resume roll-0001")
    assert "it was carried on by itself 3 times, and cut off each time" in left["why"]
    assert [e["subject"] for e in ledger(place, "due") if e["state"] == "failed"] == ["roll-0001"]
    assert place.run("due").code == 1  # and it stays so until somebody carries it on


def _is_the_roll(process: Path, folder: Path) -> bool:
    try:
        words = (process / "cmdline").read_bytes().split(b"\0")
    except OSError:
        return False
    return b"roll" in words and any(str(folder).encode() in word for word in words)


@pytest.mark.parametrize("booked", [True, pytest.param(False, marks=pytest.mark.long)])
def test_the_rest_that_does_not_fit_into_a_window_is_booked_where_the_estate_allows(place, booked):
    plan = place.make_ready()
    estate = place.folder / "estate.yaml"
    estate.write_text(
        estate.read_text().replace("Europe/London", "UTC") + f"due: {{rests: {'yes' if booked else 'no'}}}\n"
    )
    daily = 'windows:\n  - {for: tickets, days: [daily], from: "00:00", to: "24:00"}\n'
    whole = estate.read_text()
    estate.write_text(whole + daily)
    longest = place.run("plan", "--show", plan, "--json").json["windows"][0]["longest_s"]
    begin = now(place) - timedelta(minutes=2)
    end = now(place) + timedelta(seconds=longest, minutes=40)
    after = end + timedelta(minutes=20)
    estate.write_text(whole + "windows:\n" + _dated(begin, end) + _dated(after, after + timedelta(hours=23)))
    held = place.run("roll", plan)
    assert held.code == 4, held.out
    assert ("gallant due carries it on then" in held.err) is booked
    coming = place.run("due", "--list", "--json")
    assert [row["did"] for row in coming.rows] == (["to come"] if booked else [])
    if booked:
        until(place, after)
        done = place.run("due", "--json")
        assert by_subject(done)["roll-0001"]["did"] == "begun", done.out
        place.wait_for(
            lambda: rolls(place) == ["roll-0001 finished"], said=lambda: place.run("history", "roll-0001").out
        )


def _dated(begin: datetime, end: datetime) -> str:
    """The rules of a stretch of time, a day each."""
    rows, day = [], begin.astimezone(UTC).replace(hour=0, minute=0, second=0, microsecond=0)
    while day < end:
        from_, to = max(begin, day), min(end, day + timedelta(days=1))
        clock = "24:00" if to == day + timedelta(days=1) else f"{to:%H:%M}"
        if f"{from_:%H:%M}" != clock:
            rows.append(f'  - {{for: tickets, date: {day:%Y-%m-%d}, from: "{from_:%H:%M}", to: "{clock}"}}\n')
        day += timedelta(days=1)
    return "".join(rows)


def test_what_somebody_began_by_hand_in_its_time_is_not_begun_once_more(place):
    plan = place.make_ready()
    at = book(place, 40, "--for", "9h")
    until(place, at)
    assert place.run("roll", plan, "--hold-after", "wave").code == 4
    assert place.run("due", "--json").rows == []  # it is under way, by a person's hand
    assert place.run("hold", "roll-0001", "--for-good", "--reason", "another night").code == 0
    done = place.run("due", "--json")
    assert (done.code, "roll-0001 began it" in by_subject(done)["tickets:image"]["why"]) == (1, True)
    assert len(rolls(place)) == 1


def test_a_plan_is_prepared_ahead_of_its_window(place):
    plan = place.make_ready()
    at = (now(place) + timedelta(minutes=40)).replace(second=0, microsecond=0)
    booked = place.run("plan", "--show", plan, "--prepare", said(at))
    assert booked.code == 0, booked.err
    assert place.run("plan", "--show", plan, "--prepare", "2020-01-01T00:00Z").code == 2
    until(place, at)
    done = place.run("due", "--json")
    assert by_subject(done)[plan]["did"] == "begun"
    place.wait_for(lambda: [e["state"] for e in ledger(place, "prepare")][-1:] == ["done"])
    assert place.run("due", "--list", "--json").rows == []
    assert len(place.run("backup", "list", "--json").rows) == 1
    lying = place.run("stock", "preload", "tickets", "--json").rows
    assert {row["state"] for row in lying} == {"present"}


def test_what_is_booked_begins_in_a_window(place):
    estate = place.folder / "estate.yaml"
    day = (datetime.now(UTC) + timedelta(days=3)).strftime("%a").lower()
    place.make_ready()
    estate.write_text(
        estate.read_text() + f'windows:\n  - {{for: tickets, days: [{day}], from: "01:00", to: "05:00"}}\n'
    )
    refused = place.run("notice", "book", "tickets:image", said(now(place) + timedelta(hours=9)))
    assert refused.code == 5
    assert "the next begins at" in refused.err


def test_what_would_be_left_undone_is_said_when_it_is_booked(place):
    place.make_ready()
    at = said(now(place) + timedelta(hours=9))
    short = place.run("notice", "book", "tickets:image", at, "--for", "9m", "--json")
    assert short.code == 1
    assert "min in one piece, and 9 min are open from then on" in short.err
    whole = place.run("notice", "book", "tickets:image", at, "--json")
    assert (whole.code, whole.json["doubts"]) == (0, [])  # of which nobody said how long it is has room for its work
    assert place.run("notice", "book", "tickets:image", "--cancel").code == 0
    estate = place.folder / "estate.yaml"
    text = estate.read_text()
    for secret, told in (("ask", "its secret has to be typed"), ("env:TICKETS_ACT", "its secret is in $TICKETS_ACT")):
        estate.write_text(
            text.replace("secret: file:secrets/act", f'secret: "{secret}"').replace('"file:secrets/act"', f'"{secret}"')
        )
        assert estate.read_text() != text
        asked = place.run("notice", "book", "tickets:image", at)
        assert (asked.code, told in asked.err) == (1, True), asked.err
        assert len(ledger(place, "book")) == 1
    booked = place.run("notice", "book", "tickets:image", at, "--yes", "--json")
    assert (booked.code, len(booked.json["doubts"])) == (0, 1)
    check = ("check", "tickets", "--only", "unattended", "--json")
    assert [row["level"] for row in place.run(*check).rows] == ["warn"]
    (place.folder / "secrets" / "timer.env").write_text("# at night\nTICKETS_ACT=s3cret\n")
    assert [row["level"] for row in place.run(*check, TICKETS_ACT="x").rows] == ["pass"]
    assert place.run("notice", "book", "tickets:image", at).code == 0


@pytest.mark.parametrize("whose", ["user", "system"])
def test_the_units_of_a_timer_call_this_very_estate(place, whose):
    odd = place.folder / 'a "slipway" 100% $HOME'
    odd.mkdir()
    (odd / "estate.yaml").write_text((place.folder / "estate.yaml").read_text())
    units = place.run("init", str(odd), "--timer", whose, "--json").rows
    assert len(units) == 6
    for unit in units:
        read = configparser.RawConfigParser(strict=True)
        read.optionxform = str  # type: ignore[assignment,method-assign]
        read.read_string(unit["text"])
        if unit["file"].endswith(".service"):
            line = read["Service"]["ExecStart"]
            assert line.endswith('a \\"slipway\\" 100%% $$HOME"')
            assert read["Service"]["EnvironmentFile"].endswith('/a "slipway" 100%% $HOME/secrets/timer.env')
            assert ("SuccessExitStatus" in read["Service"]) is ("-due.service" not in unit["file"])
            assert ("User" in read["Service"]) is (whose == "system")
        else:
            assert read["Install"]["WantedBy"] == "timers.target"
    assert place.run("init", str(place.folder / "keys"), "--timer", whose).code == 2
