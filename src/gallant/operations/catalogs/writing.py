"""Catalogs that are written here: drafted, and signed."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING

from gallant.core.catalog.products import Catalog, decode_catalog
from gallant.core.errors import Refused
from gallant.core.records import Record

if TYPE_CHECKING:
    pass


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
