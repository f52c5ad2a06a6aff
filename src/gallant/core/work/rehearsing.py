"""A plan carried out some hundred times on paper: when it is done, how often and where it stops, and what decides that.

Each night draws how long steps take (by what was learned, together for what has a kind, a hop or a system in common) and which of them fail, and
goes through the plan's own order by the rules that a roll keeps: hops after those that they need, so many lanes at once, rounds and their soak times, and nothing
disturbed that would not be at rest in nine of ten cases before its window ends. A step that fails stops its lane and what needs it.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator, Mapping, Sequence
from datetime import datetime, timedelta
from typing import Any

from gallant.core.estate.systems import Estate
from gallant.core.estate.windows import Span, open_at
from gallant.core.records import Record
from gallant.core.work.learning import DRAWS, Observation, model_of, taken
from gallant.core.work.plan import Hop, Lane, Plan, Round, Step
from gallant.core.work.spread import announced_s, is_disruptive, product_of, to_rest_s, way_of
from gallant.core.work.steps import KINDS

FINISHED, STOPPED, HELD = "finished", "stopped", "held"
MOST_RUNS = DRAWS  # nights that are drawn at once
# What is believed of a step that alters or disturbs a node before anything was seen of it: one in 400 fails, with the weight of 200 steps.
FAILS, WORTH = 0.5, 200.0
MOST_NAMED = 5  # of the places where it stops, and of the steps that decide


class Tried(Record):
    """How often steps of one kind were carried out here, and how often one failed."""

    kind: str
    times: int
    failed: int


class Share(Record):
    """A step, and in which part of all nights it is so."""

    system: str
    node: str
    kind: str
    component: str
    share: float


class Rehearsal(Record):
    """What came of `runs` nights. `finished`, `stopped` and `held` are parts of them that add up to one; `in_window` is the part that finishes by
    `until`, where any window ends. Seconds are from the beginning, of the nights that finish; `ends_s` is one for each of those, `stopped_s` and `held_s` for each of the others, when its
    last lane came to stand. `away_s`: for how long the service that is
    away longest is so at a time, in half of the nights and in nine of ten. `seen` is how many steps all that is known from."""

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
    stops: tuple[Share, ...]
    holds: tuple[Share, ...]
    decides: tuple[Share, ...]
    ends_s: tuple[float, ...]
    stopped_s: tuple[float, ...]
    held_s: tuple[float, ...]
    seen: int


class _Night:
    """One night: when each hop is over and how, and what stopped it."""

    def __init__(self, number: int, world: _World, draw: Callable[[], float]) -> None:
        self.number, self.world, self.draw = number, world, draw
        self.ended: dict[str, tuple[str, float]] = {}  # by hop
        self.lanes: dict[str, tuple[str, float]] = {}
        self.stop: Step | None = None
        self.hold: Step | None = None
        self.away_s = 0.0
        self.lag: dict[str, tuple[float, Step]] = {}  # by lane, the step that took most longer than it usually does

    def through(self) -> None:
        plan, at = self.world.plan, 0.0
        held = False
        for together in plan.rounds or (Round(name="", systems=plan.systems),):
            lanes = [lane for lane in plan.lanes if lane.system in together.systems]
            if held:
                self.lanes |= {lane.system: (HELD, at) for lane in lanes}
                self.ended |= {hop.id: (HELD, at) for lane in lanes for hop in lane.hops}
                continue
            at = self._round(lanes, at) + together.soak_s
            short = sum(self.lanes[lane.system][0] != FINISHED for lane in lanes)
            held = short > together.may_fail

    def _round(self, lanes: Sequence[Lane], begins: float) -> float:
        """The lanes of one round, side by side; the one that can go on soonest goes first."""
        left = {lane.system: list(lane.hops) for lane in lanes}
        at = dict.fromkeys(left, begins)
        busy: list[tuple[float, str]] = []  # when a hop that was begun is over, and whose it is
        by_name = {lane.system: lane for lane in lanes}
        while ready := [name for name, hops in left.items() if hops and all(n in self.ended for n in hops[0].needs)]:
            begun = {name: self._since(by_name[name], left[name][0], at[name], busy) for name in ready}
            name = min(ready, key=lambda one: begun[one])
            hop = left[name].pop(0)
            state, end = self._needed(hop) or self._hop(by_name[name], hop, begun[name])
            end = max(end, begun[name]) if state == FINISHED else end
            self.ended[hop.id], at[name] = (state, end), end
            busy.append((end, name))
            if state != FINISHED:
                self.ended |= {other.id: (state, end) for other in left[name]}
                left[name].clear()
            if not left[name]:
                self.lanes[name] = (state, end)
        for name, hops in left.items():
            if hops:  # they need what is not in this plan's order; no plan is made like that
                self.lanes[name] = (HELD, at[name])
        return max(at.values(), default=begins)

    def _since(self, lane: Lane, hop: Hop, at: float, busy: Sequence[tuple[float, str]]) -> float:
        """When a hop can begin: after those it needs, and when so many lanes at once leave it a place."""
        since = max([at, *(self.ended[need][1] for need in hop.needs)])
        for most, same in self.world.gates(lane.system):
            ends = sorted(end for end, name in busy if end > since and name != lane.system and name in same)
            if len(ends) >= most:
                since = max(since, ends[len(ends) - most])
        return since

    def _needed(self, hop: Hop) -> tuple[str, float] | None:
        """How it ends where one that it needs did not finish."""
        for need in hop.needs:
            state, at = self.ended[need]
            if state != FINISHED:
                return (HELD if state == HELD else STOPPED), at
        return None

    def _hop(self, lane: Lane, hop: Hop, at: float) -> tuple[str, float]:
        for wave in hop.waves:
            ends = [self._track(lane, hop, track.steps, at) for track in wave.tracks]
            at = max((end for _, end in ends), default=at)
            for wanted in (STOPPED, HELD):
                if any(state == wanted for state, _ in ends):
                    return wanted, at
        return FINISHED, at

    def _track(self, lane: Lane, hop: Hop, steps: Sequence[Step], at: float) -> tuple[str, float]:
        away = 0.0
        for step in steps:
            needed = self.world.needed.get(step.id)
            if needed is not None and not self.world.fits(lane.system, at, needed):
                self.hold = self.hold or step
                return HELD, at
            lasts = float(self.world.lasts[step.id][self.number])
            over = lasts - self.world.usual[step.id]
            if over > self.lag.get(lane.system, (0.0, step))[0]:
                self.lag[lane.system] = (over, step)
            at += lasts
            if self.draw() < self.world.fails(step):
                self.stop = self.stop or step
                return STOPPED, at
            if lane.down_s and (away or is_disruptive(step)):
                away = 0.0 if step.safe_stop_s is not None else away + lasts
            elif step.interrupts_s:
                away = step.interrupts_s
            self.away_s = max(self.away_s, away)
            away = away if lane.down_s else 0.0
        return FINISHED, at


class _World:
    """What all nights of a rehearsal share: the plan, how long each of its steps takes in each of them, when systems may be disturbed."""

    def __init__(
        self,
        plan: Plan,
        estate: Estate,
        observations: tuple[Observation, ...],
        tried: Mapping[str, Tried],
        windows: Mapping[str, Sequence[Span]],
        begins: datetime,
    ) -> None:
        self.plan, self.estate, self.windows, self.begins, self._tried = plan, estate, windows, begins, tried
        self._draws = model_of(observations).draws()
        self.lasts: dict[str, Any] = {}
        self.usual: dict[str, float] = {}
        self.needed: dict[
            str, float
        ] = {}  # by step, where its system is at rest before it: seconds until it is so again
        for lane in plan.lanes:
            product = product_of(lane)
            for hop in lane.hops:
                for steps in (track.steps for wave in hop.waves for track in wave.tracks):
                    self._of_track(product, hop, steps)

    def _of_track(self, product: str, hop: Hop, steps: Sequence[Step]) -> None:
        import numpy as np

        for number, step in enumerate(steps):
            name, way = way_of(hop, step, product)
            factors = self._draws.factors(name, way, step.kind, step.component, step.system)
            self.lasts[step.id] = taken(announced_s(hop, step), factors).clip(min=0.0)
            self.usual[step.id] = float(np.median(self.lasts[step.id]))
            if number == 0 or steps[number - 1].safe_stop_s is not None:
                needed = to_rest_s(hop, steps[number:])
                if needed:
                    self.needed[step.id] = needed

    def fits(self, system: str, at: float, needed: float) -> bool:
        spans = self.windows.get(system)
        if spans is None:
            return True
        now = self.begins + timedelta(seconds=at)
        here = open_at(spans, now)
        return here is not None and now + timedelta(seconds=needed) <= here.end

    def fails(self, step: Step) -> float:
        """The chance that a step fails: what was seen of its kind, and a belief that a few hundred steps outweigh."""
        kind = KINDS[step.kind]
        if not (kind.alters or kind.disturbs or kind.moves) or kind.by_person:
            return 0.0
        seen = self._tried.get(step.kind)
        times, failed = (seen.times, seen.failed) if seen is not None else (0, 0)
        return (FAILS + failed) / (WORTH + times)

    def gates(self, system: str) -> Iterator[tuple[int, set[str]]]:
        """How many may be worked on at once, and of which systems those are: of all, of one site, of one kind."""
        limits, own = self.estate.limits, self.estate.systems.get(system)
        every = {name: one for name, one in self.estate.systems.items() if name in self.plan.systems}
        for most, same in (
            (limits.lanes_at_once, set(every)),
            (limits.lanes_at_once_per_site, {n for n, s in every.items() if own and s.site == own.site}),
            (limits.lanes_at_once_per_kind, {n for n, s in every.items() if own and s.kind == own.kind}),
        ):
            if most is not None:
                yield most, same


def rehearse(
    plan: Plan,
    estate: Estate,
    observations: tuple[Observation, ...],
    tried: Mapping[str, Tried],
    windows: Mapping[str, Sequence[Span]],
    begins: datetime,
    runs: int,
    draw: Callable[[], float],
) -> Rehearsal:
    """So many nights of a plan that begins at a time; `draw` gives numbers from 0 to 1, by which steps fail. Raises `ValueError` for none, or more than are drawn at once."""
    if not 0 < runs <= MOST_RUNS:
        raise ValueError(f"runs: 1 to {MOST_RUNS}")
    world = _World(plan, estate, observations, tried, windows, begins)
    nights = [_Night(number, world, draw) for number in range(runs)]
    for night in nights:
        night.through()
    ends = [_whole(night) for night in nights]
    done = sorted(at for state, at in ends if state == FINISHED)
    until = max((span.end for name in plan.systems for span in _here(windows.get(name), begins)), default=None)
    limit = (until - begins).total_seconds() if until is not None else None
    away = sorted(night.away_s for night in nights)
    late = Counter(
        step for night, (state, at) in zip(nights, ends, strict=True) if (step := _decided(night, at)) is not None
    )
    return Rehearsal(
        plan=plan.id,
        begins=begins,
        runs=runs,
        finished=len(done) / runs,
        stopped=sum(state == STOPPED for state, _ in ends) / runs,
        held=sum(state == HELD for state, _ in ends) / runs,
        in_window=sum(limit is None or at <= limit for at in done) / runs,
        until=until,
        p50_s=_quantile(done, 0.5),
        p90_s=_quantile(done, 0.9),
        away_s=(_quantile(away, 0.5) or 0.0, _quantile(away, 0.9) or 0.0),
        stops=_shares(Counter(night.stop for night in nights if night.stop is not None), runs),
        holds=_shares(
            Counter(n.hold for n, (state, _) in zip(nights, ends, strict=True) if n.hold is not None and state == HELD),
            runs,
        ),
        decides=_shares(late, runs),
        ends_s=_ends(ends, FINISHED),
        stopped_s=_ends(ends, STOPPED),
        held_s=_ends(ends, HELD),
        seen=len(observations),
    )


def _ends(ends: Sequence[tuple[str, float]], wanted: str) -> tuple[float, ...]:
    return tuple(sorted(round(at, 1) for state, at in ends if state == wanted))


def _here(spans: Sequence[Span] | None, begins: datetime) -> Iterator[Span]:
    """The window in which a roll that begins then goes on."""
    if spans is not None and (here := open_at(spans, begins)) is not None:
        yield here


def _whole(night: _Night) -> tuple[str, float]:
    """How a night ended, the worst of its lanes, and when the last of them did."""
    states = {state for state, _ in night.lanes.values()}
    state = next((one for one in (STOPPED, HELD) if one in states), FINISHED)
    return state, max((at for _, at in night.lanes.values()), default=0.0)


def _decided(night: _Night, at: float) -> Step | None:
    """What took most longer than usual, of the lane that was done last."""
    last = next((name for name, (_, end) in night.lanes.items() if end == at), "")
    return night.lag[last][1] if last in night.lag else None


def _shares(counts: Mapping[Step, int], runs: int) -> tuple[Share, ...]:
    named = Counter[tuple[str, str, str, str]]()
    for step, count in counts.items():
        named[step.system, step.node, step.kind, step.component] += count
    return tuple(
        Share(system=system, node=node, kind=kind, component=component, share=count / runs)
        for (system, node, kind, component), count in named.most_common(MOST_NAMED)
    )


def _quantile(values: Sequence[float], part: float) -> float | None:
    """Of sorted values, by the nearest rank."""
    return values[min(len(values) - 1, int(part * len(values)))] if values else None
