"""What a soak looks at: each point once, and a system that cannot be read now is none."""

from __future__ import annotations

import asyncio
from datetime import UTC, datetime, timedelta
from types import SimpleNamespace

import pytest

from gallant.core.errors import GallantError
from gallant.core.readings import Gauge
from gallant.engine.soak import Soak

from ..builders import reading

NOW = datetime(2026, 11, 27, tzinfo=UTC)


@pytest.mark.parametrize(("lasts_s", "pace_s"), [(60, 10), (1800, 60), (7200, 240), (86400, 300)])
def test_a_soak_is_looked_at_thirty_times_but_not_oftener_than_every_ten_seconds_nor_seldomer_than_every_five_minutes(
    lasts_s, pace_s
):
    assert Soak(SimpleNamespace(), {}, {}, None, None).pace_s(lasts_s) == pace_s


def test_a_system_that_cannot_be_read_for_a_while_is_looked_at_again_and_hides_nothing_of_the_others():
    clock, away = SimpleNamespace(at=NOW), [True]
    clock.now = lambda: clock.at

    async def read(system):
        if system == "spit" and away.pop():
            away.append(True)
            raise GallantError("spit/a cannot be reached.")
        left = 4e9 - 1e6 * (clock.at - NOW).total_seconds()
        return {"a": reading("a", system=system, gauges=(Gauge(name="memory available", value=left, unit="B"),))}

    before = {
        f"{s}/a": reading("a", system=s, gauges=(Gauge(name="memory available", value=4e9, unit="B"),))
        for s in ("tickets", "spit")
    }
    soak = Soak(clock, before, {}, read, lambda system: {})

    async def go():
        for minute in range(30):
            clock.at = NOW + timedelta(minutes=minute)
            await soak.look(("spit", "tickets"))

    asyncio.run(go())
    assert {(one.system, one.state) for one in soak.against()} == {("tickets", "running out")}
