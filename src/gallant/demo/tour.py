"""The tour: the real commands, each shown as a person would type it, with its real output."""

from __future__ import annotations

import http.client
import json
import os
import shlex
import signal
import subprocess
import sys
import threading
import time
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any, TypeAlias

from gallant.core.errors import GallantError
from gallant.core.records import rfc3339, to_json
from gallant.demo.skerry import SPEED, WEEK_SPEED, Folder, furnish, new_accounts
from gallant.demo.standins import die_with_parent, running
from gallant.disk import put_whole
from gallant.standin.scenario import FAULTS, SCENARIOS, scenario
from gallant.standin.world import Fault

Document: TypeAlias = dict[str, Any]  # what a command prints as JSON

# Each step: a sentence that says why, the command, and the exit codes that are as they should be.
Steps = tuple[tuple[str, tuple[str, ...], tuple[int, ...]], ...]
READING: Steps = (
    ("Read the nodes, and keep what they say.", ("survey",), (0,)),
    ("What runs where.", ("inventory",), (0,)),
)
CATALOGS: Steps = (
    ("Fetch the publishers' catalogs, and verify them before believing them.", ("catalog", "sync"), (0,)),
    ("What is followed, under which keys.", ("catalog", "list"), (0,)),
)
TICKETS: Steps = (
    ("What should run, and what does.", ("gaps",), (1,)),
    ("The way there, and why not a shorter one.", ("route", "tickets"), (0,)),
    ("What a release brings, before anybody decides on it.", ("catalog", "show", "ostrel/shoal", "3.2.4"), (0,)),
    ("Which gaps wait for a decision.", ("notice", "list"), (1,)),
    (
        "It is to be done; the publisher's terms were read above.",
        ("notice", "accept", "tickets:image", "--accept-terms", "2026-04"),
        (0,),
    ),
    ("Bring the packages here, the running release's too.", ("stock", "fetch", "tickets"), (0,)),
    (
        "Take a backup, encrypted, kept off the system and in a second place.",
        ("backup", "take", "tickets", "--comment", "before the update"),
        (0,),
    ),
    ("Open it: only then is it known that it can be.", ("backup", "verify", "tickets"), (0,)),
    ("Is everything well?", ("check", "tickets"), (0, 1)),
    ("The work in order: how long, what is disturbed, what can be undone.", ("plan", "tickets"), (0,)),
    ("Carry it out.", ("roll", "{plan}"), (0,)),
    ("Is everything as it should be?", ("verify", "tickets"), (0,)),
    ("What was done, when, and how long the service was out.", ("history", "{roll}"), (0,)),
    ("The way back from each step of it.", ("backup", "list", "tickets"), (0,)),
    ("Who decided what.", ("ledger",), (0,)),
)
STEPS: Steps = (*READING, *CATALOGS, *TICKETS)
# What nobody can take back, or what is down for a while: each accepted by name.
CONSENTS = (
    *(f"downtime:{name}" for name in ("fulmar-box", "gates", "manifest", "overlook")),
    *(f"one-way:{name}" for name in ("fulmar-box", "gates", "manifest", "tidegauge")),
)
# The second act: everything that the line has, in one night.
NIGHT: Steps = (
    READING[0],
    *CATALOGS,
    ("What should run, and what does.", ("gaps",), (1,)),
    *(
        ("A rule of the estate asks a person about this one.", ("notice", "accept", name, *more), (0,))
        for name, more in (
            ("tickets:image", ("--accept-terms", "2026-04")),
            *(
                (name, ())
                for name in ("deck:image", "deck-hw:controller", "deck-hw:bios", "overlook:image", "slipway:image")
            ),
            *((name, ()) for name in ("sealock:image", "fulmar-box:image", "tidegauge:format")),
        )
    ),
    ("Bring every package here that some system needs.", ("stock", "fetch"), (0,)),
    ("All of it in one plan: the ship first, and in an order that keeps every requirement.", ("plan",), (0,)),
    ("Carry it out.", ("roll", "{plan}", *(word for c in CONSENTS for word in ("--consent", c))), (0,)),
    ("Is everything as it should be?", ("verify",), (0, 1)),
    ("What is left to do.", ("gaps", "--severe"), (0, 1)),
    ("What was done, when, and how long the service was out.", ("history", "{roll}"), (0,)),
)


# The third act: into windows, and a week that nobody carries out.
WEEK: Steps = (
    READING[0],
    *CATALOGS,
    ("When may what be worked on?", ("windows",), (0,)),
    (
        "The publisher's terms were read by somebody.",
        ("notice", "accept", "tickets:image", "--accept-terms", "2026-04"),
        (0,),
    ),
    ("A new on-disk format has no way back: somebody decides.", ("notice", "accept", "tidegauge:format"), (0,)),
    ("Bring every package here that some system needs.", ("stock", "fetch"), (0,)),
    ("All that is behind, into the windows to come.", ("plan", "--all", "--search", "3s"), (0, 1)),
    (
        "Book it there, and accept by name what cannot be taken back.",
        ("plan", "--all", "--search", "3s", "--book", *(word for c in CONSENTS for word in ("--consent", c))),
        (0, 1),
    ),
    ("What will be done, and when.", ("due", "--list"), (0,)),
)
AFTER_THE_WEEK: Steps = (
    ("What was done.", ("history",), (0,)),
    ("What is left.", ("gaps", "--severe"), (0, 1)),
    ("Who decided what, and what was done by itself.", ("ledger",), (0,)),
)
LONGEST_WEEK_S = 900.0
LEAST_LEAP_S = 300.0  # of estate time: less than that a second or two brings by itself


def faults(name: str | None) -> list[Fault]:
    """The faults of a scenario; none without one."""
    return [] if name is None else scenario(name)


def scenarios() -> str:
    """The built-in scenarios, one line each."""
    return "\n".join(
        f"{name:<20} {_told(FAULTS[name], fault)}, at {fault.node or 'every node'}" for name, fault in SCENARIOS.items()
    )


def _told(text: str, fault: Fault) -> str:
    return text.replace("`value`", f"{fault.value:g}").replace("`act`", fault.act)


def tour(folder: Path, faults: Sequence[Fault] = (), steps: Steps = STEPS) -> None:
    """Make the folder, start the stand-ins, run every step, say where to look next.

    With faults, steps may fail; the tour then shows what a person would look at, and ends.
    """
    began = time.monotonic()
    held = Folder(folder)
    try:
        with _standins(folder, faults):
            for why, words, good in steps:
                code = _step(folder, why, [_fill(word, folder) for word in words], None if faults else good)
                if faults and words[0] in ("survey", "plan", "roll") and code:
                    _aftermath(folder, words[0])
                    break
    finally:
        held.close()
    where = _shown(folder)
    print(f"\nDone in {time.monotonic() - began:.0f} s. Everything it made lies in {where}:", flush=True)
    print("  estate.yaml  what there is          plans/    the plan, as a document")
    print("  backups/     configurations         stock/    verified packages")
    print("  state/       readings and the journal")
    print(
        f"The stand-ins have ended. To try every command yourself: gallant demo --serve{_folder_option(folder)}",
        flush=True,
    )


def _aftermath(folder: Path, failed: str) -> None:
    """What a person looks at when it went wrong."""
    if failed == "roll" and (folder / "state" / "journal.db").exists():
        _step(folder, "Where it stands.", ["history"], None)
    _step(folder, "What is wrong now.", ["check", "tickets"], None)


def week(folder: Path, faults: Sequence[Fault] = ()) -> None:
    """Put all of the line into windows, and let what is booked be done by itself until nothing more is to come."""
    began = time.monotonic()
    held = Folder(folder)
    try:
        with _standins(folder, faults, windows=True) as since:
            for why, words, good in WEEK:
                _step(folder, why, [_fill(word, folder) for word in words], None if faults else good)
            _let_it_be_done(folder, since, began + LONGEST_WEEK_S)
            for why, words, good in AFTER_THE_WEEK:
                _step(folder, why, list(words), None if faults else good)
    finally:
        held.close()
    print(f"\nDone in {time.monotonic() - began:.0f} s. What it made lies in {_shown(folder)}", flush=True)


def _let_it_be_done(folder: Path, begins: float, until: float) -> None:
    """Call `gallant due` again and again, as a timer does, and show each time at which something was begun or left.
    While nothing is under way, the time to what comes next passes at once."""
    print("\n# From here on nobody types anything: a timer calls gallant due.", flush=True)
    told, looks = set[tuple[str, str, str]](), set[str]()
    since = datetime.fromtimestamp(begins, UTC)
    while time.monotonic() < until:
        rows = _said(folder, "due")["rows"]
        for row in rows:
            system = row["subject"].partition(":")[0]
            key = (row["did"], system, row["roll"] or row["why"])
            if row["did"] in ("begun", "left") and key not in told:
                told.add(key)
                # A look some hours after a roll is begun too, and makes no roll.
                became = row["roll"] or "" if row["did"] == "begun" else row["why"]
                line = f"  {str(row['at'])[:16].replace('T', ' ')}  {row['did']:<6} {system:<12} {became}"
                print(line.rstrip(), flush=True)
            if row["did"] == "begun" and row["roll"] is None:
                looks.add(row["subject"])
        if not any(row["did"] in ("begun", "under way", "to come") and row["at"] is not None for row in rows):
            return
        since = _let_time_pass(folder, since, rows, len(looks))
        time.sleep(0.5)


def _let_time_pass(folder: Path, since: datetime, rows: Sequence[Document], looks: int) -> datetime:
    """Until the next thing that is to come; since when the clock runs then. Not while anything is under way that the
    clock would be pulled away from, nor past what is tried again."""
    now = since + (datetime.now(UTC) - since) * WEEK_SPEED
    goes_on = any(row["did"] in ("begun", "under way") for row in rows)
    tried_again = any(row["did"] == "left" and row["until"] is not None and _moment(row["until"]) > now for row in rows)
    comes = [_moment(row["at"]) for row in rows if row["did"] == "to come" and row["at"] is not None]
    if goes_on or tried_again or not comes or not _all_looked(folder, looks):
        return since
    ahead_s = (min(comes) - since - (datetime.now(UTC) - since) * WEEK_SPEED).total_seconds()
    if ahead_s <= LEAST_LEAP_S:
        return since
    _behind_the_stage(folder, "/pass", {"seconds": ahead_s})
    earlier = since - timedelta(seconds=ahead_s / (WEEK_SPEED - 1))
    text = (folder / "estate.yaml").read_text("utf-8")
    put_whole(folder / "estate.yaml", text.replace(f"since: {rfc3339(since)}", f"since: {rfc3339(earlier)}").encode())
    return earlier


def _behind_the_stage(folder: Path, door: str, said: dict[str, float]) -> None:
    control = json.loads((folder / "standins.json").read_text())
    stage = http.client.HTTPConnection(control["url"].removeprefix("http://"), timeout=60)
    try:
        stage.request("POST", door, json.dumps(said), {"X-Key": control["key"]})
        status = stage.getresponse().status
    finally:
        stage.close()
    if status != 200:
        raise GallantError(f"The stand-ins answered {door} with status {status}.")


def _all_looked(folder: Path, looks: int) -> bool:
    """Whether so many looks at what a roll left behind have ended: each writes that down."""
    ended: int = sum(entry["kind"] == "verify" for entry in _said(folder, "ledger")["rows"])
    return looks <= ended


def _moment(text: str) -> datetime:
    return datetime.fromisoformat(text)


def _said(folder: Path, *words: str) -> Document:
    """What a command says as JSON."""
    command = [sys.executable, "-P", "-m", "gallant", *words, "--json", "--quiet"]
    done = subprocess.run(command, cwd=folder, env=_environment(), capture_output=True, text=True, check=False)
    if done.returncode > 1:
        raise GallantError(f"gallant {words[0]} failed: {done.stderr.strip()[:200]}")
    said: Document = json.loads(done.stdout)
    return said


def serve(folder: Path, faults: Sequence[Fault] = (), windows: bool = False) -> None:
    """Make the folder, start the stand-ins, and keep them up until ctrl-C."""
    held = Folder(folder)
    try:
        ended = _until_asked_to_end()
        with _standins(folder, faults, windows):
            _follow_catalogs(folder, ended)
            print(
                "The stand-ins are up, and the catalogs are followed. In another terminal:\n\n    cd"
                f" {shlex.quote(str(folder.resolve()))}"
            )
            for why, words, _ in (*READING, *TICKETS):
                line = " ".join({"{plan}": "PLAN", "{roll}": ""}.get(word, shlex.quote(word)) for word in words)
                print(f"    gallant {line.strip():<90} # {why}")
            speed = WEEK_SPEED if windows else SPEED
            print(f"\nTheir clock runs {speed:g} times as fast as yours. Ctrl-C ends them.", flush=True)
            while not ended.wait(1.0):
                pass
    finally:
        held.close()
    print("The stand-ins have ended.", flush=True)


def _follow_catalogs(folder: Path, ended: threading.Event) -> None:
    """What every other command rests on, done before anybody types one."""
    for _, words, _ in CATALOGS:
        command = [sys.executable, "-P", "-m", "gallant", *(_fill(word, folder) for word in words), "--quiet"]
        done = subprocess.run(command, cwd=folder, env=_environment(), capture_output=True, text=True, check=False)
        if ended.is_set():
            return
        if done.returncode:
            raise GallantError(f"gallant {shlex.join(words[:3])} failed: {done.stderr.strip()[:200]}")


def _environment() -> dict[str, str]:
    return {key: value for key, value in os.environ.items() if key != "GALLANT_ESTATE"}


@contextmanager
def _standins(folder: Path, faults: Sequence[Fault], windows: bool = False) -> Iterator[float]:
    """Up for as long as the block lasts; since when their clock runs, in seconds since 1970."""
    speed = WEEK_SPEED if windows else SPEED
    since = _on_a_monday(time.time(), speed) if windows else time.time()
    accounts = new_accounts()
    setup = {
        "speed": speed,
        "since": since,
        "accounts": accounts,
        "whole": True,
        "faults": to_json({"faults": list(faults)}).decode(),
    }
    with running(setup, folder / "standins.log") as said:
        furnish(folder, said, accounts, since, speed, whole=True, followed=True, windows=windows)
        # For a test or a curious person: the door behind the stage, where faults are switched on.
        (folder / "standins.json").write_text(json.dumps(said["control"]))
        yield since


def _on_a_monday(now: float, speed: float) -> float:
    """Since when a clock of that speed has to run so that it shows the next Monday afternoon now."""
    today = datetime.fromtimestamp(now, UTC)
    monday = today.replace(hour=15, minute=0, second=0, microsecond=0) + timedelta(days=7 - today.weekday())
    return now - (monday.timestamp() - now) / (speed - 1)


def _until_asked_to_end() -> threading.Event:
    """Set when somebody asks for the end: by ctrl-C, a polite kill, or by closing the terminal."""
    ended = threading.Event()
    for sign in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
        signal.signal(sign, lambda *_: ended.set())
    return ended


def _step(folder: Path, why: str, words: list[str], good: tuple[int, ...] | None) -> int:
    """Run one command as a person would; its exit code. An end that is not among `good` ends the demo (None: all
    are)."""
    bold, dim, off = (
        ("\x1b[1m", "\x1b[2m", "\x1b[0m") if sys.stdout.isatty() and "NO_COLOR" not in os.environ else ("", "", "")
    )
    print(f"\n{dim}# {why}{off}\n{bold}$ gallant {shlex.join(words)}{off}", flush=True)
    done = subprocess.run(
        [sys.executable, "-P", "-m", "gallant", *words],
        cwd=folder,
        env=_environment(),
        stdin=subprocess.DEVNULL,
        preexec_fn=die_with_parent,
        check=False,
    )
    if done.returncode:
        print(f"{dim}(exit code {done.returncode}){off}", flush=True)
    if good is not None and done.returncode not in good:
        raise GallantError(
            f"gallant {words[0]} ended with exit code {done.returncode}, which this demo did not expect.",
            next=f"What it made lies in {_shown(folder)}; gallant demo --serve lets you look.",
        )
    return done.returncode


def _fill(word: str, folder: Path) -> str:
    if word == "{plan}":
        return max((folder / "plans").glob("plan-*.json"), key=lambda p: p.stat().st_mtime).stem
    return "roll-0001" if word == "{roll}" else word


def _shown(folder: Path) -> str:
    return f"{folder}/"


def _folder_option(folder: Path) -> str:
    return "" if folder == Path("skerry-line") else f" --folder {shlex.quote(str(folder))}"
