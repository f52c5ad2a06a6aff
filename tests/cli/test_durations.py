"""What rolls took, and what the next plan makes of it, as a user sees it; taken from one estate to another."""

from __future__ import annotations

import json
from datetime import datetime

import pytest

from ..conftest import Place


@pytest.fixture(scope="module")
def rolled(tmp_path_factory) -> Place:
    """A pair that was brought to its aim, hop by hop."""
    from ..conftest import starting

    with starting(tmp_path_factory.mktemp("rolled")) as make:
        place = make(speed=1200)
        plan = place.make_ready()
        assert place.run("roll", plan).code == 0
        yield place


def test_a_first_plan_says_that_nothing_of_it_was_carried_out_before(place):
    plan = place.make_ready()
    told = place.run("plan", "tickets", COLUMNS="200").out
    assert " in nine cases of ten" in told
    assert "Never run here" in told
    spread = json.loads((place.folder / "plans" / f"{plan}.json").read_text())["spread"]
    assert spread["seen"] == 0
    assert spread["whole"]["p50_s"] < spread["whole"]["p90_s"]


def test_what_a_roll_took_is_learned_and_shown_against_what_was_announced(rolled):
    rows = {(r["hop"], r["step"]): r for r in rolled.run("history", "--durations", "--json").rows}
    install = rows["2.8.5 > 2.11.3", "install"]
    assert install["seen"] == 2
    assert install["p50_s"] == pytest.approx(install["took_s"], rel=0.4)
    assert install["p50_s"] < install["p90_s"]
    shown = rolled.run("history", "--durations", COLUMNS="120")
    assert "ostrel/shoal  2.8.5 > 2.11.3" in shown.out
    listed = rolled.run("history", "--json").rows[0]
    assert listed["planned_s"] < listed["within_s"]
    assert ", within " in rolled.run("history", COLUMNS="200").out


def test_durations_go_to_another_estate_without_the_names_of_this_one(rolled, standins, tmp_path):
    file = tmp_path / "durations.json"
    assert rolled.run("history", "--durations", "--export", str(file)).code == 0
    assert "tickets" not in file.read_text()
    other = standins()
    assert other.run("history", "--durations", "--json").rows == []
    for _ in range(2):  # the same file again changes nothing
        assert other.run("history", "--durations", "--import", str(file)).code == 0
    own, brought = (
        {(r["product"], r["hop"], r["step"]): r["seen"] for r in place.run("history", "--durations", "--json").rows}
        for place in (rolled, other)
    )
    assert own == brought
    other.make_ready()
    told = other.run("plan", "tickets", COLUMNS="200").out
    assert "that were carried out before" in told


def test_a_file_that_holds_no_durations_is_told_and_changes_nothing(place, tmp_path):
    file = tmp_path / "other.json"
    for text in ("", "[]", '{"schema": "gallant.other/1", "observations": []}', "\x00" * 10):
        file.write_text(text)
        done = place.run("history", "--durations", "--import", str(file))
        assert done.code == 2
        assert "holds no durations" in done.err
    bad = {"product": "p", "hop": "h", "kind": "k", "component": "c", "system": "s", "announced_s": -1, "took_s": 1e30}
    file.write_text(json.dumps({"schema": "gallant.durations/1", "observations": [bad]}))
    assert "seconds that cannot be" in place.run("history", "--durations", "--import", str(file)).err
    assert place.run("history", "--durations", "--json").rows == []
    assert place.run("history", "--export", str(file)).code == 2


def test_a_product_of_which_nothing_was_learned_is_not_shown_as_if_nothing_was(rolled):
    rows = rolled.run("history", "--durations", "--product", "ostrel/shoal", "--json").rows
    assert {row["product"] for row in rows} == {"ostrel/shoal"}
    done = rolled.run("history", "--durations", "--product", "ostrel/shaol")
    assert (done.code, done.out) == (2, "")
    assert "did you mean ostrel/shoal?" in done.err


def test_a_figure_of_durations_is_drawn(rolled, tmp_path):
    figure = tmp_path / "durations.png"
    assert rolled.run("history", "--durations", "--figure", str(figure)).code == 0
    assert figure.read_bytes().startswith(b"\x89PNG")
    assert rolled.run("history", "--durations", "--figure", str(tmp_path / "no" / "f.png")).code == 4


@pytest.mark.long
def test_the_second_roll_of_one_way_takes_as_long_as_it_is_planned(place):
    """Within 15 %, where the first was planned by the publisher's minutes alone."""
    place.make_ready()
    assert place.run("roll", "tickets").code == 0
    assert place.run("backout", "roll-0001").code == 0
    assert place.run("roll", "tickets").code == 0
    planned = place.run("plan", "tickets", "--json").json["spread"]["whole"]["p50_s"]
    assert place.run("roll", "tickets").code == 0
    last = place.run("history", "--json").rows[0]
    took = (datetime.fromisoformat(last["ended"]) - datetime.fromisoformat(last["began"])).total_seconds()
    assert abs(planned - took) / took < 0.15, (planned, took)
