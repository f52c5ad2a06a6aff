"""The plan that takes back what a night's journal has."""

from __future__ import annotations

from gallant.core.plan.back.case import did
from gallant.core.plan.back.making import make_backout
from gallant.core.records import replace
from gallant.core.work.plan import Plan, steps_of
from gallant.engine.journal import replay

from .night import Night


def way_back(night: Night, undone: Plan, chosen: dict[str, tuple[str, ...]] | None = None, points=()) -> Plan:
    """The plan that takes back what the night's journal has, and a journal of its own for it."""
    state = replay(night.events)
    steps = {s.id: s for waves in state.waves.values() for s in steps_of(waves)}
    begun = [steps[name] for name in state.order if name in steps and state.step(name).attempts]
    chosen = chosen or {name: tuple(night.estate.systems[name].nodes) for name in undone.every}
    plan = make_backout(
        replace(night.ground(), now=night.world.moment),
        "roll-0001",
        undone,
        did(begun, points),
        chosen,
        {"ostrel-shoal": "p"},
        "t",
    )
    night.events.clear()
    return plan
