"""The backups of an estate: `backups/<system>/<id>.tar.zst` and its manifest beside it.

The manifest is written last and under its final name only when the archive was read back; so whatever has a manifest is
whole, and what a power cut left has none and is swept away by the next backup.
"""

from __future__ import annotations

import contextlib
import fcntl
import hashlib
import os
import tempfile
from collections.abc import Iterator, Sequence
from datetime import datetime
from pathlib import Path
from typing import Protocol

import msgspec

from gallant.core.backups import Backup, Item
from gallant.core.errors import GallantError
from gallant.core.records import replace
from gallant.vault.archive import items_of, read_back, write_archive

_MANIFEST = msgspec.json.Decoder(Backup)


class Exporter(Protocol):
    """What a vault needs of a driver."""

    async def export(self, node: str, name: str, into: object) -> None: ...


class BackupStore:
    """Manifests are the truth: a backup is what a whole manifest describes."""

    def __init__(self, estate_folder: Path) -> None:
        self.folder = estate_folder / "backups"

    def all(self, system: str | None = None) -> list[Backup]:
        """Newest first. A manifest that cannot be read is passed over: it describes nothing."""
        found = []
        for path in self.folder.glob(f"{system or '*'}/*.json"):
            with contextlib.suppress(OSError, msgspec.DecodeError):
                found.append(_MANIFEST.decode(path.read_bytes()))
        return sorted(found, key=lambda b: (b.taken, b.id), reverse=True)

    async def take(
        self,
        system: str,
        node: str,
        exports: Sequence[str],
        exporter: Exporter,
        versions: dict[str, str],
        *,
        by: str,
        comment: str,
        tool: str,
        now: datetime,
    ) -> Backup:
        """Export everything from `node`, pack it, read it back, and only then let it be a backup."""
        folder = self.folder / system
        try:
            folder.mkdir(parents=True, exist_ok=True, mode=0o700)
            with self._alone(system):
                self._sweep(folder)
                with tempfile.TemporaryDirectory(prefix=".export-", dir=folder) as work:
                    items = [await _one(Path(work), node, name, exporter) for name in exports]
                    return self._pack(
                        folder, Path(work), system, items, versions, by=by, comment=comment, tool=tool, now=now
                    )
        except OSError as error:
            raise GallantError(
                f"{system}: the backup cannot be written to {folder}: {error.strerror}.",
                "There is no backup; nothing half-written was kept.",
                "Make room, then: gallant backup take " + system,
            ) from None

    @contextlib.contextmanager
    def _alone(self, system: str) -> Iterator[None]:
        """One backup of a system at a time; the kernel frees the lock with the process."""
        handle = os.open(self.folder / f".{system}.lock", os.O_CREAT | os.O_RDWR, 0o600)
        try:
            try:
                fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
            except OSError:
                raise GallantError(
                    f"{system}: another backup of it is being taken right now.", next=f"gallant backup list {system}"
                ) from None
            yield
        finally:
            os.close(handle)

    def _pack(
        self,
        folder: Path,
        work: Path,
        system: str,
        items: Sequence[Item],
        versions: dict[str, str],
        *,
        by: str,
        comment: str,
        tool: str,
        now: datetime,
    ) -> Backup:
        backup_id = self._free_id(folder, system, now)
        archive = folder / f"{backup_id}.tar.zst"
        partial = folder / f".{backup_id}.part"
        sha256, size = write_archive(partial, [(item.name, work / item.name) for item in items], now.timestamp())
        if read_back(partial) != (sha256, size):
            raise GallantError(
                f"{system}: the backup reads back otherwise than it was written.",
                "The disk is not to be trusted.",
                "Look at the disk; then: gallant backup take " + system,
            )
        os.replace(partial, archive)
        backup = Backup(
            id=backup_id,
            system=system,
            taken=now,
            by=by,
            comment=comment,
            tool=tool,
            versions=versions,
            items=tuple(items),
            archive=archive.name,
            bytes=size,
            sha256=sha256,
            sealed=now,
        )
        self._write_manifest(folder, backup)
        return backup

    def _free_id(self, folder: Path, system: str, now: datetime) -> str:
        stem = f"{system}-{now:%Y%m%d-%H%M%S}"
        taken = {path.name.split(".")[0] for path in folder.iterdir()}
        return next(
            name for number in range(1, 10_000) if (name := stem if number == 1 else f"{stem}-{number}") not in taken
        )

    def _write_manifest(self, folder: Path, backup: Backup) -> None:
        partial = folder / f".{backup.id}.manifest"
        with partial.open("wb") as file:
            os.fchmod(file.fileno(), 0o600)
            file.write(msgspec.json.format(msgspec.json.encode(backup), indent=1))
            file.flush()
            os.fsync(file.fileno())
        os.replace(partial, folder / f"{backup.id}.json")
        handle = os.open(folder, os.O_RDONLY)
        try:
            os.fsync(handle)
        finally:
            os.close(handle)

    def verify(self, backup: Backup, now: datetime, *, unpack: bool) -> tuple[Backup, list[str]]:
        """Read a backup again: the record with its new `sealed` and `opened`, and what is wrong."""
        folder = self.folder / backup.system
        path = folder / backup.archive
        problems = []
        try:
            if read_back(path) != (backup.sha256, backup.bytes):
                problems.append("its bytes are not those that were written")
            elif unpack:
                found = items_of(path)
                problems += [
                    f"{item.name} is not as it was exported"
                    for item in backup.items
                    if found.get(item.name) != (item.bytes, item.sha256)
                ]
        except OSError as error:
            problems.append(f"it cannot be read: {error.strerror}")
        after = replace(
            backup, sealed=None if problems else now, opened=now if unpack and not problems else backup.opened
        )
        self._write_manifest(folder, after)
        return after, problems

    def _sweep(self, folder: Path) -> None:
        """Take away what an interrupted backup left: anything half-written, and archives that never got a manifest."""
        for path in folder.glob(".*"):
            if path.is_dir():
                for inner in path.iterdir():
                    inner.unlink()
                path.rmdir()
            else:
                path.unlink()
        for path in folder.glob("*.tar.zst"):
            if not path.with_name(path.name.removesuffix(".tar.zst") + ".json").exists():
                path.unlink()


async def _one(work: Path, node: str, name: str, exporter: Exporter) -> Item:
    """One export streamed to a file and hashed on its way."""
    digest, size = hashlib.sha256(), 0
    with (work / name).open("xb") as file:
        os.fchmod(file.fileno(), 0o600)

        def into(chunk: bytes) -> None:
            nonlocal size
            digest.update(chunk)
            size += len(chunk)
            file.write(chunk)

        await exporter.export(node, name, into)
    return Item(name=name, node=node, bytes=size, sha256=digest.hexdigest())
