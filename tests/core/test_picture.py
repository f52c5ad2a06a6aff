"""Before against after: every loss is found with the right words, and nothing harmless is blamed."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st

from gallant.core.after.picture import BETTER, LOST, OTHER, PLANNED, Picture, first_seen, losses, unlike
from gallant.core.readings import Alarm, Channel, Closely, Component, Facet, Gauge, Guest, Job, Logged, Reading
from gallant.core.records import replace

THEN = datetime(2026, 12, 1, 22, tzinfo=UTC)
LATER = THEN + timedelta(hours=2)


def reading(node: str = "a", **more) -> Reading:
    said = {
        "system": "tickets",
        "node": node,
        "taken": THEN,
        "serial": f"S-{node}",
        "product": "ostrel/shoal",
        "version": "2.8.5",
        "boot": "1",
        "role": "active" if node == "a" else "standby",
        "state": "in_service",
        "in_sync": True,
        "answers_for": ("127.0.0.9",) if node == "a" else (),
        "facets": (Facet(name="path 1", state="up"), Facet(name="time source", state="synchronised"), Facet(name="interface 7", state="down")),
        "gauges": (Gauge(name="sessions", value=40, unit=""), Gauge(name="replica paths", value=2, unit=""), Gauge(name="uptime", value=9, unit="s")),
        "alarms": (Alarm(text="fan 2 is slow", level="warn"),),
        "components": (Component(name="bios", kind="BIOS", product="q/bios", version="1", serial="B-1"),),
        "channels": (Channel(name="main", state="reachable"),),
        **more,
    }  # fmt: skip
    return Reading(**said)


def picture(*readings: Reading, at: datetime = THEN, **more) -> Picture:
    return Picture(at=at, readings={r.name: r for r in readings}, **more)


BEFORE = picture(reading("a"), reading("b"), services={"tickets blocks": True})


def after(services: dict | None = None, errors: dict | None = None, gone: tuple = (), **of_a) -> Picture:
    readings = [replace(reading("a"), taken=LATER, **of_a), replace(reading("b"), taken=LATER)]
    kept = [r for r in readings if r.name not in gone]
    return picture(*kept, at=LATER, services=services or {"tickets blocks": True}, errors=errors or {})


FACETS = reading().facets
LOSSES = {
    "path 1 up → down": after(facets=(Facet(name="path 1", state="down"), *FACETS[1:])),
    "path 1 up → gone": after(facets=FACETS[1:]),
    "time source synchronised → none": after(facets=(FACETS[0], Facet(name="time source", state="none"), FACETS[2])),
    "its replica whole → filling": after(in_sync=False, sync_word="filling"),
    "its state in_service → out_of_service": after(state="out_of_service"),
    "its alarm none → disk 3 failed": after(alarms=(*reading().alarms, Alarm(text="disk 3 failed", level="stop"))),
    "bios 1 → gone": after(components=()),
    "replica paths 2 → 1": after(gauges=(Gauge(name="replica paths", value=1, unit=""),)),
    "the address 127.0.0.9 → gone": after(answers_for=()),
    "the role active → gone": after(role="standby"),
    "the channel main delivers → does not deliver": after(channels=(Channel(name="main", state="unreachable"),)),
    "the service blocks answers → silent": after(services={"tickets blocks": False}),
    "an answer read → gone": after(gone=("tickets/a",), errors={"tickets/a": "timed out"}),
    "unit mail none → failed": after(facets=(*FACETS, Facet(name="unit mail", state="failed"))),
}


@pytest.mark.parametrize("words", LOSSES)
def test_a_loss_is_found_and_named(words):
    found = losses(BEFORE, LOSSES[words])
    assert any(words in one.words for one in found), [one.words for one in found]
    assert all(one.since == LATER for one in found)


def test_no_session_that_came_back_is_a_loss_and_fewer_are_none():
    silent = (Gauge(name="sessions", value=0, unit=""),)
    readings = [replace(reading(n), taken=LATER, gauges=silent) for n in "ab"]
    assert [one.words for one in losses(BEFORE, picture(*readings, at=LATER))] == ["tickets: sessions 80 → 0"]
    assert losses(BEFORE, after(gauges=(*silent, Gauge(name="replica paths", value=2, unit="")))) == []


HARMLESS = {
    "another order": after(facets=FACETS[::-1]),
    "numbers that count": after(gauges=(Gauge(name="uptime", value=99, unit="s"), Gauge(name="sessions", value=41, unit=""))),
    "an alarm whose number counts up": after(alarms=(Alarm(text="fan 7 is slow", level="warn"),)),
    "a job of its own": after(jobs=(Job(id="1", kind="scrub", state="running"),)),
    "what was bad before": after(facets=(*FACETS[:2], Facet(name="interface 7", state="faulty"))),
    "a link somebody wants down": after(facets=(*FACETS, Facet(name="interface 9", state="disabled"))),
    "more of something": after(gauges=(Gauge(name="replica paths", value=3, unit=""),)),
    "an alarm that is gone": after(alarms=()),
    "a remark": after(alarms=(*reading().alarms, Alarm(text="log was rotated", level="note"))),
    "a clock": after(clock_offset_s=0.2),
    "the moment": after(),
}  # fmt: skip


@pytest.mark.parametrize("what", HARMLESS)
def test_nothing_harmless_is_called_a_loss(what):
    assert losses(BEFORE, HARMLESS[what]) == []


def test_what_moves_to_another_node_of_the_system_is_no_loss():
    guest = Facet(name="guest shop", state="runs")
    before = picture(reading("a", facets=(guest,)), reading("b", facets=()))
    moved = picture(reading("a", facets=()), reading("b", facets=(guest,)), at=LATER)
    assert losses(before, moved) == []
    assert losses(before, picture(reading("a", facets=()), reading("b", facets=()), at=LATER)) != []
    handed = picture(
        reading("a", role="standby", answers_for=()), reading("b", role="active", answers_for=("127.0.0.9",))
    )
    assert losses(picture(reading("a"), reading("b")), handed) == []


def carrying(**guests):
    """The nodes of a system with what each carries: `a="shop till"`; a guest with a dash before it is off."""
    every = {
        node: tuple(Guest(name=n.strip("-"), state="off" if n[0] == "-" else "runs") for n in names.split())
        for node, names in guests.items()
    }
    return [reading(node, guests=rows) for node, rows in every.items()]


@pytest.mark.parametrize(
    ("before", "after", "told"),
    [
        ({"a": "shop till", "b": "mail"}, {"a": "", "b": "mail shop till"}, ["guests 3 run → all 3 run, 2 elsewhere"]),
        ({"a": "shop", "b": "mail"}, {"a": "shop", "b": "mail"}, []),
        ({"a": "shop", "b": "mail"}, {"a": "mail", "b": "shop wiki"}, ["guests 2 run → all 2 run, 2 elsewhere, 1 more"]),
        ({"a": "shop till", "b": ""}, {"a": "", "b": "till"}, ["the guest shop runs on a → runs nowhere", "guests 2 run → 1 of them run, 1 elsewhere"]),
        ({"a": "shop", "b": ""}, {"a": "", "b": "-shop"}, ["the guest shop runs on a → off on b"]),
        ({"a": "-shop", "b": ""}, {"a": "", "b": ""}, []),
        ({"a": "shop", "b": ""}, {"a": "-shop", "b": "shop"}, ["guests 1 run → all 1 run, 1 elsewhere"]),
    ],
)  # fmt: skip
def test_guests_that_moved_are_one_line_and_one_that_runs_nowhere_is_a_loss(before, after, told):
    found = unlike(picture(*carrying(**before)), picture(*carrying(**after), at=LATER))
    assert [one.words.partition(": ")[2] for one in found] == told
    assert [one.means for one in found] == [LOST if "guest " in words else OTHER for words in told]


def test_what_was_planned_is_planned_and_another_version_is_not():
    moved = {("tickets/a", "image"): "2.11.3"}
    [version] = [o for o in unlike(BEFORE, after(version="2.11.3", boot="2"), moved) if o.about == "its version"]
    assert (version.before, version.after, version.means) == ("2.8.5", "2.11.3", PLANNED)
    found = {one.about: one.means for one in unlike(BEFORE, after(version="2.11.3", boot="2"))}
    assert found == {"its version": OTHER, "its start": OTHER}
    assert not [o for o in unlike(BEFORE, after(version="2.11.3", boot="2"), moved) if o.about == "its start"]


def test_what_is_well_again_is_better():
    [one] = unlike(BEFORE, after(facets=(*FACETS[:2], Facet(name="interface 7", state="up"))))
    assert (one.means, one.words) == (BETTER, "tickets/a: interface 7 down → up")


def test_what_was_seen_so_before_has_been_so_since_then():
    once = unlike(BEFORE, LOSSES["path 1 up → down"])
    much_later = LATER + timedelta(days=1)
    again = [replace(one, since=much_later) for one in once]
    assert {one.since for one in first_seen(again, once)} == {LATER}
    assert {one.since for one in first_seen(again, [])} == {much_later}


@given(st.permutations(range(3)), st.permutations("ab"))
def test_no_order_makes_a_difference(order, nodes):
    shuffled = picture(
        *(replace(reading(n), facets=tuple(FACETS[i] for i in order)) for n in nodes), services=BEFORE.services
    )
    assert unlike(BEFORE, shuffled) == []


@given(st.sampled_from(sorted(LOSSES)))
def test_the_way_back_from_a_loss_is_none(words):
    assert not [
        o for o in unlike(LOSSES[words], BEFORE) if o.means == LOST and "alarm" not in o.about and "fail" not in words
    ]


AROUND = Closely(
    facets=(
        Facet(name="port 22", state="listening"),
        Facet(name="drive bay-1", state="ok"),
        Facet(name="default route", state="via 10.0.0.1 dev eth0"),
        Facet(name="neighbour at uplink-1", state="core-1"),
    ),
    gauges=(Gauge(name="speed of link port-1", value=25000, unit="Mbit/s"), Gauge(name="routes", value=7, unit="")),
    log=(Logged(text="lamp 3 is dim", level="warn", at="20:00"),),
)
CLOSE = picture(reading("a", closely=AROUND), reading("b"))


def around(**more) -> Picture:
    return picture(replace(reading("a", closely=replace(AROUND, **more)), taken=LATER), reading("b"), at=LATER)


@pytest.mark.parametrize(
    ("now", "words"),
    [
        (around(facets=AROUND.facets[1:]), "port 22 listening → gone"),
        (around(facets=(Facet(name="drive bay-1", state="warning"), *AROUND.facets)), None),
        (around(facets=(AROUND.facets[0], Facet(name="drive bay-1", state="warning"), *AROUND.facets[2:])), "drive bay-1 ok → warning"),
        (around(facets=(*AROUND.facets[:2], AROUND.facets[3])), "default route via 10.0.0.1 dev eth0 → gone"),
        (around(facets=AROUND.facets[:3]), "neighbour at uplink-1 core-1 → gone"),
        (around(gauges=(Gauge(name="speed of link port-1", value=10000, unit="Mbit/s"),)), "speed of link port-1 25000 Mbit/s → 10000 Mbit/s"),
        (around(gauges=(Gauge(name="routes", value=6, unit=""),)), "routes 7 → 6"),
        (around(log=(*AROUND.log, Logged(text="a board is gone", level="stop", at="22:00"))), "its log none → a board is gone"),
        (around(), None),
        (around(facets=AROUND.facets[::-1]), None),
        (around(facets=(*AROUND.facets[:2], Facet(name="default route", state="via 10.0.0.2 dev eth0"), AROUND.facets[3])), None),
        (around(log=(*AROUND.log, Logged(text="lamp 4 is dim", level="warn", at="22:00"))), None),
        (around(log=()), None),
        (around(gauges=(Gauge(name="speed of link port-1", value=100000, unit="Mbit/s"), Gauge(name="routes", value=9, unit=""))), None),
        (around(error="it does not tell", facets=()), None),
        (picture(replace(reading("a"), taken=LATER), reading("b"), at=LATER), None),
    ],
)  # fmt: skip
def test_what_lies_around_is_compared_where_both_were_looked_at_closely(now, words):
    found = [one.words for one in losses(CLOSE, now)]
    assert found == ([f"tickets/a: {words}"] if words else [])


def test_an_address_that_moves_to_the_other_node_is_no_loss():
    there = Closely(facets=(Facet(name="address 10.0.0.9/24 on eth0", state="present"),))
    before = picture(reading("a", closely=there), reading("b", closely=Closely()))
    after_it = picture(reading("a", closely=Closely()), reading("b", closely=there), at=LATER)
    assert losses(before, after_it) == []


def test_an_answer_that_takes_much_longer_is_a_loss_and_one_that_takes_a_little_longer_is_none():
    def answers(seconds: float) -> Picture:
        return picture(
            reading("a"), reading("b"), services={"tickets blocks": True}, answers={"tickets blocks": seconds}
        )

    assert [o.words for o in losses(answers(0.01), answers(0.4))] == ["tickets: the answer of blocks 10 ms → 400 ms"]
    assert losses(answers(0.01), answers(0.15)) == []
    assert losses(answers(0.5), answers(0.8)) == []
