"""Kinds of step, one row each in `KINDS`: what guards it, what makes it done and how that is seen, how long it takes,
how it is undone, and what a person is told when it is overdue. The planner and the engine know no kind by name.

Observation is pure: what became of an act is judged by what the nodes say now against what they said before it. The
same rule serves the wait for an act that was accepted and the question after a crash, so both come to the same answer.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence

from gallant.core.estate.order import SHAPES
from gallant.core.readings import IMAGE, IN_SERVICE, Component, Job, Reading
from gallant.core.records import Record
from gallant.core.work.estimate import (
    backup_seconds,
    by_hand_seconds,
    channel_seconds,
    drain_seconds,
    fall_back_seconds,
    install_seconds,
    look_seconds,
    move_seconds,
    part_seconds,
    preload_seconds,
    quiet_seconds,
    restart_seconds,
    save_seconds,
    snapshot_seconds,
    steady_seconds,
    update_all_seconds,
)
from gallant.core.work.events import Before
from gallant.core.work.plan import ANSWERS, SERVES, HopWork, Step

DONE, GOING, FAILED, ABSENT, UNREACHED, UNTOLD = "done", "going", "failed", "absent", "unreached", "untold"
PAUSED = "paused"
SAFE, IF_ABSENT, NEVER = "safe", "if_absent", "never"
NODE, SYSTEM = "node", "system"
Readings = Mapping[str, Reading | None]
Same = Callable[[str, str | None, str | None], bool]  # product, and two texts that may name one release of it


# --- observation


class Look(Record):
    """`absent`: nothing shows that the act ever began. `unreached`: the node that could tell does not
    answer. `untold`: it would show nothing either way. `paused`: the device stands still between two
    nodes. `out` are the nodes that are not in service, and `weak` those that are and whose replica is not
    whole, where an order is about all of them. `stage` is how far a node that comes back has come.
    `shown`: a failure that nothing says but what the node shows, which may be what was so a while ago."""

    state: str
    message: str = ""
    out: tuple[str, ...] = ()
    weak: tuple[str, ...] = ()
    percent: float | None = None
    remaining_s: float | None = None
    handle: str | None = None
    stage: str = ""
    shown: bool = False


class Seen(Record):
    """What there is to judge an act by: readings now (None: no answer), those before it, its job where it is known.

    `same` tells whether two texts name one release of a product. `taken_s`
    is for how long the node has had the order, by its own answer.
    """

    step: Step
    shape: str
    readings: dict[str, Reading | None]
    before: Before
    handle: str | None
    same: Same
    taken_s: float | None = None

    @property
    def own(self) -> Reading | None:
        return self.readings[self.step.node]

    def job(self, reading: Reading) -> Job | None:
        """The newest job that the act began: by its handle, else one of its kind that was not there before."""
        if self.handle is not None:
            return next((job for job in reading.jobs if job.id == self.handle), None)
        order = KINDS[self.step.kind].order
        fresh = [job for job in reading.jobs if job.kind == order and job.id not in self.before.jobs]
        return fresh[-1] if fresh else None

    def is_goal(self, text: str | None) -> bool:
        """Whether a text names the release that the step leads to."""
        return self.same(self.step.product, text, self.step.to)

    def unseen(self, reading: Reading) -> Look:
        """What can be said where nothing is seen of an act. A device
        that lists no work is given the publisher's time for it."""
        if reading.tells_work:
            return Look(state=ABSENT)
        if self.taken_s is None:
            return Look(state=UNTOLD)
        left = self.step.estimate_s - self.taken_s
        if left > 0:
            return Look(state=GOING, message="it took the order, and shows nothing of it", remaining_s=left)
        return Look(state=DONE, message="it took the order, and the time for it is over; its restart will tell")

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
    reading = seen.own
    if reading is None:
        return Look(state=UNREACHED)
    by_job = seen.by_job(reading)
    if by_job is not None:
        return by_job
    job = seen.job(reading)
    if seen.is_goal(reading.next_version):
        return Look(state=DONE, message=f"{reading.next_version} runs from the next restart on")
    if job is not None and reading.next_version is None:  # the device does not tell; its job's word has to do
        return Look(state=DONE, message=job.message or "its job says that it is done")
    if job is not None:
        return Look(
            state=FAILED,
            message=f"the install says it is done, and {reading.next_version or reading.version} would start next",
            shown=True,
        )
    return seen.unseen(reading)


def component_of(reading: Reading, name: str) -> Component | None:
    return next((part for part in reading.components if part.name == name), None)


def _part_laid(seen: Seen) -> Look:
    """A component that runs from the next restart on. What does not tell is believed by its job."""
    reading, name = seen.own, seen.step.component
    if reading is None:
        return Look(state=UNREACHED)
    by_job = seen.by_job(reading)
    if by_job is not None:
        return by_job
    part, job = component_of(reading, name), seen.job(reading)
    if part is not None and seen.is_goal(part.next_version or part.version):
        return Look(state=DONE, message=f"{name} {seen.step.to} runs from the next restart on")
    if job is None:
        return seen.unseen(reading)
    if part is not None and part.next_version is None:
        return Look(state=DONE, message=job.message or "its job says that it is done")
    told = part.next_version if part is not None else "nothing"
    return Look(state=FAILED, message=f"the install says it is done, and {told} would start next as {name}")


def _part_runs(seen: Seen) -> Look:
    """A component that runs as soon as it is installed."""
    reading, name = seen.own, seen.step.component
    if reading is None:
        return Look(state=UNREACHED)
    part, job = component_of(reading, name), seen.job(reading)
    going = seen.by_job(reading)
    if going is None and part is not None and seen.is_goal(part.version):
        return Look(state=DONE, message=f"{name} runs {part.version}")
    if going is not None:
        return going
    if job is None:  # what it runs is seen in any case; whether it has begun may not be
        return Look(state=ABSENT) if reading.tells_work or seen.taken_s is not None else Look(state=UNTOLD)
    told = part.version if part is not None else "nothing of it"
    if part is not None and seen.is_goal(part.next_version):
        return Look(
            state=FAILED, message=f"{name} is installed, and runs only from a restart on; the publisher says none"
        )
    return Look(state=FAILED, message=f"its job says that it is done, and {name} runs {told}")


def _restart(seen: Seen) -> Look:
    reading, step = seen.own, seen.step
    if reading is None:
        return Look(state=GOING, message="does not answer: it is restarting", stage=ANSWERS)
    if reading.boot != seen.before.boot:
        if not seen.is_goal(reading.version):
            return Look(state=FAILED, message=f"came back on {reading.version}, not on {step.to}", shown=True)
        for brought in step.brings:
            part = component_of(reading, brought.component)
            if part is None or not seen.same(brought.product, part.version, brought.version):
                told = part.version if part is not None else "nothing of it"
                message = f"came back with {brought.component} on {told}, not on {brought.version}"
                return Look(state=FAILED, message=message, shown=True)
        if reading.state == IN_SERVICE or step.aside:
            return Look(state=DONE, message=f"back on {reading.version}")
        return Look(state=GOING, message=f"back on {reading.version}, not yet in service", stage=SERVES)
    return seen.by_job(reading) or Look(state=ABSENT)


def _spare_renewed(seen: Seen) -> Look:
    reading = seen.own
    if reading is None:
        return Look(state=UNREACHED)
    by_job = seen.by_job(reading)
    if by_job is not None:
        return by_job
    if seen.is_goal(reading.other_slot):
        return Look(state=DONE, message=f"its spare slot holds {reading.other_slot}")
    if seen.job(reading) is None:
        return seen.unseen(reading)
    message = f"its job says that it is done, and its spare slot holds {reading.other_slot}"
    return Look(state=FAILED, message=message, shown=True)


def _rewound(seen: Seen) -> Look:
    """A system of one node is back where its restore point has it."""
    reading = seen.own
    if reading is None:
        return Look(state=GOING, message="does not answer: it is going back", stage=ANSWERS)
    if not seen.is_goal(reading.version) or reading.boot == seen.before.boot:
        return seen.by_job(reading) or Look(state=ABSENT)
    if reading.state == IN_SERVICE:
        return Look(state=DONE, message=f"back on {reading.version}, as it was when its restore point was taken")
    return Look(state=GOING, message=f"back on {reading.version}, not yet in service", stage=SERVES)


def _all_updated(seen: Seen) -> Look:
    """A device brings its own nodes to the release, one after the other: it is done when every one of them runs it in
    service. Its job is told by whichever node answers; what it says is believed only of how far it is."""
    heard = {node: reading for node, reading in seen.readings.items() if reading is not None}
    out = tuple(n for n in seen.readings if n not in heard or heard[n].state != IN_SERVICE)
    weak = tuple(n for n, r in heard.items() if n not in out and r.in_sync is False)
    short = tuple(n for n, r in heard.items() if n not in out and not _entered(seen, r))
    job = next((job for reading in heard.values() if (job := seen.job(reading)) is not None), None)
    if not out and not short and (job is None or job.state == DONE):
        return Look(state=DONE, message=f"every node runs {seen.step.to}")
    left = ", ".join((*out, *short))
    if job is None:
        return Look(state=GOING if out else ABSENT, message=f"{', '.join(out)} out of service", out=out, weak=weak)
    if job.state == DONE and not out:
        return Look(state=FAILED, message=f"its job says that it is done, and {left} runs another release", shown=True)
    states = {"failed": FAILED, PAUSED: PAUSED}
    words = job.message or f"{left} still to come"
    return Look(
        state=states.get(job.state, GOING),
        message=words,
        percent=job.percent,
        remaining_s=job.remaining_s,
        handle=job.id,
        out=out,
        weak=weak,
    )


def _entered(seen: Seen, reading: Reading) -> bool:
    """Whether a node runs the image, and each of the components, that the step is to bring."""
    parts = {brought: component_of(reading, brought.component) for brought in seen.step.brings}
    return seen.is_goal(reading.version) and all(
        part is not None and seen.same(brought.product, part.version, brought.version)
        for brought, part in parts.items()
    )


def _by_hand(seen: Seen) -> Look:
    """Somebody worked on the node: it was switched off, and is there again."""
    reading = seen.own
    if reading is None:
        return Look(state=GOING, message="does not answer: somebody works on it")
    if reading.boot == seen.before.boot:
        return Look(state=ABSENT)
    return Look(state=DONE, message="has started again since")


def _channel(on: bool) -> Callable[[Seen], Look]:
    def observe(seen: Seen) -> Look:
        reading, name = seen.own, seen.step.component
        if reading is None:
            return Look(state=UNREACHED)
        channel = next((c for c in reading.channels or () if c.name == name), None)
        if channel is not None and channel.enabled is on:
            return Look(state=DONE, message=f"{name} is {'enabled' if on else 'disabled'}")
        return seen.by_job(reading) or Look(state=ABSENT)

    return observe


def _saved(seen: Seen) -> Look:
    reading = seen.own
    if reading is None:
        return Look(state=UNREACHED)
    if not reading.unsaved:
        return Look(state=DONE, message="it would start with what it runs")
    return seen.by_job(reading) or Look(state=ABSENT)


def _looked_over(seen: Seen) -> Look:
    """Only the person knows."""
    return Look(state=ABSENT)


def _drain(seen: Seen) -> Look:
    reading = seen.own
    if reading is None:
        return Look(state=UNREACHED)
    if reading.state != IN_SERVICE:
        return seen.by_job(reading) or Look(state=DONE, message="out of service, and carries nothing")
    return seen.by_job(reading) or Look(state=ABSENT)


def _refill(seen: Seen) -> Look:
    reading = seen.own
    if reading is None:
        return Look(state=UNREACHED)
    going = seen.by_job(reading)
    if going is None and reading.state == IN_SERVICE:
        return Look(state=DONE, message="in service, and carries again")
    return going or Look(state=ABSENT)


def _moved(to_itself: bool) -> Callable[[Seen], Look]:
    """A handover is done when another node serves; a failback when this one does."""

    def observe(seen: Seen) -> Look:
        node = seen.step.node
        shape = SHAPES[seen.shape]
        group = next(g for g in shape.groups(tuple(seen.readings)) if node in g)
        heads = [n for n in group if (r := seen.readings[n]) is not None and r.role in shape.heads]
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

    `observe` is None for what Gallant does itself (`ours`). `guards` must all hold at the moment before it.
    `disturbs`: the node may be out of service by it. `away`: the node is expected not to answer meanwhile. `moves`:
    roles move, and `interrupts` the service for a moment. `safe`: a system may be left after it. `carries`: it
    brings the package along, or needs it. `optional`: it is left out where the driver does not know it.
    `sets_aside`: the node is out of service from then on until a step that `takes_back`. `enters`: the node runs
    the release after it. `alters`: what the node runs, or would start, is another after it. `touches`: it changes
    something on the node, so only nodes that the plan has such a step on are touched. `whole`: it is one order for
    all nodes of the system, which its device works on in its own order. `proved_by` is the guard of later steps
    that sees whether what it did is still there. `sends` is the order that the driver is given for it, where that
    is not its name; `keeper`: it is given to the system or host that keeps the restore points; `unasked`: nothing
    is read before it, since its node may not answer yet; `by_person`: a person does it, and says when it is done,
    or the node shows that it has started again. `undo` is what takes it back where it alters nothing that runs
    (what alters is taken back as core/work/returning.py finds it); `slotted` is `expects` where the node has a
    spare slot. `overdue` and `advice` may name {subject}, {system}, {kind}, {to}, {minutes} and {expects}.
    """

    name: str
    expects: str
    estimate: Callable[[HopWork], float]
    guards: tuple[str, ...] = ()
    observe: Callable[[Seen], Look] | None = None
    repeat: str = IF_ABSENT
    undo: str | None = None
    slotted: str | None = None
    looks_at: str = NODE
    disturbs: bool = False
    away: bool = False
    moves: bool = False
    interrupts: bool = False
    safe: bool = False
    ends_node: bool = False
    carries: bool = False
    optional: bool = False
    sets_aside: bool = False
    enters: bool = False
    alters: bool = False
    leaves: str = ""
    touches: bool = False
    proved_by: str | None = None
    sends: str | None = None
    keeper: bool = False
    takes_back: bool = False
    by_person: bool = False
    unasked: bool = False
    whole: bool = False
    overdue: str = "{subject}: {kind} to {to} was not done within {minutes} min."
    advice: str = "gallant survey {system}"

    @property
    def ours(self) -> bool:
        return self.observe is None

    @property
    def driven(self) -> bool:
        """Whether the driver of the system is given an order for it."""
        return not (self.ours or self.keeper or self.by_person)

    @property
    def order(self) -> str:
        return self.sends or self.name


# What a step that is done leaves on its nodes (`leaves` of its kind): an image or a component that runs from the next
# restart on, a component that runs, all of it started, the other slot.
NEXT_IMAGE, NEXT_PART, RUNS_PART, STARTED, OTHER_SLOT = "next image", "next part", "part", "started", "other slot"
BACKUP, SNAPSHOT, STEADY, RETURN, REWIND = "backup", "snapshot", "steady", "return", "rewind"
BY_HAND, QUIET, UPDATE_ALL, START_ON = "by_hand", "quiet", "update_all", "start_on"
RENEW_SPARE, LOOK_OVER = "renew_spare", "look_over"
SAVE_CONFIG = "save_config"
OWN_ADDRESS = "own_address"  # the guard of a step that must not meet another node
LOSING = "configuration_saved"  # the guard of a step that loses what was never saved
ENABLE_CHANNEL, DISABLE_CHANNEL = "enable_channel", "disable_channel"
# What a device that updates its nodes by itself may know besides: to
# stand still between two nodes and to go on, or to give up.
PAUSE, GO_ON, CANCEL = "pause", "go_on", "cancel"
# Where nobody depends on a system, nothing is asked of the nodes other than the one that is worked on.
NEEDS_PEERS = ("peers_healthy", "everyone_healthy", "not_serving", "enough_stay")
_ALWAYS = ("right_machine", OWN_ADDRESS, "no_unknown_job", "versions_as_expected", "not_recalled")

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
            name=SAVE_CONFIG,
            expects="the node would start with what it runs",
            estimate=save_seconds,
            guards=("right_machine", "own_address", "no_unknown_job", "versions_as_expected", "backup_sealed"),
            observe=_saved,
            repeat=SAFE,
            undo="the startup configuration in its backup",
            safe=True,
            touches=True,
            advice="Save the configuration of {subject} at its console",
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
            name="drain",
            expects="the node out of service, carrying nothing",
            estimate=drain_seconds,
            guards=(*_ALWAYS, "peers_healthy", "backup_sealed", "not_serving", "enough_stay", "service_well"),
            observe=_drain,
            undo="refill",
            disturbs=True,
            optional=True,
            sets_aside=True,
            touches=True,
            overdue="{subject} was not empty within {minutes} min: something on it will not leave.",
            advice="Look what {subject} still carries, and move it by hand",
        ),
        Kind(
            name="refill",
            expects="the node in service, carrying again",
            estimate=drain_seconds,
            guards=("right_machine", "own_address", "no_unknown_job", "versions_as_expected"),
            observe=_refill,
            repeat=SAFE,
            takes_back=True,
            undo="drain",
            optional=True,
            touches=True,
            advice="Take {subject} back into service at its console",
        ),
        Kind(
            name="install",
            expects="the release installed, to run from the next restart on",
            estimate=install_seconds,
            guards=(*_ALWAYS, "peers_healthy", "backup_sealed", "restore_point_there", "package_verified"),
            observe=_install,
            leaves=NEXT_IMAGE,
            alters=True,
            proved_by="awaits_target",
            slotted="the release in the spare slot, to run from the next restart on",
            safe=True,
            carries=True,
            touches=True,
        ),
        Kind(
            name=RENEW_SPARE,
            expects="the spare slot on the release that runs",
            estimate=install_seconds,
            guards=(*_ALWAYS, "everyone_healthy", "backup_sealed", "service_well"),
            observe=_spare_renewed,
            leaves=OTHER_SLOT,
            safe=True,
            touches=True,
            advice="Look at the spare slot of {subject}",
        ),
        Kind(
            name="fall_back",
            expects="the release in the node's other slot is what it starts next",
            estimate=fall_back_seconds,
            guards=(*_ALWAYS, "peers_healthy", "backup_sealed"),
            observe=_install,
            leaves=NEXT_IMAGE,
            alters=True,
            proved_by="awaits_target",
            safe=True,
            touches=True,
        ),
        Kind(
            name=REWIND,
            keeper=True,
            expects="the system as its restore point has it, in service",
            estimate=restart_seconds,
            guards=(*_ALWAYS, "peers_healthy", "backup_sealed", "restore_point_there", "enough_stay", "upper_ready"),
            observe=_rewound,
            disturbs=True,
            away=True,
            enters=True,
            alters=True,
            touches=True,
            overdue="{subject} did not come back within {minutes} min of the order to go back to its restore point.",
            advice="Look at the console of {subject}, and at the host that keeps its restore point",
        ),
        Kind(
            name=BY_HAND,
            expects="a person's word that it is done, or the node started again",
            estimate=by_hand_seconds,
            guards=(
                *_ALWAYS,
                "peers_healthy",
                "configuration_saved",
                "backup_sealed",
                "not_serving",
                "enough_stay",
                "upper_ready",
                "service_well",
            ),
            observe=_by_hand,
            by_person=True,
            disturbs=True,
            away=True,
            touches=True,
        ),
        Kind(
            name=LOOK_OVER,
            expects="a person's word that it was looked at",
            estimate=look_seconds,
            guards=("right_machine",),
            observe=_looked_over,
            by_person=True,
            safe=True,
        ),
        *(
            Kind(
                name=name,
                expects=f"the channel {'enabled' if on else 'disabled again'}",
                estimate=channel_seconds,
                guards=("right_machine", "own_address", "no_unknown_job", "versions_as_expected"),
                observe=_channel(on),
                repeat=SAFE,
                undo="disable it" if on else None,
                safe=True,
                touches=True,
                advice="Look at the channels of {subject}",
            )
            for name, on in ((ENABLE_CHANNEL, True), (DISABLE_CHANNEL, False))
        ),
        Kind(
            name="install_part",
            expects="the component's release installed, to run from the next restart on",
            estimate=part_seconds,
            guards=(*_ALWAYS, "peers_healthy", "backup_sealed", "restore_point_there"),
            observe=_part_laid,
            leaves=NEXT_PART,
            sends="install",
            alters=True,
            proved_by="awaits_target",
            safe=True,
            carries=True,
            touches=True,
        ),
        Kind(
            name="apply_part",
            expects="the component on its release",
            estimate=part_seconds,
            guards=(*_ALWAYS, "peers_healthy", "backup_sealed", "restore_point_there", "service_well"),
            observe=_part_runs,
            leaves=RUNS_PART,
            sends="install",
            alters=True,
            safe=True,
            carries=True,
            touches=True,
        ),
        Kind(
            name="renew_part",
            expects="the component on its release, its service up again",
            estimate=part_seconds,
            guards=(
                *_ALWAYS,
                "peers_healthy",
                "backup_sealed",
                "restore_point_there",
                "not_serving",
                "enough_stay",
                "service_well",
            ),
            observe=_part_runs,
            leaves=RUNS_PART,
            sends="install",
            disturbs=True,
            alters=True,
            carries=True,
            touches=True,
        ),
        Kind(
            name="raise_format",
            expects="the data in the new format",
            estimate=part_seconds,
            guards=(*_ALWAYS, "everyone_healthy", "backup_sealed", "restore_point_there", "service_well"),
            observe=_part_runs,
            leaves=RUNS_PART,
            alters=True,
            safe=True,
            touches=True,
        ),
        Kind(
            name="restart",
            expects="the node back in service on the release",
            estimate=restart_seconds,
            guards=(
                *_ALWAYS,
                "peers_healthy",
                "configuration_saved",
                "backup_sealed",
                "restore_point_there",
                "not_serving",
                "enough_stay",
                "upper_ready",
                "awaits_target",
                "service_well",
            ),
            observe=_restart,
            leaves=STARTED,
            disturbs=True,
            away=True,
            enters=True,
            alters=True,
            touches=True,
            overdue="{subject} did not come back within {minutes} min of its restart (installing {to}).",
            advice="Look at the console of {subject}",
        ),
        Kind(
            name=UPDATE_ALL,
            expects="every node in service on the release, brought there by the device itself",
            estimate=update_all_seconds,
            guards=(
                *_ALWAYS,
                "everyone_healthy",
                "configuration_saved",
                "backup_sealed",
                "restore_point_there",
                "package_verified",
                "enough_stay",
                "upper_ready",
                "service_well",
            ),
            observe=_all_updated,
            leaves=STARTED,
            looks_at=SYSTEM,
            whole=True,
            carries=True,
            disturbs=True,
            away=True,
            interrupts=True,
            enters=True,
            alters=True,
            touches=True,
            overdue="{system} did not bring all of its nodes to {to} within {minutes} min.",
            advice="Look at {system} what it waits for",
        ),
        Kind(
            name=QUIET,
            expects="no more sessions open than the estate allows",
            estimate=quiet_seconds,
            repeat=SAFE,
            safe=True,
            advice="Ask who is logged in on {subject}",
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
            name=RETURN,
            unasked=True,
            expects="the node answers again, its replica whole",
            estimate=restart_seconds,
            repeat=SAFE,
            overdue="{subject} did not come back within {minutes} min of the restart of what it stands on.",
            advice="Look at the console of {subject}",
        ),
        Kind(
            name=START_ON,
            unasked=True,
            expects="the node answers again, on the release that was laid for it, its replica whole",
            estimate=restart_seconds,
            leaves=STARTED,
            enters=True,
            repeat=SAFE,
            overdue="{subject} did not come back on {to} within {minutes} min of the restart of what it stands on.",
            advice="Look at the console of {subject}",
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


def doing(step: Step) -> str:
    """What a step does, in a word or two: `restart`, `install bios`."""
    row = KINDS.get(step.kind)  # a plan may come from a later Gallant
    order = (row.order if row is not None else step.kind).removesuffix("_format")  # the component says which
    order = order.replace("_", " ")
    return order if step.component == IMAGE else f"{order} {step.component}"


def told(text: str, step: Step, minutes: float = 0) -> str:
    """One of a kind's sentences, with what this step puts into it."""
    return text.format(
        subject=step.subject,
        system=step.system,
        kind=doing(step),
        to=step.to,
        expects=step.expects,
        minutes=f"{minutes:.0f}",
    )


def by_device(step: Step) -> bool:
    """Whether a step is one order that a device carries out on all of its nodes; a plan may come from a later
    Gallant."""
    row = KINDS.get(step.kind)
    return row is not None and row.whole


def nodes_of(step: Step) -> tuple[str, ...]:
    """The nodes of its system that a step is given to: those that it disturbs, where it is one order for all of
    them."""
    if not KINDS[step.kind].whole:
        return (step.node,)
    return tuple(name.partition("/")[2] for name in step.disturbs)


def nodes_looked_at(step: Step, nodes: Sequence[str]) -> Sequence[str]:
    """Whether a role has moved is seen on all nodes; everything else on the node itself."""
    return nodes if KINDS[step.kind].looks_at == SYSTEM else (step.node,)
