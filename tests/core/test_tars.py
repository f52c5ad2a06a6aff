"""Archives with headers that no archive has: refused at once and in words, by every reader of archives."""

from __future__ import annotations

import contextlib
import io
import random
import subprocess
import sys
import tarfile

import pytest
import zstandard

from gallant.catalogs.medium import local_source
from gallant.core.errors import GallantError
from gallant.core.estate.backups import Item
from gallant.core.tars import LARGEST_HEADER, Modest
from gallant.operations.keep.looking_into import texts
from gallant.vault.archive import NotWhole, unpack

ITEM = Item(node="a", name="x", bytes=1, sha256="0" * 64)


def header(kind: bytes, size: int, name: str = "x") -> bytes:
    info = tarfile.TarInfo(name)
    info.type, info.size = kind, size
    return info.tobuf(tarfile.GNU_FORMAT)


def blocks(body: bytes) -> bytes:
    return body + b"\0" * (-len(body) % 512)


def pax(*records: bytes) -> bytes:
    body = b"".join(records)
    return header(tarfile.XHDTYPE, len(body)) + blocks(body)


def record(key: str, value: str) -> bytes:
    rest = f" {key}={value}\n".encode()
    length = len(rest) + 1
    while len(str(length)) + len(rest) != length:
        length = len(str(length)) + len(rest)
    return str(length).encode() + rest


MEMBER = header(tarfile.REGTYPE, 1) + blocks(b"x")
END = b"\0" * 1024
ODD = {
    "no number before a record": pax(b"x y=z\n"),
    "a record of length 0": pax(b"0 a=b\n"),
    "a record longer than all": pax(b"999999 a=b\n"),
    "a record without =": pax(b"6 abc\n"),
    "a negative size": pax(record("size", "-1")),
    "a size that is none": pax(record("size", "many")),
    "a size without end": pax(record("size", "9" * 400)),
    "sparse without numbers": pax(
        record("GNU.sparse.major", "1"), record("GNU.sparse.minor", "0"), record("GNU.sparse.realsize", "x")
    ),
    "sparse map of nonsense": pax(record("GNU.sparse.map", "1,x,3"), record("GNU.sparse.size", "5")),
    "sparse map of old form": pax(record("GNU.sparse.numblocks", "2"), record("GNU.sparse.offset", "a")),
    "a time that is none": pax(record("mtime", "nan"), record("uid", "x")),
    "a name that is not a text": pax(b"20 path=\xff\xfe\xff\xfe\xff\xfe\n"),
    "another character set": pax(record("hdrcharset", "BINARY"), b"14 path=\xff\xfe\xff\n"),
    "a chain of headers": pax(record("comment", "x")) * 3000,
    "a chain of long names": (header(tarfile.GNUTYPE_LONGNAME, 4) + blocks(b"abc\0")) * 3000,
    "a header of 100 MB": header(tarfile.XHDTYPE, 100_000_000) + b"\0" * 10_000_000,
    "a long name of 8 GB": header(tarfile.GNUTYPE_LONGNAME, 8_000_000_000),
    "a header that ends early": header(tarfile.XHDTYPE, 4000) + b"12",
    "a checksum that is none": b"x" * 512,
    "no octal": header(tarfile.REGTYPE, 1)[:124] + b"zzzzzzzzzzz\0" + header(tarfile.REGTYPE, 1)[136:],
    "a global header of 3 MB": header(tarfile.XGLTYPE, 3_000_000) + b"\0" * 3_000_320,
}


@pytest.mark.parametrize("name", ODD)
def test_an_odd_archive_is_refused_or_read_and_is_no_defect(name, tmp_path):
    raw = ODD[name] + MEMBER + END
    (tmp_path / "carried.tar").write_bytes(raw)
    (tmp_path / "carried.tar.zst").write_bytes(zstandard.ZstdCompressor().compress(raw))
    for file in ("carried.tar", "carried.tar.zst"):
        with pytest.raises(GallantError):
            local_source(tmp_path / file)
    with pytest.raises(NotWhole):
        unpack(tmp_path / "carried.tar.zst", [ITEM], None)
    assert texts({"a.tar": io.BytesIO(raw)}) is not None


def test_a_header_as_archives_have_them_is_read():
    raw = pax(record("path", "n" * 4000)) + MEMBER + END
    with tarfile.open(fileobj=io.BytesIO(raw), tarinfo=Modest) as archive:
        assert [len(member.name) for member in archive] == [4000]
    assert LARGEST_HEADER > 100_000


def test_a_hundred_damaged_archives_are_no_defect(tmp_path):
    chance = random.Random(9)
    good = pax(record("path", "catalog.json")) + MEMBER + header(tarfile.REGTYPE, 3, "y") + blocks(b"abc") + END
    for number in range(100):
        raw = bytearray(good)
        for _ in range(chance.choice((1, 3, 20))):
            raw[chance.randrange(len(raw))] = chance.randrange(256)
        path = tmp_path / f"{number}.tar"
        path.write_bytes(bytes(raw))
        with contextlib.suppress(GallantError):
            local_source(path)
        texts({"a.tar": io.BytesIO(bytes(raw))})


def test_a_header_of_100_mb_costs_no_memory(tmp_path):
    path = tmp_path / "carried.tar"
    with path.open("wb") as file:
        file.write(header(tarfile.XHDTYPE, 200_000_000))
        file.truncate(200_001_024)
    code = f"""
from pathlib import Path
from gallant.catalogs.medium import local_source
from gallant.core.errors import Refused
try:
    local_source(Path({str(path)!r}))
except Refused:
    print(int(Path("/proc/self/status").read_text().split("VmHWM:")[1].split()[0]) // 1024)
"""
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert int(done.stdout) < 150  # MB
