"""Findings, and the facts that checks look at."""

from __future__ import annotations

from datetime import datetime

from gallant.core.assess.issues import Concern
from gallant.core.assess.outages import Sample
from gallant.core.catalog.products import Package
from gallant.core.estate.backups import Backup
from gallant.core.estate.snapshots import Kept
from gallant.core.estate.systems import Limits, Note, System
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


class Booking(Record):
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


class Facts(Record):
    """What is known of one system at one moment.

    `errors` are by node, for those that could not be read; `alike` names nodes that answer as another node of the
    estate. `wanted` are the packages of the route, `missing` those of them that are not in stock, `unkept` the running
    release's own package when it is offered and not in stock. `probes` are by service. `notes` are the site's own on the
    way ahead, `issues` the known issues of the releases to be entered, `terms` those that nobody has accepted yet. `tested` is what each node's own readiness test
    for the next release found, `announced` the minutes that it says the work will take. `may_act` is, by node, why the
    account for the work was not let in (None: it was); `rescue` the other way into each node. `entering` are the releases
    of the route, `recalled` those of them, or of the running ones, that were, with the publisher's words. `own_path` says
    in what Gallant itself stands on the system; `copy_places` are where backups are copied to. `booked` is the next booking, `needed_s` the length of the work; `half_restored` what the ledger tells of restores; `writable` what of
    the estate's own files others than their owner can write.
    """

    system: System
    readings: dict[str, Reading]
    errors: dict[str, str]
    now: datetime
    limits: Limits
    alike: dict[str, str] = {}
    backups: tuple[Backup, ...] = ()
    wanted: tuple[Package, ...] = ()
    missing: tuple[str, ...] = ()
    unkept: tuple[str, ...] = ()
    probes: dict[str, Sample] = {}
    open_roll: str | None = None
    notes: tuple[Note, ...] = ()
    issues: tuple[Concern, ...] = ()
    terms: tuple[str, ...] = ()
    tested: dict[str, tuple[Alarm, ...]] = {}
    announced: dict[str, float] = {}
    may_act: dict[str, str | None] = {}
    rescue: dict[str, Rescue] = {}
    sources: tuple[Followed, ...] = ()
    channels_unknown_here: bool = False
    conflicts: tuple[str, ...] = ()
    entering: tuple[str, ...] = ()
    recalled: dict[str, str] = {}
    snapshots: tuple[Kept, ...] = ()
    can_snapshot: bool | None = None
    can_export: bool | None = None
    no_snapshots_from: str | None = None
    copy_places: tuple[str, ...] = ()
    own_path: tuple[str, ...] = ()
    booked: Booking | None = None
    needed_s: float | None = None
    half_restored: tuple[HalfRestored, ...] = ()
    writable: tuple[str, ...] = ()

    @property
    def name(self) -> str:
        return self.system.name


def finding(
    facts: Facts, level: str, message: str, evidence: str = "", next: str | None = None, node: str | None = None
) -> Finding:
    return Finding(check="", level=level, system=facts.name, node=node, message=message, evidence=evidence, next=next)
