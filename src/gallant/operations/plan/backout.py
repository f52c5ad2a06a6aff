"""Back-outs: a plan that takes back what a roll did, made from its journal and from what the nodes run now."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

from gallant.core.decide.consents import roll_command
from gallant.core.documents import suggestion
from gallant.core.errors import GallantError, Refused, WrongUse
from gallant.core.estate.systems import System
from gallant.core.length.patience import with_patience
from gallant.core.length.spread import with_spread
from gallant.core.plan.back.case import did
from gallant.core.plan.back.making import make_backout
from gallant.core.ports import Driver
from gallant.core.records import clean, replace
from gallant.core.work.events import RollRow
from gallant.core.work.plan import Plan, Step, steps_of
from gallant.engine.journal import replay
from gallant.operations.ground.sealing import refuse_altered
from gallant.operations.ground.workplace import Workplace
from gallant.operations.keep.components import not_in_stock
from gallant.operations.keep.snapshots import PlaceRestorePoints
from gallant.operations.length.durations import learned
from gallant.operations.plan.loading import written
from gallant.operations.plan.making import Planned, look_at
from gallant.operations.plan.recorded import refuse_replaced
from gallant.operations.plan.windows import fits, opens_at


async def backout(place: Workplace, roll_id: str, terms: Sequence[str]) -> Planned:
    """Make the plan that takes a roll back, or what it did on some of its systems and nodes, and write it to plans/.

    Raises `Refused` while the roll is running, and where something
    has no way back; `WrongUse` for what is no part of it.
    """
    row = place.journal.roll(roll_id)
    refuse_replaced(place, row.plan, roll_id)
    refuse_altered(place, roll_id)
    chosen = _chosen(place, row.plan, terms)
    _still(place, row, tuple(chosen))
    begun = _begun(place, row)
    systems = [place.estate.systems[name] for name in chosen]
    points: list[tuple[str, str]] = []

    async def kept(drivers: Mapping[str, Driver]) -> None:
        points.extend(await _points(place, row, systems, drivers))

    looked = await look_at(place, systems, entering=False, own_roll=row.id, also=kept)
    ground = replace(looked.ground(place, systems), learned=learned(place))
    made = make_backout(
        ground,
        row.id,
        row.plan,
        did(begun, points),
        chosen,
        place.profile_digests([*systems, *looked.above]),
        place.user,
        place.identity,
    )
    made = with_spread(with_patience(made, ground.learned), ground.learned)
    return Planned(
        plan=made,
        path=written(place, made),
        findings=tuple(f for f in looked.findings if f.level == "stop"),
        to_fetch=tuple(not_in_stock(place, made)),
        roll=roll_command(made, looked.exports),
        fits=tuple(fits(place, made)),
        opens=opens_at(place, made),
    )


def _still(place: Workplace, row: RollRow, systems: Sequence[str]) -> None:
    """Raise `Refused` while the roll, or another on these systems, is under way."""
    if place.journal.is_running(row.id):
        raise Refused(
            f"{row.id} is still running; it cannot be taken back now.",
            next=f"gallant hold {row.id}, then: gallant backout {row.id}",
        )
    if row.plan.undoes is not None:
        raise Refused(
            f"{row.id} took {row.plan.undoes} back already; a roll that takes another one back cannot be taken back"
            " itself.",
            next=f"gallant plan {' '.join(row.plan.systems)} goes to the aims again",
        )
    others = (one for system in systems for one in place.journal.open_rolls(system) if one.id != row.id)
    if (other := next(others, None)) is not None:
        what = "which takes it back" if other.plan.undoes == row.id else f"of {', '.join(other.plan.systems)}"
        raise Refused(
            f"{other.id}, {what}, is not finished.",
            "Two rolls on one system would undo each other.",
            f"gallant resume {other.id} carries on; gallant hold {other.id} --for-good --reason WHY ends it where it"
            " stands.",
        )


def _begun(place: Workplace, row: RollRow) -> list[Step]:
    """The steps of a roll that were begun, in the order in which they were."""
    state = replay(place.journal.events(row.id))
    steps = {step.id: step for waves in state.waves.values() for step in steps_of(waves)}
    return [steps[step_id] for step_id in state.order if step_id in steps and state.step(step_id).attempts]


def _chosen(place: Workplace, plan: Plan, terms: Sequence[str]) -> dict[str, tuple[str, ...]]:
    """The nodes by system: those that are named, else all that the roll was about. Raises `WrongUse`."""
    if not terms:
        known = [name for name in plan.every if name in place.estate.systems]
        return {name: tuple(place.estate.systems[name].nodes) for name in known}
    found: dict[str, list[str]] = {}
    for term in terms:
        name, slash, node = term.partition("/")
        nodes = place.estate.systems[name].nodes if name in plan.every and name in place.estate.systems else {}
        if not nodes or (slash and node not in nodes):
            known = [*plan.every, *(f"{name}/{n}" for n in nodes)]
            raise WrongUse(
                f"{clean(term, 60)} is no part of that roll{suggestion(term, known)}.",
                next=f"It has {', '.join(plan.every)}.",
            )
        found.setdefault(name, []).extend([node] if slash else nodes)
    return {name: tuple(n for n in place.estate.systems[name].nodes if n in nodes) for name, nodes in found.items()}


async def _points(
    place: Workplace, row: RollRow, systems: Iterable[System], drivers: Mapping[str, Driver]
) -> list[tuple[str, str]]:
    """The releases before which the roll took a restore point that is there still, by system."""
    kept, found = PlaceRestorePoints(place, drivers), []
    for system in systems:
        lanes = (lane for lane in row.plan.lanes if lane.system == system.name)
        for hop in (hop for lane in lanes for hop in lane.hops if hop.restore_point):
            try:
                if await kept.there(system, roll=row.id, before=hop.to) is not None:
                    found.append((system.name, hop.to))
            except GallantError:  # one that cannot be looked is none to count on
                continue
    return found
