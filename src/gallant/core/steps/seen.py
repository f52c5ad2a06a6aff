"""How the effect of each kind of step is seen: from readings before and after, never from what was ordered."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from gallant.core.readings import IN_SERVICE, Component, Job, Reading
from gallant.core.records import Record
from gallant.core.shapes import SHAPES
from gallant.core.work.events import Before
from gallant.core.work.knows import ANSWERS, SERVES
from gallant.core.work.plan import Step

DONE, GOING, FAILED, ABSENT, UNREACHED, UNTOLD = "done", "going", "failed", "absent", "unreached", "untold"
PAUSED = "paused"
Readings = Mapping[str, Reading | None]
Same = Callable[[str, str | None, str | None], bool]  # product, and two texts that may name one release of it


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

    `order` is the name that the step's job has on the device. `same` tells whether two texts name one release of a
    product. `taken_s` is for how long the node has had the order, by its own answer.
    """

    step: Step
    order: str
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
        fresh = [job for job in reading.jobs if job.kind == self.order and job.id not in self.before.jobs]
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


def preload(seen: Seen) -> Look:
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


def install(seen: Seen) -> Look:
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


def part_laid(seen: Seen) -> Look:
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


def part_runs(seen: Seen) -> Look:
    """A component that runs as soon as it is installed."""
    reading, name = seen.own, seen.step.component
    if reading is None:
        return Look(state=UNREACHED)
    part, going = component_of(reading, name), seen.by_job(reading)
    if going is not None:
        return going
    if part is not None and seen.is_goal(part.version):
        return Look(state=DONE, message=f"{name} runs {part.version}")
    if seen.job(reading) is None:  # what it runs is seen in any case; whether it has begun may not be
        return Look(state=ABSENT) if reading.tells_work or seen.taken_s is not None else Look(state=UNTOLD)
    if part is not None and seen.is_goal(part.next_version):
        words = f"{name} is installed, and runs only from a restart on; the publisher says none"
    else:
        words = f"its job says that it is done, and {name} runs {part.version if part is not None else 'nothing of it'}"
    return Look(state=FAILED, message=words)


def restart(seen: Seen) -> Look:
    reading, step = seen.own, seen.step
    if reading is None:
        return Look(state=GOING, message="does not answer: it is restarting", stage=ANSWERS)
    if reading.boot == seen.before.boot:
        return seen.by_job(reading) or Look(state=ABSENT)
    if not seen.is_goal(reading.version):
        return Look(state=FAILED, message=f"came back on {reading.version}, not on {step.to}", shown=True)
    if (wrong := _not_brought(seen, reading)) is not None:
        return wrong
    if reading.state == IN_SERVICE or step.aside:
        return Look(state=DONE, message=f"back on {reading.version}")
    return Look(state=GOING, message=f"back on {reading.version}, not yet in service", stage=SERVES)


def _not_brought(seen: Seen, reading: Reading) -> Look | None:
    """The first component that the restart should have brought along and did not."""
    for brought in seen.step.brings:
        part = component_of(reading, brought.component)
        if part is None or not seen.same(brought.product, part.version, brought.version):
            told = part.version if part is not None else "nothing of it"
            message = f"came back with {brought.component} on {told}, not on {brought.version}"
            return Look(state=FAILED, message=message, shown=True)
    return None


def spare_renewed(seen: Seen) -> Look:
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


def rewound(seen: Seen) -> Look:
    """A system of one node is back where its restore point has it."""
    reading = seen.own
    if reading is None:
        return Look(state=GOING, message="does not answer: it is going back", stage=ANSWERS)
    if not seen.is_goal(reading.version) or reading.boot == seen.before.boot:
        return seen.by_job(reading) or Look(state=ABSENT)
    if reading.state == IN_SERVICE:
        return Look(state=DONE, message=f"back on {reading.version}, as it was when its restore point was taken")
    return Look(state=GOING, message=f"back on {reading.version}, not yet in service", stage=SERVES)


def all_updated(seen: Seen) -> Look:
    """A device brings its own nodes to the release, one after the other: it is done when every one of them runs it in
    service. Its job is told by whichever node answers; what it says is believed only of how far it is."""
    heard = {node: reading for node, reading in seen.readings.items() if reading is not None}
    serving = {node: reading for node, reading in heard.items() if reading.state == IN_SERVICE}
    out = tuple(node for node in seen.readings if node not in serving)
    weak = tuple(node for node, reading in serving.items() if reading.in_sync is False)
    short = tuple(node for node, reading in serving.items() if not _entered(seen, reading))
    job = next((job for reading in heard.values() if (job := seen.job(reading)) is not None), None)
    if not out and not short and (job is None or job.state == DONE):
        return Look(state=DONE, message=f"every node runs {seen.step.to}")
    if job is None:
        return Look(state=GOING if out else ABSENT, message=f"{', '.join(out)} out of service", out=out, weak=weak)
    left = ", ".join((*out, *short))
    if job.state == DONE and not out:
        return Look(state=FAILED, message=f"its job says that it is done, and {left} runs another release", shown=True)
    return Look(
        state={"failed": FAILED, PAUSED: PAUSED}.get(job.state, GOING),
        message=job.message or f"{left} still to come",
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


def by_hand(seen: Seen) -> Look:
    """Somebody worked on the node: it was switched off, and is there again."""
    reading = seen.own
    if reading is None:
        return Look(state=GOING, message="does not answer: somebody works on it")
    if reading.boot == seen.before.boot:
        return Look(state=ABSENT)
    return Look(state=DONE, message="has started again since")


def channel_is(on: bool) -> Callable[[Seen], Look]:
    def observe(seen: Seen) -> Look:
        reading, name = seen.own, seen.step.component
        if reading is None:
            return Look(state=UNREACHED)
        channel = next((c for c in reading.channels or () if c.name == name), None)
        if channel is not None and channel.enabled is on:
            return Look(state=DONE, message=f"{name} is {'enabled' if on else 'disabled'}")
        return seen.by_job(reading) or Look(state=ABSENT)

    return observe


def saved(seen: Seen) -> Look:
    reading = seen.own
    if reading is None:
        return Look(state=UNREACHED)
    if not reading.unsaved:
        return Look(state=DONE, message="it would start with what it runs")
    return seen.by_job(reading) or Look(state=ABSENT)


def looked_over(seen: Seen) -> Look:
    """Only the person knows."""
    return Look(state=ABSENT)


def drain(seen: Seen) -> Look:
    reading = seen.own
    if reading is None:
        return Look(state=UNREACHED)
    if reading.state != IN_SERVICE:
        return seen.by_job(reading) or Look(state=DONE, message="out of service, and carries nothing")
    return seen.by_job(reading) or Look(state=ABSENT)


def refill(seen: Seen) -> Look:
    reading = seen.own
    if reading is None:
        return Look(state=UNREACHED)
    going = seen.by_job(reading)
    if going is None and reading.state == IN_SERVICE:
        return Look(state=DONE, message="in service, and carries again")
    return going or Look(state=ABSENT)


def _heads_of_group(seen: Seen) -> list[str]:
    """The nodes of the step's own group (the pair, of several) that say that they lead it."""
    shape = SHAPES[seen.shape]
    group = next(g for g in shape.groups(tuple(seen.readings)) if seen.step.node in g)
    return [node for node in group if (r := seen.readings[node]) is not None and r.role in shape.heads]


def moved(to_itself: bool) -> Callable[[Seen], Look]:
    """A handover is done when another node serves; a failback when this one does."""

    def observe(seen: Seen) -> Look:
        node, reading = seen.step.node, seen.own
        heads = _heads_of_group(seen)
        there = heads == [node] if to_itself else len(heads) == 1 and heads != [node]
        if reading is None:
            return Look(state=UNREACHED)
        if there:
            serving = seen.readings[heads[0]]
            return Look(state=DONE, message=f"{seen.step.system}/{heads[0]} is {serving.role if serving else 'there'}")
        job = seen.job(reading)
        if job is not None and job.state == "done":
            return Look(state=GOING, message="the move is done; the roles do not show it yet", handle=job.id)
        return seen.by_job(reading) or Look(state=ABSENT)

    return observe
