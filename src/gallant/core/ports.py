"""What the engine and the operations are given from outside: declarations only.

A roll on real machines, a rehearsal and a test differ in what stands behind these and in nothing else.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from contextlib import AbstractContextManager
from datetime import datetime
from typing import TYPE_CHECKING, Protocol

from gallant.core.catalog.products import Package, PackageHeld, Product, Release
from gallant.core.checks.facts import Finding
from gallant.core.decide.hands import Hand
from gallant.core.decide.ledger import Kept, LedgerEntry
from gallant.core.errors import GallantError, Stopped, Unreached
from gallant.core.estate.backups import Backup
from gallant.core.estate.sources import Access, News, Source
from gallant.core.estate.systems import System
from gallant.core.outages import Sample, Watched
from gallant.core.readings import IMAGE, Alarm, Gauge, HeldSurvey, Job, Last, Reading
from gallant.core.records import Record
from gallant.core.steps.kinds import KINDS
from gallant.core.work.events import Carrier, Entry, Event, HoldWanted, RollRow
from gallant.core.work.knows import Knows
from gallant.core.work.plan import Plan, Step

if TYPE_CHECKING:
    from pathlib import Path


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
        """Forget all of them, and remember none from now on."""
        self._on = False
        self._known.clear()

    def recall(self, address: str, user: str, secret: str) -> None:
        """Raise what this login came to before, where it was refused."""
        if (error := self._known.get((address, user, secret))) is not None:
            raise LoginRefused(error.what, error.why, error.next)

    def remember(self, address: str, user: str, secret: str, error: LoginRefused) -> None:
        """Keep a refused login, where the device counts it."""
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
    def floor_s(self) -> float:
        """The shortest deadline that this clock can keep, in seconds of estate time."""

    def now(self) -> datetime:
        """The moment by the estate, in UTC."""

    def real(self) -> float:
        """Real seconds since some moment, the same in all processes of this machine."""

    def stood_s(self) -> float:
        """Real seconds in which this process stood still, as far as it knows by now."""

    def estate_s(self, real_seconds: float) -> float:
        """How much estate time a stretch of real time is, in seconds."""

    async def sleep(self, seconds: float) -> None:
        """Wait for some seconds of estate time."""

    async def pause(self, real_seconds: float) -> None:
        """Wait for some real seconds: between two tries at a device, whose time no simulation makes shorter."""


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
    def request_timeout_s(self) -> float:
        """For how long one request is waited for, in real seconds."""

    @property
    def acts(self) -> bool:
        """Whether it can be given any order at all."""

    @property
    def export_names(self) -> tuple[str, ...]:
        """The exports that make up a backup of the system."""

    def exports_each(self, name: str) -> bool:
        """Whether every node has an export of that name of its own."""

    def lands_within_s(self, kind: str) -> float:
        """By when an order of this kind has reached the node at the latest, in seconds after it was sent."""

    def capabilities(self) -> frozenset[str]:
        """The names of what it can read and do."""

    def knows(self) -> Knows:
        """What its profile says that the devices do by themselves."""

    def orders_of(self, node: str, act: Act) -> tuple[str, ...]:
        """What would be sent to a node for an act, one line each, for anyone who wants to see it; nothing is sent."""

    def asks(self) -> tuple[str, ...]:
        """What a reading asks each node, one line each."""

    def exports_of(self) -> tuple[str, ...]:
        """What a backup asks each node, one line each."""

    async def let_in(self, node: str, purpose: str) -> None:
        """Log in for a purpose, `read` or `act`, so that a refused account is known before any work begins."""

    async def read(self, node: str, closely: bool = False) -> Reading:
        """What a node says of itself now; `closely` with all that only a comparison needs."""

    async def job(self, node: str, handle: str) -> Job:
        """One job of a node, by the handle that the device gave it."""

    async def self_test(self, node: str, release: str) -> Tested:
        """The device's own test whether it is ready for a release."""

    async def export(self, node: str, name: str, into: Callable[[bytes], object]) -> None:
        """Hand one export of a node on, piece by piece as it comes."""

    async def act(self, node: str, act: Act, *, send_by: float, progress: Progress | None = None) -> Accepted:
        """Send one order, all of it before `send_by` (`Clock.real`), else `NotSent` where nothing of it was sent
        yet."""

    async def done(self, node: str) -> None:
        """Nothing more is asked of a node for now: let go of what is held for it."""

    async def close(self) -> None:
        """Log out everywhere, and let go of all that is held."""


class Vault(Protocol):
    async def take(
        self, system: System, *, by: str, roll: str, before: str, progress: Progress | None = None
    ) -> Backup:
        """A sealed backup of what the system runs, taken by a roll before the release `before` is entered."""

    def backups(self, system: str) -> list[Backup]:
        """A system's backups, those that can be read."""


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

    def current(self, product: str, version: str) -> Release | None:
        """A release as its catalog has it now; None where it is no longer in it."""

    def product(self, name: str) -> Product | None:
        """A product with all of its releases; None where no catalog here has it."""


class Prober(Protocol):
    """Probes of the service addresses, made at their own pace; `take` gives those finished since the last call, in
    order. `pause_s` are the real seconds after which it is worth while to ask again. `hurry` names the services that
    are asked as often as it can be from now on; all others at their own pace again."""

    @property
    def pause_s(self) -> float:
        """Real seconds after which it is worth while to ask again."""

    @property
    def watches(self) -> Sequence[Watched]:
        """The services that are watched, and how."""

    def start(self) -> None:
        """Begin to probe."""

    def hurry(self, services: frozenset[str]) -> None:
        """Ask these services as often as it can be from now on, all others at their own pace."""

    def take(self) -> Sequence[Sample]:
        """The samples that were finished since the last call, in order."""

    async def stop(self) -> None:
        """End all probes."""


class Journal(Protocol):
    """One roll's journal. Every entry is on the disk when writing it
    returns; entries of many lanes may be written together.

    An entry about a step is written only while the lease of its `system` is ours, any other while some lease is; else
    `LeaseLost`. `sole_since` is the moment (`Clock.real`) from which on no other process can be sending for this roll.
    """

    def events(self) -> list[Event]:
        """All entries so far, in order."""

    async def append(self, entry: Entry, system: str | None = None) -> Event:
        """Write one entry; it is on the disk when this returns. Raises `LeaseLost`."""

    def hold_wanted(self) -> HoldWanted | None:
        """The wish that the roll holds, where somebody has one."""

    async def renew(self) -> Sequence[str]:
        """Renew every lease, and give the systems whose lease another has taken."""

    @property
    def lease_s(self) -> float:
        """For how long a lease holds that is not renewed, in real seconds."""

    @property
    def sole_since(self) -> float:
        """The moment (`Clock.real`) from which on no other process can be sending for this roll."""


class Listener(Protocol):
    """Anyone who shows the roll. Nothing that happens here may reach back into it."""

    def event(self, event: Event) -> None:
        """Something was written into the journal."""

    def progress(self, step: str, percent: float, message: str) -> None:
        """How far a step is, in percent, and what its device says of it."""

    def unanswered(self, step: str, what: str) -> None:
        """A step asks a node that does not answer; `what` is the reason."""

    def sample(self, sample: Sample) -> None:
        """One probe of one service has ended."""

    def waiting(self, began: datetime, ended: datetime, step: str) -> None:
        """Time goes by for a step and nothing else: from when until when."""


Drivers = Mapping[str, Driver]


class Store(Protocol):
    """Readings, surveys, findings and catalogs: all of it can be had again by asking."""

    def begin_survey(self, now: datetime) -> int:
        """Begin a survey, and give its number."""

    def add(self, survey: int, rows: Iterable[tuple[str, str, datetime, Reading | None, str | None]]) -> None:
        """Keep a batch of (system, node, taken, reading or None, error or None)."""

    def end_survey(self, survey: int, now: datetime) -> None:
        """Mark a survey as whole: everything that was asked has answered or failed."""

    def prune(self, before: datetime) -> int:
        """Forget what was last seen before a moment and is not the newest of its node; gives how many rows went."""

    def surveys(self) -> list[HeldSurvey]:
        """All surveys, newest first."""

    def newest(self, systems: Sequence[str] | None = None) -> dict[str, Last]:
        """By node name: the last good reading, and how the newest try ended; of every system, or of some."""

    def before_newest(self) -> dict[str, Reading]:
        """By node name: the good reading before the newest one, where there is one."""

    def as_of(self, moment: datetime) -> dict[str, Reading]:
        """By node name: the reading that was the newest at a moment."""

    def gauged(self, system: str, until: datetime) -> list[tuple[str, datetime, tuple[Gauge, ...]]]:
        """What nodes of a system said in numbers in the last days: (node, when, numbers), oldest first."""

    def keep_findings(self, at: datetime, found: dict[str, list[Finding]]) -> None:
        """Keep what one run of the checks found, by system."""

    def findings_before(self, system: str, moment: datetime) -> tuple[datetime, list[Finding]] | None:
        """The newest run of a system's checks at or before a moment; None where there was none."""

    def noticed(self, names: Iterable[tuple[str, str]], now: datetime) -> dict[tuple[str, str], datetime]:
        """When each (notice, target) was first seen; those that never were are seen now."""

    def recall(self, node: str, call: str) -> tuple[str, dict[str, object]] | None:
        """What a node answered to a call before, with the tag of that answer; None where it is not known."""

    def remember(self, node: str, call: str, tag: str, fields: dict[str, object]) -> None:
        """Keep what a node answered, so that an answer that has not changed need not be sent again."""

    def add_source(self, name: str, source: str, key: str, now: datetime, access: Access | None = None) -> None:
        """Follow a source, or follow it from another place or in another way; its key and its serial stay."""

    def sources(self) -> list[Source]:
        """The sources that are followed, with how the last look at each ended."""

    def raw_catalog(self, name: str) -> bytes | None:
        """The bytes of the last catalog that was accepted; None where none was."""

    def note_check(self, name: str, now: datetime, problem: str | None, state: str = "reachable") -> None:
        """Note that a source was asked, and what was wrong with it."""

    def remove_source(self, name: str) -> None:
        """Follow a source no more. Its serial is remembered: to follow it again leads to no older catalog."""

    def trust_key(self, name: str, key: str) -> None:
        """Pin another key; the serial stays."""

    def keep_catalog(
        self, name: str, serial: int, sha256: str, raw: bytes, tag: str | None, news: Sequence[News], now: datetime
    ) -> bool:
        """Keep an accepted catalog; False when a higher serial was accepted meanwhile."""

    def close(self) -> None:
        """Let go of the files."""


class Ledger(Protocol):
    """Decisions, in a chain that is only ever added to; each is on the disk when `append` returns."""

    def append(self, entry: LedgerEntry, places: Sequence[str] = ()) -> Kept:
        """Add an entry; `places` are those that are to be told of it. Raises `GallantError`."""

    def entries(self) -> list[Kept]:
        """All of them, oldest first. Raises `GallantError` for one that cannot be read: decisions are not guessed
        at."""

    def readable(self) -> tuple[list[Kept], list[GallantError]]:
        """Those that can be read, oldest first, and what is to be said of each that cannot."""

    def newest(self, most: int) -> tuple[list[Kept], list[GallantError]]:
        """The newest so many that can be read, oldest first, and what is to be said of each that cannot."""

    def count(self) -> int:
        """How many entries there are."""

    def about(self, kinds: Sequence[str], begins: str = "") -> list[Kept]:
        """Entries of these kinds whose subject begins so, oldest first. Raises as `entries` does."""

    def accepted(self, terms: str, publisher: str) -> bool:
        """Whether a named person accepted this version of a publisher's terms."""

    def untold(self, place: str) -> list[Kept]:
        """What a place was not told yet, oldest first."""

    def told(self, place: str, seq: int) -> None:
        """Note that a place was told of an entry."""

    def hands(self) -> Mapping[int, Hand]:
        """What each account noted of its own entries, by account number."""

    def last(self) -> int:
        """The number of the newest entry; 0 where there is none."""

    def count_untold(self) -> dict[str, int]:
        """By place, how many entries it was not told yet."""

    def keep_copy(self) -> None:
        """Keep the ledger twice as it is now. Raises `GallantError`."""

    def close(self) -> None:
        """Let go of the file."""


class OneRoll(Journal, Protocol):
    """A roll's journal, held by who carries the roll out; `write` is for what is said outside a run."""

    @property
    def id(self) -> str:
        """The roll's name."""

    def write(self, entry: Entry) -> Event:
        """Write one entry from outside of a run."""


class Rolls(Protocol):
    """Every roll of an estate. `new_roll` and `take_up` give the journal of one, with the leases of its systems, until
    the block ends; both raise `Refused` while another process has one of them."""

    def rolls(
        self, systems: Iterable[str] | None = None, *, most: int | None = None, since: datetime | None = None
    ) -> tuple[list[RollRow], list[GallantError]]:
        """Rolls, newest first, all or those of some systems, no more than `most`, and none that ended before `since`
        (by the second); and what is to be said of each that cannot be read."""

    def count(self) -> int:
        """How many rolls there are."""

    def names(self) -> list[str]:
        """The names of all rolls, newest first."""

    def roll(self, roll_id: str) -> RollRow:
        """One roll by its name. Raises `WrongUse` where there is none."""

    def open_rolls(self, system: str | None = None) -> list[RollRow]:
        """Rolls that have not ended, all or those of one system."""

    def events(self, roll_id: str, after: int = 0) -> list[Event]:
        """A roll's entries, or those after one of them."""

    def is_running(self, roll_id: str) -> bool:
        """Whether a living process carries the roll out."""

    def carrier(self, roll_id: str) -> Carrier | None:
        """The process that carries a roll out, as its leases tell; None where none does."""

    def request_hold(self, roll_id: str, reason: str, now: bool = False) -> None:
        """Ask a roll to hold: at its next safe stop, or `now`, once the act under way has ended."""

    def refuse_open(self, plan: Plan, but: str | None = None) -> None:
        """Raise `Refused` while an open roll has one of the plan's systems, `but` for one that ends with it."""

    def new_roll(
        self, plan: Plan, now: datetime, waiting: Callable[[str], None] = ...
    ) -> AbstractContextManager[OneRoll]:
        """A new roll of a plan, with the leases of its systems. Raises `Refused`."""

    def take_up(self, roll_id: str, waiting: Callable[[str], None] = ...) -> AbstractContextManager[OneRoll]:
        """The journal of a roll, with the leases of its systems. Raises `Refused`."""

    def witness(self, seq: int, digest: str) -> None:
        """Note the ledger's newest entry here, so that an end that was cut off there is seen."""

    def witnessed(self) -> tuple[int, str] | None:
        """Number and hash of the newest entry of the ledger that was noted here; None where none was."""

    def keep_copy(self) -> None:
        """Keep the journal twice as it is now. Raises `GallantError`."""

    def close(self) -> None:
        """Let go of the files."""


class Stock(Protocol):
    """Packages that lie here, verified. How one is brought is the stock's own business."""

    @property
    def bytes(self) -> int:
        """All that lies here, in bytes."""

    def path(self, name: str, sha256: str) -> Path:
        """Where a package lies, or would."""

    def has(self, package: Package) -> bool:
        """Whether a package lies here whole, by name and size."""

    def verified(self, name: str, sha256: str) -> bool:
        """Whether a file's bytes, read now, have the digest."""

    def held(self) -> list[PackageHeld]:
        """All packages that lie here."""

    def take_in(self, source: Path, name: str, sha256: str, vouched: str | None) -> Path:
        """Copy a file that was carried in, whole or not at all; `vouched` is who answers for one that no catalog
        knows."""

    def vouched(self, name: str, sha256: str) -> str | None:
        """Who answers for a package that no catalog knows; None where nobody does."""

    def remove(self, name: str, sha256: str) -> None:
        """Take a package away, with the word of whoever answered for it."""

    def unfinished(self) -> list[Path]:
        """What broke off and was never carried on."""
