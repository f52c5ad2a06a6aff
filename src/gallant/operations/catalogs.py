"""Publishers' catalogs: added with a pinned key, synced, listed, shown. What is refused leaves the last good one in use."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from pathlib import Path

from gallant.core.catalog import Catalog, Product, Release
from gallant.core.documents import suggestion
from gallant.core.errors import GallantError, Refused, WrongUse, worst_exit
from gallant.core.estate import name_problem
from gallant.core.records import Record
from gallant.operations.workplace import Workplace
from gallant.store.readings import Source


class Added(Record):
    """A source that is now followed, and the fingerprint of the key that it must be signed with."""

    name: str
    source: str
    fingerprint: str


def add(place: Workplace, name: str, source: str, key: str) -> Added:
    """Follow a catalog. `key` is the public key or the path of a file that holds it; it is pinned from here on."""
    from gallant.catalogs.fetch import check_source
    from gallant.catalogs.trust import key_fingerprint, parse_key

    if problem := name_problem(name):
        raise WrongUse(problem)
    checked = check_source(source)
    path = Path(key)
    if not key.startswith("ed25519:"):
        try:
            key = path.read_text("utf-8", "replace")
        except OSError as error:
            raise WrongUse(
                f"The key file {path} cannot be read: {error.strerror}.", next="Write --key FILE or --key ed25519:…"
            ) from None
    pinned = parse_key(key)
    known = next((s for s in place.readings.sources() if s.name == name), None)
    if known is not None and known.key != pinned:
        raise Refused(
            f"{name} is followed under another key.",
            f"Pinned is {key_fingerprint(known.key)}; this one is {key_fingerprint(pinned)}.",
            "A key is not changed by adding again. Ask the publisher first.",
        )
    place.readings.add_source(name, checked, pinned, place.clock.now())
    return Added(name=name, source=checked, fingerprint=key_fingerprint(pinned))


class Synced(Record):
    """How one source was: its serial before and now, the releases that are new, and what was wrong."""

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


async def sync(place: Workplace, names: Sequence[str]) -> tuple[list[Synced], int]:
    """Fetch and verify; one row a source, failures first, and the exit code."""
    from gallant.drivers.http import new_session

    sources = place.readings.sources()
    for name in names:
        if name not in {s.name for s in sources}:
            raise WrongUse(
                f"No catalog {name!r}{suggestion(name, [s.name for s in sources])}.",
                next="gallant catalog list shows them.",
            )
    chosen = [s for s in sources if not names or s.name in names]
    if not chosen:
        raise WrongUse("No catalog is followed yet.", next="gallant catalog add NAME SOURCE --key FILE")
    async with new_session() as session:
        rows = [await _sync_one(place, session, source) for source in chosen]
    rows.sort(key=lambda r: r.ok)
    return rows, worst_exit([r.exit_code for r in rows])


async def _sync_one(place: Workplace, session: object, source: Source) -> Synced:
    from gallant.catalogs.fetch import fetch
    from gallant.catalogs.trust import LARGEST, verify

    now = place.clock.now()
    before = _known(place, source.name)
    try:
        raw = await fetch(session, source.source, LARGEST)  # type: ignore[arg-type]
        signature = await fetch(session, source.source + ".sig", 4096)  # type: ignore[arg-type]
        catalog, sha256 = verify(source.name, raw, signature, source.key, now, source.serial, source.sha256)
        if not place.readings.keep_catalog(source.name, catalog.serial, sha256, raw, now):
            raise GallantError(f"A newer catalog of {source.name} was accepted meanwhile.", next="gallant catalog list")
    except GallantError as error:
        place.readings.note_check(source.name, now, error.what)
        return Synced(
            name=source.name,
            ok=False,
            serial_before=source.serial,
            serial=source.serial or None,
            releases=len(before),
            new=(),
            expires=None,
            problem=" ".join(p for p in (error.what, error.why) if p),
            next=error.next,
            exit_code=error.exit_code,
        )
    found = {f"{p.name} {r.version}" for p in catalog.products for r in p.releases}
    return Synced(
        name=source.name,
        ok=True,
        serial_before=source.serial,
        serial=catalog.serial,
        releases=len(found),
        new=tuple(sorted(found - before)) if before else (),
        expires=catalog.expires,
    )


def _known(place: Workplace, name: str) -> set[str]:
    import msgspec

    raw = place.readings.raw_catalog(name)
    if raw is None:
        return set()
    return {f"{p.name} {r.version}" for p in msgspec.json.decode(raw, type=Catalog).products for r in p.releases}


class Listed(Record):
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


def listed(place: Workplace) -> list[Listed]:
    from gallant.catalogs.trust import key_fingerprint

    catalogs = {source.name: catalog for source, catalog in place.catalogs}
    return [
        Listed(
            name=s.name,
            source=s.source,
            serial=s.serial or None,
            fetched=s.fetched,
            checked=s.checked,
            problem=s.problem,
            releases=sum(len(p.releases) for p in catalogs[s.name].products) if s.name in catalogs else 0,
            expires=catalogs[s.name].expires if s.name in catalogs else None,
            fingerprint=key_fingerprint(s.key),
        )
        for s in place.readings.sources()
    ]


def show(place: Workplace, product_name: str, version: str | None) -> tuple[Product, list[Release]]:
    """A product's releases, newest first, or the one that `version` (or build, or label) names."""
    product = place.products.get(product_name)
    if product is None:
        raise WrongUse(
            f"No catalog here lists {product_name!r}{suggestion(product_name, sorted(place.products))}.",
            next="gallant catalog list",
        )
    if version is None:
        return product, sorted(product.releases, key=product.key, reverse=True)
    release = product.resolve(version)
    if release is None:
        raise WrongUse(
            f"{version} is no release of {product_name}{suggestion(version, [r.version for r in product.releases])}.",
            next=f"gallant catalog show {product_name}",
        )
    return product, [release]
