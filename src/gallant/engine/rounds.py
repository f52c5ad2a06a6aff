"""Rounds of a roll: which lanes may begin, and what has to be seen of those before them."""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import AsyncIterator, Awaitable, Callable, Mapping
from contextlib import asynccontextmanager
from datetime import datetime, timedelta

from gallant.core.errors import GallantError
from gallant.core.estate.systems import Estate, Limits
from gallant.core.ports import Clock
from gallant.core.work.plan import Plan
from gallant.engine.means import End, Hold

LOOK_S = 10.0  # of estate time, between looks at whether somebody wants the roll to hold


class Rounds:
    """The lanes of one round begin when those of every earlier one have ended well enough, have soaked, and are well still."""

    def __init__(
        self,
        plan: Plan,
        clock: Clock,
        ended_at: Callable[[str], datetime | None],
        may_hold: Callable[[str], None],
        well: Callable[[str], Awaitable[None]],
    ) -> None:
        """`ended_at` is when a lane's last step was done; `may_hold` raises where the roll is to hold; `well` looks at a system that
        is finished, and raises what is wrong with it."""
        self.plan, self.clock = plan, clock
        self._ended_at, self._may_hold, self._well = ended_at, may_hold, well
        loop = asyncio.get_running_loop()
        self._ends: dict[str, asyncio.Future[str]] = {lane.system: loop.create_future() for lane in plan.lanes}
        self._over = {each.name: asyncio.Lock() for each in plan.rounds}
        self._passed: set[str] = set()

    def ended(self, system: str, end: End) -> None:
        if not self._ends[system].done():
            self._ends[system].set_result(end.state)

    async def before(self, system: str) -> None:
        """Wait for the rounds before this system's. Raises `Hold` where one of them does not let the next begin."""
        for each in self.plan.rounds:
            if system in each.systems:
                return
            async with self._over[each.name]:  # one lane waits for all, the others for it
                if each.name not in self._passed:
                    await self._through(each.name, system)
                    self._passed.add(each.name)

    async def _through(self, name: str, system: str) -> None:
        each = next(one for one in self.plan.rounds if one.name == name)
        states = {lane: await self._ends[lane] for lane in each.systems}
        short = [lane for lane, state in states.items() if state != "finished"]
        if len(short) > each.may_fail:
            most = f"{each.may_fail} may" if each.may_fail else "none may"
            raise Hold(f"of the round {name} {', '.join(short)} did not finish, and {most}")
        done = [lane for lane, state in states.items() if state == "finished"]
        since = max((at for lane in done if (at := self._ended_at(lane)) is not None), default=self.clock.now())
        while (left := since + timedelta(seconds=each.soak_s) - self.clock.now()) > timedelta():
            self._may_hold(system)
            await self.clock.sleep(min(LOOK_S, left.total_seconds()))
        for lane in done if each.soak_s else ():
            try:
                await self._well(lane)
            except GallantError as error:
                raise Hold(f"after the round {name}: {error.what.rstrip('.')}") from None


class Places:
    """How many lanes work side by side: in all, of one site, and of one kind."""

    def __init__(self, estate: Estate) -> None:
        limits: Limits = estate.limits
        self.estate = estate
        self._most: Mapping[str, int | None] = {
            "all": limits.lanes_at_once,
            "site": limits.lanes_at_once_per_site,
            "kind": limits.lanes_at_once_per_kind,
        }
        self._gates: dict[tuple[str, str], asyncio.Semaphore] = {}

    @asynccontextmanager
    async def of(self, system: str) -> AsyncIterator[None]:
        """While this lasts a lane has its place. The gates are taken in one order, so no two lanes wait for each other."""
        said = self.estate.systems[system]
        async with contextlib.AsyncExitStack() as held:
            for what, which in (("all", ""), ("site", said.site), ("kind", said.kind or "")):
                if (most := self._most[what]) is not None:
                    await held.enter_async_context(self._gates.setdefault((what, which), asyncio.Semaphore(most)))
            yield
