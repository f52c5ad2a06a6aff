"""Deadlines for a plan as a whole. Each step has one that all but one of a hundred keep; of a hundred steps one would
be late in most nights, and nothing would be wrong. So all of them are longer by one factor: the least by which, of the
nights that could be, all but a few keep every one."""

from __future__ import annotations

from gallant.core.length.learning import Draws, model_of
from gallant.core.length.spread import drawn, product_of
from gallant.core.records import replace
from gallant.core.steps.kinds import KINDS
from gallant.core.work.paces import Array, Observation
from gallant.core.work.plan import Hop, Plan, steps_of

STOPPED_BY_TIME = (
    0.008  # of the nights in which nothing is wrong; below one of a hundred, with what a number of draws is off by
)
SEEDS = range(41, 46)  # of so many thousand nights more than one look has: what is asked about is rare


def with_patience(plan: Plan, observations: tuple[Observation, ...]) -> Plan:
    """The plan with the deadlines of all of its steps together, under the name that it has then."""
    factor = _factor(plan, observations)
    lanes = tuple(replace(lane, hops=tuple(_longer(hop, factor) for hop in lane.hops)) for lane in plan.lanes)
    return replace(plan, lanes=lanes).named()


def _factor(plan: Plan, observations: tuple[Observation, ...]) -> float:
    import numpy as np

    model = model_of(observations)
    nights = [worst for seed in SEEDS if (worst := _worst(plan, model.draws(seed))) is not None]
    return max(1.0, float(np.quantile(np.concatenate(nights), 1.0 - STOPPED_BY_TIME))) if nights else 1.0


def _worst(plan: Plan, draws: Draws) -> Array | None:
    """In each of the nights, by how much the step that is latest is over its deadline, as a factor."""
    import numpy as np

    worst: Array | None = None
    for lane in plan.lanes:
        product = product_of(lane)
        for hop in lane.hops:
            for step in (s for s in steps_of(hop.waves) if not KINDS[s.kind].by_person):
                over = drawn(draws, product, hop, step) / step.deadline_s
                worst = over if worst is None else np.maximum(worst, over)
    return worst


def _longer(hop: Hop, factor: float) -> Hop:
    """The hop, and its steps as they will be made once more in the roll."""
    waves = tuple(
        replace(
            wave,
            tracks=tuple(
                replace(t, steps=tuple(replace(s, deadline_s=factor * s.deadline_s) for s in t.steps))
                for t in wave.tracks
            ),
        )
        for wave in hop.waves
    )
    return replace(hop, patience=factor, waves=waves)
