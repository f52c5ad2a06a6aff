"""The watch over a device that brings all of its nodes to a release by
one order: the same promises, judged by what is seen of it.

What breaks one, and a person who asks for a hold, have the device told to pause, or to give up, where its profile knows
how. Where it does not, that is written down, and the lane holds once the device is done.
"""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime, timedelta

from gallant.core.errors import Stopped
from gallant.core.estate.systems import System
from gallant.core.ports import Act, AnswerLost, DeviceRefused, LoginRefused, NotReached, NotSent
from gallant.core.shapes import SHAPES
from gallant.core.steps.kinds import CANCEL, GO_ON, PAUSE
from gallant.core.steps.seen import PAUSED, Look
from gallant.core.work import events as e
from gallant.core.work.plan import Step
from gallant.engine.means import SEND_WITHIN, Hold, Log, Means, awake

MOST_TRIES = 5
# Seconds of estate time after which a device that was told to go on has to be seen going.
GOES_ON_WITHIN = timedelta(seconds=60)


class Overseer:
    """What was seen of, and said to, the devices that work by themselves in this run of a roll; by step."""

    def __init__(self, roll_id: str, means: Means, log: Log, wants_hold: Callable[[str], str | None]) -> None:
        self.id, self.means, self.log, self._wants_hold = roll_id, means, log, wants_hold
        self._suspect: dict[str, str] = {}  # what one look alone has against it
        self._broken: dict[str, str] = {}  # the first promise that it broke
        self._stopped: dict[str, str] = {}  # why it was told to pause or to give up, and took it
        self._reasons: dict[str, str] = {}  # why it is to stand still, whether it took that or not
        self._tries: dict[str, int] = {}
        self._went_on: dict[str, datetime] = {}

    async def see(self, step: Step, system: System, look: Look, handle: str | None) -> bool:
        """Judge one look at a device that is not done. True: another
        look is wanted soon. Raises `Hold` where it stands still."""
        against = _against(system, look)
        sure = against is not None and step.id in self._suspect
        self._suspect = {
            **{k: v for k, v in self._suspect.items() if k != step.id},
            **({step.id: against} if against else {}),
        }
        if sure and against is not None:
            self._broken.setdefault(step.id, against)
        if look.state == PAUSED and not (look.out or look.weak):
            self._standing(step, look)
        reason = self._broken.get(step.id) or self._wants_hold(step.system)
        if reason is not None and step.id not in self._stopped and look.state != PAUSED:
            await self._stop(step, system, look, handle, reason)
        return against is not None and not sure

    def _standing(self, step: Step, look: Look) -> None:
        """It stands still between two nodes: as it was told, or because somebody else wanted it so."""
        since = self._went_on.get(step.id)
        if step.id in self._reasons:
            raise Hold(self._reasons[step.id])
        if since is None or awake(self.means.clock) - since > GOES_ON_WITHIN:
            raise Hold(f"{step.system} stands still between two nodes: {look.message}")

    def end_of(self, step: Step, done: bool) -> Hold | None:
        """What the end of the device's work comes to where it gave up as
        it was told, or is done and broke a promise on the way."""
        reason = (self._broken if done else self._stopped).get(step.id)
        return Hold(reason) if reason is not None else None

    async def _stop(self, step: Step, system: System, look: Look, handle: str | None, reason: str) -> None:
        way = next((word for word in (PAUSE, CANCEL) if word in self.means.drivers[step.system].capabilities()), None)
        tries = self._tries.get(step.id, 0)
        if tries >= MOST_TRIES or (way is None and tries):
            return
        if way is None:
            self._tries[step.id] = 1
            await self.log.write(e.TOLD, step, message=f"{reason}; it cannot be stopped from here, and is watched on")
            return
        self._reasons.setdefault(step.id, reason)
        if await self._tell(step, system, look, handle, way, reason):
            self._stopped[step.id] = reason

    async def go_on(self, step: Step, system: System, look: Look, handle: str | None) -> None:
        """Have a device that stands still go on. Raises `Stopped` where it knows no such order, or does not take it."""
        if GO_ON not in self.means.drivers[step.system].capabilities():
            raise Stopped(
                f"{step.system} stands still between two nodes, and its profile knows no {GO_ON}.",
                next=f"Have {step.system} go on at its console, then: gallant resume {self.id}",
            )
        if not await self._tell(step, system, look, handle, GO_ON, "the roll is taken up again"):
            raise Stopped(
                f"{step.system} stands still between two nodes, and did not go on.", next=f"Look at {step.system}"
            )
        self._went_on[step.id] = awake(self.means.clock)

    async def _tell(self, step: Step, system: System, look: Look, handle: str | None, way: str, reason: str) -> bool:
        """Say one word to a node that answers; whether it was taken. It
        changes nothing on any node, so it may be said again."""
        node = next((n for n in system.nodes if n not in look.out), None)
        if node is None:
            return False
        self._tries[step.id] = self._tries.get(step.id, 0) + 1
        send_by = self.means.clock.real() + self.log.journal.lease_s * SEND_WITHIN
        await self.log.write(e.TOLD, step, message=f"told to {way.replace('_', ' ')}: {reason}")
        act = Act(kind=way, release=step.to, reason=f"{self.id} {step.id}", handle=handle or look.handle or "")
        try:
            await self.means.drivers[step.system].act(node, act, send_by=send_by)
        except (NotReached, LoginRefused, AnswerLost, NotSent):
            return False
        except DeviceRefused as error:
            if error.meaning != "already":
                await self.log.write(e.TOLD, step, message=f"it refused to {way.replace('_', ' ')}: {error.what}")
                return False
        return True


def _against(system: System, look: Look) -> str | None:
    """Which promise what is seen breaks (docs/rolling.md, table 1). Two looks have to say so: a node may come back, and
    the next go, while the answers of one look come in."""
    most = max(1, SHAPES[system.shape].tolerates(len(system.nodes)))
    if len(look.out) > most:
        return f"{system.name} has {', '.join(look.out)} out of service at once, and tolerates {most}"
    if look.out and look.weak and len(look.out) + len(look.weak) > most:
        return f"{system.name} has taken {', '.join(look.out)} out while {', '.join(look.weak)} was not in sync"
    return None
