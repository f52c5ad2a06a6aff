"""Backups: sealed by reading back, never half, found to be rotten when they are."""

from __future__ import annotations

import asyncio
import io
import os
import subprocess
import sys
import tarfile
from datetime import UTC, datetime, timedelta

import pytest
import zstandard

from gallant.core.errors import GallantError
from gallant.vault.backups import BackupStore

NOW = datetime(2026, 11, 25, 22, 0, tzinfo=UTC)
CONTENT = {"settings.json": b"s" * 5000, "configuration.json": os.urandom(300_000)}


class Exporter:
    def __init__(self, fails: str | None = None) -> None:
        self.fails = fails

    async def export(self, node, name, into):
        for start in range(0, len(CONTENT[name]), 4096):
            if name == self.fails and start > 4096:
                raise GallantError("the device broke off")
            into(CONTENT[name][start : start + 4096])


def take(folder, exporter=None, now=NOW):
    return asyncio.run(
        BackupStore(folder).take(
            "tickets",
            "a",
            list(CONTENT),
            exporter or Exporter(),
            {"a": "2.8.5", "b": "2.8.5"},
            by="anna",
            comment="why",
            tool="gallant",
            now=now,
        )
    )


def files(folder):
    return sorted(p.name for p in (folder / "backups" / "tickets").iterdir())


def test_a_backup_holds_every_export_and_is_plain_tar_and_zstandard(tmp_path):
    backup = take(tmp_path)
    raw = (tmp_path / "backups" / "tickets" / backup.archive).read_bytes()
    tar = tarfile.open(fileobj=io.BytesIO(zstandard.ZstdDecompressor().stream_reader(io.BytesIO(raw)).read()))
    assert {m.name: tar.extractfile(m).read() for m in tar} == CONTENT
    assert backup.sealed == NOW
    assert {i.name: i.bytes for i in backup.items} == {n: len(c) for n, c in CONTENT.items()}
    assert all((tmp_path / "backups" / "tickets" / f).stat().st_mode & 0o077 == 0 for f in files(tmp_path))


def test_the_newest_comes_first_and_two_of_one_second_have_two_names(tmp_path):
    made = [take(tmp_path, now=NOW + timedelta(hours=h)) for h in (0, 2, 1)] + [
        take(tmp_path, now=NOW + timedelta(hours=2))
    ]
    assert len({b.id for b in made}) == 4
    listed = BackupStore(tmp_path).all("tickets")
    assert [b.taken for b in listed] == sorted((b.taken for b in made), reverse=True)


def test_an_export_that_breaks_off_leaves_no_backup_and_nothing_half(tmp_path):
    with pytest.raises(GallantError, match="broke off"):
        take(tmp_path, Exporter(fails="configuration.json"))
    assert files(tmp_path) == []


def test_rot_is_found_and_the_seal_taken_away(tmp_path):
    backup = take(tmp_path)
    store, path = BackupStore(tmp_path), tmp_path / "backups" / "tickets" / backup.archive
    good, problems = store.verify(backup, NOW, unpack=True)
    assert (problems, good.opened) == ([], NOW)
    raw = bytearray(path.read_bytes())
    raw[len(raw) // 2] ^= 1
    path.write_bytes(raw)
    bad, problems = store.verify(good, NOW, unpack=True)
    assert bad.sealed is None
    assert problems
    assert store.all("tickets")[0].sealed is None
    path.unlink()
    assert "cannot be read" in store.verify(good, NOW, unpack=True)[1][0]


SCRIPT = """
import asyncio, os, sys, threading, time
sys.path.insert(0, {tests!r})
from tests.vault.test_backups import take
from pathlib import Path
threading.Thread(target=lambda: (time.sleep({delay}), os.kill(os.getpid(), 9)), daemon=True).start()
for i in range(1000):
    take(Path({folder!r}))
"""


def test_a_power_cut_at_any_instant_leaves_no_half_backup_that_looks_whole(tmp_path):
    root = os.path.dirname(os.path.dirname(os.path.dirname(os.path.abspath(__file__))))
    store = BackupStore(tmp_path)
    for cut in range(6):
        script = SCRIPT.format(tests=root, folder=str(tmp_path), delay=0.05 + cut * 0.037)
        assert subprocess.run([sys.executable, "-c", script], check=False, cwd=root).returncode == -9
        for backup in store.all():
            assert store.verify(backup, NOW, unpack=True)[1] == []
    take(tmp_path)
    assert not [f for f in files(tmp_path) if f.startswith(".")]
    assert len([f for f in files(tmp_path) if f.endswith(".zst")]) == len(store.all())


def test_a_damaged_manifest_describes_nothing(tmp_path):
    backup = take(tmp_path)
    (tmp_path / "backups" / "tickets" / f"{backup.id}.json").write_text("{")
    assert BackupStore(tmp_path).all() == []
