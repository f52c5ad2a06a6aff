"""What is due: nothing twice, nothing outside of its time, and nothing that nobody decided."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

from hypothesis import given
from hypothesis import strategies as st

from gallant.core.assess.ledger import BEGUN, FAILED, INTENDED, LedgerEntry
from gallant.core.assess.notices import Notice
from gallant.core.estate.windows import Span
from gallant.core.work.due import (
    CUT_OFF,
    GIVEN_UP,
    MOST_TAKEN_UP,
    Rolled,
    begun_by,
    cut_off,
    job_of,
    looks_after,
    preparations,
    rest_of,
    vanished,
)

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


def test_a_booking_is_due_from_its_begin_to_its_end():
    job = job_of(notice("booked", 10, 100), None, [], NOW)
    assert job is not None
    assert [job.is_due(at(m)) for m in (9, 10, 100, 101)] == [False, True, True, False]


def test_a_booking_that_was_begun_is_not_begun_again_and_one_that_was_changed_since_is():
    begun = entry("due", 11, state=BEGUN, target="3.2.4")
    assert job_of(notice("booked", 10, 100), None, [begun], at(50)) is None
    assert job_of(notice("booked", 40, 100), None, [begun], at(50)) is not None
    assert job_of(notice("booked", 10, 100), None, [entry("due", 11, state=FAILED)], at(50)) is not None


def rolled(name: str, minutes: float, component: str = "image", to: str = "3.2.4") -> Rolled:
    return Rolled(id=name, began=at(minutes), brings=frozenset({("tickets", component, to), ("spit", "image", "1")}))


def test_a_booking_was_begun_by_a_roll_of_its_time_that_brings_it_and_by_no_older_one():
    job = job_of(notice("booked", 10, 100), None, [], NOW)
    assert job is not None
    others = [rolled("roll-0003", 20, to="3.2.3"), rolled("roll-0002", 30, component="bios"), rolled("roll-0001", 9)]
    assert begun_by([job], others) == {}
    assert begun_by([job], [*others, rolled("roll-0004", 10)]) == {"tickets:image": "roll-0004"}
    assert begun_by([job], [*others, rolled("roll-0005", 40), rolled("roll-0004", 10)]) == {
        "tickets:image": "roll-0005"
    }


def booked(minutes: float, **more) -> LedgerEntry:
    return entry("book", minutes, start=at(60), end=at(120), target="3.2.4", **more)


def test_a_booking_whose_notice_is_gone_or_moved_on_is_left_and_no_other():
    here, moved_on = notice("booked", 60, 120), notice("new", target="3.3.0")
    begun = entry("due", 61, state=BEGUN, target="3.2.4")
    assert vanished([booked(0)], [here], [], NOW) == []
    assert vanished([booked(0)], [], [], NOW) == [booked(0)]
    assert vanished([booked(0)], [moved_on], [], NOW) == [booked(0)]
    assert vanished([booked(0), entry("assign", 1)], [], [], NOW) == [booked(0)]
    assert vanished([booked(0), booked(2)], [], [], NOW) == [booked(2)]
    for word in ("cancel", "reopen", "skip", "close", "accept"):  # a person's word, or a roll's end
        assert vanished([booked(0), entry(word, 5)], [], [], NOW) == []
    assert vanished([booked(0)], [], [begun], at(70)) == []
    assert vanished([booked(0)], [], [entry("due", 59, state=BEGUN, target="3.2.4")], at(70)) == [booked(0)]
    assert vanished([booked(0)], [], [], at(120 + 24 * 60)) == [booked(0)]
    assert vanished([booked(0)], [], [], at(121 + 24 * 60)) == []
    assert (
        vanished([entry("book", 0, subject="roll-0001", start=at(60), target="plan-1")], [], [], NOW) == []
    )  # the rest of a roll


def test_a_rule_begins_what_it_acts_on_once_for_each_release_and_only_in_a_window():
    begun = entry("due", -500, state=BEGUN, target="3.2.4")
    acting = notice("acts by itself")
    assert job_of(acting, None, [], NOW).is_due(NOW)
    assert job_of(acting, None, [begun], NOW) is None
    assert job_of(notice("acts by itself", target="3.2.6"), None, [begun], NOW).is_due(NOW)
    closed = job_of(acting, [Span(begin=at(60), end=at(90))], [], NOW)
    assert (closed.at, closed.is_due(NOW)) == (at(60), False)
    assert job_of(acting, [Span(begin=at(-60), end=at(90))], [], NOW).is_due(NOW)
    assert job_of(acting, [], [], NOW).at is None


@given(st.sampled_from(["new", "accepted", "skipped", "left alone", "blocked", "under way", "done"]))
def test_what_nobody_booked_and_no_rule_acts_on_is_never_due(state):
    assert job_of(notice(state), None, [], NOW) is None


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
