"""The gates of a survey: never wider than the limits, narrower while answers come late, wide again after."""

from __future__ import annotations

import asyncio

from hypothesis import given
from hypothesis import strategies as st

from gallant.operations.ground import pace as module
from gallant.operations.ground.pace import SurveyGates


@given(
    st.integers(1, 6),
    st.one_of(st.none(), st.integers(1, 4)),
    st.integers(1, 3),
    st.lists(st.tuples(st.sampled_from("xy"), st.sampled_from("abc")), max_size=25),
)
def test_no_limit_is_ever_passed_and_everybody_gets_a_turn(estate, site, system, wanted):
    inside: list[tuple[str, str]] = []
    done = []

    async def one(pace, where):
        async with pace.turn(*where):
            inside.append(where)
            assert len(inside) <= estate
            assert site is None or sum(w[0] == where[0] for w in inside) <= site
            assert sum(w[1] == where[1] for w in inside) <= system
            await asyncio.sleep(0)
            inside.remove(where)
            done.append(where)

    async def go():
        pace = SurveyGates(estate, site, system)
        await asyncio.gather(*(one(pace, where) for where in wanted))

    asyncio.run(go())
    assert sorted(done) == sorted(wanted)


def test_late_answers_halve_the_width_once_a_while_and_good_ones_bring_it_back(monkeypatch):
    now = [100.0]
    monkeypatch.setattr(module.time, "monotonic", lambda: now[0])
    pace = SurveyGates(32, None, 8)
    pace.late()
    pace.late()
    assert pace.width == 16
    for _ in range(9):
        now[0] += 2
        pace.late()
    assert pace.width == 2
    for _ in range(2000):
        pace.answered()
    assert pace.width == 32
