"""Devices added to the estate by what they tell of themselves: one or several nodes of a system, many from a file, or
those that answer in a network. Reading is all that is done to any of them."""

from __future__ import annotations

import asyncio
import ipaddress
import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING
from urllib.parse import urlsplit

import msgspec

from gallant.core.documents import Invalid, suggestion
from gallant.core.errors import GallantError, Refused, Unreached, WrongUse, worst_exit
from gallant.core.estate.accounts import Account
from gallant.core.estate.blocks import DraftNode, SystemDraft, with_system
from gallant.core.estate.places import is_loopback
from gallant.core.estate.reading import parse_estate
from gallant.core.estate.systems import DRIVERS, GENERIC_PROFILES, Node, System, name_problem, node_name
from gallant.core.readings import Reading
from gallant.core.records import Record, clean
from gallant.core.shapes import SHAPES
from gallant.disk import put_whole
from gallant.drivers.greeting import NETCONF, NETCONF_PORT, REDFISH, SSH, Greeting, greet
from gallant.operations.ground.opening import Files
from gallant.operations.ground.workplace import Workplace

if TYPE_CHECKING:
    from gallant.drivers.profile import Profile

Learn = Callable[[str, str, str], bool]
# The driver of what answers, where nobody says; a host over SSH is asked whether it is a Debian one.
BY_PROTOCOL = {REDFISH: "redfish", NETCONF: "netconf", SSH: "debian"}
SCHEME = {"http": "https", "redfish": "https", "netconf": "ssh", "shell": "ssh", "debian": "ssh"}
PORTS = {"https": 443, "ssh": 22}
USUAL_PORTS = (22, 443, NETCONF_PORT)
LETTERS = "abcdefghijklmnopqrstuvwxyz"
LARGEST_SCAN = 4096  # addresses
AT_ONCE = 32
PER_SECOND = 50.0  # doors that are knocked at
KNOCK_S = 2.0
LARGEST_CSV = 10_000  # rows
COLUMNS = (
    "address",
    "as",
    "site",
    "driver",
    "profile",
    "product",
    "shape",
    "kind",
    "tags",
    "user",
    "secret",
    "pin",
    "ca",
)
OF_A_NODE = ("address", "pin")  # columns; all others are of the system

# What a system is called among others where nobody says it and no more is known than what its generic profile reads.
USUAL_KINDS = {"debian": "host", "linux": "host", "redfish": "hardware"}


class SystemWanted(Record):
    """One system that is to be added: its nodes' addresses, and what is said of it beforehand; the rest is asked of the
    device. `pins` are the fingerprints of single addresses, `fingerprint` that of all others."""

    addresses: tuple[str, ...]
    name: str = ""
    site: str = ""
    driver: str = ""
    profile: str = ""
    product: str = ""
    shape: str = ""
    kind: str = ""
    tags: tuple[str, ...] = ()
    user: str = ""
    secret: str = ""
    fingerprint: str | None = None
    ca: str | None = None
    pins: dict[str, str] = {}


def wanted_of(said: Mapping[str, object], addresses: Sequence[str]) -> SystemWanted:
    """What was said with the command, by the names of its options."""
    named = {("fingerprint" if key == "pin" else key): value for key, value in said.items()}
    return msgspec.convert({**named, "addresses": tuple(addresses)}, SystemWanted)


class AddedNode(Record):
    """What one device told."""

    node: str
    address: str
    serial: str
    model: str | None
    version: str
    role: str
    fingerprint: str | None


class Added(Record):
    """A system that stands in the estate now, or why it does not; `there`: it stood there before."""

    system: str
    nodes: tuple[AddedNode, ...] = ()
    product: str = ""
    profile: str = ""
    shape: str = ""
    line: int = 0
    there: bool = False
    error: str | None = None
    next: str | None = None
    exit_code: int = 0


class AlreadyThere(Refused):
    """An address that the estate has already, as a node of `system`."""

    def __init__(self, address: str, system: str, node: str) -> None:
        self.system = system
        super().__init__(f"{address} is {node} of the estate already: that address.", next=f"gallant survey {node}")


async def add(place: Workplace, wanted: SystemWanted, learn: Learn | None) -> Added:
    """Read the devices, and write the system that they are into estate.yaml. `learn` is
    asked about keys and certificates that nothing here vouches for. Raises `WrongUse`,
    `Refused` or what kept a device from being read; nothing is written then."""
    return _write(place, *await _meet(place, wanted, learn))


async def _meet(place: Workplace, wanted: SystemWanted, learn: Learn | None) -> Met:
    """What the devices of a system tell, and what follows from it; nothing is written."""
    draft = _Draft(place, wanted, _site(place, wanted))
    nodes: list[tuple[DraftNode, Reading]] = []
    for number, address in enumerate(wanted.addresses):
        nodes.append(await draft.node(address, _letter(number), learn))
    return draft, nodes


async def add_all(
    place: Workplace, every: Sequence[SystemWanted], learn: Learn | None, asks: bool = False
) -> tuple[list[Added], int]:
    """As many at once as a survey asks, each by itself, and written in their order as soon as they are read; what failed
    comes first.

    One whose addresses stand in the estate already is left as it is, so a second run goes on where the first ended.
    Where this is cancelled, what was read until then is written and given, and the others as not read. `asks`: a person
    may be asked about a row; then one is met after the other, since the rest would run out of time meanwhile.
    """
    gate = asyncio.Semaphore(1 if asks else place.estate.limits.at_once)
    tasks = [asyncio.ensure_future(_meet_one(place, wanted, learn, gate)) for wanted in every]
    rows: list[Added] = []
    try:
        for task in tasks:
            rows.append(_written(place, await task))
    except asyncio.CancelledError:
        if (own := asyncio.current_task()) is not None:
            own.uncancel()  # ctrl-C is answered with what was done until then
        for task in tasks:
            task.cancel()
        await asyncio.gather(*tasks, return_exceptions=True)
        rows += [
            _not_read(wanted) if task.cancelled() else _written(place, task.result())
            for task, wanted in list(zip(tasks, every, strict=True))[len(rows) :]
        ]
    rows.sort(key=lambda row: row.error is None)
    return rows, worst_exit([row.exit_code for row in rows])


def asks_somebody(place: Workplace, every: Sequence[SystemWanted], confirmed: bool) -> bool:
    """Whether a person is asked about some row: to trust a key, unless that is `confirmed`, or for a secret to type."""
    common = place.estate.accounts.get("read")
    secrets = ((one.secret or "ask") if one.user else common.secret if common else "" for one in every)
    return not confirmed or "ask" in secrets


async def _meet_one(
    place: Workplace, wanted: SystemWanted, learn: Learn | None, gate: asyncio.Semaphore
) -> Met | Added:
    """What the devices of one row tell, or why that is not known."""
    try:
        async with gate:
            return await _meet(place, wanted, learn)
    except GallantError as error:
        return _failed(wanted, error)


def _written(place: Workplace, met: Met | Added) -> Added:
    """A row in the estate's file, or why it is not there. Others were written meanwhile, so the file is read anew."""
    if isinstance(met, Added):
        return met
    draft, nodes = met
    try:
        draft.place = Workplace(place.path, place.asker)
        for node, _ in nodes:
            draft.is_new(node.address, node.serial)
        return _write(draft.place, draft, nodes)
    except GallantError as error:
        return _failed(draft.wanted, error)


def _failed(wanted: SystemWanted, error: GallantError) -> Added:
    if isinstance(error, AlreadyThere):
        return Added(system=error.system, there=True)
    told = error.what if error.why is None else f"{error.what} {error.why}"
    code = 3 if error.exit_code == 4 else error.exit_code
    return Added(system=_called(wanted), error=told, next=error.next, exit_code=code)


def _called(wanted: SystemWanted) -> str:
    return wanted.name or wanted.addresses[0]


def _not_read(wanted: SystemWanted) -> Added:
    return Added(
        system=_called(wanted),
        error="not read: it was cut off before.",
        next="The same command once more goes on where this one ended",
        exit_code=4,
    )


Met = tuple["_Draft", list[tuple[DraftNode, Reading]]]


def _site(place: Workplace, wanted: SystemWanted) -> str:
    sites = place.estate.sites
    if wanted.site:
        if wanted.site not in sites:
            raise WrongUse(
                f"No site {clean(wanted.site, 60)!r}{suggestion(wanted.site, list(sites))}.",
                next="Add it under sites: in estate.yaml",
            )
        return wanted.site
    if len(sites) != 1:
        raise WrongUse(f"Which site is it at? The estate has {', '.join(sites)}.", next="Add --site NAME")
    return next(iter(sites))


@dataclass
class _Draft:
    """One system while its nodes are met: what the first of them settles holds for the others."""

    place: Workplace
    wanted: SystemWanted
    site: str
    driver: str = ""
    profile: str = ""
    product: str = ""

    async def node(self, text: str, name: str, learn: Learn | None) -> tuple[DraftNode, Reading]:
        address, greeting = await self._met(text)
        self.is_new(address)
        fingerprint = self.wanted.pins.get(text) or self.wanted.fingerprint or self._trusted(address, greeting, learn)
        reading = await self._read(address, name, fingerprint)
        self.is_new(address, reading.serial)
        told = ", ".join(part for part in (reading.model, f"runs {reading.version}") if part)
        draft = DraftNode(address=address, serial=reading.serial, says=told, fingerprint=fingerprint, ca=self.wanted.ca)
        return draft, reading

    async def _met(self, text: str) -> tuple[str, Greeting | None]:
        """The address with its protocol, and what answers there; the driver, where nobody says it."""
        profile = self.wanted.profile
        self.profile = self.profile or profile
        said = self.wanted.driver or (_taught(self.place, profile).driver if profile else "") or self.driver
        if said and said not in DRIVERS:
            raise WrongUse(
                f"No driver {clean(said, 40)!r}{suggestion(said, DRIVERS)}.", next="gallant profiles lists them"
            )
        if text.startswith(("local:", "hands:")):
            self.driver = said or ("shell" if text.startswith("local:") else "manual")
            return text, None
        scheme, _, rest = text.rpartition("://")
        scheme = scheme or SCHEME.get(said, "")
        if scheme not in ("", *PORTS):
            raise WrongUse(
                f"{clean(text, 80)} is no address.", next="Write HOST, https://HOST[:PORT] or ssh://HOST[:PORT]"
            )
        parts = urlsplit(f"//{rest}")
        host, port = _host_port(text, parts.hostname, lambda: parts.port)
        self._may_ask(host)
        usual = NETCONF_PORT if said == "netconf" else PORTS.get(scheme)
        ports = [port] if port is not None else [usual] if usual is not None else [443, NETCONF_PORT, 22]
        greeting = None
        for each in ports:
            greeting = greeting or await greet(host, each, waits=scheme == "https")
        if greeting is None:
            raise Unreached(
                f"Nothing answers at {clean(rest, 80)} (port {', '.join(map(str, ports))}).",
                next="Is it up, and is the address right? A port of its own is written HOST:PORT",
            )
        self.driver = said or BY_PROTOCOL.get(greeting.protocol, "")
        if not self.driver:
            raise Refused(
                f"{greeting.address} speaks HTTPS, and no protocol that every device of its kind has.",
                "Which questions it understands is what a profile says.",
                "Add --profile NAME|FILE; gallant profiles lists those that are built in",
            )
        return greeting.address, greeting

    def _may_ask(self, host: str) -> None:
        if self.place.estate.simulation is not None and not is_loopback(host):
            raise Refused(
                f"{clean(host, 80)} is no loopback address; a simulated estate never speaks to a real machine."
            )

    def _trusted(self, address: str, greeting: Greeting | None, learn: Learn | None) -> str | None:
        """The fingerprint to pin; None where a CA, or known_hosts, vouches for the device already."""
        if greeting is None or greeting.fingerprint is None or self.wanted.ca is not None or greeting.signed:
            return None
        if learn is None:
            raise Refused(
                f"{address} shows a {_key_words(greeting)} that nothing here vouches for: {greeting.fingerprint}.",
                "Nothing was sent to it.",
                f"Compare it with what its console shows; then add --pin {greeting.fingerprint}, or --yes to take it as"
                " it is",
            )
        if not learn(address, _key_words(greeting), greeting.fingerprint):
            raise Refused(f"{address} is not added: its {_key_words(greeting)} was not accepted.")
        return greeting.fingerprint

    async def _read(self, address: str, name: str, fingerprint: str | None) -> Reading:
        """What the device tells; where it answers as a kind that a built-in profile is for, by that profile."""
        reading = await self._read_as(address, name, fingerprint)
        better = _profile_for(self.driver, reading) if not self.profile else None
        if better is not None:
            self.profile = better
            reading = await self._read_as(address, name, fingerprint)
        self.product = self.wanted.product or _taught(self.place, self.profile or GENERIC_PROFILES[self.driver]).product
        return reading

    async def _read_as(self, address: str, name: str, fingerprint: str | None) -> Reading:
        try:
            return await self._ask(address, name, fingerprint)
        except GallantError as error:
            undecided = not (self.wanted.driver or self.profile) and self.driver == "debian"
            if not undecided or error.exit_code == Unreached.exit_code:
                raise
        self.driver = "shell"
        return await self._ask(address, name, fingerprint)

    async def _ask(self, address: str, name: str, fingerprint: str | None) -> Reading:
        system = self._system(address, name, fingerprint)
        async with self.place.drivers([system], keep_sight=False) as drivers:
            return await drivers[system.name].read(name)

    def _system(self, address: str, name: str, fingerprint: str | None) -> System:
        try:
            node = Node(address=address, fingerprint=fingerprint, ca=self.wanted.ca)
            accounts = (
                {"read": Account(user=self.wanted.user, secret=self.wanted.secret or "ask")} if self.wanted.user else {}
            )
        except ValueError as error:
            raise WrongUse(f"{error}.", next="gallant add --help") from None
        return System(
            name=self.wanted.name or "new",
            product="",
            shape="single",
            site=self.site,
            driver=self.driver,
            profile=self.profile or GENERIC_PROFILES.get(self.driver, ""),
            nodes={name: node},
            accounts=accounts,
        )

    def is_new(self, address: str, serial: str | None = None) -> None:
        """Raise `AlreadyThere` where the estate has the address already, `Refused` where it has the serial."""
        for system in self.place.estate.systems.values():
            for key, node in system.nodes.items():
                here = node_name(system, key)
                if node.address.rstrip("/") == address.rstrip("/"):
                    raise AlreadyThere(address, system.name, here)
                if serial is not None and node.serial == serial:
                    raise Refused(
                        f"{address} is {here} of the estate already: serial {serial}.", next=f"gallant survey {here}"
                    )


def _host_port(text: str, host: str | None, port: Callable[[], int | None]) -> tuple[str, int | None]:
    try:
        number = port()
    except ValueError:
        number, host = None, None
    if not host:
        raise WrongUse(f"{clean(text, 80)} is no address.", next="Write HOST, https://HOST[:PORT] or ssh://HOST[:PORT]")
    return host, number


def _key_words(greeting: Greeting) -> str:
    return greeting.kind if greeting.kind == "certificate" else f"host key ({greeting.kind})"


def _taught(place: Workplace, profile: str) -> Profile:
    from gallant.drivers.profile_reading import load_profile

    return load_profile(profile, place.folder)


def _profile_for(driver: str, reading: Reading) -> str | None:
    """The one built-in profile whose product has the name by which the device calls its model."""
    from gallant.operations.setup.files import kinds

    words = set(re.findall(r"[a-z0-9]+", (reading.model or "").casefold()))
    generic = set(GENERIC_PROFILES.values())
    fitting = [
        kind.profile
        for kind in kinds()
        if kind.driver == driver and kind.profile not in generic and kind.product.rpartition("/")[2] in words
    ]
    return fitting[0] if len(fitting) == 1 else None


def _letter(number: int) -> str:
    return LETTERS[number] if number < len(LETTERS) else f"n{number + 1}"


def _shape_of(wanted: SystemWanted, roles: Sequence[str]) -> str:
    """What was said, else what shows: nodes that are alone are a single, two of which one serves and one waits a
    pair."""
    if wanted.shape:
        if wanted.shape not in SHAPES:
            raise WrongUse(
                f"No shape {clean(wanted.shape, 40)!r}{suggestion(wanted.shape, SHAPES)}.",
                next=f"It is one of {', '.join(SHAPES)}",
            )
        return wanted.shape
    told = sorted(role for role in roles if role in ("active", "standby", "leader", "member"))
    if len(roles) == 1 and (not told or SHAPES["single"].plain_role in roles):
        return "single"
    if told == ["active", "standby"]:
        return "pair"
    if len(roles) == 1:
        raise Refused(
            f"It says that it is the {told[0]} of several, and one address was given.",
            "Planned alone, it would be taken down with nobody to carry on.",
            "gallant add ADDRESS ADDRESS --as NAME, with all of its nodes; or say --shape single",
        )
    raise WrongUse(
        f"How do its {len(roles)} nodes share the work? They say: {', '.join(roles)}.",
        next=f"Add --shape: {', '.join(SHAPES)}",
    )


def _name_of(draft: _Draft, address: str, driver: str) -> str:
    """What was said, else the host's own name, else its kind and address."""
    if draft.wanted.name:
        if (problem := name_problem(draft.wanted.name)) is not None:
            raise WrongUse(f"--as: {problem}.", next="As --as tickets")
        return draft.wanted.name
    host = (urlsplit(address).hostname or "here").casefold()
    try:
        ipaddress.ip_address(host)
        name = f"{driver}-{re.sub(r'[^a-z0-9]+', '-', host).strip('-')}"
    except ValueError:
        name = re.sub(r"[^a-z0-9_-]+", "-", host.partition(".")[0]).strip("-_") or driver
    return name


def _usual_kind(place: Workplace, draft: _Draft) -> str:
    """What such a system is called; nothing where the estate's defaults have a word on it."""
    if any(default.kind is not None for default in place.estate.defaults):
        return ""
    return USUAL_KINDS.get(draft.profile or GENERIC_PROFILES.get(draft.driver, ""), "")


def _write(place: Workplace, draft: _Draft, nodes: Sequence[tuple[DraftNode, Reading]]) -> Added:
    wanted, drafts = draft.wanted, {_letter(n): node for n, (node, _) in enumerate(nodes)}
    shape = _shape_of(wanted, [reading.role for _, reading in nodes])
    if len({node.serial for node in drafts.values()}) < len(drafts):
        raise Refused(
            f"Two of these addresses lead to one machine: serial {nodes[0][0].serial}.",
            "Nothing was written.",
            "Look at the addresses",
        )
    system = SystemDraft(
        name=_name_of(draft, nodes[0][0].address, draft.driver),
        product=draft.product,
        shape=shape,
        site=draft.site,
        driver=draft.driver,
        nodes=drafts,
        profile=draft.profile if draft.profile != GENERIC_PROFILES.get(draft.driver) else "",
        kind=wanted.kind or _usual_kind(place, draft),
        tags=wanted.tags,
        account=(wanted.user, wanted.secret or "ask") if wanted.user else None,
        roles={_letter(n): reading.role for n, (_, reading) in enumerate(nodes)},
    )
    return Added(
        system=system.name,
        nodes=tuple(
            _told(system.name, key, node, reading)
            for (key, node), (_, reading) in zip(drafts.items(), nodes, strict=True)
        ),
        product=system.product,
        profile=draft.profile or GENERIC_PROFILES.get(draft.driver, ""),
        shape=shape,
        line=_write_system(place, system),
    )


def _write_system(place: Workplace, system: SystemDraft) -> int:
    """Write a system into the estate's file; the line at which it stands. Raises `Refused` where it would be wrong."""
    path = place.path.resolve()  # where a link stands in the file's place, the file itself is written
    text = path.read_bytes().decode("utf-8")
    after = with_system(path.name, text, system, f"added {place.clock.now():%Y-%m-%d} by {place.user}")
    try:
        parse_estate(path.name, after, Files(place.folder))
    except Invalid as error:
        raise Refused(
            f"{path.name} is not written: with {system.name} in it, it would be wrong: {error.lines[0]}.",
            next="Say it otherwise (gallant add --help), or mend the file first: gallant validate estate.yaml",
        ) from None
    mode = path.stat().st_mode & 0o777
    put_whole(path, after.encode())
    path.chmod(mode)
    return next(
        (n for n, row in enumerate(after.splitlines(), 1) if row.strip().startswith(f"{system.name}:  # added ")), 0
    )


def _told(system: str, key: str, node: DraftNode, reading: Reading) -> AddedNode:
    return AddedNode(
        node=f"{system}/{key}",
        address=node.address,
        serial=node.serial,
        model=reading.model,
        version=reading.version,
        role=reading.role,
        fingerprint=node.fingerprint,
    )
