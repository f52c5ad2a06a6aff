"""Backups: sealed by reading back, opened by their identity alone, never half, found to be rotten when they are."""

from __future__ import annotations

import asyncio
import io
import os
import random
import resource
import shutil
import subprocess
import sys
import tarfile
import tempfile
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
import zstandard
from blake3 import blake3
from pyrage import encrypt, x25519

from gallant.core.errors import GallantError, Refused, WrongUse
from gallant.core.estate.backups import Backup, Item
from gallant.core.records import replace
from gallant.vault.archive import NotWhole, unpack
from gallant.vault.backups import BackupDraft, BackupStore, FolderPlace, copy_to
from gallant.vault.disk import ReadBack, read_back
from gallant.vault.keys import Signer, fingerprint, identities_from, new_identity
from gallant.vault.spool import PIECE

from ..builders import altered

CUTS = int(os.environ.get("GALLANT_CUTS", "6"))  # make cuts: many more
NOW = datetime(2026, 11, 25, 22, 0, tzinfo=UTC)
CONTENT = {"system.json": b"s" * 5000, "volumes.json": random.Random(1).randbytes(300_000)}
OWN = x25519.Identity.generate()
DRAFT = BackupDraft(
    system="tickets",
    product="ostrel/shoal",
    wanted=[("a", name) for name in CONTENT],
    versions={"a": "2.8.5", "b": "2.8.5"},
    serials={"a": "SA", "b": "SB"},
    recipients=(str(OWN.to_public()),),
    by="anna",
    comment="why",
    before=None,
    roll=None,
    tool="gallant",
)


class Exporter:
    def __init__(self, fails: str | None = None, **other: bytes) -> None:
        self.fails, self.content = fails, {**CONTENT, **{f"{k}.json": v for k, v in other.items()}}

    async def export(self, node, name, into):
        for start in range(0, len(self.content[name]), 4096):
            if name == self.fails and start > 4096:
                raise GallantError("the device broke off")
            into(self.content[name][start : start + 4096])


def take(folder, exporter=None, now=NOW, **changes) -> Backup:
    from dataclasses import replace as changed

    return asyncio.run(BackupStore(folder).take(changed(DRAFT, **changes), exporter or Exporter(), now))


def files(folder):
    return sorted(p.name for p in (folder / "backups" / "tickets").iterdir())


def archive_of(folder, backup):
    return folder / "backups" / "tickets" / backup.archive


def test_a_plain_backup_holds_every_export_and_is_tar_in_zstandard(tmp_path):
    backup = take(tmp_path, recipients=())
    raw = archive_of(tmp_path, backup).read_bytes()
    tar = tarfile.open(fileobj=io.BytesIO(zstandard.ZstdDecompressor().stream_reader(io.BytesIO(raw)).read()))
    assert {m.name: tar.extractfile(m).read() for m in tar} == {f"a/{n}": c for n, c in CONTENT.items()}
    assert backup.sealed == NOW
    assert not backup.encrypted
    assert {i.name: i.bytes for i in backup.items} == {n: len(c) for n, c in CONTENT.items()}
    assert all((tmp_path / "backups" / "tickets" / f).stat().st_mode & 0o077 == 0 for f in files(tmp_path))


def test_an_encrypted_backup_seals_without_any_key_and_opens_with_its_own_alone(tmp_path):
    backup, store = take(tmp_path), BackupStore(tmp_path)
    assert archive_of(tmp_path, backup).read_bytes().startswith(b"age-encryption.org/v1")
    sealed, problems = store.verify(backup, NOW, None)
    assert (problems, sealed.sealed, sealed.opened) == ([], NOW, None)
    opened, problems = store.verify(backup, NOW, [OWN])
    assert (problems, opened.opened) == ([], NOW)
    _, problems = store.verify(backup, NOW, [x25519.Identity.generate()])
    assert "not encrypted to this identity" in problems[0]
    with pytest.raises(WrongUse, match="no identity is named"):
        store.unpack(backup, None)


def test_what_has_not_changed_is_stored_once_and_goes_with_the_last_that_points_to_it(tmp_path):
    first, second = take(tmp_path), take(tmp_path, now=NOW + timedelta(hours=1))
    third = take(tmp_path, Exporter(system=b"other"), now=NOW + timedelta(hours=2))
    assert first.archive == second.archive != third.archive
    assert len([f for f in files(tmp_path) if f.endswith(".age")]) == 2
    store = BackupStore(tmp_path)
    store.remove(first)
    assert store.verify(second, NOW, [OWN])[1] == []
    store.remove(second)
    assert [f for f in files(tmp_path) if f.endswith(".age")] == [third.archive]
    other = x25519.Identity.generate()
    fourth = take(tmp_path, Exporter(system=b"other"), recipients=(str(other.to_public()),))
    assert fourth.archive != third.archive  # for somebody else it is another backup


SIZES = (0, 1, 511, 512, 513, 4096, PIECE - 1, PIECE, PIECE + 1, 3 * PIECE + 700)


@pytest.mark.parametrize("changed", [0, len(SIZES) - 1], ids=["the first", "the last"])
def test_items_of_any_size_come_back_also_where_one_alone_has_changed(tmp_path, changed):
    content = {
        f"i{n}": random.Random(n).randbytes(size // 2) + b"x" * (size - size // 2) for n, size in enumerate(SIZES)
    }

    def taken():
        exporter = Exporter()
        exporter.content = content
        return take(tmp_path, exporter, wanted=[("a", name) for name in content])

    first, store = taken(), BackupStore(tmp_path)
    content[f"i{changed}"] += b"y"
    second = taken()
    assert first.archive != second.archive
    store.export(second, [OWN], tmp_path / "out")
    assert {p.name: p.read_bytes() for p in (tmp_path / "out" / "a").iterdir()} == content
    assert [i.bytes for i in second.items] == [len(c) for c in content.values()]


def test_a_file_reads_the_same_past_the_cache_and_where_nothing_can_pass_by_it(tmp_path):
    raw = random.Random(2).randbytes(2_500_001)
    with tempfile.TemporaryDirectory(dir="/dev/shm") as memory:
        for folder in (tmp_path, Path(memory)):
            again = ReadBack(_written(folder / "f", b""))
            with (folder / "f").open("ab", buffering=0) as file:
                for end in (1_000_000, 2_000_000, len(raw)):
                    file.write(raw[file.tell() : end])
                    again.upto(end)
            assert again.end() == read_back(folder / "f") == (blake3(raw).hexdigest(), len(raw))
            _written(folder / "f", raw[:-1] + b"\0")
            assert read_back(folder / "f") != (blake3(raw).hexdigest(), len(raw))


def _written(path, raw):
    path.write_bytes(raw)
    return path


def test_a_disk_that_is_full_ends_a_backup_and_leaves_nothing(tmp_path):
    limit = 6 * 1024 * 1024
    exporter = Exporter(system=random.Random(5).randbytes(limit), volumes=random.Random(6).randbytes(limit))
    was = resource.getrlimit(resource.RLIMIT_FSIZE)
    resource.setrlimit(resource.RLIMIT_FSIZE, (limit + 4096, was[1]))  # each export fits, the archive of both does not
    try:
        with pytest.raises(GallantError, match="cannot be written") as said:
            take(tmp_path, exporter)
    finally:
        resource.setrlimit(resource.RLIMIT_FSIZE, was)
    assert "nothing half-written was kept" in said.value.why
    assert files(tmp_path) == []


def test_an_export_is_not_fetched_to_its_end_once_the_disk_is_full(tmp_path):
    class Endless(Exporter):
        asked = 0

        async def export(self, node, name, into):
            for number in range(4096):
                self.asked = number
                into(os.urandom(PIECE))

    exporter, was = Endless(), resource.getrlimit(resource.RLIMIT_FSIZE)
    resource.setrlimit(resource.RLIMIT_FSIZE, (8 * PIECE, was[1]))
    try:
        with pytest.raises(GallantError, match="cannot be kept in"):
            take(tmp_path, exporter)
    finally:
        resource.setrlimit(resource.RLIMIT_FSIZE, was)
    assert exporter.asked < 100
    assert files(tmp_path) == []


def test_the_newest_comes_first_and_two_of_one_second_have_two_names(tmp_path):
    made = [take(tmp_path, now=NOW + timedelta(hours=h)) for h in (0, 2, 1)] + [
        take(tmp_path, now=NOW + timedelta(hours=2))
    ]
    assert len({b.id for b in made}) == 4
    listed = BackupStore(tmp_path).all("tickets")
    assert [b.taken for b in listed] == sorted((b.taken for b in made), reverse=True)
    store = BackupStore(tmp_path)
    assert store.one("tickets").id == listed[0].id
    assert store.one(made[2].id).id == made[2].id
    with pytest.raises(WrongUse, match="the start of 4"):
        store.one("tickets-2026")


def test_an_export_that_breaks_off_leaves_no_backup_and_nothing_half(tmp_path):
    with pytest.raises(GallantError, match="broke off"):
        take(tmp_path, Exporter(fails="volumes.json"))
    assert files(tmp_path) == []


@pytest.mark.parametrize("recipients", [(), DRAFT.recipients], ids=["plain", "encrypted"])
def test_every_flipped_bit_is_found_and_the_seal_taken_away(tmp_path, recipients):
    backup, store = take(tmp_path, recipients=recipients), BackupStore(tmp_path)
    path, keys = archive_of(tmp_path, backup), [OWN]
    good, problems = store.verify(backup, NOW, keys)
    assert (problems, good.opened) == ([], NOW)
    whole = path.read_bytes()
    for at in random.Random(7).sample(range(len(whole)), 12):
        raw = bytearray(whole)
        raw[at] ^= 1 << (at % 8)
        path.write_bytes(raw)
        bad, problems = store.verify(good, NOW, keys)
        assert bad.sealed is None
        assert problems
    assert store.all("tickets")[0].sealed is None
    path.unlink()
    assert "cannot be read" in store.verify(good, NOW, keys)[1][0]


def test_a_manifest_that_was_altered_or_signed_by_a_stranger_is_not_believed(tmp_path):
    backup, store = take(tmp_path), BackupStore(tmp_path)
    assert store.signer.problem(backup) is None
    assert store.signer.problem(replace(backup, opened=NOW, sealed=None)) is None  # found out later, not claimed
    assert "altered" in store.signer.problem(replace(backup, comment="another"))
    assert "not signed" in store.signer.problem(replace(backup, signature=""))
    stranger = Signer(tmp_path / "elsewhere")
    theirs = stranger.sign(replace(backup, by="mallory"))
    assert "not known here" in store.signer.problem(theirs)
    assert BackupStore(tmp_path, [theirs.key]).signer.problem(theirs) is None


# --- hostile archives


def packed(*members: tuple[tarfile.TarInfo, bytes]) -> bytes:
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode="w", format=tarfile.GNU_FORMAT) as tar:
        for info, content in members:
            tar.addfile(info, io.BytesIO(content))
    return zstandard.compress(out.getvalue())


def member(name: str, content: bytes = b"x", kind: bytes = tarfile.REGTYPE, link: str = ""):
    info = tarfile.TarInfo(name)
    info.size, info.type, info.linkname = len(content) if kind == tarfile.REGTYPE else 0, kind, link
    return info, content


X = Item(name="x", node="a", bytes=1, sha256="2d711642b726b04401627ca9fbac32f5c8530fb1903cc4db02258717921a4881")
HOSTILE = {
    "absolute": ([member("/etc/passwd")], "knows nothing"),
    "dots": ([member("a/../../x")], "knows nothing"),
    "symbolic link": ([member("a/x", kind=tarfile.SYMTYPE, link="/etc/passwd")], "not a plain file"),
    "hard link": ([member("a/x", kind=tarfile.LNKTYPE, link="a/y")], "not a plain file"),
    "device": ([member("a/x", kind=tarfile.CHRTYPE)], "not a plain file"),
    "larger": ([member("a/x", b"x" * 4096)], "4096 bytes in it"),
    "twice": ([member("a/x"), member("a/x")], "knows nothing"),
    "another content": ([member("a/x", b"y")], "not as it was exported"),
    "nothing": ([], "lacks a/x"),
}


@pytest.mark.parametrize("kind", HOSTILE)
@pytest.mark.parametrize("encrypted", [False, True])
def test_a_hostile_archive_is_refused_and_writes_nowhere(tmp_path, kind, encrypted):
    members, words = HOSTILE[kind]
    raw = packed(*members)
    path = tmp_path / "x.tar.zst"
    path.write_bytes(encrypt(raw, [OWN.to_public()]) if encrypted else raw)
    with pytest.raises(NotWhole, match=words):
        unpack(path, [X], [OWN] if encrypted else None)


def test_a_huge_sparse_member_is_refused_before_it_is_read(tmp_path):
    (tmp_path / "a").mkdir()
    subprocess.run(["sh", "-c", "truncate -s 1T a/x && tar -cSf t.tar a/x"], cwd=tmp_path, check=True)
    (tmp_path / "x.tar.zst").write_bytes(zstandard.compress((tmp_path / "t.tar").read_bytes()))
    with pytest.raises(NotWhole):
        unpack(tmp_path / "x.tar.zst", [X], None)
    with pytest.raises(NotWhole, match="not a plain file|a size that none has"):
        unpack(tmp_path / "x.tar.zst", [replace(X, bytes=2**40)], None)


@pytest.mark.parametrize("where", ["before", "after"])
def test_an_archive_that_unpacks_to_far_more_than_it_says_is_given_up_early(tmp_path, where):
    info, content = member("a/x")
    packer = zstandard.ZstdCompressor()
    bomb = b"".join(packer.compress(b"\0" * 2**24) for _ in range(64))  # 1 GB in 32 kB
    if where == "before":  # as the extended header of a member, which its reader would hold in memory
        head = tarfile.TarInfo("h")
        head.type, head.size = tarfile.XHDTYPE, 2**30
        raw = packer.compress(head.tobuf()) + bomb + packed((info, content))
    else:
        raw = packed((info, content)) + bomb
    (tmp_path / "x.tar.zst").write_bytes(raw)
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    with pytest.raises(NotWhole, match="more than its manifest says|a header of"):
        unpack(tmp_path / "x.tar.zst", [X], None)
    assert resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before < 200_000  # kB


def test_nothing_is_left_of_an_export_that_does_not_come_out_whole(tmp_path):
    backup, store = take(tmp_path), BackupStore(tmp_path)
    out = tmp_path / "out" / "here"
    path = archive_of(tmp_path, backup)
    whole = path.read_bytes()
    for broken in (whole[:-40_000], whole[:-1], whole[:200_000] + b"\0" + whole[200_001:]):
        path.write_bytes(broken)
        with pytest.raises(NotWhole):
            store.export(backup, [OWN], out)
        with pytest.raises(NotWhole):
            store.export(backup, [x25519.Identity.generate()], out)
        assert list(out.parent.iterdir()) == []
    path.write_bytes(whole)
    store.export(backup, [OWN], out)
    assert {p.name: p.read_bytes() for p in (out / "a").iterdir()} == CONTENT
    assert all(p.stat().st_mode & 0o077 == 0 for p in (out / "a").iterdir())
    with pytest.raises(WrongUse, match="is there already"):
        store.export(backup, [OWN], out)


# --- identities and copies


def test_an_identity_that_cannot_be_written_whole_is_not_there_and_in_nobodys_way(tmp_path):
    path, (soft, hard) = tmp_path / "backups.key", resource.getrlimit(resource.RLIMIT_FSIZE)
    resource.setrlimit(resource.RLIMIT_FSIZE, (10, hard))  # as on a full disk
    try:
        with pytest.raises(GallantError, match=r"backups.key cannot be written: File too large"):
            new_identity(path, None)
    finally:
        resource.setrlimit(resource.RLIMIT_FSIZE, (soft, hard))
    assert not path.exists()
    assert new_identity(path, None).startswith("age1")


def test_an_identity_wrapped_by_a_passphrase_opens_with_that_alone_and_is_never_overwritten(tmp_path):
    path = tmp_path / "key"
    recipient = new_identity(path, "correct horse")
    assert str(identities_from(path, lambda _: "correct horse")[0].to_public()) == recipient
    with pytest.raises(WrongUse, match="not its passphrase"):
        identities_from(path, lambda _: "wrong")
    with pytest.raises(WrongUse, match="nobody is at a terminal"):
        identities_from(path, None)
    with pytest.raises(Refused, match="there already"):
        new_identity(path, None)
    path.chmod(0o644)
    with pytest.raises(WrongUse, match="read by others"):
        identities_from(path, None)


def test_a_copy_has_a_seal_of_its_own_and_a_place_that_fails_is_said(tmp_path):
    backup, store = take(tmp_path), BackupStore(tmp_path)
    good = FolderPlace("second", tmp_path / "second")
    (tmp_path / "file").write_text("")
    after = asyncio.run(copy_to(store, backup, [good, FolderPlace("bad", tmp_path / "file")], NOW))
    assert [(c.place, c.sealed, bool(c.problem)) for c in after.copies] == [("second", NOW, False), ("bad", None, True)]
    assert store.all()[0].copies == after.copies

    def check():
        return asyncio.run(good.check("tickets", backup.archive, backup.blake3, backup.bytes))

    assert check() is None
    there = tmp_path / "second" / "tickets" / backup.archive
    altered(there)
    assert "not those that were written" in check()
    there.unlink()
    assert "cannot be read" in check()
    # What was copied is whole without this host: its manifest lies next to it.
    elsewhere = BackupStore(tmp_path / "other")
    asyncio.run(copy_to(store, backup, [FolderPlace("third", elsewhere.folder)], NOW))
    assert elsewhere.verify(elsewhere.all()[0], NOW, [OWN])[1] == [
        f"its manifest is signed by a key that is not known here ({fingerprint(backup.key)})"
    ]


# --- power cuts

SCRIPT = """
import asyncio, os, sys, threading, time
sys.path.insert(0, {tests!r})
from tests.vault.test_backups import Exporter, take
from pathlib import Path
threading.Thread(target=lambda: (time.sleep({delay}), os.kill(os.getpid(), 9)), daemon=True).start()
for i in range(1000):
    take(Path({folder!r}), Exporter(system=b"%d" % i), recipients={recipients!r})
"""


def cut_off(folder, delay: float, recipients=DRAFT.recipients) -> None:
    root = os.path.dirname(os.path.dirname(os.path.dirname(os.path.abspath(__file__))))
    script = SCRIPT.format(tests=root, folder=str(folder), delay=delay, recipients=recipients)
    assert subprocess.run([sys.executable, "-c", script], check=False, cwd=root).returncode == -9


def test_a_power_cut_at_any_instant_leaves_no_half_backup_that_looks_whole(tmp_path):
    recipient = str(OWN.to_public())
    store, chance = BackupStore(tmp_path), random.Random(3)
    for _ in range(CUTS):
        cut_off(tmp_path, 0.05 + chance.random() / 4, (recipient,))
        for number, backup in enumerate(store.all()):
            assert store.verify(backup, NOW, [OWN])[1] == []
            if number == 0:
                store.export(backup, [OWN], tmp_path / "restored")
                shutil.rmtree(tmp_path / "restored")
            elif number > 4:
                store.remove(backup)
    take(tmp_path)
    assert not [f for f in files(tmp_path) if f.startswith(".")]
    assert {f for f in files(tmp_path) if ".tar." in f} == {b.archive for b in store.all()}


def test_a_damaged_manifest_describes_nothing_and_no_archive_is_swept_away_beside_it(tmp_path):
    backup = take(tmp_path)
    (tmp_path / "backups" / "tickets" / f"{backup.id}.json").write_text("{")
    assert BackupStore(tmp_path).all() == []
    take(tmp_path, now=NOW + timedelta(hours=1))
    assert archive_of(tmp_path, backup).exists()


@pytest.mark.parametrize("name", ["../x", "a/b", "", ".hidden", "x\n"])
def test_a_name_that_is_no_plain_file_name_is_no_item(name):
    with pytest.raises(ValueError, match="plain file names"):
        Item(name=name, node="a", bytes=1, sha256="0")
