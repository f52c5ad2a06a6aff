"""Every call of a plan, as it would be sent, with nothing sent and no node contacted."""

from __future__ import annotations

from collections.abc import Mapping

from gallant.core.estate.systems import System
from gallant.core.ports import Act, Driver, act_of
from gallant.core.records import Record
from gallant.core.steps.kinds import BACKUP, KINDS, REWIND, SNAPSHOT, doing
from gallant.core.work.plan import Plan, Step
from gallant.operations.ground.keepers import drivers_of, keepers_of
from gallant.operations.ground.workplace import Workplace


class Spoken(Record):
    """One step with its calls; `asked`: they read, and change nothing. `at` is the node that is spoken to."""

    step: str
    at: str
    doing: str
    asked: bool
    calls: tuple[str, ...]


class PlanCalls(Record):
    """The calls of a plan: those of each step, and by system those that
    read its nodes, before each step and while it is waited for."""

    plan: str
    steps: tuple[Spoken, ...]
    reads: dict[str, tuple[str, ...]]


async def calls_of(place: Workplace, plan: Plan) -> PlanCalls:
    """What a roll of the plan would say to the nodes; the order of nodes is the plan's, and their roles may change
    it."""
    systems = [place.estate.systems[name] for name in plan.every if name in place.estate.systems]
    async with drivers_of(place, systems) as drivers:
        said = [_spoken(place, plan, step, drivers) for step in plan.steps() if step.system in drivers]
        reads = {name: drivers[name].asks() for name in plan.every if name in drivers}
    return PlanCalls(plan=plan.id, steps=tuple(said), reads=reads)


def _spoken(place: Workplace, plan: Plan, step: Step, drivers: Mapping[str, Driver]) -> Spoken:
    row, driver, system = KINDS[step.kind], drivers[step.system], place.estate.systems[step.system]
    at, calls = step.subject, tuple[str, ...]()
    if step.kind == BACKUP:
        calls = driver.exports_of()
    elif step.kind in (SNAPSHOT, REWIND):
        at, calls = _at_the_keeper(place, system, step, drivers)
    elif row.driven:
        calls = driver.orders_of(step.node, act_of(step, f"ROLL {step.id}"))
    return Spoken(step=step.id, at=at, doing=doing(step), asked=not row.driven and not calls, calls=calls)


def _at_the_keeper(
    place: Workplace, system: System, step: Step, drivers: Mapping[str, Driver]
) -> tuple[str, tuple[str, ...]]:
    """A restore point is kept by the system itself, or by the machine that it is a guest on."""
    order = "snapshot" if step.kind == SNAPSHOT else "revert_snapshot"
    name, host = next(iter(keepers_of(place, system).items()), (step.subject, system))
    own = "snapshot" in drivers[system.name].capabilities()
    at, driver = (step.subject, drivers[system.name]) if own else (name, drivers[host.name])
    act = Act(kind=order, reason=f"ROLL-before-{step.to}_…", package="" if own else system.name)
    return at, driver.orders_of(at.partition("/")[2], act)
