"""Nothing passes green by mistake: what was not looked at, what is not
known, and what is not there are not the same as all being well."""

from __future__ import annotations

import json

import pytest

from tests.conftest import starting


@pytest.fixture(scope="module")
def pair(tmp_path_factory):
    """The demo's storage pair, read, with no catalog yet."""
    with starting(tmp_path_factory.mktemp("pair")) as make:
        place = make()
        assert place.run("survey").code == 0
        yield place


NOTHING = "gallant: estate/1\nname: nothing\nsites: {here: {}}\nsystems: {}\n"


@pytest.mark.parametrize(
    "words",
    [
        ("verify",),
        ("check",),
        ("survey",),
        ("inventory",),
        ("gaps",),
        ("backup", "take"),
        ("snapshot", "list"),
        ("plan",),
    ],
    ids=" ".join,
)
def test_an_estate_without_systems_is_nothing_to_be_well(bare, words):
    (bare.folder / "estate.yaml").write_text(NOTHING)
    done = bare.run(*words)
    assert (done.code, done.out) == (2, "")
    assert "The estate declares no systems" in done.err


@pytest.mark.parametrize(
    "words", [("verify",), ("check",), ("backup", "take"), ("survey",), ("snapshot", "list")], ids=" ".join
)
def test_a_selector_with_a_typo_is_wrong_usage_with_a_suggestion(pair, words):
    done = pair.run(*words, "site:harbuor")
    assert (done.code, done.out) == (2, "")
    assert "did you mean harbour?" in done.err


@pytest.mark.parametrize(
    "words",
    [
        ("gaps", "component:iamge"),
        ("gaps", "--component", "iamge"),
        ("gaps", "tickets:iamge"),
        ("inventory", "component:iamge"),
        ("notice", "list", "component:iamge"),
        ("notice", "accept", "component:iamge", "--yes"),
    ],
    ids=" ".join,
)
def test_a_component_with_a_typo_is_wrong_usage_with_a_suggestion(pair, words):
    done = pair.run(*words)
    assert (done.code, done.out) == (2, "")
    assert "did you mean image?" in done.err


@pytest.mark.parametrize(
    "words", [("check", "--list"), ("check", "--explain", "backup"), ("survey", "--list")], ids=" ".join
)
def test_a_system_beside_a_list_that_is_not_of_systems_is_wrong_usage(pair, words):
    assert pair.run(*words).code == 0
    assert pair.run(*words, "tickets").code == 2


def test_a_narrowed_check_says_gone_of_nothing_that_it_did_not_look_at(pair):
    whole = pair.run("check", "tickets", "--json")
    assert any(f["level"] != "pass" for f in whole.rows)
    for narrow in (("--when", "after"), ("--when", "during"), ("--only", "clock"), ("--node", "b")):
        done = pair.run("check", "tickets", *narrow, "--json")
        assert [d for d in done.json["drift"] if d["what"] == "gone"] == [], narrow


def test_what_was_found_on_a_node_that_no_longer_answers_is_not_gone(standins):
    place = standins(faults=[{"name": "unwell", "node": "tickets/b", "act": "spare bay"}])
    before = place.run("check", "tickets", "--json")
    assert any(f["node"] == "b" and f["level"] == "warn" for f in before.rows)
    place.faults({"name": "refuse_login", "node": "tickets/b"})
    after = place.run("check", "tickets", "--json")
    gone = [d["finding"]["check"] for d in after.json["drift"] if d["what"] == "gone"]
    assert gone == []


def test_before_any_catalog_no_notice_is_known_which_is_not_none(pair):
    done = pair.run("notice", "list")
    assert "No notice is known; not all of it was looked at." in done.out
    assert "No catalog here lists the image of tickets" in done.out
    assert "gallant catalog add" in done.out
    assert json.loads(pair.run("notice", "list", "--json").out)["uncatalogued"] == ["tickets"]


def test_nodes_that_were_never_read_are_named_beside_the_notices(standins):
    place = standins()
    place.follow_catalog()
    done = place.run("notice", "list", "--json")
    assert (done.json["unread"], done.json["uncatalogued"]) == (["tickets/a", "tickets/b"], [])
    assert "tickets/a, tickets/b were never read" in place.run("notice", "list").out
    assert place.run("survey").code == 0
    assert place.run("notice", "list", "--json").json["unread"] == []


def test_to_verify_every_backup_where_there_is_none_is_no_success(pair):
    done = pair.run("backup", "verify", "--all")
    assert done.code == 2
    assert "No backup was taken yet" in done.err
    assert "--all" not in done.err


def test_a_release_that_no_catalog_lists_is_skipped_to_only_by_yes(standins):
    place = standins()
    place.follow_catalog()
    assert place.run("survey").code == 0
    until = ("notice", "skip", "tickets:image", "--reason", "x", "--until")
    done = place.run(*until, "11")
    assert done.code == 2
    assert "no catalog lists 11; the newest is 3.2.6" in done.err
    assert place.run(*until, "11", "--yes").code == 0


def test_validate_looks_at_the_profiles_that_an_estate_names_and_at_every_file(pair):
    estate = (pair.folder / "estate.yaml").read_text().replace("profile: ostrel-shoal\n", "profile: ostrel-shaol\n")
    (pair.folder / "typo.yaml").write_text(estate)
    (pair.folder / "profile.yaml").write_text("gallant: profile/1\nname: x\n")
    (pair.folder / "own.yaml").write_text(estate.replace("profile: ostrel-shaol", "profile: profile.yaml"))
    done = pair.run("validate", "typo.yaml", "nowhere.yaml", "own.yaml", "estate.yaml", "--json")
    assert done.code == 2
    problems = {row["file"]: row["problems"] for row in done.rows}
    assert problems["estate.yaml"] == []
    assert "No profile 'ostrel-shaol' (did you mean ostrel-shoal?)" in problems["typo.yaml"][0] or (
        "did you mean ostrel-shoal" in problems["typo.yaml"][0]
    )
    assert problems["typo.yaml"][0].startswith("typo.yaml:")
    assert "cannot be read" in problems["nowhere.yaml"][0]
    assert "profile.yaml is not right" in problems["own.yaml"][0]


def test_a_bill_of_materials_is_no_csv(pair):
    assert pair.run("inventory", "--cyclonedx", "--csv").code == 2
    assert pair.run("inventory", "--cyclonedx", "--by", "product").code == 2
    assert pair.run("inventory", "--cyclonedx").code == 0
