"""Backups of whole systems: through their drivers into the vault, looked at, compared, put back, and thinned out."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from gallant import __version__
from gallant.core.errors import GallantError, Refused, WrongUse, worst_exit
from gallant.core.estate.backups import Backup, BackupFate, fates
from gallant.core.estate.systems import System, node_name
from gallant.core.ports import Driver, Progress
from gallant.core.readings import Reading
from gallant.core.records import Record
from gallant.core.shapes import SHAPES
from gallant.operations.ground.deciding import record
from gallant.operations.ground.workplace import Workplace
from gallant.operations.keep.copies import second_places
from gallant.vault.backups import BackupDraft, BackupStore, copy_to
from gallant.vault.keys import new_identity

if TYPE_CHECKING:
    from gallant.operations.ground.survey import Tick

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
    """Where the backups of an estate lie."""
    return BackupStore(place.folder, place.estate.backups.signers)


def make_identity(path: Path, passphrase: str | None) -> str:
    """A new identity in a file of its own; gives its recipient, which goes into estate.yaml."""
    return new_identity(path, passphrase)


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


def listed(place: Workplace, terms: Sequence[str]) -> list[Backup]:
    """Newest first."""
    names = {s.name for s in place.systems(terms)}
    return [b for b in store_of(place).all() if b.system in names]


def system_now(place: Workplace, backup: Backup) -> System:
    """The system that a backup is of. Raises `Refused` where it is no longer in the estate."""
    system = place.estate.systems.get(backup.system)
    if system is None:
        raise Refused(f"{backup.system} is no longer in the estate.", next=f"gallant backup export {backup.id} FOLDER")
    return system


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
