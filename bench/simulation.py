"""Simulated rolls a second, on one core: a quorum of four nodes through two hops, judged all through; and drawn nights, with all that goes wrong in them.

The ratio is simulated time over real time, side by side in one run.

    python bench/simulation.py        # half a minute
"""

from __future__ import annotations

import sys
import time
from pathlib import Path

from short import sized

sys.path.insert(0, str(Path(__file__).parents[1]))

from tests.simulation.dice import Case, carried_out, drawn, night_of

QUORUM = Case(family="cluster", shape="quorum", running=("2.8.5",) * 4, downtimes=(1.0,), jumps=(0.0,))
GOAL = 50.0


def one_night() -> float:
    """Seconds of the world that one roll took."""
    night = night_of(QUORUM)
    night.made = night.plan()
    end = night.run(night.made)
    assert (end.state, night.all_well()) == ("finished", [])
    return night.world.now


def main() -> None:
    rolls, nights = sized(60, 3), sized(60, 3)
    one_night()
    began = time.perf_counter()
    simulated = sum(one_night() for _ in range(rolls))
    took = time.perf_counter() - began
    print(
        f"four nodes, two hops: {rolls / took:.1f} rolls a second (goal {GOAL:g}); {simulated / took:,.0f} simulated seconds in one real second"
    )
    began, broken = time.perf_counter(), 0
    for seed in range(1, nights + 1):
        broken += bool(carried_out(drawn(seed)).broken)
    took = time.perf_counter() - began
    print(f"drawn nights: {nights / took:.1f} a second; {broken} of {nights} broke a promise")


if __name__ == "__main__":
    main()
