"""All of three small worlds: every fault that the stand-ins know at every
order that meets it, with a kill after every entry, and every two faults.

    python -m tests.simulation.exhaust --pieces 10 --piece 3      # as `make exhaust PIECES=10 PIECE=3`

A pair, a fabric of two and a quorum of three, over one hop; the latter two
with a component besides. The judge is that of the drawn nights.
"""

from __future__ import annotations

import argparse
import contextlib
import dataclasses
import sys
import time
from collections import Counter
from collections.abc import Iterator
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, field
from functools import lru_cache

import msgspec

from gallant.standin.world import Fault

from .dice import DEVICE, ON_THE_WAY, Case, Outcome, carried_out, night_of, shrunk
from .night import Killed

PLAIN = {"route": 0, "downtimes": (30.0,), "jumps": (0.0,)}
WORLDS = {
    "pair": Case(family="pairs", shape="pair", running=("2.8.5",) * 2, **PLAIN),
    "fabric": Case(family="cluster", shape="fabric", running=("2.8.5",) * 2, extras=("agent",), **PLAIN),
    "quorum": Case(family="cluster", shape="quorum", running=("2.8.5",) * 3, extras=("agent",), **PLAIN),
}
VALUES = {"install_fails_at": 40.0, "no_return": 5000.0, "late_return": 600.0, "acts_late": 5.0, "lands_late": 12.0, "arrives_twice": 2.0}  # fmt: skip
KILLED, TWO = "a kill after every entry", "every second fault"


@dataclass(frozen=True)
class Unit:
    """One fault of a world, with a kill after every entry of its night, or with every fault that comes after it."""

    world: str
    fault: int
    what: str


@dataclass
class Found:
    """How many nights a unit has, how they ended, and the cases of those that broke a promise, each with what."""

    nights: int = 0
    ends: Counter[str] = field(default_factory=Counter)
    broken: list[tuple[Case, list[str]]] = field(default_factory=list)

    def see(self, outcome: Outcome, more: list[str]) -> None:
        self.nights += 1
        self.ends[outcome.end] += 1
        if outcome.broken or more:
            self.broken.append((outcome.case, [*outcome.broken, *more]))


@lru_cache
def faults_of(world: str) -> tuple[Fault, ...]:
    """Every fault that an order of the world's undisturbed night can meet: by the orders that each node is given in
    it."""
    case = WORLDS[world]
    night = night_of(case)
    with contextlib.suppress(Killed):
        night.made = night.plan()
        night.run(night.made)
    met = sorted(key.rpartition(" ")[::2] for key in night.world.counts if key.startswith("tickets/"))
    device = [(name, act) for name, acts in DEVICE[case.family].items() for act in acts]
    return tuple(
        Fault(name=name, node=node, act=act, nth=1, value=VALUES.get(name, 15.0))
        for node, act in met
        for name in (*(n for n, a in device if a == act), *ON_THE_WAY)
    )


def units() -> list[Unit]:
    return [
        Unit(world=world, fault=number, what=what)
        for what in (KILLED, TWO)
        for world in WORLDS
        for number in range(len(faults_of(world)))
    ]


def cases_of(unit: Unit, alone: Outcome) -> Iterator[Case]:
    """The cases of a unit besides the one with its fault alone."""
    faults, case = faults_of(unit.world), alone.case
    if unit.what == KILLED:
        for entry in range(1, len(msgspec.json.decode(alone.journal)) + 1):
            yield dataclasses.replace(case, kills=(("after append", entry),))
    else:
        for other in faults[unit.fault + 1 :]:
            yield dataclasses.replace(case, faults=(*case.faults, other))


def carried_through(unit: Unit) -> Found:
    """All nights of a unit; one that is killed ends as the one that was left alone (I6)."""
    found = Found()
    alone = carried_out(dataclasses.replace(WORLDS[unit.world], faults=(faults_of(unit.world)[unit.fault],)))
    if unit.what == KILLED:
        found.see(alone, [])
    for case in cases_of(unit, alone):
        outcome = carried_out(case)
        differs = (outcome.end, outcome.final) != (alone.end, alone.final)
        known = not (outcome.unknown or alone.unknown or outcome.end == "refused")
        more = [f"I6: killed it is {outcome.end} with {outcome.final}, left alone {alone.end} with {alone.final}"]
        found.see(outcome, more if case.kills and differs and known else [])
    return found


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--pieces", type=int, default=1)
    parser.add_argument("--piece", type=int, default=0, help="which of them, from 0 on")
    parser.add_argument("--jobs", type=int, default=1)
    said = parser.parse_args()
    chosen, began, whole = units()[said.piece :: said.pieces], time.monotonic(), Found()
    with contextlib.ExitStack() as stack:
        pool = stack.enter_context(ProcessPoolExecutor(said.jobs)) if said.jobs > 1 else None
        for unit, found in zip(chosen, (pool.map if pool is not None else map)(carried_through, chosen), strict=True):
            whole.nights += found.nights
            whole.ends += found.ends
            whole.broken += found.broken
            for case, broken in found.broken[:2]:
                print(f"{unit}: {'; '.join(broken[:3])}\n  smallest: {shrunk(case)}", flush=True)
    how = ", ".join(f"{count} {end}" for end, count in whole.ends.most_common())
    took = time.monotonic() - began
    print(f"{len(chosen)} units, {whole.nights} nights in {took:.0f} s: {how}; {len(whole.broken)} broke a promise")
    return 1 if whole.broken else 0


if __name__ == "__main__":
    sys.exit(main())
