"""Whether a source answers, and what it would bring."""

from __future__ import annotations

from datetime import datetime
from typing import TYPE_CHECKING

from gallant.core.errors import GallantError, Unreached, worst_exit
from gallant.core.estate.sources import Access, Source, parse_channel
from gallant.core.records import Record, clean, replace
from gallant.operations.catalogs.sources import CatalogBrought, Counter, bring
from gallant.operations.ground.workplace import Workplace

if TYPE_CHECKING:
    from aiohttp import ClientSession
from gallant.operations.catalogs.following import key_of


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
    from gallant.drivers.http.driver import new_session

    known = {s.name: s for s in place.readings.sources()}
    followed = known.get(source_text)
    if followed is not None:
        source = replace(followed, tag=None, sha256=None, access=access or followed.access)
    else:
        name = publisher or ""
        source = Source(
            name=name,
            source=check_source(source_text),
            key=key_of(key) if key else "",
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
    counter = Counter()
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
        return [_failed("answers", problem, " ".join(p for p in (problem.what, problem.why) if p))]
    answers = SourceAsked(question="answers", ok=True, seen=f"{counter.bytes:,} bytes in {counter.answers} answers")
    if problem is not None:
        return [answers, _failed(FORM, problem, problem.what)]
    if brought is None:
        seen, following = "no key to hold it against", f"gallant catalog test {source.source} --key KEY"
        return [answers, SourceAsked(question="signature", ok=False, seen=seen, next=following, exit_code=1)]
    return [answers, *_held_against(brought, place.clock.now())]


FORM = "signature, serial, expiry and form"


def _failed(question: str, problem: GallantError, seen: str) -> SourceAsked:
    return SourceAsked(question=question, ok=False, seen=seen, next=problem.next, exit_code=problem.exit_code)


def _held_against(brought: CatalogBrought, now: datetime) -> list[SourceAsked]:
    """What is to be said of a catalog that was accepted: what it has, and how old it is."""
    catalog = brought.catalog
    more = f", {brought.left_out} entries not understood" if brought.left_out else ""
    count = sum(len(p.releases) for p in catalog.products)
    age = f"issued {(now - catalog.issued).days} d ago, good for {(catalog.expires - now).days} d more"
    seen = f"{catalog.publisher}, serial {catalog.serial}, {count} releases{more}"
    return [SourceAsked(question=FORM, ok=True, seen=seen), SourceAsked(question="age", ok=True, seen=age)]


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
