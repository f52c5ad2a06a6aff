"""Readings that came up on the way, kept as those of a survey are: what one command reads, every other knows."""

from __future__ import annotations

from collections.abc import Iterable

from gallant.core.readings import Reading
from gallant.operations.ground.workplace import Workplace


def keep_readings(place: Workplace, readings: Iterable[Reading]) -> None:
    """Keep fresh readings of some nodes, but for those of which a
    later one is kept already. Raises what the store raises."""
    found = list(readings)
    if not found:
        return
    last, now = place.readings.newest(sorted({reading.system for reading in found})), place.clock.now()

    def is_news(reading: Reading) -> bool:
        known = last[reading.name].reading if reading.name in last else None
        return known is None or known.taken <= reading.taken

    rows = [(r.system, r.node, r.taken, r, None) for r in found if is_news(r)]
    if rows:
        number = place.readings.begin_survey(now)
        place.readings.add(number, rows)
        place.readings.end_survey(number, now)
