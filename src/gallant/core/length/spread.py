"""How long a plan may take: in half of all nights, and in nine of ten. Steps of one kind, hop or system are early or
late together, so their times are drawn together and go through the plan's own order, lane beside lane."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Sequence
from types import ModuleType

from gallant.core.length.learning import Draws, Model, model_of
from gallant.core.records import replace
from gallant.core.work.paces import (
    OVERHEAD_S,
    UNKNOWN_P90,
    Array,
    Observation,
    Spread,
    Within,
    hop_key,
    pace_key,
    taken,
)
from gallant.core.work.plan import Hop, Lane, Plan, Step, Wave, hop_ends, steps_of, waves_seconds


def with_spread(plan: Plan, observations: tuple[Observation, ...]) -> Plan:
    """The plan with how long it may take, under the name that it has then."""
    return replace(plan, spread=spread_of(plan, observations)).named()


def spread_of(plan: Plan, observations: tuple[Observation, ...]) -> Spread:
    """By what was learned; of what was never seen by the publishers' minutes and how far those usually are off."""
    import numpy as np

    model = model_of(observations)
    draws = model.draws()
    owners = {hop.id: lane.system for lane in plan.lanes for hop in lane.hops}
    products = {lane.system: product_of(lane) for lane in plan.lanes}

    def latest(times: Sequence[Array]) -> Array:
        found = times[0]
        for one in times[1:]:
            found = np.maximum(found, one)
        return found

    def lasts(hop: Hop) -> Array:
        return waves_seconds(hop.waves, lambda step: drawn(draws, products[owners[hop.id]], hop, step), latest)

    ends = hop_ends(plan.lanes, lasts, plan.rounds, latest)
    by_lane = {lane.system: latest([ends[hop.id] for hop in lane.hops]) for lane in plan.lanes if lane.hops}
    whole = latest(list(by_lane.values())) if by_lane else np.zeros(1)
    return Spread(
        whole=_within(np, whole),
        lanes={name: _within(np, times) for name, times in by_lane.items()},
        seen=_seen(model, plan),
    )


def _within(np: ModuleType, times: Array) -> Within:
    p50, p90 = (float(q) for q in np.quantile(times, (0.5, 0.9)))
    return Within(p50_s=p50, p90_s=p90)


def announced_s(hop: Hop, step: Step) -> float:
    """What the publisher, or the usual minutes, say of a step: its estimate without what was learned."""
    pace = hop.paces.get(pace_key(step.kind, step.component))
    return max(0.0, (step.estimate_s + OVERHEAD_S) / pace.p50 - OVERHEAD_S) if pace is not None else step.estimate_s


def late_s(hop: Hop, step: Step) -> float:
    """What a step takes in nine of ten cases."""
    pace = hop.paces.get(pace_key(step.kind, step.component))
    return float(max(0.0, taken(announced_s(hop, step), pace.p90 if pace is not None else UNKNOWN_P90)))


def is_disruptive(step: Step) -> bool:
    """Whether users can notice a step."""
    return bool(step.disturbs) or step.interrupts_s > 0


def stretch_of(steps: Sequence[Step], waves: Sequence[Wave]) -> list[Step]:
    """From the first of a track's steps to where its system may be left;
    where the track ends before that, through the hop's next waves."""
    after = next((n for n, wave in enumerate(waves, 1) if steps[-1] in steps_of((wave,))), len(waves))
    found = list[Step]()
    for step in (*steps, *steps_of(waves[after:])):
        found.append(step)
        if step.safe_stop_s is not None:
            break
    return found


def to_rest_s(hop: Hop, steps: Sequence[Step], waves: Sequence[Wave] | None = None) -> float:
    """From the first of some steps of a track to where its system may be left, in nine of
    ten cases, and back from there: what disturbs it once more. 0 where nothing is
    disturbed until then. `waves` are the hop's as they were made in the roll."""
    stretch = stretch_of(steps, hop.waves if waves is None else waves)
    back = back_s(hop, stretch)
    return sum(late_s(hop, step) for step in stretch) + back if back else 0.0


def stretches_of(hops: Iterable[Hop]) -> Iterator[tuple[Hop, list[Step]]]:
    """Each stretch that disturbs anything, with its hop: from one rest to the next."""
    for hop in hops:
        for track in (track for wave in hop.waves for track in wave.tracks):
            at = 0
            while at < len(track.steps):
                steps = track.steps[at:]
                if to_rest_s(hop, steps):
                    yield hop, stretch_of(steps, hop.waves)
                at += next((n for n, step in enumerate(steps) if step.safe_stop_s is not None), len(steps) - 1) + 1


def back_s(hop: Hop, stretch: Iterable[Step]) -> float:
    """The way back from a stretch, in nine of ten cases: what disturbs once more."""
    return sum(late_s(hop, step) for step in stretch if is_disruptive(step))


def room_s(hops: Sequence[Hop]) -> float:
    """A window of this length has room for all of some hops of a system, each step
    as long as in nine of ten cases, and for the way back from any of them."""
    there = sum(
        max(sum(late_s(hop, step) for step in track.steps) for track in wave.tracks)
        for hop in hops
        for wave in hop.waves
        if wave.tracks
    )
    return there + max((back_s(hop, stretch) for hop, stretch in stretches_of(hops)), default=0.0)


def has_to_go_on(unsafe: Collection[str], *, own: Collection[str], wave: Collection[str]) -> bool:
    """Whether a track goes on, window or not, since only that brings its system to rest: what
    it works on itself is not at rest, or an earlier wave left something so. What a neighbour in
    its own wave (all its subjects: `wave`) has begun is no reason to begin here too."""
    return any(subject in own or subject not in wave for subject in unsafe)


def way_of(hop: Hop, step: Step, product: str) -> tuple[str, str]:
    """The product and the hop that a step belongs to: those of its component, where it is about one."""
    part = next((p for p in hop.parts if p.component == step.component), None)
    return (part.product, hop_key(part.from_, part.to)) if part is not None else (product, hop_key(hop.from_, hop.to))


def product_of(lane: Lane) -> str:
    """The product of a lane's image."""
    steps = (s for hop in lane.hops for w in hop.waves for t in w.tracks for s in t.steps if s.system == lane.system)
    return next((s.product for s in steps if s.component == "image"), "")


def drawn(draws: Draws, product: str, hop: Hop, step: Step) -> Array:
    """The seconds that a step takes, in each of the nights."""
    name, way = way_of(hop, step, product)
    times = taken(announced_s(hop, step), draws.factors(name, way, step.kind, step.component, step.system))
    return times.clip(min=0.0)


def _seen(model: Model, plan: Plan) -> int:
    """Of how many steps before the steps of this plan are known."""
    found = set()
    for lane in plan.lanes:
        product = product_of(lane)
        for hop in lane.hops:
            for wave in hop.waves:
                found |= {(*way_of(hop, s, product), s.kind, s.component) for t in wave.tracks for s in t.steps}
    return sum(model.seen(*one) for one in found)
