"""Gaps from every side, and routes: bars, components, severity,
changes, the figure, ways out of a recall, what bars a way."""

from __future__ import annotations

import json
import sqlite3
import struct
import urllib.request

import pytest


@pytest.fixture
def ready(place):
    assert place.run("survey").code == 0
    place.follow_catalog()
    return place


def edit(place, *pairs: tuple[str, str]) -> None:
    path = place.folder / "estate.yaml"
    text = path.read_text()
    for before, after in pairs:
        assert before in text
        text = text.replace(before, after)
    path.write_text(text)


def test_the_summary_counts_every_component_by_site_and_kind(ready):
    found = ready.run("gaps", "--json").json
    assert found["summary"] == [
        {"site": "harbour", "kind": "storage", "components": 6, "standings": {"behind": 4, "current": 2}}
    ]
    assert found["lags"][0] | {"site": "harbour"} == {
        "system": "tickets",
        "site": "harbour",
        "kind": "storage",
        "standing": "behind",
        "days": 420,
        "releases": 4,
    }
    text = ready.run("gaps").out
    assert "6: 4 behind, 2 current" in text
    assert "site" not in ready.run("gaps", "tickets").out.splitlines()[0]


def test_a_row_says_by_how_much_what_restarts_and_what_it_comes_under(ready):
    row = ready.run("gaps", "tickets/a", "--json").rows[0]
    assert (row["releases_behind"], row["days_behind"], row["restart"], row["disruptive"]) == (4, 420, "node", True)
    assert (row["aim"], row["terms"], row["one_way"]) == ("settled 90d", ["2026-04"], [])
    assert any("list of updates has 2.11.2, recalled" in reason for reason in row["reasons"])


@pytest.mark.parametrize(
    ("words", "names"),
    [
        (["--component", "roots"], {"tickets/a:roots", "tickets/b:roots"}),
        (["--component", "reference data"], {"tickets/a:roots", "tickets/b:roots"}),
        (["--component", "ostrel/roots", "--installed", "2025.2"], {"tickets/a:roots", "tickets/b:roots"}),
        (["--component", "roots", "--installed", "2026.1"], set()),
        (["--installed", "60762"], {"tickets/a:image", "tickets/b:image"}),
        (["--severe"], {"tickets/a:image", "tickets/b:image"}),
        (["tickets/b", "--severe"], {"tickets/b:image"}),
    ],
)
def test_the_view_is_narrowed_to_a_component_a_version_or_what_is_severe(ready, words, names):
    done = ready.run("gaps", *words, "--json")
    assert {f"{r['system']}/{r['node']}:{r['component']}" for r in done.rows} == names
    assert done.code == 1


def test_what_changed_since_the_survey_before_is_told_and_nothing_else(place):
    plan = place.make_ready()
    assert place.run("gaps", "--changed", "--json").rows == []
    assert "0 components changed" in place.run("gaps", "--changed").out
    assert place.run("roll", plan, "-q").code == 0
    place.run("survey")
    place.run("survey")
    assert place.run("gaps", "--changed", "--json").rows == []
    rows = place.run("inventory", "--json").rows
    assert {r["version"] for r in rows if r["component"] == "image"} == {"3.2.4"}


def test_a_component_that_changed_says_what_it_ran_before(standins):
    place = standins(version="2.11.3")
    place.run("survey")
    place.follow_catalog()
    db = sqlite3.connect(place.folder / "state" / "readings.db")
    (raw,) = db.execute("SELECT reading FROM readings WHERE node = 'a'").fetchone()
    older = json.loads(raw)
    older["components"][0]["version"] = older["version"] = "2.8.5"
    older["components"].pop(1)
    db.execute("UPDATE readings SET reading = ?, mark = NULL WHERE node = 'a'", (json.dumps(older).encode(),))
    db.commit()
    db.close()
    place.run("survey")
    changes = {r["component"]: r["change"] for r in place.run("gaps", "--changed", "--json").rows}
    assert changes == {"image": "ran 2.8.5", "expander": "new"}


def test_the_figure_is_a_picture_and_a_place_that_cannot_be_written_is_an_error(ready):
    done = ready.run("gaps", "--figure", "gaps.png")
    assert done.code == 1
    raw = (ready.folder / "gaps.png").read_bytes()
    assert raw[:8] == b"\x89PNG\r\n\x1a\n"
    width, height = struct.unpack(">II", raw[16:24])
    assert (width, height) >= (1200, 400)
    assert len(raw) > 10_000
    failed = ready.run("gaps", "--figure", "nowhere/gaps.png")
    assert failed.code == 4
    assert "cannot be written" in failed.err
    assert not list(ready.folder.glob("*.part"))


def test_a_figure_of_an_estate_that_was_never_read_is_drawn_all_the_same(place):
    assert place.run("gaps", "--figure", "empty.png").code == 1
    assert (place.folder / "empty.png").stat().st_size > 5_000


def test_a_bundle_that_a_system_does_not_run_says_which_component_breaks_it(ready):
    match = ready.run("gaps", "--json").json["bundles"][0]
    assert (match["bundle"], match["whole"]) == ("2026 autumn", False)
    assert {(b["component"], b["wanted"]) for b in match["breaks"]} >= {
        ("tickets/a", "3.2.4"),
        ("tickets/a:roots", "2026.1"),
    }
    assert "tickets/a:roots runs 2025.2, the bundle has 2026.1" in ready.run("gaps").out
    edit(ready, ("aim: settled 90d", "aim: bundle 2026 autumn"))
    targets = {r["component"]: r["target"] for r in ready.run("gaps", "--json").rows}
    assert targets == {"image": "3.2.4", "expander": "1.6", "roots": "2026.1"}
    assert ready.run("plan", "tickets").code == 0


def test_the_sites_own_notes_stand_in_route_show_check_and_plan(ready):
    said = "Ring the box office before b restarts"
    for words in (["route", "tickets"], ["catalog", "show", "ostrel/shoal", "2.11.3"], ["check"], ["plan", "tickets"]):
        assert said in ready.run(*words, COLUMNS="200").out, words
    assert said not in ready.run("catalog", "show", "ostrel/shoal", "3.2.4").out


def test_known_issues_come_with_the_nodes_that_they_concern(ready):
    concerns = ready.run("catalog", "show", "ostrel/shoal", "3.2.4", "--json").json["concerns"]
    assert [(bool(c["nodes"]), c["issue"]["severity"]) for c in concerns] == [(True, "low"), (False, "high")]
    found = [r for r in ready.run("check", "--json").rows if r["check"] == "known-issues"]
    assert any("lost path" in r["message"] for r in found)
    assert not any("single path" in r["message"] for r in found)


def test_a_half_rolled_recalled_release_has_its_ways_out_named_and_finishing_it_is_signed_for(standins):
    place = standins(versions={"b": "2.11.2"})
    place.run("survey")
    place.follow_catalog()
    rows = place.run("gaps", "--json").rows
    assert (rows[0]["node"], rows[0]["standing"]) == ("b", "recalled")
    assert any("its nodes run different versions: a 2.8.5, b 2.11.2" in reason for reason in rows[0]["reasons"])
    ways = {w["way"]: w for w in place.run("route", "tickets", "--json").json["ways_out"]}
    assert {name: way["open"] for name, way in ways.items()} == {
        "forward": True,
        "back": True,
        "wait": False,
        "finish": True,
    }
    text = place.run("route", "tickets").out
    assert "Ways out of the recalled release" in text
    assert "gallant plan tickets --despite-recall 2.11.2" in text
    assert place.run("plan", "tickets", "--despite-recall", "3.2.4").code == 5
    assert place.run("plan", "tickets", "--despite-recall", "purple").code == 5
    done = place.run("plan", "tickets", "--despite-recall", "2.11.2", "--reason", "two paths everywhere", "--json")
    assert done.code == 0, done.err
    assert {s["to"] for s in done.rows} == {"2.11.2", "2026.1"}  # and the list of roots, which goes along
    entry = next(e for e in place.run("ledger", "--json").rows if e["kind"] != "plan")
    assert (entry["kind"], entry["subject"], entry["target"]) == ("despite-recall", "tickets", "2.11.2")
    refused = place.run("roll", done.json["id"])
    assert refused.code == 5
    assert "--consent recalled:tickets" in refused.err


def test_a_recall_that_concerns_a_node_or_of_which_the_reading_does_not_tell_is_not_set_aside(standins):
    place = standins(versions={"b": "2.11.2"})
    place.run("survey")
    place.follow_catalog()
    db = sqlite3.connect(place.folder / "state" / "readings.db")
    rows = db.execute("SELECT survey, node, reading FROM readings").fetchall()
    for survey, node, raw in rows:
        reading = json.loads(raw)
        reading["gauges"] = [g for g in reading["gauges"] if g["name"] != "replica paths"]
        db.execute(
            "UPDATE readings SET reading = ?, mark = NULL WHERE survey = ? AND node = ?",
            (json.dumps(reading).encode(), survey, node),
        )
    db.commit()
    db.close()
    way = next(w for w in place.run("route", "tickets", "--json").json["ways_out"] if w["way"] == "finish")
    assert (way["open"], "do not tell" in way["why"]) == (False, True)


def test_an_updater_that_runs_on_is_refused_as_an_aim_and_says_so(ready):
    from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey
    from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat

    catalog = json.load(urllib.request.urlopen(ready.said["publisher"]["url"]))
    for release in catalog["products"][0]["releases"]:
        if release["version"] in ("2.11.3", "3.2.4"):
            release["stops_here"] = release["version"] != "3.2.4"
            release["snapshots"] = release["version"] != "2.11.3"
    (ready.folder / "own").mkdir()
    (ready.folder / "own" / "catalog.json").write_text(json.dumps({**catalog, "publisher": "mine"}))
    key = Ed25519PrivateKey.generate().private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption())
    (ready.folder / "own" / "k.pem").write_bytes(key)
    (ready.folder / "own" / "k.pem").chmod(0o600)
    signed = ready.run("catalog", "sign", "own/catalog.json", "--key", "own/k.pem", "--json").rows[0]["key"]
    for path in (ready.folder / "state").glob("readings.db*"):
        path.unlink()
    ready.run("survey")
    assert ready.run("catalog", "add", "mine", "own", "--key", signed).code == 0
    assert ready.run("catalog", "sync").code == 0
    row = ready.run("gaps", "--json").rows[0]
    assert (row["standing"], row["target"]) == ("blocked", "3.2.4")
    assert "its updater does not stop there; it runs on to 3.2.6" in row["reasons"][0]
    route = ready.run("route", "tickets", "--json")
    assert (route.code, route.json["found"]) == (1, False)
    assert route.json["rules"] == [{"version": "3.2.4", "why": "its updater does not stop there; it runs on to 3.2.6"}]
    plan = ready.run("plan", "tickets")
    assert plan.code == 5
    assert "cannot be kept" in plan.err
    hop = ready.run("route", "tickets", "--to", "3.2.6", "--json").rows[0]
    assert (hop["to"], hop["snapshots"]) == ("2.11.3", False)
    assert "no snapshots from here on" in ready.run("route", "tickets", "--to", "3.2.6").out
