"""Products, releases, packages, requirements and recalls, as a publisher's signed catalog says them."""

from __future__ import annotations

import re
from bisect import bisect_right
from functools import cached_property
from typing import Annotated

import msgspec

from gallant.core.catalog.conditions import check_condition
from gallant.core.records import LONGEST_TEXT, Moment, Record, check_moments, cleaned, digest
from gallant.core.versions import SCHEMES, NotAVersion, Version, parse, parse_range

SCHEMA = "gallant.catalog/1"
SEVERITIES = ("critical", "high", "medium", "low")
RESTARTS = ("none", "service", "node")
Positive = Annotated[float, msgspec.Meta(ge=0, le=100_000)]
LARGEST_PACKAGE = 2**50
_FILE = re.compile(r"[A-Za-z0-9][A-Za-z0-9._+~-]{0,127}", re.ASCII)
_SHA256 = re.compile(r"[0-9a-f]{64}", re.ASCII)
_PRODUCT = re.compile(r"[a-z0-9][a-z0-9._-]{0,62}/[a-z0-9][a-z0-9._-]{0,62}", re.ASCII)


class Package(Record):
    """A file that brings a release: its name, where it lies (relative to the catalog), size and SHA-256.

    One release may come in several forms: an `installer` goes on whatever the release goes on, a `patch` only on the
    versions in `from_range` (VERS); `delivery` names the path that a form is made for (absent: any).
    """

    name: str
    url: str
    bytes: Annotated[int, msgspec.Meta(ge=0, le=LARGEST_PACKAGE)]
    sha256: str
    kind: str = "installer"
    from_range: str | None = None
    delivery: str | None = None

    def __post_init__(self) -> None:
        if self.from_range is not None:
            parse_range(self.from_range)
        if not _FILE.fullmatch(self.name):
            raise ValueError("name: a package is a plain file name")
        if not _SHA256.fullmatch(self.sha256):
            raise ValueError("sha256: 64 small hexadecimal digits")


class Minutes(Record):
    """The publisher's word on how long each part takes, in minutes per node."""

    install: Positive = 10
    restart: Positive = 5
    sync: Positive = 5

    @property
    def total(self) -> float:
        """Install, restart and sync together."""
        return self.install + self.restart + self.sync


class Recall(Record):
    """A release withdrawn by its publisher. `when`
    (core/catalog/conditions.py): the nodes that it concerns; absent: all."""

    date: Moment
    reason: str
    when: str | None = None

    def __post_init__(self) -> None:
        check_moments(date=self.date)
        if self.when is not None:
            check_condition(self.when)

    @property
    def words(self) -> str:
        """Since when, and why."""
        return f"recalled on {self.date:%Y-%m-%d}: {self.reason}"


class KnownIssue(Record):
    """What is wrong with a release. `when` (core/catalog/conditions.py): the nodes that it concerns; absent: all."""

    text: str
    when: str | None = None
    severity: str = "medium"

    def __post_init__(self) -> None:
        if self.severity not in SEVERITIES:
            raise ValueError(f"severity: one of {', '.join(SEVERITIES)}")
        if self.when is not None:
            check_condition(self.when)


class NewSetting(Record):
    """A setting that a release has for the first time: what it is set
    to unless somebody says otherwise, and what it is for."""

    name: str
    default: str = ""
    text: str = ""

    @property
    def words(self) -> str:
        """Which setting is new, and to what it is set."""
        default = f" (set to {self.default})" if self.default else ""
        return f"{self.name}{default}{f': {self.text}' if self.text else ''}"


class Requirement(Record):
    """A release's condition on another product's version, as a VERS range."""

    product: str
    range: str

    def __post_init__(self) -> None:
        parse_range(self.range)


class Release(Record):
    """One version of one product.

    `from_range` (VERS) says from which versions it installs; absent: from any older one. `stops_here` false: its
    updater runs on to a later release. `snapshots` false: a system on it cannot be snapshotted. `fresh_install` (VERS):
    the versions whose saved configuration a fresh install of it takes; absent: the publisher allows none. `terms` is
    the version of the publisher's terms of use that must be accepted. `settings` are new in it, and want a look.
    `channel` is the one that a host gets it from, by the name that the host has for it.
    """

    version: str
    released: Moment
    build: str | None = None
    label: str | None = None
    train: str | None = None
    severity: str = "medium"
    security: bool = False
    from_range: str | None = None
    bridge: bool = False
    one_way: bool = False
    one_way_because: str | None = None
    stops_here: bool = True
    restart: str = "node"
    minutes: Minutes = Minutes()
    requires: tuple[Requirement, ...] = ()
    packages: tuple[Package, ...] = ()
    known_issues: tuple[KnownIssue | str, ...] = ()
    notes: str = ""
    recall: Recall | None = None
    support_ends: Moment | None = None
    terms: str | None = None
    snapshots: bool = True
    fresh_install: str | None = None
    settings: tuple[NewSetting, ...] = ()
    channel: str | None = None

    def __post_init__(self) -> None:
        if self.severity not in SEVERITIES:
            raise ValueError(f"severity: one of {', '.join(SEVERITIES)}")
        check_moments(released=self.released, support_ends=self.support_ends)
        if self.restart not in RESTARTS:
            raise ValueError(f"restart: one of {', '.join(RESTARTS)}")
        for text in (self.from_range, self.fresh_install):
            if text is not None:
                parse_range(text)

    @property
    def issues(self) -> tuple[KnownIssue, ...]:
        """The known issues, worst first; a plain text is one of medium severity that concerns everybody."""
        issues = (i if isinstance(i, KnownIssue) else KnownIssue(text=i) for i in self.known_issues)
        return tuple(sorted(issues, key=lambda issue: SEVERITIES.index(issue.severity)))

    def package_on(self, running: Version | None, delivery: str | None = None) -> Package | None:
        """The smallest form of this release that goes on `running` by this delivery path; None when there is none.

        Without a `running` version only a form that goes on anything counts.
        """
        fitting = [
            p
            for p in self.packages
            if p.delivery in (None, delivery)
            and (
                p.from_range is None
                if running is None
                else p.from_range is None or running in parse_range(p.from_range)
            )
            and (p.kind == "installer" or p.from_range is not None)
        ]
        return min(fitting, key=lambda p: (p.bytes, p.name), default=None)

    @property
    def installer(self) -> Package | None:
        """The package of a fresh install, where there is one."""
        return next((p for p in self.packages if p.kind == "installer"), None)


class Product(Record, dict=True):
    """A product's releases, under one version scheme."""

    name: str
    scheme: str
    releases: tuple[Release, ...]
    title: str = ""

    def __post_init__(self) -> None:
        if not _PRODUCT.fullmatch(self.name):
            raise ValueError("name: publisher/product in small letters")
        if self.scheme not in SCHEMES:
            raise ValueError(f"scheme: one of {', '.join(SCHEMES)}")
        seen: dict[Version, str] = {}
        for release in self.releases:
            version = parse(self.scheme, release.version)
            if version in seen:
                raise ValueError(f"releases: {release.version} and {seen[version]} are one version")
            seen[version] = release.version

    def key(self, release: Release) -> Version:
        """A release's place among all versions of its scheme."""
        return parse(self.scheme, release.version)

    @cached_property
    def ascending(self) -> tuple[tuple[Version, Release], ...]:
        """Every release with its version, oldest first."""
        return tuple(sorted(((self.key(r), r) for r in self.releases), key=lambda pair: pair[0]))

    def between(self, after: Version, until: Version) -> list[tuple[Version, Release]]:
        """The releases newer than `after` and not newer than `until`, oldest first."""
        keys = self._keys
        return list(self.ascending[bisect_right(keys, after) : bisect_right(keys, until)])

    def after(self, version: Version) -> int:
        """The place in `ascending` of the oldest release that is newer than `version`."""
        return bisect_right(self._keys, version)

    def release(self, version: Version) -> Release | None:
        """The release of exactly this version."""
        return self._by_name.get(version)

    @cached_property
    def _keys(self) -> list[Version]:
        return [version for version, _ in self.ascending]

    @cached_property
    def _by_name(self) -> dict[object, Release]:
        """Version, build and label are three names of one release; a version wins over the other two."""
        names: dict[object, Release] = {}
        for release in self.releases:
            for alias in (release.label, release.build):
                if alias is not None:
                    names.setdefault(alias.casefold(), release)
        return names | {self.key(release): release for release in self.releases}

    def resolve(self, text: str) -> Release | None:
        """The release that `text` (version, build or label) names; None when it names none here."""
        try:
            found = self._by_name.get(parse(self.scheme, text))
        except NotAVersion:
            found = None
        return found or self._by_name.get(text.casefold())

    def same(self, one: str | None, other: str | None) -> bool:
        """Whether two texts name one version, by whatever name of it; what is not told is the same as nothing."""
        if one is None or other is None:
            return False
        if one == other:
            return True
        release = self.resolve(one)
        return release is not None and release == self.resolve(other)


def joined(one: Product, other: Product) -> Product:
    """Two lists of one product's releases as one; of a version that both have, `one` has the word."""
    if one.scheme != other.scheme:
        return one
    known = {one.key(release) for release in one.releases}
    more = tuple(release for release in other.releases if other.key(release) not in known)
    return Product(name=one.name, scheme=one.scheme, releases=(*one.releases, *more), title=one.title) if more else one


def version_of(product: Product, text: str) -> Version | None:
    """The version that a text is, by whatever name of it; None for one that cannot be compared."""
    known = product.resolve(text)
    if known is not None:
        return product.key(known)
    try:
        return parse(product.scheme, text)
    except NotAVersion:
        return None


class Bundle(Record):
    """Versions by product that were validated together; `optional` ones only where a system has them."""

    name: str
    released: Moment
    versions: dict[str, str]
    optional: dict[str, str] = {}
    notes: str = ""
    recall: Recall | None = None

    def __post_init__(self) -> None:
        check_moments(released=self.released)

    def version_of(self, product: str) -> str | None:
        """What a bundle has of a product, also where that is optional; None where it has nothing of it."""
        return self.versions.get(product) or self.optional.get(product)


class Terms(Record):
    """One version of a publisher's terms of use, and its text."""

    version: str
    text: str


class Catalog(Record):
    """A publisher's catalog: serial-numbered and expiring; the signature is verified before this exists."""

    schema: str
    publisher: str
    serial: Annotated[int, msgspec.Meta(ge=1, le=2**62)]
    issued: Moment
    expires: Moment
    products: tuple[Product, ...]
    bundles: tuple[Bundle, ...] = ()
    terms: tuple[Terms, ...] = ()

    def __post_init__(self) -> None:
        if self.schema != SCHEMA:
            raise ValueError(f"schema: {self.schema!r} is not known here; this Gallant reads {SCHEMA}")
        check_moments(issued=self.issued, expires=self.expires)
        if self.serial > self.issued.timestamp() * 1000:  # so that another can always follow
            raise ValueError("serial: no higher than the milliseconds since 1970 at which it was issued")


def decode_catalog(raw: bytes) -> Catalog:
    """The catalog that JSON holds, every text in it cleaned. Raises ValueError (`msgspec.DecodeError` is one).

    Where no text can hold anything but plain characters, which the bytes tell, there is nothing to clean.
    """
    spotless = raw.isascii() and b"\\" not in raw and b"\x7f" not in raw
    if spotless and max(map(len, raw.split(b'"'))) <= LONGEST_TEXT:
        return msgspec.json.decode(raw, type=Catalog)
    return msgspec.convert(cleaned(msgspec.json.decode(raw)), Catalog)


class PackageHeld(Record):
    """One package in stock."""

    name: str
    sha256: str
    bytes: int
    path: str


def release_digest(release: Release) -> str:
    """What a plan is based on: any change in what a catalog says of a release changes this."""
    return digest(release)
