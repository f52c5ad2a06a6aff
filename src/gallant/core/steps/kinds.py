"""Kinds of step, one row each in `KINDS`: what guards it, what makes it done and how that is seen, how long it takes,
how it is undone, and what a person is told when it is overdue. The planner and the engine know no kind by name.

Observation is pure: what became of an act is judged by what the nodes say now against what they said before it. The
same rule serves the wait for an act that was accepted and the question after a crash, so both come to the same answer.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence

from gallant.core.readings import IMAGE
from gallant.core.records import Record
from gallant.core.steps.minutes import (
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
from gallant.core.steps.seen import (
    Look,
    Seen,
    all_updated,
    by_hand,
    channel_is,
    drain,
    install,
    looked_over,
    moved,
    part_laid,
    part_runs,
    preload,
    refill,
    restart,
    rewound,
    saved,
    spare_renewed,
)
from gallant.core.work.hop_work import HopWork
from gallant.core.work.plan import Step

SAFE, IF_ABSENT, NEVER = "safe", "if_absent", "never"
NODE, SYSTEM = "node", "system"


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
    (what alters is taken back as core/plan/returning.py finds it); `slotted` is `expects` where the node has a
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
            observe=saved,
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
            observe=preload,
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
            observe=drain,
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
            observe=refill,
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
            observe=install,
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
            observe=spare_renewed,
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
            observe=install,
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
            observe=rewound,
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
            observe=by_hand,
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
            observe=looked_over,
            by_person=True,
            safe=True,
        ),
        *(
            Kind(
                name=name,
                expects=f"the channel {'enabled' if on else 'disabled again'}",
                estimate=channel_seconds,
                guards=("right_machine", "own_address", "no_unknown_job", "versions_as_expected"),
                observe=channel_is(on),
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
            observe=part_laid,
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
            observe=part_runs,
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
            observe=part_runs,
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
            observe=part_runs,
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
            observe=restart,
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
            observe=all_updated,
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
            observe=moved(to_itself=False),
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
            observe=moved(to_itself=True),
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
