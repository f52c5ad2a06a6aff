"""The backups of an estate: `backups/<system>/<id>.tar.zst[.age]` and its manifest beside it.

The manifest is written last and under its final name only when the archive was read back; so whatever has a manifest is
whole, and what a power cut left has none and is swept away by the next backup. Exports are spooled to files without a name,
of which a power cut leaves nothing.
"""

from __future__ import annotations

import asyncio
import contextlib
import fcntl
import hashlib
import os
import tempfile
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import IO, Any, Protocol

import msgspec

from gallant.core.backups import Backup, Copy, Item
from gallant.core.errors import GallantError, WrongUse
from gallant.core.records import replace
from gallant.vault.archive import NotWhole, Sink, read_back, unpack, write_archive
from gallant.vault.digests import FileDigest
from gallant.vault.keys import Signer, recipients_of

_MANIFEST = msgspec.json.Decoder(Backup)


@dataclass
class _Spooled:
    """An export in a file without a name: its size, and its digest as soon as that is computed."""

    node: str
    name: str
    file: IO[bytes]
    size: int
    digest: FileDigest

    def item(self, whole: bool = True) -> Item:
        """As the record has it; without its digest while nobody needs to wait for that."""
        return Item(name=self.name, node=self.node, bytes=self.size, sha256=self.digest.hexdigest() if whole else "")


class Exporter(Protocol):
    """What a vault needs of a driver."""

    async def export(self, node: str, name: str, into: Callable[[bytes], object]) -> None: ...


@dataclass(frozen=True)
class Draft:
    """What is to be backed up and why: everything of the record that is known before anything is exported.

    `wanted` are the exports as (node, name); `recipients` are age public keys, none where it was asked to be plain.
    """

    system: str
    product: str
    wanted: Sequence[tuple[str, str]]
    versions: dict[str, str]
    serials: dict[str, str]
    recipients: tuple[str, ...]
    by: str
    comment: str
    before: str | None
    tool: str


class BackupStore:
    """Manifests are the truth: a backup is what a whole manifest describes."""

    def __init__(self, estate_folder: Path, trusted: Sequence[str] = ()) -> None:
        self.folder = estate_folder / "backups"
        self.signer = Signer(estate_folder / "state", trusted)

    def all(self, system: str | None = None) -> list[Backup]:
        """Newest first. A manifest that cannot be read is passed over: it describes nothing."""
        found = []
        for path in self.folder.glob(f"{system or '*'}/*.json"):
            with contextlib.suppress(OSError, msgspec.DecodeError, ValueError):
                found.append(_MANIFEST.decode(path.read_bytes()))
        return sorted(found, key=lambda b: (b.taken, b.id), reverse=True)

    def one(self, backup_id: str) -> Backup:
        """By its id, or the start of it where only one begins so, or a system's name for its newest."""
        every = self.all()
        found = [b for b in every if b.id == backup_id] or [b for b in every if b.id.startswith(backup_id)]
        of_system = [b for b in every if b.system == backup_id]
        if of_system:
            return of_system[0]
        if len(found) != 1:
            what = f"No backup {backup_id!r}." if not found else f"{backup_id!r} is the start of {len(found)} backups."
            raise WrongUse(what, next="gallant backup list shows them.")
        return found[0]

    def path(self, backup: Backup) -> Path:
        return self.folder / backup.system / backup.archive

    # --- taking

    async def take(
        self, draft: Draft, exporter: Exporter, now: datetime, meter: Callable[[int], None] | None = None
    ) -> Backup:
        """Export everything, pack it, read it back, and only then let it be a backup."""
        folder = self.folder / draft.system
        try:
            folder.mkdir(parents=True, exist_ok=True, mode=0o700)
            with self._alone(draft.system):
                self._sweep(folder)
                recipients = recipients_of(draft.recipients)
                with contextlib.ExitStack() as stack:
                    spooled = [await _one(stack, folder, node, name, exporter) for node, name in draft.wanted]
                    return await asyncio.to_thread(self._pack, folder, spooled, draft, recipients, now, meter)
        except OSError as error:
            raise GallantError(
                f"{draft.system}: the backup cannot be written to {folder}: {error.strerror}.",
                "There is no backup; nothing half-written was kept.",
                f"Make room, then: gallant backup take {draft.system}",
            ) from None

    @contextlib.contextmanager
    def _alone(self, system: str, wait: bool = False) -> Iterator[None]:
        """One process at a time among a system's backups; the kernel frees the lock with the process."""
        handle = os.open(self.folder / f".{system}.lock", os.O_CREAT | os.O_RDWR, 0o600)
        try:
            try:
                fcntl.flock(handle, fcntl.LOCK_EX | (0 if wait else fcntl.LOCK_NB))
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
        spooled: Sequence[_Spooled],
        draft: Draft,
        recipients: Sequence[Any],
        now: datetime,
        meter: Callable[[int], None] | None,
    ) -> Backup:
        backup_id = self._free_id(folder, draft.system, now)
        made = Backup(
            id=backup_id,
            system=draft.system,
            product=draft.product,
            taken=now,
            by=draft.by,
            comment=draft.comment,
            before=draft.before,
            tool=draft.tool,
            versions=draft.versions,
            serials=draft.serials,
            items=tuple(one.item(whole=False) for one in spooled),
            archive=f"{backup_id}.tar.zst" + (".age" if draft.recipients else ""),
            bytes=0,
            sha256="",
            recipients=draft.recipients,
        )
        last = next((b for b in self.all(draft.system) if b.sealed is not None), None)
        if last is not None and _could_be_the_same(made, last):  # then it pays to wait for the digests first
            made = replace(made, items=tuple(one.item() for one in spooled))
        if last is not None and made.holds_the_same(last) and self._reads_back(last):
            made = replace(made, archive=last.archive, bytes=last.bytes, sha256=last.sha256, opened=last.opened)
        else:
            partial = folder / f".{backup_id}.part"
            members = [(one.item(whole=False), one.file) for one in spooled]
            sha256, size = write_archive(partial, members, now.timestamp(), recipients, meter)
            made = replace(made, items=tuple(one.item() for one in spooled), bytes=size, sha256=sha256)
            os.replace(partial, folder / made.archive)
            _sync_folder(folder)
        made = replace(self.signer.sign(made), sealed=now)
        self._keep(made)
        return made

    def _reads_back(self, backup: Backup) -> bool:
        try:
            return read_back(self.path(backup)) == (backup.sha256, backup.bytes)
        except OSError:
            return False

    def _free_id(self, folder: Path, system: str, now: datetime) -> str:
        stem = f"{system}-{now:%Y%m%d-%H%M%S}"
        taken = {path.name.split(".")[0] for path in folder.iterdir()}
        return next(
            name for number in range(1, 10_000) if (name := stem if number == 1 else f"{stem}-{number}") not in taken
        )

    def keep(self, backup: Backup) -> None:
        """Write a manifest anew, with what was found out since; whole or not at all."""
        with self._alone(backup.system, wait=True):
            self._keep(backup)

    def _keep(self, backup: Backup) -> None:
        write_whole(self.folder / backup.system / f"{backup.id}.json", manifest_of(backup))

    # --- looking

    def verify(self, backup: Backup, now: datetime, identities: Sequence[Any] | None) -> tuple[Backup, list[str]]:
        """Read a backup again: the record with its new `sealed` and `opened`, and what is wrong.

        An encrypted one is opened only with `identities`; a plain one always is.
        """
        problems = [problem] if (problem := self.signer.problem(backup)) else []
        opens = identities is not None or not backup.encrypted
        try:
            if read_back(self.path(backup)) != (backup.sha256, backup.bytes):
                problems.append("its bytes are not those that were written")
            elif opens:
                self.unpack(backup, identities)
        except OSError as error:
            problems.append(f"it cannot be read: {error.strerror}")
        except NotWhole as error:
            problems.append(error.what[0].lower() + error.what[1:].rstrip("."))
        after = replace(
            backup, sealed=None if problems else now, opened=now if opens and not problems else backup.opened
        )
        self.keep(after)
        return after, problems

    def unpack(
        self,
        backup: Backup,
        identities: Sequence[Any] | None,
        opened: Callable[[Item], Sink | None] = lambda item: None,
    ) -> None:
        """See `archive.unpack`; raises `NotWhole`."""
        if backup.encrypted and identities is None:
            raise WrongUse(
                f"{backup.id} is encrypted, and no identity is named.",
                next="Name the file of one: --identity FILE, or backups: identity: in estate.yaml",
            )
        unpack(self.path(backup), backup.items, identities if backup.encrypted else None, opened)

    def export(self, backup: Backup, identities: Sequence[Any] | None, into: Path) -> None:
        """Unpack into a folder that is not there yet: all of it under its names, or nothing."""
        if into.exists():
            raise WrongUse(f"{into} is there already; nothing is unpacked over it.", next="Name a folder that is not.")
        into.parent.mkdir(parents=True, exist_ok=True)
        with (
            tempfile.TemporaryDirectory(prefix=".gallant-export-", dir=into.parent) as work,
            contextlib.ExitStack() as s,
        ):

            def opened(item: Item) -> Sink:
                place = Path(work) / "whole" / item.path
                place.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
                return s.enter_context(open(os.open(place, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600), "wb"))

            self.unpack(backup, identities, opened)
            s.close()
            os.rename(Path(work) / "whole", into)

    # --- taking away

    def remove(self, backup: Backup) -> None:
        """The manifest first: from then on it is no backup. The archive goes when no other backup points to it."""
        folder = self.folder / backup.system
        with self._alone(backup.system, wait=True):
            (folder / f"{backup.id}.json").unlink(missing_ok=True)
            _sync_folder(folder)
            if all(other.archive != backup.archive for other in self.all(backup.system)):
                self.path(backup).unlink(missing_ok=True)

    def _sweep(self, folder: Path) -> None:
        """Take away what an interrupted backup left: anything half-written, and archives that never got a manifest."""
        for path in folder.glob(".*"):
            if path.is_file():
                path.unlink()
        # A manifest that cannot be read may be anybody's; while there is one, no archive is called an orphan.
        manifests = list(folder.glob("*.json"))
        known = {b.archive for b in self.all(folder.name)}
        if len(manifests) == len(self.all(folder.name)):
            for path in [*folder.glob("*.tar.zst"), *folder.glob("*.tar.zst.age")]:
                if path.name not in known:
                    path.unlink()


def _could_be_the_same(made: Backup, last: Backup) -> bool:
    """By names and sizes alone."""
    return made.recipients == last.recipients and [(i.path, i.bytes) for i in made.items] == [
        (i.path, i.bytes) for i in last.items
    ]


async def _one(stack: contextlib.ExitStack, folder: Path, node: str, name: str, exporter: Exporter) -> _Spooled:
    """One export streamed to a file without a name, and hashed aside."""
    file = stack.enter_context(tempfile.TemporaryFile(dir=folder, prefix=".export-"))
    size = 0

    def into(chunk: bytes) -> None:
        nonlocal size
        size += len(chunk)
        file.write(chunk)

    await exporter.export(node, name, into)
    file.flush()
    return _Spooled(node, name, file, size, FileDigest(file))


def manifest_of(backup: Backup) -> bytes:
    return msgspec.json.format(msgspec.json.encode(backup), indent=1) + b"\n"


def write_whole(path: Path, raw: bytes) -> None:
    """A file, whole under its name or not there at all, on the disk when this returns."""
    partial = path.with_name(f".{path.name}.part")
    with open(os.open(partial, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600), "wb") as file:
        file.write(raw)
        file.flush()
        os.fsync(file.fileno())
    os.replace(partial, path)
    _sync_folder(path.parent)


def _sync_folder(folder: Path) -> None:
    handle = os.open(folder, os.O_RDONLY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)


class FolderPlace:
    """A second place that is a folder: another disk, a mounted share."""

    def __init__(self, text: str, folder: Path) -> None:
        self.name, self.folder = text, folder

    async def put(self, system: str, source: Path, name: str, sha256: str, size: int) -> None:
        """Copy a file there, whole or not at all, and read it back; raises `GallantError`."""
        await asyncio.to_thread(self._put, system, source, name, sha256, size)

    def _put(self, system: str, source: Path, name: str, sha256: str, size: int) -> None:
        target = self.folder / system / name
        try:
            if target.exists() and read_back(target) == (sha256, size):
                return
            target.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
            for left in target.parent.glob(".*.part"):  # by a copy that was cut off
                left.unlink(missing_ok=True)
            partial = target.with_name(f".{name}.part")
            with (
                source.open("rb") as file,
                open(os.open(partial, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600), "wb") as into,
            ):
                while piece := file.read(1024 * 1024):
                    into.write(piece)
                into.flush()
                os.fsync(into.fileno())
            if read_back(partial) != (sha256, size):
                raise GallantError(f"{self.name}: {name} reads back otherwise than it was written.")
            os.replace(partial, target)
            _sync_folder(target.parent)
        except OSError as error:
            raise GallantError(f"{self.name} cannot be written: {error.strerror}.") from None

    async def check(self, system: str, name: str, sha256: str, size: int) -> str | None:
        """What is wrong with a copy, read again now; None where it is whole."""
        try:
            found = await asyncio.to_thread(read_back, self.folder / system / name)
        except OSError as error:
            return f"it cannot be read: {error.strerror}"
        return None if found == (sha256, size) else "its bytes are not those that were written"

    async def remove(self, system: str, name: str) -> None:
        with contextlib.suppress(OSError):
            (self.folder / system / name).unlink()


class Place(Protocol):
    """A second place for backups."""

    name: str

    async def put(self, system: str, source: Path, name: str, sha256: str, size: int) -> None: ...
    async def check(self, system: str, name: str, sha256: str, size: int) -> str | None: ...
    async def remove(self, system: str, name: str) -> None: ...


async def copy_to(store: BackupStore, backup: Backup, places: Sequence[Place], now: datetime) -> Backup:
    """The backup with its copies made, the manifest of each beside its archive; a place that fails is said, not raised."""
    copies = []
    for place in places:
        manifest = manifest_of(replace(backup, copies=()))
        with tempfile.NamedTemporaryFile() as file:
            file.write(manifest)
            file.flush()
            try:
                await place.put(backup.system, store.path(backup), backup.archive, backup.sha256, backup.bytes)
                digest = hashlib.sha256(manifest).hexdigest()
                await place.put(backup.system, Path(file.name), f"{backup.id}.json", digest, len(manifest))
            except GallantError as error:
                copies.append(Copy(place=place.name, problem=error.what.rstrip(".")))
            else:
                copies.append(Copy(place=place.name, sealed=now))
    after = replace(backup, copies=tuple(copies))
    if copies:
        store.keep(after)
    return after
