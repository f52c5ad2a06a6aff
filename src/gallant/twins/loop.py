"""An event loop in which waiting costs nothing."""

from __future__ import annotations

import asyncio
import heapq
import selectors
from collections.abc import Callable
from contextvars import Context
from typing import Any


class VirtualLoop(asyncio.SelectorEventLoop):
    """Its clock (s) jumps to the next thing that is due.

    Nothing ever comes from outside, so that no turn asks for it: most of a night is turns of this loop.
    """

    # The queues are those of asyncio's own loop, which its type stubs do not list.
    _ready: Any
    _scheduled: Any

    def __init__(self, at: float = 0.0) -> None:
        self._at = at
        super().__init__(selectors.SelectSelector())

    def time(self) -> float:
        return self._at

    def pass_over(self, seconds: float) -> None:
        """Time in which nothing of this loop is carried out; what was due in it is due at once after it."""
        self._at += seconds

    def get_debug(self) -> bool:
        return False

    def call_soon(  # type: ignore[override]
        self, callback: Callable[..., object], *args: Any, context: Context | None = None
    ) -> asyncio.Handle:
        handle = asyncio.Handle(callback, args, self, context)
        self._ready.append(handle)
        return handle

    def _run_once(self) -> None:
        ready, scheduled = self._ready, self._scheduled
        if not ready:
            self._jump()
        while scheduled and scheduled[0]._when <= self._at:
            due = heapq.heappop(scheduled)
            due._scheduled = False
            if not due._cancelled:
                ready.append(due)
        for _ in range(len(ready)):
            handle = ready.popleft()
            if not handle._cancelled:
                handle._run()

    def _jump(self) -> None:
        while self._scheduled and self._scheduled[0]._cancelled:
            heapq.heappop(self._scheduled)._scheduled = False
        if not self._scheduled:
            raise RuntimeError("Nothing is due any more, and the night is not over.")
        self._at = max(self._at, self._scheduled[0]._when)

    def _timer_handle_cancelled(self, handle: asyncio.TimerHandle) -> None:
        """It is left out when its turn comes."""
