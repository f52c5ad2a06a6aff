"""One look at what is due at a time, and a sign of life of the one that has its
turn: of one that hangs, every other says so instead of waiting in silence."""

from __future__ import annotations

import asyncio
import fcntl
import os
import time
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from pathlib import Path

import msgspec

from gallant.core.records import Record, replace
from gallant.disk import opened, put_whole
from gallant.operations.ground.workplace import Workplace
from gallant.store.database import state_folder
from gallant.store.leases import is_stopped

LOCK = "due.lock"  # in state/
BEAT_S = 10.0  # real seconds from one sign of life to the next
SILENT_S = 300.0  # longer than anything that a look does without one
ROOM = 200  # bytes
TOLD = "due.hangs"  # in state/: of which one that hangs people were told


class TurnHolder(Record):
    """The look that has its turn: its process, and its last sign of life (by this machine's clock that stands still
    while it sleeps). `silent_s` is how long that is ago; `stopped`: it was told to stand still."""

    pid: int
    seen: float
    silent_s: float = 0
    stopped: bool = False

    @property
    def hangs(self) -> bool:
        return self.silent_s > SILENT_S

    @property
    def trouble(self) -> str:
        since = (
            f"gallant due, process {self.pid}, has given no sign of life for {self.silent_s / 60:.0f} min; nothing else"
            " begins what is due"
        )
        return f"{since}: it is stopped" if self.stopped else since

    @property
    def way_out(self) -> str:
        lets = f"kill -CONT {self.pid} lets it go on; " if self.stopped else ""
        return f"{lets}kill -KILL {self.pid} ends it"


@asynccontextmanager
async def alone(place: Workplace) -> AsyncIterator[TurnHolder | None]:
    """Have the turn, with signs of life while it lasts (None); or who has it."""
    lock = opened(_path(place), os.O_RDWR | os.O_CREAT)
    try:
        if not _taken(lock, fcntl.LOCK_EX):
            yield _holder(lock)
            return
        _beat(lock)
        beating = asyncio.create_task(_beats(lock))
        try:
            yield None
        finally:
            beating.cancel()
            os.ftruncate(lock, 0)
    finally:
        os.close(lock)


def holder(place: Workplace) -> TurnHolder | None:
    """The look that has its turn now; None where none has."""
    try:
        lock = opened(_path(place), os.O_RDONLY)
    except OSError:
        return None
    try:
        return None if _taken(lock, fcntl.LOCK_SH) else _holder(lock)
    finally:
        os.close(lock)


def is_told(place: Workplace, one: TurnHolder) -> bool:
    """Whether people were told that this one hangs."""
    try:
        return (state_folder(place.folder) / TOLD).read_bytes() == _named(one)
    except OSError:
        return False


def mark_told(place: Workplace, one: TurnHolder) -> None:
    put_whole(state_folder(place.folder) / TOLD, _named(one))


def _named(one: TurnHolder) -> bytes:
    return f"{one.pid} {one.seen}".encode()


def _path(place: Workplace) -> Path:
    return state_folder(place.folder) / LOCK


def _taken(lock: int, how: int) -> bool:
    try:
        fcntl.flock(lock, how | fcntl.LOCK_NB)
    except OSError:
        return False
    return True


def _beat(lock: int) -> None:
    os.pwrite(lock, msgspec.json.encode(TurnHolder(pid=os.getpid(), seen=time.monotonic())).ljust(ROOM), 0)


async def _beats(lock: int) -> None:
    while True:
        await asyncio.sleep(BEAT_S)
        _beat(lock)


def _holder(lock: int) -> TurnHolder:
    """Who has the lock; one that has only just begun has said nothing yet."""
    now = time.monotonic()
    try:
        known = msgspec.json.decode(os.pread(lock, ROOM, 0), type=TurnHolder)
    except (OSError, msgspec.MsgspecError):
        return TurnHolder(pid=0, seen=now)
    return replace(known, silent_s=max(0.0, now - known.seen), stopped=is_stopped(known.pid))
