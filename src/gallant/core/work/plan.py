"""Plans as values: lanes, hops, waves, tracks and steps. How one is made is in core/work/planning.py.

A plan is a document named by the hash of its content.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from datetime import datetime
from typing import Annotated, Any, TypeAlias

import msgspec

from gallant.core.catalog.products import Minutes, NewSetting, Package
from gallant.core.errors import GallantError
from gallant.core.estate.stacks import Upper
from gallant.core.estate.systems import System
from gallant.core.readings import IMAGE
from gallant.core.records import Record, as_read_back, digest, replace
from gallant.core.versions import parse_range
from gallant.core.work.learning import Pace, Spread


class Brought(Record):
    """A component that runs a release after some step."""

    component: str
    product: str
    version: str


class Step(Record):
    """The smallest unit that is journalled.

    `expects` is the observable condition that makes it done, in words; `disturbs` the nodes it may take out;
    `repeat` is `safe`, `if_absent` or `never`; `deadline_s` and `estimate_s` are seconds of estate time;
    `interrupts_s` is how long the service address may be unreachable; `safe_stop_s` how long the system may be
    left after it (None: not). `anew` are guests that are started anew on another node by it, each with for how
    many seconds it is down. `reverts`: its undo is to revert to the restore point. `aside`: its node was taken
    out of service before it, and comes back only after it. A step that is `alone` is judged by its own node:
    the others, which nobody depends on, may be in the midst of theirs. `task` is what a person does, in the
    words of the person who asked for it. `component` is what the step is about, of which `product` and `to`
    the release; `brings` are the components that run their release once it is done, besides the image.
    """

    id: str
    hop: str
    kind: str
    system: str
    node: str
    component: str = IMAGE
    product: str = ""
    to: str
    brings: tuple[Brought, ...] = ()
    guards: tuple[str, ...]
    expects: str
    disturbs: tuple[str, ...] = ()
    anew: dict[str, float] = {}
    repeat: str = "if_absent"
    deadline_s: float
    estimate_s: float
    interrupts_s: float = 0
    undo: str | None = None
    reverts: bool = False
    safe_stop_s: float | None = None
    package: str | None = None
    sha256: str | None = None
    bytes: int = 0
    ends_node: bool = False
    despite_recall: bool = False
    alone: bool = False
    aside: bool = False
    task: str = ""

    @property
    def subject(self) -> str:
        return f"{self.system}/{self.node}"


class Track(Record):
    """One node's steps within a wave, one after the other."""

    node: str
    steps: tuple[Step, ...]


class Wave(Record):
    """Tracks that may go on together. `why` says what the wave is for."""

    why: str
    tracks: tuple[Track, ...]


class Part(Record, rename={"from_": "from"}):
    """A component that a hop brings to a release, on every node on which it is older.

    `restart` is what it takes until that runs: none, service, or node (it waits for its node's
    restart, and shares it). Where it is `in_turn`, its node is worked on when its turn comes and
    nothing depends on it; else on all nodes ahead of that. `raised`: it is the format of data,
    which is raised and not installed. `package` is None where the device brings it by itself.
    """

    component: str
    kind: str
    product: str
    from_: str
    to: str
    restart: str
    in_turn: bool
    raised: bool = False
    install_s: float
    package: Package | None = None
    one_way_because: str | None = None
    channel: str | None = None

    @property
    def waits(self) -> bool:
        """Whether it runs only from the next restart of its node on."""
        return self.restart == "node"


class Hop(Record, rename={"from_": "from"}):
    """One release to the next on every node of the lane; `needs` are hops of any lane that must be finished first.

    `parts` are the components that go with it, in their order. Where the image stays as it is (not `image`), `from` and
    `to` are what it runs, and the hop is of its parts alone. `nodes` are those that were chosen, where not all were.
    `wish` is a person's order of nodes. `restore_point`: a snapshot of the system is taken before anything is
    disturbed; `snapshots`: the release that is entered can be snapshotted too.

    `back`: it leads back to what ran before, so what runs something newer is worked on. Then `returns` are nodes that
    were taken out of service and are only taken back, and with `rewinds` the system goes back as a whole, to the
    restore point that was taken before that release.

    `restarts`: every node is restarted as it is; `by_hand` is what a person does at each of them, one after the other.

    Where the machines below are to be restarted too, one restart serves both: `lays` only installs the release on every
    node, the hop of the machines `serves` (the systems above by name, each with the release that it starts with then),
    and a hop that is `served` looks that all of it runs and does what is left.

    `renews_spare`: when all of it is whole on the release, the nodes' spare slots are brought to it too; then nothing
    older is left there. `settings` are new in the image's release. `channels` are, by node, those that are closed there
    and opened for the work. `paces` are, by the key of a step, what was learned of how long it really takes; `patience`
    by which factor each of its steps may take longer than one that stands alone (core/work/patience.py).
    """

    id: str
    system: str
    from_: str
    to: str
    image: bool = True
    parts: tuple[Part, ...] = ()
    build: str | None = None
    one_way: bool = False
    one_way_because: str | None = None
    snapshots: bool = True
    restore_point: bool = False
    package: Package | None = None
    despite_recall: bool = False
    needs: tuple[str, ...] = ()
    nodes: tuple[str, ...] = ()
    wish: tuple[str, ...] = ()
    back: bool = False
    returns: tuple[str, ...] = ()
    rewinds: str | None = None
    restarts: bool = False
    by_hand: str = ""
    lays: bool = False
    serves: dict[str, str] = {}
    served: bool = False
    renews_spare: bool = False
    settings: tuple[NewSetting, ...] = ()
    channels: dict[str, tuple[str, ...]] = {}
    paces: dict[str, Pace] = {}
    patience: float = 1.0
    waves: tuple[Wave, ...]


UPDATE, BACKOUT, RESTART, BY_HAND, DEVICE_LED = "update", "backout", "restart", "by hand", "device-led"  # kinds of lane


def brought(hop: Hop) -> str:
    """What a hop brings: the image's way, and those of the components that go with it."""
    if hop.restarts or hop.by_hand:
        return f"{hop.to}, as it is"
    if hop.lays:
        return f"{hop.to} laid beside {hop.from_}"
    if hop.served:
        return f"{hop.from_} → {hop.to}, entered with its machines"
    image = [f"{hop.from_} → {hop.to}"] if hop.image else []
    parts = [f"{p.component} {p.from_} → {p.to}" for p in hop.parts]
    return "  ".join([*image, *parts]) or f"{hop.to}, back in service"


class Back(Record):
    """The way back of a lane's system once a step is done, as a back-out finds it then: what it `does` on the step's
    node first, and for how long it goes on in all; or `why` there is none from what the step itself did; `waits` is
    what it would have to wait for first, since no order of nodes is safe at that moment. The step alters a `component`
    of the system's own nodes, or (empty) something that others ask something of."""

    step: str
    component: str = ""
    does: str = ""
    lasts_s: float = 0
    why: tuple[str, ...] = ()
    waits: str = ""

    @property
    def is_barred(self) -> bool:
        """Whether an earlier step has left no way back already."""
        return not (self.does or self.why or self.waits)


class NodesFate(Record):
    """What becomes of the nodes that stand on one that is emptied: those that are down until it is taken back, and
    those that are started anew elsewhere, each with for how many seconds it is down. All others move, and run on."""

    down: tuple[str, ...] = ()
    anew: dict[str, float] = {}


class Down(Record):
    """A guest of a node (by its full name) that is down for so many seconds by the work on that: it is started anew
    `elsewhere`, or stays there, since it cannot move (`why`, in its host's words) or its host moves none."""

    node: str
    guest: str
    down_s: float
    why: str = ""
    elsewhere: bool = False


class Lane(Record):
    """One system's part of a plan. Where nothing of a system carries on while a node is away, `down_s` is for how
    long its service is down in all, and `hit` who depends on it. `windows` is empty where the estate declares
    none; `slots` is how many places for a system image each node has, by its profile. `left` are components that
    are behind and not in it, each with the reason; `mute` the nodes that show nothing of an order before they
    have restarted. `also` are systems that stand on it and are taken along where they have to; of those, `falls`
    are down with it, each for so many seconds in all. `due` has by node what was configured and waits to be
    applied, `closed` the channels that something of it comes through and that are disabled there, where nothing
    opens them. `loses` are the nodes of which a restart loses what was configured and never saved, where nothing
    of the lane saves it. `guests` are what is down meanwhile of what its nodes carry. `stops_by` is what stops a
    device that works on its nodes by itself: `pause`, `cancel`, or nothing (an empty text); None where Gallant
    works on them one by one. `back` has the way back from each step that alters what a node runs."""

    system: str
    kind: str = UPDATE
    stops_by: str | None = None
    slots: int = 1
    hops: tuple[Hop, ...]
    windows: tuple[str, ...] = ()
    down_s: float = 0
    hit: tuple[str, ...] = ()
    left: dict[str, str] = {}
    mute: tuple[str, ...] = ()
    also: tuple[str, ...] = ()
    falls: dict[str, float] = {}
    due: dict[str, tuple[str, ...]] = {}
    closed: dict[str, tuple[str, ...]] = {}
    loses: tuple[str, ...] = ()
    guests: tuple[Down, ...] = ()
    back: tuple[Back, ...] = ()

    @property
    def one_way(self) -> tuple[str, ...]:
        """Why there is no way back from what its own steps do, each reason once."""
        return tuple(dict.fromkeys(why for back in self.back if back.component for why in back.why))

    @property
    def enters(self) -> bool:
        """Whether it takes its system to its aim."""
        return self.kind in (UPDATE, DEVICE_LED)

    @property
    def by_device(self) -> bool:
        """Whether the device brings its nodes to a release by itself."""
        return self.stops_by is not None


class Basis(Record):
    """What must match at the roll. `nodes` and `versions` are by node, `releases` and `profiles` are digests; `estate`
    is its identity, which two estates of one name do not share."""

    estate: str = ""
    nodes: dict[str, str]
    shapes: dict[str, str]
    runs_on: dict[str, str]
    versions: dict[str, str]
    releases: dict[str, str]
    profiles: dict[str, str]


class Round(Record):
    """Systems of a plan whose lanes go side by side; after them all is left alone for `soak_s` and looked at again. The
    roll holds where more than `may_fail` of the lanes did not finish."""

    name: str
    systems: tuple[str, ...]
    soak_s: float = 0
    may_fail: int = 0


class Plan(Record):
    """The ordered work, named by its content: `id` is the hash of everything else.
    `undoes` is the roll whose work it takes back, `reason` why somebody wants what no aim
    asks for; `spread` how long it may take, by what was known when it was made."""

    schema: str = "gallant.plan/1"
    id: str = ""
    made: datetime
    by: str
    estate: str
    basis: Basis
    lanes: tuple[Lane, ...]
    rounds: tuple[Round, ...] = ()
    undoes: str | None = None
    reason: str = ""
    spread: Spread | None = None

    def named(self) -> Plan:
        """The plan under the name that its content gives it, as it comes back from a file."""
        plain = as_read_back(replace(self, id=""))
        return replace(plain, id=f"plan-{digest(plain)[:12]}")

    @property
    def digest(self) -> str:
        """SHA-256 of all of its content, in hexadecimal; its name has the first twelve digits."""
        return digest(as_read_back(replace(self, id="")))

    @property
    def is_whole(self) -> bool:
        """Whether the content still is what the name says."""
        return self.id == self.named().id

    @property
    def systems(self) -> tuple[str, ...]:
        return tuple(lane.system for lane in self.lanes)

    @property
    def every(self) -> tuple[str, ...]:
        """The systems of its lanes, and those that stand on them and are taken along."""
        return tuple(dict.fromkeys([*self.systems, *(name for lane in self.lanes for name in lane.also)]))

    @property
    def down_s(self) -> dict[str, float]:
        """The systems of which nothing carries on for a while, and for how long in
        all, whether their own lane says so or that of what they stand on."""
        found: dict[str, float] = {}
        for lane in self.lanes:
            for name, seconds in [(lane.system, lane.down_s), *lane.falls.items()]:
                if seconds:
                    found[name] = found.get(name, 0.0) + seconds
        return found

    def steps(self) -> Iterator[Step]:
        for lane in self.lanes:
            for hop in lane.hops:
                yield from steps_of(hop.waves)

    @property
    def ends_s(self) -> dict[str, float]:
        """When each hop ends, in seconds from the start."""
        return hop_ends(self.lanes, lambda hop: waves_seconds(hop.waves), self.rounds)

    @property
    def estimate_s(self) -> float:
        return max(self.ends_s.values(), default=0)


Seconds: TypeAlias = Any  # a number; or an array, of one for each of many nights that could be
Latest: TypeAlias = Callable[[Sequence[Seconds]], Seconds]


def hop_ends(
    lanes: Sequence[Lane], lasts_s: Callable[[Hop], Seconds], rounds: Sequence[Round] = (), latest: Latest = max
) -> dict[str, Seconds]:
    """When each hop ends, in seconds from now: lanes run side by side, hops one after the other and after those they
    need, a round after the one before it and its soak time. `latest` says the later of several."""
    ends: dict[str, Seconds] = {}
    begins: Seconds = 0.0
    for together in rounds or (Round(name="", systems=tuple(lane.system for lane in lanes)),):
        left = [list(lane.hops) for lane in lanes if lane.system in together.systems]
        at: dict[int, Seconds] = dict.fromkeys(range(len(left)), begins)
        while any(left):
            ready = [n for n, hops in enumerate(left) if hops and all(need in ends for need in hops[0].needs)]
            for n in ready or [n for n, hops in enumerate(left) if hops][:1]:
                hop = left[n].pop(0)
                since = latest([at[n], *(ends.get(need, 0.0) for need in hop.needs)])
                ends[hop.id] = at[n] = since + lasts_s(hop)
        begins = latest([begins, *at.values()]) + together.soak_s
    return ends


def shape_words(system: System) -> str:
    """The shape, and whether anybody depends on it: a plan made for machines in preparation is not for ones in
    service."""
    return system.shape if system.in_service else f"{system.shape}, not in service"


def steps_of(waves: Sequence[Wave]) -> Iterator[Step]:
    for wave in waves:
        for track in wave.tracks:
            yield from track.steps


def waves_seconds(
    waves: Sequence[Wave], lasts_s: Callable[[Step], Seconds] = lambda step: step.estimate_s, latest: Latest = max
) -> Seconds:
    """Waves one after the other, tracks of a wave side by side."""
    return sum(latest([sum(map(lasts_s, t.steps)) for t in wave.tracks]) for wave in waves if wave.tracks)


class NothingToDo(GallantError):
    """Every one of the selected `systems` runs what its aim asks for,
    but for what is `left` (why, by system and component)."""

    exit_code = 0

    def __init__(
        self,
        what: str,
        why: str | None = None,
        next: str | None = None,
        systems: Sequence[str] = (),
        left: Mapping[str, Mapping[str, str]] | None = None,
    ) -> None:
        super().__init__(what, why, next)
        self.systems, self.left = tuple(systems), left or {}


# The stages in which a node comes back.
STAGES = ANSWERS, SERVES, LINKS, IN_SYNC = "answers", "serves", "links", "in sync"
Within = Annotated[float, msgspec.Meta(gt=0, le=86400)] | None


# --- what a plan is made with, and what a person has to accept


class Returns(Record):
    """For how long each part of a node's return may take, in seconds of estate time, by its
    profile (None: it does not say): until it `answers` after an order that takes it away, is in
    service (`serves`) after that, has the `links` up again that were, and is `in_sync`."""

    answers_within_s: Within = None
    serves_within_s: Within = None
    links_within_s: Within = None
    in_sync_within_s: Within = None

    def of(self, stage: str) -> float | None:
        known = {ANSWERS: self.answers_within_s, SERVES: self.serves_within_s, LINKS: self.links_within_s}
        return known.get(stage, self.in_sync_within_s if stage == IN_SYNC else None)

    @property
    def longest_s(self) -> float:
        return max((s for s in map(self.of, STAGES) if s is not None), default=0.0)


ONE, ALL = "one", "all"  # whom an order reaches
# What becomes of the guests of a node that is emptied: they run on elsewhere,
# are started anew elsewhere, or are down until it takes them again.
MOVE, ELSEWHERE, STAY = GUESTS = ("move", "restart", "stay")


class Migration(Record):
    """What bringing some releases (a VERS range; empty: any) of one component does to another by itself: that comes to
    a release too, and there is no way back from it but a backup."""

    component: str
    to: str
    releases: str = ""

    def __post_init__(self) -> None:
        if self.releases:
            parse_range(self.releases)


class Knows(Record):
    """What a system's driver, with its profile, knows: its capabilities, how each of its acts may be
    repeated where the profile says so (`safe`, `if_absent`, `never`), and how many places for a system image
    each node has. `keeps_guests`: its snapshots are of the guests that it carries, not of itself; `guests`
    is what becomes of those when a node is emptied (one of `GUESTS`). `parts` are the components that it can
    bring to another release, each by its name, its kind, or the start of its name with a `*` (a `!` before a
    name: not that one); `fetches` those (in the same words) whose package the device brings by itself,
    `goes_back` those of them that it brings older releases of too; `migrates` what bringing some of them
    does to others; `image_from` components from which the image has its version, as a host has it from one
    of its packages. `reach`: whether an order reaches one node or `all`, by the mode that the nodes are in."""

    capabilities: frozenset[str]
    repeat: dict[str, str] = {}
    slots: int = 1
    keeps_guests: bool = False
    guests: str = STAY
    parts: tuple[str, ...] = ()
    fetches: tuple[str, ...] = ()
    goes_back: tuple[str, ...] = ()
    migrates: dict[str, tuple[Migration, ...]] = {}
    image_from: tuple[str, ...] = ()
    reach: str | None = None
    returns: Returns = Returns()

    @property
    def updates_all(self) -> bool:
        """Whether the device brings all of its nodes to a release by one order."""
        return "update_all" in self.capabilities and self.reach != ONE

    def brings(self, component: str, kind: str) -> bool:
        return f"!{component}" not in self.parts and any(_is_meant(word, component, kind) for word in self.parts)

    def brings_older(self, component: str, kind: str) -> bool:
        return any(_is_meant(word, component, kind) for word in self.goes_back)

    def migrations(self, component: str, kind: str) -> tuple[Migration, ...]:
        """What bringing a component may do to others."""
        return tuple(one for word, ones in self.migrates.items() if _is_meant(word, component, kind) for one in ones)

    def is_fetched(self, component: str, kind: str) -> bool:
        return any(_is_meant(word, component, kind) for word in self.fetches)


def _is_meant(word: str, component: str, kind: str) -> bool:
    return word in (component, kind) or (word.endswith("*") and component.startswith(word[:-1]))


class HopWork(Record):
    """What the waves of a hop are made from, besides the roles.

    `to` is the image's release and `minutes` the publisher's word on it; where the image stays as it is (not `image`),
    those of the `parts` stand for it. Where a device keeps no packages its install brings the package along.
    `restore_point`: a snapshot is taken first, which for a system of one node is the way back. `part` is the component
    that a step is about, where it is one. `uppers` are systems that stand on it; `above` is the one that a step is
    about, where it is one; `stacked` has all that goes down with a node where nothing empties it first, `fates` by the
    name of a node that is emptied what becomes of what stands on it. `back`, `returns`, `rewinds`, `restarts`,
    `by_hand`, `lays`, `serves`, `served` and `renews_spare` are as in the hop; `quiet_s` is for how long a node's
    sessions are waited for; `by_itself` how many nodes the device updates by one order; `look_over` what a person is to
    look at in the end; `patience` is as in the hop.
    """

    hop_id: str
    to: str
    minutes: Minutes
    image: bool = True
    parts: tuple[Part, ...] = ()
    nodes: tuple[str, ...] = ()
    package: Package | None
    mbit_per_s: float | None
    steady_s: float
    knows: Knows
    despite_recall: bool = False
    restore_point: bool = False
    part: Part | None = None
    uppers: tuple[Upper, ...] = ()
    above: Upper | None = None
    stacked: dict[str, tuple[str, ...]] = {}
    fates: dict[str, NodesFate] = {}
    back: bool = False
    returns: tuple[str, ...] = ()
    rewinds: str | None = None
    restarts: bool = False
    by_hand: str = ""
    lays: bool = False
    serves: dict[str, str] = {}
    served: bool = False
    renews_spare: bool = False
    look_over: str = ""
    channels: dict[str, tuple[str, ...]] = {}
    quiet_s: float = 0
    by_itself: int = 0
    paces: dict[str, Pace] = {}
    patience: float = 1.0

    @property
    def goal(self) -> str:
        """What the hop leads to, in a word: no two hops of a lane have the same."""
        return self.to if self.image or not self.parts else f"{self.parts[0].component} {self.parts[0].to}"

    @property
    def preloads(self) -> bool:
        return "preload" in self.knows.capabilities

    def applies(self, guard: str) -> bool:
        """Whether a guard has anything to look at in this hop."""
        applies = {
            "package_verified": self.preloads,
            "restore_point_there": self.restore_point or self.rewinds is not None,
            "not_recalled": self.image or self.part is not None,  # what runs already is not entered
            "backup_sealed": self.above is None,  # nothing of what stands above is changed
            "service_well": not self.back,  # what is wrong may be what is taken back
        }
        return applies.get(guard, True)


def basis_differences(planned: Basis, now: Basis) -> list[str]:
    """What no longer is as the plan took it, in words; empty where all matches."""
    if planned.estate != now.estate:
        return ["it was made for another estate"]
    said: list[str] = []
    for title, before, after in (
        ("serial", planned.nodes, now.nodes),
        ("shape", planned.shapes, now.shapes),
        ("runs_on", planned.runs_on, now.runs_on),
        ("version", planned.versions, now.versions),
        ("release", planned.releases, now.releases),
        ("profile", planned.profiles, now.profiles),
    ):
        for key in sorted(before.keys() | after.keys()):
            if before.get(key) != after.get(key):
                if title in ("release", "profile"):
                    said.append(f"{key}: what the {'catalog' if title == 'release' else 'profile'} says has changed")
                else:
                    said.append(f"{key}: {title} was {before.get(key, 'none')}, is {after.get(key, 'none')}")
    return said
