"""Outages as they were sampled: the true length lies between what is certain and what is possible."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

from hypothesis import given
from hypothesis import strategies as st

from gallant.core.outages import Outage, Sample, outages
from gallant.views.roll.outages import between

THEN = datetime(2026, 12, 1, tzinfo=UTC)


def sampled(moments, out: tuple[float, float]) -> list[Outage]:
    """What probes at some moments see of a service that is out from one moment to another."""
    return outages(
        Sample(service="s", at=THEN + timedelta(seconds=at), real=at, ok=not out[0] <= at < out[1], why="refused")
        for at in moments
    )


@given(
    st.lists(st.floats(0.05, 40), min_size=3, max_size=40),
    st.floats(0, 200),
    st.floats(0.01, 100),
)
def test_the_true_length_of_an_outage_lies_between_what_is_certain_and_what_is_possible(gaps, began, length):
    moments = [sum(gaps[:n]) for n in range(len(gaps) + 1)]
    found = [o for o in sampled(moments, (began, began + length)) if o.ended is not None and o.most is not None]
    for outage in found:
        assert outage.least <= length <= outage.most
        assert outage.least <= outage.measured <= outage.most


def test_an_outage_of_a_second_that_was_asked_for_every_thirty_is_said_as_what_it_lay_between():
    (outage,) = sampled([0, 30, 60, 90], (29.5, 30.5))
    assert (outage.least, outage.measured, outage.most) == (0, 30, 60)
    assert between(outage) == ", between 0.00 and 60.00 s: it was asked about every 30 s"


def test_one_that_met_a_halt_says_so():
    outage = Outage(service="s", began=THEN, ended=THEN, seconds=20, measured=20, least=0.3, most=20, unseen=True)
    assert between(outage) == ", between 0.30 and 20.00 s: Gallant stood still meanwhile"


def test_one_that_was_asked_often_enough_is_one_number():
    (outage,) = sampled([n / 10 for n in range(60)], (2.0, 4.0))
    assert between(outage) == ""


def test_where_nothing_had_answered_before_only_the_least_is_known():
    (outage,) = sampled([1, 2, 3], (0, 2.5))
    assert (outage.least, outage.most) == (1, None)
    assert between(outage) == ", at least 1.00 s"
