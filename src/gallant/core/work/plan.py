"""Plans as values: lanes, hops, waves, tracks and steps. How one is made is in core/work/planning.py.

A plan is a document named by the hash of its content.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import datetime

from gallant.core.catalog.products import Package, Release
from gallant.core.errors import GallantError, WrongUse
from gallant.core.estate.systems import System
from gallant.core.records import Record, as_read_back, clean, digest, replace


class Step(Record):
    """The smallest unit that is journalled.

    `expects` is the observable condition that makes it done, in words; `disturbs` the nodes it may take out; `repeat`
    is `safe`, `if_absent` or `never`; `deadline_s` and `estimate_s` are seconds of estate time; `interrupts_s` is how
    long the service address may be unreachable; `safe_stop_s` how long the system may be left after it (None: not).
    `reverts`: its undo is to revert to the restore point.
    A step that is `alone` is judged by its own node: the others, which nobody depends on, may be in the midst of theirs.
    """

    id: str
    hop: str
    kind: str
    system: str
    node: str
    to: str
    guards: tuple[str, ...]
    expects: str
    disturbs: tuple[str, ...] = ()
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


class Hop(Record, rename={"from_": "from"}):
    """One release to the next on every node of the lane; `needs` are hops of any lane that must be finished first.

    `restore_point`: a snapshot of the system is taken before anything is disturbed; `snapshots`: the release that is entered
    can be snapshotted too.
    """

    id: str
    system: str
    from_: str
    to: str
    build: str | None = None
    one_way: bool = False
    one_way_because: str | None = None
    snapshots: bool = True
    restore_point: bool = False
    package: Package | None = None
    despite_recall: bool = False
    needs: tuple[str, ...] = ()
    waves: tuple[Wave, ...]


class Lane(Record):
    """One system's part of a plan. `windows` is empty where the estate declares none; `slots` is how many places for a system
    image each node has, by its profile."""

    system: str
    kind: str = "update"
    slots: int = 1
    hops: tuple[Hop, ...]
    windows: tuple[str, ...] = ()


class Basis(Record):
    """What must match at the roll. `nodes` and `versions` are by node, `releases` and `profiles` are digests; `estate` is
    its identity, which two estates of one name do not share."""

    estate: str = ""
    nodes: dict[str, str]
    shapes: dict[str, str]
    runs_on: dict[str, str]
    versions: dict[str, str]
    releases: dict[str, str]
    profiles: dict[str, str]


class Plan(Record):
    """The ordered work, named by its content: `id` is the hash of everything else."""

    schema: str = "gallant.plan/1"
    id: str = ""
    made: datetime
    by: str
    estate: str
    basis: Basis
    lanes: tuple[Lane, ...]

    def named(self) -> Plan:
        """The plan under the name that its content gives it, as it comes back from a file."""
        plain = as_read_back(replace(self, id=""))
        return replace(plain, id=f"plan-{digest(plain)[:12]}")

    @property
    def is_whole(self) -> bool:
        """Whether the content still is what the name says."""
        return self.id == self.named().id

    @property
    def systems(self) -> tuple[str, ...]:
        return tuple(lane.system for lane in self.lanes)

    def steps(self) -> Iterator[Step]:
        for lane in self.lanes:
            for hop in lane.hops:
                yield from steps_of(hop.waves)

    @property
    def estimate_s(self) -> float:
        """Lanes run side by side; hops and waves one after the other; tracks of a wave side by side."""
        return max((sum(waves_seconds(hop.waves) for hop in lane.hops) for lane in self.lanes), default=0)


def shape_words(system: System) -> str:
    """The shape, and whether anybody depends on it: a plan made for machines in preparation is not for ones in service."""
    return system.shape if system.in_service else f"{system.shape}, not in service"


def steps_of(waves: Sequence[Wave]) -> Iterator[Step]:
    for wave in waves:
        for track in wave.tracks:
            yield from track.steps


def waves_seconds(waves: Sequence[Wave]) -> float:
    return sum(max((sum(s.estimate_s for s in t.steps) for t in wave.tracks), default=0) for wave in waves)


class NothingToDo(GallantError):
    """Every one of the selected `systems` runs what its aim asks for."""

    exit_code = 0

    def __init__(self, what: str, why: str | None = None, next: str | None = None, systems: Sequence[str] = ()) -> None:
        super().__init__(what, why, next)
        self.systems = tuple(systems)


# --- what a plan is made with, and what a person has to accept


class Knows(Record):
    """What a system's driver, with its profile, knows: its capabilities, how each of its acts may be repeated where the
    profile says so (`safe`, `if_absent`, `never`), and how many places for a system image each node has."""

    capabilities: frozenset[str]
    repeat: dict[str, str] = {}
    slots: int = 1


class HopWork(Record):
    """What the waves of a hop are made from, besides the roles.

    Where a device keeps no packages its install brings the package along. `restore_point`: a snapshot is taken first, which
    for a system of one node is the way back.
    """

    hop_id: str
    release: Release
    package: Package | None
    mbit_per_s: float | None
    steady_s: float
    knows: Knows
    despite_recall: bool = False
    restore_point: bool = False

    @property
    def preloads(self) -> bool:
        return "preload" in self.knows.capabilities

    def applies(self, guard: str) -> bool:
        """Whether a guard has anything to look at in this hop."""
        return {"package_verified": self.preloads, "restore_point_there": self.restore_point}.get(guard, True)


CONSENTS = ("one-way", "recalled", "no-backup")


class Consent(Record):
    """A named person's acceptance of one consequence for one system; written `one-way:tickets`."""

    to: str
    system: str

    @property
    def words(self) -> str:
        return f"{self.to}:{self.system}"


def parse_consent(text: str) -> Consent:
    """A consent as a person writes it; raises `WrongUse`."""
    to, colon, system = text.partition(":")
    if not colon or not system or to not in CONSENTS:
        raise WrongUse(
            f"--consent {clean(text, 60)!r} accepts nothing that Gallant asks for.",
            f"What can be accepted: {', '.join(f'{c}:SYSTEM' for c in CONSENTS)}.",
            "gallant plan SYSTEM names what has to be accepted.",
        )
    return Consent(to=to, system=system)


class Needed(Record):
    """A consent that a plan cannot be carried out without, and why."""

    consent: Consent
    what: str
    why: str | None = None


def consents_needed(plan: Plan, exports: Sequence[str]) -> list[Needed]:
    """What somebody has to accept by name before the plan is begun; `exports` are the systems that can be backed up."""
    needed: list[Needed] = []
    for lane in plan.lanes:
        for hop in lane.hops:
            if hop.one_way:
                needed.append(
                    Needed(
                        consent=Consent(to="one-way", system=lane.system),
                        what=f"{lane.system}: there is no way back from {hop.to}.",
                        why=hop.one_way_because or "The publisher gives no way back to an older release.",
                    )
                )
            if hop.despite_recall:
                needed.append(
                    Needed(
                        consent=Consent(to="recalled", system=lane.system),
                        what=f"{lane.system}: {hop.to} was recalled by its publisher; the plan finishes it all the same.",
                        why="The recall's condition held on no node when the plan was made.",
                    )
                )
        if lane.system not in exports:
            needed.append(
                Needed(
                    consent=Consent(to="no-backup", system=lane.system),
                    what=f"{lane.system}: its driver cannot export a configuration, so there would be no backup.",
                )
            )
    return needed


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
