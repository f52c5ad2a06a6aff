"""Rounds of a roll: which lanes may begin, and what has to be seen of those before them."""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import AsyncIterator, Awaitable, Callable, Mapping, Sequence
from contextlib import asynccontextmanager
from datetime import datetime, timedelta

from gallant.core.after.settling import words_of
from gallant.core.errors import GallantError
from gallant.core.estate.systems import Estate, Limits
from gallant.core.ports import Clock
from gallant.core.work.plan import Plan, Round
from gallant.engine.means import End, Hold
from gallant.engine.soak import Soak

LOOK_S = 10.0  # of estate time, between looks at whether somebody wants the roll to hold


class Rounds:
    """The lanes of one round begin when those of every earlier one
    have ended well enough, have soaked, and are well still."""

    def __init__(
        self,
        plan: Plan,
        clock: Clock,
        ended_at: Callable[[str], datetime | None],
        may_hold: Callable[[str], None],
        well: Callable[[str], Awaitable[None]],
        soak: Callable[[], Soak],
    ) -> None:
        """`ended_at` is when a lane's last step was done; `may_hold` raises where the roll is to hold; `well` looks at
        a system that is finished, and raises what is wrong with it; `soak` is a new look over a soak time."""
        self.plan, self.clock = plan, clock
        self._ended_at, self._may_hold, self._well, self._soak = ended_at, may_hold, well, soak
        loop = asyncio.get_running_loop()
        self._ends: dict[str, asyncio.Future[str]] = {lane.system: loop.create_future() for lane in plan.lanes}
        self._over = {each.name: asyncio.Lock() for each in plan.rounds}
        self._passed: set[str] = set()
        self._unsettled: dict[str, str] = {}  # by round, why its soak lets no other begin; a soak is watched once a run

    def ended(self, system: str, end: End) -> None:
        if not self._ends[system].done():
            self._ends[system].set_result(end.state)

    async def before(self, system: str) -> None:
        """Wait for the rounds before this system's. Raises `Hold` where one of them does not let the next begin."""
        for each in self.plan.rounds:
            if system in each.systems:
                return
            async with self._over[each.name]:  # one lane waits for all, the others for it
                if each.name in self._unsettled:
                    raise Hold(self._unsettled[each.name])
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
        await self._soaked(each, done, since, system)
        for lane in done if each.soak_s else ():
            try:
                await self._well(lane)
            except GallantError as error:
                raise Hold(f"after the round {name}: {error.what.rstrip('.')}") from None

    async def _soaked(self, each: Round, done: Sequence[str], since: datetime, system: str) -> None:
        """Let what is done soak, and watch it. What still settles then
        has as long again. Raises `Hold` for what is not settled."""
        soak, pace_s = self._soak(), 0.0
        next_look, until = self.clock.now(), since + timedelta(seconds=each.soak_s)
        longest = until + timedelta(seconds=each.soak_s)
        while (left := (until - self.clock.now()).total_seconds()) > 0 or self._takes_longer(soak, until, longest):
            self._may_hold(system)
            if left <= 0:
                until = min(longest, self.clock.now() + timedelta(seconds=max(pace_s, LOOK_S)))
            if self.clock.now() >= next_look:
                pace_s = soak.pace_s(each.soak_s)
                await soak.look(done)
                next_look = self.clock.now() + timedelta(seconds=pace_s)
            await self.clock.sleep(max(0.0, min(LOOK_S, (until - self.clock.now()).total_seconds())))
        if found := [*soak.against(), *soak.settling()]:
            self._unsettled[each.name] = f"after the round {each.name}: {'; '.join(words_of(one) for one in found)}"
            raise Hold(self._unsettled[each.name])

    @staticmethod
    def _takes_longer(soak: Soak, until: datetime, longest: datetime) -> bool:
        return until < longest and bool(soak.settling()) and not soak.against()


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
        """While this lasts a lane has its place. The gates are taken in one order, so no two lanes wait for each
        other."""
        said = self.estate.systems[system]
        async with contextlib.AsyncExitStack() as held:
            for what, which in (("all", ""), ("site", said.site), ("kind", said.kind or "")):
                if (most := self._most[what]) is not None:
                    await held.enter_async_context(self._gates.setdefault((what, which), asyncio.Semaphore(most)))
            yield
