"""Stand-ins on real sockets, an estate folder in front of them, and the built program as a user runs it."""

from __future__ import annotations

import asyncio
import contextlib
import json
import os
import signal
import sqlite3
import subprocess
import sys
import time
import urllib.request
from collections.abc import Iterator
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import Any

import msgspec
import pytest
from hypothesis import Phase, settings

from gallant.core.work.events import Entry
from gallant.demo.skerry import furnish, new_accounts, sources_of
from gallant.demo.standins import start, stop

from .users import CREW_GID, as_user
from .warm import INTERPRETER, Warm

warm = Warm()
# The program is started some thousand times here; where its bytecode is not kept, each start compiles all of it anew.
os.environ.pop("PYTHONDONTWRITEBYTECODE", None)
PATIENCE_S = 90.0
TERMS = "2026-04"  # the publisher's terms that the releases of the 3.2 train come under

# CI tries the same examples every time, so that it fails for what changed; elsewhere each run explores new ones.
settings.register_profile("ci", derandomize=True)
# For tests.mutants, which asks only whether anything fails: the smallest example is looked for by nobody.
settings.register_profile("at_once", derandomize=True, phases=(Phase.explicit, Phase.generate))
if os.environ.get("CI"):
    settings.load_profile("ci")


@dataclass
class Done:
    """How a command ended."""

    code: int
    out: str
    err: str

    @property
    def json(self) -> Any:
        return json.loads(self.out)

    @property
    def rows(self) -> list[dict[str, Any]]:
        return self.json["rows"]

    @property
    def error(self) -> dict[str, Any]:
        return json.loads(next(line for line in self.err.splitlines() if line.startswith("{")))


def _hear(ignoring: signal.Signals | None) -> None:
    """In a child: the signals as a terminal has them, however the tests themselves were started."""
    for one in (signal.SIGHUP, signal.SIGINT, signal.SIGTERM):
        signal.signal(one, signal.SIG_IGN if one == ignoring else signal.SIG_DFL)


def cold(words: tuple[str, ...], folder: Path, env: dict[str, str], timeout: float) -> subprocess.CompletedProcess[str]:
    """A command, started as a user starts it."""
    return subprocess.run(
        [sys.executable, "-m", "gallant", *words],
        cwd=folder,
        env=env,
        capture_output=True,
        text=True,
        stdin=subprocess.DEVNULL,
        timeout=timeout,
        check=False,
    )


class Place:
    """An estate folder with running stand-ins in front of it."""

    patience_s = PATIENCE_S  # with one command
    cold = bool(os.environ.get("GALLANT_COLD"))  # whether every command is started as a user starts it

    def __init__(self, folder: Path, said: dict[str, Any] | None = None) -> None:
        self.folder, self.said = folder, said

    def environment(self, **more: str) -> dict[str, str]:
        kept = {k: v for k, v in os.environ.items() if k not in ("GALLANT_ESTATE", "COLUMNS")}
        return {**kept, "NO_COLOR": "1", **more}

    def run(self, *words: str, **more: str) -> Done:
        run = cold if self.cold or any(name.startswith(INTERPRETER) for name in more) else warm.run
        done = run(words, self.folder, self.environment(**more), self.patience_s)
        assert "Traceback" not in done.stderr, done.stderr
        assert "has a defect" not in done.stderr, done.stderr
        return Done(done.returncode, done.stdout, done.stderr)

    def run_as(self, account: str | int, *words: str, **more: str) -> Done:
        """As `run`, by another account of this machine; the estate must let it in."""
        done = as_user(account, words, self.folder, self.environment(**more))
        assert "Traceback" not in done.stderr, done.stderr
        assert "has a defect" not in done.stderr, done.stderr
        return Done(done.returncode, done.stdout, done.stderr)

    def let_in(self) -> None:
        """Make the estate one of the crew's, whose members `run_as` has."""
        done = self.run("doctor", "--mend", "--yes", "--group", str(CREW_GID))
        rows = {one["about"]: one["level"] for one in self.run("doctor", "--json").rows}
        assert rows["group"] == "pass", done.out + done.err

    def begin(self, *words: str, ignoring: signal.Signals | None = None) -> subprocess.Popen[str]:
        return subprocess.Popen(
            [sys.executable, "-m", "gallant", *words],
            cwd=self.folder,
            env=self.environment(),
            stdin=subprocess.DEVNULL,
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            text=True,
            start_new_session=True,
            preexec_fn=partial(_hear, ignoring),
        )

    # --- behind the stage

    def _ask(self, path: str, body: Any = None) -> Any:
        control = self.said["control"]
        request = urllib.request.Request(
            control["url"] + path,
            headers={"X-Key": control["key"], "Content-Type": "application/json"},
            data=None if body is None else json.dumps(body).encode(),
        )
        with urllib.request.urlopen(request, timeout=10) as answer:
            return json.load(answer)

    def faults(self, *faults: dict[str, Any]) -> None:
        self._ask("/faults", {"faults": list(faults)})

    def let_pass(self, seconds: float) -> float:
        """So much of the stand-ins' time passes at once; what their clock shows then."""
        return self._ask("/pass", {"seconds": seconds})["now"]

    def truth(self) -> dict[str, Any]:
        return self._ask("/state")

    def follow_catalog(self) -> None:
        publisher = self.said["publisher"]
        assert self.run("catalog", "add", "ostrel", publisher["url"], "--key", "keys/ostrel.pub").code == 0
        assert self.run("catalog", "sync").code == 0

    def read_all(self) -> None:
        """Every publisher followed and every node read, by the operations themselves."""
        from gallant.operations.catalogs import following as catalogs
        from gallant.operations.catalogs import syncing
        from gallant.operations.ground import survey
        from gallant.operations.ground.workplace import Workplace

        async def read() -> None:
            place = Workplace(self.folder)
            for name, url in sources_of(self.said).items():
                catalogs.add(place, name, url, str(self.folder / "keys" / f"{name}.pub"))
            assert (await syncing.sync(place, []))[1] == 0
            assert (await survey.survey(Workplace(self.folder), [])).exit_code == 0

        asyncio.run(read())

    def make_ready(self) -> str:
        """Everything before a roll, by the operations themselves; gives the plan's name."""
        from gallant.operations.catalogs import following as catalogs
        from gallant.operations.catalogs import syncing
        from gallant.operations.decide import notices
        from gallant.operations.ground import survey
        from gallant.operations.ground.workplace import Workplace
        from gallant.operations.keep import stock
        from gallant.operations.plan import making as plan

        async def prepare() -> str:
            place = Workplace(self.folder)
            assert (await survey.survey(place, [])).exit_code == 0
            catalogs.add(place, "ostrel", self.said["publisher"]["url"], str(self.folder / "keys" / "ostrel.pub"))
            assert (await syncing.sync(place, []))[1] == 0
            place = Workplace(self.folder)
            if any(n.name == "tickets:image" for n in notices.listed(place, []).notices):
                notices.accept(place, "tickets:image", [TERMS])
            assert (await stock.fetch(place, []))[1] == 0
            return (await plan.plan(place, ["tickets"])).plan.id

        return asyncio.run(prepare())

    # --- the journal, as another process sees it

    def last_roll(self) -> Any:
        from gallant.operations.after import history
        from gallant.operations.ground.workplace import Workplace

        return history.history(Workplace(self.folder))[0][0]

    def journal_problems(self, roll: str = "roll-0001") -> list[str]:
        from gallant.operations.after import history
        from gallant.operations.ground.workplace import Workplace

        return history.verify(Workplace(self.folder), roll)[1]

    def entries(self, roll: str = "roll-0001") -> list[Entry]:
        path = self.folder / "state" / "journal.db"
        if not path.exists():
            return []
        db = sqlite3.connect(f"file:{path}?mode=ro", uri=True, timeout=5)
        try:
            return [
                msgspec.json.decode(raw, type=Entry)
                for (raw,) in db.execute("SELECT entry FROM events WHERE roll = ? ORDER BY seq", (roll,))
            ]
        except sqlite3.OperationalError:
            return []
        finally:
            db.close()

    def wait_for(self, condition: Any, process: subprocess.Popen[str] | None = None, said: Any = lambda: "") -> None:
        """Until the condition holds; fails when the process ends before it does. `said` tells how far it came."""
        until = time.monotonic() + PATIENCE_S
        while not condition():
            if process is not None and process.poll() is not None and not condition():
                raise AssertionError(f"the roll ended before: {process.communicate()}")
            assert time.monotonic() < until, f"it never came to that {said()}"
            time.sleep(0.004)


@contextlib.contextmanager
def starting(tmp_path: Path) -> Iterator[Any]:
    """Gives a function that starts stand-ins and furnishes a folder; all of them are stopped at the end."""
    children = []

    def make(
        speed: float = 900.0,
        pace: float = 0.4,
        move_gap_s: float = 0.25,
        faults: list[dict[str, Any]] | None = None,
        **setup: Any,
    ) -> Place:
        folder = tmp_path / f"estate-{len(children)}"
        folder.mkdir()
        since, accounts = time.time(), new_accounts()
        child, said = start(
            {
                "speed": speed,
                "pace": pace,
                "move_gap_s": move_gap_s,
                "since": since,
                "accounts": accounts,
                "faults": json.dumps({"faults": faults or []}),
                **setup,
            },
            tmp_path / "standins.log",
            warm.standins,
        )
        children.append(child)
        furnish(folder, said, accounts, since, speed, whole=bool(setup.get("whole")))
        return Place(folder, said)

    yield make
    for child in children:
        stop(child)
    assert (tmp_path / "standins.log").read_text() == "" if children else True


@pytest.fixture
def standins(tmp_path):
    """Start stand-ins and furnish a folder: `standins(speed=…, pace=…, faults=…)` gives a `Place`."""
    with starting(tmp_path) as make:
        yield make


@pytest.fixture
def place(standins) -> Place:
    return standins()


@pytest.fixture
def bare(tmp_path) -> Place:
    """A folder with nothing in it."""
    return Place(tmp_path)
