"""Rehearse: a plan carried out some hundred times by the engine on twins of its systems; no node is contacted."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Mapping
from datetime import datetime

from gallant.core.catalog.products import Product
from gallant.core.decide.consents import consents_needed
from gallant.core.errors import Refused, WrongUse
from gallant.core.estate.systems import node_name
from gallant.core.length.rehearsing import MOST_RUNS, Rehearsal, Tried, failing, lasting, rehearsed
from gallant.core.readings import Reading
from gallant.core.work.events import DONE, FAILED
from gallant.core.work.plan import Plan, steps_of
from gallant.drivers.profile_reading import load_profile
from gallant.engine.journal import replay
from gallant.operations.decide.bookings import moment_of
from gallant.operations.ground.workplace import Workplace, knows_of
from gallant.operations.length.durations import MOST_ROLLS, learned
from gallant.operations.plan.windows import opens_at, windows_of_plan
from gallant.operations.roll.carrying import watched
from gallant.operations.roll.refusing import systems_of
from gallant.twins.many import nights
from gallant.twins.world import Cast

SEED = 1


def rehearse(
    place: Workplace,
    plan: Plan,
    runs: int,
    at: str | None = None,
    seed: int = SEED,
    tick: Callable[[int, int], None] = lambda done, of: None,
) -> Rehearsal:
    """From a time on; without one from now, or from when its first window opens. Raises `WrongUse` for a number of runs
    that is none, and `Refused` where it is not known how its systems were when the plan was made."""
    if not 0 < runs <= MOST_RUNS:
        raise WrongUse(f"A plan is rehearsed 1 to {MOST_RUNS} times.", next=f"gallant rehearse {plan.id} --runs 500")
    begins: datetime = opens_at(place, plan) or place.clock.now()
    if at is not None:
        begins = moment_of(place, plan.systems[0], at)
    cast, seen = cast_of(place, plan, begins, runs, seed)
    return rehearsed(plan, begins, cast.windows, nights(cast, runs, seed, tick), seen)


def cast_of(place: Workplace, plan: Plan, begins: datetime, runs: int, seed: int) -> tuple[Cast, int]:
    """The twins and all that is known of them, and of how many steps."""
    systems, observations = systems_of(place, plan), learned(place)
    knows = {system.name: knows_of(load_profile(system.profile, place.folder)) for system in systems}
    exports = [name for name in plan.systems if "export" in knows[name].capabilities]
    lasts = lasting(plan, observations, runs, seed)
    cast = Cast(
        plan=plan,
        estate=place.estate,
        readings=_twins(place, plan),
        knows=knows,
        products=_products(place, plan),
        windows=windows_of_plan(place, plan),
        begins=begins,
        lasts=lasts,
        usual={step: float(sorted(drawn)[len(drawn) // 2]) for step, drawn in lasts.items()},
        fails=failing(tried(place)),
        watches=tuple(one for one in watched(place, systems, plan.down_s)[1] if one.system in knows),
        consents=tuple(one.consent.words for one in consents_needed(plan, exports)),
    )
    return cast, len(observations)


def _twins(place: Workplace, plan: Plan) -> dict[str, Reading]:
    """What each node told last, while it still runs what the plan was made for; else what it told then."""
    newest = {name: last.reading for name, last in place.readings.newest(list(plan.every)).items()}
    then: Mapping[str, Reading] | None = None
    found = {}
    for system in systems_of(place, plan):
        for node in system.nodes:
            name = node_name(system, node)
            reading = newest.get(name)
            if reading is None or reading.version != plan.basis.versions.get(name):
                then = place.readings.as_of(plan.made) if then is None else then
                reading = then.get(name)
            if reading is None or reading.version != plan.basis.versions.get(name):
                raise Refused(
                    f"{plan.id} is not rehearsed: what {name} was like when it was made is not kept any more.",
                    next=f"gallant plan {' '.join(plan.systems)} makes a new one.",
                )
            found[name] = reading
    return found


def _products(place: Workplace, plan: Plan) -> dict[str, Product]:
    """The catalogs of what it moves."""
    names = {place.estate.systems[name].product for name in plan.every}
    names |= {key.rpartition(" ")[0] for key in plan.basis.releases}
    names |= {part.product for lane in plan.lanes for hop in lane.hops for part in hop.parts}
    return {name: product for name, product in place.products.items() if name in names}


def tried(place: Workplace) -> dict[str, Tried]:
    """How often steps of each kind were carried out in the newest rolls here, and how often one failed."""
    times, failed = Counter[str](), Counter[str]()
    for row in place.journal.rolls(most=MOST_ROLLS)[0]:
        state = replay(place.journal.events(row.id))
        for step in (s for waves in state.waves.values() for s in steps_of(waves)):
            outcome = state.step(step.id).outcome
            if outcome is not None and outcome.entry.result in (DONE, FAILED):
                times[step.kind] += 1
                failed[step.kind] += outcome.entry.result == FAILED
    return {kind: Tried(kind=kind, times=count, failed=failed[kind]) for kind, count in times.items()}
