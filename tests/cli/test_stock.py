"""The stock as a user has it: fetched, carried in, put onto nodes ahead of the window, thinned out."""

from __future__ import annotations

import json

import pytest

from ..builders import altered


@pytest.fixture
def place(place):
    place.follow_catalog()
    place.run("survey")
    return place


def held(place) -> dict[str, dict]:
    return {r["package"]: r for r in place.run("stock", "list", "--json").rows}


def test_packages_are_put_onto_every_node_verified_and_taken_off_again(place):
    missing = place.run("stock", "preload", "tickets")
    assert missing.code == 5
    assert "not in stock" in missing.out
    assert place.run("stock", "fetch", "tickets").code == 0
    done = place.run("stock", "preload", "tickets", "--json")
    assert done.code == 0, done.err
    assert {(r["node"], r["state"], r["by"]) for r in done.rows} == {
        ("tickets/a", "preloaded", "digest"),
        ("tickets/b", "preloaded", "digest"),
    }
    assert place.truth()["nodes"]["tickets/a"]["packages"] == ["shoal-2.11.3.pkg"]
    again = place.run("stock", "preload", "tickets", "--json").rows
    assert {r["state"] for r in again} == {"present"}
    assert "shoal-2.11.3.pkg" in place.run("inventory", "tickets/a").out
    assert place.run("stock", "unload", "ticket").code == 2
    asked = place.run("stock", "unload", "tickets")
    assert asked.code == 5
    assert "tickets/a, tickets/b" in asked.err
    assert place.run("stock", "unload", "tickets/a", "--yes").code == 0
    assert {n: place.truth()["nodes"][f"tickets/{n}"]["packages"] for n in "ab"} == {"a": [], "b": ["shoal-2.11.3.pkg"]}


def test_a_package_that_was_altered_on_the_way_to_a_node_is_not_called_preloaded(place):
    place.run("stock", "fetch", "tickets")
    place.faults({"name": "corrupt_package", "node": "tickets/b", "act": "upload"})
    done = place.run("stock", "preload", "tickets", "--json")
    assert done.code == 4
    assert [(r["node"], r["state"]) for r in done.rows] == [("tickets/b", "failed"), ("tickets/a", "preloaded")]
    assert "was altered on its way" in done.rows[0]["error"]


def test_what_a_node_says_that_it_did_and_did_not_is_called_failed(place):
    place.run("stock", "fetch", "tickets")
    place.faults({"name": "empty_word", "node": "tickets/b", "act": "upload"})
    done = place.run("stock", "preload", "tickets", "--json")
    assert done.code == 4
    assert [(r["node"], r["state"]) for r in done.rows] == [("tickets/b", "failed"), ("tickets/a", "preloaded")]
    assert "tickets/b took shoal-2.11.3.pkg, and does not list it" in done.rows[0]["error"]
    place.faults({"name": "empty_word", "node": "tickets/a", "act": "unload"})
    done = place.run("stock", "unload", "tickets/a", "--yes", "--json")
    assert (done.code, [r["state"] for r in done.rows]) == (4, ["failed"])
    assert "lists it still" in done.rows[0]["error"]


def test_what_rotted_in_stock_goes_onto_no_node(place):
    place.run("stock", "fetch", "tickets")
    path = next((place.folder / "stock").glob("*/shoal-2.11.3.pkg"))
    altered(path)
    assert place.run("stock", "verify").code == 1
    assert held(place)["shoal-2.11.3.pkg"]["ok"] is False
    done = place.run("stock", "preload", "tickets")
    assert "not what the catalog says" in done.out
    assert place.truth()["nodes"]["tickets/a"]["packages"] == []


def test_a_file_that_was_carried_in_is_known_by_its_content_or_vouched_for_by_name(place, tmp_path):
    place.run("stock", "fetch", "tickets")
    fetched = next((place.folder / "stock").glob("*/shoal-3.2.4.pkg"))
    carried = tmp_path / "whatever.bin"
    carried.write_bytes(fetched.read_bytes())
    fetched.unlink()
    done = place.run("stock", "add", str(carried))
    assert "ostrel/shoal 3.2.4" in done.out
    assert held(place)["shoal-3.2.4.pkg"]["ok"]
    strange = tmp_path / "strange.bin"
    strange.write_bytes(b"nobody knows")
    refused = place.run("stock", "add", str(strange))
    assert refused.code == 5
    assert "is in no catalog" in refused.err
    assert place.run("stock", "add", str(strange), "--vouch", "from the lab").code == 0
    assert held(place)["strange.bin"]["vouched"].endswith("from the lab")
    assert any(e["kind"] == "vouch" and e["reason"] == "from the lab" for e in place.run("ledger", "--json").rows)
    assert place.run("stock", "add", str(tmp_path / "none")).code == 2


def test_a_release_that_was_recalled_since_is_marked(place):
    """Recalled in the catalog that is kept here, as a sync would bring it."""
    place.run("stock", "fetch", "tickets")
    import sqlite3

    with sqlite3.connect(place.folder / "state" / "readings.db") as db:
        raw = json.loads(db.execute("SELECT raw FROM sources").fetchone()[0])
        for product in raw["products"]:
            for release in product["releases"]:
                if product["name"] == "ostrel/shoal" and release["version"] in ("2.11.3", "2.11.2"):
                    release["recall"] = {"date": "2026-11-25T00:00:00Z", "reason": "it eats replicas"}
        db.execute("UPDATE sources SET raw = ?", (json.dumps(raw).encode(),))
    assert "it eats replicas" in held(place)["shoal-2.11.3.pkg"]["recalled"]
    assert "recalled since" in place.run("stock", "list").out
    assert place.run("stock", "preload", "tickets").code != 0 or not place.truth()["nodes"]["tickets/a"]["packages"]


def test_prune_keeps_what_any_system_needs_and_what_is_vouched_for(place, tmp_path):
    place.run("stock", "fetch", "tickets")
    own = tmp_path / "own.bin"
    own.write_bytes(b"ours")
    place.run("stock", "add", str(own), "--vouch", "ours")
    folder = place.folder / "stock" / ("0" * 64)
    folder.mkdir()
    (folder / "left.pkg.part").write_bytes(b"half")
    spare = next((place.folder / "stock").glob("*/shoal-3.2.4.pkg"))
    old = place.folder / "stock" / __import__("hashlib").sha256(b"old").hexdigest()
    old.mkdir()
    (old / "old.pkg").write_bytes(b"old")
    dry = place.run("stock", "prune", "--dry-run", "--json").rows
    assert [r["package"] for r in dry if r["kept"] is None] == ["old.pkg"]
    assert (old / "old.pkg").exists()
    place.run("stock", "prune", "--yes")
    assert not old.exists()
    assert not (folder / "left.pkg.part").exists()
    assert spare.exists()
    assert "own.bin" in held(place)


def test_a_quota_is_kept_before_anything_is_fetched(place):
    estate = place.folder / "estate.yaml"
    estate.write_text(estate.read_text() + "\nlimits: {stock_gb: 0.000001}\n")
    done = place.run("stock", "fetch", "tickets")
    assert done.code == 5
    assert "gallant stock prune" in done.err
    assert not list((place.folder / "stock").glob("*/*"))


def test_a_plan_of_components_alone_misses_no_package_of_the_image(place):
    place.follow_catalog()
    assert place.run("survey").code == 0
    made = place.run("plan", "tickets", "--only", "roots", "--json").json
    assert place.run("stock", "fetch", "--plan", made["id"]).code == 0
    done = place.run("roll", made["id"])
    assert done.code == 0, done.err
    assert "shoal-2.11.3.pkg is not in stock" in place.run("check", "tickets").out
