"""What is drawn for the nights of a rehearsal, and what they come to: when a
plan is done, how often and where it stops, and what decides that.

How long each step takes is drawn by what was learned, together for what has a kind, a hop or a system in common; which
of them fail, by how often such steps failed here. The nights themselves are the engine's, on twins of the systems.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from datetime import datetime
from typing import TypeAlias

from gallant.core.length.learning import DRAWS, SEED, model_of
from gallant.core.length.spread import drawn, product_of
from gallant.core.readings import IMAGE
from gallant.core.records import Record, fields_of
from gallant.core.steps.kinds import KINDS
from gallant.core.windows.rules import Span, open_at
from gallant.core.work.paces import Array, Observation
from gallant.core.work.plan import Plan, Step, steps_of

FINISHED, STOPPED, HELD = "finished", "stopped", "held"
MOST_RUNS = DRAWS  # nights that are drawn at once
# What is believed of a step that alters or disturbs a node before anything
# was seen of it: one in 400 fails, with the weight of 200 steps.
FAILS, WORTH = 0.5, 200.0
MOST_NAMED = 5  # of the places where it stops, and of the steps that decide
Lasts: TypeAlias = Mapping[str, Array]  # by step, the seconds that it takes in each of the nights


class Tried(Record):
    """How often steps of one kind were carried out here, and how often one failed."""

    kind: str
    times: int
    failed: int


class Where(Record):
    """A step, by what it is about."""

    system: str
    node: str
    kind: str
    component: str = IMAGE


class Share(Where):
    """A step, in which part of all nights it is so, and what was said of it in most of them."""

    share: float
    why: str = ""


class NightEnd(Record):
    """How one night ended and after how many seconds; `away_s` is for how long a service was
    away at a time, `down_s` for how long each system was down in all. `stop` is the step at
    which the first lane stopped, `hold` the one before which the first was held, with what was
    said of it (`why`); `decides` took most longer than usual, of the lane that was done last."""

    state: str
    at_s: float
    away_s: float = 0
    down_s: dict[str, float] = {}
    stop: Where | None = None
    hold: Where | None = None
    why: str = ""
    decides: Where | None = None


class Rehearsal(Record):
    """What came of `runs` nights. `finished`, `stopped` and `held` are parts of them that add up to one; `in_window` is
    the part that finishes by `until`, where any window ends. Seconds are from the beginning, of the nights that finish;
    `ends_s` is one for each of those, `stopped_s` and `held_s` for each of the others, when its last lane came to
    stand. `away_s`: for how long the service that is away longest is so at a time, in half of the nights and in nine of
    ten; `down_s` has by system for how long nothing of it serves in all, of those of which the plan says that they are
    down. `seen` is how many steps all that is known from."""

    plan: str
    begins: datetime
    runs: int
    finished: float
    stopped: float
    held: float
    in_window: float
    until: datetime | None
    p50_s: float | None
    p90_s: float | None
    away_s: tuple[float, float]
    down_s: dict[str, tuple[float, float]]
    stops: tuple[Share, ...]
    holds: tuple[Share, ...]
    decides: tuple[Share, ...]
    ends_s: tuple[float, ...]
    stopped_s: tuple[float, ...]
    held_s: tuple[float, ...]
    seen: int


def lasting(plan: Plan, observations: tuple[Observation, ...], runs: int, seed: int = SEED) -> Lasts:
    """The seconds that each step of a plan takes in each of so many nights; of another seed in others. Raises
    `ValueError` for none, or more than are drawn at once."""
    if not 0 < runs <= MOST_RUNS:
        raise ValueError(f"runs: 1 to {MOST_RUNS}")
    draws, found = model_of(observations).draws(seed), dict[str, Array]()
    for lane in plan.lanes:
        product = product_of(lane)
        for hop in lane.hops:
            for step in steps_of(hop.waves):
                found[step.id] = drawn(draws, product, hop, step)[:runs]
    return found


def failing(tried: Mapping[str, Tried]) -> dict[str, float]:
    """By kind of step, the chance that one fails: what was seen of
    its kind, and a belief that a few hundred steps outweigh."""
    chances = {}
    for name, kind in KINDS.items():
        if (kind.alters or kind.disturbs or kind.moves) and not kind.by_person:
            seen = tried.get(name) or Tried(kind=name, times=0, failed=0)
            chances[name] = (FAILS + seen.failed) / (WORTH + seen.times)
    return chances


def _usual(seconds: Sequence[float]) -> tuple[float, float]:
    """What it comes to in half of the nights, and in nine of ten."""
    found = sorted(seconds)
    return _quantile(found, 0.5) or 0.0, _quantile(found, 0.9) or 0.0


def where(step: Step) -> Where:
    """Where a night stopped: the step without its hop."""
    return Where(system=step.system, node=step.node, kind=step.kind, component=step.component)


def rehearsed(
    plan: Plan, begins: datetime, windows: Mapping[str, Sequence[Span]], nights: Sequence[NightEnd], seen: int
) -> Rehearsal:
    """What nights of a plan that begins at a time come to."""
    runs = len(nights)
    finished = [night for night in nights if night.state == FINISHED]
    done = sorted(night.at_s for night in finished)
    until = max((span.end for name in plan.systems for span in _here(windows.get(name), begins)), default=None)
    away = sorted(night.away_s for night in nights)
    return Rehearsal(
        plan=plan.id,
        begins=begins,
        runs=runs,
        finished=len(done) / runs,
        stopped=_share_of(nights, STOPPED),
        held=_share_of(nights, HELD),
        in_window=_in_time(done, (until - begins).total_seconds() if until is not None else None) / runs,
        until=until,
        p50_s=_quantile(done, 0.5),
        p90_s=_quantile(done, 0.9),
        away_s=(_quantile(away, 0.5) or 0.0, _quantile(away, 0.9) or 0.0),
        down_s={name: _usual([night.down_s.get(name, 0.0) for night in finished]) for name in plan.down_s},
        stops=_shares([(night.stop, night.why) for night in nights if night.stop is not None], runs),
        holds=_shares([(night.hold, night.why) for night in nights if night.hold is not None], runs),
        decides=_shares([(night.decides, "") for night in nights if night.decides is not None], runs),
        ends_s=_ends(nights, FINISHED),
        stopped_s=_ends(nights, STOPPED),
        held_s=_ends(nights, HELD),
        seen=seen,
    )


def _share_of(nights: Sequence[NightEnd], state: str) -> float:
    return sum(night.state == state for night in nights) / len(nights)


def _in_time(done: Sequence[float], limit: float | None) -> int:
    """How many nights were done by a limit; all of them where there is none."""
    return sum(limit is None or at <= limit for at in done)


def _ends(nights: Sequence[NightEnd], wanted: str) -> tuple[float, ...]:
    return tuple(sorted(round(night.at_s, 1) for night in nights if night.state == wanted))


def _here(spans: Sequence[Span] | None, begins: datetime) -> Iterator[Span]:
    """The window in which a roll that begins then goes on."""
    if spans is not None and (here := open_at(spans, begins)) is not None:
        yield here


def _shares(found: Sequence[tuple[Where, str]], runs: int) -> tuple[Share, ...]:
    said: dict[Where, Counter[str]] = {}
    for place, why in found:
        said.setdefault(place, Counter())[why] += 1
    most = sorted(said.items(), key=lambda one: -one[1].total())[:MOST_NAMED]
    return tuple(
        Share(**fields_of(place, Where), share=words.total() / runs, why=words.most_common(1)[0][0])
        for place, words in most
    )


def _quantile(values: Sequence[float], part: float) -> float | None:
    """Of sorted values, by the nearest rank."""
    return values[min(len(values) - 1, int(part * len(values)))] if values else None
