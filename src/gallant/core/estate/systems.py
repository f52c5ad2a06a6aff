"""Sites, systems, nodes: what one administrator looks after, and how to select among it.

`parse_estate` turns the text of `estate.yaml` into an `Estate`, or raises every problem of the file at once.
"""

from __future__ import annotations

import ipaddress
import re
import shlex
from collections.abc import Iterator, Mapping, Sequence, Set
from collections.abc import Set as AbstractSet
from functools import cached_property, lru_cache
from typing import Annotated, Literal
from urllib.parse import SplitResult, urlsplit

import msgspec
import regex

from gallant.core.addresses import secretless
from gallant.core.catalog.products import Bundle
from gallant.core.documents import Document, Invalid, Problem, document_of, suggestion
from gallant.core.errors import WrongUse
from gallant.core.estate.aims import binds, parse_aim
from gallant.core.estate.backups import Keep
from gallant.core.estate.gathering import Gathered, Reader, no_files
from gallant.core.estate.order import ROLES, SHAPES
from gallant.core.estate.rules import ActRule
from gallant.core.estate.terms import ALL, CONDITIONS, NAME, TAG, Term, matches, parse_term, unmatched
from gallant.core.estate.windows import WindowRule
from gallant.core.readings import COMPONENT_KINDS, IMAGE
from gallant.core.records import Moment, Record, replace

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
PURPOSES = ("read", "act", "elevate")
SECRET_KINDS = ("env", "file", "keyring", "key")
NO_REFERENCE = ("ask", "agent")
_NAME = re.compile(r"[a-z0-9][a-z0-9._-]{0,62}", re.ASCII)
FINGERPRINT = re.compile(r"sha256:[0-9a-f]{64}|sha256:[0-9a-f]{2}(?::[0-9a-f]{2}){31}", re.ASCII)
HOST_KEY = re.compile(r"SHA256:[A-Za-z0-9+/]{43}=?", re.ASCII)


def name_problem(name: str) -> str | None:
    if _NAME.fullmatch(name):
        return None
    return f"{name!r} is not a name: small letters, digits, dot, dash and underscore, from a letter or digit on"


class Account(Record):
    """Who Gallant is on a device. The secret itself never stands here, only where it is kept."""

    user: str
    secret: str

    def __post_init__(self) -> None:
        kind, colon, where = self.secret.partition(":")
        if self.secret not in NO_REFERENCE and not (kind in SECRET_KINDS and colon and where):
            raise ValueError(
                "secret: write env:NAME, file:PATH, keyring:SERVICE, key:PATH (an SSH key), agent or ask; a secret"
                " never stands in this file"
            )


class Read(Record):
    """A data read: what a probe sends, and a pattern that a right answer matches from its start."""

    send: str
    expect: str

    def __post_init__(self) -> None:
        try:
            regex.compile(self.expect)
        except regex.error as error:
            raise ValueError(f"expect: no pattern: {error}") from None


def _secretless(field: str, text: str) -> SplitResult:
    try:
        return secretless(text)
    except ValueError as error:
        raise ValueError(f"{field}: {error}") from None


class HttpAsked(Record):
    """A request for a page: the statuses that are well, and what must hold of its JSON (JMESPath, `well`)."""

    path: str = "/"
    status: tuple[int, ...] = (200,)
    well: str | None = None
    tls: bool = True

    def __post_init__(self) -> None:
        if not self.path.startswith("/") or any(ord(c) <= 32 for c in self.path):
            raise ValueError("path: begins with /, and has no blank")
        if self.well is not None:
            import jmespath

            try:
                jmespath.compile(self.well)
            except jmespath.exceptions.JMESPathError as error:
                raise ValueError(f"well: {' '.join(str(error).split())}") from None
        if not self.status or any(not 100 <= code <= 599 for code in self.status):
            raise ValueError("status: one or more of 100 to 599")


# How a service may be asked, each a field of `Service` of that
# name; `tcp`, a connect alone, where none of them is given.
ASKED = ("read", "tls", "http", "dns", "ntp", "ping", "run")
# Seconds of real time between two probes. A connect costs next to
# nothing; whatever makes the other side work is asked less often.
FAST_S, SLOW_S = 0.08, 1.0
# A name as DNS has it (RFC 1035, section 2.3.4): labels of at most 63 characters.
HOST_NAME = re.compile(
    r"(?=.{1,253}$)([A-Za-z0-9_]([A-Za-z0-9_-]{0,61}[A-Za-z0-9_])?)(\.[A-Za-z0-9_]([A-Za-z0-9_-]{0,61}[A-Za-z0-9_])?)*\.?"
)


class Service(Record):
    """An address that users of the system depend on, and how it is asked: a `read`, a
    `tls` handshake, a page (`http`), a name (`dns`), the time (`ntp`), an echo
    (`ping`), or a command of one's own that ends with 0 (`run`); else a connect.

    An answer that takes longer than `within_ms` (real milliseconds) is none, nor one under a certificate that ends
    within `certificate_days`. `budget_s` is for how long it may be out at a time; past it the work on its system holds.
    `every_s` are real seconds between two probes. `unscaled`: its stand-in keeps real time.
    """

    address: str
    read: Read | None = None
    tls: bool = False
    http: HttpAsked | None = None
    dns: str | None = None
    ntp: bool = False
    ping: bool = False
    run: str | None = None
    within_ms: Annotated[float, msgspec.Meta(gt=0, le=60_000)] | None = None
    certificate_days: Annotated[float, msgspec.Meta(ge=0, le=3650)] | None = None
    budget_s: Annotated[float, msgspec.Meta(gt=0)] | None = None
    every_s: Annotated[float, msgspec.Meta(ge=FAST_S, le=60)] | None = None
    unscaled: bool = False

    def __post_init__(self) -> None:
        host_and_port(self.address)
        given = [name for name in ASKED if getattr(self, name)]
        if len(given) > 1:
            raise ValueError(f"{' and '.join(given)}: a service is asked in one way; give it a second name for another")
        if self.dns is not None and HOST_NAME.fullmatch(self.dns) is None:
            raise ValueError("dns: write the name that is asked for")
        if self.run is not None and not _words(self.run):
            raise ValueError("run: write a command and its arguments")
        if self.certificate_days is not None and not (self.tls or (self.http is not None and self.http.tls)):
            raise ValueError("certificate_days: only an answer by tls, or by http with tls, comes under a certificate")

    @property
    def asked(self) -> str:
        return next((name for name in ASKED if getattr(self, name)), "tcp")

    @property
    def pace_s(self) -> float:
        return self.every_s or (FAST_S if self.asked in ("tcp", "read") else SLOW_S)

    @property
    def command(self) -> list[str]:
        return _words(self.run or "")

    @property
    def endpoint(self) -> tuple[str, int]:
        return host_and_port(self.address)


def _words(command: str) -> list[str]:
    try:
        return shlex.split(command)
    except ValueError as error:
        raise ValueError(f"run: {error}") from None


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
        parts = _secretless("address", self.address)
        if self.console is not None and "@" in self.console:
            _secretless("console", self.console if "//" in self.console else f"//{self.console}")
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
        return urlsplit(self.address).hostname or ""

    @property
    def port(self) -> int | None:
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
        return tuple(map(parse_term, self.of))


class DueRules(Record):
    """What `gallant due` may do: `rests`, book what did not fit into a window for the next one, and carry it on then.
    What could not be begun is tried again after `retry_minutes`."""

    rests: bool = False
    retry_minutes: Annotated[float, msgspec.Meta(ge=1)] = 10


class CopyPlace(Record):
    """A second place for backups: a folder, or sftp://HOST[:PORT]/PATH with an account and the host key's
    fingerprint."""

    to: str
    account: Account | None = None
    fingerprint: str | None = None

    def __post_init__(self) -> None:
        parts = _secretless("to", self.to)
        if parts.scheme not in ("", "sftp"):
            raise ValueError("to: write a folder, or sftp://HOST[:PORT]/PATH")
        if parts.scheme == "sftp" and (self.account is None or not parts.hostname or not parts.path.strip("/")):
            raise ValueError("to: sftp://HOST[:PORT]/PATH, with an account: {user: …, secret: …}")
        if self.fingerprint is not None and not HOST_KEY.fullmatch(self.fingerprint):
            raise ValueError("fingerprint: write SHA256: and what ssh-keygen -lf shows of the host key")

    @property
    def is_folder(self) -> bool:
        return urlsplit(self.to).scheme == ""


class EventPlace(Record):
    """Where each entry of the ledger is also told: udp://HOST:PORT
    or tcp://HOST:PORT (syslog), or a file of JSON lines."""

    to: str
    enterprise: Annotated[int, msgspec.Meta(ge=1)] = 32473

    def __post_init__(self) -> None:
        parts = _secretless("to", self.to)
        if parts.scheme in ("udp", "tcp"):
            if not parts.hostname or not parts.port:
                raise ValueError("to: write udp://HOST:PORT or tcp://HOST:PORT")
        elif parts.scheme:
            raise ValueError("to: udp://HOST:PORT, tcp://HOST:PORT, or the path of a file")


class Mail(Record, rename={"sender": "from"}):
    """A message by SMTP. `tls`: from the start (`whole`), once connected
    (`starttls`), or `none`, which only this machine may have."""

    to: tuple[str, ...]
    sender: str
    server: str
    tls: Literal["starttls", "whole", "none"] = "starttls"

    def __post_init__(self) -> None:
        host, _ = host_and_port(self.server)
        if not self.to or any("@" not in one or any(ord(c) <= 32 for c in one) for one in (*self.to, self.sender)):
            raise ValueError("to and from: write mail addresses")
        if self.tls == "none" and not is_loopback(host):
            raise ValueError("tls: a message to another machine is never sent in clear; write starttls or whole")


NOTIFIED_OF = ("held", "stopped", "finished", "late")


class NotifyPlace(Record):
    """Who is told when a roll is held, stopped or finished, or a step of it is late and
    goes on: a command of one's own (`run`), a `webhook`, or `mail`. `account` is for the
    two that go over the network: a bearer's token for a webhook, a login for mail."""

    when: tuple[str, ...] = NOTIFIED_OF
    run: str | None = None
    webhook: str | None = None
    mail: Mail | None = None
    account: Account | None = None

    def __post_init__(self) -> None:
        if sum(one is not None for one in (self.run, self.webhook, self.mail)) != 1:
            raise ValueError("write one of run, webhook and mail")
        if strange := next((word for word in self.when if word not in NOTIFIED_OF), None):
            raise ValueError(f"when: {strange!r} is none of {', '.join(NOTIFIED_OF)}")
        if self.run is not None and not _words(self.run):
            raise ValueError("run: write a command and its arguments")
        if self.webhook is not None:
            parts = _secretless("webhook", self.webhook)
            if parts.scheme != "https" and not (parts.scheme == "http" and is_loopback(parts.hostname or "")):
                raise ValueError("webhook: write https://…; a message to another machine is never sent in clear")

    @property
    def name(self) -> str:
        """What it is called where somebody is told of it."""
        if self.mail is not None:
            return f"mail to {', '.join(self.mail.to)}"
        return (
            f"webhook {urlsplit(self.webhook).hostname}" if self.webhook is not None else f"command {self.command[0]}"
        )

    @property
    def command(self) -> list[str]:
        return _words(self.run or "")


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


def host_and_port(address: str) -> tuple[str, int]:
    """The two parts of HOST:PORT (an IPv6 host in brackets); raises ValueError."""
    host, colon, port = address.rpartition(":")
    if not colon or not host or len(port) > 5 or not port.isdecimal() or not 0 < int(port) < 65536:
        raise ValueError("address: write HOST:PORT")
    return host.strip("[]"), int(port)


def is_loopback(host: str) -> bool:
    try:
        return ipaddress.ip_address(host).is_loopback
    except ValueError:
        return host == "localhost"


# --- reading the file -----------------------------------------------------------------------------------------------


def parse_estate(name: str, text: str | bytes | Document, read: Reader = no_files) -> Estate:
    """The estate that `text` declares, with the files that it includes (`read` gives
    them); raises `Invalid` with every problem, each in the file where it stands."""
    document = document_of(name, text)
    if document.values is None:
        raise Invalid(name, [Problem(1, 1, "empty; gallant init writes a commented one")])
    if isinstance(document.values, dict):
        document = gathered = Gathered(document, read)
        if gathered.values.get("systems", 0) is None:
            gathered.values["systems"] = {}  # a heading below which nothing stands yet
        fill_in(gathered.values)
        for key in ("windows", "blackouts"):
            if isinstance(name_of := gathered.values.get(key), str):
                gathered.values[key] = [{"for": "*", "file": name_of}]
    estate = document.convert(Estate) or _what_converts(document)
    if estate is not None:
        estate = replace(estate, systems={key: _named(system, key) for key, system in estate.systems.items()})
        _look_for_names(document, estate)
    document.finish()
    assert estate is not None  # without a problem noted, the file converted
    return estate


def fill_in(values: dict[str, object]) -> None:
    """Give each system what the defaults say and it does not; what is no system or no default is left to be told."""
    defaults, systems = values.get("defaults"), values.get("systems")
    if not isinstance(defaults, list) or not isinstance(systems, dict):
        return
    right = [_right_of(default) for default in defaults if isinstance(default, dict)]
    for name, system in systems.items():
        if isinstance(system, dict):
            systems[name] = filled = dict(system)
            for default in right:
                if _is_for(default.get("for"), filled):
                    _fill_one(filled, default)


def _right_of(default: Mapping[str, object]) -> dict[str, object]:
    """What of a default is right in itself; the rest is told at its own place, and not at every system's."""
    terms = default.get("for")
    return {field: value for field, value in default.items() if _converts({"for": terms, field: value})}


def _converts(value: object) -> bool:
    try:
        msgspec.convert(value, Default)
    except msgspec.ValidationError:
        return False
    return True


def _is_for(terms: object, system: Mapping[str, object]) -> bool:
    """Whether all of a default's terms hold for a system, as far as that says by now what it is."""
    if not isinstance(terms, str):
        return False
    tags = system.get("tags")
    so_far = _SoFar(
        site=str(system.get("site", "")),
        kind=str(system.get("kind", "")),
        tags=tuple(map(str, tags)) if isinstance(tags, list) else (),
    )
    try:
        return all(matches(parse_term(term), so_far) for term in terms.split())
    except ValueError:
        return False


class _SoFar(Record):
    """What a system's block says by now."""

    site: str
    kind: str
    tags: tuple[str, ...]
    name: str = ""


def _fill_one(system: dict[str, object], default: Mapping[str, object]) -> None:
    for field, value in default.items():
        if field == "node":
            _fill_nodes(system, value)
        elif field == "accounts" and isinstance(value, dict) and isinstance(own := system.get(field, {}), dict):
            system[field] = {**value, **own}
        elif field not in ("for", "known"):
            system.setdefault(field, value)


def _fill_nodes(system: dict[str, object], default: object) -> None:
    nodes = system.get("nodes")
    if isinstance(default, dict) and isinstance(nodes, dict):
        pinned = {key: value for key, value in default.items() if key != "ca"}  # and so held against no CA file
        system["nodes"] = {
            name: {**(pinned if "fingerprint" in node else default), **node} if isinstance(node, dict) else node
            for name, node in nodes.items()
        }


def _named(system: System, name: str) -> System:
    return replace(system, name=name, profile=system.profile or GENERIC_PROFILES.get(system.driver, ""))


def _what_converts(document: Document) -> Estate | None:
    """The estate without the records that are wrong in themselves, so that wrong names in the others are found too."""
    values = document.values
    if not isinstance(values, dict):
        return None
    kinds: dict[str, type] = {"sites": Site, "systems": System, "accounts": Account}
    kept: dict[str, object] = {"gallant": values.get("gallant", "estate/1"), "name": str(values.get("name", ""))}
    for field, kind in kinds.items():
        entries = values.get(field, {})
        entries = entries if isinstance(entries, dict) else {}
        kept[field] = {k: v for k, v in entries.items() if document.converts(kind, v) is not None or kind is Site}
    if isinstance(kept["sites"], dict):
        kept["sites"] = {name: {} for name in kept["sites"]}  # only their names matter from here on
    return document.converts(Estate, kept)


def _look_for_names(document: Document, estate: Estate) -> None:
    """What one record alone cannot know: names that nothing has, and things declared twice."""
    if estate.gallant != "estate/1":
        document.at(("gallant",), f"{estate.gallant!r} is not known here; this Gallant reads estate/1")
    _look_at_purposes(document, ("accounts",), estate.accounts)
    every_node = {node_name(s, n) for s in estate.systems.values() for n in s.nodes}
    borne: dict[tuple[str, ...], str] = {}
    for system in estate.systems.values():
        _look_at_system(document, estate, system)
        for key in system.nodes:
            _look_at_node(document, estate, system, key, every_node, borne)
    known = set(estate.systems) | every_node
    _look_at_aims(document, estate, known)
    _look_at_rules(document, estate)
    _look_at_rounds(document, estate)
    _look_at_defaults(document, estate)
    _look_at_windows(document, estate)
    for name in estate.catalogs:
        if problem := name_problem(name):
            document.at(("catalogs", name), problem, key=True)
    for tag in estate.approval:
        if (wrong := unmatched(Term(key=TAG, value=tag.casefold()), estate.systems.values())) is not None:
            document.at(("approval", tag), wrong, key=True)
    for index, note in enumerate(estate.notes):
        if "/" not in note.about and note.about not in estate.systems:
            hint = document.suggestion(note.about, estate.systems)
            document.at(
                ("notes", index, "about"),
                f"{note.about!r} is nothing known{hint}; write a system, or publisher/product with a release or RELEASE"
                " > RELEASE",
            )


def _look_at_defaults(document: Document, estate: Estate) -> None:
    """One that is for nothing there is most likely a slip of the pen."""
    for index, default in enumerate(estate.defaults):
        for term in default.for_.split():
            _look_at_term(document, ("defaults", index, "for"), estate, parse_term(term), default.known)


def _look_at_term(
    document: Document,
    at: tuple[str | int, ...],
    estate: Estate,
    term: Term,
    known: bool,
    also: AbstractSet[str] = frozenset(),
) -> None:
    """A term that means nothing there is, where it is not said to be for
    systems to come; `also` are words that it may be besides."""
    wrong = unmatched(term, estate.systems.values()) if known and estate.systems and term.value not in also else None
    if wrong is not None:
        hint = suggestion(term.value, also) if also and "did you mean" not in wrong else ""
        document.at(at, f"{wrong}{hint}; known: no, where it is for systems to come")


def _look_at_windows(document: Document, estate: Estate) -> None:
    """One that is for nothing there would leave somebody without the window, or the blackout, that they count on."""
    for field, rules in (("windows", estate.windows), ("blackouts", estate.blackouts)):
        for index, rule in enumerate(rules):
            at = (field, index, "for")
            if rule.term.key == NAME and "/" in rule.term.value:
                document.at(at, "windows are of systems; write the system alone")
            else:
                _look_at_term(document, at, estate, rule.term, rule.known)


def _look_at_rounds(document: Document, estate: Estate) -> None:
    """A round of systems that are not there would let the next begin at once."""
    for index, rule in enumerate(estate.rounds):
        for place, term in enumerate(rule.terms):
            _look_at_term(document, ("rounds", index, "of", place), estate, term, rule.known)


def _look_at_node(
    document: Document, estate: Estate, system: System, key: str, every: Set[str], borne: dict[tuple[str, ...], str]
) -> None:
    """`borne` has the node by each serial and address so far: no two nodes have the same."""
    node, at = system.nodes[key], ("systems", system.name, "nodes", key)
    here = node_name(system, key)
    if problem := name_problem(key):
        document.at(at, problem, key=True)
    if node.runs_on is not None and node.runs_on not in every:
        document.at((*at, "runs_on"), f"no node {node.runs_on!r}{document.suggestion(node.runs_on, every)}")
    elif here in nodes_below(estate, here):
        document.at((*at, "runs_on"), f"{here} runs on itself, by way of {node.runs_on}")
    marks: list[tuple[str, tuple[str, ...]]] = [("serial", (system.product, node.serial))] if node.serial else []
    if node.held_by != "file":
        document.at((*at, "held_by"), "is Gallant's own word; write serial: and the serial", key=True)
    if not node.by_hand:
        marks.insert(0, ("address", (node.address,)))
    for field, mark in marks:
        other = borne.setdefault((field, *mark), here)
        if other != here:
            document.at((*at, field), f"{here} has the {field} of {other}")
    if estate.simulation is not None and not (is_loopback(node.host) or node.by_hand):
        document.at((*at, "address"), "not a loopback address; a simulated estate never speaks to a real machine")


def _look_at_aims(document: Document, estate: Estate, known: Set[str]) -> None:
    first: dict[str, int] = {}
    for index, aim in enumerate(estate.aims):
        at = ("aims", index, "for")
        subject, colon, _ = aim.for_.partition(":")
        condition = bool(colon) and subject.casefold() in CONDITIONS
        if aim.for_ == ALL:
            document.at(at, "write default for every system that no other aim is for")
        elif condition:
            try:
                _look_at_term(document, at, estate, parse_term(aim.for_), aim.known)
            except ValueError as error:
                document.at(at, str(error))
        elif aim.for_ != "default" and subject_of(subject) not in known and aim.known:
            hint = document.suggestion(subject, {"default", *known})
            document.at(
                at,
                f"{aim.for_!r} selects nothing{hint}; write default, a system, a node, one of these with :COMPONENT, "
                "site:, tag: or kind:; known: no, where it is for systems to come",
            )
        if first.setdefault(subject_of(aim.for_), index) != index:
            document.at(at, f"{aim.for_!r} has two aims; the other is entry {first[subject_of(aim.for_)] + 1}")


def _look_at_rules(document: Document, estate: Estate) -> None:
    """A rule for a kind or a tag that nothing has never matches, and what it was to act on waits for ever."""
    for index, rule in enumerate(estate.rules):
        for field, value, also in (("kind", rule.kind, _COMPONENT_KINDS), ("tag", rule.tag, frozenset[str]())):
            if value is not None:
                term = Term(key=field, value=value.casefold())
                _look_at_term(document, ("rules", index, field), estate, term, rule.known, also)


_COMPONENT_KINDS = frozenset(kind.casefold() for kind in COMPONENT_KINDS)


def _look_at_purposes(document: Document, path: tuple[str, ...], accounts: Mapping[str, Account]) -> None:
    for purpose in accounts:
        if purpose not in PURPOSES:
            hint = document.suggestion(purpose, PURPOSES)
            document.at((*path, purpose), f"unknown purpose {purpose!r}{hint}", key=True)


def _look_at_system(document: Document, estate: Estate, system: System) -> None:
    path = ("systems", system.name)
    if problem := name_problem(system.name):
        document.at(path, problem, key=True)
    for field, value, known in (
        ("shape", system.shape, tuple(SHAPES)),
        ("driver", system.driver, DRIVERS),
        ("site", system.site, tuple(estate.sites)),
    ):
        if value not in known:
            document.at((*path, field), f"unknown {field} {value!r}{document.suggestion(value, known)}")
    if not system.profile and system.driver in DRIVERS:
        document.at(
            path, f"missing profile: one for every {system.driver} device there is not; gallant profiles lists them"
        )
    shape = SHAPES.get(system.shape)
    if shape is not None and not shape.least <= len(system.nodes) <= shape.most:
        document.at(
            (*path, "nodes"),
            f"a {system.shape} has {shape.least} node{'s' * (shape.least > 1)}, here are {len(system.nodes)}",
        )
    for used in system.uses:
        if used not in estate.systems:
            document.at((*path, "uses"), f"no system {used!r}{document.suggestion(used, estate.systems)}")
    if system.managed_by is not None and system.managed_by not in estate.systems:
        document.at(
            (*path, "managed_by"),
            f"no system {system.managed_by!r}{document.suggestion(system.managed_by, estate.systems)}",
        )
    for role, node in system.usual.items():
        if role not in ROLES:
            document.at((*path, "usual", role), f"unknown role {role!r}{document.suggestion(role, ROLES)}", key=True)
        if node not in system.nodes:
            document.at(
                (*path, "usual", role), f"no node {node!r} in {system.name}{document.suggestion(node, system.nodes)}"
            )
    _look_at_purposes(document, (*path, "accounts"), system.accounts)
    for key, service in system.services.items():
        if estate.simulation is not None and not is_loopback(service.endpoint[0]):
            document.at(
                (*path, "services", key, "address"),
                "not a loopback address; a simulated estate never probes a real one",
            )


# --- selecting ------------------------------------------------------------------------------------------------------


def select(estate: Estate, terms: Sequence[str]) -> list[tuple[System, tuple[str, ...]]]:
    """The systems that all `terms` hold for, each with its selected nodes, in the order of the file.

    A bare system or `system/node` names one; several names are joined. `site:`, `tag:` and `kind:` must all hold.
    Raises `WrongUse` for a term that names nothing, and for terms that together select nothing: a typo must not
    look as if all were well.
    """
    asked = [_asked(term) for term in terms]
    names, conditions = [t.value for t in asked if t.key == NAME], [t for t in asked if t.key != NAME]
    for term in conditions:
        if (wrong := unmatched(term, estate.systems.values())) is not None:
            raise WrongUse(f"{wrong[0].upper()}{wrong[1:]}.", next="gallant inventory lists what there is.")
    for name in names:
        system, slash, node = name.partition("/")
        if system not in estate.systems or (slash and node not in estate.systems[system].nodes):
            every_node = [node_name(s, n) for s in estate.systems.values() for n in s.nodes]
            raise WrongUse(
                f"No system or node {name!r} in the estate{suggestion(name, [*estate.systems, *every_node])}.",
                next="gallant inventory lists what there is.",
            )
    found = list(_selected(estate, set(names), conditions))
    if terms and not found:
        raise WrongUse(f"{' '.join(terms)}: no system is all of that.", next="gallant inventory lists what there is.")
    return found


def _asked(text: str) -> Term:
    try:
        return parse_term(text)
    except ValueError:
        raise WrongUse(
            f"{text} selects by nothing known.", next="Write site:NAME, tag:NAME, kind:NAME, a system or system/node."
        ) from None


def _selected(
    estate: Estate, names: AbstractSet[str], conditions: Sequence[Term]
) -> Iterator[tuple[System, tuple[str, ...]]]:
    named = {name.partition("/")[0] for name in names}
    # One that is named is looked up; of several the file says the order.
    candidates = [estate.systems[name] for name in named] if len(named) == 1 else list(estate.systems.values())
    for system in candidates:
        if names and system.name not in named:
            continue
        if not all(matches(term, system) for term in conditions):
            continue
        if not names or system.name in names:
            yield system, tuple(system.nodes)
        elif nodes := tuple(n for n in system.nodes if node_name(system, n) in names):
            yield system, nodes


def aims_by_subject(estate: Estate) -> dict[str, str]:
    return {subject_of(aim.for_): aim.aim for aim in estate.aims}


@lru_cache(maxsize=65536)
def subject_of(text: str) -> str:
    """What an aim is for, as it is compared: as terms are, without regard to case."""
    return text.casefold()


class AimHere(Record):
    """An aim that a component lies under; `named` where it is for this very component."""

    aim: str
    named: bool = False

    def binds(self, product: str, own: bool, bundles: Sequence[Bundle]) -> bool:
        return self.named or binds(self.aim, product, own, bundles)


def aims_on(
    by_subject: Mapping[str, str], system: System, node: str, component: str | None = None
) -> tuple[AimHere, ...]:
    """The aims that a component (None: the node as a whole) lies under, most specific first, ending with `newest`.

    Component on a node, component on every node of the system, node, system, tag, kind, site, default.
    """
    here = node_name(system, node)
    named = (f"{here}:{component}", f"{system.name}:{component}") if component is not None else ()
    order = [
        here,
        system.name,
        *(f"tag:{t}" for t in system.tags),
        f"kind:{system.kind}",
        f"site:{system.site}",
        "default",
    ]
    return (
        *(AimHere(aim=by_subject[subject], named=True) for subject in map(subject_of, named) if subject in by_subject),
        *(AimHere(aim=by_subject[subject]) for subject in map(subject_of, order) if subject in by_subject),
        NEWEST,
    )


NEWEST = AimHere(aim="newest")


def aim_for(
    estate: Estate,
    system: System,
    node: str,
    component: str = IMAGE,
    product: str | None = None,
    bundles: Sequence[Bundle] = (),
) -> str:
    """The most specific aim that binds `product` (None: the system's own) on a component."""
    own = product is None or product == system.product
    aims = aims_on(aims_by_subject(estate), system, node, component)
    return next(here.aim for here in aims if here.binds(product or system.product, own, bundles))
