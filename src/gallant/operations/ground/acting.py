"""One order outside a roll: sent once, and seen through to its end. What belongs to a roll is the engine's."""

from __future__ import annotations

from collections.abc import Awaitable, Callable

from gallant.core.errors import Stopped
from gallant.core.ports import Act, Driver, Progress
from gallant.operations.ground.workplace import Workplace

SEND_WITHIN_S = 20.0
POLL_S = 2.0
PATIENCE_S = 3600.0  # of estate time
SHOWN_WITHIN_S = 60.0  # of estate time: how long a node may show what was so before an order


async def carry_out(place: Workplace, driver: Driver, node: str, act: Act, progress: Progress | None = None) -> None:
    """Give an order and wait for its job, where it has one. Raises what the
    driver raises, and `Stopped` where the job fails or does not end."""
    accepted = await driver.act(node, act, send_by=place.clock.real() + SEND_WITHIN_S, progress=progress)
    began = place.clock.now()
    while accepted.handle is not None:
        job = await driver.job(node, accepted.handle)
        if job.state == "done":
            return
        if job.state == "failed":
            raise Stopped(f"{act.kind} on {node} failed: {job.message}.")
        if (place.clock.now() - began).total_seconds() > PATIENCE_S:
            raise Stopped(f"{act.kind} on {node} was not done within {PATIENCE_S / 60:.0f} min.")
        await place.clock.sleep(POLL_S)


async def shown(place: Workplace, look: Callable[[], Awaitable[bool]], within_s: float = SHOWN_WITHIN_S) -> bool:
    """Whether a node comes to show what an order was for. An order that was taken is not done before it is seen."""
    until = place.clock.now().timestamp() + within_s
    while not await look():
        if place.clock.now().timestamp() >= until:
            return False
        await place.clock.sleep(POLL_S)
    return True
