"""Leases: who may start acts on a system. One row a system; its epoch rises each time that another holder takes it.

A lease is taken only when it was given back, when it has run out, or when its holder provably is gone: a process of
this very start of this machine that is there no more. Of a holder elsewhere nothing is known but its row: it has run
out once the row did not change for as long as a lease lasts, by the clock of the one who waits for it. So nothing here
leans on a lock of the file system, nor on the clocks of two machines telling the same.
"""

from __future__ import annotations

import os
import time
from collections.abc import Callable, Sequence
from functools import lru_cache
from pathlib import Path

import msgspec

from gallant.core.errors import Refused
from gallant.core.records import Record
from gallant.core.work.events import Carrier
from gallant.store.database import Database, transaction

# Real seconds. Long enough for a laptop's short sleep, short enough that a dead machine does not keep others waiting.
LEASE_S = 60.0
LOOK_S = 0.5

TABLE = """CREATE TABLE leases (
    system TEXT PRIMARY KEY, roll TEXT NOT NULL, holder TEXT NOT NULL, epoch INTEGER NOT NULL, until REAL NOT NULL
)"""
GET = "SELECT roll, holder, epoch, until FROM leases WHERE system = ?"
TAKE = """INSERT INTO leases (system, roll, holder, epoch, until) VALUES (?, ?, ?, 1, ?)
    ON CONFLICT (system) DO UPDATE
    SET roll = excluded.roll, holder = excluded.holder, epoch = epoch + 1, until = excluded.until"""
# Whether it has run out does not matter while nobody took it: taking raises the epoch.
RENEW = "UPDATE leases SET until = ? WHERE system = ? AND epoch = ? AND holder = ?"
HELD = "SELECT system, epoch FROM leases WHERE holder = ?"
OF_ROLL = "SELECT holder, until FROM leases WHERE roll = ? AND until > 0 ORDER BY until DESC LIMIT 1"
RELEASE = "UPDATE leases SET until = 0 WHERE holder = ?"


class Holder(Record):
    """A process, so that another one on the same start of the same machine can see whether it is there.

    `space` is its numbering of processes (a container has its own), `began` when it was started, in the kernel's ticks;
    `token` tells two holders of one process apart.
    """

    host: str
    boot: str
    space: str
    pid: int
    began: str
    token: int

    @property
    def text(self) -> str:
        return msgspec.json.encode(self).decode()


class Row(Record):
    roll: str
    holder: str
    epoch: int
    until: float


def this_process() -> Holder:
    return Holder(
        host=os.uname().nodename,
        boot=boot(),
        space=space(),
        pid=os.getpid(),
        began=began(os.getpid()) or "",
        token=time.monotonic_ns(),
    )


def now() -> float:
    """Seconds since this machine was started, its sleep included: that clock cannot be set while a lease runs."""
    return time.clock_gettime(time.CLOCK_BOOTTIME) if hasattr(time, "CLOCK_BOOTTIME") else time.monotonic()


@lru_cache(maxsize=1)
def boot() -> str:
    """Which start of this machine that is (random(4)); empty where it does not say."""
    try:
        return Path("/proc/sys/kernel/random/boot_id").read_text().strip()
    except OSError:
        return ""


@lru_cache(maxsize=1)
def space() -> str:
    """Which numbering of processes this one is in (pid_namespaces(7))."""
    try:
        return os.readlink("/proc/self/ns/pid")
    except OSError:
        return ""


def began(pid: int) -> str | None:
    """When a process was started (proc(5), field 22 of its stat);
    None for one that is not there, or dead and not yet gone."""
    try:
        fields = Path(f"/proc/{pid}/stat").read_text("utf-8", "replace").rpartition(")")[2].split()
    except OSError:
        return None
    return None if len(fields) < 20 or fields[0] in ("Z", "X") else fields[19]


def is_stopped(pid: int) -> bool:
    """Whether a process was told to stand still (proc(5), state T: SIGSTOP, or a debugger)."""
    try:
        return Path(f"/proc/{pid}/stat").read_text("utf-8", "replace").rpartition(")")[2].split()[0] in ("T", "t")
    except (OSError, IndexError):
        return False


def carrier_of(db: Database, roll: str) -> Carrier | None:
    """The process that has leases for a roll, as far as that can be seen from here; None where none has any."""
    row = db.execute(OF_ROLL, (roll,)).fetchone()
    if row is None:
        return None
    try:
        known = msgspec.json.decode(row[0], type=Holder)
    except (msgspec.MsgspecError, ValueError):
        return None
    ours = bool(known.boot) and known.boot == boot()
    here = ours and known.space == space()
    return Carrier(
        host=known.host,
        pid=known.pid if here else None,
        stopped=here and is_stopped(known.pid),
        silent_s=max(0.0, now() - (float(row[1]) - LEASE_S)) if ours else 0.0,
    )


def is_gone(holder: str) -> bool:
    """Whether a holder provably is there no more."""
    try:
        known = msgspec.json.decode(holder, type=Holder)
    except (msgspec.MsgspecError, ValueError):
        return False
    here = bool(known.boot) and (known.boot, known.space) == (boot(), space())
    return here and began(known.pid) != known.began


def is_over(row: Row | None) -> bool:
    """Whether a lease may be taken at once."""
    if row is None or row.until <= 0 or is_gone(row.holder):
        return True
    return _is_of_this_start(row.holder) and row.until <= now()


def _is_of_this_start(holder: str) -> bool:
    """Whether a holder's clock is ours."""
    try:
        return bool(boot()) and msgspec.json.decode(holder, type=Holder).boot == boot()
    except (msgspec.MsgspecError, ValueError):
        return False


def host_of(holder: str) -> str:
    try:
        return msgspec.json.decode(holder, type=Holder).host
    except (msgspec.MsgspecError, ValueError):
        return "another machine"


class Leases:
    """The leases of one holder."""

    def __init__(self, roll: str, systems: Sequence[str]) -> None:
        self.roll, self.systems = roll, tuple(systems)
        self.holder = this_process().text
        self.epochs: dict[str, int] = {}

    def take(self, db: Database, waiting: Callable[[str], None]) -> None:
        """Take all of them; raises `Refused` while one of them is another's. `waiting` is told of a wait, and why."""
        with transaction(db):
            if not (others := self._others(db)):
                self._take(db)
                return
        host = host_of(next(iter(others.values())).holder)
        waiting(
            f"{', '.join(others)}: leased to {others[next(iter(others))].roll} by a Gallant on {host}. If it is gone, "
            f"that lease has run out in {LEASE_S:.0f} s; waiting for that."
        )
        until = now() + LEASE_S
        while now() < until:
            time.sleep(min(LOOK_S, LEASE_S / 10))
            self._refuse_changed(others, self._others(db), host)
        with transaction(db):
            self._refuse_changed(others, self._others(db), host)
            self._take(db)

    def _refuse_changed(self, seen: dict[str, Row], now_: dict[str, Row], host: str) -> None:
        for system, row in now_.items():
            if seen.get(system) != row:
                raise Refused(
                    f"{row.roll} is being carried out by another Gallant, on {host}: it keeps its lease of {system}.",
                    next=f"gallant history {row.roll} says what it is doing.",
                )

    def _others(self, db: Database) -> dict[str, Row]:
        found = {system: _row(db, system) for system in self.systems}
        return {system: row for system, row in found.items() if row is not None and not is_over(row)}

    def _take(self, db: Database) -> None:
        for system in self.systems:
            db.execute(TAKE, (system, self.roll, self.holder, now() + LEASE_S))
            self.epochs[system] = db.execute(GET, (system,)).fetchone()[2]

    def renew(self, db: Database) -> list[str]:
        """Renew every one that is still ours; gives the systems whose lease is not. In a transaction."""
        return [system for system in self.systems if not self.renew_one(db, system)]

    def renew_one(self, db: Database, system: str) -> bool:
        until, epoch = now() + LEASE_S, self.epochs.get(system, -1)
        return bool(db.execute(RENEW, (until, system, epoch, self.holder)).rowcount == 1)

    def ours(self, db: Database, system: str | None) -> bool:
        """Whether the lease of a system is ours; of any system, where none is named."""
        held = set(db.execute(HELD, (self.holder,)).fetchall())
        own = {(name, epoch) for name, epoch in self.epochs.items() if system in (None, name)}
        return bool(own & held)

    def release(self, db: Database) -> None:
        with transaction(db):
            db.execute(RELEASE, (self.holder,))


def _row(db: Database, system: str) -> Row | None:
    found = db.execute(GET, (system,)).fetchone()
    return None if found is None else Row(roll=found[0], holder=found[1], epoch=found[2], until=found[3])
