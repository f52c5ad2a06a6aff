"""Gallant's own health: what is wrong with its stores, keys, rights and copies, what mends it, and mending it."""

from __future__ import annotations

import os
import sqlite3
import stat
import subprocess
import sys

import pytest


@pytest.fixture
def used(place):
    """A folder in which something was surveyed and decided."""
    assert place.run("survey").code == 0
    place.follow_catalog()
    assert place.run("notice", "skip", "tickets:image", "--until", "2027-01-31", "--reason", "later").code == 0
    assert place.run("history").code == 0
    return place


def wrong(place, *words: str) -> dict[str, tuple[str, str]]:
    rows = place.run("doctor", "--json", *words).rows
    return {
        r["subject"]: (r["level"], r["seen"]) for r in rows if r["level"] in ("stop", "warn") and r["about"] != "clock"
    }


def test_all_is_well_on_a_folder_that_was_used(used):
    assert wrong(used) == {}
    told = used.run("doctor").out
    assert "space, store, copy, key, rights" in told


def test_a_damaged_journal_is_brought_back_from_its_copy_and_the_damaged_file_is_kept(used):
    path = used.folder / "state" / "journal.db"
    for ending in ("-wal", "-shm"):
        path.with_name(path.name + ending).unlink(missing_ok=True)
    path.write_bytes(b"x" * 20_000)
    refused = used.run("history")
    assert refused.code == 4
    assert "journal.db is damaged" in refused.err
    assert "gallant doctor --mend brings it back" in refused.err
    assert wrong(used)["journal.db"][0] == "stop"
    assert used.run("doctor", "--mend").code == 1  # nobody is there to say yes
    assert path.read_bytes() == b"x" * 20_000
    mended = used.run("doctor", "--mend", "--yes")
    assert "the copy is in its place; what was there is journal.db.damaged-" in mended.out
    assert "journal.db" not in wrong(used)
    assert used.run("history").code == 0
    assert [p.read_bytes() for p in path.parent.glob("journal.db.damaged-*")] == [b"x" * 20_000]


def test_one_damaged_decision_leaves_the_list_of_the_others(used):
    assert used.run("notice", "skip", "tickets:roots", "--until", "2027-01-31", "--reason", "later").code == 0
    with sqlite3.connect(used.folder / "state" / "ledger.db") as db:
        db.execute("UPDATE ledger SET entry = 'x' WHERE seq = 1")
    listed = used.run("ledger")
    assert "entry 1 of the ledger cannot be read" in listed.out
    assert "tickets:roots" in listed.out
    assert used.run("ledger", "verify").code == 1
    assert used.run("notice", "list").code == 4  # decisions are not guessed at
    assert wrong(used)["ledger.db"] == ("stop", "damaged: entry 1 cannot be read")


def test_what_others_can_write_or_look_into_is_said_by_check_and_shut_by_doctor(used):
    os.chmod(used.folder / "estate.yaml", 0o666)
    os.chmod(used.folder / "secrets", 0o755)
    found = [r for r in used.run("check", "--only", "own-files", "--json").rows if r["level"] == "warn"]
    assert found[0]["evidence"] == "estate.yaml"
    assert found[0]["next"] == "gallant doctor --mend"
    assert set(wrong(used)) == {"estate.yaml", "secrets"}
    used.run("doctor", "--mend", "--yes")
    assert wrong(used) == {}
    assert stat.S_IMODE((used.folder / "estate.yaml").stat().st_mode) == 0o600
    assert used.run("check", "--only", "own-files").code == 0


@pytest.mark.parametrize("what", ["estate.yaml", "secrets/act", "known_nodes", "profile", "above", "elsewhere"])
def test_what_somebody_else_could_change_is_said_wherever_it_lies(used, tmp_path, what):
    """Others' files in the folder, whatever their mode, and what is read beside it with the folders above."""
    estate = used.folder / "estate.yaml"
    own = {row["level"] for row in used.run("check", "--only", "own-files", "--json").rows}
    assert own == {"pass"}
    named = what
    if what == "above":
        used.folder.parent.chmod(0o777)
        named = str(used.folder.parent)
    elif what in ("profile", "elsewhere"):
        place = tmp_path / "elsewhere"
        place.mkdir()
        key = place / "act"
        key.write_text((used.folder / "secrets" / "act").read_text())
        key.chmod(0o600)
        estate.write_text(estate.read_text().replace("file:secrets/act", f"file:{key}"))
        os.chown(key if what == "profile" else place, 65534, 65534)
        named = str(key if what == "profile" else place)
    else:
        (used.folder / what).touch()
        os.chown(used.folder / what, 65534, 65534)
    [found] = [r for r in used.run("check", "--only", "own-files", "--json").rows if r["level"] == "warn"][:1]
    assert named in found["evidence"], found
    used.folder.parent.chmod(0o700)


def test_a_secret_that_others_can_read_and_one_that_is_gone_are_found(used):
    os.chmod(used.folder / "secrets" / "read", 0o644)
    (used.folder / "secrets" / "act").unlink()
    found = wrong(used)
    assert found["accounts: read"][0] == "stop"
    assert "No such file" in found["accounts: act"][1]


def test_a_file_with_a_blank_in_its_name_is_shut_and_its_neighbour_is_left(used):
    """The path was taken from the end of a sentence."""
    for name in ("my profile.yaml", "profile.yaml"):
        (used.folder / name).write_text("x")
        (used.folder / name).chmod(0o666 if name.startswith("my") else 0o644)
    cold = subprocess.run([sys.executable, "-P", "-m", "gallant", "doctor", "--mend", "--yes", "--estate", str(used.folder)], cwd=used.folder, env=used.environment(), capture_output=True, check=False)  # fmt: skip
    assert cold.returncode in (0, 1)
    modes = [stat.S_IMODE((used.folder / name).stat().st_mode) for name in ("my profile.yaml", "profile.yaml")]
    assert modes == [0o600, 0o644]


def test_a_link_is_not_gone_after_where_something_is_shut(used, tmp_path):
    target = tmp_path / "theirs"
    target.write_text("theirs")
    target.chmod(0o666)
    (used.folder / "act").symlink_to(target)
    text = (used.folder / "estate.yaml").read_text()
    (used.folder / "estate.yaml").write_text(text.replace("file:secrets/act", "file:act"))
    done = used.run("doctor", "--mend", "--yes")
    assert "is a link; what it leads to is left as it is" in done.out + done.err
    assert stat.S_IMODE(target.stat().st_mode) == 0o666


def test_a_store_that_cannot_be_read_now_is_not_called_damaged_nor_replaced(used):
    path = used.folder / "state" / "journal.db"
    for ending in ("", "-wal", "-shm"):
        path.with_name(path.name + ending).unlink(missing_ok=True)
    path.mkdir()
    level, seen = wrong(used)["journal.db"]
    assert (level, "is not called damaged for that" in seen) == ("stop", True)
    row = next(r for r in used.run("doctor", "--json").rows if r["subject"] == "journal.db")
    assert row["mend"] is None


@pytest.mark.parametrize("copy", [b"", b"x" * 9000, None])
def test_a_copy_that_is_none_takes_no_stores_place(used, copy):
    path = used.folder / "state" / "journal.db"
    for ending in ("-wal", "-shm"):
        path.with_name(path.name + ending).unlink(missing_ok=True)
    path.write_bytes(b"x" * 20_000)
    kept = path.with_name("copies") / "journal.db"
    kept.unlink() if copy is None else kept.write_bytes(copy)
    row = next(r for r in used.run("doctor", "--json").rows if r["subject"] == "journal.db")
    assert (row["mend"], "from your own backup" in row["would"]) == (None, True)
    used.run("doctor", "--mend", "--yes")
    assert path.read_bytes() == b"x" * 20_000


@pytest.mark.parametrize("umask", [0o000, 0o022, 0o777])
def test_whatever_the_umask_says_what_gallant_makes_is_its_owners_alone(standins, umask):
    place = standins()
    code = f"import os, sys; os.umask({umask}); from gallant.cli.main import main; main(sys.argv[1:])"
    publisher = place.said["publisher"]
    before = set(place.folder.rglob("*"))
    for words in (
        ("survey",),
        ("catalog", "add", "ostrel", publisher["url"], "--key", "keys/ostrel.pub"),
        ("catalog", "sync"),
        ("stock", "fetch", "tickets"),
        ("backup", "take", "tickets"),
        ("plan", "tickets"),
        ("ledger", "export", "kept.jsonl"),
        ("init", "own/estate"),
    ):
        done = subprocess.run(
            [sys.executable, "-c", code, *words], cwd=place.folder, env=place.environment(), capture_output=True
        )
        assert done.returncode == 0, done.stderr
    made = set(place.folder.rglob("*")) - before
    assert len(made) > 20
    for path in made:
        mode = stat.S_IMODE(path.stat().st_mode)
        assert mode & 0o077 == 0, path
        assert mode & 0o600 == 0o600, path


def test_a_link_in_the_estates_folder_is_not_written_through(used, tmp_path):
    outside = tmp_path / "outside"
    outside.write_text("mine\n")
    estate = used.folder / "estate.yaml"
    estate.write_text(estate.read_text().replace("\naims:", "\nevents: [{to: told.jsonl}]\naims:", 1))
    (used.folder / "told.jsonl").symlink_to(outside)
    (used.folder / "kept.jsonl").symlink_to(outside)
    assert used.run("notice", "reopen", "tickets:image").code in (0, 5)
    assert used.run("ledger", "export", "kept.jsonl").code in (2, 5)
    plan = used.run("plan", "tickets", "--json").json["path"]
    (used.folder / plan).unlink()
    (used.folder / plan).symlink_to(outside)
    used.run("plan", "tickets")
    assert outside.read_text() == "mine\n"


def test_a_plan_of_another_estate_of_the_same_name_is_refused(used, standins):
    other = standins()
    name = other.make_ready()
    made = used.make_ready()
    text = (other.folder / "plans" / f"{name}.json").read_bytes()
    (used.folder / "plans" / f"{name}.json").write_bytes(text)
    refused = used.run("roll", name)
    assert refused.code == 5
    assert "it was made for another estate" in refused.err
    assert made != name


def test_of_a_damaged_store_no_copy_is_offered(used):
    path = used.folder / "state" / "journal.db"
    path.with_name("copies").joinpath("journal.db").unlink(missing_ok=True)
    whole = path.read_bytes()
    path.write_bytes(b"no store at all" * 300)
    found = wrong(used)
    assert found["journal.db"] == ("stop", "damaged: file is not a database")
    assert "copies/journal.db" not in found
    path.write_bytes(whole)
