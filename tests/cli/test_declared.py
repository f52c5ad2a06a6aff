"""Catalogs that the estate itself declares, and an estate of several files, as a user has them."""

from __future__ import annotations

import pytest


@pytest.fixture
def declared(place):
    url = place.said["publisher"]["url"]
    path = place.folder / "estate.yaml"
    path.write_text(path.read_text() + f'catalogs:\n  ostrel: {{from: "{url}", key: keys/ostrel.pub}}\n')
    return place


def edit(place, old: str, new: str) -> None:
    path = place.folder / "estate.yaml"
    assert old in path.read_text()
    path.write_text(path.read_text().replace(old, new))


def test_a_sync_follows_what_the_estate_declares_and_a_new_clone_needs_no_more(declared):
    assert [(r["name"], r["fetched"]) for r in declared.run("catalog", "list", "--json").rows] == [("ostrel", None)]
    assert declared.run("catalog", "sync").code == 0
    assert declared.run("catalog", "show", "ostrel/shoal").code == 0
    declared.run("survey")
    assert declared.run("gaps").code == 1
    for name in ("readings.db", "readings.db-wal", "readings.db-shm"):
        (declared.folder / "state" / name).unlink(missing_ok=True)
    assert declared.run("catalog", "sync").code == 0


def test_what_is_declared_is_removed_in_the_estate(declared):
    declared.run("catalog", "sync")
    refused = declared.run("catalog", "remove", "ostrel", "--yes", "--reason", "x")
    assert refused.code == 5
    assert "stands under catalogs: in estate.yaml" in refused.err


def test_a_key_that_changes_in_the_file_is_not_taken_for_the_publishers(declared):
    declared.run("catalog", "sync")
    edit(declared, "key: keys/ostrel.pub", f'key: "ed25519:{"00" * 32}"')
    done = declared.run("catalog", "sync", "--json")
    assert done.code == 5, done.out + done.err
    assert "under another key" in done.rows[0]["problem"]
    assert declared.run("catalog", "show", "ostrel/shoal").code == 0  # the last good one stays


def test_a_key_file_that_is_not_there_is_a_failed_row_and_stops_no_other(declared):
    edit(declared, "catalogs:\n", 'catalogs:\n  other: {from: "http://127.0.0.1:1/c.json", key: keys/other.pub}\n')
    done = declared.run("catalog", "sync", "--json")
    assert done.code == 2
    assert {r["name"]: r["ok"] for r in done.rows} == {"other": False, "ostrel": True}
    assert "keys/other.pub cannot be read" in next(r["problem"] for r in done.rows if not r["ok"])


def test_systems_in_a_file_of_their_own_are_read_as_if_they_stood_in_the_first(declared):
    path = declared.folder / "estate.yaml"
    head, _, rest = path.read_text().partition("\nsystems:\n")
    systems, _, more = rest.partition("\ncatalogs:\n")
    (declared.folder / "systems").mkdir()
    (declared.folder / "systems" / "harbour.yaml").write_text("systems:\n" + systems)
    path.write_text(f"{head}\ninclude: [systems/*.yaml]\ncatalogs:\n{more}")
    assert declared.run("validate", "estate.yaml").code == 0
    assert declared.run("survey").code == 0
    (declared.folder / "systems" / "harbour.yaml").write_text(
        "systems:\n" + systems.replace("shape: pair", "shape: pear")
    )
    done = declared.run("survey")
    assert done.code == 2
    assert "systems/harbour.yaml:4:12: unknown shape 'pear'" in done.err
    alone = declared.run("validate", "systems/harbour.yaml")
    assert alone.code == 2
    assert "part of an estate" in alone.out
