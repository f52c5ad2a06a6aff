"""Many systems into windows: every placing keeps every rule, and is as good as it says."""

from __future__ import annotations

import itertools
from datetime import UTC, datetime, timedelta

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from gallant.core.length.exchanging import Exchange, exchanged
from gallant.core.length.placing import (
    Answer,
    AtOnce,
    Piece,
    Placed,
    Placing,
    best,
    first_fit,
    improved,
    in_order,
    nights_of,
    problems,
    worth_of,
)
from gallant.core.windows.rules import Span
from gallant.operations.plan.searching import assign

THEN = datetime(2026, 12, 1, 22, tzinfo=UTC)


def night(day: int, minutes: float = 240) -> Span:
    begin = THEN + timedelta(days=day)
    return Span(begin=begin, end=begin + timedelta(minutes=minutes))


def piece(name: str, minutes: float = 60, spans: tuple[Span, ...] = (night(0), night(3)), **more) -> Piece:
    said = {"site": "harbour", "kind": "storage", "touches": (name,), **more}
    return Piece(name=name, length_s=minutes * 60, spans=spans, **said)


def at(placing, name: str) -> Span:
    return next(p.span for p in placing.placed if p.piece == name)


def test_what_goes_in_goes_in_as_early_as_it_can_the_weightiest_first():
    pieces = [piece("a", 150, weight=1.0), piece("b", 150, weight=4.0)]
    found = first_fit(pieces, AtOnce(whole=1), nights_of(pieces))
    assert at(found, "b").begin == THEN
    assert at(found, "a").begin == THEN + timedelta(days=3)
    assert first_fit(pieces, AtOnce(), nights_of(pieces)).worth > found.worth


@pytest.mark.parametrize(
    ("pieces", "why"),
    [
        ([piece("a", 300)], "its longest window is 60 min too short"),
        ([piece("a", 240, (night(0),), weight=9), piece("c", 60, (night(0),))], "its windows are full"),
        ([piece("a", spans=())], "no window of it is to come"),
        ([piece("a", 240, weight=9), piece("b", 240, weight=9), piece("c", 60)], "its windows are full"),
        ([piece("a", 300), piece("c", needs=("a",))], "it needs a, which found no place"),
        ([piece("a", 200, (night(3),)), piece("c", needs=("a",))], "what it needs ends too late"),
    ],
)
def test_what_goes_nowhere_says_why_and_what_would_help(pieces, why):
    found = first_fit(pieces, AtOnce(whole=1), nights_of(pieces))
    assert why in found.left[pieces[-1].name]


def test_what_it_needs_has_ended_and_soaked_before_a_piece_begins():
    pieces = [piece("ship", 30, soak_s=600), piece("ashore", 30, needs=("ship",), weight=9)]
    found = first_fit(pieces, AtOnce(), nights_of(pieces))
    assert at(found, "ashore").begin == at(found, "ship").end + timedelta(minutes=10)
    assert [p.name for p in in_order(pieces)] == ["ship", "ashore"]


def test_a_piece_waits_for_the_last_of_all_that_it_needs():
    needed = [piece(name, minutes) for name, minutes in (("a", 10), ("b", 90), ("c", 20))]
    for order in itertools.permutations("abc"):
        found = first_fit([*needed, piece("d", 30, needs=order)], AtOnce(), nights_of(needed))
        assert at(found, "d").begin == at(found, "b").end


def test_a_piece_goes_beside_none_that_touches_what_it_touches():
    others = [piece(name, 60, weight=9, touches=(name, other)) for name, other in (("a", "x"), ("b", "y"), ("c", "z"))]
    for touched in "xyz":
        found = first_fit([*others, piece("d", 30, touches=("d", touched))], AtOnce(), nights_of(others))
        assert at(found, "d").begin == THEN + timedelta(hours=1)
    assert at(first_fit([*others, piece("d", 30)], AtOnce(), nights_of(others)), "d").begin == THEN


def test_as_many_as_may_go_on_at_once_are_counted_with_all_that_go_on():
    others = [piece(name, 60, weight=9) for name in "abc"]
    for most, begin in ((4, THEN), (3, THEN + timedelta(hours=1))):
        for width in (AtOnce(whole=most), AtOnce(site=most), AtOnce(kind=most)):
            assert at(first_fit([*others, piece("d", 30)], width, nights_of(others)), "d").begin == begin


@pytest.mark.parametrize("late", "abc")
def test_an_exchange_leaves_a_piece_where_all_that_it_needs_and_all_that_need_it_let_it_stay(late):
    """Two nights, four places each: what `d` needs is in the first
    night but for one, and so are those that need `late`."""
    pieces = [*(piece(name, 30) for name in "abc"), piece("d", 30, needs=("a", "b", "c"))]
    nights = [night(0), night(3)]
    begins = {"a": 0, "b": 0, "c": 0, "d": 1, late: 1}
    placed = [
        Placed(piece=name, span=Span(begin=nights[n].begin, end=nights[n].begin + timedelta(minutes=30)))
        for name, n in begins.items()
    ]
    search = Exchange(pieces, nights, 4, Placing(placed=tuple(placed), left={}, worth=0.0))
    number = {one.name: i for i, one in enumerate(pieces)}
    assert [name for name in "abcd" if not search._stands(number[name])] == [late, "d"]
    search._put(number[late], -1)
    assert not search._stands(number[late])  # it goes nowhere, and `d` needs it
    search._put(number[late], 3)
    assert all(search._stands(i) for i in number.values())


def test_a_window_that_never_closes_is_cut_into_days():
    pieces = [piece("a", spans=(Span(begin=THEN, end=THEN + timedelta(days=400)),))]
    nights = nights_of(pieces)
    assert [(n.begin, n.end) for n in nights] == [
        (THEN + timedelta(days=d), THEN + timedelta(days=d + 1)) for d in range(60)
    ]
    assert at(first_fit(pieces, AtOnce(), nights_of(pieces)), "a").begin == THEN


def test_an_answer_is_laid_out_in_the_nights_that_it_chose():
    pieces = [piece("a"), piece("b")]
    chosen = Answer(chosen={"a": (1, -1), "b": (0, -1)}, bound=2.0)
    found = improved(pieces, AtOnce(), nights_of(pieces), chosen)
    assert (at(found, "a").begin, at(found, "b").begin) == (night(3).begin, night(0).begin)


def test_a_piece_is_laid_out_at_the_begin_of_the_place_that_was_chosen_for_it():
    chosen = Answer(chosen={"a": (1, 0), "b": (1, 0)}, bound=2.0)
    found = improved([piece("a", 60), piece("b", 30)], AtOnce(), nights_of([piece("a")]), chosen)
    begins = sorted(at(found, name).begin for name in "ab")
    assert begins[0] == night(3).begin
    assert begins[1] > begins[0]


@pytest.mark.parametrize("width", [AtOnce(whole=1), AtOnce(site=1), AtOnce(kind=1)])
def test_a_night_is_not_given_more_work_than_goes_into_it(width):
    pieces = [piece(name, 150) for name in "ab"]
    found = assign(pieces, width, nights_of(pieces), 5)
    assert sorted(n for n, _ in found.chosen.values()) == [0, 1]


BROKEN = {
    "outside of its windows": [
        Placed(piece="a", span=Span(begin=night(1).begin, end=night(1).begin + timedelta(hours=1)))
    ],
    "another length": [Placed(piece="a", span=Span(begin=THEN, end=THEN + timedelta(minutes=59)))],
    "placed twice": [Placed(piece="a", span=Span(begin=THEN, end=THEN + timedelta(hours=1)))] * 2,
    "nothing that was to be placed": [Placed(piece="z", span=night(0))],
    "which it needs, has ended": [
        Placed(piece="a", span=Span(begin=THEN, end=THEN + timedelta(hours=1))),
        Placed(piece="b", span=Span(begin=THEN + timedelta(minutes=59), end=THEN + timedelta(minutes=119))),
    ],
    "are worked on at once": [
        Placed(piece="a", span=Span(begin=THEN, end=THEN + timedelta(hours=1))),
        Placed(piece="c", span=Span(begin=THEN + timedelta(minutes=59), end=THEN + timedelta(minutes=119))),
    ],
    "go on at once of its site": [
        Placed(piece=name, span=Span(begin=THEN, end=THEN + timedelta(hours=1))) for name in ("a", "d")
    ],
    "go on at once of its kind": [
        Placed(piece=name, span=Span(begin=THEN, end=THEN + timedelta(hours=1))) for name in ("a", "e")
    ],
    "go on at once in all": [
        Placed(piece=name, span=Span(begin=THEN, end=THEN + timedelta(hours=1))) for name in ("a", "f", "g")
    ],
}


@pytest.mark.parametrize("what", BROKEN)
def test_the_verifier_names_every_rule_that_is_broken(what):
    pieces = [
        piece("a"),
        piece("b", needs=("a",)),
        piece("c", touches=("a", "c")),
        piece("d", kind="network"),
        piece("e", site="northpier"),
        piece("f", site="fulmar", kind="platform"),
        piece("g", site="ferry", kind="network"),
    ]
    assert any(what in told for told in problems(pieces, AtOnce(whole=2, site=1, kind=1), BROKEN[what]))


@st.composite
def estates(draw):
    nights = [night(3 * n, draw(st.integers(60, 360))) for n in range(draw(st.integers(1, 4)))]
    pieces = []
    for n in range(draw(st.integers(1, 14))):
        spans = tuple(s for s in nights if draw(st.booleans())) or (nights[0],)
        pieces.append(
            piece(
                f"s{n}",
                draw(st.integers(10, 200)),
                spans,
                site=draw(st.sampled_from(["harbour", "northpier"])),
                kind=draw(st.sampled_from(["storage", "network"])),
                needs=tuple(f"s{m}" for m in range(n) if draw(st.integers(0, 9)) == 0),
                touches=(f"s{n}", *([f"s{n - 1}"] if n and draw(st.integers(0, 4)) == 0 else [])),
                weight=draw(st.sampled_from([1.0, 2.0, 8.0])),
                soak_s=draw(st.sampled_from([0.0, 300.0])),
            )
        )
    limit = st.none() | st.integers(1, 3)
    return pieces, AtOnce(whole=draw(limit), site=draw(limit), kind=draw(limit))


@settings(max_examples=60, deadline=None)
@given(estates())
def test_every_placing_keeps_every_rule_and_none_is_worth_more_than_the_bound(drawn):
    pieces, at_once = drawn
    nights = nights_of(pieces)
    placings = [first_fit(pieces, at_once, nights)]
    answer = assign(pieces, at_once, nights, 5.0)
    if answer is not None:
        placings.append(improved(pieces, at_once, nights, answer))
        placings.append(exchanged(pieces, at_once, nights, best(placings), 2000, 1))
    for placing in placings:
        assert problems(pieces, at_once, placing.placed) == []
        assert {p.piece for p in placing.placed} | set(placing.left) == {p.name for p in pieces}
        assert not {p.piece for p in placing.placed} & set(placing.left)
        assert placing.worth == pytest.approx(worth_of(pieces, placing.placed, nights))
        assert answer is None or placing.worth <= answer.bound + 1e-6
    found = best(placings)
    assert found.worth == max(p.worth for p in placings)
    assert found.gap is None or 0 <= found.gap <= 1


@settings(max_examples=25, deadline=None)
@given(estates(), st.integers(0, 5))
def test_exchanges_never_make_a_placing_worse_and_the_same_seed_gives_the_same(drawn, seed):
    pieces, at_once = drawn
    nights = nights_of(pieces)
    first = first_fit(pieces, at_once, nights)
    once = exchanged(pieces, at_once, nights, first, 1500, seed)
    assert once.worth >= first.worth
    assert once == exchanged(pieces, at_once, nights, first, 1500, seed)
