"""Sites, systems, nodes: what one administrator looks after, as records; `reading.py` makes them from a file."""

from __future__ import annotations

import re
from functools import cached_property
from typing import Annotated, Literal
from urllib.parse import urlsplit

import msgspec

from gallant.core.errors import WrongUse
from gallant.core.estate.accounts import Account
from gallant.core.estate.aims import parse_aim, subject_of
from gallant.core.estate.backups import Keep
from gallant.core.estate.places import secretless_in
from gallant.core.estate.rules import ActRule
from gallant.core.estate.services import Service
from gallant.core.estate.told import EventPlace, NotifyPlace
from gallant.core.records import Moment, Record
from gallant.core.terms import NAME, Term, parse_term
from gallant.core.windows.rules import WindowRule

DRIVERS = ("http", "redfish", "netconf", "shell", "debian", "manual")
# The profile of a system that names none, by its driver: what any device that speaks the protocol can be asked for.
GENERIC_PROFILES = {
    "redfish": "redfish",
    "netconf": "netconf",
    "shell": "linux",
    "debian": "debian",
    "manual": "by-hand",
}
# How a node's address begins: by network, on this very host, or in a person's hands.
SCHEMES = ("https", "ssh", "local", "hands")
_NAME = re.compile(r"[a-z0-9][a-z0-9._-]{0,62}", re.ASCII)
FINGERPRINT = re.compile(r"sha256:[0-9a-f]{64}|sha256:[0-9a-f]{2}(?::[0-9a-f]{2}){31}", re.ASCII)
HOST_KEY = re.compile(r"SHA256:[A-Za-z0-9+/]{43}=?", re.ASCII)


def name_problem(name: str) -> str | None:
    """What is wrong with a name; None where nothing is."""
    if _NAME.fullmatch(name):
        return None
    return f"{name!r} is not a name: small letters, digits, dot, dash and underscore, from a letter or digit on"


class Node(Record):
    """One member of a system, at its own address, known by its serial (empty: by the one that it says at first sight,
    see core/estate/pins.py; `held_by` says whose word it is: the file's, the first sight's, or a person's who confirmed
    that); `console` is another way in, should it not come back. `domain` is what fails together with it (a rack, a
    power feed): nodes of two of them are never worked on at once."""

    address: str
    serial: str = ""
    fingerprint: str | None = None
    ca: str | None = None
    runs_on: str | None = None
    console: str | None = None
    domain: str | None = None
    held_by: Literal["file", "sight", "person"] = "file"

    def __post_init__(self) -> None:
        parts = secretless_in("address", self.address)
        if self.console is not None and "@" in self.console:
            secretless_in("console", self.console if "//" in self.console else f"//{self.console}")
        if parts.scheme not in SCHEMES or not (parts.hostname or parts.scheme in ("local", "hands")):
            raise ValueError(
                "address: write https://HOST[:PORT] or ssh://HOST[:PORT], local: or hands:; what is said to a device is"
                " never sent in clear"
            )
        if self.fingerprint is None:
            return
        if parts.scheme == "ssh" and not HOST_KEY.fullmatch(self.fingerprint):
            raise ValueError("fingerprint: write SHA256: and what ssh-keygen -lf shows of the host key")
        if parts.scheme != "ssh" and not FINGERPRINT.fullmatch(self.fingerprint.lower()):
            raise ValueError("fingerprint: write sha256: and 64 hexadecimal digits")

    @property
    def host(self) -> str:
        """The host of its address."""
        return urlsplit(self.address).hostname or ""

    @property
    def port(self) -> int | None:
        """The port of its address; None where it names none."""
        return urlsplit(self.address).port

    @property
    def by_hand(self) -> bool:
        """Whether nothing is sent to it over any network."""
        return urlsplit(self.address).scheme == "hands"


class Site(Record):
    """A place: its link, how much of it Gallant may fill with packages, its time zone, and whether anybody is there."""

    mbit_per_s: float | None = None
    preload_mbit_per_s: Annotated[float, msgspec.Meta(gt=0)] | None = None
    time_zone: str = "UTC"
    hands: bool = True

    @property
    def sends_mbit_per_s(self) -> float | None:
        """How fast a package goes there: what the link can take, or what may be filled of it."""
        return min((rate for rate in (self.mbit_per_s, self.preload_mbit_per_s) if rate is not None), default=None)


class Quiet(Record):
    """How long work waits for a node's sessions to go before it is disturbed: until no more than `sessions` are open,
    for at most `within_minutes`; `then` the lane holds, or goes on all the same."""

    within_minutes: Annotated[float, msgspec.Meta(gt=0, le=24 * 60)]
    sessions: Annotated[int, msgspec.Meta(ge=0)] = 0
    then: Literal["hold", "go-on"] = "hold"


class System(Record):
    """What is updated as one. `usual` says which node has which role when
    all is well; `quiet` how long its sessions are waited for.

    `managed_by` is the system that manages this one; `delivery` the path by which packages reach it, where a publisher
    makes one release in several forms. `new_settings`: what a plan does about settings that a release has for the first
    time: tell them, or have somebody look at them before it goes on.
    """

    product: str
    shape: str
    site: str
    driver: str
    nodes: dict[str, Node]
    profile: str = ""
    name: str = ""
    kind: str = ""
    tags: tuple[str, ...] = ()
    services: dict[str, Service] = {}
    uses: tuple[str, ...] = ()
    managed_by: str | None = None
    delivery: str | None = None
    usual: dict[str, str] = {}
    accounts: dict[str, Account] = {}
    in_service: bool = True
    quiet: Quiet | None = None
    new_settings: Literal["tell", "look"] = "tell"


class NodeDefault(Record):
    """What the nodes of some systems have, where they say nothing else."""

    ca: str | None = None
    domain: str | None = None


class Default(Record, rename={"for_": "for"}):
    """What systems have, where they say nothing else: those `for` which all terms hold (`site:`, `tag:`, `kind:`, or
    `*`: all). Of several the first that has a word on it counts."""

    for_: str
    product: str | None = None
    shape: str | None = None
    site: str | None = None
    driver: str | None = None
    profile: str | None = None
    kind: str | None = None
    tags: tuple[str, ...] = ()
    delivery: str | None = None
    managed_by: str | None = None
    uses: tuple[str, ...] = ()
    accounts: dict[str, Account] = {}
    quiet: Quiet | None = None
    new_settings: Literal["tell", "look"] | None = None
    node: NodeDefault = NodeDefault()
    known: bool = True

    def __post_init__(self) -> None:
        for term in self.for_.split():
            if parse_term(term).key == NAME:
                raise ValueError(f"for: {term}: write *, site:NAME, tag:NAME or kind:NAME")


class Aim(Record, rename={"for_": "for"}):
    """The rule that says which release the systems it is `for` should run. `known: no`: it is for systems to come."""

    for_: str
    aim: str
    known: bool = True

    def __post_init__(self) -> None:
        parse_aim(self.aim)


class Declared(Record):
    """What a product that Gallant does not read runs, as a named
    person says on a day; requirements are held against it."""

    version: str
    by: str
    date: Moment


class Note(Record):
    """What the site itself knows, and wants to see with the publisher's word at the right moment.

    `about` is a system, a product, a release (`ostrel/shoal 3.2.4`) or a hop (`ostrel/shoal 2.11.3 > 3.2.4`).
    """

    about: str
    text: str
    by: str
    date: Moment | None = None


class Limits(Record):
    """How much Gallant may do at once, and how long things stay good.

    `at_once`, `at_once_per_site` and `at_once_per_system` are nodes contacted at the same time;
    `node_deadline_s` is how long (real seconds) a node may take to be read, `retries` how often one that was not
    reached is tried again; `keep_days` how long readings that are no longer the newest are kept.
    `snapshot_room_gb` is the least that has to be free where a restore point will lie. `width` is how many nodes
    of one system may be worked on at once at most, `ceiling_percent` how full those that stay may get;
    `lanes_at_once` (in all, of one site, of one kind) how many systems a roll works on side by side.
    """

    at_once: Annotated[int, msgspec.Meta(ge=1, le=1000)] = 32
    at_once_per_site: Annotated[int, msgspec.Meta(ge=1)] | None = None
    at_once_per_system: Annotated[int, msgspec.Meta(ge=1)] = 8
    node_deadline_s: Annotated[float, msgspec.Meta(gt=0)] = 120
    retries: Annotated[int, msgspec.Meta(ge=0, le=5)] = 1
    keep_days: Annotated[float, msgspec.Meta(gt=0)] = 400
    backup_age_hours: float = 24
    clock_offset_s: float = 5
    steady_s: float = 60
    free_space_factor: float = 1.5
    snapshot_days: float = 3
    snapshot_room_gb: Annotated[float, msgspec.Meta(ge=0)] = 0.5
    soak_hours: float = 24
    memory_free_mb: float = 128
    ceiling_percent: float = 80
    width: Annotated[int, msgspec.Meta(ge=1)] | None = None
    lanes_at_once: Annotated[int, msgspec.Meta(ge=1)] | None = None
    lanes_at_once_per_site: Annotated[int, msgspec.Meta(ge=1)] | None = None
    lanes_at_once_per_kind: Annotated[int, msgspec.Meta(ge=1)] | None = None
    expiry_days: float = 30
    stock_gb: float | None = None
    fetches_at_once: Annotated[int, msgspec.Meta(ge=1, le=64)] = 4
    fetch_mbit_per_s: Annotated[float, msgspec.Meta(gt=0)] | None = None


class CatalogRule(Record, rename={"from_": "from"}):
    """A catalog that whoever has this estate follows: where it comes from, the key (or the path of its file, from the
    estate's folder on) that it is signed with, and how it is reached."""

    from_: str
    key: str
    proxy: str | None = None
    ca: str | None = None
    fingerprint: str | None = None
    account: Account | None = None


class RoundRule(Record):
    """One round of a staged order: the systems that any of `of` selects (a name, `site:`, `tag:`, `kind:`, or `*`: all
    others). `known: no`: some are for systems to come.

    When its lanes have ended, `soak_minutes` go by and all is looked at again before the next round begins; where more
    than `may_fail` of them did not finish, the roll holds.
    """

    name: str
    of: tuple[str, ...]
    soak_minutes: Annotated[float, msgspec.Meta(ge=0)] = 0
    may_fail: Annotated[int, msgspec.Meta(ge=0)] = 0
    known: bool = True

    def __post_init__(self) -> None:
        if not self.of:
            raise ValueError("of: a system, site:NAME, tag:NAME, kind:NAME, or *")
        for term in self.of:
            parse_term(term)

    @property
    def terms(self) -> tuple[Term, ...]:
        """The terms that choose its systems."""
        return tuple(map(parse_term, self.of))


class DueRules(Record):
    """What `gallant due` may do: `rests`, book what did not fit into a window for the next one, and carry it on then.
    What could not start is tried again after `retry_minutes`."""

    rests: bool = False
    retry_minutes: Annotated[float, msgspec.Meta(ge=1)] = 10


class CopyPlace(Record):
    """A second place for backups: a folder, or sftp://HOST[:PORT]/PATH with an account and the host key's
    fingerprint."""

    to: str
    account: Account | None = None
    fingerprint: str | None = None

    def __post_init__(self) -> None:
        parts = secretless_in("to", self.to)
        if parts.scheme not in ("", "sftp"):
            raise ValueError("to: write a folder, or sftp://HOST[:PORT]/PATH")
        if parts.scheme == "sftp" and (self.account is None or not parts.hostname or not parts.path.strip("/")):
            raise ValueError("to: sftp://HOST[:PORT]/PATH, with an account: {user: …, secret: …}")
        if self.fingerprint is not None and not HOST_KEY.fullmatch(self.fingerprint):
            raise ValueError("fingerprint: write SHA256: and what ssh-keygen -lf shows of the host key")

    @property
    def is_folder(self) -> bool:
        """Whether copies go to a folder of this machine."""
        return urlsplit(self.to).scheme == ""


class BackupRules(Record):
    """For whom backups are encrypted (age recipients), where their copies go, and how many are kept.

    `plain`: somebody asked for backups that are not encrypted. `signers` are public keys of other hosts whose manifests
    are believed; `identity` is the file that opens a backup here, where there is one.
    """

    recipients: tuple[str, ...] = ()
    plain: bool = False
    copies: tuple[CopyPlace, ...] = ()
    keep: Keep = Keep()
    signers: tuple[str, ...] = ()
    identity: str | None = None

    def __post_init__(self) -> None:
        if self.plain and self.recipients:
            raise ValueError("plain: yes, or recipients; not both")
        for text in self.recipients:
            if not text.startswith(("age1", "ssh-ed25519 ", "ssh-rsa ")):
                raise ValueError("recipients: age1…, or an SSH public key")
        for text in self.signers:
            if not re.fullmatch(r"[0-9a-f]{64}", text):
                raise ValueError("signers: 64 hexadecimal digits each, as gallant backup show says them")


class Simulation(Record):
    """Stand-ins whose clock runs `speed` times as fast as the wall's since the moment `since`."""

    speed: float
    since: Moment

    def __post_init__(self) -> None:
        if not 1 <= self.speed <= 10000:
            raise ValueError("speed: from 1 to 10000")


class Estate(Record, dict=True):
    """Everything one administrator looks after, as `estate.yaml` declares it; `gallant_on` is the node that Gallant
    runs on. `approval` is how many others have to approve a plan, by the tag of a system that is in it."""

    gallant: str
    name: str
    sites: dict[str, Site]
    systems: dict[str, System] = {}
    accounts: dict[str, Account] = {}
    aims: tuple[Aim, ...] = ()
    declared: dict[str, Declared] = {}
    rules: tuple[ActRule, ...] = ()
    notes: tuple[Note, ...] = ()
    limits: Limits = Limits()
    rounds: tuple[RoundRule, ...] = ()
    approval: dict[str, Annotated[int, msgspec.Meta(ge=1, le=9)]] = {}
    backups: BackupRules = BackupRules()
    catalogs: dict[str, CatalogRule] = {}
    defaults: tuple[Default, ...] = ()
    windows: tuple[WindowRule, ...] = ()
    blackouts: tuple[WindowRule, ...] = ()
    due: DueRules = DueRules()
    gallant_on: str | None = None
    events: tuple[EventPlace, ...] = ()
    notify: tuple[NotifyPlace, ...] = ()
    simulation: Simulation | None = None

    @cached_property
    def upper_nodes(self) -> dict[str, tuple[tuple[System, str], ...]]:
        """By the name of a node: the nodes that live on it, each with its system, in the order of the file."""
        found: dict[str, list[tuple[System, str]]] = {}
        for system in self.systems.values():
            for node, said in system.nodes.items():
                if said.runs_on is not None:
                    found.setdefault(said.runs_on, []).append((system, node))
        return {below: tuple(above) for below, above in found.items()}

    @cached_property
    def aims_by_subject(self) -> dict[str, str]:
        """The aims, by what each is for."""
        return {subject_of(aim.for_): aim.aim for aim in self.aims}

    @cached_property
    def place_of(self) -> dict[str, int]:
        """Where in the file each system stands among the others."""
        return {name: at for at, name in enumerate(self.systems)}

    @cached_property
    def of_product(self) -> dict[str, tuple[System, ...]]:
        """By product: the systems that run it, in the order of the file."""
        found: dict[str, list[System]] = {}
        for system in self.systems.values():
            found.setdefault(system.product, []).append(system)
        return {product: tuple(systems) for product, systems in found.items()}

    @cached_property
    def users(self) -> dict[str, tuple[System, ...]]:
        """By the name of a system: those that use it, in the order of the file."""
        found: dict[str, list[System]] = {}
        for system in self.systems.values():
            for used in dict.fromkeys(system.uses):
                found.setdefault(used, []).append(system)
        return {used: tuple(systems) for used, systems in found.items()}

    def account(self, system: System, purpose: str) -> Account:
        """The account of a system for `read` or `act`; `WrongUse` when none is declared."""
        found = system.accounts.get(purpose) or self.accounts.get(purpose)
        if found is None:
            raise WrongUse(
                f"{system.name}: no account for {purpose!r} in the estate.",
                next=f"Add it under systems: {system.name}: accounts:, or under accounts: for the whole estate.",
            )
        return found


def node_name(system: System | str, node: str) -> str:
    """How a node is named everywhere: system/node."""
    return f"{system if isinstance(system, str) else system.name}/{node}"


def moving_service(system: System, node: str) -> str | None:
    """The service whose address a node is reached at, and that moves to another: what is sent there may meet that
    other. Of a system of one node no address moves."""
    if len(system.nodes) == 1:
        return None
    host = system.nodes[node].host
    return next((name for name, service in system.services.items() if service.endpoint[0] == host), None)


def nodes_below(estate: Estate, name: str) -> tuple[str, ...]:
    """The nodes that this one lives on, the nearest first; in a circle, up to the first that is met again."""
    found: list[str] = []
    while (below := _runs_on(estate, name)) is not None and below not in found:
        found.append(below)
        name = below
    return tuple(found)


def _runs_on(estate: Estate, name: str) -> str | None:
    system, _, node = name.partition("/")
    said = estate.systems[system].nodes.get(node) if system in estate.systems else None
    return said.runs_on if said is not None else None
