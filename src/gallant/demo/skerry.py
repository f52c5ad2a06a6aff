"""Making the folder of the Skerry Line: an estate file with the stand-ins' addresses, accounts, the publisher's key."""

from __future__ import annotations

import fcntl
import os
import secrets
import shutil
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from gallant.core.errors import Refused
from gallant.core.records import rfc3339

MARKER = ".skerry-line"
SPEED = 240.0

ESTATE = """\
# The Skerry Line: a small ferry operator. Everything here is made up, and every machine is a stand-in on this computer.
gallant: estate/1
name: Skerry Line

# The stand-ins' clock runs this many times as fast as the one on the wall.
simulation: {{speed: {speed:g}, since: {since}}}

sites:
  harbour: {{mbit_per_s: 1000, time_zone: Europe/London, hands: yes}}
{ship}
# `read` is all that survey, gaps and check ever use; `act` is used by roll.
accounts:
  read: {{user: gallant-read, secret: "file:secrets/read"}}
  act: {{user: gallant-act, secret: "file:secrets/act"}}

aims:
  - {{for: default, aim: settled 30d}}
  - {{for: tickets, aim: settled 90d}}

# What may happen by itself: the first rule that matches decides; where none does, a notice asks.
rules:
  - {{kind: reference data, restart: none, then: act}}
  - {{security: yes, severity: high+, then: ask}}

# What the site itself knows, shown beside the publisher's word.
notes:
  - about: ostrel/shoal 2.8.5 > 2.11.3
    text: "Last time b kept a lock file of its console; it had to go first."
    by: anna
    date: 2026-03-14T00:00:00Z

systems:
  tickets:                       # where every sold ticket is kept
    product: ostrel/shoal
    shape: pair
    site: harbour
    kind: storage
    tags: [prod]
    driver: http
    profile: ostrel-shoal
    nodes:
      a: {{address: "{a[address]}", serial: {a[serial]}, fingerprint: "{a[fingerprint]}"}}
      b: {{address: "{b[address]}", serial: {b[serial]}, fingerprint: "{b[fingerprint]}"}}
    usual: {{active: a, standby: b}}
    services:
      blocks:
        address: "{blocks}"
        read: {{send: "block 7\\n", expect: "block 7 [0-9a-f]{{64}}"}}
        unscaled: yes            # the moment in which it moves takes real time
"""


SHIP_SITE = """\
  fulmar: {mbit_per_s: 2, time_zone: UTC, hands: no}     # a ship, on a satellite link
"""
SHIP = """\
  fulmar-box:                    # what the ship keeps of the tickets while it is at sea
    product: ostrel/shoal-mini
    shape: single
    site: fulmar
    kind: storage
    driver: http
    profile: ostrel-shoal-mini
    nodes:
      a: {{address: "{a[address]}", serial: {a[serial]}, fingerprint: "{a[fingerprint]}"}}
"""


def new_accounts() -> dict[str, str]:
    return {"gallant-read": secrets.token_urlsafe(18), "gallant-act": secrets.token_urlsafe(18)}


class Folder:
    """The demo's folder, locked for as long as a demo uses it."""

    def __init__(self, path: Path) -> None:
        self.path = path
        marker = path / MARKER
        if path.exists() and not marker.is_file() and (not path.is_dir() or any(path.iterdir())):
            raise Refused(
                f"{path} is there and is not a demo's; it is left as it is.",
                next=f"gallant demo --folder OTHER, or move {path} away.",
            )
        path.mkdir(parents=True, exist_ok=True)
        self._lock = os.open(marker, os.O_CREAT | os.O_RDWR, 0o600)
        try:
            fcntl.flock(self._lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            os.close(self._lock)
            raise Refused(
                f"Another demo is running in {path}.", next="End it, or: gallant demo --folder OTHER"
            ) from None
        for old in path.iterdir():
            if old.name == MARKER:
                continue
            shutil.rmtree(old) if old.is_dir() and not old.is_symlink() else old.unlink()

    def close(self) -> None:
        os.close(self._lock)


def furnish(
    path: Path, said: dict[str, Any], accounts: dict[str, str], since: float, speed: float = SPEED, ship: bool = False
) -> None:
    """Write estate.yaml, the secrets (mode 600) and the publisher's key; with `ship`, her box is in the estate too."""
    nodes = said["nodes"]
    text = ESTATE.format(
        speed=speed,
        since=rfc3339(datetime.fromtimestamp(since, UTC)),
        a=nodes["tickets/a"],
        b=nodes["tickets/b"],
        blocks=said["services"]["blocks"],
        ship=SHIP_SITE if ship else "",
    )
    text += SHIP.format(a=nodes["fulmar-box/a"]) if ship else ""
    (path / "estate.yaml").write_text(text, "utf-8")
    for user, secret in accounts.items():
        _write_private(path / "secrets" / user.removeprefix("gallant-"), secret)
    (path / "keys").mkdir(exist_ok=True)
    (path / "keys" / "ostrel.pub").write_text(said["publisher"]["key"] + "\n", "utf-8")


def _write_private(path: Path, text: str) -> None:
    path.parent.mkdir(mode=0o700, exist_ok=True)
    with os.fdopen(os.open(path, os.O_CREAT | os.O_WRONLY | os.O_TRUNC, 0o600), "w") as file:
        file.write(text)
