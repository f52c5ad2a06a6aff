"""Findings, and the facts that checks look at."""

from __future__ import annotations

from datetime import datetime

from gallant.core.assess.issues import Concern
from gallant.core.catalog.products import Package
from gallant.core.estate.backups import Backup
from gallant.core.estate.snapshots import RestorePoint
from gallant.core.estate.systems import Limits, Note, System
from gallant.core.outages import Sample
from gallant.core.readings import Alarm, Reading
from gallant.core.records import Record

LEVELS = ("stop", "warn", "note", "pass")


class Rescue(Record):
    """Another way into a node: which (empty: none), and whether it answered (None: it was not tried)."""

    how: str
    answers: bool | None = None
    why: str = ""


class Followed(Record):
    """A source of catalogs, and how it was found when it was last asked."""

    name: str
    state: str | None
    why: str | None = None


class Finding(Record):
    """A check's result: level stop, warn, note or pass; `evidence` are the values seen, `next` the exact next command.

    `mend` names the action by which Gallant can clear it; `waived` says who accepted the warning, why and until when.
    """

    check: str
    level: str
    system: str
    node: str | None = None
    message: str
    evidence: str = ""
    next: str | None = None
    mend: str | None = None
    waived: str | None = None


class BookedTime(Record):
    """When somebody said that a notice may be carried out."""

    notice: str
    start: datetime
    end: datetime


class HalfRestored(Record):
    """A node onto which a restore was begun that did not end well: cut off, or failed on the way."""

    node: str
    backup: str
    began: datetime
    why: str


class SnapshotRoom(Record):
    """The room for a restore point where it will lie, in bytes; `free` None: what keeps it does not tell."""

    keeper: str
    free: float | None
    needed: float


class RouteFacts(Record):
    """Of the way to the aim: `wanted` are its packages, `missing` those of them that are not in stock,
    `unkept` the running release's own package when it is offered and not in stock. `entering` are the
    releases that are entered, `recalled` those of them, or of the running ones, that were, with the
    publisher's words. `notes` are the site's own on it, `issues` known ones, `terms` those that nobody has
    accepted yet, `conflicts` requirements that do not hold. From `no_snapshots_from` on no snapshot can be
    taken. `needed_s` is how long the work takes; `plan` the next step towards a plan that is not refused.
    """

    wanted: tuple[Package, ...] = ()
    missing: tuple[str, ...] = ()
    unkept: tuple[str, ...] = ()
    notes: tuple[Note, ...] = ()
    issues: tuple[Concern, ...] = ()
    terms: tuple[str, ...] = ()
    entering: tuple[str, ...] = ()
    recalled: dict[str, str] = {}
    conflicts: tuple[str, ...] = ()
    no_snapshots_from: str | None = None
    needed_s: float | None = None
    plan: str | None = None


class Unattended(Record):
    """A secret that is not there when nobody is at a terminal: whose (`purpose` of an account), and where it is kept
    (`kind`: ask, agent, keyring or env, and of that the variable)."""

    purpose: str
    kind: str
    where: str = ""


# Why a secret of each kind is not there, in words.
UNATTENDED = {
    "ask": "its secret has to be typed",
    "agent": "its key is in an agent, which a timer does not reach",
    "keyring": "its secret is in a keyring, which may be locked",
    "env": "its secret is in ${where}, which a timer has only from secrets/timer.env",
}


class AroundFacts(Record):
    """Of what lies around a system: `rescue` is the other way into each node; `own_path` in what Gallant itself stands
    on the system; `copy_places` where backups are copied to; `booked` the next booking; `half_restored` what the ledger
    tells of restores; `writable` what of the estate's own files others than their owner can write; `unattended` the
    secrets that are not there at night, where something is booked or acts by itself.
    """

    backups: tuple[Backup, ...] = ()
    copy_places: tuple[str, ...] = ()
    snapshots: tuple[RestorePoint, ...] = ()
    can_snapshot: bool | None = None
    snapshot_room: SnapshotRoom | None = None
    can_export: bool | None = None
    sources: tuple[Followed, ...] = ()
    channels_unknown_here: bool = False
    rescue: dict[str, Rescue] = {}
    own_path: tuple[str, ...] = ()
    open_roll: str | None = None
    booked: BookedTime | None = None
    half_restored: tuple[HalfRestored, ...] = ()
    writable: tuple[str, ...] = ()
    unattended: tuple[Unattended, ...] = ()


class AskedFacts(Record):
    """What only asking tells. `tested` is what each node's own readiness test for the next
    release found, `announced` the minutes that it says the work will take; `may_act` is, by node,
    why the account for the work was not let in (None: it was); `probes` are by service.
    """

    tested: dict[str, tuple[Alarm, ...]] = {}
    announced: dict[str, float] = {}
    may_act: dict[str, str | None] = {}
    probes: dict[str, Sample] = {}


class Facts(Record):
    """What is known of one system at one moment, in groups: each is gathered by who needs it.

    `errors` are by node, for those that could not be read, `remedies` what to do
    about them; `alike` names nodes that answer as another node of the estate.
    """

    system: System
    readings: dict[str, Reading]
    errors: dict[str, str]
    now: datetime
    limits: Limits
    alike: dict[str, str] = {}
    remedies: dict[str, str] = {}
    route: RouteFacts = RouteFacts()
    around: AroundFacts = AroundFacts()
    asked: AskedFacts = AskedFacts()

    @property
    def name(self) -> str:
        """The system's name."""
        return self.system.name


def finding(
    facts: Facts, level: str, message: str, evidence: str = "", next: str | None = None, node: str | None = None
) -> Finding:
    """A finding on the system that the facts are of; `run_checks` puts the name of its check in."""
    return Finding(check="", level=level, system=facts.name, node=node, message=message, evidence=evidence, next=next)
