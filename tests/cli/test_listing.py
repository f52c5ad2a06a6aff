"""Filters, order, columns and pages: the same words for every
list, on a screen and as data; and decisions on many at once."""

from __future__ import annotations

import csv
import io
import itertools
import os
import pty
import re
import select
import sys
import time

import pytest

from ..conftest import TERMS, Place

LISTS = (
    "gaps",
    "notice list",
    "inventory",
    "check",
    "stock list",
    "backup list",
    "catalog list",
    "history",
    "verify",
    "survey",
    "profiles",
    "windows",
    "due --list",
    "check --list",
    "catalog list --products",
    "snapshot list",
    "gaps --conflicts",
)


@pytest.fixture(scope="module")
def line(tmp_path_factory) -> Place:
    from ..conftest import starting

    with starting(tmp_path_factory.mktemp("line")) as make:
        place = make(whole=True)
        place.read_all()
        yield place


def column(done, number: int = 0) -> list[str]:
    """A column of a table that was piped."""
    rows = done.out.splitlines()[2:]
    return [re.split(r"\s{2,}", row.strip())[number] for row in rows if row.strip()]


def test_gaps_are_sorted_narrowed_and_cut_as_they_were_asked_for(line):
    lag = line.run("gaps", "--sort", "lag", "--columns", "node,target,lag", "--limit", "4")
    assert lag.out.splitlines()[0].split() == ["node", "target", "lag"]
    days = [int(cell.split()[0]) for cell in column(lag, 2)]
    assert len(days) == 4
    assert days == sorted(days, reverse=True)
    turned = [
        int(cell.split()[0]) for cell in column(line.run("gaps", "--sort", "-lag", "--columns", "node,target,lag"), 2)
    ]
    assert turned == sorted(turned)
    severe = line.run("gaps", "--severity", "high+", "--json").rows
    assert severe
    assert {row["severity"] for row in severe} <= {"critical", "high"}
    assert {r["standing"] for r in line.run("gaps", "--standing", "recalled", "--json").rows} == {"recalled"}
    assert {r["standing"] for r in line.run("gaps", "standing:waits-for-restart", "--json").rows} == {
        "waits for restart"
    }
    assert {r["severity"] for r in line.run("gaps", "severity:medium", "site:harbour", "--json").rows} == {"medium"}


def test_data_is_put_in_order_by_the_same_words(line):
    rows = line.run("gaps", "--sort", "lag", "--limit", "5", "--columns", "system,component,lag", "--json").rows
    assert [list(row) for row in rows] == [["system", "component", "days_behind"]] * 5
    assert [row["days_behind"] for row in rows] == sorted((row["days_behind"] for row in rows), reverse=True)
    sheet = list(
        csv.reader(
            io.StringIO(line.run("notice", "list", "--csv", "--columns", "notice,target", "--sort", "notice").out)
        )
    )
    assert sheet[0] == ["name", "target"]
    assert [row[0] for row in sheet[1:]] == sorted(row[0] for row in sheet[1:])


@pytest.mark.parametrize("words", LISTS)
def test_every_list_knows_how_many_and_says_which_columns_there_are(line, words):
    done = line.run(*words.split(), "--columns", "no-such-column")
    rows = line.run(*words.split(), "--limit", "1", "--json")
    assert len(rows.rows) <= 1
    if rows.rows:
        assert done.code == 2, done.out
        assert "No column 'no-such-column'" in done.err
        columns = done.err.partition("There are: ")[2].strip()
        asked = line.run(*words.split(), "--limit", "1", "--columns", columns, "--json")
        assert asked.code in (0, 1), asked.err
        assert asked.rows[0]


WRONG = [
    (["gaps", "--severity", "hihg"], "did you mean high?"),
    (["gaps", "severity:hihg+"], "did you mean high?"),
    (["gaps", "--standing", "behnd"], "did you mean behind?"),
    (["gaps", "tickets/a:expandr"], "did you mean expander?"),
    (["inventory", "tickets:expandr"], "did you mean expander?"),
    (["inventory", "severity:high"], "gallant gaps, with the same words"),
    (["notice", "list", "state:neww"], "did you mean new?"),
    (["notice", "accept", "severity:low", "site:harbor"], "did you mean harbour?"),
    (["notice", "accept", "severity:low", "standing:recalled"], "no notice is all of that"),
    (["gaps", "--limit", "0"], "0"),
    (["gaps", "tickts:image"], "selects by nothing known"),
]


@pytest.mark.parametrize(
    ("words", "said"), WRONG, ids=lambda value: " ".join(value) if isinstance(value, list) else None
)
def test_a_word_that_none_of_these_has_is_wrong_usage(line, words, said):
    done = line.run(*words)
    assert done.code == 2, done.out
    assert said in done.err


def test_a_component_is_a_selector_and_no_case_matters(line):
    rows = line.run("inventory", "tickets/a:EXPANDER", "--json").rows
    assert {(r["system"], r["node"], r["component"]) for r in rows} == {("tickets", "a", "expander")}
    assert {r["component"] for r in line.run("gaps", "tickets:roots", "--json").rows} == {"roots"}
    assert {r["system"] for r in line.run("inventory", "Tickets", "--json").rows} == {"tickets"}
    assert line.run("inventory", "Site:HARBOUR", "--json").code == 0
    assert line.run("inventory", "place:HARBOUR", "--json").code == 2
    assert line.run("inventory", "site:HARBOUR", "kind:Storage", "--json").code == 0


def test_notices_of_one_system_stand_together(line):
    systems = [row["system"] for row in line.run("notice", "list", "--json").rows]
    assert len(list(dict.fromkeys(systems))) == sum(a != b for a, b in zip(systems, [None, *systems], strict=False))


def test_on_a_narrow_screen_a_row_folds_by_field_and_no_word_is_broken(line):
    for columns in (60, 44):
        rows = line.run("notice", "list", COLUMNS=str(columns)).out.splitlines()
        assert not [row for row in rows[:30] if len(row.rstrip()) > columns]
        assert any(re.match(r"deck-hw:controller(?!\S)", row) for row in rows)
    narrow = line.run("notice", "list", COLUMNS="44")
    assert re.search(r"(?m)^deck-hw:controller\s*\n  installed: \S+\s*\n  target: ", narrow.out)
    wide = line.run("notice", "list", COLUMNS="200")
    assert "  installed: " not in wide.out
    for columns in (80, 120, 200):
        assert line.run("gaps", COLUMNS=str(columns)).code == 1


def test_pieces_that_run_the_same_stand_once_whatever_their_serials(line):
    tree = line.run("inventory", "deck-hw", COLUMNS="120").out
    assert tree.count("nic-1") == 1
    assert tree.count("disk") == 1
    assert tree.count("nic-2") == 2  # one of the five runs another version
    serials = [r["serial"] for r in line.run("inventory", "deck-hw", "--json").rows if r["component"] == "nic-1"]
    assert len(set(serials)) == 5


def test_several_notices_are_shown_and_accepted_at_once(line):
    refused = line.run("notice", "accept", "severity:low", "site:harbour")
    assert refused.code == 1
    assert "slipway:uplink-1" in refused.err  # what it would be, for whoever is asked
    assert "Nothing was accepted" in refused.out
    before = {r["name"]: r["state"] for r in line.run("notice", "list", "--json").rows}
    done = line.run("notice", "accept", "severity:low", "site:harbour", "--yes", "--json")
    assert done.code == 0, done.err
    named = {row["name"] for row in done.rows}
    assert {"slipway:uplink-1", "slipway:uplink-2"} <= named
    after = {r["name"]: r["state"] for r in line.run("notice", "list", "--json").rows}
    assert {name for name in before if before[name] != after[name]} == named
    assert all(after[name] == "accepted" for name in named)
    two = line.run("notice", "accept", "deck-hw:bios", "deck-hw:nic-1", "--yes", "--json")
    assert [row["name"] for row in two.rows] == ["deck-hw:bios", "deck-hw:nic-1"]
    with_terms = line.run("notice", "accept", "tickets:image", "deck:image", "--yes", "--accept-terms", TERMS)
    assert with_terms.code == 0, with_terms.err


def test_catalogs_say_which_products_they_list_and_who_has_them(line):
    rows = {row["product"]: row for row in line.run("catalog", "list", "--products", "--json").rows}
    assert rows["ostrel/shoal"]["systems"] == ["tickets"]
    assert rows["ostrel/shoal"]["catalog"] == "ostrel"
    shown = line.run("catalog", "list", "--products")
    assert shown.code == 0
    assert "gallant catalog show" in shown.out


def at_a_terminal(place: Place, *words: str, rows: int = 12, columns: int = 100, **more: str) -> str:
    """What a command writes to a terminal of so many lines."""
    import fcntl
    import struct
    import termios

    pid, terminal = pty.fork()
    if pid == 0:
        os.chdir(place.folder)
        environment = {k: v for k, v in place.environment(**more).items() if k != "NO_COLOR"}
        os.execve(sys.executable, [sys.executable, "-m", "gallant", *words], {**environment, "TERM": "xterm"})
    fcntl.ioctl(terminal, termios.TIOCSWINSZ, struct.pack("HHHH", rows, columns, 0, 0))
    heard, until = b"", time.monotonic() + 60
    while time.monotonic() < until:
        if select.select([terminal], [], [], 1)[0]:
            try:
                chunk = os.read(terminal, 65536)
            except OSError:  # it has ended
                break
            heard += chunk
    os.waitpid(pid, 0)
    os.close(terminal)
    return heard.decode("utf-8", "replace")


def test_what_is_longer_than_the_screen_goes_through_the_pager_with_its_heading_on_each_page(line, tmp_path):
    taken = tmp_path / "paged"
    pager = tmp_path / "pager"
    pager.write_text(f"#!/bin/sh\ncat > {taken}\n")
    pager.chmod(0o755)
    at_a_terminal(line, "inventory", "--by", "component", GALLANT_PAGER=str(pager), COLUMNS="100", LINES="12")
    text = re.sub(r"\x1b\[[0-9;]*m", "", taken.read_text())
    headings = [n for n, row in enumerate(text.splitlines()) if row.startswith("component")]
    assert len(headings) > 2
    assert {b - a for a, b in itertools.pairwise(headings)} == {11}
    assert "\x1b[" in taken.read_text()  # its colours stay
    taken.unlink()
    assert "component" in at_a_terminal(line, "inventory", "--by", "component", "--no-pager", GALLANT_PAGER=str(pager))
    assert not taken.exists()
    at_a_terminal(line, "profiles", GALLANT_PAGER=str(pager), LINES="200", rows=200)
    assert not taken.exists()  # it fits
    assert "component" in at_a_terminal(line, "inventory", "--by", "component", GALLANT_PAGER="no-such-pager-here")
    assert "component" in at_a_terminal(line, "inventory", "--by", "component", GALLANT_PAGER="")
    line.run("inventory", GALLANT_PAGER=str(pager))
    assert not taken.exists()  # a pipe is no screen


COMPLETED = [
    ("notice accept deck-hw:b", "deck-hw:bios"),
    ("check --only in-s", "in-sync"),
    ("waive time-s", "time-source"),
    ("catalog sync ost", "ostrel"),
    ("plan tick", "tickets"),
    ("backup list site:har", "site:harbour"),
    ("catalog remove gor", "gorsefield"),
]


@pytest.mark.parametrize(("words", "found"), COMPLETED)
def test_a_shell_completes_what_the_estate_has(line, words, found):
    typed = f"gallant {words}"
    done = line.run(_GALLANT_COMPLETE="bash_complete", COMP_WORDS=typed, COMP_CWORD=str(len(typed.split()) - 1))
    assert found in [row.partition(",")[2] for row in done.out.splitlines()], done.out
