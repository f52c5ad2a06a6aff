"""Probes keep their pace whatever else goes on, and say what they saw."""

from __future__ import annotations

import asyncio
import itertools
import socket
import time
from pathlib import Path

import pytest

from gallant.core.estate.services import Read, Service
from gallant.core.outages import outages
from gallant.drivers.asking import ways_in
from gallant.drivers.probe import INTERVAL_S, SocketProber, probe
from gallant.standin.ports import bound, reserve

READ = Read(send="block 7\n", expect="block 7 [0-9a-f]{4}")


class RealClock:
    floor_s = 0.0

    def now(self):
        from datetime import UTC, datetime

        return datetime.now(UTC)

    def real(self):
        return time.monotonic()


async def answering(port: int, text: bytes = b"block 7 abcd\n"):
    async def talk(reader, writer):
        await reader.readline()
        writer.write(text)
        await writer.drain()
        writer.close()

    return await asyncio.start_server(talk, sock=bound("127.0.0.1", port))


def one(text: bytes | None, read: Read | None = READ):
    async def go():
        keeper, port = reserve("127.0.0.1")
        server = await answering(port, text) if text is not None else None
        try:
            return await probe(
                "s", Service(address=f"127.0.0.1:{port}", read=read), RealClock(), ways_in(Path("/")), 0.5
            )
        finally:
            keeper.close()
            if server:
                server.close()

    return asyncio.run(go())


def test_a_probe_tells_a_right_answer_from_a_wrong_one_none_and_nobody():
    assert one(b"block 7 abcd\n").ok
    assert one(b"block 8 abcd\n").why == "the answer is not what a right one looks like"
    assert not one(b"").ok
    assert one(None).why == "connection refused"


def test_a_silent_service_fails_within_its_time():
    with socket.socket() as silent:
        silent.bind(("127.0.0.1", 0))
        silent.listen()
        sample = asyncio.run(
            probe(
                "s",
                Service(address=f"127.0.0.1:{silent.getsockname()[1]}", read=READ),
                RealClock(),
                ways_in(Path("/")),
                0.3,
            )
        )
    assert not sample.ok
    assert "no answer within 0.3 s" in sample.why


def test_a_probe_that_is_out_when_probing_ends_is_waited_for():
    with socket.socket() as silent:
        silent.bind(("127.0.0.1", 0))
        silent.listen()

        async def go():
            service = Service(address=f"127.0.0.1:{silent.getsockname()[1]}", read=READ)
            prober = SocketProber({"s": service}, RealClock())
            prober.start()
            while not prober.late_s:  # until the first beat
                await asyncio.sleep(0.001)
            await prober.stop()
            return prober.take()

        samples = asyncio.run(go())
    assert samples
    assert {s.why for s in samples} == {"no answer within 1 s"}


@pytest.mark.alone
def test_an_outage_is_measured_while_the_programs_own_loop_stands_still():
    async def go():
        keeper, port = reserve("127.0.0.1")
        prober = SocketProber({"s": Service(address=f"127.0.0.1:{port}", read=READ)}, RealClock())
        server = await answering(port)
        prober.start()
        await asyncio.sleep(0.5)
        server.close()
        await asyncio.sleep(0.6)
        server = await answering(port)
        await asyncio.sleep(0.5)
        stood = asyncio.get_running_loop().time()
        while asyncio.get_running_loop().time() - stood < 0.3:  # what a slow disk under the journal would do
            time.sleep(0.05)
        await asyncio.sleep(0.2)
        await prober.stop()
        server.close()
        keeper.close()
        return prober.take()

    samples = asyncio.run(go())
    starts = [s.real for s in samples]
    assert starts == sorted(starts)
    gaps = [b - a for a, b in itertools.pairwise(starts)]
    assert sorted(gaps)[len(gaps) // 2] < 0.1 + INTERVAL_S / 2
    assert any(0.4 < (o.measured or 0) < 1.5 for o in outages(samples))


class HaltingClock(RealClock):
    """Keeps whoever asks for the time from going on for so long, at these of its calls."""

    def __init__(self, halt_s: float, *at: int) -> None:
        self.halt_s, self.at, self.calls = halt_s, at, 0

    def now(self):
        self.calls += 1
        if self.calls in self.at:
            time.sleep(self.halt_s)
        return super().now()


@pytest.mark.alone
@pytest.mark.parametrize(
    ("within_ms", "halts"), [(None, (1.3, 4)), (None, (1.3, 4, 9)), (None, (1.3, 4, 9, 14)), (600, (0.7, 4))]
)
def test_a_probe_under_which_this_machine_stood_still_says_nothing_however_often_it_does(within_ms, halts):
    async def slowly(reader, writer):
        await reader.readline()
        await asyncio.sleep(0.4)
        writer.write(b"block 7 abcd\n")
        writer.close()

    async def go():
        keeper, port = reserve("127.0.0.1")
        clock = HaltingClock(*halts)
        service = Service(address=f"127.0.0.1:{port}", read=READ, within_ms=within_ms)
        prober = SocketProber({"s": service}, clock)
        server = await asyncio.start_server(slowly, sock=bound("127.0.0.1", port))
        prober.start()
        while clock.calls < 20:
            await asyncio.sleep(0.05)
        await asyncio.sleep(1)
        await prober.stop()
        server.close()
        keeper.close()
        return prober.take()

    samples = asyncio.run(go())
    assert len(samples) > 10
    assert all(s.ok for s in samples), [s.why for s in samples if not s.ok]
