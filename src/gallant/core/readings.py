"""What a node said about itself at one moment. Past the drivers a reading is right: unknown words are `unknown`."""

from __future__ import annotations

import ipaddress
import re
from datetime import UTC, datetime

from gallant.core.records import Moment, Record, check_moments, replace

IN_SERVICE = "in_service"
UNKNOWN = "unknown"
IMAGE = "image"
# What has a version of its own on a node; a device word that is none of these is `unknown`.
COMPONENT_KINDS = (
    "system image",
    "BIOS",
    "management controller",
    "NIC",
    "disk",
    "enclosure module",
    "OS package",
    "add-on module",
    "container image",
    "reference data",
    "on-disk format",
    UNKNOWN,
)


# What holds nothing but texts and numbers does not concern the garbage collector: an estate has a million of them.
class Component(Record, gc=False):
    """A thing on a node that has its own version; the node's own system image is named `image`. What it is as a piece
    of hardware (`serial`, `model`, `part_number`) is told where the device tells it."""

    name: str
    kind: str
    product: str
    version: str
    next_version: str | None = None
    build: str | None = None
    serial: str | None = None
    model: str | None = None
    part_number: str | None = None

    @property
    def bare(self) -> Component:
        """What runs on it, without which piece it is: alike on nodes that run the same."""
        return replace(self, serial=None, model=None, part_number=None)


class PackagePresent(Record, gc=False):
    """A package that lies on a node, no matter who put it there; `sha256` by the node's own computation."""

    name: str
    sha256: str
    bytes: int


class AtHand(Record, gc=False):
    """A version of a component that the node could be given from its own channels, or from what it kept."""

    name: str
    version: str


class Job(Record, gc=False):
    """Work that a device does or did: `state` is running, paused, done or failed; `percent` 0 to 100."""

    id: str
    kind: str
    state: str
    percent: float = 0
    message: str = ""
    release: str | None = None
    remaining_s: float | None = None


class Facet(Record, gc=False):
    """One named condition that should be the same after the work as before it."""

    name: str
    state: str


SPEED = "speed of"  # begins the name of a gauge of which less is a loss
# A facet that is a way to others, by its name, and the words in which
# such a one is well, or down because somebody wants it so.
LINKS = re.compile(r"(?:peer link|uplink|path|link|interface)(?![a-z])", re.IGNORECASE)
LINK_WELL = frozenset({"up", "active", "optimal", "connected", "ok", "enabled"})
DOWN_ON_PURPOSE = frozenset({"disabled", "not used", "standby"})
# The facet that tells whether a node would start with the configuration that it runs, and its states.
RUNNING, SAVED, UNSAVED = "running configuration", "saved", "unsaved"


class Channel(Record, gc=False):
    """A source of packages on a host. `enabled` is the host's own setting; `state` is reachable, unreachable,
    unauthenticated or unknown."""

    name: str
    enabled: bool = True
    state: str = UNKNOWN
    why: str = ""

    @property
    def delivers(self) -> bool:
        return self.enabled and self.state == "reachable"


class Alarm(Record, gc=False):
    """Something that a node itself complains of; `level` is note, warn, stop or unknown.

    `check` is the id of the check of its profile that found it, and `next` what that check says to do.
    """

    text: str
    level: str = UNKNOWN
    check: str | None = None
    next: str | None = None


class Expiry(Record, gc=False):
    """Something of a node that ends: `kind` is password, account, certificate or licence."""

    name: str
    kind: str
    ends: Moment

    def __post_init__(self) -> None:
        check_moments(ends=self.ends)


class Snapshot(Record, gc=False):
    """A restore point that a node, or the host below it, keeps; `of` is the guest that a host's is of."""

    name: str
    taken: Moment
    bytes: int | None = None
    of: str | None = None

    def __post_init__(self) -> None:
        check_moments(taken=self.taken)


RUNS = frozenset({"runs", "running", "started", "powered on"})  # the words in which a guest is well


class Guest(Record, gc=False):
    """What a host carries: its `state` in the host's words, and why it cannot move
    from this host (`tied`; empty where it can, as far as the host says)."""

    name: str
    state: str
    tied: str = ""

    @property
    def runs(self) -> bool:
        return self.state.lower() in RUNS


class Gauge(Record, gc=False):
    """One number with its unit."""

    name: str
    value: float
    unit: str


class Logged(Record, gc=False):
    """An entry of a node's own log: `at` in its words, `level` note, warn, stop or unknown."""

    text: str
    level: str = UNKNOWN
    at: str = ""


class Closely(Record):
    """What a node says of what lies around its work, read only to be compared: links, disks, fans, ports, mounts,
    routes and the like; and the newest entries of its log that are worth a look. `error`: it could not be read."""

    facets: tuple[Facet, ...] = ()
    gauges: tuple[Gauge, ...] = ()
    log: tuple[Logged, ...] = ()
    error: str = ""


class Reading(Record):
    """A node at one moment. Versions are the device's own texts; `boot` changes with every start.

    `in_sync` is None where the node holds no replica. `clock_offset_s` is the device's clock less ours, known to
    within `clock_uncertainty_s`. `network` is the node's own subnet in prefix notation; `answers_for` are the
    addresses besides its own that it answers for (None: it does not say). `offers` are the versions that the
    device's own list of updates has (None: it keeps none); `channels` a host's sources of packages (None: it is
    not a host with any). `snapshots` are the restore points that it keeps (None: it does not say). Where it lists
    no work, and so nothing of an order can be seen before it has restarted, `tells_work` is false. `other_slot`
    is the release in the slot that it does not run from (None: it has none, or does not say). `reach`: whether an
    order reaches this node alone (`one`) or every node of the system (`all`), as a device's operating mode has it
    (None: it has no such modes). `guests` are what it carries, where it is a host (None: it is none, or does not
    say). `at_hand` are other versions of its components that the node could be given, by its own channels or by
    what it kept (None: it does not say); what it runs it could be given again, but for the components that are
    `not_at_hand`. `closely` is there where it was read to be compared with another reading. `oddities` are the
    ways in which the device did not speak as its protocol has it, and was understood all the same.
    """

    system: str
    node: str
    taken: datetime
    serial: str
    product: str
    version: str
    boot: str
    role: str = UNKNOWN
    state: str = UNKNOWN
    build: str | None = None
    next_version: str | None = None
    other_slot: str | None = None
    in_sync: bool | None = None
    sync_word: str = ""
    sync_remaining_s: float | None = None
    model: str | None = None
    network: str | None = None
    answers_for: tuple[str, ...] | None = None
    clock_offset_s: float | None = None
    clock_uncertainty_s: float | None = None
    components: tuple[Component, ...] = ()
    packages: tuple[PackagePresent, ...] = ()
    jobs: tuple[Job, ...] = ()
    facets: tuple[Facet, ...] = ()
    gauges: tuple[Gauge, ...] = ()
    offers: tuple[str, ...] | None = None
    channels: tuple[Channel, ...] | None = None
    part_number: str | None = None
    alarms: tuple[Alarm, ...] = ()
    expiries: tuple[Expiry, ...] = ()
    oddities: tuple[str, ...] = ()
    snapshots: tuple[Snapshot, ...] | None = None
    tells_work: bool = True
    reach: str | None = None
    closely: Closely | None = None
    guests: tuple[Guest, ...] | None = None
    at_hand: tuple[AtHand, ...] | None = None
    not_at_hand: tuple[str, ...] = ()

    @property
    def name(self) -> str:
        return f"{self.system}/{self.node}"

    def gauge(self, name: str) -> float | None:
        return next((g.value for g in self.gauges if g.name == name), None)

    def versions_at_hand(self, component: str) -> tuple[str, ...]:
        """The versions of a component that the node could be given,
        what it runs among them; none where it does not say."""
        if self.at_hand is None:
            return ()
        own = (p.version for p in self.components if p.name == component and component not in self.not_at_hand)
        return (*own, *(one.version for one in self.at_hand if one.name == component))

    @property
    def links(self) -> tuple[Facet, ...]:
        """The facets that are ways to others, without those that are down because somebody wants it so."""
        return tuple(f for f in self.facets if LINKS.match(f.name) and f.state.lower() not in DOWN_ON_PURPOSE)

    @property
    def links_up(self) -> tuple[str, ...]:
        return tuple(f.name for f in self.links if f.state.lower() in LINK_WELL)

    @property
    def unsaved(self) -> bool:
        """Whether a restart would lose what was configured: the node runs what it would not start with."""
        return any(f.name == RUNNING and f.state == UNSAVED for f in self.facets)

    def in_own_network(self, address: str) -> bool | None:
        """Whether an address lies in the node's own subnet; None where that cannot be told."""
        try:
            return ipaddress.ip_address(address) in ipaddress.ip_network(self.network or "", strict=False)
        except ValueError:
            return None

    @property
    def running_jobs(self) -> tuple[Job, ...]:
        return tuple(job for job in self.jobs if job.state in ("running", "paused"))

    @property
    def healthy(self) -> bool:
        """In service, its replica (where it has one) whole, and nothing running on it."""
        return not self.why_unwell

    @property
    def why_unwell(self) -> str:
        """What keeps the node from being healthy, the worst of it; nothing where it is."""
        if self.state != IN_SERVICE:
            return self.state
        if self.in_sync is False:
            return f"its replica is {self.sync_word or 'not whole'}"
        return next((f"busy: {job.kind} ({job.message})" for job in self.running_jobs), "")


class HeldSurvey(Record):
    """One survey that was held; `whole` when every node had answered or failed."""

    number: int
    began: datetime
    ended: datetime | None
    whole: bool


class Last(Record):
    """The last good reading of a node, and how the newest try ended (`error` None: it is the reading itself)."""

    reading: Reading | None
    tried: datetime
    error: str | None


def lasting(reading: Reading) -> Reading:
    """The reading without what differs each time it is asked: the moment, gauges,
    clock, jobs, what is left to sync, what is only read to be compared."""
    return replace(
        reading,
        taken=_NO_MOMENT,
        clock_offset_s=None,
        clock_uncertainty_s=None,
        sync_remaining_s=None,
        gauges=(),
        jobs=(),
        closely=None,
    )


_NO_MOMENT = datetime(1970, 1, 1, tzinfo=UTC)
