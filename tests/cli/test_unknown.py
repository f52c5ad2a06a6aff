"""What no catalog says anything of is no gap: it is counted by node, and never hides what is one."""

from __future__ import annotations

import pytest

from tests.conftest import starting


@pytest.fixture(scope="module")
def line(tmp_path_factory):
    """The whole line, read, with one catalog of eight: most of its components are in none."""
    with starting(tmp_path_factory.mktemp("line")) as make:
        place = make(whole=True)
        place.follow_catalog()
        assert place.run("survey").code == 0
        yield place


def test_gaps_that_are_known_come_first_and_the_unknown_is_counted_by_node(line):
    done = line.run("gaps")
    rows = [row for row in done.out.splitlines() if "unknown" in row and "│" not in row]
    assert not any(row.startswith(("deck-hw", "gates")) and "✗" in row for row in rows)
    assert "tickets/a,b" in done.out
    assert "no catalog says anything of" in done.out
    assert "gallant gaps --unknown shows them" in done.out
    assert len([row for row in done.out.splitlines() if "no catalog says anything of" in row]) <= 5
    assert "more nodes" in done.out


def test_the_unknown_is_shown_where_it_is_asked_for_and_is_in_the_data(line):
    assert "unknown" in line.run("gaps", "gates", "--unknown").out
    standings = {row["standing"] for row in line.run("gaps", "gates", "--json").rows}
    assert standings == {"unknown"}


def test_severe_keeps_no_unknown_and_what_is_only_unknown_is_no_gap(line):
    assert "unknown" not in {row["standing"] for row in line.run("gaps", "--severe", "--json").rows}
    assert line.run("gaps", "gates").code == 0
    assert line.run("gaps", "tickets").code == 1


def test_the_ages_of_catalogs_are_one_line_of_those_that_are_about_what_is_shown(line):
    for selector in ((), ("tickets",)):
        ages = [row for row in line.run("gaps", *selector).out.splitlines() if row.startswith("catalog ")]
        assert len(ages) == 1
    assert not [row for row in line.run("gaps", "gates").out.splitlines() if row.startswith("catalog ")]


def test_each_site_stands_together_in_the_bars(line):
    head = line.run("gaps").out.split("node ")[0]
    sites = [row.split()[0] for row in head.splitlines() if row.startswith(("harbour", "northpier", "fulmar"))]
    assert sorted(sites) == ["fulmar", "harbour", "northpier"]
