"""Kinds of step, one row each in `KINDS`: what guards it, what makes it done and how that is seen, how long it takes, how it is
undone, and what a person is told when it is overdue. The planner and the engine know no kind by name.

Observation is pure: what became of an act is judged by what the nodes say now against what they said before it. The same
rule serves the wait for an act that was accepted and the question after a crash, so both come to the same answer.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence

from gallant.core.estate.order import SHAPES
from gallant.core.readings import IN_SERVICE, Job, Reading
from gallant.core.records import Record
from gallant.core.work.estimate import (
    backup_seconds,
    install_seconds,
    move_seconds,
    preload_seconds,
    restart_seconds,
    snapshot_seconds,
    steady_seconds,
)
from gallant.core.work.events import Before
from gallant.core.work.plan import HopWork, Step

DONE, GOING, FAILED, ABSENT, UNREACHED = "done", "going", "failed", "absent", "unreached"
SAFE, IF_ABSENT, NEVER = "safe", "if_absent", "never"
NODE, SYSTEM = "node", "system"
Readings = Mapping[str, Reading | None]
Same = Callable[[str | None, str | None], bool]


# --- observation


class Look(Record):
    """`absent`: nothing shows that the act ever began. `unreached`: the node that could tell does not answer."""

    state: str
    message: str = ""
    percent: float | None = None
    remaining_s: float | None = None
    handle: str | None = None


class Seen(Record):
    """What there is to judge an act by: readings now (None: no answer), those before it, its job where it is known.

    `same` tells whether two texts name one release of the product.
    """

    step: Step
    shape: str
    readings: dict[str, Reading | None]
    before: Before
    handle: str | None
    same: Same

    @property
    def own(self) -> Reading | None:
        return self.readings[self.step.node]

    def job(self, reading: Reading) -> Job | None:
        """The newest job that the act began: by its handle, else one of its kind that was not there before."""
        if self.handle is not None:
            return next((job for job in reading.jobs if job.id == self.handle), None)
        fresh = [job for job in reading.jobs if job.kind == self.step.kind and job.id not in self.before.jobs]
        return fresh[-1] if fresh else None

    def by_job(self, reading: Reading) -> Look | None:
        """What the job alone decides: it goes on, or it failed."""
        job = self.job(reading)
        if job is None or job.state == "done":
            return None
        state = FAILED if job.state == "failed" else GOING
        return Look(state=state, message=job.message, percent=job.percent, remaining_s=job.remaining_s, handle=job.id)


def _preload(seen: Seen) -> Look:
    reading, step = seen.own, seen.step
    if reading is None:
        return Look(state=UNREACHED)
    there = next((p for p in reading.packages if p.name == step.package), None)
    if there is None:  # a device that fetches it by itself has a job for that
        job = seen.job(reading)
        if job is not None and job.state == "done":
            return Look(state=FAILED, message=f"its job says that it is done, and {step.package} is not there")
        return seen.by_job(reading) or Look(state=ABSENT)
    if there.sha256 == step.sha256:
        return Look(state=DONE, message=f"{there.name} is there, its digest as in the catalog")
    return Look(
        state=FAILED,
        message=f"{there.name} was altered on the way: the node computes {there.sha256[:12]}…, "
        f"the catalog says {(step.sha256 or '')[:12]}…",
    )


def _install(seen: Seen) -> Look:
    reading, step = seen.own, seen.step
    if reading is None:
        return Look(state=UNREACHED)
    by_job = seen.by_job(reading)
    if by_job is not None:
        return by_job
    job = seen.job(reading)
    if seen.same(reading.next_version, step.to):
        return Look(state=DONE, message=f"{reading.next_version} runs from the next restart on")
    if job is not None and reading.next_version is None:  # the device does not tell; its job's word has to do
        return Look(state=DONE, message=job.message or "its job says that it is done")
    if job is not None:
        return Look(
            state=FAILED,
            message=f"the install says it is done, and {reading.next_version or reading.version} would start next",
        )
    return Look(state=ABSENT)


def _restart(seen: Seen) -> Look:
    reading, step = seen.own, seen.step
    if reading is None:
        return Look(state=GOING, message="does not answer: it is restarting")
    if reading.boot != seen.before.boot:
        if not seen.same(reading.version, step.to):
            return Look(state=FAILED, message=f"came back on {reading.version}, not on {step.to}")
        if reading.state == IN_SERVICE:
            return Look(state=DONE, message=f"back on {reading.version}")
        return Look(state=GOING, message=f"back on {reading.version}, not yet in service")
    return seen.by_job(reading) or Look(state=ABSENT)


def _moved(to_itself: bool) -> Callable[[Seen], Look]:
    """A handover is done when another node serves; a failback when this one does."""

    def observe(seen: Seen) -> Look:
        node = seen.step.node
        heads = [n for n, r in seen.readings.items() if r is not None and r.role in SHAPES[seen.shape].heads]
        there = heads == [node] if to_itself else len(heads) == 1 and heads != [node]
        reading = seen.own
        if there and reading is not None:
            serving = seen.readings[heads[0]]
            return Look(state=DONE, message=f"{seen.step.system}/{heads[0]} is {serving.role if serving else 'there'}")
        if reading is None:
            return Look(state=UNREACHED)
        job = seen.job(reading)
        if job is not None and job.state == "done":
            return Look(state=GOING, message="the move is done; the roles do not show it yet", handle=job.id)
        return seen.by_job(reading) or Look(state=ABSENT)

    return observe


# --- the table


class Kind(Record):
    """One kind of step.

    `observe` is None for what Gallant does itself (`ours`). `guards` must all hold at the moment before it. `disturbs`: the
    node may be out of service by it. `away`: the node is expected not to answer meanwhile. `moves`: roles move, and
    `interrupts` the service for a moment. `safe`: a system may be left after it. `carries`: it brings the package along, or
    needs it. `enters`: the node runs the release after it. `alters`:
    what the node runs, or would start, is another after it. `touches`: it changes something on the node, so only nodes that
    the plan has such a step on are touched. `proved_by` is the guard
    of later steps that sees whether what it did is still there. `slotted` are `expects` and `undo` where the node has a spare slot.
    `overdue` and `advice` may name {subject}, {system}, {kind}, {to}, {minutes} and {expects}.
    """

    name: str
    expects: str
    estimate: Callable[[HopWork], float]
    guards: tuple[str, ...] = ()
    observe: Callable[[Seen], Look] | None = None
    repeat: str = IF_ABSENT
    undo: str | None = None
    slotted: tuple[str, str | None] | None = None
    looks_at: str = NODE
    disturbs: bool = False
    away: bool = False
    moves: bool = False
    interrupts: bool = False
    safe: bool = False
    ends_node: bool = False
    carries: bool = False
    enters: bool = False
    alters: bool = False
    touches: bool = False
    proved_by: str | None = None
    overdue: str = "{subject}: {kind} to {to} was not done within {minutes} min."
    advice: str = "gallant survey {system}"

    @property
    def ours(self) -> bool:
        return self.observe is None


BACKUP, SNAPSHOT, STEADY = "backup", "snapshot", "steady"
# Where nobody depends on a system, nothing is asked of the nodes other than the one that is worked on.
NEEDS_PEERS = ("peers_healthy", "everyone_healthy", "not_serving")
_ALWAYS = ("right_machine", "own_address", "no_unknown_job", "versions_as_expected", "not_recalled")

KINDS: Mapping[str, Kind] = {
    row.name: row
    for row in (
        Kind(
            name=BACKUP,
            expects="a sealed backup of the running version",
            estimate=backup_seconds,
            guards=("right_machine",),
            repeat=SAFE,
            safe=True,
            proved_by="backup_sealed",
        ),
        Kind(
            name=SNAPSHOT,
            expects="a restore point of the system, seen to be there",
            estimate=snapshot_seconds,
            guards=("right_machine", "no_unknown_job", "versions_as_expected"),
            undo="remove it",
            proved_by="restore_point_there",
            safe=True,
        ),
        Kind(
            name="preload",
            expects="the package on the node, its digest as in the catalog",
            estimate=preload_seconds,
            guards=("right_machine", "not_recalled"),
            observe=_preload,
            repeat=SAFE,
            undo="unload it",
            proved_by="package_verified",
            safe=True,
            carries=True,
            touches=True,
            advice="Look at the network between here and the node",
        ),
        Kind(
            name="install",
            expects="the release installed, to run from the next restart on",
            estimate=install_seconds,
            guards=(*_ALWAYS, "peers_healthy", "backup_sealed", "restore_point_there", "package_verified"),
            observe=_install,
            alters=True,
            proved_by="awaits_target",
            slotted=("the release in the spare slot, to run from the next restart on", "fall back to the running slot"),
            safe=True,
            carries=True,
            touches=True,
        ),
        Kind(
            name="restart",
            expects="the node back in service on the release",
            estimate=restart_seconds,
            guards=(
                *_ALWAYS,
                "peers_healthy",
                "backup_sealed",
                "restore_point_there",
                "not_serving",
                "awaits_target",
                "service_well",
            ),
            observe=_restart,
            slotted=("the node back in service on the release", "fall back to the other slot"),
            disturbs=True,
            away=True,
            enters=True,
            alters=True,
            touches=True,
            overdue="{subject} did not come back within {minutes} min of its restart (installing {to}).",
            advice="Look at the console of {subject}",
        ),
        Kind(
            name=STEADY,
            expects="every node in service and in sync, in every sample",
            estimate=steady_seconds,
            repeat=SAFE,
            safe=True,
            ends_node=True,
            overdue="{subject}: the system was not steady within {minutes} min: {expects} was not seen.",
            advice="gallant check {system} says what is not in sync",
        ),
        Kind(
            name="handover",
            expects="the other node active",
            estimate=move_seconds,
            guards=(*_ALWAYS, "everyone_healthy", "backup_sealed", "service_well"),
            observe=_moved(to_itself=False),
            undo="hand back",
            looks_at=SYSTEM,
            moves=True,
            interrupts=True,
        ),
        Kind(
            name="failback",
            expects="the node active again",
            estimate=move_seconds,
            guards=(*_ALWAYS, "everyone_healthy", "backup_sealed", "service_well"),
            observe=_moved(to_itself=True),
            undo="hand over",
            looks_at=SYSTEM,
            moves=True,
            interrupts=True,
        ),
    )
}


def observe(seen: Seen) -> Look:
    """What became of the step's act."""
    rule = KINDS[seen.step.kind].observe
    assert rule is not None  # what is ours is done, not observed
    return rule(seen)


def told(text: str, step: Step, minutes: float = 0) -> str:
    """One of a kind's sentences, with what this step puts into it."""
    return text.format(
        subject=step.subject,
        system=step.system,
        kind=step.kind,
        to=step.to,
        expects=step.expects,
        minutes=f"{minutes:.0f}",
    )


def nodes_looked_at(step: Step, nodes: Sequence[str]) -> Sequence[str]:
    """Whether a role has moved is seen on all nodes; everything else on the node itself."""
    return nodes if KINDS[step.kind].looks_at == SYSTEM else (step.node,)
