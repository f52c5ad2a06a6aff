"""Waiting until an act has ended: how long, what is told meanwhile, and what is said when it failed."""

from __future__ import annotations

from datetime import datetime, timedelta

from gallant.core.errors import Stopped
from gallant.core.estate.snapshots import name_begins, roll_reason
from gallant.core.records import replace
from gallant.core.steps.kinds import (
    KINDS,
    SNAPSHOT,
    doing,
    told,
)
from gallant.core.steps.seen import DONE, FAILED, GOING, UNREACHED, UNTOLD, Look
from gallant.core.work import events as e
from gallant.core.work.events import Before
from gallant.core.work.plan import Step
from gallant.engine.looking import SHORTEST_POLL_S, Looking
from gallant.engine.means import WayOn, awake
from gallant.engine.stages import Signs, Stages

MOST_OVER = 4  # times a step's deadline that a device which shows that it goes on is waited for


class Waiting(Looking):
    """Waits for acts, by what the nodes show."""

    async def mended(self, step: Step, whose: str) -> Look:
        """How the effect of a step that failed looks now. Where it is there, somebody has seen to it: the step is done,
        by the word of `whose` and by what the node shows."""
        known = self.log.state.step(step.id)
        before = known.intent.entry.before if known.intent is not None else None
        if before is None or not KINDS[step.kind].driven:
            return Look(state=UNTOLD, message="the node does not show whether it did")
        look = await self._look(step, before, None)
        if look.state != DONE:
            return look
        await self.log.intent(step, before)
        await self.log.outcome(step, e.DONE, f"{whose}: it had failed, and its effect is there now: {look.message}")
        return look

    def _kept_by(self, step: Step) -> tuple[str, str]:
        """The roll that took the restore point of a step's hop, and what it was taken before."""
        hop = next((hop for lane in self.plan.lanes for hop in lane.hops if hop.id == step.hop), None)
        if hop is not None and hop.rewinds is not None and self.plan.undoes is not None:
            return self.plan.undoes, hop.rewinds
        own = (s for s in self.known.steps() if s.hop == step.hop and s.kind == SNAPSHOT)
        return self.id, next((s.to for s in own), step.to)

    def _give_up(self) -> str:
        return f"gallant hold {self.id} --for-good --reason WHY ends the roll where it stands"

    async def _wait(self, step: Step, before: Before, handle: str | None, already: Look | None = None) -> None:
        """Until the act is seen to be done. Past its deadline the step stays open: the next resume observes first.

        A failure that looks as it did `already` before the act was sent is what an earlier
        one left behind, for as long as a device may tell what was so a while ago. One that
        nothing says but what the node shows counts once it was shown for that long.
        """
        began, stages = awake(self.clock), self._stages(step)
        shown_since: datetime | None
        lands, shown_since, signs = self._lands(step), None, Signs()
        while True:
            look = await self._look(step, before, handle)
            if look.state == FAILED and look == already and awake(self.clock) - began < lands:
                look = replace(look, state=GOING)
            shown_since = (shown_since or awake(self.clock)) if look.state == FAILED and look.shown else None
            if shown_since is not None and awake(self.clock) - shown_since < lands:
                look = replace(look, state=GOING)
            handle = handle or look.handle
            if await self._ended(step, look):
                return
            soon = KINDS[step.kind].whole and await self.overseer.see(step, self._system(step.system), look, handle)
            elapsed = awake(self.clock) - began
            late = stages.late(look, awake(self.clock))
            signs.see(look, awake(self.clock))
            if late is not None and not await self._goes_on(step, look, late, stages, signs):
                raise self._late(step, look, late, stages)
            self._show(step, look, elapsed)
            await self._sleep(step, SHORTEST_POLL_S if soon else self._poll_after(step, look, elapsed))

    def _lands(self, step: Step) -> timedelta:
        """For how long a node may show what was so before an order."""
        return timedelta(seconds=self.means.drivers[step.system].lands_within_s(KINDS[step.kind].order))

    async def _ended(self, step: Step, look: Look, prefix: str = "") -> bool:
        """Write down an end that was seen: True when the step is done; raises where it failed."""
        if look.state == DONE:
            await self.log.outcome(step, e.DONE, f"{prefix}{look.message}")
            if (held := self.overseer.end_of(step, done=True)) is not None:
                raise held
            return True
        if look.state == FAILED:
            await self.log.outcome(step, e.FAILED, look.message)
            raise self.overseer.end_of(step, done=False) or self._failed(step, look)
        return False

    def _stages(self, step: Step) -> Stages:
        """How long a step may take in all, and in each stage of a node's return."""
        returns = self.means.drivers[step.system].knows().returns
        return Stages(awake(self.clock), self._patience(step.deadline_s), returns, self.clock.floor_s)

    async def _goes_on(self, step: Step, look: Look, late: timedelta, stages: Stages, signs: Signs) -> bool:
        """Whether a step whose time is over is waited for all the same, since
        its device shows that it goes on. Once it is, people are told."""
        now = awake(self.clock)
        if look.state != GOING or stages.waited(now) > MOST_OVER * late or not signs.goes_on(now, late):
            return False
        if step.id not in self._over:
            self._over.add(step.id)
            words = (
                f"is over its {late.total_seconds() / 60:.0f} min, and its device shows that it goes on:"
                f" {look.message.rstrip('.')}"
            )
            await self.log.write(e.LATE, step, message=words)
            self.means.hears.late(step, words)
        return True

    def _late(self, step: Step, look: Look, late: timedelta, stages: Stages) -> Stopped:
        if stages.limit(look) is None:
            return self._overdue(step, late, look)
        minutes = late.total_seconds() / 60
        return Stopped(
            f"{step.subject}: {look.message.rstrip('.')}, for longer than the {minutes:.0f} min that its profile gives"
            " that.",
            next=self._advice(step),
        )

    def _patience(self, seconds: float) -> timedelta:
        return timedelta(seconds=max(seconds, self.clock.floor_s))

    def _overdue(self, step: Step, patience: timedelta, look: Look | None = None) -> Stopped:
        minutes = patience.total_seconds() / 60
        why = look.message if look is not None and look.state == UNREACHED and look.message else None
        return Stopped(told(KINDS[step.kind].overdue, step, minutes), why, self._advice(step))

    def _advice(self, step: Step) -> str:
        if step.reverts:
            point = name_begins(roll_reason(*self._kept_by(step)))
            return f"Look at the console of {step.subject}; or go back: gallant snapshot revert {step.system} {point}"
        return told(KINDS[step.kind].advice, step)

    def _failed(self, step: Step, look: Look) -> Stopped:
        """Where a node did not enter its release, what had brought the release may have to be done again."""
        what = f"{step.subject}: {doing(step)} to {step.to} failed: {look.message}."
        if not KINDS[step.kind].enters:
            return Stopped(what, next=self._advice(step))
        brought = [
            s.id
            for s in self.known.steps()
            if (s.hop, s.node) == (step.hop, step.node) and KINDS[s.kind].alters and self.log.state.step(s.id).done
        ]
        if not brought:
            return Stopped(what, next=f"{self._advice(step)}; {self._give_up()}")
        again = f"gallant resume {self.id} --again {brought[-1]} installs it once more"
        mended = f"gallant resume {self.id} goes on once {step.subject} runs {step.to}"
        return WayOn(what, next=f"{self._advice(step)}; {mended}; {again}; {self._give_up()}")
