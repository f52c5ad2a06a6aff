"""The demo's second act as a user runs it: ten systems from behind to their aims. It takes minutes: make night."""

from __future__ import annotations

from datetime import timedelta

import pytest

PATIENCE_S = 600.0

pytestmark = pytest.mark.long


def test_the_night_takes_ten_systems_to_their_aims(bare):
    demo = bare.begin("demo", "--folder", "line", "--night")
    out, err = demo.communicate(timeout=PATIENCE_S)
    assert demo.returncode == 0, out[-2000:] + err[-2000:]
    for system in ("tickets", "slipway", "overlook", "deck", "deck-hw", "tidegauge", "sealock", "gates", "manifest"):
        assert f"{system} runs " in out, system
    assert "roll-0001 ✓ finished" in out


def test_a_week_that_nobody_carries_out_takes_ten_systems_to_their_aims_in_their_windows(bare):
    from gallant.core.estate.calendar import windows_of_all
    from gallant.core.work.plan import steps_of
    from gallant.engine.journal import replay
    from gallant.operations.ground.workplace import Workplace

    demo = bare.begin("demo", "--folder", "line", "--week")
    out, err = demo.communicate(timeout=PATIENCE_S)
    assert demo.returncode == 0, out[-2000:] + err[-2000:]
    place = Workplace(bare.folder / "line")
    rolls = place.journal.rolls()[0]
    assert {name for row in rolls for name in row.plan.systems} == set(place.estate.systems)
    for row in rolls:
        state = replay(place.journal.events(row.id))
        assert state.state == "finished", (row.id, state.message)
        for lane in row.plan.lanes:
            systems = [place.estate.systems[name] for name in (lane.system, *lane.also)]
            spans = windows_of_all(place.estate, systems, row.began - timedelta(days=2), row.began + timedelta(days=2))
            disturbing = [s for h in lane.hops for s in steps_of(state.waves.get(h.id, h.waves)) if s.disturbs]
            for at in (state.step(s.id).intent.entry.at for s in disturbing if state.step(s.id).intent):
                assert any(span.begin <= at < span.end for span in spans), (lane.system, at)
    begun = {kept.entry.subject for kept in place.ledger.about(["due"]) if kept.entry.state == "begun"}
    assert {row.id for row in rolls} <= begun
    waiting = {"blocked", "new", "booked", "overdue"}
    left = [
        n["name"] for n in bare.run("notice", "list", "--json", GALLANT_ESTATE="line").rows if n["state"] in waiting
    ]
    assert [name for name in left if name.endswith(":image")] == []
