"""Lanes of systems that stand on one another: never worked on at once, and never waiting in a circle."""

from __future__ import annotations

import itertools

from hypothesis import given
from hypothesis import strategies as st

from gallant.core.estate.reading import parse_estate
from gallant.core.plan.lanes import one_after_the_other, waited_for
from gallant.core.work.plan import Hop, Lane

TEXT = """\
gallant: estate/1
name: three layers
sites: {s: {}}
accounts: {read: {user: r, secret: "env:R"}}
systems:
  metal: {product: p/metal, shape: pool, site: s, driver: http, profile: p,
          nodes: {a: {address: "https://127.0.0.1:1"}, b: {address: "https://127.0.0.2:1"}}}
  hosts: {product: p/hosts, shape: quorum, site: s, driver: http, profile: p,
          nodes: {a: {address: "https://127.0.0.3:1", runs_on: metal/a}, b: {address: "https://127.0.0.4:1", runs_on: metal/b}}}
  guest: {product: p/guest, shape: single, site: s, driver: http, profile: p,
          nodes: {a: {address: "https://127.0.0.5:1", runs_on: hosts/a}}}
"""
NAMES = ("metal", "hosts", "guest")


def ids(lanes: list[Lane]) -> list[str]:
    return [hop.id for lane in lanes for hop in lane.hops]


@st.composite
def drawn(draw: st.DrawFn) -> list[Lane]:
    """Lanes of one to three hops with needs among them that make no
    circle: each hop waits for some that come before it."""
    counts = {name: draw(st.integers(1, 3)) for name in NAMES}
    order = draw(st.permutations([name for name in NAMES for _ in range(counts[name])]))
    made, before = {name: list[Hop]() for name in NAMES}, list[str]()
    for name in order:
        one = f"{name}.{len(made[name])}"
        needs = tuple(draw(st.lists(st.sampled_from(before), unique=True, max_size=2))) if before else ()
        made[name].append(Hop(id=one, system=name, from_="1", to="2", needs=needs, waves=()))
        before.append(one)
    return [Lane(system=name, hops=tuple(hops)) for name, hops in made.items()]


@given(drawn())
def test_systems_that_stand_on_one_another_take_turns_and_never_wait_in_a_circle(lanes):
    estate = parse_estate("estate.yaml", TEXT)
    found = one_after_the_other(estate, lanes)
    waits = {name: waited_for(found, [name]) for name in ids(found)}
    assert all(name not in waits[name] for name in waits)
    for one, other in itertools.combinations(waits, 2):
        assert one in waits[other] or other in waits[one], (one, other)
