"""One term, one matcher: what is written anywhere in an estate
means the same everywhere, and what means nothing is told."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st

from gallant.core.documents import Invalid
from gallant.core.errors import WrongUse
from gallant.core.estate.aiming import aim_for
from gallant.core.estate.calendar import most_special, windows_of
from gallant.core.estate.reading import parse_estate
from gallant.core.estate.rules import Marks
from gallant.core.estate.rules import matches as rule_matches
from gallant.core.estate.selecting import select
from gallant.core.plan.planning import systems_of
from gallant.core.terms import matches, parse_term, unmatched

TEXT = """\
gallant: estate/1
name: e
sites: {harbour: {}, pier: {}}
AIMS
systems:
  tickets: {product: p/a, shape: single, site: harbour, kind: storage, tags: [Prod], driver: http, profile: p,
            nodes: {a: {address: "https://127.0.0.1:1"}}}
  gates: {product: p/b, shape: single, site: pier, kind: application, driver: http, profile: p,
          nodes: {a: {address: "https://127.0.0.2:1"}}}
"""
BEGIN = datetime(2026, 12, 1, tzinfo=UTC)


def estate(more: str = ""):
    return parse_estate("estate.yaml", TEXT.replace("AIMS", more))


def means(term: str) -> set[str]:
    return {s.name for s in estate().systems.values() if matches(parse_term(term), s)}


# A term, and the systems that it means.
TERMS = {
    "*": {"tickets", "gates"},
    "tickets": {"tickets"},
    "Tickets": {"tickets"},
    "site:harbour": {"tickets"},
    "site:HARBOUR": {"tickets"},
    "SITE:pier": {"gates"},
    "tag:prod": {"tickets"},
    "tag:PROD": {"tickets"},
    "kind:Application": {"gates"},
}


@pytest.mark.parametrize("term", TERMS)
def test_a_term_means_the_same_wherever_it_is_written(term):
    wanted = TERMS[term]
    assert means(term) == wanted
    if term != "*":
        assert {s.name for s, _ in select(estate(), [term])} == wanted
        made = estate(f"aims: [{{for: '{term}', aim: pin 1.0}}]")
        assert {s.name for s in made.systems.values() if aim_for(made, s, "a") == "pin 1.0"} == wanted
    for key in ("windows", "blackouts"):
        made = estate(f"{key}: [{{for: '{term}', days: [daily], from: '01:00', to: '02:00'}}]")
        got = {
            s.name for s in made.systems.values() if windows_of(made, s, BEGIN, BEGIN + timedelta(days=1)) is not None
        }
        assert got == wanted
    made = estate(f"rounds: [{{name: first, of: ['{term}']}}]")
    assert systems_of(made, made.rounds[0]) == wanted
    if term.partition(":")[0].casefold() in ("*", "site", "tag", "kind"):
        made = estate(f"defaults: [{{for: '{term}', delivery: post}}]")
        assert {s.name for s in made.systems.values() if s.delivery == "post"} == wanted
    key, _, value = term.partition(":")
    if key in ("tag", "kind"):
        made = estate(f"rules: [{{{key}: {value}, then: act}}]")
        marks = {
            s.name: Marks(security=False, severity=None, restart=None, kinds=(s.kind,), tags=s.tags)
            for s in made.systems.values()
        }
        assert {name for name, one in marks.items() if rule_matches(made.rules[0], one)} == wanted


PLACES = {
    "windows": "windows: [{for: 'TERM', days: [daily], to: '02:00'MORE}]",
    "blackouts": "blackouts: [{for: 'TERM', days: [daily], to: '02:00'MORE}]",
    "aims": "aims: [{for: 'TERM', aim: newestMORE}]",
    "rounds": "rounds: [{name: first, of: ['TERM']MORE}]",
    "defaults": "defaults: [{for: 'TERM', delivery: postMORE}]",
}


@pytest.mark.parametrize("place", PLACES)
@pytest.mark.parametrize(
    ("term", "meant"), [("site:harbuor", "harbour"), ("tag:pord", "Prod"), ("kind:storagee", "storage")]
)
def test_a_term_that_means_nothing_is_told_with_what_may_be_meant_and_let_be_for_systems_to_come(place, term, meant):
    with pytest.raises(Invalid) as caught:
        estate(PLACES[place].replace("TERM", term).replace("MORE", ""))
    assert f"no system has {term} (did you mean {meant}?)" in str(caught.value)
    estate(PLACES[place].replace("TERM", term).replace("MORE", ", known: no"))


@pytest.mark.parametrize(
    ("field", "value", "meant"), [("kind", "storagee", "storage"), ("kind", "BOIS", "bios"), ("tag", "pord", "Prod")]
)
def test_a_rule_for_what_nothing_is_would_never_match_and_is_told(field, value, meant):
    with pytest.raises(Invalid, match=f"did you mean {meant}"):
        estate(f"rules: [{{{field}: {value}, then: act}}]")
    estate(f"rules: [{{{field}: {value}, then: act, known: no}}]")
    estate("rules: [{kind: OS Package, then: act}, {kind: storage, then: ask}]")


def test_where_there_is_no_system_yet_nothing_is_called_a_slip():
    parse_estate("e", "gallant: estate/1\nname: e\nsites: {s: {}}\naims: [{for: 'tag:prod', aim: newest}]\nsystems:\n")


@pytest.mark.parametrize("text", ["colour:red", "site:", ":x"])
def test_what_is_no_term_is_refused_wherever_it_is_written(text):
    with pytest.raises(ValueError, match="is no term"):
        parse_term(text)
    with pytest.raises(WrongUse):
        select(estate(), [text])
    for place in ("windows", "rounds"):
        with pytest.raises(Invalid):
            estate(PLACES[place].replace("TERM", text).replace("MORE", ""))


words = st.sampled_from(["harbour", "Harbour", "HARBOUR", "pier", "prod", "PROD", "storage", "tickets", "gates", "x"])


@given(st.sampled_from(["site", "tag", "kind", ""]), words)
def test_a_term_matches_something_or_is_called_unmatched_and_never_both(key, word):
    made = estate()
    term = parse_term(f"{key}:{word}" if key else word)
    found = [s for s in made.systems.values() if matches(term, s)]
    assert bool(found) == (unmatched(term, made.systems.values()) is None)
    assert term == parse_term(f"{key}:{word}".upper() if key else word.upper())


def test_of_windows_the_most_special_kind_says_when_however_it_is_written():
    made = estate(
        "windows: [{for: 'site:Harbour', days: [daily], to: '02:00'}, {for: 'TAG:prod', days: [sat], to: '03:00'}]"
    )
    (rule,) = most_special(made.windows, made.systems["tickets"])
    assert rule.days == ("sat",)
