"""The clock of a run: the wall's, or a simulated estate's that runs `speed` times as fast since a given moment."""

from __future__ import annotations

import time
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime, timedelta

from gallant.core.estate.systems import Estate

# Below this many real seconds a deadline tells more about this machine's load than about a device.
LEAST_REAL_DEADLINE_S = 8.0
BEAT_S = 0.5  # real seconds
STOOD_S = 2.0  # without a sign of its own life: the process, or its machine, stood still


class EstateClock:
    """Estate time, anchored once to the wall and then carried by `real`, so that a wall that is set does no harm."""

    def __init__(self, estate: Estate) -> None:
        simulation = estate.simulation
        self.speed = simulation.speed if simulation else 1.0
        wall = datetime.now(UTC)
        self._anchor = simulation.since + (wall - simulation.since) * self.speed if simulation else wall
        self._real = self.real()
        self._heard: float | None = None  # its own last sign of life, once it gives any
        self._stood_s = 0.0

    @property
    def floor_s(self) -> float:
        """0, or what a process can keep where time is simulated."""
        return LEAST_REAL_DEADLINE_S * self.speed if self.speed != 1.0 else 0.0

    def now(self) -> datetime:
        return self._anchor + timedelta(seconds=(self.real() - self._real) * self.speed)

    def real(self) -> float:
        """Since this machine was started, its sleep included. After a start it
        begins anew: a difference across one is too small and never too large."""
        return time.clock_gettime(time.CLOCK_BOOTTIME) if hasattr(time, "CLOCK_BOOTTIME") else time.monotonic()

    def stood_s(self) -> float:
        """Real seconds in which this process was stopped, its machine
        asleep, or itself too busy to hear. Known once it beats."""
        if self._heard is not None:
            now = self.real()
            self._stood_s += now - self._heard if now - self._heard > STOOD_S else 0.0
            self._heard = now
        return self._stood_s

    @contextmanager
    def beating(self) -> Iterator[None]:
        """Signs of life all through the block, so that a halt is seen by whoever asks first after it."""
        import asyncio  # as in _sleep

        async def beat() -> None:
            while True:
                await asyncio.sleep(BEAT_S)
                self.stood_s()

        self._heard = self.real()
        beats = asyncio.ensure_future(beat())
        try:
            yield
        finally:
            beats.cancel()
            self._heard = None

    def estate_s(self, real_seconds: float) -> float:
        return real_seconds * self.speed

    async def sleep(self, seconds: float) -> None:
        await _sleep(seconds / self.speed)

    async def pause(self, real_seconds: float) -> None:
        await _sleep(real_seconds)


async def _sleep(seconds: float) -> None:
    import asyncio  # a tenth of a second of import, which a command that only shows does not pay

    await asyncio.sleep(seconds)
