"""A look at what is due that hangs, and what root leaves in another's folder."""

from __future__ import annotations

import asyncio
import os
import signal
import subprocess
import sys

import pytest

from gallant.operations.ground import alone
from gallant.operations.ground.workplace import Workplace

HOLDS = """
import asyncio, sys, pathlib
from gallant.operations.ground import alone
from gallant.operations.ground.workplace import Workplace
async def go():
    async with alone.alone(Workplace(pathlib.Path(sys.argv[1]))):
        print("has it", flush=True)
        await asyncio.sleep(600)
asyncio.run(go())
"""


@pytest.fixture
def other(place):
    """Another process that has its turn."""
    process = subprocess.Popen([sys.executable, "-c", HOLDS, str(place.folder)], stdout=subprocess.PIPE, text=True)
    assert process.stdout is not None
    assert process.stdout.readline() == "has it\n"
    yield process
    process.kill()
    process.wait()


def test_of_a_look_that_is_at_it_every_other_says_so_and_nothing_is_wrong(place, other):
    done = place.run("due", "--json")
    assert (done.code, done.json["busy"], done.json["hangs"]) == (0, True, None)


def test_of_a_look_that_hangs_people_are_told_once_and_each_look_ends_with_1(place, other, monkeypatch):
    estate, log = place.folder / "estate.yaml", place.folder / "told.log"
    estate.write_text(estate.read_text() + f"notify:\n  - {{run: \"sh -c 'cat >> {log}'\", when: [stopped]}}\n")
    os.kill(other.pid, signal.SIGSTOP)
    silent(place, 600)
    for _ in range(2):
        done = place.run("due", "--json")
        assert done.code == 1
        assert f"gallant due, process {other.pid}, has given no sign of life for 10 min" in done.json["hangs"]
        assert done.json["hangs"].endswith("it is stopped")
    assert f"kill -CONT {other.pid}" in place.run("due").out
    assert log.read_text().count("no sign of life") == 1
    entries = place.run("ledger", "--json").rows
    assert [e["state"] for e in entries if e["kind"] == "due"] == ["failed"]
    seen = place.run("doctor", "--json")
    assert [row["level"] for row in seen.rows if row["about"] == "due"] == ["stop"]


def silent(place, seconds: float) -> None:
    """The last sign of life is so long ago."""
    lock = os.open(place.folder / "state" / alone.LOCK, os.O_RDWR)
    known = alone._holder(lock)
    os.pwrite(lock, alone.msgspec.json.encode(alone.replace(known, seen=known.seen - seconds)).ljust(alone.ROOM), 0)
    os.close(lock)


def test_a_sign_of_life_is_given_as_long_as_a_look_lasts(place, monkeypatch):
    monkeypatch.setattr(alone, "BEAT_S", 0.01)
    here = Workplace(place.folder)

    async def go():
        async with alone.alone(here) as other:
            assert other is None
            silent(place, 600)
            while alone.holder(here).hangs:
                await asyncio.sleep(0.01)
        return alone.holder(here)

    assert asyncio.run(asyncio.wait_for(go(), 30)) is None


@pytest.mark.skipif(os.geteuid() != 0, reason="only root can make files that are another's")
def test_what_root_makes_is_the_folders_owners_and_the_doctor_gives_back_what_is_not(place):
    def owners() -> dict[str, int]:
        return {str(p.relative_to(place.folder)): p.lstat().st_uid for p in place.folder.rglob("*")}

    for path in (place.folder, *place.folder.rglob("*")):
        os.chown(path, 12345, 12345, follow_symlinks=False)
    for words in (("survey",), ("due",), ("plan", "tickets"), ("notice", "accept", "tickets:image", "--accept-terms", "2026-04"), ("stock", "fetch", "tickets"), ("backup", "take", "tickets"), ("due", "--list")):  # fmt: skip
        place.run(*words)
    assert {name: uid for name, uid in owners().items() if uid != 12345} == {}
    (place.folder / "state" / "left.json").write_text("{}")
    seen = place.run("doctor", "--json")
    [row] = [row for row in seen.rows if row["about"] == "owner"]
    assert ("state/left.json" in row["seen"], row["level"]) == (True, "warn")
    place.run("doctor", "--mend", "--yes")
    assert owners()["state/left.json"] == 12345
