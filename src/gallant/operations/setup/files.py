"""Gallant's own files: validating any of them, and writing a first estate.yaml."""

from __future__ import annotations

import contextlib
import re
from collections.abc import Callable
from pathlib import Path
from typing import TypeVar

import msgspec

from gallant.core.catalog.products import Catalog
from gallant.core.documents import LARGEST_BYTES, Document, Invalid, Problem, document_of, suggestion
from gallant.core.errors import GallantError, Refused, WrongUse
from gallant.core.estate.backups import Backup
from gallant.core.estate.gathering import LISTS, MAPPINGS
from gallant.core.estate.reading import parse_estate
from gallant.core.records import Record
from gallant.core.work.plan import Plan
from gallant.disk import make_folder, put_whole, why_not
from gallant.operations.ground.opening import Files

LARGE = 1024 * 1024  # a file of such a size is a machine's: JSON, of more values than people write


class Validated(Record):
    """One file: what kind it is, and everything that is wrong with it, as file:line:column: message.

    `gives` are the capabilities that a profile gives its devices, its driver's own included.
    """

    file: str
    kind: str
    problems: tuple[str, ...]
    gives: tuple[str, ...] = ()


Source = bytes | Document  # what stands in a file: as a machine wrote it, or read already with its places


def _estate(name: str, source: Source) -> None:
    from gallant.operations.ground.calendars import with_calendars

    estate = parse_estate(name, source, Files(Path(name).parent))
    try:
        with_calendars(estate, Path(name).parent)
    except WrongUse as error:
        raise Invalid(name, [Problem(1, 1, error.what)]) from None


def _profile(name: str, source: Source) -> None:
    from gallant.drivers.profile_reading import parse_profile

    parse_profile(name, source)


def _scenario(name: str, source: Source) -> None:
    from gallant.standin.scenario import faults_from

    faults_from(source, name)


T = TypeVar("T")


def _record(kind: type[Record]) -> Callable[[str, Source], None]:
    def look(name: str, source: Source) -> None:
        found = _a_machines(source, kind) if isinstance(source, bytes) else None
        if found is None:
            document = document_of(name, source)
            found = document.convert(kind)
            document.finish()
        if isinstance(found, Plan) and not found.is_whole:
            raise Invalid(name, [Problem(1, 1, "the content is no longer what its id says; a plan is never edited")])

    return look


KINDS: dict[str, Callable[[str, Source], None]] = {
    "estate/1": _estate,
    "profile/1": _profile,
    "scenario": _scenario,
    "gallant.plan/1": _record(Plan),
    "gallant.catalog/1": _record(Catalog),
    "gallant.backup/1": _record(Backup),
}


def validate(paths: list[Path]) -> list[Validated]:
    """Every file looked at, those with problems first."""
    rows = []
    for path in paths:
        try:
            with path.open("rb") as file:
                raw = file.read(LARGEST_BYTES + 1)
        except OSError as error:
            rows.append(
                Validated(file=str(path), kind="unknown", problems=(f"{path}: cannot be read: {error.strerror}",))
            )
            continue
        rows.append(_one(str(path), raw))
    rows.sort(key=lambda r: not r.problems)
    return rows


def _a_machines(raw: bytes, kind: type[T]) -> T | None:
    """What a large file holds, where it is right JSON of this kind; None where its places have to be looked at."""
    if len(raw) > LARGE:
        with contextlib.suppress(msgspec.MsgspecError, ValueError, RecursionError):
            return msgspec.json.decode(raw, type=kind)
    return None


def _one(name: str, raw: bytes) -> Validated:
    kind = "unknown"
    try:
        values: object = _a_machines(raw, dict)
        source: Source = raw
        if not values:
            source = Document(name, raw)
            values = source.values
        said = values.get("gallant") or values.get("schema") if isinstance(values, dict) else None
        kind = "scenario" if said is None and isinstance(values, dict) and set(values) == {"faults"} else str(said)
        if kind not in KINDS:
            raise Invalid(name, [Problem(1, 1, _no_kind(values, kind))])
        KINDS[kind](name, source)
        if kind == "estate/1":
            _profiles_of(name, source)
    except Invalid as invalid:
        return Validated(file=name, kind=kind, problems=tuple(invalid.lines))
    return Validated(file=name, kind=kind, problems=(), gives=_gives(name, raw) if kind == "profile/1" else ())


def _no_kind(values: object, kind: str) -> str:
    if isinstance(values, dict) and values and set(values) <= {*LISTS, *MAPPINGS}:
        return "a part of an estate; it is looked at with the file that includes it: gallant validate estate.yaml"
    return (
        "no kind of Gallant file: it begins with neither gallant: nor schema: of"
        f" {', '.join(KINDS)}{suggestion(kind, list(KINDS))}"
    )


def _profiles_of(name: str, source: Source) -> None:
    """Raise `Invalid` for every system whose profile is not there, or
    is not right; a profile's own file has its own place in it."""
    from gallant.drivers.profile_reading import load_profile

    document = document_of(name, source)
    folder = Path(name).resolve().parent
    for system in parse_estate(name, source, Files(Path(name).parent)).systems.values():
        try:
            load_profile(system.profile, folder)
        except Invalid as error:
            document.at(("systems", system.name, "profile"), f"{system.profile} is not right: {error.lines[0]}")
        except GallantError as error:
            document.at(("systems", system.name, "profile"), f"profile: {error.what.rstrip('.')}")
    document.finish()


class DeviceKind(Record):
    """A kind of device that a built-in profile knows."""

    profile: str
    driver: str
    product: str
    gives: tuple[str, ...]


def kinds() -> list[DeviceKind]:
    """The built-in profiles, by name."""
    from importlib import resources

    from gallant.drivers.profile_reading import load_profile
    from gallant.operations.ground.workplace import knows_of

    there = resources.files("gallant.drivers") / "profiles"
    names = sorted(p.name.removesuffix(".yaml") for p in there.iterdir() if p.name.endswith(".yaml"))
    every = [load_profile(name, Path()) for name in names]
    return [
        DeviceKind(profile=p.name, driver=p.driver, product=p.product, gives=tuple(sorted(knows_of(p).capabilities)))
        for p in every
    ]


def _gives(name: str, raw: bytes) -> tuple[str, ...]:
    from gallant.drivers.profile_reading import parse_profile
    from gallant.operations.ground.workplace import knows_of

    return tuple(sorted(knows_of(parse_profile(name, raw)).capabilities))


TEMPLATE = """\
# What this administrator looks after. Check it with: gallant validate estate.yaml
gallant: estate/1
name: {name}

# Places: the speed of the link to them, their time zone, and whether anybody is there to press a button.
sites:
  machine-room: {{mbit_per_s: 1000, time_zone: UTC, hands: yes}}

# Accounts by purpose. `read` is all that survey, inventory and gaps ever use; `act` is for what changes anything
# (check sees that it is let in).
# A secret never stands here. Write where it is kept:
#   env:NAME  |  file:PATH (mode 600)  |  keyring:SERVICE  |  ask (typed, for this run only)
# What is booked begins by itself, when nobody is there to type: it needs file:, or env: with secrets/timer.env beside a
# timer.
accounts:
  read: {{user: gallant-read, secret: "keyring:gallant-read"}}
  act: {{user: gallant-act, secret: ask}}

# Which release systems should run. The most specific wins: SYSTEM:COMPONENT, node, system, tag:, kind:, site:, default.
#   newest  |  settled 30d (out for so long)  |  behind 1  |  train 3.2  |  after 3 in train  |  security  |  pin 3.2.4
#   bundle NAME (validated together)
aims:
  - {{for: default, aim: settled 30d}}
  - {{for: kind:host, aim: newest}}     # packages: a channel says when it was made, not how long each has been out

# What may happen by itself: the first rule that matches decides (act, ask or leave); where none does, a notice asks.
rules:
  - {{security: yes, severity: high+, restart: none, then: ask}}

# The publishers' catalogs that are followed, and the keys that they are signed with; gallant catalog sync fetches them.
# catalogs:
#   ostrel: {{from: "https://updates.ostrel.example/catalog.json", key: keys/ostrel.pub}}

# When systems may be disturbed, in the time of their site, and when nothing is: gallant windows shows it.
# windows:
#   - {{for: site:machine-room, days: [tue, sat], from: "22:00", to: "04:00"}}
# blackouts:
#   - {{for: "*", date: 2026-12-24, until: 2026-12-26, reason: holidays}}

# What many systems have, where they say nothing else (site:, tag:, kind: or *); and more files, as if they stood in
# here.
# defaults:
#   - {{for: kind:storage, driver: http, profile: ostrel-shoal}}
# include: [systems/*.yaml]

# What you know yourselves, shown with the publisher's word: about a system, a product, a release or a hop.
# notes:
#   - {{about: ostrel/shoal 2.8.5 > 2.11.3, text: "ring the box office before b restarts", by: anna}}

# Who can open the backups (gallant init --identity FILE makes a key), where their copies go, how many are kept.
# backups:
#   recipients: ["age1…"]
#   copies:
#     - {{to: /mnt/second/backups}}
#     - {{to: "sftp://keeper.example/backups", account: {{user: gallant, secret: "key:keys/keeper"}}}}
#   keep: {{last: 5, daily: 14, weekly: 8, before_update: 3}}

# Where each decision is told as it is written into the ledger: a syslog collector, or a file.
# events: [{{to: "tcp://logs.example:601"}}, {{to: told.jsonl}}]

# How many others have to approve a plan with a system of a tag before it is begun.
# approval: {{prod: 1}}

# Who is told when a roll is held, stopped or finished, or something booked was left; gallant check --notify tries them.
notify:
  - {{run: logger -t gallant -p user.err, when: [held, stopped]}}     # this host's journal: journalctl -t gallant
#   - {{run: /usr/local/bin/page-me}}                  # gets the message as JSON on its input
#   - {{when: [stopped], webhook: "https://chat.example/in", account: {{user: gallant, secret: "env:CHAT_TOKEN"}}}}
#   - {{mail: {{to: [night@line.example], from: gallant@line.example, server: "mail.example:587"}}}}

limits:
  at_once: 32             # nodes contacted at the same time
  backup_age_hours: 24    # a backup older than this is not a way back
  clock_offset_s: 5
  steady_s: 60            # how long all must be well before the next node
  ceiling_percent: 80     # how full those that stay may get while others are away
  # width: 4              # nodes of one system that may be away at once at most
  # lanes_at_once: 6      # systems of one roll that are worked on at once; also lanes_at_once_per_site, …_per_kind

# A roll over many systems in rounds: the next begins when the former has ended, has soaked and is well.
# rounds:
#   - {{name: first, of: [example-store], soak_minutes: 60}}
#   - {{name: rest, of: ["*"]}}

# Systems and their nodes. Names are yours; the serial is how Gallant knows that it speaks to the right machine. A
# device writes itself in here: gallant add ADDRESS --as NAME. One of your own hand looks like this:
#   example-store:
#     product: ostrel/shoal
#     shape: pair             # single, pair, fabric, pairs, quorum, pool
#     site: machine-room
#     kind: storage
#     tags: [prod]
#     driver: http
#     profile: ostrel-shoal   # a built-in profile, or the path of your own YAML file
#     nodes:
#       # Pin the node's certificate (the refusal shows the line to add) or name a CA file. domain: rack-1 says what
#       # fails together with it; nodes of two domains are never away at once.
#       a: {{address: "https://store-a.example:443", serial: SERIAL-OF-A, ca: ca.pem}}
#       b: {{address: "https://store-b.example:443", serial: SERIAL-OF-B, ca: ca.pem}}
#     usual: {{active: a, standby: b}}
#     # quiet: {{within_minutes: 20, then: hold}}   # how long a node's sessions are waited for before it is disturbed
#     # in_service: no        # a rack being prepared: nobody depends on it, so all of it may be updated at once
#     # Addresses that users depend on; they are probed all through the work.
#     services:
#       blocks: {{address: "store.example:860", budget_s: 5}}     # out for longer at a time, and the work holds
#       # Another way to ask than a connect: read, tls, http, dns, ntp, ping, run (docs/rolling.md, The watch).
#       # portal: {{address: "portal.example:443", http: {{path: /health, well: "state == 'ok'"}}}}
systems:
"""


def init(folder: Path, group: int | None = None) -> Path:
    """A new estate folder with a commented estate.yaml, for whoever makes it alone or
    for a group, by its number; raises `Refused` when there is one already."""
    path = folder / "estate.yaml"
    if path.exists():
        raise Refused(f"{path} is there already; it is not overwritten.", next=f"gallant validate {path}")
    try:
        if group is None:
            make_folder(folder)
        else:
            from gallant.operations.ground.sharing import begin_for_group

            begin_for_group(folder, group)
        put_whole(path, TEMPLATE.format(name=msgspec.json.encode(folder.resolve().name).decode()).encode())
    except OSError as error:
        raise GallantError(f"{path} cannot be written: {why_not(error, path)}.") from None
    return path


def sudoers(user: str, profile: str | None = None) -> str:
    """What a Linux host's administrator lets Gallant's account do, as a sudoers file; raises `WrongUse` for no name.

    `profile` is a built-in one or a file, whose own commands are let too.
    """
    from gallant.drivers.debian import sudoers as lines
    from gallant.drivers.profile_reading import load_profile

    if not re.fullmatch(r"[a-z_][a-z0-9_-]{0,31}", user):
        raise WrongUse(f"{user!r} is not the name of an account.", next="gallant init --sudoers gallant")
    return lines(user, load_profile(profile, Path()) if profile is not None else None)
