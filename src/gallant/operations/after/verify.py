"""Verify: after the work, or at any time: is everything as it should be?"""

from __future__ import annotations

import asyncio
from collections.abc import Iterator, Mapping, Sequence
from datetime import datetime

from gallant.core.after.compare import NodeVerdict, verify_system, with_all_that_is_known
from gallant.core.after.picture import LOST, Unlike
from gallant.core.after.settling import AT_REST, words_of
from gallant.core.after.still import Still
from gallant.core.decide.ledger import ENDED, FAILED
from gallant.core.decide.notices import Notice
from gallant.core.errors import GallantError, worst_exit
from gallant.core.estate.systems import System
from gallant.core.outages import Sample
from gallant.core.plan.targets import target_of
from gallant.core.records import Record, clean
from gallant.operations.after.settling import Settling, Tick, settling
from gallant.operations.after.still import fresh_catalogs, still_wanted
from gallant.operations.checks import keeping
from gallant.operations.checks.check import probe_services
from gallant.operations.checks.keeping import PictureKept
from gallant.operations.decide.notices import left_out
from gallant.operations.ground.deciding import record
from gallant.operations.ground.survey import Survey, survey_with
from gallant.operations.ground.workplace import Workplace
from gallant.operations.keep import backups
from gallant.operations.keep.backups import BackupTaken
from gallant.operations.keep.snapshots import Settled, settle
from gallant.operations.roll.notifying import message_of, notify


class Verified(Record):
    """One verdict a node, those with problems first; what became of snapshots of systems that are
    well; what `gaps` lists besides system images, and what else is `still` wanted. `unlike` is what
    is not as it was in the picture `against`, of `compared` systems; `kept` the name under which this
    one is kept. `settling` is there where it was asked for, and `backups` of what runs now."""

    verdicts: tuple[NodeVerdict, ...]
    settled: tuple[Settled, ...]
    left: tuple[Notice, ...]
    unlike: tuple[Unlike, ...] = ()
    against: str | None = None
    since: datetime | None = None
    compared: int = 0
    kept: str | None = None
    still: tuple[Still, ...] = ()
    settling: Settling | None = None
    backups: tuple[BackupTaken, ...] = ()

    @property
    def exit_code(self) -> int:
        """1 where anything is not as it should be."""
        lost = any(one.means == LOST for one in self.unlike)  # also of a system that was not asked about
        found = 1 if lost or not all(verdict.ok for verdict in self.verdicts) else 0
        return worst_exit([found, *(row.exit_code for row in self.backups)])


async def verify(
    place: Workplace,
    terms: Sequence[str],
    keep: str | None = None,
    against: str | None = None,
    *,
    settle_s: float | None = None,
    backup: bool = False,
    tell: bool = False,
    tick: Tick = lambda done, of: None,
) -> Verified:
    """Look whether all is as it should be, and as it was: before the newest
    roll, or in the picture `against`. `keep`: keep how it is now.

    `settle_s`: sample for so long whether it is settled. `backup`: take one of what runs now. `tell`: what was found
    goes into the ledger, and to those whom the estate has told of what needs somebody.
    """
    looked = _Look(keep=keep, against=against, settle_s=settle_s, backup=backup)
    if not tell:
        return await _verified(place, terms, looked, tick)
    names = [s.name for s in place.systems(terms)]
    try:
        done = await _verified(place, terms, looked, tick)
    except GallantError as error:  # nobody reads what it says, where a timer looks
        record(place, "verify", against or " ".join(names), state=FAILED, reason=clean(error.what, 400))
        raise
    await _tell(place, names, done, against)
    return done


class _Look(Record):
    """What a look is to do, see `verify`."""

    keep: str | None
    against: str | None
    settle_s: float | None
    backup: bool


async def _verified(place: Workplace, terms: Sequence[str], look: _Look, tick: Tick) -> Verified:
    systems = place.systems(terms)
    names = [s.name for s in systems]
    before = keeping.kept(place, look.against) if look.against is not None else keeping.newest_for(place, names)
    unfresh = await fresh_catalogs(place, systems)
    sampled = await settling(place, systems, look.settle_s, before, tick) if look.settle_s is not None else None
    taken = (await backups.take(place, terms, "after the work"))[0] if look.backup else []
    async with place.drivers(systems) as drivers:
        seen = await survey_with(place, [(s, tuple(s.nodes)) for s in systems], drivers, closely=True)
        probes = await asyncio.gather(*(probe_services(place, s) for s in systems))
        still = still_wanted(place, systems, seen.readings(), drivers)
    wide = keeping.around(place, systems)
    found = await _unlike_before(place, wide, before, look.keep, seen, sampled)
    judged = sampled.judged if sampled is not None else ()
    verdicts = with_all_that_is_known(list(_verdicts(place, systems, seen, probes)), found, still, judged)
    rows = sorted(verdicts, key=lambda r: r.ok)
    well = [s for s in systems if all(r.ok for r in rows if r.system == s.name)]
    return Verified(
        verdicts=tuple(rows),
        settled=tuple(await settle(place, well)),
        left=tuple(left_out(place, names)),
        unlike=tuple(found),
        against=before.name if before is not None else None,
        since=before.picture.at if before is not None else None,
        compared=_systems_in(before, wide) if before is not None else 0,
        kept=look.keep,
        still=(*unfresh, *still),
        settling=sampled,
        backups=tuple(taken),
    )


async def _unlike_before(
    place: Workplace,
    wide: Sequence[System],
    before: PictureKept | None,
    name: str | None,
    seen: Survey,
    sampled: Settling | None,
) -> list[Unlike]:
    """What is not as it was in the picture before; how it is now is kept under `name` where one is given."""
    if before is None and name is None:
        return []
    picture = await keeping.take_settled(place, wide, before, seen=seen.nodes)
    around = {system.name for system in wide}
    found = [one for one in keeping.compared(place, before, picture) if one.system in around] if before else []
    if name is not None:
        keeping.keep(place, name, picture, series=sampled.after if sampled is not None else ())
    return found


def _systems_in(before: PictureKept, wide: Sequence[System]) -> int:
    """How many of some systems a picture has."""
    return len({system.name for system in wide} & {r.system for r in before.picture.readings.values()})


def _verdicts(
    place: Workplace, systems: Sequence[System], seen: Survey, probes: Sequence[Mapping[str, Sample]]
) -> Iterator[NodeVerdict]:
    """Each node against what it should be."""
    for system, samples in zip(systems, probes, strict=True):
        own = [n for n in seen.nodes if n.system == system.name]
        product = place.products.get(system.product)
        try:
            target = target_of(place.estate, system, product, place.routes()) if product else None
        except GallantError:
            target = None
        yield from verify_system(
            system,
            {n.node: n.reading for n in own if n.reading},
            {n.node: n.error for n in own if n.error},
            product,
            target,
            samples,
            place.products,
        )


async def _tell(place: Workplace, systems: Sequence[str], done: Verified, against: str | None) -> None:
    """Into the ledger, and to people where something of it needs somebody."""
    words = in_words(done)
    record(place, "verify", against or " ".join(systems), state=ENDED if done.exit_code == 0 else FAILED, reason=words)
    if done.exit_code:
        roll = against if against is not None and keeping.OF_A_ROLL.fullmatch(f"{against}.{keeping.BEFORE}") else None
        text = f"{', '.join(systems)}, looked at after the work: {words}"
        next = f"gallant verify {' '.join(systems)}"
        await notify(place, message_of(place, roll or "no roll", tuple(systems), "stopped", text, next))


def in_words(done: Verified) -> str:
    """What was found, for a ledger or a message."""
    bad = [f"{r.system}/{r.node}: {'; '.join(r.problems)}" for r in done.verdicts if not r.ok]
    told = {r.system for r in done.verdicts}
    lost = [one.words for one in done.unlike if one.means == LOST and one.system not in told]
    unsettled = [words_of(one) for one in done.settling.judged if one.state not in AT_REST] if done.settling else []
    return clean("; ".join([*bad, *lost, *unsettled]), 400) or "all is as it should be, and as it was"
