"""Systemd units that have an estate looked after: what is due every minute, a survey and the publishers' catalogs by
the day (systemd.timer(5), systemd.service(5))."""

from __future__ import annotations

import re
from collections.abc import Sequence
from pathlib import Path

from gallant.core.errors import WrongUse
from gallant.core.records import Record
from gallant.operations.ground.secrets import TIMER
from gallant.operations.ground.workplace import ESTATE_FILE
from gallant.people import this_person

WHOSE = {"user": "~/.config/systemd/user", "system": "/etc/systemd/system"}
LOOKED_AT = "# 1 says that something is to be looked at.\nSuccessExitStatus=1\n"
# What is called: its words, how often, what it is, whether a run that was missed is made up for, and how its exit codes
# are taken. Of what is due 1 says that something was left, and the unit has failed.
CALLED = (
    (
        "due",
        "due",
        "*:*:00",
        "begins what is booked and due",
        False,
        "# A roll that was begun goes on when this ends.\n",
    ),
    ("survey", "survey", "*-*-* 05:30:00", "reads every node", True, LOOKED_AT),
    ("catalog-sync", "catalog sync", "*-*-* 05:00:00", "follows the publishers' catalogs", True, LOOKED_AT),
)


class UnitFile(Record):
    """One unit's file: where it goes, and its text."""

    file: str
    text: str


def units(folder: Path, whose: str, program: Sequence[str]) -> list[UnitFile]:
    """A service and a timer for each call. Raises `WrongUse` for a
    folder without an estate, or of which no unit can speak."""
    if not (folder / ESTATE_FILE).is_file():
        raise WrongUse(f"{folder} has no {ESTATE_FILE}.", next=f"gallant init {folder}")
    if not str(folder).isprintable() or str(folder).endswith("\\"):  # the next line would be its end
        raise WrongUse(f"{str(folder)!r} has signs in its name that no unit can hold.", next="Move the estate.")
    found = []
    for name, words, when, does, made_up, codes in CALLED:
        unit = f"gallant-{_slug(folder.name)}-{name}"
        found.append(
            UnitFile(file=f"{WHOSE[whose]}/{unit}.service", text=_service(folder, whose, program, words, does, codes))
        )
        found.append(UnitFile(file=f"{WHOSE[whose]}/{unit}.timer", text=_timer(when, does, made_up)))
    return found


def _slug(name: str) -> str:
    """A folder's name as part of a unit's, so that several estates are looked after side by side."""
    return re.sub(r"[^a-z0-9]+", "-", name.lower()).strip("-")[:40] or "estate"


def _service(folder: Path, whose: str, program: Sequence[str], words: str, does: str, codes: str) -> str:
    network = "Wants=network-online.target\nAfter=network-online.target\n" if whose == "system" else ""
    owner = f"User={this_person().account}\n" if whose == "system" else ""
    return f"""\
[Unit]
Description=Gallant {does} ({_plain(folder)})
{network}
[Service]
Type=oneshot
{owner}WorkingDirectory={_plain(folder)}
ExecStart={" ".join(map(_word, program))} {words} --quiet --estate {_word(str(folder))}
# Secrets that the estate has as env:NAME, a line NAME=value for each; the file is its owner's alone (chmod 600).
EnvironmentFile=-{_plain(folder)}/{TIMER}
{codes}KillMode=process
UMask=0077
"""


def _timer(when: str, does: str, made_up: bool) -> str:
    return f"""\
[Unit]
Description=When Gallant {does}

[Timer]
OnCalendar={when}
AccuracySec=1s
{"Persistent=yes" if made_up else "Persistent=no"}

[Install]
WantedBy=timers.target
"""


def _plain(path: Path) -> str:
    """A path where a whole line is one word: only specifiers mean something there."""
    return str(path).replace("%", "%%")


def _word(text: str) -> str:
    """One word of a command line (systemd.syntax(7), systemd.service(5) "Command lines")."""
    for sign, told in (("\\", "\\\\"), ('"', '\\"'), ("%", "%%"), ("$", "$$")):
        text = text.replace(sign, told)
    return f'"{text}"'
