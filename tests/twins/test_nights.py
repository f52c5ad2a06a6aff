"""The engine carries every kind of plan out on twins of its systems; what they take, and what fails, is what was
drawn."""

from __future__ import annotations

import math
import random
from collections.abc import Callable
from datetime import timedelta

import numpy as np
import pytest

from gallant.core.length.rehearsing import Where, lasting, rehearsed
from gallant.core.records import replace as with_
from gallant.core.steps.kinds import KINDS
from gallant.core.windows.rules import Span
from gallant.core.work.plan import Plan, Round
from gallant.engine.means import Orders
from gallant.operations.length.durations import of_roll
from gallant.twins.many import nights
from gallant.twins.night import Night as Twin

from ..simulation import test_backout as backout
from ..simulation import test_channels as channels
from ..simulation import test_device_led as led
from ..simulation import test_errands as errands
from ..simulation import test_layers as layers
from ..simulation import test_rounds as rounds
from ..simulation import test_spares as spares
from ..simulation import test_unsaved as unsaved
from ..simulation.backwards import way_back
from ..simulation.night import BEGAN, Night
from ..simulation.shapes import LETTERS, ClusterNight, StackedNight
from .cases import Case


def kinds_of(case: Case) -> set[str]:
    return {step.kind for step in case.plan.steps()}


def planned(night: Night) -> Case:
    return Case(night, night.plan())


def taken_back(night: Night, points=()) -> Case:
    """What a finished roll did, and the plan to take it back."""
    plan = night.plan()
    assert night.run(plan, backout.YES).state == "finished"
    return Case(night, way_back(night, plan, points=points))


def to_be_looked_at() -> Case:
    night = errands.night_of("quorum", running=dict.fromkeys("abcde", "2.8.5"))
    errands.with_settings(night, "look")
    return planned(night)


def quiet() -> Case:
    return planned(
        Night(
            edit=lambda text: text,
            estate_text=Night().estate_text.replace(
                "    services:", "    quiet: {sessions: 0, within_minutes: 30, then: hold}\n    services:"
            ),
            sessions=lambda node: 4.0,
        )
    )


def pool(**more) -> ClusterNight:
    return ClusterNight(
        shape="pool", running=dict.fromkeys("abcdef", "2.8.5"), drains=True, leader=None, load=30, **more
    )


CASES: dict[str, Callable[[], Case]] = {
    "a pair": lambda: planned(Night()),
    "a single": lambda: planned(ClusterNight(shape="single", running={"a": "2.8.5"}, leader=None)),
    "a fabric": lambda: planned(ClusterNight(shape="fabric", running=dict.fromkeys("abc", "2.8.5"))),
    "a quorum": lambda: planned(ClusterNight(running=dict.fromkeys(LETTERS[:5], "2.8.5"))),
    "a pool that is drained": lambda: planned(pool()),
    "nodes set aside": lambda: planned(pool(aside=("b",))),
    "hosts on machines": lambda: planned(StackedNight(both=True)),
    "machines alone": lambda: planned(StackedNight()),
    "many systems": lambda: planned(rounds.many()),
    **{f"components of a {shape}": lambda s=shape: planned(layers.night_of(s)) for shape in layers.SIZES},
    "a channel": lambda: planned(channels.ChannelNight()),
    "spare slots": lambda: planned(spares.SpareNight()),
    "a device that leads": lambda: planned(led.night_of(5)),
    "a device that leads a pool": lambda: planned(led.night_of(4, shape="pool", leader=None)),
    "restarts": lambda: (lambda n: Case(n, errands.errand(n)))(errands.night_of("quorum")),
    "work by hand": lambda: (lambda n: Case(n, errands.errand(n, "change the fan")))(errands.night_of("quorum")),
    "a way back": lambda: taken_back(Night()),
    "a way back to the other slot": lambda: taken_back(backout.SlottedNight(running={"a": "2.11.3", "b": "2.11.3"})),
    "a restore point": lambda: taken_back(
        ClusterNight(shape="single", running={"a": "2.11.3"}, leader=None), points=[("tickets", "3.2.4")]
    ),
    "settings that nobody saved": lambda: planned(unsaved.SettingsNight()),
    "settings to look at": to_be_looked_at,
    "sessions that are waited for": quiet,
}


@pytest.mark.parametrize("times", [1.0, 2.0])
@pytest.mark.parametrize("name", CASES)
def test_a_night_in_which_nothing_goes_wrong_finishes_and_each_step_takes_what_was_drawn_for_it(name, times):
    """Or no time at all, where it was so already; what is watched for a given time is watched for that at least."""
    case = CASES[name]()
    drawn = {step.id: np.full(1, times * step.estimate_s) for step in case.plan.steps()}
    twin = Twin(case.cast(lasts=drawn), 0, random.Random(1).random)
    end = twin.through()
    assert (end.state, end.why) == ("finished", "")
    began = {}
    for event in twin.journal.written:
        entry = event.entry
        if entry.kind == "intent":
            began[entry.step] = entry.at
        elif entry.kind == "outcome":
            took = (entry.at - began[entry.step]).total_seconds()
            assert took == pytest.approx(times * twin.world.steps[entry.step].estimate_s, abs=2) or took == 0, entry
    assert end.at_s <= 1.02 * times * case.plan.estimate_s
    assert end.at_s >= 0.8 * times * case.plan.estimate_s


def test_every_kind_of_step_is_in_one_of_these_plans():
    assert set(KINDS) - {kind for make in CASES.values() for kind in kinds_of(make())} == set()


FAIL = sorted(k.name for k in KINDS.values() if (k.alters or k.disturbs or k.moves) and not k.by_person)


@pytest.mark.parametrize("kind", FAIL)
def test_a_step_that_fails_stops_its_lane_there_and_is_named(kind):
    case = next(case for case in (make() for make in CASES.values()) if kind in kinds_of(case))
    end = case.end(fails={kind: 1.0})
    assert end.state == "stopped"
    assert end.stop.kind == kind
    assert end.why


def test_what_takes_longer_than_its_deadline_is_stopped_when_it_is_over():
    case = CASES["a pair"]()
    first = next(step for step in case.plan.steps() if step.kind == "install")
    end = case.end(lasts={first.id: np.full(1, 10 * first.deadline_s)})
    assert end.stop == Where(system="tickets", node=first.node, kind="install")
    before = sum(s.estimate_s for s in list(case.plan.steps())[: list(case.plan.steps()).index(first)])
    assert end.at_s == pytest.approx(before + first.deadline_s, abs=60)


def test_a_window_that_is_too_short_holds_before_the_step_that_would_not_be_at_rest():
    case = CASES["a pair"]()
    end = case.end(windows={"tickets": [Span(begin=BEGAN, end=BEGAN + timedelta(minutes=45))]})
    assert (end.state, end.stop) == ("held", None)
    assert end.hold is not None
    assert "the window of tickets ends at" in end.why


def test_a_service_is_away_for_as_long_as_its_only_node_is():
    case = CASES["a single"]()
    restart = next(step for step in case.plan.steps() if step.kind == "restart")
    assert case.end().away_s == pytest.approx(restart.estimate_s, abs=1)
    assert CASES["a quorum"]().end().away_s == pytest.approx(1.0)  # what a move may interrupt


def test_a_round_that_does_not_finish_holds_the_next():
    night = rounds.many("[{name: first, of: [spit], soak_minutes: 30}, {name: rest, of: ['*']}]")
    case = planned(night)
    stopped = case.end(fails={"restart": 1.0})
    assert (stopped.state, stopped.stop.system) == ("stopped", "spit")
    dry = with_(case.plan, rounds=tuple(Round(name=r.name, systems=r.systems) for r in case.plan.rounds))
    assert case.end().at_s - case.end(plan=dry).at_s == pytest.approx(1800, abs=60)


def test_lanes_that_may_not_go_on_together_take_longer():
    together, alone = planned(rounds.many()), planned(rounds.many(limits=", lanes_at_once: 1"))
    assert alone.end().at_s > 2.5 * together.end().at_s


def test_the_same_seed_is_the_same_nights_however_they_are_shared_out():
    case = CASES["a quorum"]()
    runs = 200
    cast = case.cast(lasts=lasting(case.plan, (), runs), fails={"restart": 0.05})
    told = []
    alone = nights(cast, runs, 7, lambda done, of: told.append((done, of)), jobs=1)
    shared = nights(cast, runs, 7, lambda done, of: None, jobs=2)
    assert alone == shared
    assert told[-1] == (runs, runs)
    assert nights(cast, 40, 8, lambda done, of: None, jobs=1) != alone[:40]
    assert 0 < sum(end.state == "stopped" for end in alone) < runs


def test_what_decides_is_the_step_that_took_most_longer_than_usual():
    case = CASES["a pair"]()
    late = [step for step in case.plan.steps() if step.kind == "install"][1]
    lasts = {s.id: np.full(1, s.estimate_s * (2 if s is late else 1)) for s in case.plan.steps()}
    assert case.end(lasts=lasts).decides == Where(system="tickets", node=late.node, kind="install")
    assert case.end().decides is None or case.end().decides.kind != "install"


def test_an_order_to_hold_a_device_that_leads_leaves_it_standing():
    """Another lane stops meanwhile, and the others are to hold then: the twin of a device pauses as it is told."""
    case = CASES["a device that leads"]()
    twin = Twin(case.cast(), 0, random.Random(1).random)
    from gallant.engine.roll import Roll

    roll = Roll("roll-0001", case.plan, twin.means, Orders(by="tester", consents=twin.cast.consents))
    order = next(step for step in case.plan.steps() if step.kind == "update_all")
    before = sum(s.estimate_s for s in list(case.plan.steps())[: list(case.plan.steps()).index(order)])
    twin.loop.call_later(before + 600, lambda: roll.hold("asked by tester"))
    end = twin.loop.run_until_complete(roll.carry_out())
    twin._close()
    assert end.state == "held"
    assert "asked by tester" in end.message


@pytest.mark.long
def test_nine_of_ten_nights_of_the_same_world_end_within_a_twentieth_of_what_was_rehearsed():
    """A world whose devices are quicker or slower each night: some of it is learned, and fresh nights of it, whose
    devices answer by rules of their own, are held against the rehearsal."""
    dice = random.Random(5)

    def one() -> tuple[Night, Plan, float]:
        night = Night(probes_every_s=2.0, read_s=0.0)
        common = {kind: dice.gauss(0, 0.10) for kind in ("install_s", "restart_s", "sync_s")}
        pair = night.pairs["tickets"]
        pair.images = {
            version: with_(
                image,
                **{kind: getattr(image, kind) * math.exp(more + dice.gauss(0, 0.08)) for kind, more in common.items()},
            )
            for version, image in pair.images.items()
        }
        plan = night.plan()
        assert night.run(plan).state == "finished"
        return night, plan, (night.events[-1].entry.at - night.events[0].entry.at).total_seconds()

    known = [one() for _ in range(30)]
    learned = tuple(o for night, plan, _ in known for o in of_roll(plan, night.events))
    fresh = sorted(took for _, _, took in (one() for _ in range(100)))
    case = planned(Night())
    cast = case.cast(lasts=lasting(case.plan, learned, 500))
    found = rehearsed(case.plan, BEGAN, {}, nights(cast, 500, 1, lambda done, of: None), len(learned))
    assert found.p90_s == pytest.approx(fresh[90], rel=0.05)
    assert found.p50_s == pytest.approx(fresh[50], rel=0.05)
