"""Backups taken out of the vault, and put back onto a node."""

from __future__ import annotations

import contextlib
import tempfile
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import IO, TYPE_CHECKING

from gallant.core.after.differences import SAME, Difference, compare
from gallant.core.decide.ledger import BEGUN, ENDED, FAILED
from gallant.core.errors import GallantError, Refused, Stopped, WrongUse
from gallant.core.estate.backups import Backup, Item
from gallant.core.estate.systems import System, node_name
from gallant.core.ports import Act, Driver
from gallant.core.readings import Reading
from gallant.core.records import Record, clean
from gallant.operations.ground.acting import carry_out, shown
from gallant.operations.ground.deciding import record
from gallant.operations.ground.workplace import Ask, Workplace

if TYPE_CHECKING:
    pass
from gallant.operations.keep.backups import store_of, system_now, take_one
from gallant.operations.keep.looking_into import contents, line_counts, masked_values, opening, texts


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
    store.export(backup, opening(place, backup, identity), into)
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
        """4 where the node is not as the backup says."""
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
    system = system_now(place, backup)
    target, items = _for_node(backup, system, node)
    name = node_name(system, target)
    if problem := store.signer.problem(backup):
        raise Refused(f"{backup.id}: {problem}.", "What is not known to be ours is not put onto a machine.")
    if rolls := place.journal.open_rolls(system.name):
        raise Refused(f"{rolls[0].id} of {system.name} is not finished.", next=f"gallant history {rolls[0].id}")
    with contents(place, backup, identity) as files:
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
            sent = texts({item.name: files[item] for item in items})
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
    mask, counts = masked_values(place, system.name), line_counts(place, system.name)
    found: list[Difference] = []

    async def same() -> bool:
        with contextlib.ExitStack() as stack:
            now: dict[str, IO[bytes]] = {}
            for item in items:
                now[item.name] = stack.enter_context(tempfile.TemporaryFile())
                await driver.export(node, item.name, now[item.name].write)
                now[item.name].seek(0)
            found[:] = [one for one in compare(sent, texts(now), mask, 0, counts) if one.what != SAME]
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
