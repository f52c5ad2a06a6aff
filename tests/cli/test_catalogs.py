"""Catalogs that are tried, trusted anew, written by hand and signed; and those that did not change."""

from __future__ import annotations

import json
import re

import pytest

DRAFT = """\
publisher: harbour-own
products:
  - name: harbour-own/gauge
    scheme: dotted
    releases:
      - {version: "1.0", released: 2026-01-01T00:00:00Z}
      - version: "1.1"
        released: 2026-06-01T00:00:00Z
        notes: From the leaflet in the box.
        packages: [{file: downloads/gauge-1.1.bin}]
"""


@pytest.fixture
def desk(bare):
    (bare.folder / "downloads").mkdir()
    (bare.folder / "downloads" / "gauge-1.1.bin").write_bytes(b"gauge" * 1000)
    (bare.folder / "draft.yaml").write_text(DRAFT)
    return bare


def test_a_catalog_written_by_hand_is_signed_followed_and_synced(desk):
    drafted = desk.run("catalog", "draft", "draft.yaml")
    assert drafted.code == 0, drafted.err
    assert "not signed yet" in drafted.out
    package = json.loads((desk.folder / "catalog.json").read_text())["products"][0]["releases"][1]["packages"][0]
    assert (package["name"], package["url"], package["bytes"]) == ("gauge-1.1.bin", "downloads/gauge-1.1.bin", 5000)
    signed = desk.run("catalog", "sign", "catalog.json", "--key", "own.pem", "--new-key")
    assert signed.code == 0, signed.err
    assert (desk.folder / "own.pem").stat().st_mode & 0o077 == 0
    following = re.search(r"gallant (catalog add \S+ \S+ --key \S+)", signed.out)[1].split()
    assert desk.run("init").code == 0
    assert desk.run(*following).code == 0
    assert desk.run("catalog", "sync", "--json").rows[0]["serial"] == 1
    assert desk.run("catalog", "draft", "draft.yaml").code == 0
    assert not (desk.folder / "catalog.json.sig").exists()
    assert desk.run("catalog", "sync").code in (3, 4)
    assert desk.run("catalog", "sign", "catalog.json", "--key", "own.pem").code == 0
    assert desk.run("catalog", "sync", "--json").rows[0]["serial"] == 2
    assert "From the leaflet" in desk.run("catalog", "show", "harbour-own/gauge", "1.1").out


def test_a_draft_that_is_wrong_says_so_in_its_own_lines(desk):
    (desk.folder / "draft.yaml").write_text(DRAFT.replace("gauge-1.1.bin", "missing.bin"))
    done = desk.run("catalog", "draft", "draft.yaml")
    assert done.code == 2
    assert re.search(r"draft\.yaml:10:27: .*missing\.bin cannot be read", done.err)
    (desk.folder / "draft.yaml").write_text(DRAFT.replace("scheme: dotted", "scheme: dottd"))
    assert "scheme: one of" in desk.run("catalog", "draft", "draft.yaml").err
    (desk.folder / "draft.yaml").write_text("- 1")
    assert desk.run("catalog", "draft", "draft.yaml").code == 2


@pytest.mark.parametrize("place", ["/etc/hostname", "../other.bin", "downloads/../../other.bin"])
def test_a_draft_names_no_file_that_its_catalog_could_not_fetch(desk, place):
    (desk.folder / "draft.yaml").write_text(DRAFT.replace("downloads/gauge-1.1.bin", place))
    done = desk.run("catalog", "draft", "draft.yaml")
    assert done.code == 2
    assert re.search(r"draft\.yaml:10:27: .*outside the draft's folder", done.err)
    elsewhere = DRAFT.replace("downloads/gauge-1.1.bin", "/etc/hostname, url: https://127.0.0.1/gauge-1.1.bin")
    (desk.folder / "draft.yaml").write_text(elsewhere)
    assert desk.run("catalog", "draft", "draft.yaml").code == 0


def test_a_signing_key_is_never_overwritten_nor_used_when_others_can_read_it(desk):
    desk.run("catalog", "draft", "draft.yaml")
    assert desk.run("catalog", "sign", "catalog.json", "--key", "own.pem").code == 2
    assert desk.run("catalog", "sign", "catalog.json", "--key", "own.pem", "--new-key").code == 0
    assert desk.run("catalog", "sign", "catalog.json", "--key", "own.pem", "--new-key").code == 5
    (desk.folder / "own.pem").chmod(0o644)
    assert "can be read by others" in desk.run("catalog", "sign", "catalog.json", "--key", "own.pem").err
    (desk.folder / "own.pem").write_text("no key")
    (desk.folder / "own.pem").chmod(0o600)
    assert "is not a signing key" in desk.run("catalog", "sign", "catalog.json", "--key", "own.pem").err


def test_a_file_that_is_no_catalog_is_not_overwritten_by_a_draft(desk):
    (desk.folder / "catalog.json").write_text("mine")
    done = desk.run("catalog", "draft", "draft.yaml")
    assert done.code == 5
    assert (desk.folder / "catalog.json").read_text() == "mine"


def test_a_source_is_tried_before_it_is_followed_and_nothing_of_it_is_kept(place):
    url = place.said["publisher"]["url"]
    done = place.run("catalog", "test", url, "--key", "keys/ostrel.pub", "--json")
    assert done.code == 0, done.err
    assert [r["question"] for r in done.rows] == ["resolves", "answers", "signature, serial, expiry and form", "age"]
    assert place.run("catalog", "list", "--json").rows == []
    assert place.run("catalog", "test", url).code == 1
    assert place.run("catalog", "test", url, "--key", "ed25519:" + "0" * 64).code == 5
    assert place.run("catalog", "test", "http://127.0.0.1:9/catalog.json", "--key", "keys/ostrel.pub").code == 3
    assert place.run("catalog", "test", "nonsense").code == 2
    place.follow_catalog()
    assert place.run("catalog", "test", "ostrel").code == 0


def test_a_changed_key_needs_trust_by_name_and_the_serial_still_only_rises(place):
    place.follow_catalog()
    good = (place.folder / "keys" / "ostrel.pub").read_text().strip()
    other = "ed25519:" + "1" * 64
    refused = place.run("catalog", "add", "ostrel", place.said["publisher"]["url"], "--key", other)
    assert refused.code == 5
    assert "gallant catalog trust ostrel --key KEY" in refused.err
    assert place.run("catalog", "trust", "ostrel", "--key", other).code == 4
    trusted = place.run("catalog", "trust", "ostrel", "--key", other, "--yes")
    assert trusted.code == 0
    assert "before" in trusted.out
    assert place.run("catalog", "sync").code == 5
    assert place.run("catalog", "trust", "ostrel", "--key", good, "--yes").code == 0
    assert place.run("catalog", "sync", "--json").rows[0]["serial"] == 41
    assert place.run("catalog", "trust", "ostrl", "--key", good, "--yes").code == 2


def test_a_catalog_that_has_not_changed_is_not_sent_again(place):
    place.follow_catalog()
    before = place.run("catalog", "list", "--json").rows[0]
    synced = place.run("catalog", "sync", "--json")
    assert (synced.code, synced.rows[0]["ok"], synced.rows[0]["releases"]) == (0, True, 14)
    after = place.run("catalog", "list", "--json").rows[0]
    assert after["fetched"] == before["fetched"]
    assert after["checked"] > before["checked"]


def test_a_catalog_that_was_added_by_mistake_is_removed_after_saying_what_will_be_unknown(place):
    place.follow_catalog()
    assert place.run("survey").code == 0
    wrong = place.said["publisher"]["url"].replace("catalog.json", "nothing.json")
    assert place.run("catalog", "add", "mistake", wrong, "--key", "keys/ostrel.pub").code == 0
    assert place.run("catalog", "sync").code == 3  # every night, until it is gone
    kept = place.run("catalog", "remove", "mistake")
    assert kept.code == 2  # nobody was there to say yes
    assert "Nothing that was read here is of it" in kept.err
    assert place.run("catalog", "remove", "mistake", "--yes", "--reason", "a typo").code == 0
    assert place.run("catalog", "sync").code == 0
    told = place.run("catalog", "remove", "ostrel")
    assert "tickets:image" in told.err
    assert place.run("catalog", "remove", "ostrel", "--yes").code == 0
    assert {row["standing"] for row in place.run("gaps", "--json").rows} == {"unknown"}
    assert "mistake" in place.run("ledger").out
    nosuch = place.run("catalog", "remove", "ostrle", "--yes")
    assert nosuch.code == 2


def test_to_remove_a_catalog_and_follow_it_again_is_no_way_back_to_an_older_one(place):
    from gallant.operations.ground.workplace import Workplace

    place.follow_catalog()
    before = next(s for s in Workplace(place.folder).readings.sources() if s.name == "ostrel").serial
    assert before > 0
    assert place.run("catalog", "remove", "ostrel", "--yes").code == 0
    url = place.said["publisher"]["url"]
    assert place.run("catalog", "add", "ostrel", url, "--key", "keys/ostrel.pub").code == 0
    assert next(s for s in Workplace(place.folder).readings.sources() if s.name == "ostrel").serial == before - 1
    assert place.run("catalog", "sync").code == 0


def test_a_key_of_another_kind_than_the_source_needs_is_refused_with_the_right_advice(place):
    channel = place.run(
        "catalog", "add", "debs", "deb https://127.0.0.1:9/debian stable main", "--key", "keys/ostrel.pub"
    )
    assert channel.code == 5
    assert "A channel is signed with OpenPGP" in channel.err
    assert "Signed-By" in channel.err
