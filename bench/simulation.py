"""Simulated rolls a second, on one core, side by side: a quorum of four nodes through two hops on
twins, as a rehearsal has it; the same in the judged simulation, in which devices answer late and
all promises are held against the world at every read; and drawn nights, with all that goes wrong
in them. Then how near two rehearsals of one plan from other draws come to each other.

    python bench/simulation.py        # a minute
"""

from __future__ import annotations

import gc
import sys
import time
from collections.abc import Callable
from pathlib import Path
from random import Random

from short import sized

sys.path.insert(0, str(Path(__file__).parents[1]))

from tests.simulation.dice import Case, carried_out, drawn, night_of
from tests.simulation.night import BEGAN
from tests.twins.cases import Case as Rehearsed

from gallant.core.length.rehearsing import lasting, rehearsed
from gallant.twins.many import nights
from gallant.twins.night import Night as Twin

QUORUM = Case(family="cluster", shape="quorum", running=("2.8.5",) * 4, downtimes=(1.0,), jumps=(0.0,))
GOAL, NEAR = 50.0, 0.05


def one_night() -> float:
    """Seconds of the world that one roll took."""
    night = night_of(QUORUM)
    night.made = night.plan()
    end = night.run(night.made)
    assert (end.state, night.all_well()) == ("finished", [])
    return night.world.now


def a_second(rolls: int, one: Callable[[int], float]) -> tuple[float, float]:
    """Rolls, and simulated seconds, in a real one."""
    gc.collect()
    gc.disable()
    began = time.perf_counter()
    simulated = sum(one(number) for number in range(rolls))
    took = time.perf_counter() - began
    gc.enable()
    return rolls / took, simulated / took


def main() -> None:
    rolls, of_dice, runs = sized(60, 3), sized(60, 3), sized(500, 20)
    night = night_of(QUORUM)
    case = Rehearsed(night, night.plan())
    cast = case.cast(runs=rolls)
    one_night()
    twins, seconds = a_second(rolls, lambda n: Twin(cast, n, Random(n).random).through().at_s)
    print(
        f"four nodes, two hops, on twins: {twins:.1f} rolls a second (goal {GOAL:g}); {seconds:,.0f} simulated seconds in one"
    )
    judged, seconds = a_second(rolls, lambda n: one_night())
    print(f"the same, judged at every read: {judged:.1f} rolls a second; {seconds:,.0f} simulated seconds in one")
    began, broken = time.perf_counter(), 0
    for seed in range(1, of_dice + 1):
        broken += bool(carried_out(drawn(seed)).broken)
    took = time.perf_counter() - began
    print(f"drawn nights: {of_dice / took:.1f} a second; {broken} of {of_dice} broke a promise")
    ninth = []
    for seed in (1, 2):
        drawn_anew = case.cast(lasts=lasting(case.plan, (), runs, seed))
        found = rehearsed(case.plan, BEGAN, {}, nights(drawn_anew, runs, seed, lambda done, of: None, jobs=1), 0)
        ninth.append(found.p90_s or 0.0)
    print(f"nine of ten of {runs} nights, drawn twice: ratio {ninth[0] / ninth[1]:.3f} (goal within {NEAR:g} of 1)")


if __name__ == "__main__":
    main()
