"""Channels of Debian packages as catalogs, read in their own
format: a signed Release, and the Packages that it vouches for.

Release is InRelease (signed in clear, RFC 4880 section 7) or Release with Release.gpg next to it; it lists each index
with its size and SHA-256 and may expire (`Valid-Until`). Its date is the serial: an older one is never taken back. An
index is fetched by its hash where the channel offers that, so that a mirror that is being written to gives no mixture.
"""

from __future__ import annotations

import gzip
import hashlib
import lzma
import re
import zlib
from collections.abc import Awaitable, Callable, Iterator, Mapping
from datetime import UTC, datetime, timedelta
from email.utils import parsedate_to_datetime
from urllib.parse import urljoin

import msgspec

from gallant.catalogs.fetch import NotThere, SourceAnswer
from gallant.catalogs.trust import AHEAD, LARGEST, OPENPGP, certificates
from gallant.core.catalog.products import SCHEMA, Catalog, Minutes, Package, Product, Release
from gallant.core.errors import Refused, WrongUse
from gallant.core.estate.sources import AptChannel
from gallant.core.records import Record, check_moments, clean
from gallant.core.versions import NotAVersion, Version, parse

Get = Callable[[str, int, str | None], Awaitable[SourceAnswer]]  # url, limit, entity tag
PUBLISHER = "deb"
LARGEST_RELEASE = 16 * 1024 * 1024
LARGEST_INDEX = 512 * 1024 * 1024
# A channel whose Release has no Valid-Until does not expire by itself.
NO_END = timedelta(days=3650)
MINUTES = Minutes(install=1, restart=0, sync=0)
_SECURITY = re.compile(r"(^|[-/])security($|[-/])", re.IGNORECASE)
_KERNEL = re.compile(r"linux-image-")
KEEP = "The last good one stays in use."


class Signed(Record):
    """A Release whose signature was verified: its fields, and the indexes it vouches for by path (size, SHA-256)."""

    fields: dict[str, str]
    indexes: dict[str, tuple[int, str]]
    date: datetime
    until: datetime | None
    sha256: str
    tag: str | None = None

    @property
    def by_hash(self) -> bool:
        return self.fields.get("acquire-by-hash", "").lower() == "yes"


class ChannelRead(Record):
    """A channel as a catalog, and how many entries of its indexes were not understood and left out."""

    catalog: Catalog
    sha256: str
    tag: str | None
    left_out: int


async def read_channel(
    name: str,
    channel: AptChannel,
    key: str,
    get: Get,
    now: datetime,
    serial: int,
    known: Mapping[str, datetime],
    tag: str | None,
) -> ChannelRead | None:
    """The channel's packages as a catalog named `name`; None when its Release is that of `tag`.

    `serial` is that of the last accepted one, `known` says when each "product version" was first seen: a channel does
    not date its packages. Raises `Refused`, with a message of its own for each way in which a channel can be wrong.
    """
    signed = await _release(name, channel, key, get, tag)
    if signed is None:
        return None
    _refuse_old(name, channel, signed, now, serial)
    stanzas: list[Mapping[str, str]] = []
    for component in channel.components or ("",):
        stanzas += _stanzas(await _index(name, channel, component, signed, get))
    products, left_out = _products(channel, signed, stanzas, known)
    catalog = Catalog(
        schema=SCHEMA,
        publisher=name,
        serial=int(signed.date.timestamp()),
        issued=signed.date,
        expires=signed.until or signed.date + NO_END,
        products=products,
    )
    return ChannelRead(catalog=catalog, sha256=signed.sha256, tag=signed.tag, left_out=left_out)


async def _release(name: str, channel: AptChannel, key: str, get: Get, tag: str | None) -> Signed | None:
    """A channel's Release once its signature fits; None where it is the one of `tag`."""
    if not key.startswith(OPENPGP):
        raise WrongUse(
            f"The channel {name} is held against a key of another kind.",
            "A channel of Debian packages is signed with OpenPGP.",
            f"gallant catalog trust {name} --key FILE, with the repository's key.",
        )
    base = urljoin(channel.url, channel.release_folder)
    try:
        got = await get(base + "InRelease", LARGEST_RELEASE, tag)
        if got.raw is None:
            return None
        text = _verified(name, got.raw, None, key)
    except NotThere:
        got = await get(base + "Release", LARGEST_RELEASE, tag)
        if got.raw is None:
            return None
        text = _verified(name, got.raw, await _signature_beside(name, base, get), key)
    return _in_form(name, text, got.tag)


async def _signature_beside(name: str, base: str, get: Get) -> bytes:
    try:
        return (await get(base + "Release.gpg", 64 * 1024, None)).raw or b""
    except NotThere:
        raise Refused(
            f"The channel {name} is not signed: it has neither InRelease nor Release.gpg.",
            "What nobody vouches for is not believed. " + KEEP,
            "Ask the people who run it.",
        ) from None


def _in_form(name: str, text: bytes, tag: str | None) -> Signed:
    """What a Release says of itself and of its indexes. Raises `Refused` where it says it in no form."""
    fields = next(iter(_stanzas(text)), {})
    try:
        date = _moment(fields["date"])
        until = _moment(fields["valid-until"]) if "valid-until" in fields else None
        check_moments(date=date, valid_until=until)
        indexes = dict(_listed(fields["sha256"]))
    except KeyError as error:
        raise Refused(f"The Release of the channel {name} has no {str(error.args[0]).title()}.", KEEP) from None
    except (ValueError, OverflowError, TypeError) as error:
        raise Refused(f"The Release of the channel {name} is not in form: {clean(str(error), 100)}.", KEEP) from None
    return Signed(
        fields=dict(fields),
        indexes=indexes,
        date=date,
        until=until,
        sha256=hashlib.sha256(text).hexdigest(),
        tag=tag,
    )


def _verified(name: str, raw: bytes, signature: bytes | None, key: str) -> bytes:
    """The bytes that were signed, once the pinned certificate vouches for them."""
    from pysequoia import Sig, verify

    if len(raw) > LARGEST_RELEASE:
        raise Refused(f"The Release of the channel {name} is larger than {LARGEST_RELEASE // 1024 // 1024} MiB.", KEEP)
    pinned = certificates(key)
    try:
        found = (
            verify(raw, store=lambda _: pinned)
            if signature is None
            else verify(raw, store=lambda _: pinned, signature=Sig.from_bytes(signature))
        )
        if not found.valid_sigs:
            raise ValueError("no valid signatures found")
    except Exception as error:  # the library has one class for all that can be wrong
        raise Refused(
            f"The signature of the channel {name} does not fit:"
            f" {clean(str(error).splitlines()[0] if str(error) else 'unreadable', 100)}.",
            "It was altered, cut short, or signed with another key than the one that is pinned. " + KEEP,
            f"Ask the people who run it. After a change of its key: gallant catalog trust {name} --key FILE",
        ) from None
    return raw if signature is not None else found.bytes or b""


def _moment(text: str) -> datetime:
    moment = parsedate_to_datetime(text)
    return moment.astimezone(UTC) if moment.tzinfo else moment.replace(tzinfo=UTC)


def _listed(text: str) -> Iterator[tuple[str, tuple[int, str]]]:
    for line in text.splitlines():
        words = line.split()
        if len(words) == 3 and re.fullmatch(r"[0-9a-f]{64}", words[0]) and len(words[1]) < 19 and words[1].isdecimal():
            yield words[2], (int(words[1]), words[0])


def _refuse_old(name: str, channel: AptChannel, signed: Signed, now: datetime, serial: int) -> None:
    if int(signed.date.timestamp()) < serial:
        seen = datetime.fromtimestamp(serial, UTC)
        raise Refused(
            f"The channel {name} is of {signed.date:%Y-%m-%d %H:%M}Z; one of {seen:%Y-%m-%d %H:%M}Z was seen before. An"
            " older one is never taken back.",
            KEEP,
        )
    if signed.date > now + AHEAD:
        raise Refused(
            f"The channel {name} is of {signed.date:%Y-%m-%d}, which is yet to come.",
            KEEP,
            f"Here it is {now:%Y-%m-%d}: is this host's clock right? Else ask the people who run the channel.",
        )
    if signed.until is not None and signed.until <= now:
        raise Refused(
            f"The channel {name} expired on {signed.until:%Y-%m-%d}.",
            KEEP,
            "Is its mirror still being brought up to date?",
        )
    names = {clean(signed.fields.get(field, ""), 60) for field in ("suite", "codename")} - {""}
    asked = channel.suite.split("/")[0]
    if not channel.is_flat and names and asked not in names and channel.suite not in names:
        raise Refused(f"The channel {name} answers as {' or '.join(sorted(names))}, not as {channel.suite}.", KEEP)


async def _index(name: str, channel: AptChannel, component: str, signed: Signed, get: Get) -> bytes:
    """One component's Packages, verified against Release, in the smallest form that is offered."""
    folder = "" if channel.is_flat else f"{component}/binary-{channel.arch}/"
    offered = next((form for form in (".xz", ".gz", "") if f"{folder}Packages{form}" in signed.indexes), None)
    if offered is None:
        raise Refused(
            f"The channel {name} has no {component or 'packages'} for {channel.arch}.",
            "Its Release lists no such index. " + KEEP,
            "Look at the component and the architecture of the source.",
        )
    path = f"{folder}Packages{offered}"
    size, sha256 = signed.indexes[path]
    if size > LARGEST:
        raise Refused(f"The index {path} of the channel {name} is larger than {LARGEST // 1024 // 1024} MiB.", KEEP)
    base = urljoin(channel.url, channel.release_folder)
    places = [f"{base}{folder}by-hash/SHA256/{sha256}"] if signed.by_hash else []
    raw = await _first(get, [*places, base + path], size)
    if len(raw) != size or hashlib.sha256(raw).hexdigest() != sha256:
        raise Refused(
            f"The index {path} of the channel {name} is not the one that its Release vouches for.",
            KEEP,
            "Its mirror may be in the middle of a change; gallant catalog sync tries again.",
        )
    whole = signed.indexes.get(f"{folder}Packages", (LARGEST_INDEX, ""))[0]
    try:
        return _unpacked(raw, offered, min(whole, LARGEST_INDEX))
    except (OSError, EOFError, zlib.error, lzma.LZMAError, ValueError) as error:
        raise Refused(
            f"The index {path} of the channel {name} cannot be unpacked: {clean(str(error), 80)}.", KEEP
        ) from None


async def _first(get: Get, urls: list[str], size: int) -> bytes:
    for url in urls[:-1]:
        try:
            return (await get(url, size, None)).raw or b""
        except NotThere:
            continue
    return (await get(urls[-1], size, None)).raw or b""


def _unpacked(raw: bytes, form: str, limit: int) -> bytes:
    """The plain index; no more than what Release says that it has."""
    if not form:
        return raw
    import io

    opener = lzma.open if form == ".xz" else gzip.open
    with opener(io.BytesIO(raw)) as file:
        plain = bytes(file.read(limit + 1))
    if len(plain) > limit:
        raise ValueError(f"it unpacks to more than {limit} bytes")
    return plain


def _stanzas(raw: bytes) -> Iterator[dict[str, str]]:
    """Paragraphs of fields (Debian policy 5.1); names in small letters, continuation lines joined."""
    fields: dict[str, list[str]] = {}
    value: list[str] = []
    for line in raw.decode("utf-8", "replace").splitlines():
        if not line.strip():
            if fields:
                yield {name: "\n".join(lines) for name, lines in fields.items()}
            fields, value = {}, []
        elif line[0] in " \t":
            value.append(line.strip())
        else:
            name, _, first = line.partition(":")
            value = fields[name.strip().lower()] = [first.strip()]
    if fields:
        yield {name: "\n".join(lines) for name, lines in fields.items()}


def _products(
    channel: AptChannel, signed: Signed, stanzas: list[Mapping[str, str]], known: Mapping[str, datetime]
) -> tuple[tuple[Product, ...], int]:
    """One product a package; entries without a version, file, size or SHA-256 in form are counted and left out."""
    secure = any(_SECURITY.search(signed.fields.get(f, "")) for f in ("suite", "codename", "label")) or bool(
        _SECURITY.search(channel.suite)
    )
    found: dict[str, dict[Version, Release]] = {}
    left_out, listed = 0, channel.as_listed
    for stanza in stanzas:
        try:
            name, release = _entry(stanza, signed.date, known, secure, listed)
        except (KeyError, NotAVersion, ValueError, msgspec.ValidationError):
            left_out += 1
            continue
        # The same version in two components: the first has the word.
        found.setdefault(name, {}).setdefault(parse("deb", release.version), release)
    products = []
    for name, releases in sorted(found.items()):
        try:
            products.append(Product(name=name, scheme="deb", releases=tuple(releases.values())))
        except ValueError:
            left_out += 1
    return tuple(products), left_out


def _entry(
    stanza: Mapping[str, str], date: datetime, known: Mapping[str, datetime], secure: bool, channel: str
) -> tuple[str, Release]:
    name, version, path = f"{PUBLISHER}/{stanza['package']}", stanza["version"], stanza["filename"]
    parse("deb", version)
    package = Package(
        name=path.rsplit("/", 1)[-1].replace("%", "_"),
        url=path,
        bytes=int(stanza["size"]),
        sha256=stanza["sha256"].lower(),
    )
    return name, Release(
        version=version,
        released=known.get(f"{name} {version}", date),
        severity="high" if secure else "medium",
        security=secure,
        restart="node" if _KERNEL.match(stanza["package"]) else "service",
        minutes=MINUTES,
        packages=(package,),
        notes=clean(stanza.get("description", "").split("\n")[0], 200),
        channel=channel,
    )
