"""The backups of an estate: `backups/<system>/<id>.tar.zst[.age]` and its manifest next to it.

The manifest is written last and under its final name only when the archive was read back; so
whatever has a manifest is whole, and what a power cut left has none and is swept away by the next
backup. Exports are spooled to files without a name, of which a power cut leaves nothing.
"""

from __future__ import annotations

import asyncio
import contextlib
import fcntl
import os
import tempfile
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Protocol

import msgspec

from gallant.core.errors import GallantError, WrongUse
from gallant.core.estate.backups import Backup, Copy, Item
from gallant.core.records import replace
from gallant.disk import make_folder, opened, put_whole, replacing, sync_folder, why_not
from gallant.vault.archive import ArchiveWriter, NotWhole, Sink, unpack
from gallant.vault.digests import Aside, archive_digest
from gallant.vault.disk import read_back
from gallant.vault.keys import Signer, recipients_of
from gallant.vault.spool import Spool

if TYPE_CHECKING:
    from gallant.vault.keys import Identity

_MANIFEST = msgspec.json.Decoder(Backup)


class Exporter(Protocol):
    """What a vault needs of a driver."""

    async def export(self, node: str, name: str, into: Callable[[bytes], object]) -> None: ...


@dataclass(frozen=True)
class BackupDraft:
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
    roll: str | None
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

    async def take(self, draft: BackupDraft, exporter: Exporter, now: datetime) -> Backup:
        """Export everything, pack it, read it back, and only then let it be a backup."""
        folder = self.folder / draft.system
        try:
            make_folder(folder)
            with self._alone(draft.system):
                self._sweep(folder)
                with contextlib.ExitStack() as stack, contextlib.closing(_Taking(self, folder, draft, now)) as taking:
                    for node, name in draft.wanted:
                        spool = stack.enter_context(contextlib.closing(Spool(node, name, folder)))
                        await exporter.export(node, name, spool.write)
                        taking.add(spool)
                    return await asyncio.to_thread(taking.end)
        except OSError as error:
            raise GallantError(
                f"{draft.system}: the backup cannot be written to {folder}: {why_not(error, folder)}.",
                "There is no backup; nothing half-written was kept.",
                f"Make room, then: gallant backup take {draft.system}",
            ) from None

    @contextlib.contextmanager
    def _alone(self, system: str, wait: bool = False) -> Iterator[None]:
        """One process at a time among a system's backups; the kernel frees the lock with the process."""
        handle = opened(self.folder / f".{system}.lock", os.O_CREAT | os.O_RDWR)
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

    def reads_back(self, backup: Backup) -> bool:
        try:
            return read_back(self.path(backup)) == (backup.blake3, backup.bytes)
        except OSError:
            return False

    def keep(self, backup: Backup) -> None:
        """Write a manifest anew, with what was found out since; whole or not at all."""
        with self._alone(backup.system, wait=True):
            self.keep_alone(backup)

    def keep_alone(self, backup: Backup) -> None:
        """The same, by the one who is alone among the system's backups already."""
        put_whole(self.folder / backup.system / f"{backup.id}.json", manifest_of(backup))

    # --- looking

    def verify(self, backup: Backup, now: datetime, identities: Sequence[Identity] | None) -> tuple[Backup, list[str]]:
        """Read a backup again: the record with its new `sealed` and `opened`, and what is wrong.

        An encrypted one is opened only with `identities`; a plain one always is.
        """
        problems = [problem] if (problem := self.signer.problem(backup)) else []
        opens = identities is not None or not backup.encrypted
        try:
            if read_back(self.path(backup)) != (backup.blake3, backup.bytes):
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
        identities: Sequence[Identity] | None,
        opened: Callable[[Item], Sink | None] = lambda item: None,
    ) -> None:
        """See `archive.unpack`; raises `NotWhole`."""
        if backup.encrypted and identities is None:
            raise WrongUse(
                f"{backup.id} is encrypted, and no identity is named.",
                next="Name the file of one: --identity FILE, or backups: identity: in estate.yaml",
            )
        unpack(self.path(backup), backup.items, identities if backup.encrypted else None, opened)

    def export(self, backup: Backup, identities: Sequence[Identity] | None, into: Path) -> None:
        """Unpack into a folder that is not there yet: all of it under its names, or nothing."""
        if into.exists():
            raise WrongUse(f"{into} is there already; nothing is unpacked over it.", next="Name a folder that is not.")
        make_folder(into.parent)
        with (
            tempfile.TemporaryDirectory(prefix=".gallant-export-", dir=into.parent) as work,
            contextlib.ExitStack() as s,
        ):

            def opened(item: Item) -> Sink:
                path = Path(work) / "whole" / item.path
                make_folder(path.parent)
                return s.enter_context(open(os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600), "wb"))

            self.unpack(backup, identities, opened)
            s.close()
            os.rename(Path(work) / "whole", into)

    # --- taking away

    def remove(self, backup: Backup) -> None:
        """The manifest first: from then on it is not a backup. The archive goes when no other backup points to it."""
        folder = self.folder / backup.system
        with self._alone(backup.system, wait=True):
            (folder / f"{backup.id}.json").unlink(missing_ok=True)
            sync_folder(folder)
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


class _Taking:
    """One backup while it is taken: its items as they come, and the archive that is written meanwhile.

    As long as every item is as in the last backup, nothing is written: perhaps there is nothing new to keep.
    """

    def __init__(self, store: BackupStore, folder: Path, draft: BackupDraft, now: datetime) -> None:
        self.store, self.folder, self.draft, self.now = store, folder, draft, now
        self.id = _free_id(folder, draft.system, now)
        self.partial = folder / f".{self.id}.part"
        self._recipients = recipients_of(draft.recipients)
        self._last = next((b for b in store.all(draft.system) if b.sealed is not None), None)
        self._members: list[tuple[Item, Spool]] = []
        self._writer: ArchiveWriter | None = None
        self._looking = Aside(self._take_in)

    def add(self, spool: Spool) -> None:
        """The next item, whole; it is looked at while the one after it comes."""
        self._looking.put(spool)

    def _take_in(self, spool: Spool) -> None:
        member = (spool.finish(), spool)
        self._members.append(member)
        if self._writer is not None:
            self._writer.add(*member)
        elif not self._same_so_far():
            self._begin()

    def _same_so_far(self) -> bool:
        items = tuple(item for item, _ in self._members)
        return (
            self._last is not None
            and self._last.recipients == self.draft.recipients
            and self._last.items[: len(items)] == items
        )

    def _begin(self) -> ArchiveWriter:
        self._writer = ArchiveWriter(self.partial, self.now.timestamp(), self._recipients)
        for member in self._members:
            self._writer.add(*member)
        return self._writer

    def end(self) -> Backup:
        """Everything is there: the archive, or the last one once more; signed, sealed and kept."""
        self._looking.end()
        draft, last = self.draft, self._last
        made = Backup(
            id=self.id,
            system=draft.system,
            product=draft.product,
            taken=self.now,
            by=draft.by,
            comment=draft.comment,
            before=draft.before,
            roll=draft.roll,
            tool=draft.tool,
            versions=draft.versions,
            serials=draft.serials,
            items=tuple(item for item, _ in self._members),
            archive=f"{self.id}.tar.zst" + (".age" if draft.recipients else ""),
            bytes=0,
            blake3="",
            recipients=draft.recipients,
        )
        if self._writer is None and last is not None and made.holds_the_same(last) and self.store.reads_back(last):
            made = replace(made, archive=last.archive, bytes=last.bytes, blake3=last.blake3, opened=last.opened)
        else:
            digest, size = (self._writer or self._begin()).end()
            made = replace(made, bytes=size, blake3=digest)
            os.replace(self.partial, self.folder / made.archive)
            sync_folder(self.folder)
        made = replace(self.store.signer.sign(made), sealed=self.now)
        self.store.keep_alone(made)
        return made

    def close(self) -> None:
        """Whatever was not kept is gone."""
        with contextlib.suppress(Exception):  # on its way to the one who waits
            self._looking.end()
        if self._writer is not None:
            self._writer.abandon()


def _free_id(folder: Path, system: str, now: datetime) -> str:
    stem = f"{system}-{now:%Y%m%d-%H%M%S}"
    taken = {path.name.split(".")[0] for path in folder.iterdir()}
    return next(
        name for number in range(1, 10_000) if (name := stem if number == 1 else f"{stem}-{number}") not in taken
    )


def manifest_of(backup: Backup) -> bytes:
    return msgspec.json.format(msgspec.json.encode(backup), indent=1) + b"\n"


class FolderPlace:
    """A second place that is a folder: another disk, a mounted share."""

    def __init__(self, text: str, folder: Path) -> None:
        self.name, self.folder = text, folder

    async def put(self, system: str, source: Path, name: str, digest: str, size: int) -> None:
        """Copy a file there, whole or not at all, and read it back; raises `GallantError`."""
        await asyncio.to_thread(self._put, system, source, name, digest, size)

    def _put(self, system: str, source: Path, name: str, digest: str, size: int) -> None:
        target = self.folder / system / name

        def is_whole(partial: Path) -> None:
            if read_back(partial) != (digest, size):
                raise GallantError(f"{self.name}: {name} does not read back as it was written.")

        try:
            if target.exists() and read_back(target) == (digest, size):
                return
            make_folder(target.parent)
            with source.open("rb") as file, replacing(target, is_whole) as into:
                while piece := file.read(1024 * 1024):
                    into.write(piece)
        except OSError as error:
            raise GallantError(f"{self.name} cannot be written: {why_not(error, target)}.") from None

    async def check(self, system: str, name: str, digest: str, size: int) -> str | None:
        """What is wrong with a copy, read again now; None where it is whole."""
        try:
            found = await asyncio.to_thread(read_back, self.folder / system / name)
        except OSError as error:
            return f"it cannot be read: {error.strerror}"
        return None if found == (digest, size) else "its bytes are not those that were written"

    async def remove(self, system: str, name: str) -> None:
        with contextlib.suppress(OSError):
            (self.folder / system / name).unlink()


class SecondPlace(Protocol):
    """A second place for backups."""

    name: str

    async def put(self, system: str, source: Path, name: str, digest: str, size: int) -> None: ...
    async def check(self, system: str, name: str, digest: str, size: int) -> str | None: ...
    async def remove(self, system: str, name: str) -> None: ...


async def copy_to(store: BackupStore, backup: Backup, places: Sequence[SecondPlace], now: datetime) -> Backup:
    """The backup with its copies made, the manifest of each next to
    its archive; a place that fails is said, not raised."""
    copies = []
    for second in places:
        manifest = manifest_of(replace(backup, copies=()))
        with tempfile.NamedTemporaryFile() as file:
            file.write(manifest)
            file.flush()
            try:
                await second.put(backup.system, store.path(backup), backup.archive, backup.blake3, backup.bytes)
                digest = archive_digest()
                digest.update(manifest)
                await second.put(backup.system, Path(file.name), f"{backup.id}.json", digest.hexdigest(), len(manifest))
            except GallantError as error:
                copies.append(Copy(place=second.name, problem=error.what.rstrip(".")))
            else:
                copies.append(Copy(place=second.name, sealed=now))
    after = replace(backup, copies=tuple(copies))
    if copies:
        store.keep(after)
    return after
