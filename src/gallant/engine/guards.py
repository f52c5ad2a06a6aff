"""Guards: what must hold at the moment before an act. Each looks
at fresh readings and gives the reason against, or None.

A step names its guards; the table `GUARDS` has them. None of them trusts the plan: what was true when it was made may
not be true now. Which guards apply is decided by what is there, never by what a reason says.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from datetime import datetime, timedelta

from gallant.core.catalog.products import Release
from gallant.core.estate.backups import Backup
from gallant.core.estate.capacity import rooms
from gallant.core.estate.systems import System, moving_service
from gallant.core.readings import IN_SERVICE, Reading
from gallant.core.records import Record
from gallant.core.shapes import SHAPES
from gallant.core.steps.kinds import KINDS, nodes_of
from gallant.core.steps.seen import Same, component_of
from gallant.core.work.plan import Step

MOST_FLAPS = 3  # outages that no move of roles explains, in one run


class Above(Record):
    """A system that stands on what is disturbed: fresh readings of all of its nodes, those that go down, whether they
    can be taken out of service first, and the release that they are to enter when they come back (None: what they
    run)."""

    system: System
    readings: dict[str, Reading]
    going: tuple[str, ...]
    drains: bool
    enters: str | None = None


class Scene(Record):
    """What a guard looks at: fresh readings of every node, and what the journal and the catalogs say.

    `expected` are the versions by node as the journal left them; `hop_backups` are those that the hop began with;
    `beside` are nodes that this roll works on at the same time, which are not read; `downtime_accepted`: somebody
    accepted by name that the service is down meanwhile; `restore_point` the name of the snapshot that was taken for the
    hop, where it was looked for and is there. `our_jobs` are the steps of this roll by node and the job that it gave
    them. `silent` are services of the system that do not answer, `flapping` how often each was out in this run while no
    role was moved. `backup_waived`: the system cannot export, and somebody accepted that by name. `above` are the
    systems that stand on it, `falling_accepted` those of them of which somebody accepted by name that they are down
    meanwhile; `losing_accepted` the nodes of which somebody accepted that they lose what they never saved.
    """

    step: Step
    system: System
    readings: dict[str, Reading]
    expected: dict[str, str]
    release: Release | None
    release_as_planned: bool
    backups: tuple[Backup, ...]
    backup_limit: timedelta
    hop_backups: tuple[str, ...]
    restore_point: str | None
    beside: tuple[str, ...] = ()
    downtime_accepted: bool = False
    above: tuple[Above, ...] = ()
    falling_accepted: tuple[str, ...] = ()
    losing_accepted: tuple[str, ...] = ()
    ceiling_percent: float = 100
    our_jobs: dict[tuple[str, str], str] = {}
    backup_waived: bool = False
    silent: tuple[str, ...] = ()
    flapping: dict[str, int] = {}
    now: datetime

    @property
    def reading(self) -> Reading:
        return self.readings[self.step.node]

    @property
    def others(self) -> Sequence[Reading]:
        return [r for n, r in self.readings.items() if n != self.step.node]


def _right_machine(scene: Scene, same: Same) -> str | None:
    expected = scene.system.nodes[scene.step.node].serial
    if scene.reading.serial != expected:
        return f"{scene.step.subject} answers as serial {scene.reading.serial}, not {expected}"
    return None


def _own_address(scene: Scene, same: Same) -> str | None:
    moving = moving_service(scene.system, scene.step.node)
    return f"{scene.step.subject} is reached at the address of {moving}, which moves" if moving is not None else None


def _no_unknown_job(scene: Scene, same: Same) -> str | None:
    for reading in scene.readings.values():
        for job in reading.running_jobs:
            step = scene.our_jobs.get((reading.node, job.id))
            if step is not None:
                return f"{reading.name} still says that it carries out {step} ({job.message})"
            return f"{reading.name} runs a job that is not ours: {job.kind} {job.id} ({job.message})"
    return None


def _versions_as_expected(scene: Scene, same: Same) -> str | None:
    for node, reading in scene.readings.items():
        if node in scene.expected and not same(scene.system.product, reading.version, scene.expected[node]):
            return f"{reading.name} runs {reading.version}; by the journal it should run {scene.expected[node]}"
    return None


def _not_recalled(scene: Scene, same: Same) -> str | None:
    if scene.release is None:
        return f"{scene.step.to} is no longer in the catalog"
    if scene.release.recall is not None and not scene.step.despite_recall:
        return f"{scene.step.to} was {scene.release.recall.words}"
    return (
        None
        if scene.release_as_planned
        else f"what the catalog says of {scene.step.to} has changed since the plan was made"
    )


def _unhealthy(readings: Sequence[Reading], parted: Sequence[str] = ()) -> str | None:
    """Why some nodes are not healthy; of those that are `parted`
    from another by this roll's own work no replica is asked."""
    for reading in readings:
        if reading.state != "in_service":
            return f"{reading.name} is not in service"
        if reading.in_sync is False and reading.node not in parted:
            return f"{reading.name} is not in sync ({reading.sync_word})"
        if reading.running_jobs:
            return f"{reading.name} is busy: {reading.running_jobs[0].kind}"
    return None


def _peers_healthy(scene: Scene, same: Same) -> str | None:
    """Work that brings a node back needs of the others only that none of them is disturbed by it."""
    return _unhealthy(scene.others, _parted(scene)) if _in_service(scene.reading) else None


def _parted(scene: Scene) -> tuple[str, ...]:
    """The nodes of other groups of which one is worked on beside this step:
    what they lack comes from there, and is not ours to wait for."""
    groups = SHAPES[scene.system.shape].groups(tuple(scene.system.nodes))
    return tuple(
        node for group in groups if scene.step.node not in group and set(group) & set(scene.beside) for node in group
    )


def _in_service(reading: Reading) -> bool:
    return reading.state == IN_SERVICE


def _enough_stay(scene: Scene, same: Same) -> str | None:
    """With this node and those beside it away, no more are out than the shape tolerates."""
    nodes, shape = len(scene.system.nodes), SHAPES[scene.system.shape]
    if not _in_service(scene.reading):
        return None  # it is out already: this brings it back
    out = {n for n, r in scene.readings.items() if not _in_service(r)} | {*scene.beside, scene.step.node}
    if len(out) <= shape.tolerates(nodes):
        return _too_full(scene) if shape.shares_load else None
    if not shape.tolerates(nodes):
        alone = f"{scene.system.name} has nothing that carries on while {scene.step.subject} is away"
        return None if scene.downtime_accepted else alone
    return (
        f"{len(out)} of {nodes} nodes would be out of service ({', '.join(sorted(out))}); "
        f"{scene.system.name} tolerates {shape.tolerates(nodes)}"
    )


def _upper_ready(scene: Scene, same: Same) -> str | None:
    """Whatever stands on the node is out of service already, or can do without it."""
    for one in scene.above:
        if surprise := _would_start_another(one, same):
            return f"{surprise}, and stands on {scene.step.subject}"
        going = [one.readings[node] for node in one.going if _in_service(one.readings[node])]
        reason = _upper_against(scene, one, going) if going else _leads_aside(one)
        if reason is not None:
            return f"{reason} stands on {scene.step.subject}"
    return None


def _would_start_another(one: Above, same: Same) -> str | None:
    """What comes back with the machine below it comes back on what it runs, or on what the plan says."""
    for reading in (one.readings[node] for node in one.going):
        then = one.enters or reading.version
        if reading.next_version is not None and not same(one.system.product, reading.next_version, then):
            return f"{reading.name} runs {reading.version} and would start {reading.next_version}"
    return None


def _leads_aside(one: Above) -> str | None:
    """What was taken out of service may have come to lead since, where
    another went by itself: it hands over before it goes down."""
    shape = SHAPES[one.system.shape]
    leads = next((r for n in one.going if (r := one.readings[n]).role in shape.heads), None)
    others = any(_in_service(r) for n, r in one.readings.items() if n not in one.going)
    return f"{leads.name} is {leads.role} though it is out of service, and" if leads is not None and others else None


def _upper_against(scene: Scene, one: Above, going: Sequence[Reading]) -> str | None:
    name, nodes, shape = one.system.name, len(one.system.nodes), SHAPES[one.system.shape]
    out = {n for n, r in one.readings.items() if not _in_service(r)} | set(one.going)
    if not shape.tolerates(nodes):
        return None if name in scene.falling_accepted else f"{name} would be down, and"
    if len(out) > shape.tolerates(nodes):
        return (
            f"{name} tolerates {shape.tolerates(nodes)} of {nodes} nodes out, {', '.join(sorted(out))} would be,"
            " and one"
        )
    if one.drains:
        return f"{going[0].name} still carries, and"
    leads = next((r for r in going if not shape.may_leave(r, nodes)), None)
    if leads is not None:
        return f"{leads.name} is {leads.role}, and"
    unwell = _unhealthy([r for n, r in one.readings.items() if n not in one.going])
    return f"{unwell}, and {going[0].name}" if unwell is not None else None


def _too_full(scene: Scene) -> str | None:
    """What this node carries has to fit onto those that stay."""
    carrying = [r for r in scene.readings.values() if _in_service(r)]
    for room in rooms(carrying, 1):
        if room.then > scene.ceiling_percent:
            return (
                f"without {scene.step.subject} the {room.gauge} of the others would be {room.then:.0f} %, "
                f"over {scene.ceiling_percent:.0f} %"
            )
    return None


def _everyone_healthy(scene: Scene, same: Same) -> str | None:
    return _unhealthy(list(scene.readings.values()))


def _backup_sealed(scene: Scene, same: Same) -> str | None:
    """A node that is disturbed needs a backup of what it runs; a move of roles one of the hop that it belongs to."""
    if scene.backup_waived:
        return None
    fresh = [b for b in scene.backups if b.sealed is not None and scene.now - b.taken <= scene.backup_limit]
    hours = scene.backup_limit.total_seconds() / 3600
    if KINDS[scene.step.kind].moves:
        kept = any(backup.id in scene.hop_backups for backup in fresh)
        return None if kept else _no_backup(scene.system, scene.reading.version, hours)
    product = scene.system.product
    for node in nodes_of(scene.step):
        version = scene.readings[node].version
        there = KINDS[scene.step.kind].whole and same(product, version, scene.step.to)  # and nothing more is done on it
        if not there and not any(same(product, backup.versions.get(node), version) for backup in fresh):
            return _no_backup(scene.system, version, hours)
    return None


def _configuration_saved(scene: Scene, same: Same) -> str | None:
    """Whatever goes down with the step would start with what it runs, or somebody accepted by name that it does not."""
    going = [scene.readings[node] for node in nodes_of(scene.step)]
    going += [one.readings[node] for one in scene.above for node in one.going]
    for reading in going:
        if reading.unsaved and reading.name not in scene.losing_accepted:
            return f"{reading.name} runs what it would not start with; a restart would lose it"
    return None


def _no_backup(system: System, version: str, hours: float) -> str:
    return f"{system.name} has no sealed backup of {version} that is younger than {hours:g} h"


def _restore_point_there(scene: Scene, same: Same) -> str | None:
    if scene.restore_point is not None:
        return None
    return f"the restore point of {scene.system.name} that the plan asks for is not there"


def _package_verified(scene: Scene, same: Same) -> str | None:
    packages = scene.release.packages if scene.release else ()
    package = next((p for p in packages if (p.name, p.sha256) == (scene.step.package, scene.step.sha256)), None)
    if package is None:
        return f"{scene.step.package or 'the package'} of {scene.step.to} is not in the catalog"
    there = next((p for p in scene.reading.packages if p.name == package.name), None)
    if there is None:
        return f"{package.name} is not on {scene.step.subject}"
    if there.sha256 != package.sha256:
        return f"{package.name} on {scene.step.subject} is not the catalog's: its digest is {there.sha256[:12]}…"
    return None


def _not_serving(scene: Scene, same: Same) -> str | None:
    shape = SHAPES[scene.system.shape]
    if not _in_service(scene.reading):  # it may have come to lead since, where another went by itself
        leads = scene.reading.role in shape.heads and any(_in_service(r) for r in scene.others)
        return f"{scene.step.subject} is {scene.reading.role} though it is out of service" if leads else None
    if shape.may_leave(scene.reading, len(scene.system.nodes)):
        return None
    return f"{scene.step.subject} is {scene.reading.role}; only a {' or '.join(shape.leaving)} node is restarted"


def _awaits_target(scene: Scene, same: Same) -> str | None:
    awaited = scene.reading.next_version
    if awaited is not None and not same(scene.step.product, awaited, scene.step.to):
        return f"{scene.step.subject} would start {awaited}, not {scene.step.to}"
    for brought in scene.step.brings:
        part = component_of(scene.reading, brought.component)
        awaited = part.next_version if part is not None else None
        if awaited is not None and not same(brought.product, awaited, brought.version):
            return f"{scene.step.subject} would start {brought.component} {awaited}, not {brought.version}"
    return None  # a device that does not tell: the install's own outcome stands


def _service_well(scene: Scene, same: Same) -> str | None:
    """What is out already, or comes and goes by itself, is not made worse, nor is the work blamed for it. A node that
    is out carries nothing, so work that brings it back makes nothing worse."""
    if not _in_service(scene.reading):
        return None
    for name in scene.silent:
        return f"the service {name} does not answer"
    for name, times in scene.flapping.items():
        if times >= MOST_FLAPS:
            return f"the service {name} was out {times} times while no role was moved"
    return None


GUARDS: Mapping[str, Callable[[Scene, Same], str | None]] = {
    "right_machine": _right_machine,
    "own_address": _own_address,
    "no_unknown_job": _no_unknown_job,
    "versions_as_expected": _versions_as_expected,
    "not_recalled": _not_recalled,
    "peers_healthy": _peers_healthy,
    "everyone_healthy": _everyone_healthy,
    "backup_sealed": _backup_sealed,
    "configuration_saved": _configuration_saved,
    "restore_point_there": _restore_point_there,
    "package_verified": _package_verified,
    "not_serving": _not_serving,
    "enough_stay": _enough_stay,
    "upper_ready": _upper_ready,
    "awaits_target": _awaits_target,
    "service_well": _service_well,
}


# What to do about a reason against, where a check of the system does not say it best.
ADVICE = {
    "service_well": "Find out why, then go on",
    "no_unknown_job": "Wait for it, or end it at the node, then go on",
    "configuration_saved": "Save it at its console, or undo it, then go on",
    "awaits_target": "Look what {subject} would start, and why",
    "versions_as_expected": "gallant verify {system}",
}
# Those that nothing may ever satisfy again, so that ending the roll is one of the ways.
FINAL = ("no_unknown_job", "awaits_target", "versions_as_expected")


class Objection(Record):
    """A guard that does not let a step begin, and why."""

    guard: str
    reason: str


def objections(scene: Scene, same: Same) -> list[Objection]:
    """Everything against the step now; empty where it may go ahead."""
    return [
        Objection(guard=name, reason=reason)
        for name in scene.step.guards
        if (reason := GUARDS[name](scene, same)) is not None
    ]
