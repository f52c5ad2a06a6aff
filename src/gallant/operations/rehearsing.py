"""Rehearse: a plan carried out some hundred times on paper, by what was learned here; no node is contacted."""

from __future__ import annotations

from collections import Counter
from datetime import datetime
from random import Random

from gallant.core.errors import WrongUse
from gallant.core.work.events import DONE, FAILED
from gallant.core.work.plan import Plan, steps_of
from gallant.core.work.rehearsing import MOST_RUNS, Rehearsal, Tried
from gallant.core.work.rehearsing import rehearse as through
from gallant.engine.journal import replay
from gallant.operations.durations import MOST_ROLLS, learned
from gallant.operations.notices import moment_of
from gallant.operations.windows import opens_at, windows_of_plan
from gallant.operations.workplace import Workplace


def rehearse(place: Workplace, plan: Plan, runs: int, at: str | None = None, seed: int = 1) -> Rehearsal:
    """From a time on; without one from now, or from when its first window opens. Raises `WrongUse` for a number of runs that is none."""
    if not 0 < runs <= MOST_RUNS:
        raise WrongUse(f"A plan is rehearsed 1 to {MOST_RUNS} times.", next=f"gallant rehearse {plan.id} --runs 500")
    begins: datetime = opens_at(place, plan) or place.clock.now()
    if at is not None:
        begins = moment_of(place, plan.systems[0], at)
    return through(
        plan,
        place.estate,
        learned(place),
        tried(place),
        windows_of_plan(place, plan),
        begins,
        runs,
        Random(seed).random,
    )


def tried(place: Workplace) -> dict[str, Tried]:
    """How often steps of each kind were carried out in the newest rolls here, and how often one failed."""
    times, failed = Counter[str](), Counter[str]()
    for row in place.journal.rolls()[0][:MOST_ROLLS]:
        state = replay(place.journal.events(row.id))
        for step in (s for waves in state.waves.values() for s in steps_of(waves)):
            outcome = state.step(step.id).outcome
            if outcome is not None and outcome.entry.result in (DONE, FAILED):
                times[step.kind] += 1
                failed[step.kind] += outcome.entry.result == FAILED
    return {kind: Tried(kind=kind, times=count, failed=failed[kind]) for kind, count in times.items()}
