"""Copies of backups on another host, over a real SFTP server."""

from __future__ import annotations

import asyncio
from pathlib import Path

import pytest

from gallant.core.errors import GallantError
from gallant.core.estate.accounts import Account
from gallant.core.estate.systems import CopyPlace
from gallant.operations.ground.workplace import Workplace
from gallant.operations.keep.copies import SftpPlace
from gallant.vault.backups import BackupStore, copy_to

from ..builders import altered
from ..vault.test_backups import NOW, OWN, take

ESTATE = """
gallant: estate/1
name: t
sites: {s: {}}
systems: {}
"""


@pytest.fixture
def there(sshd, tmp_path):
    """A place on an SFTP server, and the folder behind it."""
    server = sshd()
    home = tmp_path / "home"
    home.mkdir()
    (home / "estate.yaml").write_text(ESTATE)
    (home / "key").write_text(server.key)
    (home / "key").chmod(0o600)
    copy = CopyPlace(
        to=f"sftp://127.0.0.1:{server.port}{tmp_path}/far",
        account=Account(user="root", secret="key:key"),
        fingerprint=server.fingerprint,
    )
    return SftpPlace(Workplace(home), copy), tmp_path / "far", copy, home


def test_a_backup_is_copied_whole_read_back_and_found_out_when_it_rots(there, tmp_path):
    place, far, copy, _ = there
    backup, store = take(tmp_path), BackupStore(tmp_path)
    after = asyncio.run(copy_to(store, backup, [place], NOW))
    assert [(c.place, c.sealed, c.problem) for c in after.copies] == [(copy.to, NOW, None)]
    stored = far / "tickets" / backup.archive
    assert stored.read_bytes() == store.path(backup).read_bytes()
    assert not list(far.rglob("*.part"))

    def check() -> str | None:
        return asyncio.run(place.check("tickets", backup.archive, backup.blake3, backup.bytes))

    assert check() is None
    altered(stored)
    assert "not those that were written" in (check() or "")
    asyncio.run(copy_to(store, backup, [place], NOW))  # what rotted is written anew
    assert check() is None
    asyncio.run(place.remove("tickets", backup.archive))
    assert not stored.exists()
    assert check() is not None
    assert store.verify(backup, NOW, [OWN])[1] == []


def test_a_host_that_is_not_the_pinned_one_gets_nothing_and_is_said(there, tmp_path):
    _, far, copy, home = there
    wrong = CopyPlace(to=copy.to, account=copy.account, fingerprint="SHA256:" + "A" * 43)
    backup, store = take(tmp_path), BackupStore(tmp_path)
    after = asyncio.run(copy_to(store, backup, [SftpPlace(Workplace(home), wrong)], NOW))
    assert "host key" in (after.copies[0].problem or "")
    assert not far.exists()
    with pytest.raises(GallantError):
        asyncio.run(SftpPlace(Workplace(home), wrong).put("x", Path("/etc/hostname"), "x", "0", 1))
