"""The estate file: what it says becomes records, and what is wrong is said with its place, all of it at once."""

from __future__ import annotations

import pytest

from gallant.core.documents import Invalid
from gallant.core.errors import WrongUse
from gallant.core.estate.aiming import aim_for
from gallant.core.estate.reading import parse_estate
from gallant.core.estate.selecting import select

from ..builders import GOOD


def problems(text: str) -> list[tuple[int, int, str]]:
    with pytest.raises(Invalid) as caught:
        parse_estate("estate.yaml", text)
    return [(p.line, p.column, p.message) for p in caught.value.problems]


def test_a_right_file_becomes_frozen_records():
    estate = parse_estate("estate.yaml", GOOD)
    assert estate.systems["tickets"].nodes["b"].serial == "B"
    assert estate.systems["tickets"].services["blocks"].endpoint == ("10.0.1.1", 860)
    with pytest.raises(AttributeError):
        estate.systems["tickets"].shape = "pool"


WRONG = [
    ("shape: pair", "shpe: pair", (14, 5, "unknown key 'shpe' (did you mean shape?)")),
    ("shape: pair", "shape: pear", (14, 12, "unknown shape 'pear' (did you mean pair?)")),
    ("site: harbour", "site: harbor", (15, 11, "unknown site 'harbor' (did you mean harbour?)")),
    ("serial: A}", "serial: A, serial: C}", (21, 51, "'serial' stands twice")),
    ("serial: B}", "serial: A}", (22, 48, "tickets/b has the serial of tickets/a")),
    ("10.0.0.2", "10.0.0.1", (22, 20, "tickets/b has the address of tickets/a")),
    ("https://10.0.0.2", "http://10.0.0.2", (22, 20, "never sent in clear")),
    ('"env:READ"', "hunter2", (6, 27, "a secret never stands in this file")),
    ("settled 30d", "setled 30d", (8, 25, "not an aim")),
    ("active: a", "active: c", (23, 21, "no node 'c' in tickets")),
    ("10.0.1.1:860", "10.0.1.1", (25, 25, "write HOST:PORT")),
    ("estate/1", "estate/9", (1, 10, "this Gallant reads estate/1")),
    ("for: tickets/b", "for: tickets/c", (10, 11, "selects nothing (did you mean")),
    ("serial: A}", "serial: A, runs_on: deck/x}", (21, 60, "no node 'deck/x'")),
    ("serial: A}", "serial: A, runs_on: tickets/a}", (21, 60, "tickets/a runs on itself, by way of tickets/a")),
    ("  read:", "  raed:", (6, 3, "unknown purpose 'raed' (did you mean read?)")),
]


@pytest.mark.parametrize(("old", "new", "expected"), WRONG, ids=[w[1][:24] for w in WRONG])
def test_what_is_wrong_is_said_at_its_place(old, new, expected):
    line, column, message = expected
    found = problems(GOOD.replace(old, new, 1))
    assert any((at, place) == (line, column) and message in text for at, place, text in found), found


def test_the_errors_of_all_records_are_said_in_one_run():
    text = (
        GOOD.replace("env:READ", "x")
        .replace("shape: pair", "shap: pair")
        .replace("settled 30d", "x")
        .replace("10.0.1.1:860", "x")
    )
    assert len(problems(text)) >= 5


def test_names_are_looked_at_although_another_record_is_wrong_in_itself():
    found = problems(GOOD.replace("env:READ", "x").replace("site: harbour", "site: harbor"))
    assert any("unknown site" in text for _, _, text in found)


@pytest.mark.parametrize(
    "text",
    [
        "",
        "[]",
        "gallant: [",
        "\t",
        "a: &x [*x]",
        "a: !!python/object:os.system {}",
        "\x00",
        "- " * 2000,
        "{" * 100000,
        "42",
    ],
)
def test_a_hostile_file_is_refused_and_never_a_crash(text):
    assert problems(text)


def test_a_simulated_estate_never_speaks_to_a_real_machine():
    text = GOOD.replace("name: Skerry Line", "name: x\nsimulation: {speed: 10, since: 2026-11-25T00:00:00Z}")
    assert sum("not a loopback address" in message for _, _, message in problems(text)) == 3


def test_the_most_specific_aim_wins():
    estate = parse_estate("estate.yaml", GOOD)
    system = estate.systems["tickets"]
    assert aim_for(estate, system, "a") == "newest"
    assert aim_for(estate, system, "b") == "pin 3.2.4"


def test_terms_select_what_all_of_them_hold_for():
    estate = parse_estate("estate.yaml", GOOD)
    assert [(s.name, n) for s, n in select(estate, ["site:harbour", "tag:prod", "kind:storage"])] == [
        ("tickets", ("a", "b"))
    ]
    assert select(estate, ["tickets/b"])[0][1] == ("b",)
    for term, words in (("tag:prd", "did you mean prod"), ("site:harbor", "did you mean harbour"), ("tag:x", "tag:x")):
        with pytest.raises(WrongUse, match=words):  # a typo is no reason for a night job to say that all is well
            select(estate, [term])
    with pytest.raises(WrongUse, match="did you mean tickets"):
        select(estate, ["tikets"])
    with pytest.raises(WrongUse, match="selects by nothing"):
        select(estate, ["colour:blue"])


def test_five_thousand_nodes_are_one_file_like_any_other():
    systems = "".join(
        f"  s{i}:\n    product: ostrel/shoal\n    shape: pair\n    site: harbour\n    driver: http\n    profile: p\n    nodes:\n"
        f'      a: {{address: "https://10.{i // 250}.{i % 250}.1", serial: A{i}}}\n      b: {{address: "https://10.{i // 250}.{i % 250}.2", serial: B{i}}}\n'
        for i in range(2500)
    )
    estate = parse_estate("estate.yaml", "gallant: estate/1\nname: big\nsites: {harbour: {}}\nsystems:\n" + systems)
    assert sum(len(s.nodes) for s in estate.systems.values()) == 5000


@pytest.mark.parametrize("day", ["2026-03-14", "2026-03-14T00:00:00Z", "2026-03-14T01:00:00+01:00"])
def test_a_plain_day_is_its_beginning(day):
    text = GOOD + f"declared:\n  x/y: {{version: '5', by: anna, date: {day}}}\n"
    assert parse_estate("e", text).declared["x/y"].date.isoformat().startswith("2026-03-14T0")


@pytest.mark.parametrize("day", ["2026-03-14T00:00:00", "soon", "2026"])
def test_a_time_without_its_zone_is_refused_with_its_place(day):
    found = problems(GOOD + f"declared:\n  x/y: {{version: '5', by: anna, date: {day}}}\n")
    assert [(line, column) for line, column, _ in found] == [(27, 39)]


MORE_WRONG = [
    ("rules: [{then: do}]", "then: one of act, ask, leave"),
    ("rules: [{then: act, severity: bad+}]", "severity: one of"),
    ("notes: [{about: tickts, text: x, by: y}]", "'tickts' is nothing known (did you mean tickets?)"),
    ("declared: {x/y: {version: 5.3, by: a, date: 2026-01-01}}", "put it in quotes"),
]


@pytest.mark.parametrize(("line", "said"), MORE_WRONG)
def test_what_is_wrong_with_rules_and_notes_is_said(line, said):
    assert any(said in message for _, _, message in problems(GOOD + line + "\n"))


def test_an_aim_for_a_component_of_nothing_and_two_aims_for_one_thing_are_refused():
    text = GOOD.replace("aims:", "aims:\n  - {for: 'tickts:expander', aim: newest}\n  - {for: tickets/b, aim: newest}")
    said = [message for _, _, message in problems(text)]
    assert any("'tickts:expander' selects nothing" in m for m in said)
    assert any("has two aims" in m for m in said)
    assert parse_estate("e", GOOD.replace("aims:", "aims:\n  - {for: 'tickets/a:expander', aim: newest}"))
