"""Many nights of one plan, on as many processors as there are. Each night is drawn from the seed and its own number, so
that the same seed is the same nights however they are shared out."""

from __future__ import annotations

import gc
import multiprocessing
import os
import signal
from collections.abc import Callable, Sequence
from concurrent.futures import ProcessPoolExecutor, as_completed
from random import Random

from gallant.core.length.rehearsing import NightEnd
from gallant.twins.night import Night
from gallant.twins.world import Cast

CHUNK = 10  # nights that a process goes through before it tells
FEW_STEPS = 10_000  # of all nights together: fewer are done sooner than another process has begun

_cast: Cast | None = None  # of this process, where it was begun for nights alone


def nights(
    cast: Cast, runs: int, seed: int, tick: Callable[[int, int], None], jobs: int | None = None
) -> list[NightEnd]:
    """How so many nights ended, in their order; `tick` is told how many of them are over."""
    chunks = [range(at, min(at + CHUNK, runs)) for at in range(0, runs, CHUNK)]
    jobs = min(jobs or len(os.sched_getaffinity(0)), len(chunks))
    if jobs < 2 or runs * sum(1 for _ in cast.plan.steps()) < FEW_STEPS:
        found = list[NightEnd]()
        for chunk in chunks:
            found += some(cast, seed, chunk)
            tick(len(found), runs)
        return found
    by_chunk: dict[int, list[NightEnd]] = {}
    context = multiprocessing.get_context("spawn")
    with ProcessPoolExecutor(jobs, context, initializer=_begin, initargs=(cast,)) as pool:
        waiting = {pool.submit(_some, seed, chunk): chunk.start for chunk in chunks}
        try:
            for done in as_completed(waiting):
                by_chunk[waiting[done]] = done.result()
                tick(sum(map(len, by_chunk.values())), runs)
        except BaseException:
            pool.shutdown(wait=False, cancel_futures=True)
            raise
    return [end for at in sorted(by_chunk) for end in by_chunk[at]]


def some(cast: Cast, seed: int, numbers: Sequence[int]) -> list[NightEnd]:
    """Some of the nights, one after the other, in this process."""
    found = list[NightEnd]()
    for number in numbers:
        gc.disable()  # a night leaves nothing behind that is of use to the next
        try:
            found.append(Night(cast, number, Random(f"{seed} {number}").random).through())
        finally:
            gc.enable()
    gc.collect()
    return found


def _begin(cast: Cast) -> None:
    global _cast
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # the one who began it is told, and ends it
    _cast = cast


def _some(seed: int, numbers: Sequence[int]) -> list[NightEnd]:
    assert _cast is not None  # it is begun with it
    return some(_cast, seed, numbers)
