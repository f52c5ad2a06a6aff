"""What is due: nothing twice, nothing outside of its time, and nothing that nobody decided."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st

from gallant.core.decide.due import (
    BEGAN,
    CUT,
    CUT_OFF,
    ENDED,
    FINISHED,
    GIVEN_UP,
    GONE,
    HELD,
    MOST_TAKEN_UP,
    NEVER,
    PASSED,
    RUNNING,
    STOPPED,
    TO_DO,
    UNFINISHED,
    DueJob,
    Rolled,
    bookings,
    by_rule,
    cut_off,
    latest_begin,
    looks_after,
    most_urgent,
    open_bookings,
    preparations,
    rest_of,
)
from gallant.core.decide.ledger import BEGUN, INTENDED, LedgerEntry
from gallant.core.decide.notices import Notice
from gallant.core.windows.rules import Span

NOW = datetime(2026, 11, 24, 22, 0, tzinfo=UTC)


def at(minutes: float) -> datetime:
    return NOW + timedelta(minutes=minutes)


def notice(state: str, start: float | None = None, end: float | None = None, target: str = "3.2.4") -> Notice:
    return Notice(
        name="tickets:image",
        system="tickets",
        component="image",
        product="ostrel/shoal",
        nodes=("tickets/a",),
        installed=("2.8.5",),
        target=target,
        standing="behind",
        severity="high",
        security=False,
        restart="node",
        state=state,
        since=NOW,
        start=None if start is None else at(start),
        end=None if end is None else at(end),
    )


def entry(kind: str, minutes: float, subject: str = "tickets:image", **more) -> LedgerEntry:
    return LedgerEntry(at=at(minutes), by="anna", host="desk", kind=kind, subject=subject, **more)


def booked(minutes: float, start: float = 60, end: float | None = 120, **more) -> LedgerEntry:
    said = {"target": "3.2.4", **more}
    return entry("book", minutes, start=at(start), end=None if end is None else at(end), **said)


def rolled(name: str, minutes: float, component: str = "image", to: str = "3.2.4", stands: str = FINISHED) -> Rolled:
    brings = frozenset({("tickets", component, to), ("spit", "image", "1")})
    return Rolled(id=name, began=at(minutes), brings=brings, stands=stands)


def fates(said, notices, rolls, moment: float) -> list[tuple[str, str | None]]:
    found = bookings(open_bookings(said), notices, rolls, at(moment))
    return [(b.fate, b.roll.id if b.roll else None) for b in found]


HERE = notice("booked", 60, 120)


def test_a_booking_is_due_from_its_begin_to_its_end_and_then_it_has_passed():
    [booking] = bookings([booked(0)], [HERE], [], NOW)
    assert (booking.fate, booking.job.severity, booking.job.by) == (TO_DO, "high", "anna")
    assert [booking.job.is_due(at(m)) for m in (59, 60, 120, 121)] == [False, True, True, False]
    assert [fates([booked(0)], [HERE], [], m)[0][0] for m in (60, 120, 121)] == [TO_DO, TO_DO, PASSED]


def test_a_booking_without_an_end_has_that_of_its_notice():
    assert [fates([booked(0, end=None)], [HERE], [], m)[0][0] for m in (120, 121)] == [TO_DO, PASSED]
    assert [fates([booked(0, end=None)], [notice("new")], [], m)[0][0] for m in (60, 61)] == [TO_DO, PASSED]


def test_of_several_words_on_a_notice_the_last_counts_and_whose_it_is_is_none():
    assert fates([booked(0), booked(1, 70)], [HERE], [], 200) == [(PASSED, None)]
    assert [e.start for e in open_bookings([booked(0), booked(1, 70)])] == [at(70)]
    for word in ("assign", "due"):
        assert fates([booked(0), entry(word, 1)], [HERE], [], 0) == [(TO_DO, None)]
    for word in ("cancel", "reopen", "skip", "close", "accept"):  # a person's word, or a roll's end
        assert fates([booked(0), entry(word, 5)], [HERE], [], 200) == []
    rest = entry("book", 0, subject="roll-0001", start=at(60), target="plan-1")
    assert fates([rest], [], [], 0) == []


def test_the_first_roll_of_its_time_that_brings_it_is_that_of_a_booking_and_no_older_one():
    others = [rolled("roll-0003", 70, to="3.2.3"), rolled("roll-0002", 80, component="bios"), rolled("roll-0001", 59)]
    assert fates([booked(0)], [HERE], others, 90) == [(TO_DO, None)]
    assert fates([booked(0)], [HERE], [*others, rolled("roll-0004", 60)], 90) == [(BEGAN, "roll-0004")]
    both = [*others, rolled("roll-0005", 90, stands=STOPPED), rolled("roll-0004", 60)]
    assert fates([booked(0)], [HERE], both, 90) == [(BEGAN, "roll-0004")]


@pytest.mark.parametrize("moment", [70, 119, 500, 9000])
@pytest.mark.parametrize(
    ("stands", "fate"),
    [(RUNNING, BEGAN), (FINISHED, BEGAN), (CUT, UNFINISHED), (HELD, UNFINISHED), (STOPPED, UNFINISHED), (ENDED, UNFINISHED)],
)  # fmt: skip
def test_a_booking_is_done_only_when_its_own_roll_finished(stands, fate, moment):
    for known in ([HERE], []):
        assert fates([booked(0)], known, [rolled("roll-0004", 65, stands=stands)], moment) == [(fate, "roll-0004")]


def test_a_booking_whose_notice_is_gone_or_moved_on_is_gone_until_a_day_after_its_end():
    for known in ([], [notice("new", target="3.3.0")]):
        assert fates([booked(0)], known, [], 0) == [(GONE, None)]
        assert fates([booked(0)], known, [], 120 + 24 * 60) == [(GONE, None)]
        assert fates([booked(0)], known, [], 121 + 24 * 60) == []


def job(name: str, severity: str | None = None, until: float | None = None) -> DueJob:
    return DueJob(why="booked", subject=name, at=NOW, until=None if until is None else at(until), severity=severity)


@pytest.mark.parametrize(
    ("until", "window", "minutes", "latest"),
    [
        (60, None, 20, 40),  # without windows its own time is one
        (60, None, None, 60),
        (60, 200, 20, 60),  # it may begin until its time is over, and go on as long as the window does
        (60, 200, 170, 30),
        (None, 200, 170, 30),
        (None, None, 170, None),
    ],
)
def test_a_job_may_begin_until_what_is_left_is_no_longer_as_long_as_it_takes(until, window, minutes, latest):
    span = None if window is None else Span(begin=at(-60), end=at(window))
    found = latest_begin(job("a", until=until), span, None if minutes is None else minutes * 60)
    assert found == (NEVER if latest is None else at(latest))


def test_the_most_severe_comes_first_and_of_these_what_still_fits_and_then_what_can_wait_least():
    rows = [("a", "low", 10), ("b", None, 5), ("c", "critical", None), ("d", "critical", 90), ("e", "critical", 60), ("f", "critical", -1), ("g", "critical", 0)]  # fmt: skip
    latest = {name: NEVER if least is None else at(least) for name, _, least in rows}
    jobs = [job(name, severity) for name, severity, _ in rows]
    ordered = sorted(jobs, key=lambda one: most_urgent(one, latest[one.subject], NOW))
    assert "".join(one.subject for one in ordered) == "gedcfab"


def test_a_rule_begins_what_it_acts_on_once_for_each_release_and_only_in_a_window():
    begun = entry("due", -500, state=BEGUN, target="3.2.4")
    acting = notice("acts by itself")
    assert by_rule(acting, None, [], [], NOW).is_due(NOW)
    assert by_rule(acting, None, [begun], [], NOW) is None
    assert by_rule(acting, None, [], {("tickets", "image", "3.2.4")}, NOW) is None
    assert by_rule(acting, None, [], {("tickets", "bios", "3.2.4"), ("spit", "image", "3.2.4")}, NOW).is_due(NOW)
    assert by_rule(notice("acts by itself", target="3.2.6"), None, [begun], [], NOW).is_due(NOW)
    closed = by_rule(acting, [Span(begin=at(60), end=at(90))], [], [], NOW)
    assert (closed.at, closed.is_due(NOW)) == (at(60), False)
    assert by_rule(acting, [Span(begin=at(-60), end=at(90))], [], [], NOW).is_due(NOW)
    assert by_rule(acting, [], [], [], NOW).at is None


@given(st.sampled_from(["new", "accepted", "booked", "skipped", "left alone", "blocked", "under way", "done"]))
def test_what_no_rule_acts_on_is_never_due_by_a_rule(state):
    assert by_rule(notice(state), None, [], [], NOW) is None


def test_the_rest_of_a_roll_is_due_when_it_is_booked_and_its_window_opens():
    booked = entry("book", 0, subject="roll-0001", start=at(30))
    assert rest_of("roll-0001", at(30), []) is None
    assert rest_of("roll-0001", None, [booked]) is None
    job = rest_of("roll-0001", at(45), [booked])
    assert (job.is_due(at(44)), job.is_due(at(45))) == (False, True)


def test_a_roll_that_was_cut_off_is_taken_up_only_if_it_was_begun_by_itself_and_not_for_ever():
    begun = [entry("due", n, subject="roll-0001", state=BEGUN) for n in range(MOST_TAKEN_UP + 1)]
    assert cut_off("roll-0001", "plan-1", NOW, [entry("due", 0, subject="roll-0002", state=BEGUN)]) is None
    for said in (begun[:1], begun[:MOST_TAKEN_UP]):
        job = cut_off("roll-0001", "plan-1", NOW, said)
        assert job is not None
        assert (job.why, job.is_due(NOW)) == (CUT_OFF, True)
    given_up = cut_off("roll-0001", "plan-1", NOW, begun)
    assert given_up is not None
    assert (given_up.why, given_up.is_due(NOW)) == (GIVEN_UP, True)


def test_a_roll_that_was_cut_off_before_it_was_written_down_that_it_began_is_known_by_its_plan():
    intended = [entry("due", 0, subject="plan-1", state=INTENDED)]
    job = cut_off("roll-0001", "plan-1", NOW, intended)
    assert job is not None
    assert job.why == CUT_OFF
    assert cut_off("roll-0001", "plan-2", NOW, intended) is None


def test_of_several_words_on_a_preparation_the_last_counts():
    said = [entry("prepare", 0, subject="plan-1", start=at(5)), entry("prepare", 1, subject="plan-1", start=at(9))]
    assert [job.at for job in preparations(said)] == [at(9)]
    assert preparations([*said, entry("prepare", 2, subject="plan-1", state=BEGUN)]) == []


def test_a_roll_that_finished_is_looked_after_twice_and_each_time_once():
    def said(*subjects: str) -> list[LedgerEntry]:
        return [LedgerEntry(at=NOW, by="due", host="h", kind="due", subject=s, state=BEGUN) for s in subjects]

    first = looks_after("roll-0001", NOW, [], at(1))
    assert (first.subject, first.at, first.is_due(at(59)), first.is_due(at(60))) == (
        "roll-0001 1 h after",
        at(60),
        False,
        True,
    )
    second = looks_after("roll-0001", NOW, said(first.subject), at(61))
    assert (second.subject, second.at) == ("roll-0001 24 h after", at(24 * 60))
    assert looks_after("roll-0001", NOW, [], at(25 * 60)).subject == second.subject  # the first is of no use any more
    assert looks_after("roll-0001", NOW, said(first.subject, second.subject), at(61)) is None
    assert looks_after("roll-0001", NOW, [], at(8 * 24 * 60)) is None
