"""Backups of whole systems, through their drivers into the vault."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from gallant import __version__
from gallant.core.backups import Backup
from gallant.core.errors import GallantError, WrongUse, worst_exit
from gallant.core.estate import System, node_name
from gallant.core.records import Record
from gallant.operations.workplace import Workplace
from gallant.vault.backups import BackupStore


class Taken(Record):
    """One system's backup, or why there is none."""

    system: str
    backup: Backup | None
    error: str | None = None
    next: str | None = None
    exit_code: int = 0


async def take(place: Workplace, terms: Sequence[str], comment: str) -> tuple[list[Taken], int]:
    """A backup of every selected system; failures first, and the exit code."""
    systems, rows = place.systems(terms), []
    async with place.drivers(systems) as drivers:
        for system in systems:
            try:
                backup = await take_one(place, system, drivers[system.name], place.user, comment)
                rows.append(Taken(system=system.name, backup=backup))
            except GallantError as error:
                rows.append(
                    Taken(
                        system=system.name,
                        backup=None,
                        error=" ".join(p for p in (error.what, error.why) if p),
                        next=error.next,
                        exit_code=error.exit_code,
                    )
                )
    rows.sort(key=lambda r: r.backup is not None)
    return rows, worst_exit([r.exit_code for r in rows])


async def take_one(place: Workplace, system: System, driver: Any, by: str, comment: str) -> Backup:
    """Everything the profile lists, from the node that is active; sealed, or an error."""
    if not driver.export_names:
        raise GallantError(
            f"{system.name}: the profile {driver.profile.name} lists no exports, so there is nothing to back up."
        )
    readings = {node: await driver.read(node) for node in system.nodes}
    source = next((n for n, r in readings.items() if r.role == "active"), next(iter(readings)))
    try:
        return await BackupStore(place.folder).take(
            system.name,
            source,
            list(driver.export_names),
            driver,
            {n: r.version for n, r in readings.items()},
            by=by,
            comment=comment,
            tool=f"gallant {__version__}",
            now=place.clock.now(),
        )
    except GallantError as error:
        raise type(error)(
            f"{system.name}: no backup was taken. {error.what}",
            error.why,
            f"Mend it at {node_name(system, source)}, then: gallant backup take {system.name}",
        ) from None


def listed(place: Workplace, terms: Sequence[str]) -> list[Backup]:
    """Newest first."""
    names = {s.name for s in place.systems(terms)}
    return [b for b in BackupStore(place.folder).all() if b.system in names]


class Checked(Record):
    """One backup read again: what is wrong with it, if anything."""

    backup: Backup
    problems: tuple[str, ...]


def verify(place: Workplace, ids: Sequence[str], everything: bool) -> tuple[list[Checked], int]:
    """Read backups again and unpack them; `sealed` and `opened` are renewed or taken away. Bad ones first."""
    store = BackupStore(place.folder)
    known = {b.id: b for b in store.all()}
    for backup_id in ids:
        if backup_id not in known:
            raise WrongUse(f"No backup {backup_id!r}.", next="gallant backup list shows them.")
    chosen = list(known.values()) if everything else [known[i] for i in ids]
    if not chosen:
        raise WrongUse("No backup to verify.", next="Name some, or write --all; gallant backup list shows them.")
    rows = []
    for backup in chosen:
        after, problems = store.verify(backup, place.clock.now(), unpack=not backup.encrypted)
        rows.append(Checked(backup=after, problems=tuple(problems)))
    rows.sort(key=lambda r: not r.problems)
    return rows, 1 if any(r.problems for r in rows) else 0


class PlaceVault:
    """The engine's `Vault`: the same taking and the same store as the command's."""

    def __init__(self, place: Workplace, drivers: Any) -> None:
        self.place, self.drivers = place, drivers
        self.store = BackupStore(place.folder)

    async def take(self, system: System, *, by: str, comment: str, progress: Any = None) -> Backup:
        if progress is not None:
            progress(10.0, "exporting")
        return await take_one(self.place, system, self.drivers[system.name], by, comment)

    def backups(self, system: str) -> list[Backup]:
        return self.store.all(system)
