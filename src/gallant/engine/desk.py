"""What a look at what is due sees and may do: records, and the port that operations fill."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence
from datetime import datetime
from typing import Protocol, TypeAlias, Unpack

from gallant.core.decide.due import (
    DueJob,
    Rolled,
)
from gallant.core.decide.ledger import EntryFields, LedgerEntry
from gallant.core.decide.notices import Notice
from gallant.core.errors import GallantError
from gallant.core.estate.systems import Estate
from gallant.core.records import Record
from gallant.core.windows.rules import Span

BEGINS, LEFT, COMES, GOES = "begun", "left", "to come", "under way"
Why: TypeAlias = tuple[str, str | None, int]  # why something did not start, what to do about it, and its exit code


class DueRow(Record):
    """What became of one thing: `did` is begun, left, to come or under way; `at` when it is or was to be begun, and
    where it is booked not after `until`; `lapsed`: that has passed, and `again` is the next time at which it would
    fit."""

    did: str
    what: str
    subject: str
    at: datetime | None = None
    until: datetime | None = None
    roll: str | None = None
    plan: str | None = None
    by: str | None = None
    why: str = ""
    next: str | None = None
    exit_code: int = 0
    lapsed: bool = False
    again: datetime | None = None


class DueLook(Record):
    """One look at what is due; `busy`: another one is at it, and nothing was done here. `hangs`: what is known of one
    that gives no sign of life, and the way out of that."""

    rows: tuple[DueRow, ...] = ()
    busy: bool = False
    hangs: str | None = None
    way_out: str | None = None

    @property
    def exit_code(self) -> int:
        return 1 if self.hangs is not None or any(row.did == LEFT for row in self.rows) else 0


class LastTry(Record):
    """The last time that something was tried in vain."""

    at: datetime
    row: DueRow


class OpenRoll(Record):
    """A roll that has not ended, how it stands (a process carries it out, or none does any more: see `core.work.due`),
    and since when it may go on (`opens`). `left` are the systems whose lane is not done."""

    id: str
    plan: str
    began: datetime
    systems: tuple[str, ...]
    stands: str
    opens: datetime | None = None
    left: tuple[str, ...] = ()


class EndedRoll(Record):
    id: str
    began: datetime
    ended: datetime | None
    systems: tuple[str, ...]


class Begun(Record):
    """The roll that a process says it has under way; or its last words and its exit code, where it began none."""

    roll: str | None
    said: str = ""
    exit_code: int = 0


class Ready(Record):
    """A plan of what is due, and by system why it cannot start (`stuck`)."""

    plan: str
    stuck: Mapping[str, Why]


class Desk(Protocol):
    """What a look at what is due has before it. All but the reading of it may raise `GallantError`."""

    @property
    def estate(self) -> Estate: ...

    def now(self) -> datetime: ...

    def said(self, kinds: Sequence[str]) -> list[LedgerEntry]:
        """The ledger's entries of these kinds, in their order."""

    def last_entry(self) -> int:
        """The number of the ledger's newest entry."""

    def record(self, kind: str, subject: str, **more: Unpack[EntryFields]) -> None:
        """Write an entry into the ledger, on the disk when this returns."""

    def notices(self, everything: bool = False) -> Sequence[Notice]: ...

    def has_product(self, name: str) -> bool: ...

    def spans(self, system: str, now: datetime) -> Sequence[Span] | None:
        """When a system may be disturbed; None: at any time."""

    def open_rolls(self) -> Sequence[OpenRoll]: ...

    def rolls(self) -> Sequence[EndedRoll]: ...

    def has_finished(self, roll: str) -> bool: ...

    def rolled(self, systems: Collection[str], since: datetime) -> Iterable[Rolled]:
        """The rolls of some systems that began no earlier."""

    def brought(self, systems: Collection[str]) -> Collection[tuple[str, str, str]]:
        """What all rolls of some systems were to bring: system, component, version."""

    def in_the_way(self, system: str) -> GallantError | None:
        """An open roll that forbids another one of a system."""

    def length_s(self, job: DueJob) -> float | None:
        """Up to how long what has to be done of it in one piece takes; None where nobody knows."""

    def next_times(self, lapsed: Mapping[str, Collection[str]]) -> Mapping[str, datetime]:
        """By system, of those whose booking for some components lapsed: the
        first time to come at which that fits beside all that is booked."""

    def approved(self, jobs: Sequence[DueJob]) -> str | None:
        """A plan that others approved of just what is due."""

    async def planned(self, jobs: Sequence[DueJob], given: Collection[str]) -> Ready: ...

    def begin(self, plan: str, given: Collection[str], decided_at: int) -> Begun:
        """It does not begin where a person decided on what it brings after that entry of the ledger."""

    def take_up(self, roll: str) -> Begun: ...

    def prepare(self, plan: str) -> None: ...

    def look_after(self, roll: str) -> None: ...

    async def tell(self, row: DueRow, text: str) -> None: ...

    def tried(self) -> dict[str, LastTry]: ...

    def keep_tried(self, tried: Mapping[str, LastTry]) -> None: ...
