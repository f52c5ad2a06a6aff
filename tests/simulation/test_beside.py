"""Two rolls beside each other, on systems of which one asks something of the
other: each has a journal and a process of its own, and the world is one."""

from __future__ import annotations

import asyncio
import copy
import random
from collections import Counter
from datetime import timedelta

import pytest

from gallant.core.catalog.products import Requirement
from gallant.core.errors import Refused
from gallant.core.plan.beside import broken_beside
from gallant.core.work.plan import NothingToDo, Plan
from gallant.engine.means import End, Orders
from gallant.standin.world import Fault
from gallant.twins.loop import VirtualLoop

from .backwards import way_back
from .dice import PairsNight
from .night import VirtualClock

VERSIONS = ("2.8.5", "2.11.3", "3.2.4")
NIGHTS = 180


class TwoNights:
    """A world of two pairs, `tickets` and `spit`, each with a plan of its own; what `tickets` asks of `spit` is
    drawn."""

    def __init__(self, seed: int) -> None:
        self.dice = dice = random.Random(f"beside {seed}")
        first, other = dice.choice(VERSIONS[:2]), dice.choice(VERSIONS)
        least = dice.choice(VERSIONS[1:])
        needs = Requirement(product="ostrel/spit", range=f"vers:dotted/>={least}")
        entered = dice.choice(VERSIONS[VERSIONS.index(first) + 1 :])
        self.one = PairsNight(
            running={"a": first, "b": first},
            others={"spit": {"a": other, "b": other}},
            requires={entered: (needs,)},
            probes_every_s=2.0,
            read_s=0.0,
        )
        self.one.prepare()
        self.back = dice.random() < 0.5

    def plans(self) -> tuple[Plan, Plan]:
        """Of tickets forward, and of spit forward or, where it went
        first, back again. Raises `Refused` or `NothingToDo`."""
        night = self.one
        if self.back:
            spit = self._plan("spit")
            night.made = spit
            assert night.run(spit, Orders(by="tester")).state == "finished"
            its = way_back(night, spit)
        else:
            its = self._plan("spit")
        return self._plan("tickets"), its

    def _plan(self, name: str) -> Plan:
        night = self.one
        night.planned = lambda: [night.estate.systems[name]]  # type: ignore[method-assign]
        return night.plan()

    def carried_out(self, mine: Plan, its: Plan) -> list[End]:
        """Both at once, the second begun a while after the first."""
        one, two = self.one, copy.copy(self.one)
        two.events, two.halts, two.passed, two.seen = [], {}, Counter(append=0, act=0), Counter()
        one.made, two.made, one.dead, two.dead = mine, its, False, False
        if self.dice.random() < 0.5:
            one.faults.append(Fault(name="late_return", node="tickets/b", act="restart", nth=1, value=900.0))
        loop = VirtualLoop(one.world.now)
        one.clock = two.clock = VirtualClock(loop, timedelta())
        later = self.dice.uniform(0, 4000)

        async def second() -> End:
            await asyncio.sleep(later)
            return await two._roll(its, Orders(by="tester")).carry_out()

        async def both() -> list[End]:
            return await asyncio.gather(one._roll(mine, Orders(by="tester")).carry_out(), second())

        try:
            return loop.run_until_complete(both())
        finally:
            one.world.advance(loop.time())
            loop.close()


def drawn(seeds: range):
    for seed in seeds:
        nights = TwoNights(seed)
        try:
            mine, its = nights.plans()
        except (Refused, NothingToDo):
            continue
        ground = nights.one.ground()
        rule = broken_beside(nights.one.estate, ground.readings, nights.one.catalogs, mine, its)
        assert rule == broken_beside(nights.one.estate, ground.readings, nights.one.catalogs, its, mine)
        yield seed, nights, (mine, its), rule


@pytest.mark.parametrize("first", range(0, NIGHTS, 60))
def test_what_may_go_on_beside_another_breaks_no_promise(first):
    seen = 0
    for seed, nights, plans, rule in drawn(range(first, first + 60)):
        if rule is None:
            ends = nights.carried_out(*plans)
            assert ([end.state for end in ends], nights.one.broken) == (["finished"] * 2, []), seed
            seen += 1
    assert seen > 3


def test_what_may_not_would_break_one():
    refused = [(nights, plans) for _, nights, plans, rule in drawn(range(60)) if rule is not None]
    assert len(refused) > 3
    broken = [words for nights, plans in refused if nights.carried_out(*plans) for words in nights.one.broken]
    assert any(words.startswith("I7") for words in broken)
