"""The world that stand-ins live in: time, events to come, faults, and a count of everything that was asked of it.

Time is a number of seconds since the world began, and moves only by `advance`; a server drives it from a scaled clock,
a simulation from a virtual one. Nothing here waits, opens a socket or rolls dice.
"""

from __future__ import annotations

import heapq
from collections import Counter
from collections.abc import Callable
from datetime import datetime, timedelta

from gallant.core.records import Record


class Fault(Record):
    """Something that goes wrong, at a node (empty: at any) and at
    its n-th time (0: always). `value` is the fault's own."""

    name: str
    node: str = ""
    act: str = ""
    nth: int = 0
    value: float = 0


class Busy(Record):
    """A stretch of time in which a device was at work that somebody waits for."""

    node: str
    what: str
    began: float
    ended: float


class World:
    """A clock, a queue of events, the faults that are switched on, and the counts."""

    def __init__(self, began: datetime, speed: float = 1.0) -> None:
        self.began = began
        self.speed = speed
        self.now = 0.0
        self.faults: list[Fault] = []
        self.counts: Counter[str] = Counter()
        self.busy: list[Busy] = []
        self.on_change: list[Callable[[], None]] = []
        self._queue: list[tuple[float, int, Callable[[], None]]] = []
        self._number = 0

    # --- time

    @property
    def moment(self) -> datetime:
        return self.began + timedelta(seconds=self.now)

    def real(self, seconds: float) -> float:
        """So many seconds of real time, in the world's own: what is not scaled."""
        return seconds * self.speed

    def after(self, delay: float, what: Callable[[], None]) -> None:
        """Let `what` happen `delay` seconds from now."""
        self._number += 1
        heapq.heappush(self._queue, (self.now + max(0.0, delay), self._number, what))

    @property
    def next_event(self) -> float | None:
        return self._queue[0][0] if self._queue else None

    def advance(self, to: float) -> None:
        """Let everything happen that is due by `to`, each at its own time."""
        while self._queue and self._queue[0][0] <= to:
            when, _, what = heapq.heappop(self._queue)
            self.now = max(self.now, when)
            what()
        self.now = max(self.now, to)

    def changed(self) -> None:
        for listener in self.on_change:
            listener()

    # --- what is counted and what goes wrong

    def count(self, node: str, act: str) -> int:
        """Note one act received; gives how many of its kind the node has had."""
        self.counts[f"{node} {act}"] += 1
        return self.counts[f"{node} {act}"]

    def fault(self, name: str, node: str, act: str = "") -> Fault | None:
        """The switched-on fault that applies here and now, if any."""
        for fault in self.faults:
            if (
                fault.name == name
                and fault.node in ("", node)
                and fault.act in ("", act)
                and (fault.nth in (0, self.counts[f"{node} {act}"]))
            ):
                return fault
        return None

    def returns(self, node: str, act: str, after_s: float, back: Callable[[], None]) -> None:
        """Have a node come back so long after it went, unless it stays down:
        then when somebody has walked over to it, if anybody does."""
        stays = self.fault("no_return", node, act)
        if stays is None:
            self.after(after_s, back)
        elif stays.value:
            self.after(stays.value, back)

    def work(self, node: str, what: str, began: float) -> None:
        if self.now > began:
            self.busy.append(Busy(node=node, what=what, began=began, ended=self.now))
