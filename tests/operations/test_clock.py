"""The clock of a run: a wall that is set while it runs, forwards or back, changes nothing that it measures."""

from __future__ import annotations

import asyncio
import time
from datetime import datetime, timedelta

import pytest

from gallant.core.estate.reading import parse_estate
from gallant.operations.ground import clock as module
from gallant.operations.ground.clock import EstateClock

from ..builders import GOOD


@pytest.mark.parametrize("jump", [-86400.0, 3600.0])
@pytest.mark.parametrize("speed", [None, 240])
def test_a_wall_that_is_set_changes_neither_now_nor_what_went_by(monkeypatch, jump, speed):
    text = GOOD.replace("10.0.0", "127.0.0").replace("10.0.1", "127.0.1")
    if speed:
        text += f"simulation: {{speed: {speed}, since: 2026-11-26T00:00:00Z}}\n"
    clock = EstateClock(parse_estate("e", text))
    began, real = clock.now(), clock.real()

    class Set(datetime):
        @classmethod
        def now(cls, tz=None):
            return datetime.now(tz) + timedelta(seconds=jump)

    ours = time.time
    monkeypatch.setattr(time, "time", lambda: ours() + jump)
    monkeypatch.setattr(module, "datetime", Set)
    went_by = clock.real() - real
    assert abs((clock.now() - began).total_seconds() - clock.estate_s(went_by)) < 5 * (speed or 1)
    assert 0 <= went_by < 5


def test_a_halt_is_known_to_whoever_asks_first_after_it_and_not_counted_twice(monkeypatch):
    at = [100.0]
    monkeypatch.setattr(EstateClock, "real", lambda self: at[0])

    async def go() -> list[float]:
        clock = EstateClock(parse_estate("e", GOOD))
        at[0] += 50  # it gives no sign of life yet, so nothing is known
        found = [clock.stood_s()]
        with clock.beating():
            for by in (1.0, 1.9, 85.0, 1.0, 3.0):
                at[0] += by
                found.append(clock.stood_s())
        at[0] += 50
        return [*found, clock.stood_s()]

    assert asyncio.run(go()) == [0.0, 0.0, 0.0, 85.0, 85.0, 88.0, 88.0]
