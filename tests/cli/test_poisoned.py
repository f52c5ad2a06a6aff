"""Readings that somebody wrote by hand, or a device made up: what
is done with them ends in words, whatever stands in them."""

from __future__ import annotations

import contextlib
import json
import random
import shutil
import sqlite3

import pytest
from prometheus_client.openmetrics.parser import text_string_to_metric_families as families

from ..conftest import Place, starting

POISON = ["", "9" * 400, "\u202e\x00\x1b[2J", "a\nb", -1, 1e308, 2**62, None, [], {}, True, "2.8.5-\ud7ff"]


@pytest.fixture(scope="module")
def made(tmp_path_factory):
    for make in starting.__wrapped__(tmp_path_factory.mktemp("poisoned")):
        place = make()
        yield place, place.make_ready()


def places(value, path=()):
    """Where the values of a document are."""
    if isinstance(value, dict | list):
        for key, one in value.items() if isinstance(value, dict) else enumerate(value):
            yield from places(one, (*path, key))
    yield path


def poisoned(document, dice: random.Random, count: int):
    for _ in range(count):
        path = dice.choice([one for one in places(document) if one])
        at = document
        for key in path[:-1]:
            at = at[key]
        at[path[-1]] = dice.choice(POISON)
    return document


@pytest.mark.parametrize("seed", range(6))
def test_whatever_the_readings_say_a_rehearsal_a_plan_and_a_list_end_in_words(made, tmp_path, seed):
    """`Place.run` asks of each that there is neither a traceback nor a defect."""
    served, plan = made
    shutil.copytree(served.folder, tmp_path / "estate")
    place, dice = Place(tmp_path / "estate", served.said), random.Random(seed)
    with contextlib.closing(sqlite3.connect(place.folder / "state" / "readings.db")) as db, db:
        rows = db.execute("SELECT system, node, reading FROM readings WHERE reading IS NOT NULL").fetchall()
        assert len(rows) == 2
        for system, node, raw in rows:
            worse = poisoned(json.loads(raw), dice, 1 + seed // 2)
            db.execute(
                "UPDATE readings SET reading = ? WHERE system = ? AND node = ?",
                (json.dumps(worse).encode(), system, node),
            )
    for words in (
        ("rehearse", plan, "--runs", "20"),
        ("inventory",),
        ("gaps",),
        ("route", "tickets"),
        ("plan", "--show", plan),
        ("check", "--list"),
        ("metrics",),
        ("doctor",),
        ("plan", "--all", "--search", "1s"),
    ):
        done = place.run(*words)
        assert done.code in (0, 1, 2, 4, 5), (words, done.out, done.err)
        assert "\x1b" not in done.out + done.err
        assert "\u202e" not in done.out
        if words == ("metrics",) and not done.code:
            assert len(list(families(done.out))) > 1
