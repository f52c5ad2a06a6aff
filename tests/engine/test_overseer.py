"""What is said to a device that updates its nodes by itself: to a
node that answers, in words that it knows, and with patience."""

from __future__ import annotations

import asyncio
from datetime import UTC, datetime, timedelta
from types import SimpleNamespace

import pytest

from gallant.core.errors import Stopped
from gallant.core.ports import Accepted, AnswerLost, DeviceRefused, NotReached
from gallant.core.records import replace
from gallant.core.steps.kinds import UPDATE_ALL
from gallant.core.steps.seen import GOING, PAUSED, Look
from gallant.core.work.plan import steps_of
from gallant.engine.means import Hold
from gallant.engine.overseer import Overseer

from ..simulation.test_device_led import night_of

NOW = datetime(2026, 11, 25, tzinfo=UTC)
NIGHT = night_of(3)
STEP = next(s for hop in NIGHT.plan().lanes[0].hops for s in steps_of(hop.waves) if s.kind == UPDATE_ALL)
SYSTEM = NIGHT.estate.systems["tickets"]


class Desk:
    """Means and a log of which an overseer needs no more than this; what is said to nodes is kept."""

    lease_s = 60.0

    def __init__(self, *knows: str) -> None:
        self.at, self.knows, self.said = NOW, frozenset(knows), list[tuple[str, str]]()
        self.clock = SimpleNamespace(
            now=lambda: self.at, real=lambda: 0.0, stood_s=lambda: 0.0, estate_s=lambda seconds: seconds
        )
        self.drivers, self.journal = {"tickets": self}, self

    def capabilities(self):
        return self.knows

    async def act(self, node, act, *, send_by):
        self.said.append((node, act.kind))
        return Accepted()

    async def write(self, kind, step, message): ...

    def overseer(self, wants=lambda system: None) -> Overseer:
        return Overseer("roll-0001", self, self, wants)


def look(*out: str, state: str = GOING) -> Look:
    return Look(state=state, out=out, message="between a and b")


def test_a_word_goes_to_a_node_that_is_there():
    desk = Desk("pause")
    asyncio.run(desk.overseer(lambda system: "asked").see(STEP, SYSTEM, look("a"), "1"))
    assert desk.said == [("b", "pause")]


def test_a_device_that_knows_no_word_to_go_on_is_left_standing_and_a_person_told():
    desk = Desk("pause")
    with pytest.raises(Stopped, match="its profile knows no go_on") as caught:
        asyncio.run(desk.overseer().go_on(STEP, SYSTEM, look(state=PAUSED), "1"))
    assert "Have tickets go on at its console" in caught.value.next
    assert desk.said == []


def test_a_device_that_was_told_to_go_on_has_a_minute_to_be_seen_going():
    desk = Desk("go_on")
    overseer = desk.overseer()

    async def after(seconds: float):
        desk.at = NOW + timedelta(seconds=seconds)
        await overseer.see(STEP, SYSTEM, look(state=PAUSED), "1")

    asyncio.run(overseer.go_on(STEP, SYSTEM, look(state=PAUSED), "1"))
    assert desk.said == [("a", "go_on")]
    asyncio.run(after(60.0))
    with pytest.raises(Hold, match="stands still between two nodes"):
        asyncio.run(after(61.0))


def test_two_looks_are_needed_for_a_promise_and_the_second_comes_soon():
    desk = Desk("pause")
    overseer, bad = desk.overseer(), replace(look("a", "b"), message="")
    assert asyncio.run(overseer.see(STEP, SYSTEM, bad, "1")) is True
    assert desk.said == []
    assert asyncio.run(overseer.see(STEP, SYSTEM, bad, "1")) is False
    assert desk.said == [("c", "pause")]


def test_what_one_look_has_against_a_step_is_known_at_its_next_one_whatever_is_looked_at_between():
    desk = Desk("pause")
    overseer, bad, other = desk.overseer(), replace(look("a", "b"), message=""), replace(STEP, id="another.step")
    assert asyncio.run(overseer.see(STEP, SYSTEM, bad, "1")) is True
    assert asyncio.run(overseer.see(other, SYSTEM, look("a"), "2")) is False
    assert asyncio.run(overseer.see(STEP, SYSTEM, bad, "1")) is False
    assert desk.said == [("c", "pause")]


@pytest.mark.parametrize(
    ("error", "stands"),
    [
        (NotReached("tickets/a is away."), True),
        (AnswerLost("tickets/a gave no answer."), True),
        (DeviceRefused("tickets/a refuses."), True),
        (DeviceRefused("tickets/a goes on already.", meaning="already"), False),
    ],
)
def test_a_device_that_does_not_take_the_word_to_go_on_is_said_to_stand_still(error, stands):
    desk = Desk("go_on")

    async def refuses(node, act, *, send_by):
        raise error

    desk.act = refuses
    going = desk.overseer().go_on(STEP, SYSTEM, look(state=PAUSED), "1")
    if stands:
        with pytest.raises(Stopped, match="stands still between two nodes, and did not go on"):
            asyncio.run(going)
    else:
        asyncio.run(going)


def test_where_no_node_answers_nothing_is_said_to_any():
    desk = Desk("go_on")
    with pytest.raises(Stopped, match="did not go on"):
        asyncio.run(desk.overseer().go_on(STEP, SYSTEM, look("a", "b", "c", state=PAUSED), "1"))
    assert desk.said == []


@pytest.mark.parametrize(
    ("out", "weak", "against"),
    [("a", "", False), ("ab", "", False), ("abc", "", True), ("a", "b", False), ("a", "bc", True), ("", "abc", False)],
)
def test_a_device_is_judged_by_what_a_quorum_of_five_tolerates(out, weak, against):
    night = night_of(5)
    step = next(s for hop in night.plan().lanes[0].hops for s in steps_of(hop.waves) if s.kind == UPDATE_ALL)
    seen = Look(state=GOING, out=tuple(out), weak=tuple(weak))
    looked = Desk("pause").overseer().see(step, night.estate.systems["tickets"], seen, "1")
    assert asyncio.run(looked) is against
