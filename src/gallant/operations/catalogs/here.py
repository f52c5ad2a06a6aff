"""The catalogs that are here: listed, and shown."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import datetime
from typing import TYPE_CHECKING

from gallant.core.assess.issues import Concern, concerns_of, worst_concerns
from gallant.core.catalog.products import Product, Release
from gallant.core.documents import suggestion
from gallant.core.errors import WrongUse
from gallant.core.estate.notes import notes_on
from gallant.core.estate.sources import Access, News
from gallant.core.estate.systems import Note, System
from gallant.core.readings import Reading
from gallant.core.records import Record
from gallant.operations.ground.last import every_reading, issues_here
from gallant.operations.ground.workplace import Workplace

if TYPE_CHECKING:
    pass
from gallant.operations.catalogs.following import follow_declared


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
    return Details(
        product=product,
        releases=(release,),
        alone=True,
        concerns=_concerns(place, product, release, about, rows),
        notes=_notes(place, product, release, about, [r.version for own in rows.values() for r in own]),
        terms=place.terms_text(product.name, release.terms) if release.terms else None,
        terms_accepted=release.terms is not None
        and place.ledger.accepted(release.terms, product.name.partition("/")[0]),
        bundles=tuple(b.name for b in place.bundles if product.same(b.version_of(product.name), release.version)),
        running=tuple(r.name for own in rows.values() for r in own if product.same(r.version, release.version)),
    )


def _concerns(
    place: Workplace,
    product: Product,
    release: Release,
    about: Sequence[System],
    rows: Mapping[str, Sequence[Reading]],
) -> tuple[Concern, ...]:
    """A release's known issues, by whether they concern a system here; where none runs the product, as they are."""
    if not about:
        return tuple(concerns_of(product, release, {}))
    return tuple(worst_concerns(c for s in about for c in issues_here(place, s, product, [release], rows[s.name])))


def _notes(
    place: Workplace, product: Product, release: Release, about: Sequence[System], versions: Sequence[str]
) -> tuple[Note, ...]:
    """What was noted of a release, or of a way to it from what runs here; each note once."""
    hops = [(version, release.version) for version in versions]
    found: dict[str, Note] = {}
    for system in [*about, None]:
        for note in notes_on(place.estate, system, product, hops, release.version):
            found.setdefault(f"{note.about}\n{note.text}", note)
    return tuple(found.values())
