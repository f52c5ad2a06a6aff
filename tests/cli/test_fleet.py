"""An estate of hundreds of systems: each list answers on one screen how bad it is, where, and what is next."""

from __future__ import annotations

import sqlite3
from datetime import UTC, datetime, timedelta

import msgspec
import pytest

from gallant.core.catalog.products import Catalog, Package, Product, Release
from gallant.core.decide.ledger import FIRST, LedgerEntry, next_hash
from gallant.core.readings import Component, Reading
from gallant.core.records import digest
from gallant.core.work.plan import Plan
from gallant.store.readings import ReadingStore

from ..builders import filled
from ..conftest import Place

SYSTEMS, SCREEN = 300, 40
NOW = datetime.now(UTC)


def product(name: str) -> Product:
    def release(n: int) -> Release:
        package = Package(name=f"p-{n}.pkg", url="x", bytes=1, sha256="0" * 64)
        return Release(version=f"1.{n}", released=NOW - timedelta(days=30 * (9 - n)), packages=(package,))

    return Product(name=name, scheme="dotted", releases=tuple(map(release, range(1, 9))))


def reading(n: int) -> Reading:
    versions = {"image": f"1.{n % 4 + 1}", "nic": f"1.{n % 7 + 1}", "bios": f"1.{n % 3 + 6}"}
    parts = tuple(
        Component(name=name, kind=name, product="t/box" if name == "image" else f"t/{name}", version=version)
        for name, version in versions.items()
    )
    return Reading(
        system=f"s{n}", node="a", taken=NOW, serial=str(n), product="t/box", version=versions["image"], boot="1",
        role="alone", state="in_service", components=parts,
    )  # fmt: skip


@pytest.fixture(scope="module")
def fleet(tmp_path_factory) -> Place:
    folder = tmp_path_factory.mktemp("fleet")
    rows = "\n".join(
        f"  s{n}: {{product: t/box, shape: single, site: x{n % 20}, driver: http, profile: ostrel-shoal-mini, nodes: "
        f'{{a: {{address: "https://127.0.{n // 250}.{n % 250 + 1}", serial: "{n}"}}}}}}'
        for n in range(SYSTEMS)
    )
    sites = ", ".join(f"x{n}: {{}}" for n in range(20))
    (folder / "estate.yaml").write_text(f"gallant: estate/1\nname: fleet\nsites: {{{sites}}}\nsystems:\n{rows}\n")
    store = ReadingStore(folder)
    survey = store.begin_survey(NOW)
    store.add(survey, [(f"s{n}", "a", NOW, reading(n), None) for n in range(SYSTEMS)])
    store.end_survey(survey, NOW)
    store.add_source("t", "https://127.0.0.1/catalog.json", "00" * 32, NOW)
    catalog = Catalog(
        schema="gallant.catalog/1", publisher="t", serial=1, issued=NOW, expires=NOW + timedelta(days=90),
        products=(product("t/box"), product("t/nic"), product("t/bios")),
    )  # fmt: skip
    raw = msgspec.json.encode(catalog)
    store.keep_catalog("t", 1, digest(raw), raw, None, (), NOW)
    store.close()
    return Place(folder)


@pytest.mark.parametrize("columns", ["80", "124", "200"])
@pytest.mark.parametrize("words", [("gaps",), ("notice", "list"), ("check",), ("inventory",)])
def test_a_list_of_a_fleet_is_one_screen_whatever_its_width(fleet, words, columns):
    assert len(fleet.run(*words, COLUMNS=columns).out.splitlines()) <= SCREEN


def test_gaps_of_a_fleet_are_one_screen_in_which_every_gap_is_counted(fleet):
    rows = [row for row in fleet.run("gaps", "--json").rows if row["standing"] == "behind"]
    lines = fleet.run("gaps", COLUMNS="124").out.splitlines()
    assert len(lines) <= SCREEN
    table = [line.split() for line in lines if " more " in line and "▲ behind" in line]
    counted = sum(int(words[words.index("more") + 1]) for words in table)
    assert counted == len(rows)
    assert sum(row["component"] == "image" and row["installed"] == "1.1" for row in rows) == 75
    assert any("and 74 more" in line and " 75 " in line and "image" in line for line in lines)


def test_all_gives_every_system_by_itself_and_so_do_names_and_filters(fleet):
    every = fleet.run("gaps", "--all").out
    assert all(f"s{n}/a" in every for n in range(SYSTEMS))
    assert "s7/a" in fleet.run("gaps", "s7").out
    few = fleet.run("gaps", "component:image", "site:x3").out
    assert "s3/a" in few
    assert "more" not in few.splitlines()[2]


def test_notices_of_a_fleet_are_one_screen_and_a_decision_stands_by_itself(fleet):
    names = {row["name"] for row in fleet.run("notice", "list", "--json").rows}
    assert len(names) > 700
    assert fleet.run("notice", "accept", "s8:image", "--reason", "first").code == 0
    lines = fleet.run("notice", "list", COLUMNS="124").out.splitlines()
    assert len(lines) <= SCREEN
    assert any("s8:image" in line and "accepted" in line for line in lines)
    table = [line.split() for line in lines if "new" in line or "accepted" in line]
    assert sum(int(words[0]) for words in table if words[0].isdigit()) == len(names)


def test_a_notice_that_was_seen_is_not_written_down_again(fleet):
    fleet.run("notice", "list")
    path = fleet.folder / "state" / "readings.db"

    def written() -> tuple[int, str]:
        with sqlite3.connect(path) as db:
            return db.execute("SELECT count(*), max(since) FROM noticed").fetchone()

    before, changed = written(), path.stat().st_mtime_ns
    assert fleet.run("notice", "list").code == 1
    assert (written(), path.stat().st_mtime_ns) == (before, changed)


def test_a_long_ledger_shows_its_newest_and_looks_at_their_links(fleet):
    assert fleet.run("notice", "accept", "s9:image", "--reason", "second").code == 0
    path = fleet.folder / "state" / "ledger.db"
    with sqlite3.connect(path) as db:
        seq, before = db.execute("SELECT seq, hash FROM ledger ORDER BY seq DESC LIMIT 1").fetchone() or (0, FIRST)
        for n in range(seq + 1, seq + 2_101):
            entry = LedgerEntry(at=NOW, by="anna", host="keeper", kind="assign", subject=f"s{n}:image", person="ben")
            before = next_hash(before, entry)
            db.execute(
                "INSERT INTO ledger (seq, entry, hash) VALUES (?, ?, ?)", (n, msgspec.json.encode(entry), before)
            )
    done = fleet.run("ledger")
    assert done.code == 0
    assert "The newest 50;" in done.out
    assert f"of {seq + 2_100} entries are whole" in done.out
    assert f"s{seq + 2_100}:image" in done.out
    assert f"s{seq + 2_050}:image" not in done.out
    assert len(fleet.run("ledger", "--json").rows) == seq + 2_100
    assert f"s{seq + 1}:image" in fleet.run("ledger", "--all").out
    with sqlite3.connect(path) as db:
        raw = db.execute("SELECT entry FROM ledger WHERE seq = ?", (seq + 2_090,)).fetchone()[0]
        db.execute("UPDATE ledger SET entry = ? WHERE seq = ?", (raw.replace(b"ben", b"eve"), seq + 2_090))
    done = fleet.run("ledger")
    assert done.code == 1
    assert f"entry {seq + 2_090} (assign" in done.out


def test_checks_of_a_fleet_are_a_row_each_and_no_step_names_more_than_five_systems(fleet):
    done = fleet.run("check", COLUMNS="124")
    lines = done.out.splitlines()
    assert len(lines) <= SCREEN
    assert any("backup" in line and str(SYSTEMS) in line and "and 298 more" in line for line in lines)
    assert "gallant check --mend" in done.out
    chosen = fleet.run("check", "site:x3", COLUMNS="124").out
    assert "gallant backup take site:x3" in chosen  # and not of all that there are
    assert "gallant check --mend site:x3" in chosen
    assert all(sum(word.startswith("s") and word[1:].isdigit() for word in line.split()) <= 5 for line in lines)


def test_history_shows_the_newest_fifty_and_says_how_to_see_the_others(fleet):
    plan = filled(Plan, "x", lanes=(), rounds=(), undoes=None)
    with sqlite3.connect(fleet.folder / "state" / "journal.db") as db:
        for n in range(1, 121):
            began = f"2026-11-{n % 28 + 1:02}T22:00:00Z"
            db.execute(
                "INSERT INTO rolls (number, id, plan_id, plan, began, ended) VALUES (?, ?, ?, ?, ?, ?)",
                (n, f"roll-{n:04}", plan.id, msgspec.json.encode(plan), began, began),
            )
    done = fleet.run("history")
    assert "The newest 50; 70 older rolls not shown" in done.out
    assert "roll-0120" in done.out and "roll-0071" in done.out
    assert "roll-0070" not in done.out
    assert "roll-0001" in fleet.run("history", "--all").out
    assert len(fleet.run("history", "--json").rows) == 120


def test_the_inventory_of_a_fleet_says_what_runs_where_by_product_and_version(fleet):
    lines = fleet.run("inventory", COLUMNS="124").out.splitlines()
    assert len(lines) <= SCREEN
    rows = [line.split() for line in lines if " and 72 more" in line]
    assert [(words[-8], words[-7]) for words in rows] == [("75", "75")] * 4
    assert any(f"{SYSTEMS} systems, {SYSTEMS} nodes, {3 * SYSTEMS} components" in line for line in lines)
    assert "s299/a" in fleet.run("inventory", "--all").out
    assert "s7/a" in fleet.run("inventory", "s7").out


@pytest.mark.parametrize("words", [("gaps",), ("inventory",), ("history",), ("ledger",), ("route", "s7")])
def test_a_command_that_only_shows_loads_no_network_and_no_search(fleet, words):
    err = fleet.run(*words, PYTHONPROFILEIMPORTTIME="1").err
    loaded = {line.rpartition("|")[2].strip() for line in err.splitlines() if line.startswith("import time:")}
    assert "gallant.cli.main" in loaded
    assert not loaded & {"asyncio", "aiohttp", "asyncssh", "scipy", "numpy", "matplotlib"}
