"""What the nodes of a step say now: read once, read by all, and what became of an act by that."""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import Callable, Sequence
from datetime import timedelta

from gallant.core.catalog.products import Release
from gallant.core.errors import GallantError
from gallant.core.estate.systems import System
from gallant.core.ports import AnswerLost, LoginRefused, NotReached
from gallant.core.readings import Reading
from gallant.core.records import replace
from gallant.core.steps.kinds import (
    KINDS,
    nodes_looked_at,
    observe,
)
from gallant.core.steps.seen import FAILED, UNREACHED, Look, Seen
from gallant.core.work.events import Before
from gallant.core.work.plan import Plan, Step
from gallant.engine.known import RunKnown
from gallant.engine.means import Log, Means, Orders, awake
from gallant.engine.overseer import Overseer
from gallant.engine.watch import Watch

# Polls back off with the expected remainder, between these two, in seconds of estate time.
SHORTEST_POLL_S, LONGEST_POLL_S = 1.0, 30.0
READ_TRIES, READ_PAUSE_S = 4, 0.5


class Looking:
    """What all parts of an attempt know, and how they look at nodes."""

    def __init__(
        self,
        roll_id: str,
        plan: Plan,
        means: Means,
        orders: Orders,
        log: Log,
        watch: Watch,
        wants_hold: Callable[[str], str | None],
    ) -> None:
        self.id, self.plan, self.means, self.orders, self.log = roll_id, plan, means, orders, log
        self.watch = watch
        self.overseer = Overseer(roll_id, means, log, wants_hold)
        self.clock, self.listener = means.clock, log.listener
        self.beside: dict[str, set[str]] = {}  # by system, the nodes that are worked on at this moment
        self._renewing: dict[str, asyncio.Lock] = {}  # by system, held while its backup is taken anew
        self.known = RunKnown(plan, means.estate, means.drivers, log)
        self._digests: dict[str, tuple[Release, str]] = {}  # by version
        self._over: set[str] = set()  # the steps that are waited for beyond their time
        self._returned: dict[str, float] = {}  # when an order of this process came back without an answer, by step

    def _show(self, step: Step, look: Look, elapsed: timedelta) -> None:
        guessed = min(99.0, 100.0 * elapsed.total_seconds() / step.estimate_s) if step.estimate_s else 0.0
        self._tell(step, look, guessed if look.percent is None else look.percent, look.message)

    def _tell(self, step: Step, look: Look, percent: float, words: str) -> None:
        """How far a step is, for anyone who watches; or that its node does not answer."""
        if look.state == UNREACHED and look.message:
            self.listener.unanswered(step.id, look.message)
        else:
            self.listener.progress(step.id, percent, words)

    def _poll_after(self, step: Step, look: Look, elapsed: timedelta) -> float:
        """A quarter of what is expected to be left; of what it is over, once it is longer than was expected."""
        left = look.remaining_s if look.remaining_s is not None else abs(step.estimate_s - elapsed.total_seconds())
        return min(LONGEST_POLL_S, max(SHORTEST_POLL_S, left / 4))

    async def _look(self, step: Step, before: Before, handle: str | None) -> Look:
        """Observe; a failure only on the word of two readings.

        A reading is several answers, and what they tell may change between them: a job that has just ended together
        with versions from just before. The second reading begins after whatever the first one saw had ended.
        """
        look = await self._look_once(step, before, handle)
        return await self._look_once(step, before, handle) if look.state == FAILED else look

    async def _look_once(self, step: Step, before: Before, handle: str | None) -> Look:
        """A node that does not answer is unreached; another machine at its address ends the roll."""
        system, away, said = self._system(step.system), KINDS[step.kind].away, dict[str, str]()

        async def look_at(node: str) -> Reading | None:
            try:
                return await self.read(system, node)
            except (NotReached, AnswerLost) as error:
                said[node] = error.what
            except LoginRefused:
                if not away:  # a node that is starting may not know its accounts yet
                    raise
            return None

        readings = await self.means.ask_all(nodes_looked_at(step, tuple(system.nodes)), look_at)
        own = readings[step.node]
        if handle is not None and own is not None and all(job.id != handle for job in own.jobs):
            with contextlib.suppress(GallantError):  # a device that lists only its newest jobs may still know this one
                readings[step.node] = replace(
                    own, jobs=(*own.jobs, await self.means.drivers[step.system].job(step.node, handle))
                )
        look = observe(self._seen(step, readings, before, handle))
        return replace(look, message=said.get(step.node, "")) if look.state == UNREACHED else look

    def _seen(self, step: Step, readings: dict[str, Reading | None], before: Before, handle: str | None) -> Seen:
        system = self._system(step.system)
        return Seen(
            step=step,
            order=KINDS[step.kind].order,
            shape=system.shape,
            readings=readings,
            before=before,
            handle=handle,
            same=self.means.same,
            taken_s=self._taken_s(step),
        )

    def _taken_s(self, step: Step) -> float | None:
        """For how long the node has had the order of a step that is open; None where it never said that it took it."""
        known = self.log.state.step(step.id)
        if not known.open or known.accepted is None:
            return None
        return (self.clock.now() - known.accepted.entry.at).total_seconds()

    async def _sleep(self, step: Step, seconds: float) -> None:
        began = self.clock.now()
        await self.clock.sleep(seconds)
        self.listener.waiting(began, self.clock.now(), step.id)

    def _system(self, name: str) -> System:
        return self.means.estate.systems[name]

    async def read(self, system: System, node: str) -> Reading:
        """A fresh reading, without jobs of ours that a person has said are none."""
        reading = await self.means.drivers[system.name].read(node)
        self.means.hears.reading(reading)
        dead = self.log.state.set_aside
        if not dead or all((system.name, node, job.id) not in dead for job in reading.jobs):
            return reading
        return replace(reading, jobs=tuple(j for j in reading.jobs if (system.name, node, j.id) not in dead))

    async def read_all(self, system: System, nodes: Sequence[str] = ()) -> dict[str, Reading]:
        """Fresh readings of every node, or of `nodes` alone, side by side; raises what the first of them raises."""
        names = tuple(nodes or system.nodes)
        return await self.means.ask_all(names, lambda node: self._read_again(system, node))

    async def read_as_expected(self, system: System) -> dict[str, Reading]:
        """The same, once every node tells what the journal left it at: right after a start one may tell for a while
        what it ran before. Where one does not come to that, what it tells; the guards of the first step then say so."""
        began, driver = awake(self.clock), self.means.drivers[system.name]
        lands = timedelta(seconds=max(driver.lands_within_s(kind) for kind in ("install", "restart")))
        while True:
            readings, expected = await self.read_all(system), self.known.expected(system)
            others = [
                n
                for n, r in readings.items()
                if n in expected and not self.means.same(system.product, r.version, expected[n])
            ]
            if not others or awake(self.clock) - began >= lands:
                return readings
            await self.clock.sleep(SHORTEST_POLL_S)

    async def _read_again(self, system: System, node: str) -> Reading:
        """One node, again for a little while where it fails; one that
        lets a request run into its time-out is not asked twice."""
        began, patience = awake(self.clock), self.means.drivers[system.name].request_timeout_s
        for attempt in range(READ_TRIES):
            try:
                return await self.read(system, node)
            except (NotReached, AnswerLost):
                if attempt == READ_TRIES - 1 or awake(self.clock) - began >= timedelta(
                    seconds=self.clock.estate_s(patience)
                ):
                    raise
                await self.clock.pause(READ_PAUSE_S)
        raise AssertionError("it was read, or raised")  # pragma: no cover
