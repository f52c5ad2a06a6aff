"""Readings that came up on the way, kept as those of a survey are: what one command reads, every other knows."""

from __future__ import annotations

from collections.abc import Iterable

from gallant.core.readings import Reading
from gallant.operations.workplace import Workplace


def keep_readings(place: Workplace, readings: Iterable[Reading]) -> None:
    """Keep fresh readings of some nodes. Raises what the store raises."""
    rows, now = [(r.system, r.node, r.taken, r, None) for r in readings], place.clock.now()
    if rows:
        number = place.readings.begin_survey(now)
        place.readings.add(number, rows)
        place.readings.end_survey(number, now)
