"""Verify: after the work, or at any time: is everything as it should be?"""

from __future__ import annotations

import asyncio
from collections.abc import Sequence

from gallant.core.after.compare import NodeVerdict, verify_system
from gallant.core.assess.notices import Notice
from gallant.core.errors import GallantError
from gallant.core.records import Record
from gallant.core.work.planning import target_of
from gallant.operations.check import probe_services
from gallant.operations.notices import left_out
from gallant.operations.snapshots import Settled, settle
from gallant.operations.survey import survey_with
from gallant.operations.workplace import Workplace


class Verified(Record):
    """One verdict a node, those with problems first; what became of snapshots of systems that are well; and what `gaps` lists
    besides system images."""

    verdicts: tuple[NodeVerdict, ...]
    settled: tuple[Settled, ...]
    left: tuple[Notice, ...]

    @property
    def exit_code(self) -> int:
        return 0 if all(verdict.ok for verdict in self.verdicts) else 1


async def verify(place: Workplace, terms: Sequence[str]) -> Verified:
    systems = place.systems(terms)
    async with place.drivers(systems) as drivers:
        seen = await survey_with(place, [(s, tuple(s.nodes)) for s in systems], drivers)
        probes = await asyncio.gather(*(probe_services(place, s) for s in systems))
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
    )
