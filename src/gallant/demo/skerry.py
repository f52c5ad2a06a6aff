"""Making the folder of the Skerry Line: an estate file with the stand-ins' addresses, accounts, the publisher's key."""

from __future__ import annotations

import fcntl
import os
import secrets
import shutil
from datetime import UTC, datetime
from pathlib import Path
from typing import TypeAlias

from gallant.core.errors import Refused
from gallant.core.records import rfc3339
from gallant.demo.standins import Said

MARKER = ".skerry-line"
SPEED = 240.0
WEEK_SPEED = 300.0  # a night of eight hours is a minute and a half, in which a slow machine begins five rolls too

ESTATE = """\
# The Skerry Line: a small ferry operator. Everything here is made up, and every machine is a stand-in on this computer.
gallant: estate/1
name: Skerry Line

# The stand-ins' clock runs this many times as fast as the one on the wall.
simulation: {{speed: {speed:g}, since: {since}}}

sites:
  harbour: {{mbit_per_s: 1000, time_zone: Europe/London, hands: yes}}
{more_sites}
# `read` is all that survey, inventory and gaps ever use; `act` is for what changes anything (check sees that it is let
# in).
accounts:
  read: {{user: gallant-read, secret: "file:secrets/read"}}
  act: {{user: gallant-act, secret: "file:secrets/act"}}

# Backups are encrypted for anyone who holds the identity. On a real host it lies elsewhere; here it is at hand to try.
backups:
  recipients: ["{recipient}"]
  identity: secrets/backups
  copies: [{{to: second-place}}]
  keep: {{last: 5, daily: 14, weekly: 8, before_update: 3}}

aims:
  - {{for: default, aim: settled 30d}}
  - {{for: tickets, aim: settled 90d}}
{more_aims}
# What may happen by itself: the first rule that matches decides; where none does, a notice asks.
rules:
  - {{security: no, restart: none, then: act}}
  - {{security: yes, severity: high+, then: ask}}

{catalogs}{rounds}{windows}# What the site itself knows, shown with the publisher's word.
notes:
  - about: ostrel/shoal 2.8.5 > 2.11.3
    text: "Ring the box office before b restarts: its printers hang on it."
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
        budget_s: 5
        read: {{send: "block 7\\n", expect: "block 7 [0-9a-f]{{64}}"}}
        unscaled: yes            # the moment in which it moves takes real time
"""


MORE_SITES = """\
  northpier: {mbit_per_s: 50, time_zone: Europe/London, hands: no}  # a terminal, nobody on site
  fulmar: {mbit_per_s: 2, time_zone: UTC, hands: no}     # a ship, on a satellite link
"""

ROUNDS = """\
# Many systems in one plan: the ship first, where a mistake hurts least; the rest when that is seen to be well.
rounds:
  - {name: ship, of: [fulmar-box], soak_minutes: 5}
  - {name: ashore, of: ["*"]}

"""

# When the line can be worked on: for the demo's week. At any other hour of a demo all of it may be.
WINDOWS = """\
# When systems may be disturbed; what does not fit into a window any more goes on in the next, by itself.
windows:
  - {for: site:harbour, days: [tue], from: "21:00", to: "05:00"}
  - {for: site:harbour, days: [sat], from: "20:00", to: "08:00"}
  - {for: site:northpier, days: [wed, sun], from: "21:00", to: "05:00"}
blackouts:
  - {for: site:fulmar, days: [daily], from: "06:00", to: "20:00", reason: passengers are on board}
due: {rests: yes}
limits: {lanes_at_once: 3}

"""

MORE_AIMS = """\
  - {for: kind:application, aim: newest}     # a channel says when it was made, not how long a package has been out
  - {for: tag:edge, aim: behind 1}           # firewalls run what others have run for a while
"""

# name: product, shape, site, kind, driver, profile, nodes, what it is, more lines
Row: TypeAlias = tuple[str, str, str, str, str, str, str, str, str, tuple[str, ...]]
SYSTEMS: tuple[Row, ...] = (
    ("slipway", "tarnholt/weir", "fabric", "harbour", "network", "netconf", "tarnholt-weir", "ab",
     "the switches that all of it hangs on", ("managed_by: overlook", "usual: {leader: a, member: b}")),
    ("overlook", "sundholm/overlook", "single", "harbour", "platform", "http", "sundholm-overlook", "a",
     "manages the switches, a guest of deck", ("uses: [deck]",)),
    ("deck", "sundholm/berth", "quorum", "harbour", "platform", "http", "sundholm-berth", "abcde",
     "hosts that carry the rest", ("uses: [slipway]", "usual: {leader: a}")),
    ("deck-hw", "quernix/q4", "pool", "harbour", "hardware", "redfish", "quernix-q4", "abcde",
     "the servers that deck runs on", ()),
    ("tidegauge", "ostrel/ledge", "quorum", "northpier", "storage", "http", "ostrel-ledge", "abc",
     "what the buoys and gauges say", ()),
    ("sealock", "gorsefield/stile", "pair", "harbour", "network", "shell", "gorsefield-stile", "ab", "the firewalls",
     ("tags: [edge]", "usual: {active: a, standby: b}",
      'accounts: {elevate: {user: master, secret: "file:secrets/master"}}')),
    ("gates", "skerry/host", "single", "northpier", "application", "debian", "chorister-kissgate", "a",
     "opens the gates to people with a ticket", ("uses: [tickets]",)),
    ("manifest", "skerry/host", "single", "harbour", "application", "debian", "skerry-manifest", "a", "who is on board",
     ("uses: [tickets]",)),
    ("fulmar-box", "ostrel/shoal-mini", "single", "fulmar", "storage", "http", "ostrel-shoal-mini", "a",
     "what the ship keeps of the tickets while it is at sea", ()),
)  # fmt: skip
RUNS_ON = {**{f"deck/{n}": f"deck-hw/{n}" for n in "abcde"}, "overlook/a": "deck/a"}


def _system(row: Row, nodes: dict[str, dict[str, str]]) -> str:
    name, product, shape, site, kind, driver, profile, members, what, more = row
    lines = [
        f"  {name}:{' ' * max(1, 29 - len(name))}# {what}",
        f"    product: {product}",
        *(
            f"    {key}: {value}"
            for key, value in (
                ("shape", shape),
                ("site", site),
                ("kind", kind),
                ("driver", driver),
                ("profile", profile),
            )
        ),
        "    nodes:",
    ]
    for member in members:
        said = nodes[f"{name}/{member}"]
        below = RUNS_ON.get(f"{name}/{member}")
        lines.append(
            f'      {member}: {{address: "{said["address"]}", serial: {said["serial"]}, fingerprint:'
            f' "{said["fingerprint"]}"' + (f", runs_on: {below}" if below else "") + "}"
        )
    return "\n".join([*lines, *(f"    {line}" for line in more)]) + "\n"


def new_accounts() -> dict[str, str]:
    return {user: secrets.token_urlsafe(18) for user in ("gallant-read", "gallant-act", "master")}


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
    path: Path,
    said: Said,
    accounts: dict[str, str],
    since: float,
    speed: float = SPEED,
    whole: bool = False,
    followed: bool = False,
    windows: bool = False,
) -> None:
    """Write estate.yaml, the secrets (mode 600) and the publishers' keys; `whole` is every system of the line,
    `followed` declares the publishers' catalogs, `windows` when they may be worked on."""
    from pyrage import x25519

    nodes, identity = said["nodes"], x25519.Identity.generate()
    text = ESTATE.format(
        speed=speed,
        since=rfc3339(datetime.fromtimestamp(since, UTC)),
        a=nodes["tickets/a"],
        b=nodes["tickets/b"],
        blocks=said["services"]["blocks"],
        recipient=identity.to_public(),
        more_sites=MORE_SITES if whole else "",
        rounds=ROUNDS if whole else "",
        catalogs=_catalogs(said) if followed else "",
        windows=WINDOWS if windows else "",
        more_aims=MORE_AIMS if whole else "",
    )
    text += "".join(_system(row, nodes) for row in SYSTEMS) if whole else ""
    (path / "estate.yaml").write_text(text, "utf-8")
    for user, secret in accounts.items():
        _write_private(path / "secrets" / user.removeprefix("gallant-"), secret)
    _write_private(path / "secrets" / "backups", f"{identity}\n")
    (path / "keys").mkdir(exist_ok=True)
    keys = {"ostrel": said["publisher"]["key"]}
    keys |= {name: publisher["key"] for name, publisher in said.get("publishers", {}).items()}
    keys |= {"debian": said["channel"]["key"]} if "channel" in said else {}
    for name, key in keys.items():
        (path / "keys" / f"{name}.pub").write_text(key.strip() + "\n", "utf-8")


def sources_of(said: Said) -> dict[str, str]:
    """Where each publisher's catalog comes from."""
    sources = {"ostrel": str(said["publisher"]["url"])}
    sources |= {name: str(publisher["url"]) for name, publisher in said.get("publishers", {}).items()}
    return sources | ({"debian": str(said["channel"]["source"])} if "channel" in said else {})


def _catalogs(said: Said) -> str:
    rows = [f'  {name}: {{from: "{source}", key: keys/{name}.pub}}' for name, source in sources_of(said).items()]
    head = (
        "# The publishers' catalogs, and the keys that they are signed with: gallant catalog sync follows"
        " them.\ncatalogs:\n"
    )
    return head + "\n".join(rows) + "\n\n"


def _write_private(path: Path, text: str) -> None:
    path.parent.mkdir(mode=0o700, exist_ok=True)
    with os.fdopen(os.open(path, os.O_CREAT | os.O_WRONLY | os.O_TRUNC, 0o600), "w") as file:
        file.write(text)
