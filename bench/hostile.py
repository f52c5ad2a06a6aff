"""What hostile input costs: the time for twice as much of it to the time for once as much. A goal of under 2.3:
linear."""

from __future__ import annotations

import asyncio
import gzip
import hashlib
import json
import tempfile
import time
from collections.abc import Callable
from contextlib import suppress
from datetime import UTC, datetime, timedelta
from email.utils import format_datetime
from pathlib import Path
from zoneinfo import ZoneInfo

from pysequoia import SignatureMode, Tsk, sign
from short import sized

from gallant.catalogs.apt import read_channel
from gallant.catalogs.fetch import NotThere, SourceAnswer
from gallant.catalogs.trust import openpgp_key
from gallant.core.catalog.products import decode_catalog
from gallant.core.documents import Document, Invalid
from gallant.core.estate.sources import parse_channel
from gallant.core.estate.systems import Estate
from gallant.core.windows.rules import WindowRule, spans_of
from gallant.drivers.patterns import begins
from gallant.drivers.xml import NotXml, parse_xml, picked
from gallant.operations.ground.calendars import events_of

NOW = datetime(2026, 11, 26, tzinfo=UTC)
OWNER = Tsk.generate("Bench <bench@bench.invalid>")
KEY = openpgp_key(str(OWNER.extract_certificate()).encode())
TIMES, GOAL = sized(5, 1), 2.3


def channel(stanzas: str, more: str = "") -> Callable[[], object]:
    """Reading a channel of packages with this index, and these lines more in its Release."""
    packed = gzip.compress(stanzas.encode(), 1, mtime=0)
    listed = f"\n {hashlib.sha256(packed).hexdigest()} {len(packed)} main/binary-amd64/Packages.gz{more}"
    fields = {"Suite": "s", "Date": format_datetime(NOW - timedelta(days=1)), "SHA256": listed}
    release = "".join(f"{key}: {value}\n" for key, value in fields.items()).encode()
    files = {
        "dists/s/InRelease": sign(OWNER.signer(), release, mode=SignatureMode.CLEAR),
        "dists/s/main/binary-amd64/Packages.gz": packed,
    }

    async def get(url: str, limit: int, tag: str | None) -> SourceAnswer:
        path = url.removeprefix("https://deb.invalid/")
        if path not in files:
            raise NotThere(url)
        return SourceAnswer(raw=files[path], tag=None)

    place = parse_channel("deb https://deb.invalid s main")
    assert place is not None
    return lambda: asyncio.run(read_channel("c", place, KEY, get, NOW, 0, {}, None))


def versions(count: int) -> Callable[[], object]:
    digest = "0" * 64
    return channel(
        "".join(
            f"Package: p\nVersion: 1.{n}\nFilename: pool/p_{n}.deb\nSize: 1\nSHA256: {digest}\n\n" for n in range(count)
        )
    )


def lines(count: int) -> Callable[[], object]:
    return channel("", "".join(f"\n {'0' * 64} {n} x/{n}" for n in range(count)))


def parts(count: int) -> Callable[[], object]:
    raw = b"<r>" + b"".join(b"<p n='p%d' v='1'/>" % n for n in range(count)) + b"</r>"
    return lambda: picked(parse_xml(raw), {"parts": {"at": "//p", "name": "@n", "version": "@v"}}, {})


def refused_parts(count: int) -> Callable[[], object]:
    def work() -> None:
        try:
            parts(count)()
        except NotXml:
            return
        raise AssertionError("it was not refused")

    return work


def keys(count: int) -> Callable[[], object]:
    text = "gallant: estate/1\nname: x\nsites: {}\nsystems: {}\n" + "".join(f"k{n}: 1\n" for n in range(count))

    def work() -> None:
        document = Document("e", text)
        try:
            document.convert(Estate)
            document.finish()
        except Invalid:
            return

    return work


def texts(count: int) -> Callable[[], object]:
    """A catalog whose every text has to be cleaned."""
    release = {"released": "2026-01-01T00:00:00Z", "notes": "a\x1b[31mb\u202e"}
    catalog = {
        "schema": "gallant.catalog/1", "publisher": "p", "serial": 1, "issued": "2026-01-01T00:00:00Z",
        "expires": "2027-01-01T00:00:00Z",
        "products": [{"name": "p/x", "scheme": "dotted", "releases": [{**release, "version": f"1.{n}"} for n in range(count)]}],
    }  # fmt: skip
    raw = json.dumps(catalog).encode()
    return lambda: decode_catalog(raw)


HEAD = "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//bench//EN\r\n"
EVENT = "BEGIN:VEVENT\r\nUID:{uid}\r\nDTSTAMP:20260101T000000Z\r\nDTSTART:{at:%Y%m%dT%H%M%SZ}\r\nDURATION:PT1H\r\n{more}END:VEVENT\r\n"
SINCE = datetime(1970, 1, 1, tzinfo=UTC)


def spans_in(events: list[str]) -> Callable[[], object]:
    """Reading a calendar, and a look at what is open in the months to come."""
    folder = Path(tempfile.mkdtemp())
    path = folder / "c.ics"
    path.write_text(f"{HEAD}{''.join(events)}END:VCALENDAR\r\n", newline="")

    def work() -> None:
        found = tuple(events_of(path, "c.ics"))
        list(
            spans_of(WindowRule(for_="x", file="c.ics", events=found), ZoneInfo("UTC"), NOW, NOW + timedelta(days=120))
        )

    return work


def old_rules(count: int) -> Callable[[], object]:
    """Rules that count from the first day that there may be."""
    more = "RRULE:FREQ=MONTHLY;BYDAY=MO,TU,WE;BYSETPOS=-1;COUNT=9999\r\n"
    return spans_in([EVENT.format(uid=f"e{n}", at=SINCE + timedelta(days=n), more=more) for n in range(count)])


def moved(count: int, ranged: str = "") -> Callable[[], object]:
    """One series of which so many occurrences are moved."""
    series = EVENT.format(uid="e", at=SINCE, more="RRULE:FREQ=DAILY\r\n")
    days = (SINCE + timedelta(days=20_000 + n) for n in range(count))
    changes = [
        EVENT.format(uid="e", at=day + timedelta(hours=2), more=f"RECURRENCE-ID{ranged}:{day:%Y%m%dT%H%M%SZ}\r\n")
        for day in days
    ]
    return spans_in([*changes, series])


def moved_from_there(count: int) -> Callable[[], object]:
    return moved(count, ";RANGE=THISANDFUTURE")


def answers(count: int) -> Callable[[], object]:
    """Answers of a service on which the pattern that is expected takes as long as it may."""

    async def look() -> None:
        with suppress(TimeoutError):
            await begins(r"(?:a|aa)+$", "a" * (100 + count) + "!")

    return lambda: asyncio.run(look())


CASES: tuple[tuple[str, Callable[[int], Callable[[], object]], int], ...] = (
    ("versions of one package", versions, 4000),
    ("lines of a Release", lines, 40_000),
    ("parts of an XML answer", parts, 10_000),
    ("parts of an XML answer, refused", refused_parts, 100_000),
    ("unknown keys of an estate", keys, 50_000),
    ("texts of a catalog to clean", texts, 10_000),
    ("rules of a calendar from 1970 on", old_rules, 40),
    ("moved occurrences of a series", moved, 1000),
    ("changes of all to come of a series", moved_from_there, 1000),
    ("signs of an answer under a slow pattern", answers, 20_000),
)


def timed(work: Callable[[], object]) -> float:
    began = time.perf_counter()
    work()
    return time.perf_counter() - began


def main() -> None:
    worst = 0.0
    for name, make, count in CASES:
        once, twice = make(count), make(2 * count)
        once(), twice()
        pairs = [(timed(once), timed(twice)) for _ in range(TIMES)]
        ratio = min(b for _, b in pairs) / min(a for a, _ in pairs)
        worst = max(worst, ratio)
        print(
            f"{name}, {count:,} and {2 * count:,}: {min(a for a, _ in pairs):.2f} s, {min(b for _, b in pairs):.2f} s, ratio {ratio:.2f}"
        )
    print(f"worst {worst:.2f}, goal under {GOAL}")


if __name__ == "__main__":
    main()
