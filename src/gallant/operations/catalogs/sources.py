"""Bringing a catalog from its source and believing it: a publisher's own, or a channel of packages."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING

import msgspec

from gallant.core.catalog.products import Catalog
from gallant.core.estate.sources import News, Source, parse_channel
from gallant.core.readings import UNKNOWN, Channel, Reading
from gallant.core.records import Record, replace
from gallant.operations.ground.workplace import Workplace

if TYPE_CHECKING:
    from datetime import datetime

    from aiohttp import ClientSession


class CatalogBrought(Record):
    """A catalog that was verified: the bytes to keep, their digest,
    the entity tag, and entries that were not understood."""

    catalog: Catalog
    raw: bytes
    sha256: str
    tag: str | None
    left_out: int = 0


class Counter:
    """How much a source sent, over how many answers."""

    def __init__(self) -> None:
        self.bytes, self.answers = 0, 0


async def bring(
    place: Workplace, session: ClientSession, source: Source, counter: Counter | None = None
) -> CatalogBrought | None:
    """The source's catalog, verified; None when it has not changed since the last time.

    Raises `Unreached` when it does not come, `Refused` when it is not to be believed.
    """
    from gallant.catalogs import apt, fetch, trust

    reach, seen = place.reach(source.source, source.access), counter or Counter()

    async def get(url: str, limit: int, tag: str | None) -> fetch.SourceAnswer:
        got = await fetch.fetch(session, url, limit, tag, reach)
        seen.bytes, seen.answers = seen.bytes + len(got.raw or b""), seen.answers + 1
        return got

    now = place.clock.now()
    # What was kept may be damaged; then nothing is unchanged.
    tag = source.tag if kept_catalog(place, source.name) is not None else None
    if (channel := parse_channel(source.source)) is not None:
        known = _first_seen(place, source.name)
        read = await apt.read_channel(source.name, channel, source.key, get, now, source.serial, known, tag)
        if read is None:
            return None
        raw = msgspec.json.encode(read.catalog)
        return CatalogBrought(catalog=read.catalog, raw=raw, sha256=read.sha256, tag=read.tag, left_out=read.left_out)
    got = await get(source.source, trust.LARGEST, tag)
    if got.raw is None:
        return None
    signature = await get(fetch.beside_it(source.source, ".sig"), 4096, None)
    catalog, sha256 = trust.verify(
        source.name, got.raw, signature.raw or b"", source.key, now, source.serial, source.sha256
    )
    return CatalogBrought(catalog=catalog, raw=msgspec.json.encode(catalog), sha256=sha256, tag=got.tag)


def _first_seen(place: Workplace, name: str) -> dict[str, datetime]:
    kept = kept_catalog(place, name)
    return {f"{p.name} {r.version}": r.released for p in kept.products for r in p.releases} if kept else {}


def kept_catalog(place: Workplace, name: str) -> Catalog | None:
    """The last good catalog of a source, as it is in the store now."""
    raw = place.readings.raw_catalog(name)
    try:
        return None if raw is None else msgspec.json.decode(raw, type=Catalog)
    except (msgspec.MsgspecError, ValueError):  # its row is damaged; a sync brings it again
        return None


def with_channel_states(place: Workplace, reading: Reading) -> Reading:
    """A host's reading with the states of those channels that are followed here, where the host itself does not
    tell."""
    if reading.channels is None:
        return reading
    followed = {
        (channel.url, channel.suite): source
        for source in place.readings.sources()
        if (channel := parse_channel(source.source)) is not None
    }
    return replace(reading, channels=tuple(_with_state(channel, followed) for channel in reading.channels))


def _with_state(channel: Channel, followed: Mapping[tuple[str, str], Source]) -> Channel:
    words = channel.name.removeprefix("deb ").split()
    source = followed.get((words[0].rstrip("/") + "/", words[1])) if len(words) > 1 else None
    if channel.state != UNKNOWN or source is None or source.state is None:
        return channel
    return replace(channel, state=source.state, why=source.problem or "")


def news(before: Catalog | None, now: Catalog) -> tuple[News, ...]:
    """What a catalog has that the one before had not; recalls first, then what is new, then what is gone."""
    if before is None:
        return ()
    old = {(p.name, r.version): r.recall is not None for p in before.products for r in p.releases}
    new = {(p.name, r.version): r.recall is not None for p in now.products for r in p.releases}
    recalled = [key for key, is_recalled in new.items() if is_recalled and not old.get(key, False)]
    groups = (
        ("recalled", sorted(recalled)),
        ("new", sorted(new.keys() - old.keys() - set(recalled))),
        ("gone", sorted(old.keys() - new.keys())),
    )
    return tuple(
        News(what=what, product=product, version=version) for what, keys in groups for product, version in keys
    )
