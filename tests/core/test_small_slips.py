"""Slips of a kind that passed unseen once: one of several looked at, the oldest for the newest, what is ours left
out."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from zoneinfo import ZoneInfo

from gallant.core.length import learning
from gallant.core.length.learning import model_of
from gallant.core.windows.recurring import CalendarEvent
from gallant.core.windows.rules import WindowRule, spans_of
from gallant.core.work.paces import Observation

LONDON = ZoneInfo("Europe/London")


def calendar(**event) -> WindowRule:
    return WindowRule(for_="*", file="c.ics", events=(CalendarEvent(start=datetime(2026, 12, 1), **event),))


def on(rule: WindowRule, day: int) -> int:
    begin = datetime(2026, 12, day, 12, tzinfo=UTC)
    return len(list(spans_of(rule, LONDON, begin, begin + timedelta(hours=1))))


def test_a_long_freeze_of_a_calendar_holds_on_each_of_its_days():
    whole, timed = calendar(whole_days=14, length_s=14 * 86400.0), calendar(length_s=14 * 86400.0)
    for rule in (whole, timed):
        assert [on(rule, day) for day in (1, 2, 7, 13, 14)] == [1] * 5
        assert on(rule, 16) == 0


def observed(n: int, took_s: float) -> Observation:
    return Observation(
        product="p", hop=f"{n} > x", kind="install", component="image", system=f"s{n}", announced_s=600, took_s=took_s
    )


def test_of_more_than_counts_the_newest_are_learned_from(monkeypatch):
    monkeypatch.setattr(learning, "MOST_EFFECTS", 60)
    old, new = [observed(n, 600.0) for n in range(40)], [observed(n, 2400.0) for n in range(40, 80)]
    model = model_of((*old, *new))
    assert model.observations == tuple(new[-len(model.observations) :])
    assert model.pace("p", "y > z", "install", "image", "other").p50 > 1.5
    monkeypatch.setattr(learning, "MOST_EFFECTS", 1000)
    monkeypatch.setattr(learning, "MOST_OBSERVED", 40)
    model = model_of((*old, *new, observed(99, 2400.0)))
    assert {o.took_s for o in model.observations} == {2400.0}
