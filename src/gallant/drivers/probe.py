"""Probes of service addresses, each as the service is asked, at a fixed pace, whatever else is going on.

They run on a thread and an event loop of their own, so that neither a slow disk under the journal nor a busy screen
delays one; and each probe is a task of its own, so that a probe that hangs does not delay the next.
"""

from __future__ import annotations

import asyncio
import os
import threading
from collections import deque
from collections.abc import Mapping, Sequence
from pathlib import Path

from gallant.core.estate.services import FAST_S, Service
from gallant.core.outages import Sample, Watched
from gallant.core.ports import Clock
from gallant.drivers.asking import Ways, ways_in

# At least one probe every 100 ms is promised; this leaves room for a machine that is busy.
INTERVAL_S = FAST_S
# for what is asked in a way that takes more than a connection (a page, a name, a command), and a node's own address
HURRIED_S = 0.25
TIMEOUT_S = 1.0
# A tick that comes later than this means that we were not run, not that the network was slow.
HALT_S = 0.2
# How often a probe is made anew because this machine stood still
# under it; a machine that always does has to end somewhere.
MADE_ANEW = 5


async def probe(name: str, service: Service, clock: Clock, ways: Ways, timeout_s: float = TIMEOUT_S) -> Sample:
    """One probe, now. A failure is a sample like any other, with its reason."""
    at, real = clock.now(), clock.real()
    ok, why = True, ""
    try:
        async with asyncio.timeout(timeout_s):
            await ways[service.asked](service)
    except TimeoutError:
        ok, why = False, f"no answer within {timeout_s:g} s"
    except OSError as error:
        ok, why = False, (os.strerror(error.errno) if error.errno else str(error)).lower()
    except ValueError as error:
        ok, why = False, str(error)
    took_s = clock.real() - real
    if ok and service.within_ms is not None and took_s * 1000 > service.within_ms:
        ok, why = False, f"it answered after {took_s * 1000:.0f} ms, and may take {service.within_ms:g}"
    return Sample(service=name, at=at, real=real, ok=ok, answer_s=took_s, why=why)


class SocketProber:
    """Probes each service at its own pace in real time from `start` to `stop`; `interval_s` is the fastest."""

    pause_s = 0.1

    def __init__(
        self,
        services: Mapping[str, Service],
        clock: Clock,
        interval_s: float = INTERVAL_S,
        watches: Sequence[Watched] = (),
        folder: Path = Path("/"),
    ) -> None:
        self.watches = tuple(watches)
        self._addresses = frozenset(w.service for w in watches if w.is_address)  # where people log in: never fast
        self._ways = ways_in(folder)  # where commands are run
        self.services, self.clock, self.interval_s = dict(services), clock, interval_s
        self._slots: deque[list[Sample | None]] = deque()  # in the order of their start; filled as they finish
        self._hurried: frozenset[str] = frozenset()
        self._next: dict[str, float] = {}  # when each service is asked again, on the loop's clock
        self._lock = threading.Lock()
        self._ended = threading.Event()
        self._thread: threading.Thread | None = None
        self.late_s = 0.0  # the most by which a probe started behind its time
        self._halted = 0.0  # when this thread last came back from not being run

    def start(self) -> None:
        if self.services and self._thread is None:
            self._thread = threading.Thread(target=lambda: asyncio.run(self._run()), name="probes", daemon=True)
            self._thread.start()

    def hurry(self, services: frozenset[str]) -> None:
        """From the next beat on; whoever asks is on another thread, and gives a whole set at once."""
        self._hurried = services

    def take(self) -> Sequence[Sample]:
        """Finished samples in the order of their start; one that is still out holds back those after it."""
        found: list[Sample] = []
        with self._lock:
            while self._slots and self._slots[0][0] is not None:
                sample = self._slots.popleft()[0]
                assert sample is not None
                found.append(sample)
        return found

    async def stop(self) -> None:
        self._ended.set()
        if self._thread is not None:
            await asyncio.to_thread(self._thread.join, TIMEOUT_S * 2)
            self._thread = None

    async def _run(self) -> None:
        loop = asyncio.get_running_loop()
        running: set[asyncio.Task[None]] = set()
        due = loop.time()
        while not self._ended.is_set():
            self.late_s = max(self.late_s, loop.time() - due)
            if loop.time() - due > HALT_S:
                self._halted = self.clock.real()
            for name, service in self._due(loop.time()):
                slot: list[Sample | None] = [None]
                with self._lock:
                    self._slots.append(slot)
                task = asyncio.create_task(self._fill(slot, name, service))
                running.add(task)
                task.add_done_callback(running.discard)
            due += self.interval_s
            if due < loop.time():  # after a long halt, go on from now rather than fire all that was missed
                due = loop.time()
            await asyncio.sleep(max(0.0, due - loop.time()))
        if running:
            # With the beat that a failed one waits for.
            await asyncio.wait(running, timeout=TIMEOUT_S + 2 * self.interval_s)

    def _due(self, now: float) -> list[tuple[str, Service]]:
        """The services whose turn it is, by their own pace; half a
        beat of the fastest is no reason to wait for the next."""
        found = []
        hurried = self._hurried
        for name, service in self.services.items():
            pace = self._pace(service, name in hurried, name in self._addresses)
            due = min(self._next.get(name, 0.0), now + pace)  # one that hurries now does not sleep its long sleep out
            if now >= due - self.interval_s / 2:
                self._next[name] = max(now, due) + pace
                found.append((name, service))
            else:
                self._next[name] = due
        return found

    def _pace(self, service: Service, hurries: bool, is_address: bool) -> float:
        if service.pace_s == INTERVAL_S:
            return self.interval_s
        fastest = self.interval_s if service.asked in ("tcp", "read") and not is_address else HURRIED_S
        return min(fastest, service.pace_s) if hurries else service.pace_s

    async def _fill(self, slot: list[Sample | None], name: str, service: Service) -> None:
        for _ in range(1 + MADE_ANEW):
            sample = await probe(name, service, self.clock, self._ways)
            if sample.ok or sample.answer_s < HALT_S:
                break
            await asyncio.sleep(self.interval_s)  # the beat that sees a halt may come after the probe's own end
            if self._halted < sample.real:
                break
            # This machine stood still while the probe was out: that it
            # took long says nothing of the service. Ask again.
        with self._lock:
            slot[0] = sample
