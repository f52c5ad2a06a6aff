"""What a roll tells of how long steps take: the device's own time, and never that of a process that was gone."""

from __future__ import annotations

from gallant.core.work.events import INTENT
from gallant.operations.length.durations import of_roll

from .night import Killed, Night

ONE_HOP = {"2.8.5": None, "2.11.3": "vers:dotted/>=2.8.0"}


def told(night: Night, plan) -> dict[tuple[str, str], float]:
    return {(o.system, o.kind): o.took_s for o in of_roll(plan, night.events)}


def test_a_step_over_which_the_roll_was_killed_is_not_learned_from_and_every_other_is():
    whole = Night(versions=ONE_HOP)
    plan = whole.plan()
    assert whole.run(plan).state == "finished"
    all_of_them = [o.kind for o in of_roll(plan, whole.events)]
    assert "restart" in all_of_them
    night = Night(versions=ONE_HOP)
    plan = night.plan()
    restart = next(step.id for step in plan.steps() if (step.kind, step.node) == ("restart", "b"))
    at = next(n for n, e in enumerate(whole.events, 1) if e.entry.kind == INTENT and e.entry.step == restart)
    night.kill_at = ("after append", at + 1)  # the order was taken, and nobody looks for an hour
    try:
        night.run(plan)
    except Killed:
        assert night.finish(plan, downtime=3600.0).state == "finished"
    found = list(of_roll(plan, night.events))
    assert all(o.took_s < 1800 for o in found)
    assert len(found) == len(all_of_them) - 1
