"""How many nodes are contacted at once: never more than the limits, and fewer while answers fail to come in time.

The width is halved when a node does not answer in time, no more than once a second, and grows by one with each round
of good answers: an overloaded link recovers, and a single dead node costs little.
"""

from __future__ import annotations

import asyncio
import time
from collections import deque
from collections.abc import AsyncIterator
from contextlib import AsyncExitStack, asynccontextmanager

HALVED_EVERY_S = 1.0
NARROWEST = 2


class Width:
    """A gate for so many at once; the one who waits longest goes in next."""

    def __init__(self, most: int) -> None:
        self.most, self.now, self._inside = most, float(most), 0
        self._waiting: deque[asyncio.Future[None]] = deque()
        self._halved = 0.0

    async def __aenter__(self) -> None:
        if self._inside < int(self.now) and not self._waiting:
            self._inside += 1
            return
        turn = asyncio.get_running_loop().create_future()
        self._waiting.append(turn)
        try:
            await turn  # who lets us in has counted us
        except asyncio.CancelledError:
            if turn.done() and not turn.cancelled():
                self._leave()
            raise

    async def __aexit__(self, *_: object) -> None:
        self._leave()

    def _leave(self) -> None:
        self._inside -= 1
        while self._waiting and self._inside < int(self.now):
            turn = self._waiting.popleft()
            if not turn.done():
                self._inside += 1
                turn.set_result(None)

    def answered(self) -> None:
        self.now = min(float(self.most), self.now + 1 / max(1.0, self.now))

    def late(self) -> None:
        if time.monotonic() - self._halved >= HALVED_EVERY_S:
            self.now, self._halved = max(float(min(NARROWEST, self.most)), self.now / 2), time.monotonic()


class SurveyGates:
    """The gates of one survey: the estate's, each site's, each system's."""

    def __init__(self, estate: int, site: int | None, system: int) -> None:
        self._estate, self._per_site, self._per_system = Width(estate), site, system
        self._sites: dict[str, Width] = {}
        self._systems: dict[str, Width] = {}

    @asynccontextmanager
    async def turn(self, site: str, system: str) -> AsyncIterator[None]:
        """A node's turn; the narrowest gate first, so that nobody waits inside a wider one."""
        gates = [self._systems.setdefault(system, Width(self._per_system))]
        if self._per_site is not None:
            gates.append(self._sites.setdefault(site, Width(self._per_site)))
        async with AsyncExitStack() as stack:
            for gate in (*gates, self._estate):
                await stack.enter_async_context(gate)
            yield

    def answered(self) -> None:
        self._estate.answered()

    def late(self) -> None:
        self._estate.late()

    @property
    def width(self) -> int:
        return int(self._estate.now)
