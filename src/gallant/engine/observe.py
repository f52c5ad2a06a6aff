"""What became of an act, judged by what the nodes say now against what they said before it: pure, one rule a kind.

The same rules serve the wait for an act that was accepted and the question after a crash; so a roll that was killed
cannot judge otherwise than one that was left alone.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping

from gallant.core.events import Before
from gallant.core.plan import Step
from gallant.core.readings import IN_SERVICE, Job, Reading
from gallant.core.records import Record

DONE, GOING, FAILED, ABSENT, UNREACHED = "done", "going", "failed", "absent", "unreached"
Readings = Mapping[str, Reading | None]
Same = Callable[[str | None, str | None], bool]


class Look(Record):
    """`absent`: nothing shows that the act ever began. `unreached`: the node that could tell does not answer."""

    state: str
    message: str = ""
    percent: float | None = None
    remaining_s: float | None = None
    handle: str | None = None


def observe(step: Step, readings: Readings, before: Before, handle: str | None, same: Same) -> Look:
    """What became of the step's act. `same` tells whether two texts name one release of the product."""
    return RULES[step.kind](step, readings, before, handle, same)


def _job_of(step: Step, reading: Reading, before: Before, handle: str | None) -> Job | None:
    """The newest job that the act began: by its handle, else one of its kind that was not there before."""
    if handle is not None:
        return next((job for job in reading.jobs if job.id == handle), None)
    fresh = [job for job in reading.jobs if job.kind == step.kind and job.id not in before.jobs]
    return fresh[-1] if fresh else None


def _by_job(job: Job | None) -> Look | None:
    """What the job alone decides: it goes on, or it failed."""
    if job is None or job.state == "done":
        return None
    state = {"running": GOING, "failed": FAILED}.get(job.state, GOING)
    return Look(state=state, message=job.message, percent=job.percent, remaining_s=job.remaining_s, handle=job.id)


def _preload(step: Step, readings: Readings, before: Before, handle: str | None, same: Same) -> Look:
    reading = readings[step.node]
    if reading is None:
        return Look(state=UNREACHED)
    there = next((p for p in reading.packages if p.name == step.package), None)
    if there is None:  # a device that fetches it by itself has a job for that
        job = _job_of(step, reading, before, handle)
        if job is not None and job.state == "done":
            return Look(state=FAILED, message=f"its job says that it is done, and {step.package} is not there")
        return _by_job(job) or Look(state=ABSENT)
    if there.sha256 == step.sha256:
        return Look(state=DONE, message=f"{there.name} is there, its digest as in the catalog")
    return Look(
        state=FAILED,
        message=f"{there.name} was altered on the way: the node computes {there.sha256[:12]}…, "
        f"the catalog says {(step.sha256 or '')[:12]}…",
    )


def _install(step: Step, readings: Readings, before: Before, handle: str | None, same: Same) -> Look:
    reading = readings[step.node]
    if reading is None:
        return Look(state=UNREACHED)
    job = _job_of(step, reading, before, handle)
    by_job = _by_job(job)
    if by_job is not None:
        return by_job
    if same(reading.next_version, step.to):
        return Look(state=DONE, message=f"{reading.next_version} runs from the next restart on")
    if job is not None and reading.next_version is None:  # the device does not tell; its job's word has to do
        return Look(state=DONE, message=job.message or "its job says that it is done")
    if job is not None:
        return Look(
            state=FAILED,
            message=f"the install says it is done, and {reading.next_version or reading.version} would start next",
        )
    return Look(state=ABSENT)


def _restart(step: Step, readings: Readings, before: Before, handle: str | None, same: Same) -> Look:
    reading = readings[step.node]
    if reading is None:
        return Look(state=GOING, message="does not answer: it is restarting")
    if reading.boot != before.boot:
        if not same(reading.version, step.to):
            return Look(state=FAILED, message=f"came back on {reading.version}, not on {step.to}")
        if reading.state == IN_SERVICE:
            return Look(state=DONE, message=f"back on {reading.version}")
        return Look(state=GOING, message=f"back on {reading.version}, not yet in service")
    return _by_job(_job_of(step, reading, before, handle)) or Look(state=ABSENT)


def _roles(step: Step, readings: Readings, before: Before, handle: str | None, same: Same) -> Look:
    """A handover is done when another node is active; a failback when this one is."""
    reading = readings[step.node]
    active = [name for name, r in readings.items() if r is not None and r.role == "active"]
    there = active == [step.node] if step.kind == "failback" else len(active) == 1 and active != [step.node]
    if there and reading is not None:
        return Look(state=DONE, message=f"{step.system}/{active[0]} is active")
    if reading is None:
        return Look(state=UNREACHED)
    job = _job_of(step, reading, before, handle)
    if job is not None and job.state == "done":
        return Look(state=GOING, message="the move is done; the roles do not show it yet", handle=job.id)
    return _by_job(job) or Look(state=ABSENT)


RULES: dict[str, Callable[[Step, Readings, Before, str | None, Same], Look]] = {
    "preload": _preload,
    "install": _install,
    "restart": _restart,
    "handover": _roles,
    "failback": _roles,
}
