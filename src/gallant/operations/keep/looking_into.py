"""Looking into backups: what one has, whether each opens, how two differ."""

from __future__ import annotations

import contextlib
import itertools
import tarfile
import tempfile
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import IO, TYPE_CHECKING

from gallant.core.after.differences import MASK, Difference, Mask, compare, whole
from gallant.core.errors import WrongUse
from gallant.core.estate.backups import Backup, Copy, Item
from gallant.core.records import Record, clean, replace
from gallant.core.tars import BROKEN, Modest
from gallant.operations.ground.workplace import Workplace
from gallant.operations.keep.copies import second_places
from gallant.vault.keys import identities_from

if TYPE_CHECKING:
    from gallant.vault.keys import Identity
from gallant.operations.keep.backups import LARGEST_COMPARED, MOST_MEMBERS, store_of, system_now


class BackupShown(Record):
    """One backup in full: what is wrong with its signature, if anything, and which others share its archive."""

    backup: Backup
    path: str
    signature: str | None
    shares_with: tuple[str, ...]


def show(place: Workplace, backup_id: str) -> BackupShown:
    """One backup with what is in it."""
    store = store_of(place)
    backup = store.one(backup_id)
    return BackupShown(
        backup=backup,
        path=str(store.path(backup)),
        signature=store.signer.problem(backup),
        shares_with=tuple(b.id for b in store.all(backup.system) if b.archive == backup.archive and b.id != backup.id),
    )


class BackupChecked(Record):
    """One backup read again: what is wrong with it, if anything; `opened_now`: it was also decrypted and unpacked."""

    backup: Backup
    problems: tuple[str, ...]
    opened_now: bool


async def verify(
    place: Workplace, ids: Sequence[str], everything: bool, identity: Path | None = None
) -> tuple[list[BackupChecked], int]:
    """Read backups and their copies again; `sealed` and `opened` are renewed or taken away. Bad ones first."""
    store = store_of(place)
    chosen = store.all() if everything else [store.one(i) for i in ids]
    if not chosen and everything:
        raise WrongUse("No backup was taken yet, so there is none to verify.", next="gallant backup take")
    if not chosen:
        raise WrongUse("No backup to verify.", next="Name some, or write --all; gallant backup list shows them.")
    keys = _identities(place, identity) if any(b.encrypted for b in chosen) else None
    known, rows, now = {p.name: p for p in second_places(place)}, [], place.clock.now()
    for backup in chosen:
        after, problems = store.verify(backup, now, keys)
        copies = []
        for copy in after.copies:
            there = known.get(copy.place)
            problem = (
                await there.check(backup.system, backup.archive, backup.blake3, backup.bytes)
                if there is not None
                else "the estate no longer names this place"
            )
            copies.append(Copy(place=copy.place, sealed=None if problem else now, problem=problem))
            if problem:
                problems.append(f"its copy at {copy.place}: {problem}")
        if copies:
            after = replace(after, copies=tuple(copies))
            store.keep(after)
        rows.append(BackupChecked(backup=after, problems=tuple(problems), opened_now=after.opened == now))
    rows.sort(key=lambda r: not r.problems)
    return rows, 1 if any(r.problems for r in rows) else 0


def _identities(place: Workplace, named: Path | None) -> list[Identity] | None:
    """The identities of the file that was named, or that the estate names; None where there is none."""
    said = place.estate.backups.identity
    path = named or (place.folder / said if said is not None else None)
    return None if path is None else identities_from(path, place.asker)


def opening(place: Workplace, backup: Backup, identity: Path | None) -> list[Identity] | None:
    """The keys that open a backup; None where it is not sealed."""
    keys = _identities(place, identity) if backup.encrypted else None
    if backup.encrypted and keys is None:
        raise WrongUse(
            f"{backup.id} is encrypted, and no identity is named that opens it.",
            next="Name its file: --identity FILE, or backups: identity: in estate.yaml",
        )
    return keys


@contextlib.contextmanager
def contents(place: Workplace, backup: Backup, identity: Path | None) -> Iterator[dict[Item, IO[bytes]]]:
    """Every item's content, in files without a name: whatever happens, nothing of it stays."""
    store = store_of(place)
    with contextlib.ExitStack() as stack:
        files: dict[Item, IO[bytes]] = {item: stack.enter_context(tempfile.TemporaryFile()) for item in backup.items}
        store.unpack(backup, opening(place, backup, identity), lambda item: files[item])
        for file in files.values():
            file.flush()
            file.seek(0)
        yield files


class Compared(Record):
    """Two backups, or a backup and the device now (`right` None), item by item; whether it could be put back onto
    that."""

    left: Backup
    right: Backup | None
    items: tuple[Difference, ...]
    takes_back: bool = False


async def diff(place: Workplace, left: str, right: str | None, identity: Path | None, around: int = 0) -> Compared:
    """What differs between two backups, or between one and its system
    as it is now, with so many lines `around` each difference."""
    store = store_of(place)
    old = store.one(left)
    with contents(place, old, identity) as files:
        before = texts({item.path: file for item, file in files.items()})
    if right is not None:
        new = store.one(right)
        if new.system != old.system:
            raise WrongUse(f"{old.id} and {new.id} are of two systems.", next=f"gallant backup list {old.system}")
        with contents(place, new, identity) as files:
            after = texts({item.path: file for item, file in files.items()})
        takes = False
    else:
        new = None
        after, takes = await _now(place, old)
    items = compare(before, after, masked_values(place, old.system), around, line_counts(place, old.system))
    return Compared(left=old, right=new, items=tuple(items), takes_back=takes)


async def _now(place: Workplace, backup: Backup) -> tuple[dict[str, bytes], bool]:
    """The contents of its items as they are now, and whether the system could take the backup back."""
    system = system_now(place, backup)
    async with place.drivers([system]) as drivers:
        driver = drivers[system.name]
        found: dict[str, IO[bytes]] = {}
        with contextlib.ExitStack() as stack:
            for item in backup.items:
                file = stack.enter_context(tempfile.TemporaryFile())
                await driver.export(item.node, item.name, file.write)
                file.seek(0)
                found[item.path] = file
            running = {node: (await driver.read(node)).version for node in {i.node: None for i in backup.items}}
            takes = running.items() <= backup.versions.items() and "restore" in driver.capabilities()
            return texts(found), takes


def texts(files: Mapping[str, IO[bytes]]) -> dict[str, bytes]:
    """Contents by name; what is itself a tar is taken apart, and what is too large stands for itself by its digest."""
    found: dict[str, bytes] = {}
    for name, file in files.items():
        if name.endswith(".tar"):
            with contextlib.suppress(*BROKEN), tarfile.open(fileobj=file, mode="r:", tarinfo=Modest) as tar:
                for member in itertools.islice(tar, MOST_MEMBERS):
                    content = tar.extractfile(member) if member.isreg() and member.sparse is None else None
                    found[f"{name}:{clean(member.name, 200)}"] = (
                        _bounded(content) if content else member.linkname.encode("utf-8", "surrogateescape")
                    )
                continue
            file.seek(0)
        found[name] = _bounded(file)
    return found


def _bounded(file: IO[bytes]) -> bytes:
    import hashlib

    raw = file.read(LARGEST_COMPARED)
    if len(raw) < LARGEST_COMPARED:
        return raw
    digest = hashlib.sha256(raw)
    while piece := file.read(1024 * 1024):
        digest.update(piece)
    return b"\0" + digest.digest()


def line_counts(place: Workplace, system: str) -> Mask:
    """What of a line is compared: all but what the system's profile knows to be written anew each time."""
    from gallant.drivers.patterns import without
    from gallant.drivers.profile_reading import load_profile

    known = place.estate.systems.get(system)
    patterns = load_profile(known.profile, place.folder).changing if known is not None else ()
    return (lambda line: without(patterns, line)) if patterns else whole


def masked_values(place: Workplace, system: str) -> Mask:
    """What the system's profile knows as secrets is not shown, no matter who looks."""
    from gallant.drivers.patterns import groups_in
    from gallant.drivers.profile_reading import load_profile

    known = place.estate.systems.get(system)
    patterns = load_profile(known.profile, place.folder).secrets if known is not None else ()

    def mask(line: str) -> str:
        for pattern in patterns:
            try:
                for begin, end in reversed(groups_in(pattern, line)):
                    line = line[:begin] + MASK + line[end:]
            except TimeoutError:  # whether there is a secret in it is not known
                return MASK
        return line

    return mask
