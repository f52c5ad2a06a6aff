"""Who somebody is, and an estate that several people work on: tried by real accounts of the kernel."""

from __future__ import annotations

import json
import os
import re
import stat

import pytest

from ..users import ACCOUNTS, CREW, CREW_GID, as_user


def with_approval(place, count: int = 1) -> None:
    path = place.folder / "estate.yaml"
    path.write_text(path.read_text() + f"approval: {{prod: {count}}}\n")


@pytest.fixture
def shared(place):
    """An estate of the crew with a plan of root's that others have to approve; gives it and the plan's name."""
    with_approval(place)
    plan = place.make_ready()
    place.let_in()
    return place, plan


def test_a_name_of_the_environment_is_nobody(place):
    """LOGNAME=berta gallant approve passed for berta."""
    with_approval(place)
    plan = place.make_ready()
    for name in ("LOGNAME", "USER", "LNAME", "USERNAME"):
        refused = place.run("approve", plan, **{name: "berta"})
        assert (refused.code, "nobody approves their own plan" in refused.err) == (5, True), refused.out
    place.run("note", "add", "tickets", "looked at", LOGNAME="berta")
    assert "berta" not in (place.folder / "state" / "notes.json").read_text()


def test_who_asked_sudo_stands_beside_the_account_and_approves_no_plan_of_their_own(place):
    with_approval(place)
    place.make_ready()
    plan = place.run("plan", "tickets", "--json", SUDO_USER="berta").json["id"]
    row = place.run("ledger", "--json").rows[0]
    assert (row["by"], row["uid"], row["sudo_user"]) == (
        "root" if os.getuid() == 0 else row["by"],
        os.getuid(),
        "berta",
    )
    assert "(sudo: berta)" in place.run("ledger", COLUMNS="200").out
    assert place.run("approve", plan, SUDO_USER="berta").code == 5  # the same account
    assert place.run("ledger", "verify").code == 0


def test_two_real_people_plan_approve_and_roll_on_one_estate(shared):
    place, plan = shared
    refused = place.run_as("mallory", "approve", plan)  # none of the crew
    assert (refused.code, "Permission denied" in refused.err) == (2, True), refused.err
    given = place.run_as("berta", "approve", plan, "--reason", "read it")
    assert (given.code, "is approved by berta" in given.out) == (0, True), given.out + given.err
    assert "read it" in place.run_as("carl", "ledger").out
    assert place.run_as("carl", "ledger", "verify").code == 0
    begun = place.run_as("root", "roll", plan, "--hold-after", "step")
    assert begun.code == 4, begun.err
    seen = place.run_as("carl", "history", "--json")
    assert "roll-0001" in seen.out
    hers = place.run_as("berta", "roll", plan)
    assert (hers.code, "roll-0001" in hers.err) == (5, True), hers.out + hers.err  # it is open, whoever asks
    owned = place.run_as("root", "check", "--only", "own-files", "--json").rows[0]
    assert owned["level"] == "pass", owned["evidence"]


def test_whoever_asked_sudo_for_the_plan_does_not_approve_it_from_their_own_account(place):
    with_approval(place)
    plan = place.make_ready()
    made = place.run("plan", "tickets", "--json", SUDO_USER="berta").json["id"]
    place.let_in()
    refused = place.run_as("berta", "approve", made)
    assert (refused.code, "was made by berta" in refused.err) == (5, True), refused.out + refused.err
    assert place.run_as("carl", "approve", made).code == 0
    assert plan


def test_what_a_member_makes_is_the_groups_and_a_secret_is_nobody_elses(shared):
    place, _ = shared
    secret = place.folder / "secrets" / "read"
    asked = place.run_as("berta", "survey", "tickets")
    assert (asked.code, f"{secret} cannot be read: Permission denied" in asked.out + asked.err) == (2, True), (
        asked.out + asked.err
    )
    estate = place.folder / "estate.yaml"
    estate.write_text(estate.read_text().replace("file:secrets/read", "env:OWN_SECRET"))
    made = place.run_as("berta", "plan", "tickets", "--json", OWN_SECRET=secret.read_text().strip())
    assert made.code in (0, 1), made.err
    path = place.folder / "plans" / f"{made.json['id']}.json"
    found = path.stat()
    assert (found.st_uid, found.st_gid, stat.S_IMODE(found.st_mode)) == (ACCOUNTS["berta"], CREW_GID, 0o660)
    assert place.run_as("carl", "note", "add", "tickets", "one of his").code == 0
    assert place.run_as("berta", "note", "add", "tickets", "one of hers").code == 0
    kept = json.loads((place.folder / "state" / "notes.json").read_text())
    assert [one["by"] for one in kept] == ["carl", "berta"]
    assert {stat.S_IMODE(path.stat().st_mode) for path in (place.folder / "secrets").iterdir()} == {0o600}
    assert place.run("plan", "tickets", OWN_SECRET=secret.read_text().strip()).code in (
        0,
        1,
    )  # the owner goes on with what they left
    assert stat.S_IMODE((place.folder / "state").stat().st_mode) == 0o2770  # and shuts nobody out again
    assert place.run_as("berta", "inventory").code == 0


FORGED = """
import hashlib, json, os, sqlite3, sys
from gallant.core.decide.ledger import LedgerEntry, next_hash
import msgspec
folder, plan, uid = sys.argv[1:]
db = sqlite3.connect(folder + "/state/ledger.db")
seq, before = db.execute("SELECT seq, hash FROM ledger ORDER BY seq DESC LIMIT 1").fetchone()
last = msgspec.json.decode(db.execute("SELECT entry FROM ledger ORDER BY seq DESC LIMIT 1").fetchone()[0], type=LedgerEntry)
entry = msgspec.structs.replace(last, kind="approve", subject=plan, by="berta", uid=int(uid), target=None, state=None, reason="")
db.execute("INSERT INTO ledger (seq, entry, hash) VALUES (?, ?, ?)", (seq + 1, msgspec.json.encode(entry), next_hash(before, entry)))
db.commit()
hands = folder + "/state/hands/"
try:
    open(hands + uid, "a").write(f"{seq + 1} {next_hash(before, entry)}\\n")
except OSError as error:
    print(error)
"""


@pytest.mark.parametrize("by", ["berta", "carl"])
def test_a_member_who_writes_an_approval_in_anothers_name_is_found_out_and_it_counts_for_nothing(shared, by):
    """Its chain is whole: only the account itself can note an entry
    in its own hand, whether that is there already or not."""
    place, plan = shared
    if by == "berta":
        assert place.run_as("berta", "note", "add", "tickets", "seen").code == 0
    words = (FORGED, str(place.folder), plan, str(ACCOUNTS["berta"]))
    forged = as_user("carl", words, place.folder, place.environment(), ("-c",))
    assert forged.returncode == 0, forged.stderr
    refused = place.run_as("root", "roll", plan)
    assert (refused.code, "under the name of berta was not written by that account" in refused.err) == (5, True), (
        refused.err
    )
    looked = place.run_as("root", "ledger", "verify")
    assert (looked.code, "berta is said to have made it" in looked.out) == (1, True), looked.out


def test_an_entry_that_another_member_took_out_or_changed_is_missed_by_whose_it_was(shared):
    place, plan = shared
    assert place.run_as("berta", "approve", plan).code == 0
    code = (
        "import sqlite3, sys; db = sqlite3.connect(sys.argv[1] + '/state/ledger.db');"
        "db.execute('DELETE FROM ledger WHERE seq = (SELECT max(seq) FROM ledger)'); db.commit();"
        "j = sqlite3.connect(sys.argv[1] + '/state/journal.db'); j.execute('DELETE FROM witness'); j.commit()"
    )
    gone = as_user("carl", (code, str(place.folder)), place.folder, place.environment(), ("-c",))
    assert gone.returncode == 0, gone.stderr
    looked = place.run_as("root", "ledger", "verify")
    assert (
        looked.code,
        bool(re.search(r"entry \d+: berta noted it, and the ledger does not have it so", looked.out)),
    ) == (1, True)
    assert place.run_as("root", "roll", plan).code == 5


def test_an_estate_is_begun_for_a_group_and_only_for_one_that_is_there_and_that_one_is_in(tmp_path):
    tmp_path.chmod(0o777)
    for account, group, code, says in (
        ("anna", "nobody-at-all", 2, "no group nobody-at-all"),
        ("mallory", CREW, 2, "mallory is none of the group crew"),
        ("anna", CREW, 0, "The members of crew can work on it"),
    ):
        folder = tmp_path / "line"
        done = as_user(account, ("init", str(folder), "--group", group), tmp_path, {})
        assert (done.returncode, says in done.stdout + done.stderr) == (code, True), done.stdout + done.stderr
    rights = {
        str(p.relative_to(folder)): (p.stat().st_gid, oct(stat.S_IMODE(p.stat().st_mode))) for p in folder.rglob("*")
    }
    assert rights == {
        "estate.yaml": (CREW_GID, "0o660"),
        "state": (CREW_GID, "0o2770"),
        "state/hands": (CREW_GID, "0o3770"),
    }
    assert stat.S_IMODE(folder.stat().st_mode) == 0o2770


@pytest.mark.parametrize(
    ("where", "words"),
    [
        ("backups", ("backup", "take", "tickets")),
        ("plans", ("plan", "tickets")),
        ("pages", ("ledger", "export", "HERE/kept.jsonl")),
        ("pages", ("check", "tickets", "--junit", "HERE/check.xml")),
        ("state/copies", ("note", "add", "tickets", "words")),
    ],
)
def test_a_full_disk_is_named_as_that_and_no_device_is_blamed(place, where, words):
    place.make_ready()
    folder = place.folder / where
    folder.mkdir(parents=True, exist_ok=True)
    words = tuple(word.replace("HERE", str(folder)) for word in words)
    done = as_user("root", words, place.folder, place.environment(), full=(folder,))
    said = done.stdout + done.stderr
    assert "left on device" not in said, said
    if where == "state/copies":  # what it was asked to do is done; the copy is told by doctor
        assert done.returncode == 0, said
        return
    assert done.returncode == 4, said
    assert f"the disk at {folder} is full" in said, said


def test_who_has_the_account_that_reads_alone_reads_and_plans_and_orders_nothing(place):
    plan = place.make_ready()
    estate = place.folder / "estate.yaml"
    estate.write_text(re.sub(r"\n  act: .*", "", estate.read_text()))
    (place.folder / "secrets" / "act").unlink()
    for words in (("survey",), ("inventory",), ("gaps",), ("check",), ("plan", "tickets")):
        assert place.run(*words).code in (0, 1), words
    for words in (("roll", plan), ("snapshot", "take", "tickets", "--reason", "x")):
        refused = place.run(*words)
        assert refused.code in (2, 5), (words, refused.out, refused.err)
        assert "no account for 'act'" in refused.out + refused.err, refused.err
    assert {what.split()[1] for what in place.truth()["counts"]} == {"login"}  # no order came to any node
    assert place.run("history", "--json").rows == []
