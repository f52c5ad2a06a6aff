"""Bringing what publishers have issued since."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from typing import TYPE_CHECKING

from gallant.core.catalog.products import Catalog
from gallant.core.documents import suggestion
from gallant.core.errors import GallantError, Refused, Unreached, WrongUse, worst_exit
from gallant.core.estate.sources import Source
from gallant.core.records import Record
from gallant.operations.catalogs.sources import bring, kept_catalog, news
from gallant.operations.ground.workplace import Workplace

if TYPE_CHECKING:
    from aiohttp import ClientSession
from gallant.operations.catalogs.following import follow_declared


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
    from gallant.drivers.http.driver import new_session

    undeclared = follow_declared(place)
    chosen = _chosen(place, names)
    if not chosen and not undeclared:
        raise WrongUse("No catalog is followed yet.", next="gallant catalog add NAME SOURCE --key FILE")
    async with new_session() as session:
        rows = [await _sync_one(place, session, s) for s in chosen if s.name not in undeclared]
    now, known = place.clock.now(), {source.name: source for source in chosen}
    for name, error in undeclared.items():
        if name in known or not names:
            source = known.get(name) or Source(name=name, source=place.estate.catalogs[name].from_, key="", added=now)
            rows.append(_not_synced(place, source, kept_catalog(place, name), now, error))
    rows.sort(key=lambda r: r.ok)
    return rows, worst_exit([r.exit_code for r in rows])


def _chosen(place: Workplace, names: Sequence[str]) -> list[Source]:
    """The sources of these names, or all. Raises `WrongUse` for a name that none has."""
    sources = place.readings.sources()
    known = [source.name for source in sources]
    for name in (name for name in names if name not in known):
        raise WrongUse(f"No catalog {name!r}{suggestion(name, known)}.", next="gallant catalog list shows them.")
    return [source for source in sources if not names or source.name in names]


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
