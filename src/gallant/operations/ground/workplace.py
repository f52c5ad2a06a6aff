"""The estate's folder, opened for one command: its file, clock, stores, catalogs and drivers, each when first
needed."""

from __future__ import annotations

import os
import secrets
from collections.abc import AsyncIterator, Callable, Iterator, Sequence
from contextlib import AsyncExitStack, asynccontextmanager, suppress
from functools import cached_property, partial
from importlib import import_module
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec

from gallant.core.catalog.products import Bundle, Catalog, Package, Product, joined
from gallant.core.errors import GallantError, WrongUse
from gallant.core.estate.pins import Pin, pin_line, with_pins, without_serial
from gallant.core.estate.selecting import select
from gallant.core.estate.sources import Access, Source
from gallant.core.estate.systems import Estate, Note, System, node_name
from gallant.core.plan.alike import Routes
from gallant.core.ports import WrongMachine
from gallant.core.records import clean, replace, rfc3339
from gallant.disk import appending, opened
from gallant.operations.ground.clock import EstateClock
from gallant.operations.ground.opening import open_estate
from gallant.operations.ground.secrets import Asker, resolve
from gallant.operations.ground.written import KNOWN_NODES, NODES_FILE, NOTES_FILE, T, Written, keep_copy, read
from gallant.people import Person, this_person
from gallant.store.database import estate_of, state_folder

if TYPE_CHECKING:
    from aiohttp import ClientSession

    from gallant.catalogs.fetch import Reach
    from gallant.core.ports import Driver, Ledger, Refusals, Rolls, Stock, Store
    from gallant.core.work.knows import Knows
    from gallant.drivers.base import ProfiledDriver
    from gallant.drivers.profile import Profile
    from gallant.drivers.tools import Credential, Tools

ESTATE_FILE = "estate.yaml"
Ask = Callable[[str], bool]  # a question, and whether somebody said yes
# Each driver's class, imported when a system needs it.
DRIVER_CLASSES = {
    "http": ("gallant.drivers.http.driver", "HttpDriver"),
    "redfish": ("gallant.drivers.redfish.driver", "RedfishDriver"),
    "netconf": ("gallant.drivers.netconf.driver", "NetconfDriver"),
    "shell": ("gallant.drivers.shell", "ShellDriver"),
    "debian": ("gallant.drivers.debian", "DebianDriver"),
    "manual": ("gallant.drivers.manual", "ManualDriver"),
}
SPEAK_HTTP = ("http", "redfish")


def driver_of(system: System, profile: Profile, tools: Tools) -> ProfiledDriver:
    """A system's driver; its module is loaded only now."""
    module, name = DRIVER_CLASSES[system.driver]
    kind: type[ProfiledDriver] = getattr(import_module(module), name)
    return kind(system, profile, tools)


def _with_calendars(estate: Estate, folder: Path) -> Estate:
    if not any(rule.file for rule in (*estate.windows, *estate.blackouts)):
        return estate
    from gallant.operations.ground.calendars import with_calendars

    return with_calendars(estate, folder)


class Workplace:
    """Everything a command works with. Made from the path of an estate file, or of the folder that holds one."""

    def __init__(self, path: Path, asker: Asker | None = None, forgiving: bool = False) -> None:
        """`forgiving`: what was written down and cannot be read counts as
        nothing; for whoever looks what is wrong, and for no work."""
        self._forgiving = forgiving
        self.path = path / ESTATE_FILE if path.is_dir() else path
        self.folder = self.path.parent.resolve()
        self.asker = asker
        self._kept = False  # whether a node was held to a serial since the last copy of that
        self._secrets: dict[tuple[str, str], tuple[str, str, str]] = {}
        try:
            text = self.path.read_bytes()
        except OSError as error:
            raise WrongUse(
                f"{self.path} cannot be read: {error.strerror}.",
                next="Go to the estate's folder, name it with --estate, or make one: gallant init",
            ) from None
        name = str(path / ESTATE_FILE if path.is_dir() else path)
        self._declared = _with_calendars(open_estate(name, text, self.folder), self.folder)
        self._declared = replace(self._declared, notes=(*self._declared.notes, *self.own_notes))
        self.estate: Estate = self._held_to(self._declared)
        self.clock = EstateClock(self.estate)

    @cached_property
    def own_notes(self) -> tuple[Note, ...]:
        """What was noted on the command line, beside the notes of the estate's file."""
        return self.notes_now()

    def notes_now(self) -> tuple[Note, ...]:
        """The same, read once more. Raises `GallantError` where they cannot be read: they are no notes less."""
        notes = self._written(NOTES_FILE)
        return tuple(notes or ())

    def _written(self, file: Written[T]) -> T | None:
        try:
            return read(file, self.folder)
        except GallantError:
            if self._forgiving:
                return None
            raise

    def _held_to(self, declared: Estate) -> Estate:
        """With the serials that were taken at first sight, where the file names none."""
        return with_pins(declared, self._pins) if without_serial(declared) else declared

    @cached_property
    def _pins(self) -> dict[str, Pin]:
        pins = self._written(NODES_FILE)
        return dict(pins or {})

    @cached_property
    def _whose(self) -> dict[str, str]:
        """The node of each serial."""
        every = ((s, n, node.serial) for s in self.estate.systems.values() for n, node in s.nodes.items())
        return {serial: node_name(system, n) for system, n, serial in every if serial}

    def sighted(self, node: str, serial: str) -> None:
        """Hold a node to the serial that it says at first sight.
        Raises `WrongMachine` where another node has that already."""
        other = self._whose.setdefault(serial, node)
        if other != node:
            raise WrongMachine(
                f"{node} answers as serial {serial}, which is {other}.",
                "Two addresses lead to one machine; nothing is done to it.",
                f"Look at the addresses of {node} and {other} in estate.yaml",
                serial=serial,
            )
        self._keep(node, Pin(serial=serial, since=rfc3339(self.clock.now())))

    def confirm(self, node: str) -> None:
        """A person's word that a node is the one that it was at first sight."""
        self._keep(node, replace(self._pins[node], by=clean(self.user, 80)))

    def _keep(self, node: str, pin: Pin) -> None:
        self._pins[node], self._kept = pin, True
        with appending(self.folder / KNOWN_NODES) as file:
            file.write(pin_line(node, pin).encode())

    def hold_to_pins(self) -> None:
        """From now on, what was seen or confirmed in this run counts as what the estate says."""
        self.estate = self._held_to(self._declared)
        if self._kept:
            self._kept = False
            with suppress(GallantError):  # the file itself is written; gallant doctor tells of the copy
                keep_copy(NODES_FILE, self.folder)

    @cached_property
    def person(self) -> Person:
        """Whose process this is."""
        return this_person()

    @property
    def user(self) -> str:
        """The account of this process."""
        return self.person.name

    @cached_property
    def identity(self) -> str:
        """What tells this estate from every other, whatever they are
        called: made once, kept in state/ and in every store.

        Where the file is gone, the journal says it.
        """
        folder = state_folder(self.folder)
        path = folder / "identity"
        if not path.exists():
            ours = estate_of(folder / "journal.db") or secrets.token_hex(16)
            with suppress(FileExistsError), os.fdopen(opened(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL), "w") as file:
                file.write(f"{ours}\n")
        return clean(path.read_text("utf-8", "replace"), 64)

    @cached_property
    def writable(self) -> tuple[str, ...]:
        """What Gallant goes by and others could change: by its path in the estate's folder, else by its whole one."""
        from gallant.operations.ground.rights import others_could_change

        names = {self.folder: "the folder itself"}
        every = dict.fromkeys(others_could_change(self.folder, self._read_beside()))
        return tuple(
            names.get(path) or str(path.relative_to(self.folder) if path.is_relative_to(self.folder) else path)
            for path in every
        )

    def _read_beside(self) -> Iterator[Path]:
        yield from self.secret_files()
        yield from self.named_files()

    def secret_files(self) -> Iterator[Path]:
        """What the estate names that is somebody's alone: secrets, keys,
        the identity that opens backups; it may lie anywhere."""
        estate = self.estate
        systems = (account for system in estate.systems.values() for account in system.accounts.values())
        others = (
            *(catalog.account for catalog in estate.catalogs.values()),
            *(copy.account for copy in estate.backups.copies),
            *(place.account for place in estate.notify),
        )
        for account in (*estate.accounts.values(), *systems, *filter(None, others)):
            kind, _, where = account.secret.partition(":")
            if kind in ("file", "key"):
                yield self.folder / Path(where).expanduser()
        if estate.backups.identity:
            yield self.folder / estate.backups.identity

    def named_files(self) -> Iterator[Path]:
        """What else the estate names, wherever it lies: profiles, calendars, CAs."""
        estate = self.estate
        profiles = {system.profile for system in estate.systems.values()}
        yield from (self.folder / name for name in profiles if name.endswith((".yaml", ".yml")))
        yield from (self.folder / rule.file for rule in (*estate.windows, *estate.blackouts) if rule.file)
        nodes = (node for system in estate.systems.values() for node in system.nodes.values())
        cas = {*(node.ca for node in nodes), *(c.ca for c in estate.catalogs.values())}
        yield from (self.folder / name for name in cas if name)

    @cached_property
    def readings(self) -> Store:
        from gallant.store.readings import ReadingStore

        return ReadingStore(self.folder, self.identity)

    @cached_property
    def ledger(self) -> Ledger:
        from gallant.store.ledger import LedgerStore

        return LedgerStore(self.folder, self.identity)

    @cached_property
    def journal(self) -> Rolls:
        from gallant.store.journal import JournalStore

        return JournalStore(self.folder, self.identity)

    @cached_property
    def stock(self) -> Stock:
        from gallant.stock.stockroom import Stockroom

        return Stockroom(self.folder)

    def select(self, terms: Sequence[str]) -> list[tuple[System, tuple[str, ...]]]:
        """The systems that all terms hold for. Raises `WrongUse` where nothing is selected, and where there is nothing
        at all: an estate without systems must not look as if all were well."""
        if not self.estate.systems:
            raise WrongUse(
                "The estate declares no systems, so there is nothing to look at.",
                next=(
                    "gallant add ADDRESS reads a device and writes it there; or write it yourself under systems: in"
                    " estate.yaml"
                ),
            )
        return select(self.estate, terms)

    def systems(self, terms: Sequence[str]) -> list[System]:
        """The systems that some terms select."""
        return [system for system, _ in self.select(terms)]

    # --- catalogs

    @cached_property
    def catalogs(self) -> list[tuple[Source, Catalog]]:
        """The last good catalog of every source that has one. They were verified when they were kept."""
        found = []
        for source in self.readings.sources():
            raw = self.readings.raw_catalog(source.name)
            try:
                if raw is not None:
                    found.append((source, msgspec.json.decode(raw, type=Catalog)))
            except (msgspec.MsgspecError, ValueError):
                told = f"what was kept of it is damaged; gallant catalog sync {source.name} brings it again"
                self.readings.note_check(source.name, self.clock.now(), told, source.state or "reachable")
        return found

    @cached_property
    def products(self) -> dict[str, Product]:
        """By name. Several channels of packages may list one product; their releases are put together."""
        found: dict[str, Product] = {}
        for _, catalog in self.catalogs:
            for product in catalog.products:
                before = found.get(product.name)
                found[product.name] = product if before is None else joined(before, product)
        return found

    @cached_property
    def bundles(self) -> tuple[Bundle, ...]:
        """All bundles of the catalogs here."""
        return tuple(bundle for _, catalog in self.catalogs for bundle in catalog.bundles)

    def routes(self) -> Routes:
        """What aims come to now, and which routes lead there: one for all systems that are looked at together."""
        return Routes(self.clock.now(), self.bundles)

    def terms_text(self, product: str, version: str) -> str | None:
        """The text of a version of the terms of a product's publisher; None where the catalog carries none."""
        source = self.source_of(product)
        catalog = next((c for s, c in self.catalogs if source is not None and s.name == source.name), None)
        return next((t.text for t in catalog.terms if t.version == version), None) if catalog else None

    def source_of(self, product: str, package: Package | None = None) -> Source | None:
        """The source that lists a product, and among several the one that has the package."""
        for source, catalog in self.catalogs:
            for found in catalog.products:
                if found.name == product and (package is None or any(package in r.packages for r in found.releases)):
                    return source
        return None

    def package_url(self, product: str, package: Package) -> str:
        from gallant.catalogs.fetch import beside

        source = self.source_of(product, package)
        if source is None:
            raise GallantError(f"No catalog here lists {product}.", next="gallant catalog add NAME SOURCE --key FILE")
        return beside(source.source, package.url)

    def reach(self, source: str, access: Access | None) -> Reach:
        """How requests to a source are made; its secret is fetched now, where it has one."""
        from gallant.catalogs.fetch import Reach

        secret = None
        if access is not None and access.account is not None:
            secret = resolve(access.account, self.folder, self.asker, f"the source {source}")
        return Reach(source, access, self.folder, secret)

    # --- drivers

    @cached_property
    def refusals(self) -> Refusals:
        """The logins that were refused in this run, on whatever system and for whatever purpose."""
        from gallant.core.ports import Refusals

        return Refusals()

    def credentials(self, system: System, purpose: str) -> tuple[str, str, str]:
        """User, secret and its kind; fetched once a run, and only for a purpose that really comes up."""
        account = self.estate.account(system, purpose)
        key = (account.user, account.secret)
        if key not in self._secrets:
            self._secrets[key] = (
                account.user,
                resolve(account, self.folder, self.asker, f"{system.name} ({purpose})"),
                {"key": "key", "agent": "agent"}.get(account.secret.partition(":")[0], "password"),
            )
        return self._secrets[key]

    def has_to_ask(self, system: System, purpose: str) -> bool:
        """Whether somebody would have to type a system's secret first."""
        account = system.accounts.get(purpose) or self.estate.accounts.get(purpose)
        return account is not None and account.secret == "ask" and (account.user, account.secret) not in self._secrets

    def _ask_now(self, systems: Sequence[System], purpose: str) -> None:
        """Have typed what has to be typed, before a progress bar or a live view has the screen."""
        for system in systems:
            account = system.accounts.get(purpose) or self.estate.accounts.get(purpose)
            if account is not None and account.secret == "ask":
                self.credentials(system, purpose)

    @asynccontextmanager
    async def drivers(
        self,
        systems: Sequence[System],
        remembering: bool = False,
        package_file: Callable[[str, str], Path] | None = None,
        learn: Callable[[str, str, str], bool] | None = None,
        hands: Callable[[str], str | None] | None = None,
        keep_sight: bool = True,
    ) -> AsyncIterator[dict[str, Driver]]:
        """A driver for each system, logged out at the end; those that speak HTTP share one session.

        `remembering` drivers ask only for what has changed, where a device can tell. `package_file` says where a file
        lies that is given to a node; else it is the stock. `learn` and `hands` ask a person, where one is there.
        `keep_sight`: a node without a serial is held from now on to the one that it says.
        """
        import asyncio

        from gallant.drivers.profile_reading import load_profile

        self._ask_now(systems, "read")
        async with AsyncExitStack() as stack:
            session = None
            if any(system.driver in SPEAK_HTTP for system in systems):
                from gallant.drivers.http.driver import new_session

                session = await stack.enter_async_context(new_session(1 if remembering else 8))
            tools = self._tools(remembering, package_file, session, learn, hands, keep_sight)
            made: dict[str, Driver] = {
                system.name: driver_of(system, load_profile(system.profile, self.folder), tools(system))
                for system in systems
            }
            try:
                yield made
            finally:
                await asyncio.gather(*(driver.close() for driver in made.values()))

    def _tools(
        self,
        remembering: bool,
        package_file: Callable[[str, str], Path] | None,
        session: ClientSession | None,
        learn: Callable[[str, str, str], bool] | None,
        hands: Callable[[str], str | None] | None,
        keep_sight: bool,
    ) -> Callable[[System], Tools]:
        """What drivers are given; those of one site share what may be sent there in a second."""
        from gallant.drivers.tools import Tools
        from gallant.stock.serve import serving
        from gallant.stock.stockroom import Throttle

        rates = {name: site.preload_mbit_per_s for name, site in self.estate.sites.items()}
        throttles = {name: Throttle(rate * 125_000) for name, rate in rates.items() if rate is not None}
        stock = self.stock.path

        def tools(system: System) -> Tools:
            return Tools(
                credentials=partial(self._credential, system),
                clock=self.clock,
                folder=self.folder,
                session=session,
                package_file=package_file or stock,
                serving=partial(serving, throttle=throttles.get(system.site)),
                throttle=throttles.get(system.site),
                memory=self.readings if remembering else None,
                one_by_one=remembering,
                learn_key=learn,
                hands=hands,
                refusals=self.refusals,
                sighted=self.sighted if keep_sight else None,
            )

        return tools

    def _credential(self, system: System, purpose: str) -> Credential:
        from gallant.drivers.tools import Credential

        return Credential(*self.credentials(system, purpose))

    def profile_digests(self, systems: Sequence[System]) -> dict[str, str]:
        from gallant.drivers.profile_reading import load_profile

        return {s.profile: load_profile(s.profile, self.folder).digest for s in systems}


def knows_of(profile: Profile) -> Knows:
    """What a profile gives a device, its driver's own included; nothing is contacted."""
    from gallant.core.estate.systems import Node, Site
    from gallant.drivers.tools import Credential, Tools

    address = {"shell": "ssh://x", "debian": "ssh://x", "netconf": "ssh://x", "manual": "hands:"}
    node = Node(address=address.get(profile.driver, "https://x"), serial="x")
    system = System(
        product=profile.product,
        shape="single",
        site="x",
        driver=profile.driver,
        profile=profile.name,
        nodes={"n": node},
    )
    estate = Estate(gallant="estate/1", name="x", sites={"x": Site()}, systems={})
    tools = Tools(credentials=lambda purpose: Credential("", ""), clock=EstateClock(estate))
    return driver_of(system, profile, tools).knows()
