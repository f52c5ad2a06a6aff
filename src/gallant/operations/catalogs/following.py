"""Publishers' catalogs: added with a pinned key, synced, listed,
shown. What is refused leaves the last good one in use."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING

from gallant.core.assess.issues import Concern, concerns_of, worst_concerns
from gallant.core.assess.ledger import REMOVED
from gallant.core.catalog.products import Catalog, Product, Release, decode_catalog
from gallant.core.documents import suggestion
from gallant.core.errors import GallantError, Refused, Unreached, WrongUse, worst_exit
from gallant.core.estate.accounts import Account
from gallant.core.estate.notes import notes_on
from gallant.core.estate.sources import Access, News, Source, parse_channel
from gallant.core.estate.systems import CatalogRule, Note, name_problem
from gallant.core.records import Record, clean, replace
from gallant.operations.catalogs.sources import CatalogBrought, Counter, bring, kept_catalog, news
from gallant.operations.ground.deciding import record
from gallant.operations.ground.last import every_reading, issues_here
from gallant.operations.ground.workplace import Ask, Workplace

if TYPE_CHECKING:
    from aiohttp import ClientSession


class SourceFollowed(Record):
    """A source that is now followed, and the fingerprint of the key that it must be signed with."""

    name: str
    source: str
    fingerprint: str


def access_of(
    proxy: str | None, ca: str | None, pin: str | None, user: str | None, secret: str | None
) -> Access | None:
    """How a source is reached, from what a person wrote; None where nothing was. Raises `WrongUse`."""
    if (user is None) != (secret is None):
        raise WrongUse(
            "An account is a user and where its secret is kept.",
            next="Write --user NAME --secret env:NAME, file:PATH, keyring:SERVICE or ask.",
        )
    try:
        account = Account(user=user, secret=secret) if user is not None and secret is not None else None
        access = Access(proxy=proxy, ca=ca, fingerprint=pin, account=account)
    except ValueError as error:
        raise WrongUse(f"{error}.") from None
    return None if access == Access() else access


def add(place: Workplace, name: str, source: str, key: str, access: Access | None = None) -> SourceFollowed:
    """Follow a catalog. `key` is the public key or the path of a file that holds it; it is pinned from here on."""
    from gallant.catalogs.fetch import check_source
    from gallant.catalogs.trust import key_fingerprint

    if problem := name_problem(name):
        raise WrongUse(problem)
    checked = check_source(source)
    pinned = _key_of(key)
    _right_kind(checked, key, pinned)
    known = next((s for s in place.readings.sources() if s.name == name), None)
    if known is not None and known.key != pinned:
        raise Refused(
            f"{name} is followed under another key.",
            f"Pinned is {key_fingerprint(known.key)}; this one is {key_fingerprint(pinned)}.",
            f"A key is not changed by adding again. Ask the publisher first; then: gallant catalog trust {name}"
            " --key KEY",
        )
    place.reach(checked, access)  # an account that cannot be used, or whose secret is not to be had, comes up now
    place.readings.add_source(name, checked, pinned, place.clock.now(), access)
    return SourceFollowed(name=name, source=checked, fingerprint=key_fingerprint(pinned))


def follow_declared(place: Workplace) -> dict[str, GallantError]:
    """Follow the catalogs that the estate declares as it declares them now; by name, why one could not be."""
    from gallant.catalogs.fetch import check_source

    known, wrong = {s.name: s for s in place.readings.sources()}, dict[str, GallantError]()
    for name, rule in place.estate.catalogs.items():
        try:
            access = _access_of(rule)
            same = known.get(name)
            if (
                same is None
                or (same.source, same.access) != (check_source(rule.from_), access)
                or not _is_pinned(place, rule, same)
            ):
                add(place, name, rule.from_, _key_file(place, rule), access)
        except GallantError as error:
            wrong[name] = error
    return wrong


def _access_of(rule: CatalogRule) -> Access | None:
    if not (rule.proxy or rule.ca or rule.fingerprint or rule.account):
        return None
    try:
        return Access(proxy=rule.proxy, ca=rule.ca, fingerprint=rule.fingerprint, account=rule.account)
    except ValueError as error:
        raise WrongUse(f"catalogs: {rule.from_}: {error}.", next="Look at catalogs: in estate.yaml") from None


def _key_file(place: Workplace, rule: CatalogRule) -> str:
    path = place.folder / Path(rule.key).expanduser()
    return str(path) if path.is_file() else rule.key


def _is_pinned(place: Workplace, rule: CatalogRule, known: Source) -> bool:
    return _key_of(_key_file(place, rule)) == known.key


def _right_kind(source: str, key: str, pinned: str) -> None:
    """Raise `Refused` for a key of another kind than what the source is signed with."""
    from gallant.catalogs.trust import OPENPGP

    channel, openpgp = parse_channel(source) is not None, pinned.startswith(OPENPGP)
    if channel and not openpgp:
        raise Refused(
            f"{clean(key, 80)} is no key for a channel of Debian packages.",
            "A channel is signed with OpenPGP; this is an Ed25519 key, as Gallant's own catalogs have it.",
            "Write --key FILE with the channel's key: the file that Signed-By names on a host that uses it",
        )
    if openpgp and not channel:
        raise Refused(
            f"{clean(key, 80)} is no key for a catalog.",
            "A catalog is signed with Ed25519; this is an OpenPGP key, as channels of Debian packages have it.",
            "Ask the publisher for the catalog's key (ed25519:…); for a channel write: gallant catalog add NAME "
            "'deb URL SUITE COMPONENT' --key FILE",
        )


def _key_of(key: str) -> str:
    """A public key that was given as text or as the path of a file."""
    from gallant.catalogs.trust import openpgp_key, parse_key

    if key.startswith("ed25519:"):
        return parse_key(key)
    try:
        raw = Path(key).read_bytes()
        text = raw.decode("utf-8", "replace")
        # A keyring is bytes or armour; anything else is a key in words.
        is_openpgp = "BEGIN PGP" in text or (raw[:1] >= b"\x80" and "ed25519:" not in text)
        return openpgp_key(raw) if is_openpgp else parse_key(text)
    except OSError as error:
        raise WrongUse(
            f"The key file {key} cannot be read: {error.strerror}.", next="Write --key FILE or --key ed25519:…"
        ) from None


class KeyChanged(Record):
    """A key that was changed: the fingerprints before and now."""

    name: str
    before: str
    fingerprint: str


def trust(place: Workplace, name: str, key: str) -> KeyChanged:
    """Pin another key for a catalog that is followed; its serial still only rises."""
    from gallant.catalogs.trust import key_fingerprint

    source = _source(place, name)
    pinned = _key_of(key)
    place.readings.trust_key(name, pinned)
    return KeyChanged(name=name, before=key_fingerprint(source.key), fingerprint=key_fingerprint(pinned))


class Removed(Record):
    """A catalog that is no longer followed, and the components, as
    `system:component`, of which no catalog here says anything now."""

    name: str
    source: str
    unknown: tuple[str, ...]


def remove(place: Workplace, name: str, reason: str, sure: Ask) -> Removed | None:
    """Follow a catalog no more, once somebody has seen what will be unknown then; None where they would rather not."""
    source = _source(place, name)
    if name in place.estate.catalogs:
        raise Refused(
            f"{name} stands under catalogs: in estate.yaml; the next sync would follow it again.",
            next=f"Take it out there, then: gallant catalog remove {name}",
        )
    left = {p.name for s, c in place.catalogs if s.name != name for p in c.products}
    gone = {p.name for s, c in place.catalogs if s.name == name for p in c.products} - left
    readings = every_reading(place)
    parts = {f"{r.system}:{c.name}" for r in readings.values() for c in r.components if c.product in gone}
    unknown = tuple(sorted(parts))
    few = ", ".join(unknown[:6]) + (f" and {len(unknown) - 6} more" if len(unknown) > 6 else "")
    what = f"Of {few} nothing will be known here then" if unknown else "Nothing that was read here is of it"
    if not sure(f"{name} ({source.source}) will not be followed any more. {what}. Go on?"):
        return None
    place.readings.remove_source(name)
    record(place, "catalog", name, state=REMOVED, reason=clean(reason, 200))
    return Removed(name=name, source=source.source, unknown=unknown)


def _source(place: Workplace, name: str) -> Source:
    known = {s.name: s for s in place.readings.sources()}
    if name not in known:
        raise WrongUse(f"No catalog {name!r}{suggestion(name, list(known))}.", next="gallant catalog list shows them.")
    return known[name]


class SourceAsked(Record):
    """One question to a source, in the order in which they are asked: whether it was well, and what was seen."""

    question: str
    ok: bool
    seen: str
    next: str | None = None
    exit_code: int = 0


async def test(
    place: Workplace, source_text: str, key: str | None, publisher: str | None, access: Access | None
) -> tuple[list[SourceAsked], int]:
    """Does it resolve, connect, answer; does the signature fit; how old is it? Nothing of it is kept.

    `source_text` is the name of a catalog that is followed, or a source; then `key` and `publisher` say what to expect.
    """
    from gallant.catalogs.fetch import check_source
    from gallant.drivers.http import new_session

    known = {s.name: s for s in place.readings.sources()}
    followed = known.get(source_text)
    if followed is not None:
        source = replace(followed, tag=None, sha256=None, access=access or followed.access)
    else:
        name = publisher or ""
        source = Source(
            name=name,
            source=check_source(source_text),
            key=_key_of(key) if key else "",
            added=place.clock.now(),
            access=access,
        )
    rows = await _resolved(source)
    if rows and not rows[-1].ok:
        return rows, 3
    async with new_session() as session:
        rows += await _answered(place, session, source)
    return rows, worst_exit([r.exit_code for r in rows])


async def _resolved(source: Source) -> list[SourceAsked]:
    import asyncio
    from urllib.parse import urlsplit

    channel = parse_channel(source.source)
    url = source.access.proxy if source.access and source.access.proxy else channel.url if channel else source.source
    parts = urlsplit(url)
    if not parts.hostname:
        return []
    try:
        found = await asyncio.get_running_loop().getaddrinfo(parts.hostname, parts.port or parts.scheme)
    except OSError as error:
        return [
            SourceAsked(
                question="resolves",
                ok=False,
                seen=f"{parts.hostname}: {error.strerror or error}",
                next="Look at the name and at the resolver of this machine",
                exit_code=3,
            )
        ]
    return [SourceAsked(question="resolves", ok=True, seen=", ".join(dict.fromkeys(str(f[4][0]) for f in found)))]


async def _answered(place: Workplace, session: ClientSession, source: Source) -> list[SourceAsked]:
    counter, now = Counter(), place.clock.now()
    problem: GallantError | None = None
    brought: CatalogBrought | None = None
    try:
        source = source if source.name and source.key else await _named(place, session, source, counter)
        if source.key:
            brought = await bring(place, session, source, counter)
    except GallantError as error:
        problem = error
    if counter.answers == 0 or isinstance(problem, Unreached):
        assert problem is not None
        return [
            SourceAsked(
                question="answers",
                ok=False,
                seen=" ".join(p for p in (problem.what, problem.why) if p),
                next=problem.next,
                exit_code=problem.exit_code,
            )
        ]
    rows = [SourceAsked(question="answers", ok=True, seen=f"{counter.bytes:,} bytes in {counter.answers} answers")]
    question = "signature, serial, expiry and form"
    if problem is not None:
        return [
            *rows,
            SourceAsked(question=question, ok=False, seen=problem.what, next=problem.next, exit_code=problem.exit_code),
        ]
    if brought is None:
        seen, following = "no key to hold it against", f"gallant catalog test {source.source} --key KEY"
        return [*rows, SourceAsked(question="signature", ok=False, seen=seen, next=following, exit_code=1)]
    catalog = brought.catalog
    more = f", {brought.left_out} entries not understood" if brought.left_out else ""
    count = sum(len(p.releases) for p in catalog.products)
    age = f"issued {(now - catalog.issued).days} d ago, good for {(catalog.expires - now).days} d more"
    return [
        *rows,
        SourceAsked(
            question=question, ok=True, seen=f"{catalog.publisher}, serial {catalog.serial}, {count} releases{more}"
        ),
        SourceAsked(question="age", ok=True, seen=age),
    ]


async def _named(place: Workplace, session: ClientSession, source: Source, counter: Counter) -> Source:
    """A source that nobody follows yet, under the name that it says it has; the signature decides all else."""
    import msgspec

    from gallant.catalogs.fetch import fetch
    from gallant.catalogs.trust import LARGEST

    if (channel := parse_channel(source.source)) is not None:
        if not source.key:
            url = f"{channel.url}{channel.release_folder}InRelease"
            got = await fetch(session, url, LARGEST, None, place.reach(source.source, source.access))
            counter.bytes, counter.answers = len(got.raw or b""), 1
        return replace(source, name=source.name or "channel")
    got = await fetch(session, source.source, LARGEST, None, place.reach(source.source, source.access))
    counter.bytes, counter.answers = len(got.raw or b""), 1
    try:
        said = clean(str(msgspec.json.decode(got.raw or b"").get("publisher", "")), 60)
    except (msgspec.DecodeError, AttributeError, RecursionError):
        said = ""
    return replace(source, name=source.name or said)


class CatalogWritten(Record):
    """A catalog that was written or signed here."""

    file: str
    publisher: str
    serial: int
    releases: int
    packages: int
    key: str | None = None
    fingerprint: str | None = None


def draft(source: Path, into: Path, now: datetime) -> CatalogWritten:
    """A catalog from a hand-written draft; its serial is one more than that of the catalog it replaces."""
    import msgspec

    from gallant.catalogs.author import make_whole, write_catalog

    serial = 1
    if into.exists():
        try:
            serial = decode_catalog(into.read_bytes()).serial + 1
        except (OSError, msgspec.MsgspecError, ValueError, RecursionError):
            raise Refused(
                f"{into} is there and is not a catalog; it is not overwritten.", next="Name another file with --into."
            ) from None
    catalog = make_whole(source, serial, now)
    write_catalog(catalog, into)
    return _written(into, catalog)


def sign(path: Path, key: Path, make_key: bool) -> CatalogWritten:
    """Sign a catalog with a key of one's own, made first where that is asked for."""

    from gallant.catalogs import author
    from gallant.catalogs.trust import key_fingerprint

    if make_key:
        author.new_key(key)
    public = author.sign(path, key)
    catalog = decode_catalog(path.read_bytes())
    written = _written(path, catalog)
    return CatalogWritten(
        file=written.file,
        publisher=written.publisher,
        serial=written.serial,
        releases=written.releases,
        packages=written.packages,
        key=public,
        fingerprint=key_fingerprint(public),
    )


def _written(path: Path, catalog: Catalog) -> CatalogWritten:
    releases = [r for p in catalog.products for r in p.releases]
    return CatalogWritten(
        file=str(path),
        publisher=catalog.publisher,
        serial=catalog.serial,
        releases=len(releases),
        packages=sum(len(r.packages) for r in releases),
    )


class Synced(Record):
    """How one source was: its serial before and now, what the sync brought, and what was wrong.

    `new` are the releases that were not there before; `state` is reachable, unreachable or unauthenticated.
    """

    name: str
    ok: bool
    serial_before: int
    serial: int | None
    releases: int
    new: tuple[str, ...]
    expires: datetime | None
    problem: str | None = None
    next: str | None = None
    exit_code: int = 0
    recalled: tuple[str, ...] = ()
    gone: tuple[str, ...] = ()
    left_out: int = 0
    state: str = "reachable"


async def sync(place: Workplace, names: Sequence[str]) -> tuple[list[Synced], int]:
    """Fetch and verify; one row a source, failures first, and the exit code."""
    from gallant.drivers.http import new_session

    undeclared = follow_declared(place)
    sources = place.readings.sources()
    for name in names:
        if name not in {s.name for s in sources}:
            raise WrongUse(
                f"No catalog {name!r}{suggestion(name, [s.name for s in sources])}.",
                next="gallant catalog list shows them.",
            )
    chosen = [s for s in sources if not names or s.name in names]
    if not chosen and not undeclared:
        raise WrongUse("No catalog is followed yet.", next="gallant catalog add NAME SOURCE --key FILE")
    async with new_session() as session:
        rows = [await _sync_one(place, session, s) for s in chosen if s.name not in undeclared]
    now = place.clock.now()
    for name, error in undeclared.items():
        source = next((s for s in chosen if s.name == name), None)
        if source is not None or not names:
            source = source or Source(name=name, source=place.estate.catalogs[name].from_, key="", added=now)
            rows.append(_not_synced(place, source, kept_catalog(place, name), now, error))
    rows.sort(key=lambda r: r.ok)
    return rows, worst_exit([r.exit_code for r in rows])


async def _sync_one(place: Workplace, session: ClientSession, source: Source) -> Synced:
    now = place.clock.now()
    before = kept_catalog(place, source.name)
    try:
        brought = await bring(place, session, source)
        if brought is None:
            return _unchanged(place, source, before, now)
        said = news(before, brought.catalog) if brought.sha256 != source.sha256 else source.news
        serial = brought.catalog.serial
        if not place.readings.keep_catalog(source.name, serial, brought.sha256, brought.raw, brought.tag, said, now):
            raise GallantError(f"A newer catalog of {source.name} was accepted meanwhile.", next="gallant catalog list")
    except GallantError as error:
        return _not_synced(place, source, before, now, error)
    by_kind = {
        what: tuple(f"{n.product} {n.version}" for n in said if n.what == what) for what in ("new", "recalled", "gone")
    }
    changed = brought.sha256 != source.sha256
    return Synced(
        name=source.name,
        ok=True,
        serial_before=source.serial,
        serial=serial,
        releases=_count(brought.catalog),
        expires=brought.catalog.expires,
        left_out=brought.left_out,
        **(by_kind if changed else {"new": ()}),
    )


def _not_synced(place: Workplace, source: Source, before: Catalog | None, now: datetime, error: GallantError) -> Synced:
    """Why a source brought nothing; kept with it, so that its age is not taken for its state."""
    state = "unreachable" if isinstance(error, Unreached) else "unauthenticated"
    place.readings.note_check(source.name, now, error.what, state)
    return Synced(
        name=source.name,
        ok=False,
        serial_before=source.serial,
        serial=source.serial or None,
        releases=_count(before),
        new=(),
        expires=None,
        problem=" ".join(p for p in (error.what, error.why) if p),
        next=error.next,
        exit_code=error.exit_code,
        state=state,
    )


def _count(catalog: Catalog | None) -> int:
    return sum(len(p.releases) for p in catalog.products) if catalog else 0


def _unchanged(place: Workplace, source: Source, kept: Catalog | None, now: datetime) -> Synced:
    """The publisher has nothing newer; what is here may have run out all the same."""
    assert kept is not None  # an entity tag is kept with a catalog, never without
    if kept.expires <= now:
        raise Refused(
            f"The catalog {source.name} expired on {kept.expires:%Y-%m-%d}, and its publisher has no newer one.",
            "It stays in use, with its age shown.",
            "Ask the publisher for a current one.",
        )
    place.readings.note_check(source.name, now, None)
    return Synced(
        name=source.name,
        ok=True,
        serial_before=source.serial,
        serial=source.serial,
        releases=_count(kept),
        new=(),
        expires=kept.expires,
    )


class CatalogListed(Record):
    """One followed catalog and how old what is used of it is."""

    name: str
    source: str
    serial: int | None
    releases: int
    fetched: datetime | None
    expires: datetime | None
    checked: datetime | None
    problem: str | None
    fingerprint: str
    state: str | None = None
    news: tuple[News, ...] = ()
    access: Access | None = None


def listed(place: Workplace) -> list[CatalogListed]:
    from gallant.catalogs.trust import key_fingerprint

    follow_declared(place)  # one that cannot be followed is told at the sync
    catalogs = {source.name: catalog for source, catalog in place.catalogs}
    return [
        CatalogListed(
            name=s.name,
            source=s.source,
            serial=s.serial or None,
            fetched=s.fetched,
            checked=s.checked,
            problem=s.problem,
            releases=sum(len(p.releases) for p in catalogs[s.name].products) if s.name in catalogs else 0,
            expires=catalogs[s.name].expires if s.name in catalogs else None,
            fingerprint=key_fingerprint(s.key),
            state=s.state,
            news=s.news,
            access=s.access,
        )
        for s in place.readings.sources()
    ]


class ProductHere(Record):
    """A product that a catalog lists: how many releases, the newest, and
    the systems here that have it, as their image or a component."""

    product: str
    catalog: str
    releases: int
    newest: str | None
    released: datetime | None
    systems: tuple[str, ...]


def products_here(place: Workplace) -> list[ProductHere]:
    """What the catalogs list, what is here first; of a product in several catalogs each says its own."""
    has: dict[str, dict[str, None]] = {}
    for reading in every_reading(place).values():
        for part in reading.components:
            has.setdefault(part.product, {})[reading.system] = None
    rows = []
    for source, catalog in place.catalogs:
        for product in catalog.products:
            newest = product.ascending[-1][1] if product.ascending else None
            rows.append(
                ProductHere(
                    product=product.name,
                    catalog=source.name,
                    releases=len(product.releases),
                    newest=newest.version if newest else None,
                    released=newest.released if newest else None,
                    systems=tuple(has.get(product.name, ())),
                )
            )
    return sorted(rows, key=lambda row: (not row.systems, row.product))


class Details(Record):
    """A product's releases, newest first; of a single one also what its known issues concern here, what the site noted,
    the terms it comes under, and the bundles it belongs to."""

    product: Product
    releases: tuple[Release, ...]
    alone: bool
    concerns: tuple[Concern, ...] = ()
    notes: tuple[Note, ...] = ()
    terms: str | None = None
    terms_accepted: bool = False
    bundles: tuple[str, ...] = ()
    running: tuple[str, ...] = ()
    new: tuple[str, ...] = ()


def show(place: Workplace, product_name: str, version: str | None) -> Details:
    """A product's releases, newest first, or the one that `version` (or build, or label) names."""
    product = place.products.get(product_name)
    if product is None:
        raise WrongUse(
            f"No catalog here lists {product_name!r}{suggestion(product_name, sorted(place.products))}.",
            next="gallant catalog list",
        )
    if version is None:
        newest = tuple(release for _, release in reversed(product.ascending))
        said = [n for s in place.readings.sources() for n in s.news if n.product == product.name and n.what == "new"]
        return Details(
            product=product,
            releases=newest,
            alone=False,
            notes=tuple(notes_on(place.estate, None, product)),
            new=tuple(r.version for r in newest if any(n.version == r.version for n in said)),
        )
    release = product.resolve(version)
    if release is None:
        raise WrongUse(
            f"{version} is not a release of"
            f" {product_name}{suggestion(version, [r.version for r in product.releases])}.",
            next=f"gallant catalog show {product_name}",
        )
    return _details(place, product, release)


def _details(place: Workplace, product: Product, release: Release) -> Details:
    readings = every_reading(place)
    about = [s for s in place.estate.systems.values() if s.product == product.name]
    rows = {s.name: [r for r in readings.values() if r.system == s.name] for s in about}
    hops = [(r.version, release.version) for own in rows.values() for r in own]
    notes: dict[str, Note] = {}
    for system in [*about, None]:
        for note in notes_on(place.estate, system, product, hops, release.version):
            notes.setdefault(f"{note.about}\n{note.text}", note)
    publisher = product.name.partition("/")[0]
    return Details(
        product=product,
        releases=(release,),
        alone=True,
        concerns=(
            tuple(worst_concerns(c for s in about for c in issues_here(place, s, product, [release], rows[s.name])))
            if about
            else tuple(concerns_of(product, release, {}))
        ),
        notes=tuple(notes.values()),
        terms=place.terms_text(product.name, release.terms) if release.terms else None,
        terms_accepted=release.terms is not None and place.ledger.accepted(release.terms, publisher),
        bundles=tuple(b.name for b in place.bundles if product.same(b.version_of(product.name), release.version)),
        running=tuple(r.name for own in rows.values() for r in own if product.same(r.version, release.version)),
    )
