"""Plans as values: lanes, hops, waves, tracks and steps. How one is made is in core/plan/planning.py.

A plan is a document named by the hash of its content.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from datetime import datetime
from typing import Any, TypeAlias

from gallant.core.catalog.products import NewSetting, Package
from gallant.core.errors import GallantError
from gallant.core.estate.systems import System
from gallant.core.readings import IMAGE
from gallant.core.records import Record, as_read_back, digest, replace
from gallant.core.work.paces import Pace, Spread


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
    by which factor each of its steps may take longer than one that stands alone (core/length/patience.py).
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
