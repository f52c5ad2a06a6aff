"""What Gallant does itself in a roll: backups, restore points, and the looks that decide whether it may go on."""

from __future__ import annotations

from collections.abc import Awaitable, Callable
from datetime import datetime, timedelta

from gallant.core.errors import GallantError, Stopped
from gallant.core.estate.systems import System
from gallant.core.ports import AnswerLost, LoginRefused, NotReached
from gallant.core.readings import IN_SERVICE, Reading
from gallant.core.steps.kinds import (
    BACKUP,
    KINDS,
    QUIET,
    RETURN,
    SNAPSHOT,
    START_ON,
    STEADY,
    doing,
)
from gallant.core.steps.seen import DONE, FAILED, GOING, UNREACHED, Look
from gallant.core.work import events as e
from gallant.core.work.knows import IN_SYNC, LINKS, SERVES
from gallant.core.work.plan import Step
from gallant.engine.looking import LONGEST_POLL_S, SHORTEST_POLL_S
from gallant.engine.means import Hold, awake
from gallant.engine.stages import Signs
from gallant.engine.waiting import Waiting

STEADY_SAMPLE_S = 10.0


class OwnWork(Waiting):
    """Does the steps that no device is given an order for."""

    def _own(self, kind: str) -> Callable[[Step, System], Awaitable[None]]:
        """What carries a kind of step out that is Gallant's own."""
        return {
            BACKUP: self._backup,
            SNAPSHOT: self._snapshot,
            STEADY: self._steady,
            RETURN: self._return,
            START_ON: self._return,
            QUIET: self._quiet,
        }[kind]

    def _can_export(self, system: System) -> bool:
        return "export" in self.means.drivers[system.name].capabilities()

    async def _steady(self, step: Step, system: System) -> None:
        """Every node healthy and at its version, in every sample for as long as the estate says."""
        began, stages, signs = awake(self.clock), self._stages(step), Signs()
        needed = timedelta(seconds=self.means.estate.limits.steady_s)
        since: datetime | None = None
        while True:
            now = awake(self.clock)
            look = await self._settled(system)
            if look.state == DONE:
                since = since or now
                if now - since >= needed:
                    words = f"in service and in sync in every sample for {needed.total_seconds():.0f} s"
                    await self.log.outcome(step, e.DONE, words)
                    return
                pause = min(STEADY_SAMPLE_S, max(SHORTEST_POLL_S, (needed - (now - since)).total_seconds()))
            else:
                since = None
                late = stages.late(look, now)
                signs.see(look, now)
                if late is not None and await self._goes_on(step, look, late, stages, signs):
                    late = None
                if late is not None and stages.limit(look) is not None:
                    raise self._late(step, look, late, stages)
                if late is not None:
                    raise Stopped(
                        f"{step.subject}: not steady within {late.total_seconds() / 60:.0f} min: {look.message}.",
                        next=self._advice(step),
                    )
                look = stages.with_time_left(look, now)
                left = look.remaining_s if look.remaining_s is not None else step.estimate_s
                pause = min(LONGEST_POLL_S, max(SHORTEST_POLL_S, left / 4))
            self._show(step, look, now - began)
            await self._sleep(step, pause)

    async def _return(self, step: Step, system: System) -> None:
        """A node that went down with the one below it answers again. It may be out of service still, as it was
        before."""
        began, patience = awake(self.clock), self._patience(step.deadline_s)
        shown_since: datetime | None = None
        while True:
            try:
                reading = await self.read(system, step.node)
            except (NotReached, AnswerLost, LoginRefused) as error:
                said = error.what.rstrip(".")
            else:
                other = KINDS[step.kind].enters and not self.means.same(system.product, reading.version, step.to)
                shown_since = (shown_since or awake(self.clock)) if other else None
                if shown_since is not None and awake(self.clock) - shown_since >= self._lands(step):
                    look = Look(state=FAILED, message=f"came back on {reading.version}, not on {step.to}")
                    await self._ended(step, look)
                if reading.in_sync is not False and not other:
                    await self.log.outcome(step, e.DONE, f"answers again, on {reading.version}")
                    return
                said = f"shows {reading.version}, not {step.to}" if other else reading.why_unwell
            elapsed = awake(self.clock) - began
            if elapsed > patience:
                raise self._overdue(step, patience)
            self._show(step, Look(state=GOING, message=said), elapsed)
            await self._sleep(step, STEADY_SAMPLE_S)

    async def _quiet(self, step: Step, system: System) -> None:
        """Until no more sessions are open on the node than the estate allows, or its
        time for that is over. One that does not tell cannot be waited for."""
        rule, began = system.quiet, awake(self.clock)
        assert rule is not None  # else the step would not be there
        while True:
            open_now = (await self._read_again(system, step.node)).gauge("sessions")
            if open_now is None or open_now <= rule.sessions:
                told = "it does not tell its sessions" if open_now is None else f"{open_now:.0f} sessions open"
                await self.log.outcome(step, e.DONE, told)
                return
            elapsed = awake(self.clock) - began
            words = (
                f"{open_now:.0f} sessions are still open on {step.subject} after {elapsed.total_seconds() / 60:.0f} min"
            )
            if elapsed >= timedelta(minutes=rule.within_minutes):
                if rule.then == "go-on":
                    await self.log.outcome(step, e.DONE, f"{words}; it goes on, as the estate says")
                    return
                await self.log.outcome(step, e.FAILED, words)
                raise Hold(words)
            self._show(step, Look(state=GOING, message=f"{open_now:.0f} sessions open"), elapsed)
            await self._sleep(step, STEADY_SAMPLE_S)

    async def settle(self, before: Step) -> None:
        """Wait until every node is whole, between two parts of one wave; raises where that takes too long."""
        system, began = self._system(before.system), awake(self.clock)
        patience = self._patience(before.deadline_s)
        while (look := await self._settled(system)).state != DONE:
            if awake(self.clock) - began > patience:
                raise Stopped(
                    f"{before.subject}: {doing(before)} did not start: {look.message}.", next=self._advice(before)
                )
            self._tell(before, look, 0.0, f"waiting: {look.message}")
            await self._sleep(before, STEADY_SAMPLE_S)

    async def _settled(self, system: System) -> Look:
        expected = self.known.expected(system)

        async def heard(node: str) -> Reading | str:
            """A node that is away for a moment is not whole yet, and nothing worse."""
            try:
                return await self.read(system, node)
            except (NotReached, AnswerLost) as error:
                return error.what.rstrip(".")

        for node, reading in (await self.means.ask_all(tuple(system.nodes), heard)).items():
            if isinstance(reading, str):
                return Look(state=UNREACHED, message=reading)
            if node in expected and not self.means.same(system.product, reading.version, expected[node]):
                raise Stopped(f"{reading.name} runs {reading.version}; by the journal it should run {expected[node]}.")
            if not (reading.healthy if system.in_service else reading.state == IN_SERVICE):
                words = f"{reading.name}: {reading.why_unwell}"
                stage = IN_SYNC if reading.in_sync is False and reading.state == IN_SERVICE else SERVES
                return Look(state=GOING, message=words, remaining_s=reading.sync_remaining_s, stage=stage)
            if down := [name for name in self.known.links(system.name, node) if name not in reading.links_up]:
                words = f"{reading.name}: {', '.join(down)} not up again"
                return Look(state=GOING, message=words, stage=LINKS)
        return Look(state=DONE, message="every node in service and in sync")

    async def _backup(self, step: Step, system: System) -> None:
        if not self._can_export(system):  # then a consent was given, or nothing began
            words = "none is taken: nothing can be exported, and somebody accepted that by name"
            await self.log.outcome(step, e.DONE, words)
            return
        try:
            backup = await self.means.vault.take(
                system,
                by=self.orders.by,
                roll=self.id,
                before=step.to,
                progress=lambda percent, text: self.listener.progress(step.id, percent, text),
            )
        except GallantError as error:
            await self.log.outcome(step, e.FAILED, error.what)
            raise Stopped(error.what, "Nothing goes on without a backup.", error.next) from None
        words = f"{backup.id}: {len(backup.items)} items, {backup.bytes / 1000:.0f} kB, sealed"
        await self.log.outcome(step, e.DONE, words, backup.id)

    async def _snapshot(self, step: Step, system: System) -> None:
        """The restore point of the hop. What keeps it is asked first whether it is there: one is not taken twice."""
        try:
            name = await self.means.restore_points.take(system, by=self.orders.by, roll=self.id, before=step.to)
        except GallantError as error:
            await self.log.outcome(step, e.FAILED, error.what)
            raise Stopped(
                error.what, "Nothing goes on without the restore point that the plan asks for.", error.next
            ) from None
        await self.log.outcome(step, e.DONE, f"{name}, seen to be there")
