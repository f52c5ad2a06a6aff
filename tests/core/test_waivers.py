"""Waivers count for what they name and until their day; what changed between two checks is told worst first."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

from hypothesis import given
from hypothesis import strategies as st

from gallant.core.checks.drift import BETTER, GONE, NEW, WORSE, drift
from gallant.core.checks.facts import LEVELS, Finding
from gallant.core.decide.ledger import Kept, LedgerEntry
from gallant.core.decide.waivers import subject, waivers, with_waivers
from gallant.core.records import replace

NOW = datetime(2026, 11, 25, 22, 0, tzinfo=UTC)
WARN = Finding(check="expiries", level="warn", system="sealock", node="a", message="the password ends in 8 d", mend="x")


def waived(until: str, system: str = "sealock", check: str = "expiries") -> list:
    entry = LedgerEntry(
        at=NOW, by="anna", host="h", kind="waive", subject=subject(check, system), until=until, reason="soon"
    )
    return waivers([Kept(seq=1, entry=entry, hash="x")])


def test_a_warning_that_somebody_accepted_is_a_note_that_says_who_and_until_when():
    (found,) = with_waivers([WARN], waived("2026-11-25"), NOW)
    assert (found.level, found.mend) == ("note", None)
    assert found.waived == "anna accepts it until 2026-11-25: soon"


def test_a_waiver_counts_for_its_check_its_system_and_its_time_alone():
    for known in (
        waived("2026-11-24"),
        waived("2027-01-01", check="roles"),
        waived("2027-01-01", system="sealock/b"),
        [],
    ):
        assert with_waivers([WARN], known, NOW) == [WARN]
    assert with_waivers([WARN], waived("2027-01-01", system="sealock/a"), NOW) != [WARN]


def test_a_stop_is_waived_by_nobody():
    stop = replace(WARN, level="stop")
    assert with_waivers([stop], waived("2027-01-01"), NOW) == [stop]


def test_the_newest_waiver_of_a_check_and_system_is_the_one_that_counts():
    entries = [
        Kept(
            seq=n,
            hash="x",
            entry=LedgerEntry(at=NOW, by="a", host="h", kind="waive", subject="c s", until=day, reason="r"),
        )
        for n, day in enumerate(("2027-01-01", "2026-11-01"), 1)
    ]
    assert [w.holds(NOW) for w in waivers(entries)] == [False]


findings = st.lists(
    st.builds(
        Finding,
        check=st.sampled_from(["a", "b"]),
        level=st.sampled_from(LEVELS),
        system=st.just("s"),
        node=st.sampled_from(["a", None]),
        message=st.sampled_from(["one 1", "two"]),
    ),
    max_size=8,
    unique_by=lambda f: (f.check, f.node, f.message),
)


@given(findings)
def test_nothing_drifts_from_itself(rows):
    assert drift(rows, rows) == []


@given(findings, findings)
def test_every_difference_is_told_once_and_the_other_way_round_is_its_reverse(before, after):
    there, back = drift(before, after), drift(after, before)
    count = lambda rows, what: sum(d.what == what for d in rows)  # noqa: E731
    assert (count(there, NEW), count(there, WORSE)) == (count(back, GONE), count(back, BETTER))
    assert len(there) == len(back)


def test_a_number_that_moves_is_no_new_finding():
    assert drift([WARN], [replace(WARN, message="the password ends in 7 d")]) == []
    (worse,) = drift([WARN], [replace(WARN, level="stop")])
    assert (worse.what, worse.was) == (WORSE, "warn")
    assert drift([WARN], [replace(WARN, level="pass")])[0].what == GONE


def test_a_waiver_ends_with_its_day_and_not_in_the_middle_of_it():
    (w,) = waived("2026-11-25")
    assert w.holds(datetime(2026, 11, 25, 23, 59, tzinfo=UTC))
    assert not w.holds(datetime(2026, 11, 25, 23, 59, tzinfo=UTC) + timedelta(minutes=1))
