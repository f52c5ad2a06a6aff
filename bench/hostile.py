"""What hostile input costs: the time for twice as much of it to the time for once as much. A goal of under 2.3: linear."""

from __future__ import annotations

import asyncio
import gzip
import hashlib
import json
import time
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from email.utils import format_datetime

from pysequoia import SignatureMode, Tsk, sign
from short import sized

from gallant.catalogs.apt import read_channel
from gallant.catalogs.fetch import Fetched, NotThere
from gallant.catalogs.trust import openpgp_key
from gallant.core.catalog.products import decode_catalog
from gallant.core.documents import Document, Invalid
from gallant.core.estate.sources import parse_channel
from gallant.core.estate.systems import Estate
from gallant.drivers.xml import NotXml, parse_xml, picked

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

    async def get(url: str, limit: int, tag: str | None) -> Fetched:
        path = url.removeprefix("https://deb.invalid/")
        if path not in files:
            raise NotThere(url)
        return Fetched(raw=files[path], tag=None)

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


CASES: tuple[tuple[str, Callable[[int], Callable[[], object]], int], ...] = (
    ("versions of one package", versions, 4000),
    ("lines of a Release", lines, 40_000),
    ("parts of an XML answer", parts, 10_000),
    ("parts of an XML answer, refused", refused_parts, 100_000),
    ("unknown keys of an estate", keys, 50_000),
    ("texts of a catalog to clean", texts, 10_000),
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
