"""Backups of whole systems: through their drivers into the vault, looked at, compared, put back, and thinned out."""

from __future__ import annotations

import contextlib
import itertools
import tarfile
import tempfile
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import IO, TYPE_CHECKING

from gallant import __version__
from gallant.core.after.differences import MASK, SAME, Difference, Mask, compare, whole
from gallant.core.assess.ledger import BEGUN, ENDED, FAILED
from gallant.core.errors import GallantError, Refused, Stopped, WrongUse, worst_exit
from gallant.core.estate.backups import Backup, BackupFate, Copy, Item, fates
from gallant.core.estate.order import SHAPES
from gallant.core.estate.systems import System, node_name
from gallant.core.ports import Act, Driver, Progress
from gallant.core.readings import Reading
from gallant.core.records import Record, clean, replace
from gallant.core.tars import BROKEN, Modest
from gallant.operations.ground.acting import carry_out, shown
from gallant.operations.ground.deciding import record
from gallant.operations.ground.workplace import Ask, Workplace
from gallant.operations.keep.copies import second_places
from gallant.vault.backups import BackupDraft, BackupStore, copy_to
from gallant.vault.keys import identities_from, new_identity

if TYPE_CHECKING:
    from gallant.operations.ground.survey import Tick
    from gallant.vault.keys import Identity

# Content beyond this is compared by its bytes alone: a person reads lines, not millions of them.
MOST_MEMBERS = 200_000
LARGEST_COMPARED = 32 * 1024 * 1024


class BackupTaken(Record):
    """One system's backup, or why there is none. `same_as` is the earlier one whose archive it shares."""

    system: str
    backup: Backup | None
    same_as: str | None = None
    error: str | None = None
    next: str | None = None
    exit_code: int = 0


def store_of(place: Workplace) -> BackupStore:
    return BackupStore(place.folder, place.estate.backups.signers)


def make_identity(path: Path, passphrase: str | None) -> str:
    """A new identity in a file of its own; gives its recipient, which goes into estate.yaml."""
    return new_identity(path, passphrase)


# --- taking ---------------------------------------------------------------------------------------------------------


async def take(
    place: Workplace, terms: Sequence[str], comment: str, plain: bool = False, tick: Tick | None = None
) -> tuple[list[BackupTaken], int]:
    """A backup of every selected system; failures first, and the exit code."""
    systems, rows = place.systems(terms), []
    async with place.drivers(systems) as drivers:
        for number, system in enumerate(systems):
            try:
                backup = await take_one(place, system, drivers[system.name], place.user, comment, plain=plain)
                rows.append(_taken(place, system, backup))
            except GallantError as error:
                rows.append(
                    BackupTaken(
                        system=system.name,
                        backup=None,
                        error=" ".join(p for p in (error.what, error.why) if p),
                        next=error.next,
                        exit_code=error.exit_code,
                    )
                )
            if tick is not None:
                tick(number + 1, len(systems))
    rows.sort(key=lambda r: (r.backup is not None, r.exit_code == 0))
    return rows, worst_exit([r.exit_code for r in rows])


def _taken(place: Workplace, system: System, backup: Backup) -> BackupTaken:
    same = backup.archive.split(".")[0]
    failed = [c for c in backup.copies if c.problem is not None]
    return BackupTaken(
        system=system.name,
        backup=backup,
        same_as=same if same != backup.id else None,
        error=f"{backup.id} has no copy at {failed[0].place}: {failed[0].problem}." if failed else None,
        next=f"Mend that place, then: gallant backup take {system.name}" if failed else None,
        exit_code=3 if failed else 0,
    )


async def take_one(
    place: Workplace,
    system: System,
    driver: Driver,
    by: str,
    comment: str,
    *,
    before: str | None = None,
    roll: str | None = None,
    plain: bool = False,
) -> Backup:
    """Everything the profile lists; sealed, and copied to every second place, or an error.

    An export that every node has its own of comes from each of them, any other from the node that serves.
    """
    rules = place.estate.backups
    _can_be_taken(place, system, driver, plain)
    readings = await _read_what_is_needed(system, driver)
    serving = SHAPES[system.shape].head(readings, {n: r.role for n, r in readings.items()})
    store = store_of(place)
    draft = BackupDraft(
        system=system.name,
        product=system.product,
        wanted=[(n, e) for e in driver.export_names for n in (readings if driver.exports_each(e) else (serving,))],
        versions={n: r.version for n, r in readings.items()},
        serials={n: r.serial for n, r in readings.items()},
        recipients=() if plain else rules.recipients,
        by=by,
        comment=comment,
        before=before,
        roll=roll,
        tool=f"gallant {__version__}",
    )
    try:
        backup = await store.take(draft, driver, place.clock.now())
    except GallantError as error:
        todo = f"Mend it at {node_name(system, serving)}, then: gallant backup take {system.name}"
        what = f"{system.name}: no backup was taken. {error.what}"
        raise type(error)(what, error.why, error.next if isinstance(error, WrongUse) else todo) from None
    if plain and not rules.plain:
        record(place, "consent", f"plain:{system.name}", target=backup.id, reason="written down in clear, as asked")
    return await copy_to(store, backup, second_places(place), place.clock.now())


async def _read_what_is_needed(system: System, driver: Driver) -> dict[str, Reading]:
    """The nodes, as they are now. One that does not answer is left out where nothing is exported from it: where the
    exports are all shared, and the node that they come from answers. Else its error is raised."""
    readings, silent = dict[str, Reading](), list[GallantError]()
    for node in system.nodes:
        try:
            readings[node] = await driver.read(node)
        except GallantError as error:
            silent.append(error)
    heads = SHAPES[system.shape].heads
    shared = not any(driver.exports_each(name) for name in driver.export_names)
    if silent and not (shared and any(reading.role in heads for reading in readings.values())):
        raise silent[0]
    return readings


def _can_be_taken(place: Workplace, system: System, driver: Driver, plain: bool) -> None:
    """Raises where there is nothing to export, or nobody who could read what is."""
    rules = place.estate.backups
    if not driver.export_names:
        raise GallantError(
            f"{system.name}: the profile {system.profile} lists no exports, so there is nothing to back up.",
            next="Teach the profile its exports (docs/profiles.md), or keep its configuration by hand",
        )
    if not rules.recipients and not rules.plain and not plain:
        raise WrongUse(
            f"{system.name}: nobody is named who could read an encrypted backup, so none is taken.",
            "A configuration holds passwords and keys; it is not written down in clear unless somebody asks for that.",
            "gallant init --identity FILE makes a key; write its recipient under backups: recipients: in estate.yaml. "
            "Or add --plain",
        )


# --- looking --------------------------------------------------------------------------------------------------------


def listed(place: Workplace, terms: Sequence[str]) -> list[Backup]:
    """Newest first."""
    names = {s.name for s in place.systems(terms)}
    return [b for b in store_of(place).all() if b.system in names]


class BackupShown(Record):
    """One backup in full: what is wrong with its signature, if anything, and which others share its archive."""

    backup: Backup
    path: str
    signature: str | None
    shares_with: tuple[str, ...]


def show(place: Workplace, backup_id: str) -> BackupShown:
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


def _opening(place: Workplace, backup: Backup, identity: Path | None) -> list[Identity] | None:
    keys = _identities(place, identity) if backup.encrypted else None
    if backup.encrypted and keys is None:
        raise WrongUse(
            f"{backup.id} is encrypted, and no identity is named that opens it.",
            next="Name its file: --identity FILE, or backups: identity: in estate.yaml",
        )
    return keys


@contextlib.contextmanager
def _contents(place: Workplace, backup: Backup, identity: Path | None) -> Iterator[dict[Item, IO[bytes]]]:
    """Every item's content, in files without a name: whatever happens, nothing of it stays."""
    store = store_of(place)
    with contextlib.ExitStack() as stack:
        files: dict[Item, IO[bytes]] = {item: stack.enter_context(tempfile.TemporaryFile()) for item in backup.items}
        store.unpack(backup, _opening(place, backup, identity), lambda item: files[item])
        for file in files.values():
            file.flush()
            file.seek(0)
        yield files


# --- differences ----------------------------------------------------------------------------------------------------


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
    with _contents(place, old, identity) as files:
        before = _texts({item.path: file for item, file in files.items()})
    if right is not None:
        new = store.one(right)
        if new.system != old.system:
            raise WrongUse(f"{old.id} and {new.id} are of two systems.", next=f"gallant backup list {old.system}")
        with _contents(place, new, identity) as files:
            after = _texts({item.path: file for item, file in files.items()})
        takes = False
    else:
        new = None
        after, takes = await _now(place, old)
    items = compare(before, after, _mask(place, old.system), around, _counts(place, old.system))
    return Compared(left=old, right=new, items=tuple(items), takes_back=takes)


async def _now(place: Workplace, backup: Backup) -> tuple[dict[str, bytes], bool]:
    """The contents of its items as they are now, and whether the system could take the backup back."""
    system = _system(place, backup)
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
            return _texts(found), takes


def _texts(files: Mapping[str, IO[bytes]]) -> dict[str, bytes]:
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


def _counts(place: Workplace, system: str) -> Mask:
    """What of a line is compared: all but what the system's profile knows to be written anew each time."""
    from gallant.drivers.patterns import without
    from gallant.drivers.profile import load_profile

    known = place.estate.systems.get(system)
    patterns = load_profile(known.profile, place.folder).changing if known is not None else ()
    return (lambda line: without(patterns, line)) if patterns else whole


def _mask(place: Workplace, system: str) -> Mask:
    """What the system's profile knows as secrets is not shown, no matter who looks."""
    from gallant.drivers.patterns import groups_in
    from gallant.drivers.profile import load_profile

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


# --- taking out, putting back ---------------------------------------------------------------------------------------


def export(place: Workplace, backup_id: str, into: Path, identity: Path | None) -> Backup:
    """Everything of a backup into a new folder; raises `NotWhole`, with nothing left behind."""
    store = store_of(place)
    backup = store.one(backup_id)
    if problem := store.signer.problem(backup):
        raise Refused(
            f"{backup.id}: {problem}.",
            "Anyone who wrote it could have written anything.",
            "Look at it by hand: docs/recovery.md",
        )
    store.export(backup, _opening(place, backup, identity), into)
    return backup


class Restored(Record):
    """A restore that was carried out: what of it went to which node, what of that
    the node exports otherwise now, and the backup of what was there before."""

    backup: Backup
    node: str
    items: tuple[str, ...]
    unlike: tuple[Difference, ...]
    version: str
    safety: Backup | None

    @property
    def exit_code(self) -> int:
        return 4 if self.unlike else 0


async def restore(
    place: Workplace, backup_id: str, node: str | None, identity: Path | None, sure: Ask, safety: bool = True
) -> Restored:
    """Put a backup back through the driver: guarded, asked for, written down before and after.

    `sure` is asked with what is about to be overwritten. What is there now is backed up first, unless `safety` is off.
    Raises `Refused` before anything is touched; `Stopped` where the device did not take all of it.
    """
    store = store_of(place)
    backup = store.one(backup_id)
    system = _system(place, backup)
    target, items = _for_node(backup, system, node)
    name = node_name(system, target)
    if problem := store.signer.problem(backup):
        raise Refused(f"{backup.id}: {problem}.", "What is not known to be ours is not put onto a machine.")
    if rolls := place.journal.open_rolls(system.name):
        raise Refused(f"{rolls[0].id} of {system.name} is not finished.", next=f"gallant history {rolls[0].id}")
    with _contents(place, backup, identity) as files:
        lying = {item.sha256: f"/proc/self/fd/{file.fileno()}" for item, file in files.items()}
        async with place.drivers([system], package_file=lambda name, sha256: Path(lying[sha256])) as drivers:
            driver = drivers[system.name]
            _can_restore(driver, system, backup)
            _fits(place, backup, system, target, items, {n: await driver.read(n) for n in system.nodes})
            what = ", ".join(item.name for item in items)
            if not sure(f"Overwrite {what} of {name} with {backup.id} of {backup.taken:%Y-%m-%d %H:%MZ}?"):
                raise Refused("Nothing was restored.", next=f"gallant backup diff {backup.id}")
            before = None
            if safety:
                before = await take_one(place, system, driver, place.user, f"before the restore of {backup.id}")
            await _put_back(place, driver, target, backup, items, before)
            sent = _texts({item.name: files[item] for item in items})
            unlike = await _unlike(place, driver, system, target, items, sent)
            after = await driver.read(target)
            wrong = ", ".join(one.item for one in unlike)
            record(
                place, "restore", name, target=backup.id, state=FAILED if wrong else ENDED, reason=_told(what, wrong)
            )
    return Restored(
        backup=backup,
        node=name,
        items=tuple(i.name for i in items),
        unlike=unlike,
        version=after.version,
        safety=before,
    )


def _told(what: str, wrong: str) -> str:
    return f"{what}; afterwards the node exports {wrong} otherwise" if wrong else what


async def _unlike(
    place: Workplace, driver: Driver, system: System, node: str, items: Sequence[Item], sent: Mapping[str, bytes]
) -> tuple[Difference, ...]:
    """What the node exports now that is not what it was sent. A device
    may take a while to show what it took, so it is asked again."""
    mask, counts = _mask(place, system.name), _counts(place, system.name)
    found: list[Difference] = []

    async def same() -> bool:
        with contextlib.ExitStack() as stack:
            now: dict[str, IO[bytes]] = {}
            for item in items:
                now[item.name] = stack.enter_context(tempfile.TemporaryFile())
                await driver.export(node, item.name, now[item.name].write)
                now[item.name].seek(0)
            found[:] = [one for one in compare(sent, _texts(now), mask, 0, counts) if one.what != SAME]
        return not found

    await shown(place, same)
    return tuple(found)


def _can_restore(driver: Driver, system: System, backup: Backup) -> None:
    if "restore" not in driver.capabilities():
        raise Refused(
            f"{system.name}: its profile {system.profile} knows no restore.",
            next=f"gallant backup export {backup.id} FOLDER gives you the files, to put back by hand",
        )


async def _put_back(
    place: Workplace, driver: Driver, target: str, backup: Backup, items: Sequence[Item], before: Backup | None
) -> None:
    """Give a node its items, one after the other; that it began, and what failed, is in the ledger."""
    name = f"{backup.system}/{target}"
    record(place, "restore", name, target=backup.id, state=BEGUN, reason=", ".join(item.name for item in items))
    try:
        for item in items:
            act = Act(kind="restore", package=item.name, sha256=item.sha256, bytes=item.bytes)
            await carry_out(place, driver, target, act)
    except GallantError as error:
        record(place, "restore", name, target=backup.id, state=FAILED, reason=error.what)
        raise Stopped(
            f"{name}: {error.what}",
            "What was put back before that stays; the rest was not sent.",
            f"Look at its console. Before the restore it was: {before.id if before else 'not backed up'}",
        ) from None


def _system(place: Workplace, backup: Backup) -> System:
    system = place.estate.systems.get(backup.system)
    if system is None:
        raise Refused(f"{backup.system} is no longer in the estate.", next=f"gallant backup export {backup.id} FOLDER")
    return system


def _for_node(backup: Backup, system: System, node: str | None) -> tuple[str, list[Item]]:
    """The node that is restored, and its items: its own, or where only one node was exported, those."""
    sources = list(dict.fromkeys(item.node for item in backup.items))
    if node is not None:
        node = node.removeprefix(f"{system.name}/")
        if node not in system.nodes:
            raise WrongUse(f"{system.name} has no node {clean(node, 60)!r}.", next=f"gallant inventory {system.name}")
    if node is None and len(sources) > 1:
        raise WrongUse(
            f"{backup.id} holds what is each node's own ({', '.join(sources)}).", next="Name one: --node NODE"
        )
    source = node if node in sources else sources[0] if len(sources) == 1 else None
    if source is None:
        raise Refused(f"{backup.id} holds nothing of {system.name}/{node}.", next=f"gallant backup show {backup.id}")
    return node or source, [item for item in backup.items if item.node == source]


def _fits(
    place: Workplace,
    backup: Backup,
    system: System,
    target: str,
    items: Sequence[Item],
    readings: Mapping[str, Reading],
) -> None:
    """Raise `Refused` where the node cannot take it, or nobody would carry the load should it go wrong."""
    here, source = readings[target], items[0].node
    product = place.products.get(system.product)

    def release(version: str) -> str:
        found = product.resolve(version) if product is not None else None
        return found.version if found is not None else version

    taken_on = backup.versions.get(source, "unknown")
    if release(taken_on) != release(here.version):
        raise Refused(
            f"{here.name} runs {here.version}; {backup.id} was taken on {taken_on}.",
            "A configuration belongs to the version that wrote it.",
            f"Bring the node to {taken_on} first, or choose another: gallant backup list {system.name}",
        )
    for reading in readings.values():
        if reading.running_jobs:
            raise Refused(
                f"{reading.name} is busy: {reading.running_jobs[0].kind}.",
                next=f"Wait, then: gallant check {system.name}",
            )
        if reading.node != target and system.in_service and not reading.healthy:
            raise Refused(
                f"{reading.name} is not in service and in sync, so nobody would carry the load.",
                next=f"gallant check {system.name}",
            )


# --- thinning out ---------------------------------------------------------------------------------------------------


async def prune(place: Workplace, terms: Sequence[str], dry: bool) -> list[BackupFate]:
    """Apply the keep rules to the selected systems; what goes is gone from its copies too, and stands in the ledger."""
    store, found = store_of(place), []
    for system in place.systems(terms):
        mine = store.all(system.name)
        found += fates(mine, place.estate.backups.keep, _pinned(place, system.name, mine))
    if not dry:
        for fate in found:
            if fate.kept is None:
                await _remove(place, store, fate.backup)
    return sorted(found, key=lambda f: f.kept is not None)


async def _remove(place: Workplace, store: BackupStore, backup: Backup) -> None:
    record(place, "prune", backup.system, target=backup.id, reason=f"of {backup.taken:%Y-%m-%d}, by the keep rules")
    store.remove(backup)
    shared = any(other.archive == backup.archive for other in store.all(backup.system))
    for second in second_places(place):
        if any(copy.place == second.name for copy in backup.copies):
            await second.remove(backup.system, f"{backup.id}.json")
            if not shared:
                await second.remove(backup.system, backup.archive)


def _pinned(place: Workplace, system: str, backups: Sequence[Backup]) -> frozenset[str]:
    """Those that a roll which is not settled may fall back on: taken since it began, or named for it."""
    rolls = place.journal.open_rolls(system)
    return frozenset(b.id for b in backups for roll in rolls if b.taken >= roll.began or b.roll == roll.id)


class PlaceVault:
    """The engine's `Vault`: the same taking and the same store as the command's."""

    def __init__(self, place: Workplace, drivers: Mapping[str, Driver]) -> None:
        self.place, self.drivers = place, drivers
        self.store = store_of(place)

    async def take(
        self, system: System, *, by: str, roll: str, before: str, progress: Progress | None = None
    ) -> Backup:
        if progress is not None:
            progress(10.0, "exporting")
        driver = self.drivers[system.name]
        return await take_one(self.place, system, driver, by, f"before {before}, {roll}", before=before, roll=roll)

    def backups(self, system: str) -> list[Backup]:
        return self.store.all(system)
