"""How long a node may take to come back: in all, and in each stage of it that
its profile gives a time of its own; and what it shows of going on."""

from __future__ import annotations

from datetime import datetime, timedelta

from gallant.core.records import replace
from gallant.core.steps.seen import Look
from gallant.core.work.knows import Returns

YOUNG = 0.25  # of a deadline: a sign that is older says nothing of now


class Stages:
    """The clock of one wait. A stage has its own time from the moment at which it was first seen; a stage without one,
    and all of them together where none has one, have that of the step."""

    def __init__(self, began: datetime, patience: timedelta, returns: Returns, floor_s: float) -> None:
        self._returns, self._floor_s, self._patience = returns, floor_s, patience
        self._at, self._since = (
            "",
            began,
        )  # of stages without a time of their own: since the wait, or such a stage, began

    def limit(self, look: Look) -> timedelta | None:
        """The time that the profile gives the stage; None where it gives none."""
        seconds = self._returns.of(look.stage)
        return None if seconds is None else timedelta(seconds=max(seconds, self._floor_s))

    def late(self, look: Look, now: datetime) -> timedelta | None:
        """The time that is over, once it is."""
        own = look.stage if self.limit(look) is not None else ""
        if own != self._at:
            self._at, self._since = own, now
        limit = self.limit(look) or self._patience
        return limit if now - self._since > limit else None

    def waited(self, now: datetime) -> timedelta:
        """For how long the stage that it is in was waited for."""
        return now - self._since

    def with_time_left(self, look: Look, now: datetime) -> Look:
        """The look with what is left of its stage's time, for anyone who watches."""
        limit = self.limit(look)
        if limit is None:
            return look
        minutes, seconds = divmod(max(0, round((limit - (now - self._since)).total_seconds())), 60)
        return replace(look, message=f"{look.message}; {minutes} min {seconds} s left for that")


class Signs:
    """What a device shows of work that goes on: a share that grows, a rest that shrinks, another stage of its
    return."""

    def __init__(self) -> None:
        self._last: Look | None = None
        self._at: datetime | None = None

    def see(self, look: Look, now: datetime) -> None:
        if self._last is not None and _moved(self._last, look):
            self._at = now
        self._last = look

    def goes_on(self, now: datetime, limit: timedelta) -> bool:
        """Whether the newest sign is young, beside the time that is over."""
        return self._at is not None and now - self._at <= limit * YOUNG


def _moved(before: Look, now: Look) -> bool:
    if now.stage and now.stage != before.stage:
        return True
    grew = before.percent is not None and now.percent is not None and now.percent > before.percent
    shrank = (
        before.remaining_s is not None and now.remaining_s is not None and now.remaining_s < before.remaining_s - 1.0
    )
    return grew or shrank
