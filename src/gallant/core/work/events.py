"""The journal's entries: what was intended, accepted, and came out, in the order in which it happened."""

from __future__ import annotations

from datetime import datetime

from gallant.core.outages import Outage, Watched
from gallant.core.records import Record
from gallant.core.work.plan import Plan, Wave

# Entries about the roll as a whole, and about one step.
OPENED, RESUMED, DERIVED, HELD, STOPPED, FINISHED, ENDED = (
    "opened",
    "resumed",
    "derived",
    "held",
    "stopped",
    "finished",
    "ended",
)
INTENT, ACCEPTED, OUTCOME, ANSWERED, AGAIN = "intent", "accepted", "outcome", "answered", "again"
LATE = "late"  # a step is over its time, and its device shows that it goes on
TOLD = "told"  # a device that carries out a step was told to pause, to go on or to give up
OUTAGE = "outage"
TERMINAL = (FINISHED, ENDED)

DONE, FAILED, NOT_STARTED, NOT_SENT = "done", "failed", "not_started", "not_sent"


class Before(Record):
    """The pre-image of an act: what its observation compares with; `links` are those that were up."""

    boot: str
    version: str
    next_version: str | None = None
    role: str
    jobs: tuple[str, ...] = ()
    links: tuple[str, ...] = ()


class Entry(Record):
    """What is to be written; the journal adds `seq`.

    `at` is estate time, `wall` real seconds on a clock that cannot be set (`Clock.real`), for a process that comes
    after this one. `consents` and `by` stand on `opened`; `waves` on `derived`; `before` on `intent`; `handle` on
    `accepted` (the node's job) and on the outcome of a backup (the one that was taken); `stood_s` on an outcome (for
    how long of the step this process stood still, in seconds of estate time); `outage` on `outage`; `watched` on
    `opened` and `resumed` (the services that are probed from then on; None in journals of before); `opens` on `held`
    (when the window begins that it waits for, where it waits for nothing else).
    """

    kind: str
    at: datetime
    wall: float
    step: str | None = None
    hop: str | None = None
    attempt: int | None = None
    handle: str | None = None
    result: str | None = None
    message: str = ""
    next: str | None = None
    by: str | None = None
    consents: tuple[str, ...] = ()
    before: Before | None = None
    waves: tuple[Wave, ...] | None = None
    stood_s: float = 0
    outage: Outage | None = None
    watched: tuple[Watched, ...] | None = None
    opens: datetime | None = None


class Event(Record):
    """One entry in its place: `seq` counts from 1 without a gap."""

    seq: int
    entry: Entry


class HoldWanted(Record):
    """Somebody asked a roll to hold; `now`: after the act that is under way, without waiting for a safe stop."""

    reason: str
    now: bool = False


class RollRow(Record):
    """One roll as the store knows it; its state is derived from its events."""

    id: str
    plan: Plan
    began: datetime
    ended: datetime | None
    hold: str | None


SILENT_S = 30.0  # real seconds: leases are renewed every fifteen


class Carrier(Record):
    """The process that carries a roll out: `pid` where it is on this machine and in this numbering of processes;
    whether it is `stopped`, and for how long (real s) it has not renewed its leases."""

    host: str
    pid: int | None
    stopped: bool
    silent_s: float

    @property
    def trouble(self) -> str | None:
        """What keeps it from doing anything; None where nothing is seen."""
        if self.stopped:
            return f"its process {self.pid} on this machine is stopped"
        if self.silent_s > SILENT_S:
            whose = f"process {self.pid}" if self.pid is not None else f"process on {self.host}"
            return f"its {whose} has given no sign of life for {self.silent_s:.0f} s"
        return None

    @property
    def way_out(self) -> str | None:
        if self.pid is None:
            return None
        lets = f"kill -CONT {self.pid} lets it go on; " if self.stopped else ""
        return f"{lets}kill -KILL {self.pid} ends it"
