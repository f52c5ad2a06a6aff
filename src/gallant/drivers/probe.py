"""Probes of service addresses: a TCP connect and a data read, at a fixed pace, whatever else is going on.

They run on a thread and an event loop of their own, so that neither a slow disk under the journal nor a busy screen
delays one; and each probe is a task of its own, so that a probe that hangs does not delay the next.
"""

from __future__ import annotations

import asyncio
import contextlib
import errno
import ipaddress
import os
import re
import socket
import threading
from collections import deque
from collections.abc import Mapping, Sequence

from gallant.core.assess.outages import Sample, Watched
from gallant.core.estate.systems import Service
from gallant.core.ports import Clock

# At least one probe every 100 ms is promised; this leaves room for a machine that is busy.
INTERVAL_S = 0.08
LONGEST_ANSWER = 64 * 1024
TIMEOUT_S = 1.0
# A tick that comes later than this means that we were not run, not that the network was slow.
HALT_S = 0.2


async def probe(name: str, service: Service, clock: Clock, timeout_s: float = TIMEOUT_S) -> Sample:
    """One probe, now. A failure is a sample like any other, with its reason."""
    at, real = clock.now(), clock.real()
    ok, why = True, ""
    try:
        async with asyncio.timeout(timeout_s):
            await _ask(service)
    except TimeoutError:
        ok, why = False, f"no answer within {timeout_s:g} s"
    except OSError as error:
        ok, why = False, (os.strerror(error.errno) if error.errno else str(error)).lower()
    except ValueError as error:
        ok, why = False, str(error)
    return Sample(service=name, at=at, real=real, ok=ok, answer_s=clock.real() - real, why=why)


async def _ask(service: Service) -> None:
    """Bare sockets: a probe costs a fifth of what a stream does, and is made twelve times a second."""
    loop = asyncio.get_running_loop()
    family, kind, protocol, _, address = await _resolved(service)
    with socket.socket(family, kind, protocol) as sock:
        sock.setblocking(False)
        await loop.sock_connect(sock, address)
        if service.read is not None:
            await loop.sock_sendall(sock, service.read.send.encode())
            answer = b""
            while b"\n" not in answer and len(answer) < LONGEST_ANSWER:
                piece = await loop.sock_recv(sock, 4096)
                if not piece:
                    break
                answer += piece
            if not answer:
                raise ConnectionResetError(errno.ECONNRESET, "closed without an answer")
            if re.match(service.read.expect, answer.decode("utf-8", "replace")) is None:
                raise ValueError("the answer is not what a right one looks like")


async def _resolved(service: Service) -> tuple[int, int, int, str, tuple[str, int]]:
    """Where to connect to; a numeric address asks no resolver."""
    host, port = service.endpoint
    with contextlib.suppress(ValueError):
        family = socket.AF_INET6 if ipaddress.ip_address(host).version == 6 else socket.AF_INET
        return family, socket.SOCK_STREAM, 0, "", (host, port)
    found = await asyncio.get_running_loop().getaddrinfo(host, port, type=socket.SOCK_STREAM)
    family, kind, protocol, name, address = found[0]
    return family, kind, protocol, name, (str(address[0]), int(address[1]))


class SocketProber:
    """Probes all services every `interval_s` of real time from `start` to `stop`."""

    pause_s = 0.1

    def __init__(
        self,
        services: Mapping[str, Service],
        clock: Clock,
        interval_s: float = INTERVAL_S,
        watches: Sequence[Watched] = (),
    ) -> None:
        self.watches = tuple(watches)
        self.services, self.clock, self.interval_s = dict(services), clock, interval_s
        self._slots: deque[list[Sample | None]] = deque()  # in the order of their start; filled as they finish
        self._lock = threading.Lock()
        self._ended = threading.Event()
        self._thread: threading.Thread | None = None
        self.late_s = 0.0  # the most by which a probe started behind its time
        self._halted = 0.0  # when this thread last came back from not being run

    def start(self) -> None:
        if self.services and self._thread is None:
            self._thread = threading.Thread(target=lambda: asyncio.run(self._run()), name="probes", daemon=True)
            self._thread.start()

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
            for name, service in self.services.items():
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
            await asyncio.wait(running, timeout=TIMEOUT_S)

    async def _fill(self, slot: list[Sample | None], name: str, service: Service) -> None:
        sample = await probe(name, service, self.clock)
        if not sample.ok and sample.answer_s >= TIMEOUT_S and self._halted >= sample.real:
            # This machine stood still while the probe was out: that it timed out says nothing of the service. Ask again.
            sample = await probe(name, service, self.clock)
        with self._lock:
            slot[0] = sample
