"""Verify: after the work, or at any time: is everything as it should be?"""

from __future__ import annotations

import asyncio
from collections.abc import Sequence
from datetime import datetime

from gallant.core.after.compare import NodeVerdict, verify_system
from gallant.core.after.picture import LOST, Picture, Unlike, losses
from gallant.core.assess.notices import Notice
from gallant.core.errors import GallantError
from gallant.core.estate.systems import System
from gallant.core.records import Record
from gallant.core.work.planning import target_of
from gallant.operations import keeping
from gallant.operations.check import probe_services
from gallant.operations.keeping import Kept
from gallant.operations.notices import left_out
from gallant.operations.snapshots import Settled, settle
from gallant.operations.survey import Surveyed, survey_with
from gallant.operations.workplace import Workplace


class Verified(Record):
    """One verdict a node, those with problems first; what became of snapshots of systems that are well; and what `gaps` lists
    besides system images. `unlike` is what is not as it was in the picture `against`, of `compared` systems; `kept` the name under which this one is kept."""

    verdicts: tuple[NodeVerdict, ...]
    settled: tuple[Settled, ...]
    left: tuple[Notice, ...]
    unlike: tuple[Unlike, ...] = ()
    against: str | None = None
    since: datetime | None = None
    compared: int = 0
    kept: str | None = None

    @property
    def exit_code(self) -> int:
        lost = any(one.means == LOST for one in self.unlike)
        return 0 if all(verdict.ok for verdict in self.verdicts) and not lost else 1


async def verify(
    place: Workplace, terms: Sequence[str], keep: str | None = None, against: str | None = None
) -> Verified:
    """Look whether all is as it should be, and as it was: before the newest roll, or in the picture `against`. `keep`: keep how it is now."""
    systems = place.systems(terms)
    before = (
        keeping.kept(place, against) if against is not None else keeping.newest_for(place, [s.name for s in systems])
    )
    async with place.drivers(systems) as drivers:
        seen = await survey_with(place, [(s, tuple(s.nodes)) for s in systems], drivers)
        probes = await asyncio.gather(*(probe_services(place, s) for s in systems))
    wide = keeping.around(place, systems)
    wanted = before is not None or keep is not None
    picture = await _settled_picture(place, wide, seen.nodes, before) if wanted else None
    names, found = {s.name for s in wide}, list[Unlike]()
    if before is not None and picture is not None:
        found = [one for one in keeping.compared(place, before, picture) if one.system in names]
    if keep is not None and picture is not None:
        keeping.keep(place, keep, picture)
    rows: list[NodeVerdict] = []
    for system, samples in zip(systems, probes, strict=True):
        own = [n for n in seen.nodes if n.system == system.name]
        product = place.products.get(system.product)
        try:
            target = target_of(place.estate, system, product, place.clock.now(), place.bundles) if product else None
        except GallantError:
            target = None
        rows += verify_system(
            system,
            {n.node: n.reading for n in own if n.reading},
            {n.node: n.error for n in own if n.error},
            product,
            target,
            samples,
        )
    rows.sort(key=lambda r: r.ok)
    well = [s for s in systems if all(r.ok for r in rows if r.system == s.name)]
    return Verified(
        verdicts=tuple(rows),
        settled=tuple(await settle(place, well)),
        left=tuple(left_out(place, [s.name for s in systems])),
        unlike=tuple(found),
        against=before.name if before is not None else None,
        since=before.picture.at if before is not None else None,
        compared=len(names & {r.system for r in before.picture.readings.values()}) if before is not None else 0,
        kept=keep,
    )


LOOK_AGAIN_S = 10.0  # estate seconds between two looks at what may still come


async def _settled_picture(
    place: Workplace, systems: Sequence[System], seen: Sequence[Surveyed], before: Kept | None
) -> Picture:
    """A picture; what is missing in it may still be on its way (a link that is held down, a replica that fills), and is looked at again for as long
    as a condition has to hold before it counts."""
    picture, began = await keeping.take(place, systems, seen=seen), place.clock.now()
    while before is not None and losses(before.picture, picture, before.planned):
        if (place.clock.now() - began).total_seconds() >= place.estate.limits.steady_s:
            break
        await place.clock.sleep(LOOK_AGAIN_S)
        picture = await keeping.take(place, systems)
    return picture
