"""The tour: the real commands, each shown as a person would type it, with its real output."""

from __future__ import annotations

import json
import os
import shlex
import signal
import subprocess
import sys
import threading
import time
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from gallant.core.errors import GallantError
from gallant.core.records import to_json
from gallant.demo.skerry import SPEED, Folder, furnish, new_accounts
from gallant.demo.standins import die_with_parent, running
from gallant.standin.scenario import FAULTS, SCENARIOS, scenario
from gallant.standin.world import Fault

# Each step: a sentence that says why, the command, and the exit codes that are as they should be.
STEPS: tuple[tuple[str, tuple[str, ...], tuple[int, ...]], ...] = (
    ("Read the nodes, and keep what they say.", ("survey",), (0,)),
    ("What runs where.", ("inventory",), (0,)),
    (
        "Follow the publisher's catalog; its key is pinned from now on.",
        ("catalog", "add", "ostrel", "{source}", "--key", "keys/ostrel.pub"),
        (0,),
    ),
    *(
        ("And the others'.", ("catalog", "add", name, f"{{source {name}}}", "--key", f"keys/{name}.pub"), (0,))
        for name in ("chorister", "gorsefield", "quernix", "skerry", "sundholm", "tarnholt", "debian")
    ),
    ("Fetch them, and verify them before believing them.", ("catalog", "sync"), (0,)),
    ("What should run, and what does.", ("gaps",), (1,)),
    ("The way there, and why not a shorter one.", ("route", "tickets"), (0,)),
    ("What a release brings, before anybody decides on it.", ("catalog", "show", "ostrel/shoal", "3.2.4"), (0,)),
    ("Which gaps wait for a decision.", ("notice", "list"), (1,)),
    (
        "It shall be done; the publisher's terms were read above.",
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


def faults(name: str | None) -> list[Fault]:
    """The faults of a scenario; none without one."""
    return [] if name is None else scenario(name)


def scenarios() -> str:
    """The built-in scenarios, one line each."""
    return "\n".join(
        f"{name:<20} {FAULTS[name].replace('`value`', f'{fault.value:g}')}, at {fault.node or 'every node'}"
        for name, fault in SCENARIOS.items()
    )


def tour(folder: Path, faults: Sequence[Fault] = ()) -> None:
    """Make the folder, start the stand-ins, run every step, say where to look next.

    With faults, steps may end otherwise than well; the tour then shows what a person would look at, and ends.
    """
    began = time.monotonic()
    held = Folder(folder)
    try:
        with _standins(folder, faults) as said:
            for why, words, good in STEPS:
                code = _step(folder, why, [_fill(word, folder, said) for word in words], None if faults else good)
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


def serve(folder: Path, faults: Sequence[Fault] = ()) -> None:
    """Make the folder, start the stand-ins, and keep them up until ctrl-C."""
    held = Folder(folder)
    try:
        with _standins(folder, faults) as said:
            print(f"The stand-ins are up. In another terminal:\n\n    cd {shlex.quote(str(folder.resolve()))}")
            for why, words, _ in STEPS:
                line = " ".join(
                    _fill(word, folder, said)
                    if word.startswith("{source") and "debian" not in word
                    else shlex.quote(_fill(word, folder, said))
                    if word.startswith("{source")
                    else {"{plan}": "PLAN", "{roll}": ""}.get(word, shlex.quote(word))
                    for word in words
                )
                print(f"    gallant {line.strip():<90} # {why}")
            print("\nTheir clock runs 240 times as fast as yours. Ctrl-C ends them.", flush=True)
            _wait_for_end()
    finally:
        held.close()
    print("The stand-ins have ended.", flush=True)


def _standins(folder: Path, faults: Sequence[Fault]) -> Any:
    from contextlib import contextmanager

    @contextmanager
    def both() -> Any:
        since, accounts = time.time(), new_accounts()
        setup = {
            "speed": SPEED,
            "since": since,
            "accounts": accounts,
            "whole": True,
            "faults": to_json({"faults": list(faults)}).decode(),
        }
        with running(setup, folder / "standins.log") as said:
            furnish(folder, said, accounts, since, whole=True)
            # For a test or a curious person: the door behind the stage, where faults are switched on.
            (folder / "standins.json").write_text(json.dumps(said["control"]))
            yield said

    return both()


def _wait_for_end() -> None:
    ended = threading.Event()
    for sign in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
        signal.signal(sign, lambda *_: ended.set())
    while not ended.wait(1.0):
        pass


def _step(folder: Path, why: str, words: list[str], good: tuple[int, ...] | None) -> int:
    """Run one command as a person would; its exit code. An end that is not among `good` ends the demo (None: all are)."""
    bold, dim, off = (
        ("\x1b[1m", "\x1b[2m", "\x1b[0m") if sys.stdout.isatty() and "NO_COLOR" not in os.environ else ("", "", "")
    )
    print(f"\n{dim}# {why}{off}\n{bold}$ gallant {shlex.join(words)}{off}", flush=True)
    environment = {key: value for key, value in os.environ.items() if key != "GALLANT_ESTATE"}
    done = subprocess.run(
        [sys.executable, "-m", "gallant", *words],
        cwd=folder,
        env=environment,
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


def _fill(word: str, folder: Path, said: dict[str, Any]) -> str:
    if word.startswith("{source"):
        name = word.strip("{}").partition(" ")[2]
        if name == "debian":
            return str(said["channel"]["source"])
        return str((said["publishers"][name] if name else said["publisher"])["url"])
    if word == "{plan}":
        return max((folder / "plans").glob("plan-*.json"), key=lambda p: p.stat().st_mtime).stem
    return "roll-0001" if word == "{roll}" else word


def _shown(folder: Path) -> str:
    return f"{folder}/"


def _folder_option(folder: Path) -> str:
    return "" if folder == Path("skerry-line") else f" --folder {shlex.quote(str(folder))}"
