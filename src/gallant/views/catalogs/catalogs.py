"""Publishers' catalogs: what is followed, how it answered, and what a release brings before anybody decides on it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import datetime
from typing import TYPE_CHECKING, Annotated

from gallant.core.catalog.products import NewSetting, Package, Requirement
from gallant.core.versions import parse_range
from gallant.views.ground.notes import note_line
from gallant.views.ground.parts import Drawn, Listed, View
from gallant.views.ground.rows import ListRow, Says
from gallant.views.ground.tables import next_steps, table
from gallant.views.ground.words import BOLD, CYAN, DIM, LOUD, OFF, ago, many, mark, plain, said, size

if TYPE_CHECKING:
    from gallant.core.assess.issues import Concern
    from gallant.core.catalog.products import Product, Release
    from gallant.operations.catalogs.following import KeyChanged, Removed, SourceFollowed
    from gallant.operations.catalogs.here import CatalogListed, Details, ProductHere
    from gallant.operations.catalogs.syncing import Synced
    from gallant.operations.catalogs.testing import SourceAsked
    from gallant.operations.catalogs.writing import CatalogWritten


class ReleaseRow(ListRow):
    """A release of a product, the newest first."""

    product: str
    version: str
    build: str | None
    label: str | None
    train: str | None
    released: datetime
    severity: str
    security: bool
    bridge: bool
    one_way: bool
    installs_on: Annotated[str | None, Says("VERS; null: any older one")]
    recall: str | None
    notes: str
    known_issues: tuple[str, ...]
    restart: str
    stops_here: Annotated[bool, Says("false: its updater runs on to a later release")]
    snapshots: Annotated[bool, Says("false: a system on it cannot be snapshotted")]
    support_ends: datetime | None
    requires: tuple[Requirement, ...]
    packages: tuple[Package, ...]
    terms: str | None
    fresh_install: Annotated[str | None, Says("VERS: versions whose saved configuration a fresh install takes")]
    settings: Annotated[tuple[NewSetting, ...], Says("new in it")]

    @classmethod
    def of(cls, product: Product, r: Release) -> ReleaseRow:
        return cls(
            product=product.name,
            version=r.version,
            build=r.build,
            label=r.label,
            train=r.train,
            released=r.released,
            severity=r.severity,
            security=r.security,
            bridge=r.bridge,
            one_way=r.one_way,
            installs_on=r.from_range,
            recall=r.recall.words if r.recall else None,
            notes=r.notes,
            known_issues=tuple(issue.text for issue in r.issues),
            restart=r.restart,
            stops_here=r.stops_here,
            snapshots=r.snapshots,
            support_ends=r.support_ends,
            requires=r.requires,
            packages=r.packages,
            terms=r.terms,
            fresh_install=r.fresh_install,
            settings=r.settings,
        )


ADDED: Listed[SourceFollowed] = Listed("catalog-add", "catalog add")
SYNCED: Listed[Synced] = Listed(
    "catalog-sync", "catalog sync", headings={"catalog": "name", "answer": "ok", "good until": "expires"}
)
TESTED: Listed[SourceAsked] = Listed("catalog-test", "catalog test", headings={"answer": "ok"})
TRUSTED: Listed[KeyChanged] = Listed("catalog-trust", "catalog trust")
REMOVED: Listed[Removed] = Listed("catalog-remove", "catalog remove")
CATALOGS: Listed[CatalogListed] = Listed(
    "catalog-list", "catalog list", headings={"catalog": "name", "good until": "expires"}
)
PRODUCTS: Listed[ProductHere] = Listed("catalog-products", "catalog list --products", headings={"here": "systems"})
RELEASES: Listed[ReleaseRow] = Listed(
    "catalog-show",
    "catalog show",
    beside=("notes", "concerns", "terms", "terms_accepted", "bundles", "running"),
    headings={"installs on": "installs_on"},
)
SIGNED: Listed[CatalogWritten] = Listed("catalog-sign", "catalog sign")
WRITTEN: Listed[CatalogWritten] = Listed("catalog-draft", "catalog draft")


def catalog_added_view(added: SourceFollowed) -> View:
    def text() -> Drawn:
        yield said("good", f"{added.name} is followed from {added.source}")
        yield f"Its key is pinned. Fingerprint: {BOLD}{added.fingerprint}{OFF}"
        yield f"{DIM}Compare it with what the publisher says by another way.{OFF}"
        yield from next_steps(f"gallant catalog sync {added.name}")

    return ADDED.view([added], text)


def catalog_synced_view(rows: Sequence[Synced]) -> View:
    def text() -> Drawn:
        shown = table("catalog", "answer", "serial", "releases", "new", "good until", right=("releases",))
        for r in rows:
            serial = (
                "–"
                if r.serial is None
                else (f"{r.serial_before} → {r.serial}" if r.serial_before not in (0, r.serial) else str(r.serial))
            )
            shown.add_row(
                f"{BOLD}{r.name}{OFF}",
                said("good", "verified") if r.ok else said("bad", "refused"),
                serial,
                str(r.releases),
                _some(r.new),
                f"{r.expires:%Y-%m-%d}" if r.expires else "–",
            )
        yield shown
        yield from (f"{mark('bad')} {plain(r.problem)}" for r in rows if r.problem)
        for r in rows:
            if r.recalled:
                yield said("bad", f"{r.name} recalled since the last sync: {_some(r.recalled)}")
            if r.gone:
                yield said("note", f"{r.name} no longer lists: {_some(r.gone)}")
            if r.left_out:
                yield said("work", f"{r.name}: {many(r.left_out, 'entry', 'entries')} not understood and left out")
        yield from next_steps(*(r.next for r in rows)) or next_steps("gallant gaps")

    return SYNCED.view(rows, text)


def _some(names: Sequence[str], most: int = 6) -> str:
    """A few names, and how many more."""
    more = f" and {len(names) - most} more" if len(names) > most else ""
    return (", ".join(names[:most]) + more) or "–"


def catalog_tested_view(rows: Sequence[SourceAsked]) -> View:
    def text() -> Drawn:
        shown = table("question", "answer", "seen")
        for r in rows:
            shown.add_row(f"{BOLD}{r.question}{OFF}", said("good", "yes") if r.ok else said("bad", "no"), plain(r.seen))
        yield shown
        yield from next_steps(*(r.next for r in rows))

    return TESTED.view(rows, text)


def catalog_trusted_view(trusted: KeyChanged) -> View:
    def text() -> Drawn:
        yield said("good", f"{trusted.name} is held against another key from now on")
        yield f"  before  {trusted.before}"
        yield f"  now     {BOLD}{trusted.fingerprint}{OFF}"
        yield from next_steps(f"gallant catalog sync {trusted.name}")

    return TRUSTED.view([trusted], text)


def catalog_removed_view(name: str, removed: Removed | None) -> View:
    def text() -> Drawn:
        if removed is None:
            yield said("note", f"{plain(name)} is followed as before")
            return
        yield said("good", f"{plain(removed.name)} is not followed any more")
        if removed.unknown:
            yield f"{mark('work')} No catalog here says anything now of {many(len(removed.unknown), 'component')}."
            yield from next_steps("gallant gaps --unknown")

    return REMOVED.view([] if removed is None else [removed], text)


def catalog_written_view(written: CatalogWritten) -> View:
    def text() -> Drawn:
        what = "signed" if written.key else "written, and not signed yet"
        yield (
            f"{said('good', written.file)}  {what}: {written.publisher}, serial {written.serial},"
            f" {many(written.releases, 'release')}, {many(written.packages, 'package')}"
        )
        if written.key is None:
            yield from next_steps(f"gallant catalog sign {written.file} --key KEY")
            return
        yield f"  public key   {BOLD}{written.key}{OFF}"
        yield f"  fingerprint  {written.fingerprint}"
        yield from next_steps(
            f"gallant catalog add {written.publisher} file://{_absolute(written.file)} --key {written.key}"
        )

    return (SIGNED if written.key else WRITTEN).view([written], text)


def _absolute(file: str) -> str:
    from pathlib import Path

    return str(Path(file).resolve())


def catalog_list_view(rows: Sequence[CatalogListed], now: datetime) -> View:
    def text() -> Drawn:
        shown = table(
            "catalog",
            "serial",
            "releases",
            "fetched",
            "checked",
            "good until",
            "source",
            optional=("source", "checked"),
            right=("releases",),
        )
        for r in rows:
            over = r.expires is not None and r.expires <= now
            shown.add_row(
                f"{BOLD}{r.name}{OFF}",
                str(r.serial or "–"),
                str(r.releases),
                ago(r.fetched, now),
                ago(r.checked, now),
                (
                    (said("bad", f"expired {r.expires:%Y-%m-%d}") if over else f"{r.expires:%Y-%m-%d}")
                    if r.expires
                    else "–"
                ),
                plain(r.source),
            )
        yield shown
        yield from (f"{mark('bad')} {plain(r.problem)}" for r in rows if r.problem)
        for r in rows:
            for what, kind in (("recalled", "bad"), ("new", "note"), ("gone", "note")):
                if names := [f"{n.product} {n.version}" for n in r.news if n.what == what]:
                    yield said(kind, f"{r.name}, {what} in the last sync that changed it: {_some(names)}")
        yield from (f"{DIM}{r.name}: key {r.fingerprint}{OFF}" for r in rows)
        if not rows:
            yield from next_steps("gallant catalog add NAME SOURCE --key FILE")

    return CATALOGS.view(rows, text)


def products_view(rows: Sequence[ProductHere]) -> View:
    def text() -> Drawn:
        if not rows:
            yield said("work", "No catalog was fetched yet.")
            yield from next_steps("gallant catalog list")
            return
        shown = table("product", "catalog", "releases", "newest", "released", "here", right=("releases",))
        for row in rows:
            shown.add_row(
                f"{BOLD}{plain(row.product)}{OFF}",
                plain(row.catalog),
                str(row.releases),
                plain(row.newest or "–"),
                f"{row.released:%Y-%m-%d}" if row.released else "–",
                plain(", ".join(row.systems)) or "–",
            )
        yield shown
        yield from next_steps(f"gallant catalog show {rows[0].product}")

    return PRODUCTS.view(rows, text)


def catalog_show_view(details: Details) -> View:
    rows = [ReleaseRow.of(details.product, r) for r in details.releases]
    more: dict[str, object] = {"notes": details.notes}
    if details.alone:
        more |= {
            "concerns": details.concerns,
            "terms": details.terms,
            "terms_accepted": details.terms_accepted,
            "bundles": details.bundles,
            "running": details.running,
        }
    return RELEASES.view(rows, lambda: _show_text(details), more)


def _show_text(details: Details) -> Drawn:
    product = details.product
    yield f"{BOLD}{product.name}{OFF} {plain(product.title)}"
    if not details.alone:
        shown = table(
            "version", "build", "label", "released", "severity", "installs on", "notes", optional=("build", "label")
        )
        for r in details.releases:
            shown.add_row(
                f"{BOLD}{plain(r.version)}{OFF}" + (f" {CYAN}• new{OFF}" if r.version in details.new else ""),
                plain(r.build or ""),
                plain(r.label or ""),
                f"{r.released:%Y-%m-%d}",
                r.severity + (" ⚑" if r.security else ""),
                plain(_installs_on(r)),
                f"{LOUD}✗ {plain(r.recall.words)}{OFF}" if r.recall else plain(r.notes),
            )
        yield shown
        yield from map(note_line, details.notes)
        yield from next_steps(
            f"gallant catalog show {product.name} {details.releases[0].version}" if details.releases else None
        )
        return
    release = details.releases[0]
    yield from _concerns(details.concerns)
    yield from map(note_line, details.notes)
    yield ""
    yield from _facts(details, release)
    for setting in release.settings:
        yield f"{mark('work')} {BOLD}new setting{OFF}  {plain(setting.words)}"
    yield ""
    yield from _forms(release)
    if release.terms:
        accepted = said("good", "accepted here") if details.terms_accepted else said("work", "not accepted here yet")
        yield f"{BOLD}Terms of use {plain(release.terms)}{OFF}  {accepted}"
        yield f"  {plain(details.terms or 'The catalog carries no text of them; ask the publisher.')}"
    yield from next_steps("gallant notice list" if details.concerns or release.terms else None)


def _concerns(concerns: Sequence[Concern]) -> Iterator[str]:
    """Known issues, those that concern this estate first."""
    for c in concerns:
        kind = (
            "bad"
            if c.nodes and c.issue.severity in ("critical", "high")
            else "work"
            if c.nodes or c.untold
            else "quiet"
        )
        yield f"{mark(kind)} {BOLD}known issue{OFF} ({c.issue.severity}): {plain(c.issue.text)}"
        yield f"  {DIM}{plain(c.words)}{OFF}"


def _facts(details: Details, r: Release) -> Iterator[str]:
    """What a release is, one line a fact; what people were bitten by stands out."""
    loud = {
        "recalled": r.recall.words + (f"; where {r.recall.when}" if r.recall.when else "") if r.recall else None,
        "updater": None if r.stops_here else "does not stop here: it runs on to a later release",
        "way back": None if not r.one_way else f"none: {r.one_way_because or 'the publisher gives none'}",
        "snapshots": None if r.snapshots else "not supported on this release",
    }
    for name, text in loud.items():
        if text:
            yield f"{BOLD}{name:<14}{OFF} {said('bad' if name == 'recalled' else 'work', text)}"
    minutes = r.minutes
    quiet = {
        "version": " = ".join(t for t in (r.version, r.build and f"build {r.build}", r.label) if t),
        "train": r.train,
        "released": f"{r.released:%Y-%m-%d}",
        "severity": r.severity + (" ⚑ closes a hole" if r.security else ""),
        "installs on": _installs_on(r),
        "bridge": "the way to later releases" if r.bridge else None,
        "restart": (
            f"{r.restart}; about {minutes.install:g} min to install, {minutes.restart:g} to restart, {minutes.sync:g}"
            " to sync, per node"
        ),
        "requires": "; ".join(f"{q.product} on {parse_range(q.range).words()}" for q in r.requires) or None,
        "support ends": f"{r.support_ends:%Y-%m-%d}" if r.support_ends else None,
        "fresh install": (
            f"takes a configuration saved on {parse_range(r.fresh_install).words()}" if r.fresh_install else None
        ),
        "bundles": ", ".join(details.bundles) or None,
        "runs here on": ", ".join(details.running) or None,
        "notes": r.notes or None,
    }
    for name, text in quiet.items():
        if text:
            yield f"{BOLD}{name:<14}{OFF} {plain(text)}"


def _forms(release: Release) -> Drawn:
    if not release.packages:
        yield said("work", "The publisher offers no package of it.")
        return
    shown = table("package", "form", "goes on", "by way of", "size", "sha-256", right=("size",), optional=("sha-256",))
    for p in release.packages:
        on = parse_range(p.from_range).words() if p.from_range else "whatever the release goes on"
        shown.add_row(
            f"{BOLD}{plain(p.name)}{OFF}",
            plain(p.kind),
            plain(on),
            plain(p.delivery or "any"),
            size(p.bytes),
            f"{p.sha256[:12]}…",
        )
    yield shown


def _installs_on(release: Release) -> str:
    return parse_range(release.from_range).words() if release.from_range else "any older"
