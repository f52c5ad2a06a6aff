"""Backups as a user has them: encrypted by default, listed, compared, put back, thinned out."""

from __future__ import annotations

import json

import pytest

from gallant.operations.ground.workplace import Workplace

from ..builders import altered


@pytest.fixture
def place(place):
    place.run("survey")
    return place


def change(place, export: str = "system") -> None:
    place._ask("/change", {"system": "tickets", "export": export})


def test_a_backup_is_encrypted_sealed_copied_and_opened_by_its_identity_alone(place):
    done = place.run("backup", "take", "tickets", "--comment", "for the window")
    assert done.code == 0, done.err
    assert "encrypted for 1 recipient" in done.out
    assert "copy at second-place, sealed" in done.out
    row = place.run("backup", "list", "--json").rows[0]
    assert (row["encrypted"], row["comment"], row["opened"], len(row["copies"])) == (True, "for the window", None, 1)
    stored = place.folder / "backups" / "tickets" / f"{row['id']}.tar.zst.age"
    assert stored.read_bytes().startswith(b"age-encryption.org/v1")
    assert (place.folder / "second-place" / "tickets" / stored.name).read_bytes() == stored.read_bytes()
    done = place.run("backup", "verify", "--all")
    assert "sealed and opened" in done.out
    place.run("init", "--identity", "other")
    wrong = place.run("backup", "verify", "tickets", "--identity", "other")
    assert wrong.code == 1
    assert "not encrypted to this identity" in wrong.out


def test_rot_is_found_in_the_backup_and_in_its_copy(place):
    place.run("backup", "take", "tickets")
    row = place.run("backup", "list", "--json").rows[0]
    copy = place.folder / "second-place" / "tickets" / f"{row['id']}.tar.zst.age"
    altered(copy)
    done = place.run("backup", "verify", "--all")
    assert done.code == 1
    assert "its copy at second-place" in done.out
    assert place.run("backup", "list", "--json").rows[0]["copies"][0]["problem"]


def test_nothing_is_written_in_clear_unless_somebody_asks(place):
    estate = place.folder / "estate.yaml"
    head, _, rest = estate.read_text().partition("backups:\n")
    estate.write_text(head + "\n".join(rest.split("\n\n", 1)[1:]))
    done = place.run("backup", "take", "tickets")
    assert done.code == 2
    assert "gallant init --identity FILE" in done.err + done.out
    assert not (place.folder / "backups").exists()
    done = place.run("backup", "take", "tickets", "--plain")
    assert done.code == 0
    assert "not encrypted" in done.out
    assert [e["subject"] for e in place.run("ledger", "--json").rows] == ["plain:tickets"]
    assert "not encrypted" in place.run("backup", "list").out
    assert place.run("backup", "verify", "--all").code == 0


def test_what_changed_at_the_console_stands_side_by_side_with_its_secrets_masked(place):
    place.run("backup", "take", "tickets")
    assert place.run("backup", "diff", "tickets").code == 0
    change(place)
    done = place.run("backup", "diff", "tickets")
    assert done.code == 1
    assert "system.json" in done.out
    assert "volumes.json" not in done.out
    assert "•••" in done.out
    assert "of-tickets" not in done.out
    assert "another secret" in done.out
    place.run("backup", "take", "tickets")
    first, second = (r["id"] for r in reversed(place.run("backup", "list", "--json").rows))
    rows = place.run("backup", "diff", first, second, "--json").rows
    assert [(r["item"], r["what"]) for r in rows] == [("a/system.json", "changed"), ("a/volumes.json", "same")]


def test_a_restore_asks_backs_up_first_puts_back_and_stands_in_the_ledger(place):
    place.run("backup", "take", "tickets")
    saved = place.run("backup", "list", "--json").rows[0]["id"]
    change(place)
    refused = place.run("backup", "restore", saved)
    assert refused.code == 5
    assert "Overwrite system.json, volumes.json of tickets/a" in refused.err
    assert place.run("backup", "diff", saved).code == 1
    done = place.run("backup", "restore", saved, "--yes")
    assert done.code == 0, done.err
    assert place.run("backup", "diff", saved).code == 0
    newest = place.run("backup", "list", "--json").rows[0]
    assert newest["comment"] == f"before the restore of {saved}"
    entries = [e for e in place.run("ledger", "--json").rows if e["kind"] == "restore"]
    assert sorted(e["state"] for e in entries) == ["begun", "done"]
    assert {e["target"] for e in entries} == {saved}


def test_a_restore_is_refused_where_it_does_not_belong(place):
    place.run("backup", "take", "tickets")
    saved = place.run("backup", "list", "--json").rows[0]["id"]
    manifest = place.folder / "backups" / "tickets" / f"{saved}.json"
    whole = manifest.read_text()
    said = json.loads(whole)
    said["versions"] = {"a": "2.11.3", "b": "2.11.3"}
    manifest.write_text(json.dumps(said))
    done = place.run("backup", "restore", saved, "--yes")
    assert done.code == 5
    assert "altered" in done.err
    workplace = Workplace(place.folder)
    from gallant.core.records import replace
    from gallant.operations.keep.backups import store_of

    manifest.write_text(whole)
    store = store_of(workplace)
    older = replace(store.one(saved), versions={"a": "2.11.3", "b": "2.11.3"})
    store.keep(replace(store.signer.sign(older), sealed=older.sealed))
    done = place.run("backup", "restore", saved, "--yes")
    assert done.code == 5
    assert "runs 2.8.5" in done.err
    assert "was taken on 2.11.3" in done.err
    assert place.run("backup", "restore", saved, "--node", "z", "--yes").code == 2


def test_prune_says_first_and_takes_away_by_the_rules_alone(place):
    estate = place.folder / "estate.yaml"
    text = estate.read_text()
    assert "keep: {last: 5, daily: 14, weekly: 8, before_update: 3}" in text
    estate.write_text(
        text.replace(
            "{last: 5, daily: 14, weekly: 8, before_update: 3}", "{last: 1, daily: 0, weekly: 0, before_update: 0}"
        )
    )
    for _ in range(3):
        place.run("backup", "take", "tickets")
        change(place)
    assert len(place.run("backup", "list", "--json").rows) == 3
    done = place.run("backup", "prune", "--dry-run")
    assert done.out.count("would go") == 2
    assert len(place.run("backup", "list", "--json").rows) == 3
    assert place.run("backup", "prune").out.count("would go") == 2  # nobody at a terminal said yes
    assert place.run("backup", "prune", "--yes").out.count("gone") == 2
    assert len(place.run("backup", "list", "--json").rows) == 1
    assert len(list((place.folder / "second-place" / "tickets").glob("*.age"))) == 1
    assert sum(e["kind"] == "prune" for e in place.run("ledger", "--json").rows) == 2


def test_an_export_is_whole_and_goes_over_nothing(place):
    place.run("backup", "take", "tickets")
    done = place.run("backup", "export", "tickets", "out")
    assert done.code == 0
    assert json.loads((place.folder / "out" / "a" / "system.json").read_text())["system"] == "tickets"
    assert place.run("backup", "export", "tickets", "out").code == 2
    assert place.run("backup", "show", "tickets").code == 0
    assert place.run("backup", "show", "nothing").code == 2
