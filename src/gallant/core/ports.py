"""What the engine and the operations are given from outside: declarations only.

A roll on real machines, a rehearsal and a test differ in what stands behind these and in nothing else.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from contextlib import AbstractContextManager
from datetime import datetime
from typing import TYPE_CHECKING, Protocol

from gallant.core.assess.findings import Finding
from gallant.core.assess.hands import Hand
from gallant.core.assess.ledger import Kept, LedgerEntry
from gallant.core.assess.outages import Sample, Watched
from gallant.core.catalog.products import Package, PackageHeld, Product, Release
from gallant.core.errors import GallantError, Stopped, Unreached
from gallant.core.estate.backups import Backup
from gallant.core.estate.sources import Access, News, Source
from gallant.core.estate.systems import System
from gallant.core.readings import IMAGE, Alarm, Gauge, HeldSurvey, Job, Last, Reading
from gallant.core.records import Record
from gallant.core.work.events import Carrier, Entry, Event, HoldWanted, RollRow
from gallant.core.work.plan import Knows, Plan, Step
from gallant.core.work.steps import KINDS

if TYPE_CHECKING:
    from pathlib import Path

# --- what can go wrong at a device ----------------------------------------------------------------------------------


class _Perhaps(Unreached):
    """`late`: it was not refused, it took too long; a line or a device that is slow is asked less at once."""

    def __init__(
        self, what: str, why: str | None = None, next: str | None = None, *, late: bool = False, cause: str = ""
    ) -> None:
        super().__init__(what, why, next)
        self.late, self.cause = late, cause or self.cause


class NotReached(_Perhaps):
    """No connection came about: nothing was sent."""

    cause = "not reached"


class LoginRefused(Unreached):
    """The device answers and does not let us in: nothing but the login was sent. `counted`: it looked at user and
    secret, and found them wrong, as it may count."""

    def __init__(self, what: str, why: str | None = None, next: str | None = None, *, counted: bool = False) -> None:
        super().__init__(what, why, next)
        self.counted = counted
        self.cause = "the login was refused" if counted else "not let in"


class Refusals:
    """The logins that were refused in one run of a command, by address, user and account: none
    of them is tried again, since a device locks an account that fails too often. A roll forgets
    them and remembers none (`stop`): a node that starts may not know its accounts yet."""

    def __init__(self) -> None:
        self._known: dict[tuple[str, str, str], LoginRefused] = {}
        self._on = True

    def stop(self) -> None:
        self._on = False
        self._known.clear()

    def recall(self, address: str, user: str, secret: str) -> None:
        """Raise what this login came to before, where it was refused."""
        if (error := self._known.get((address, user, secret))) is not None:
            raise LoginRefused(error.what, error.why, error.next)

    def remember(self, address: str, user: str, secret: str, error: LoginRefused) -> None:
        if self._on and error.counted:
            self._known[address, user, secret] = error


class AnswerLost(_Perhaps):
    """Something was sent and no answer came: whether it took effect is not known."""

    cause = "no answer"


class NotSent(Stopped):
    """The time in which an act may be sent was over before it could be: nothing was sent."""


class DeviceRefused(Stopped):
    """The device answered with a no. `meaning` is passing, refused, already, auth or fatal."""

    def __init__(self, what: str, why: str | None = None, next: str | None = None, meaning: str = "refused") -> None:
        super().__init__(what, why, next)
        self.meaning = meaning


class WrongMachine(GallantError):
    """Another machine than the estate's answers at this address, with this serial."""

    exit_code = 5
    cause = "another machine answers"

    def __init__(self, what: str, why: str | None = None, next: str | None = None, serial: str = "") -> None:
        super().__init__(what, why, next)
        self.serial = serial


class LeaseLost(GallantError):
    """Another Gallant took the lease of this system; nothing more may be started here."""

    exit_code = 5


# --- acts -----------------------------------------------------------------------------------------------------------


class Act(Record):
    """One order to one node, about its image or another component of it. `release` is the version text; the package
    fields stand where a package is concerned; `handle` is the job that it is about, where it is about one."""

    kind: str
    component: str = IMAGE
    release: str = ""
    package: str = ""
    sha256: str = ""
    bytes: int = 0
    reason: str = ""
    handle: str = ""


def act_of(step: Step, reason: str) -> Act:
    """The order that a step comes to."""
    return Act(
        kind=KINDS[step.kind].order,
        component=step.component,
        release=step.to,
        package=step.package or "",
        sha256=step.sha256 or "",
        bytes=step.bytes,
        reason=reason,
    )


class Accepted(Record):
    """The device took the order; `handle` names its job where it has one."""

    handle: str | None = None
    message: str = ""


Progress = Callable[[float, str], None]  # percent 0 to 100, message


class Clock(Protocol):
    """Estate time and real time. `floor_s` is the shortest deadline (estate s) that this clock can keep.

    `real` are real seconds on a clock that cannot be set and that goes on while the machine sleeps; the difference of
    two of them, also of two processes, is never more than what went by. `estate_s` is how much estate time a stretch of
    real time is. `stood_s` are the real seconds in which this process stood still, as far as it knows by now.
    """

    @property
    def floor_s(self) -> float: ...
    def now(self) -> datetime: ...
    def real(self) -> float: ...
    def stood_s(self) -> float: ...
    def estate_s(self, real_seconds: float) -> float: ...
    async def sleep(self, seconds: float) -> None: ...
    async def pause(self, real_seconds: float) -> None: ...


class Tested(Record):
    """A device's own readiness test for a release: its findings in its words, and the minutes that it announces."""

    findings: tuple[Alarm, ...] = ()
    minutes: float | None = None


class Driver(Protocol):
    """One system's nodes, over one protocol. Every method may raise the errors above; none waits for a job.

    `read` a node `closely` to compare it with another reading of it. `acts`: it can be given some order. `let_in` logs
    in for a purpose, `read` or `act`. `exports_each`: every node has an export of that name of its own.
    """

    @property
    def request_timeout_s(self) -> float: ...
    @property
    def acts(self) -> bool: ...
    @property
    def export_names(self) -> tuple[str, ...]: ...
    def exports_each(self, name: str) -> bool: ...
    def lands_within_s(self, kind: str) -> float: ...
    def capabilities(self) -> frozenset[str]: ...
    def knows(self) -> Knows: ...
    def orders_of(self, node: str, act: Act) -> tuple[str, ...]: ...
    def asks(self) -> tuple[str, ...]: ...
    def exports_of(self) -> tuple[str, ...]: ...
    async def let_in(self, node: str, purpose: str) -> None: ...
    async def read(self, node: str, closely: bool = False) -> Reading: ...
    async def job(self, node: str, handle: str) -> Job: ...
    async def self_test(self, node: str, release: str) -> Tested: ...
    async def export(self, node: str, name: str, into: Callable[[bytes], object]) -> None: ...
    async def act(self, node: str, act: Act, *, send_by: float, progress: Progress | None = None) -> Accepted:
        """Send one order, all of it before `send_by` (`Clock.real`), else `NotSent` where nothing of it was sent
        yet."""

    async def done(self, node: str) -> None:
        """Nothing more is asked of a node for now: let go of what is held for it."""

    async def close(self) -> None: ...


class Vault(Protocol):
    async def take(
        self, system: System, *, by: str, roll: str, before: str, progress: Progress | None = None
    ) -> Backup:
        """A sealed backup of what the system runs, taken by a roll before the release `before` is entered."""

    def backups(self, system: str) -> list[Backup]: ...


class RestorePoints(Protocol):
    """Snapshots of whole systems, wherever they are kept; those of a
    roll are known by its name and the release they precede."""

    async def take(self, system: System, *, by: str, roll: str, before: str) -> str:
        """Take one, see that it is there, and give its name; one that was taken for this already is that one."""

    async def there(self, system: System, *, roll: str, before: str) -> str | None:
        """The name of the one that was taken for this, where it can still be seen."""

    async def revert(self, system: System, *, by: str, roll: str, before: str) -> None:
        """Have the system go back to the one that was taken for this. Raises `DeviceRefused` where it is gone."""


class Releases(Protocol):
    """The catalogs as they are now; a release recalled since the plan was made is seen here."""

    def current(self, product: str, version: str) -> Release | None: ...
    def product(self, name: str) -> Product | None: ...


class Prober(Protocol):
    """Probes of the service addresses, made at their own pace; `take` gives those finished since the last call, in
    order. `pause_s` are the real seconds after which it is worth while to ask again. `hurry` names the services that
    are asked as often as it can be from now on; all others at their own pace again."""

    @property
    def pause_s(self) -> float: ...
    @property
    def watches(self) -> Sequence[Watched]: ...

    def start(self) -> None: ...
    def hurry(self, services: frozenset[str]) -> None: ...
    def take(self) -> Sequence[Sample]: ...
    async def stop(self) -> None: ...


class Journal(Protocol):
    """One roll's journal. Every entry is on the disk when writing it
    returns; entries of many lanes may be written together.

    An entry about a step is written only while the lease of its `system` is ours, any other while some lease is; else
    `LeaseLost`. `sole_since` is the moment (`Clock.real`) from which on no other process can be sending for this roll.
    """

    def events(self) -> list[Event]: ...
    async def append(self, entry: Entry, system: str | None = None) -> Event: ...
    def hold_wanted(self) -> HoldWanted | None: ...
    async def renew(self) -> Sequence[str]:
        """Renew every lease, and give the systems whose lease another has taken."""

    @property
    def lease_s(self) -> float: ...
    @property
    def sole_since(self) -> float: ...


class Listener(Protocol):
    """Anyone who shows the roll. Nothing that happens here may reach back into it."""

    def event(self, event: Event) -> None: ...
    def progress(self, step: str, percent: float, message: str) -> None: ...
    def unanswered(self, step: str, what: str) -> None: ...
    def sample(self, sample: Sample) -> None: ...
    def waiting(self, began: datetime, ended: datetime, step: str) -> None: ...


Drivers = Mapping[str, Driver]


# --- what is kept ---------------------------------------------------------------------------------------------------


class Store(Protocol):
    """Readings, surveys, findings and catalogs: all of it can be had again by asking."""

    def begin_survey(self, now: datetime) -> int: ...
    def add(self, survey: int, rows: Iterable[tuple[str, str, datetime, Reading | None, str | None]]) -> None: ...
    def end_survey(self, survey: int, now: datetime) -> None: ...
    def prune(self, before: datetime) -> int: ...
    def surveys(self) -> list[HeldSurvey]: ...
    def newest(self, systems: Sequence[str] | None = None) -> dict[str, Last]: ...
    def before_newest(self) -> dict[str, Reading]: ...
    def as_of(self, moment: datetime) -> dict[str, Reading]: ...
    def gauged(self, system: str, until: datetime) -> list[tuple[str, datetime, tuple[Gauge, ...]]]: ...
    def keep_findings(self, at: datetime, found: dict[str, list[Finding]]) -> None: ...
    def findings_before(self, system: str, moment: datetime) -> tuple[datetime, list[Finding]] | None: ...
    def noticed(self, names: Iterable[tuple[str, str]], now: datetime) -> dict[tuple[str, str], datetime]: ...
    def recall(self, node: str, call: str) -> tuple[str, dict[str, object]] | None: ...
    def remember(self, node: str, call: str, tag: str, fields: dict[str, object]) -> None: ...
    def add_source(self, name: str, source: str, key: str, now: datetime, access: Access | None = None) -> None: ...
    def sources(self) -> list[Source]: ...
    def raw_catalog(self, name: str) -> bytes | None: ...
    def note_check(self, name: str, now: datetime, problem: str | None, state: str = "reachable") -> None: ...
    def remove_source(self, name: str) -> None: ...
    def trust_key(self, name: str, key: str) -> None: ...
    def keep_catalog(
        self, name: str, serial: int, sha256: str, raw: bytes, tag: str | None, news: Sequence[News], now: datetime
    ) -> bool: ...
    def close(self) -> None: ...


class Ledger(Protocol):
    """Decisions, in a chain that is only ever added to; each is on the disk when `append` returns."""

    def append(self, entry: LedgerEntry, places: Sequence[str] = ()) -> Kept: ...
    def entries(self) -> list[Kept]: ...
    def readable(self) -> tuple[list[Kept], list[GallantError]]: ...
    def about(self, kinds: Sequence[str], begins: str = "") -> list[Kept]: ...
    def accepted(self, terms: str, publisher: str) -> bool: ...
    def untold(self, place: str) -> list[Kept]: ...
    def told(self, place: str, seq: int) -> None: ...
    def hands(self) -> Mapping[int, Hand]: ...
    def last(self) -> int: ...
    def count_untold(self) -> dict[str, int]: ...
    def keep_copy(self) -> None: ...
    def close(self) -> None: ...


class OneRoll(Journal, Protocol):
    """A roll's journal, held by who carries the roll out; `write` is for what is said outside a run."""

    @property
    def id(self) -> str: ...
    def write(self, entry: Entry) -> Event: ...


class Rolls(Protocol):
    """Every roll of an estate. `new_roll` and `take_up` give the journal of one, with the leases of its systems, until
    the block ends; both raise `Refused` while another process has one of them."""

    def rolls(self, systems: Iterable[str] | None = None) -> tuple[list[RollRow], list[GallantError]]: ...
    def roll(self, roll_id: str) -> RollRow: ...
    def open_rolls(self, system: str | None = None) -> list[RollRow]: ...
    def events(self, roll_id: str, after: int = 0) -> list[Event]: ...
    def is_running(self, roll_id: str) -> bool: ...
    def carrier(self, roll_id: str) -> Carrier | None: ...
    def request_hold(self, roll_id: str, reason: str, now: bool = False) -> None: ...
    def refuse_open(self, plan: Plan, but: str | None = None) -> None: ...
    def new_roll(
        self, plan: Plan, now: datetime, waiting: Callable[[str], None] = ...
    ) -> AbstractContextManager[OneRoll]: ...
    def take_up(self, roll_id: str, waiting: Callable[[str], None] = ...) -> AbstractContextManager[OneRoll]: ...
    def witness(self, seq: int, digest: str) -> None: ...
    def witnessed(self) -> tuple[int, str] | None: ...
    def keep_copy(self) -> None: ...
    def close(self) -> None: ...


class Stock(Protocol):
    """Packages that lie here, verified. How one is brought is the stock's own business."""

    @property
    def bytes(self) -> int: ...
    def path(self, name: str, sha256: str) -> Path: ...
    def has(self, package: Package) -> bool: ...
    def verified(self, name: str, sha256: str) -> bool: ...
    def held(self) -> list[PackageHeld]: ...
    def take_in(self, source: Path, name: str, sha256: str, vouched: str | None) -> Path: ...
    def vouched(self, name: str, sha256: str) -> str | None: ...
    def remove(self, name: str, sha256: str) -> None: ...
    def unfinished(self) -> list[Path]: ...
