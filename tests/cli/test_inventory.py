"""inventory from every side, and a survey that narrows, tries again and tries a profile; as a user runs them."""

from __future__ import annotations

import json
import sqlite3
from importlib import resources

import jsonschema_rs
import pytest


def change(place, **fields) -> None:
    """Let the last reading of tickets/a have been another."""
    db = sqlite3.connect(place.folder / "state" / "readings.db")
    (raw,) = db.execute("SELECT reading FROM readings WHERE node = 'a' ORDER BY survey DESC").fetchone()
    older = json.loads(raw) | fields
    db.execute("UPDATE readings SET reading = ?, mark = NULL WHERE node = 'a'", (json.dumps(older).encode(),))
    db.commit()
    db.close()


@pytest.fixture(scope="module")
def schema():
    """CycloneDX's own schema for 1.6, with the two that it points to; nothing is fetched."""
    folder = resources.files("cyclonedx.schema") / "_res"

    def read(name: str):
        return json.loads((folder / f"{name}.SNAPSHOT.schema.json").read_text("utf-8"))

    known = {f"{name}.schema.json": read(name) for name in ("spdx", "jsf-0.82")}

    def retrieve(uri: str):
        return known[uri.rpartition("/")[2].replace(".SNAPSHOT", "")]

    return jsonschema_rs.validator_for(read("bom-1.6"), retriever=retrieve)


def test_a_bill_of_materials_is_valid_and_has_versions_serials_and_hashes(place, schema):
    place.run("survey")
    place.follow_catalog()
    document = place.run("inventory", "--cyclonedx").json
    assert [str(e) for e in schema.iter_errors(document)] == []
    device = document["components"][0]
    assert (device["type"], device["name"], device["version"]) == ("device", "tickets/a", "2.8.5")
    assert {"name": "gallant:serial", "value": "SH-2291-AK"} in device["properties"]
    image = device["components"][0]
    assert image["type"] == "operating-system"
    assert len(image["hashes"][0]["content"]) == 64
    assert len({c["bom-ref"] for d in document["components"] for c in (d, *d["components"])}) == 8


def test_the_tree_one_node_and_the_groups_show_the_same_components(place):
    place.run("survey")
    tree = place.run("inventory").out
    assert "tickets  ostrel/shoal" in tree
    assert "├ tickets/a  2.8.5" in tree
    assert "on both  expander enclosure module 1.6" in tree
    node = place.run("inventory", "tickets/a").out
    for words in ("Shoal 240", "SH-2291-AK", "free space", "ostrel/shoal-expander", "clock"):
        assert words in node
    by = place.run("inventory", "--by", "product", "--json").rows
    images = [(r["version"], r["nodes"]) for r in by if r["product"] == "ostrel/shoal"]
    assert images == [("2.8.5", ["tickets/a", "tickets/b"])]
    assert {r["component"] for r in place.run("inventory", "--by", "component", "--json").rows} == {
        "image",
        "expander",
        "roots",
    }


def test_any_moment_can_be_looked_at_and_two_be_compared(place):
    place.run("survey")
    change(place, version="2.7.1", components=[])
    place.run("survey")
    rows = place.run("inventory", "tickets/a", "--at", "1", "--json").rows
    assert rows == []
    changes = place.run("inventory", "--diff", "1", "2", "--json").rows
    assert {(c["component"], c["what"], c["after"]) for c in changes} == {
        ("image", "new", "2.8.5"),
        ("expander", "new", "1.6"),
        ("roots", "new", "2025.2"),
    }
    assert place.run("inventory", "--diff", "2", "2", "--json").rows == []
    assert place.run("inventory", "--at", "2001-01-01").code == 0
    for wrong in ("yesterday", "99"):
        done = place.run("inventory", "--at", wrong)
        assert done.code == 2
        assert wrong in done.err


def test_a_survey_narrows_to_what_is_old_or_failed(place):
    place.run("survey")
    assert place.run("survey", "--older-than", "9d", "--json").rows == []
    assert len(place.run("survey", "--older-than", "1s", "--json").rows) == 2
    place.faults({"name": "refuse_login", "node": "tickets/b"})
    assert place.run("survey").code == 3
    place.faults()
    assert [r["node"] for r in place.run("survey", "--failed", "--json").rows] == ["b"]
    assert "is not a stretch of time" in place.run("survey", "--older-than", "soon").err


def test_a_profile_is_tried_on_one_machine_and_every_call_is_shown_without_a_secret(place):
    node = place.said["nodes"]["tickets/a"]
    secret = next(f for f in (place.folder / "secrets").iterdir() if "read" in f.name)
    words = ["survey", "--profile", "ostrel-shoal", "--address", node["address"], "--user", "gallant-read"]
    words += ["--secret", f"file:{secret.relative_to(place.folder)}", "--pin", node["fingerprint"], "--show-calls"]
    done = place.run(*words)
    assert done.code == 0, done.err
    for shown in ("get /v1/node", "SH-2291-AK", "version", "can: "):
        assert shown in done.out
    assert secret.read_text().strip() not in done.out + done.err
    data = place.run(*words, "--json").json
    assert data["rows"][0]["serial"] == "SH-2291-AK"
    assert {"about", "install", "export"} <= set(data["capabilities"])
    assert any(call["fields"].get("version") == "2.8.5" for call in data["calls"])
    assert not (place.folder / "state" / "journal.db").exists()


def test_what_is_wrong_with_a_trial_is_said_before_anything_is_sent(place):
    assert "go together" in place.run("survey", "--profile", "ostrel-shoal").err
    done = place.run("survey", "--profile", "ostrel-shoal", "--address", "http://10.0.0.1", "--user", "x")
    assert done.code == 2
    assert "never sent in clear" in done.err.replace("\n", " ")


def test_the_sudoers_file_names_every_command_and_no_shell(bare):
    text = bare.run("init", "--sudoers", "gallant").out
    assert "gallant ALL=(root) NOPASSWD: /usr/bin/systemctl ^reboot" in text
    assert "/bin/sh" not in text
    assert bare.run("init", "--sudoers", "a b; ALL").code == 2


@pytest.mark.parametrize(
    "words",
    [
        ("survey", "--older-than", "²d"),
        ("inventory", "--at", "²"),
        ("add", "--scan", "127.0.0.1/32", "--ports", "²"),
        ("notice", "book", "tickets:image", "23:00", "--for", "²h"),
    ],
    ids=" ".join,
)
def test_what_only_looks_like_a_number_is_wrong_usage(place, words):
    assert place.run(*words).code == 2
