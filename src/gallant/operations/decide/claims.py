"""What rolls saw of a publisher's claims, from their journals and the catalogs as they are."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from gallant.core.after.claims import LEAST_S, Claim, Fact, held_against
from gallant.core.errors import GallantError
from gallant.core.records import Record
from gallant.core.work.events import RollRow
from gallant.core.work.plan import Plan, Step, steps_of
from gallant.engine.journal import StepState, replay, taken_up, watched_through
from gallant.operations.ground.workplace import Workplace

LEAST_REAL_S = 3.0  # what asking and answering take; on a simulated clock that is many minutes
MOST_ROLLS = 30  # the newest, for a plan: what was seen years ago says little of today's releases


class Borne(Record):
    """A claim, and the roll that saw otherwise."""

    claim: Claim
    roll: str


def claims_of(place: Workplace, row: RollRow) -> tuple[Claim, ...]:
    """What one roll saw that its publishers do not say."""
    events = place.journal.events(row.id)
    state = replay(events)
    waves = [hop_waves for lane in row.plan.lanes for hop in lane.hops if (hop_waves := state.waves.get(hop.id))]
    known = {step.id: step for each in waves for step in steps_of(each)}
    unwatched = taken_up(events)
    done = ((known[name], state.step(name)) for name in state.order if name in known)
    facts = [fact for step, own in done if (fact := _fact(step, own, unwatched)) is not None]
    least_s = max(LEAST_S, place.clock.estate_s(LEAST_REAL_S))
    return held_against(facts, place.products, place.estate.limits.steady_s, least_s)


def _fact(step: Step, done: StepState, unwatched: Sequence[int]) -> Fact | None:
    """What was seen of a step that is done; None of one that is not."""
    if not done.done or done.intent is None or done.outcome is None:
        return None
    before = done.intent.entry.before
    boot = (before.boot or None) if before is not None else None
    began, ended = done.intent.entry.at, done.outcome.entry.at
    return Fact(step=step, began=began, ended=ended, boot=boot, timed=watched_through(done, unwatched))


def seen_before(place: Workplace, plan: Plan) -> list[Borne]:
    """What earlier rolls saw of the releases that a plan enters, the newest roll first; of each claim once."""
    entered = {(step.product, step.to) for step in plan.steps()}
    found: dict[tuple[str, str, str], Borne] = {}
    for row in _newest(place.journal.rolls()[0]):
        if entered & {(step.product, step.to) for step in row.plan.steps()}:
            try:
                claims = claims_of(place, row)
            except GallantError:  # its journal cannot be read any more, which gallant history says
                continue
            for claim in claims:
                if (claim.product, claim.release) in entered:
                    found.setdefault((claim.product, claim.release, claim.about), Borne(claim=claim, roll=row.id))
    return list(found.values())


def _newest(rows: Iterable[RollRow]) -> list[RollRow]:
    return sorted(rows, key=lambda row: row.began, reverse=True)[:MOST_ROLLS]
