"""What became of an act whose process ended before its answer came: never guessed, always looked at."""

from __future__ import annotations

from datetime import timedelta

from gallant.core.errors import Stopped
from gallant.core.steps.kinds import (
    KINDS,
    NEVER,
    SAFE,
    doing,
)
from gallant.core.steps.seen import ABSENT, FAILED, GOING, PAUSED, UNREACHED, UNTOLD, Look
from gallant.core.work import events as e
from gallant.core.work.events import Before
from gallant.core.work.plan import Step
from gallant.engine.journal import StepState
from gallant.engine.looking import SHORTEST_POLL_S
from gallant.engine.means import SEND_WITHIN, Unknown, awake
from gallant.engine.own_work import OwnWork

UNANSWERED_S = 600.0


class Reconciling(OwnWork):
    """Finds out what became of acts that an earlier process left open."""

    async def _reconcile(self, step: Step, known: StepState) -> bool:
        """Find out what became of an open step: True when it is done now, False when it provably never began.

        That nothing of it is seen counts only in a look that began after the order could land at the latest: one that
        was still under way then may have passed the node before the order did.
        """
        assert known.intent is not None
        kind, before = KINDS[step.kind], known.intent.entry.before
        if kind.ours:  # these change nothing on a node, so they are simply done again
            return await self._again(step, "cut off by the end of the run; it is done again")
        assert before is not None
        if kind.by_person:
            if await self._ended(step, await self._look(step, before, None), "observed: "):
                return True
            raise self._by_hand(step)
        began, patience = awake(self.clock), self._patience(step.deadline_s if kind.away else UNANSWERED_S)
        while True:
            # The order of these two lines is the promise: whether the order has landed is asked before the look
            # begins. The other way round a look that began too early would count as proof, and an order that is
            # still on its way would be given twice.
            landed = self._has_landed(step, known)
            look = await self._look(step, before, known.accepted.entry.handle if known.accepted else None)
            if (came := await self._came_to(step, known, before, look, landed)) is not None:
                return came
            # A node that is away may still tell once it is back; one that is there and shows nothing tells no more.
            silent = look.state == UNTOLD or (look.state == ABSENT and step.repeat == NEVER)
            if landed and (silent or awake(self.clock) - began > patience):
                raise self._not_known(step, look, patience)
            self._tell(step, look, 0.0, "looking what became of it")
            await self._sleep(step, SHORTEST_POLL_S)

    async def _came_to(self, step: Step, known: StepState, before: Before, look: Look, landed: bool) -> bool | None:
        """What one look decides of an open step: done, or never begun; None where it decides nothing yet."""
        handle = known.accepted.entry.handle if known.accepted else None
        if look.state == FAILED and step.repeat == SAFE and not known.accepted:
            # What is seen may be of an attempt before this one, which may never have been sent.
            return await self._again(step, f"observed: {look.message}; it is done again")
        if look.state == FAILED and look.shown:
            await self._wait(step, before, handle)
            return True
        if await self._ended(step, look, "observed: "):
            return True
        if look.state == PAUSED:
            await self.overseer.go_on(step, self._system(step.system), look, handle)
        if look.state in (GOING, PAUSED) and (look.handle or known.accepted):
            self.listener.progress(step.id, look.percent or 0.0, f"taken up again: {look.message}")
            await self._wait(step, before, handle or look.handle)
            return True
        if look.state == ABSENT and not known.accepted and landed and step.repeat != NEVER:
            return await self._again(step, "observed: nothing of it on the node, and its time to land is over")
        return None

    async def _again(self, step: Step, words: str) -> bool:
        """Write down that an act never began: it may be tried again."""
        await self.log.outcome(step, e.NOT_STARTED, words)
        return False

    def _by_hand(self, step: Step) -> Unknown:
        """A person's turn has come: the roll waits for their word, and nobody else is worked on meanwhile."""
        return Unknown(
            f"{step.subject} is yours now: {step.task}. No other node of {step.system} is worked on meanwhile.",
            next=f"Do it, then: gallant resume {self.id} --done {step.id}",
        )

    def _has_landed(self, step: Step, known: StepState) -> bool:
        """Whether the order, if it was never seen to begin, cannot begin any more.

        From the last moment at which it can have been sent: the request's time-out, and after that the time within
        which the device carries out what it has taken.
        """
        if step.repeat == SAFE:
            return True
        assert known.intent is not None
        driver = self.means.drivers[step.system]
        sent = self._returned.get(step.id)
        if sent is None:  # by a process that came before: within its time to send, and not after it was gone
            latest = known.intent.entry.wall + self.log.journal.lease_s * SEND_WITHIN
            sent = min(latest, self.log.journal.sole_since)
        since = self.clock.real() - sent - driver.request_timeout_s
        return since >= 0 and self.clock.estate_s(since) >= driver.lands_within_s(KINDS[step.kind].order)

    def _not_known(self, step: Step, look: Look, patience: timedelta) -> Stopped:
        if look.state == GOING:  # a node that is away, and may be on its way back
            return self._overdue(step, patience)
        why = "it does not answer" if look.state == UNREACHED else "it took the order and shows nothing of it"
        if look.state == UNTOLD:
            why = "it lists nothing of its work"
        if step.repeat == NEVER and look.state == ABSENT:
            why = "nothing of it is seen, and its profile says that it is never given twice"
        return Unknown(
            f"Whether {step.subject} carried out the order to {doing(step)} is not known: {why}. Nothing is repeated.",
            next=(
                f"Look at {step.subject}, then: gallant resume {self.id} --it-did {step.id}   or   --it-did-not"
                f" {step.id}"
            ),
        )
