"""Layers held against brute force, which tries every order of work there is and shares no code with the search."""

from __future__ import annotations

import itertools
from datetime import UTC, datetime

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from gallant.core.catalog.products import Package, Product, Release, Requirement
from gallant.core.plan.components import _layer, one_way_of, unmet
from gallant.core.plan.ground import Ground, PartGoal
from gallant.core.plan.layers import Layer, Layers, find_passes
from gallant.core.readings import Component
from gallant.core.records import replace
from gallant.core.work.knows import Knows, Migration

from ..builders import ESTATE, TICKETS, reading

LONG_AGO = datetime(2026, 1, 1, tzinfo=UTC)
KINDS = {
    "bios": "BIOS",
    "bmc": "management controller",
    "nic": "NIC",
    "image": "system image",
    "data": "on-disk format",
}


def release(number: int, restart: str = "node", **needs: str) -> Release:
    requires = tuple(Requirement(product=f"x/{name}", range=f"vers:dotted/{text}") for name, text in needs.items())
    return Release(version=f"{number}.0", released=LONG_AGO, restart=restart, requires=requires)


def layer(name: str, *stations: Release, running: Release | None = None) -> Layer:
    start = running or release(1)
    product = Product(name=f"x/{name}", scheme="dotted", releases=(start, *stations))
    kind = KINDS.get(name, "add-on module")
    return Layer(component=name, kind=kind, product=product, running=start.version, stations=stations)


def told(found: Layers) -> list[tuple[list[str], list[str]]]:
    return [([m.component for m in p.first], [m.component for m in p.switched]) for p in found.passes]


def test_a_component_that_runs_what_nobody_can_place_is_older_than_its_goal():
    package = Package(name="p", url="x", bytes=1, sha256="0" * 64)
    releases = tuple(replace(release(n), packages=(package,)) for n in (1, 2))
    products = {"x/bmc": Product(name="x/bmc", scheme="dotted", releases=releases)}
    ground = Ground(estate=ESTATE, readings={}, products=products, now=LONG_AGO, knows={"tickets": Knows(capabilities=frozenset(), parts=("bmc",))})  # fmt: skip

    def running(*versions: str) -> str:
        parts = [Component(name="bmc", kind="x", product="x/bmc", version=version) for version in versions]
        found = _layer(ground, TICKETS, PartGoal(component="bmc", target="2.0"), parts)
        return found if isinstance(found, str) else found.running

    assert running("2.0", "1.0") == "1.0"
    assert running("1.0", "spring") == "it runs spring, which has no place among its releases"


@pytest.mark.parametrize(("runs", "why"), [("2026-03", "it takes database from 2026-03 to 2026-09 by its own migration"), ("2026-09", None)])  # fmt: skip
def test_what_migrates_another_component_has_no_way_back_unless_that_is_there_already(runs, why):
    product = Product(name="x/app", scheme="dotted", releases=(release(1), release(2)))
    app = Layer(component="app", kind="x", product=product, running="1.0", stations=product.releases)
    knows = Knows(
        capabilities=frozenset(),
        migrates={"app": (Migration(component="database", to="2026-09", releases="vers:dotted/>=2.0"),)},
    )
    read = {f"tickets/{n}": reading(n, components=(Component(name="database", kind="y", product="x/db", version=runs),)) for n in "ab"}  # fmt: skip
    ground = Ground(estate=ESTATE, readings=read, products={}, now=LONG_AGO, knows={"tickets": knows})
    assert one_way_of(ground, TICKETS, app.component, app.kind, app.product, release(1)) is None
    said = one_way_of(ground, TICKETS, app.component, app.kind, app.product, release(2))
    assert said == why if why is None else said.startswith(why)


@pytest.mark.parametrize(
    ("version", "following", "met"),
    [("2.0", None, True), ("1.0", None, False), ("1.0", "2.0", False), ("2.0", "1.0", True), ("spring", None, False)],
)
def test_what_a_release_needs_of_others_is_held_against_what_runs_and_not_what_waits(version, following, met):
    other = Component(name="bmc", kind="x", product="x/bmc", version=version, next_version=following)
    read = reading("a", components=(other,))
    products = {"x/bmc": Product(name="x/bmc", scheme="dotted", releases=(release(1), release(2)))}
    ground = Ground(estate=ESTATE, readings={"tickets/a": read}, products=products, now=LONG_AGO)
    why = unmet(ground, TICKETS, release(2, bmc=">=2.0"), set())
    assert (why is None) == met, why
    assert unmet(ground, TICKETS, release(2, bmc=">=2.0"), {"x/bmc"}) is None


def test_what_needs_no_restart_goes_first_and_all_the_rest_share_one_restart():
    layers = [
        layer("image", release(2)),
        layer("nic", release(2)),
        layer("bios", release(2)),
        layer("bmc", release(2, "none")),
    ]
    assert told(find_passes(layers)) == [(["bmc"], ["bios", "nic", "image"])]


def test_a_release_that_needs_another_to_run_waits_for_that_ones_restart():
    layers = [layer("nic", release(2, bios=">=2.0")), layer("bios", release(2)), layer("image", release(2))]
    assert told(find_passes(layers)) == [([], ["bios", "image"]), ([], ["nic"])]


def test_what_an_update_without_restart_makes_possible_costs_no_restart():
    layers = [layer("bios", release(2, bmc=">=2.0")), layer("bmc", release(2, "none"))]
    assert told(find_passes(layers)) == [(["bmc"], ["bios"])]


def test_what_must_leave_before_the_other_arrives_goes_first():
    """bios 1.0 cannot run next to bmc 2.0, so it has to be gone by then."""
    layers = [layer("bios", release(2), running=release(1, bmc="<2.0")), layer("bmc", release(2, "none"))]
    assert told(find_passes(layers)) == [([], ["bios"]), (["bmc"], [])]


def test_a_format_of_data_is_raised_after_everything_else():
    layers = [layer("data", release(2, "none")), layer("image", release(2)), layer("seats", release(2, "service"))]
    assert told(find_passes(layers)) == [(["seats"], ["image"]), (["data"], [])]


def test_a_format_that_a_release_needs_is_raised_before_that_release():
    layers = [layer("data", release(2, "none", image=">=2.0")), layer("image", release(2), release(3, data=">=2.0"))]
    assert told(find_passes(layers)) == [([], ["image"]), (["data"], ["image"])]


def test_two_hops_of_one_layer_share_their_restarts_with_the_hops_of_another():
    layers = [layer("bios", release(2), release(3)), layer("image", release(2), release(3)), layer("nic", release(2))]
    assert told(find_passes(layers)) == [([], ["bios", "nic", "image"]), ([], ["bios", "image"])]


def test_what_runs_a_release_that_no_catalog_lists_requires_nothing_while_it_does():
    own = layer("nic", release(2)).product
    layers = [
        Layer(component="nic", kind="NIC", product=own, running="0.9", stations=own.releases[1:]),
        layer("bios", release(2)),
    ]
    assert told(find_passes(layers)) == [([], ["bios", "nic"])]


def test_what_can_never_be_is_left_and_the_reason_named():
    layers = [layer("nic", release(2, bios=">=3.0")), layer("bios", release(2)), layer("image", release(2))]
    found = find_passes(layers)
    assert told(found) == [([], ["bios", "image"])]
    assert found.stuck == {"nic": "nic 2.0 needs bios on 3.0 or later"}


def test_a_requirement_that_is_broken_today_is_no_reason_to_stand_still():
    layers = [layer("nic", release(2), running=release(1, bios=">=2.0")), layer("bios", release(2))]
    assert told(find_passes(layers)) == [([], ["bios", "nic"])]


def test_a_host_of_many_packages_without_rules_is_one_restart():
    layers = [layer(f"p{n:03}", release(2, "service")) for n in range(600)] + [layer("image", release(2))]
    assert [(len(p.first), len(p.switched)) for p in find_passes(layers).passes] == [(600, 1)]


# --- brute force

NAMES = ("bmc", "bios", "nic", "image")


@st.composite
def small_machines(draw: st.DrawFn) -> list[Layer]:
    names = NAMES[: draw(st.integers(1, 4))]

    def drawn(name: str, number: int) -> Release:
        needs = {
            other: f"{draw(st.sampled_from(('>=', '<')))}{draw(st.integers(1, 3))}.0"
            for other in names
            if other != name and draw(st.integers(0, 4)) == 0
        }
        return release(number, draw(st.sampled_from(("node", "node", "none", "service"))), **needs)

    return [
        layer(name, *(drawn(name, n) for n in range(2, 2 + draw(st.integers(0, 2)))), running=drawn(name, 1))
        for name in names
    ]


def broken(layers: list[Layer], may_run: list[set[int]]) -> set[tuple]:
    """Every requirement that does not hold, by hand: versions are whole numbers here."""
    found = set()
    for n, one in enumerate(layers):
        for at in may_run[n]:
            said = one.product.releases[at].requires
            for need in said:
                other = next(m for m, one in enumerate(layers) if one.product.name == need.product)
                sign = ">=" if ">=" in need.range else "<"
                bound = int(need.range.split(sign)[1].split(".")[0])
                for there in may_run[other]:
                    number = there + 1
                    if not (number >= bound if sign == ">=" else number < bound):
                        found.add((n, at, need.product, need.range, other))
    return found


def allowed(layers: list[Layer], state: tuple[int, ...], moved: tuple[int, ...]) -> bool:
    both = [{at, at + 1} if n in moved else {at} for n, at in enumerate(state)]
    return broken(layers, both) <= broken(layers, [{at} for at in state])


def fewest(layers: list[Layer]) -> int | None:
    """The fewest restarts that bring every layer to its end; None where no order does."""
    goal = tuple(len(one.stations) for one in layers)
    reached, count = {tuple(0 for _ in layers)}, 0
    while True:
        grown = True
        while grown:  # whatever needs no restart, in any order
            more = {
                tuple(at + (m == n) for m, at in enumerate(state))
                for state in reached
                for n, one in enumerate(layers)
                if state[n] < goal[n] and one.stations[state[n]].restart != "node" and allowed(layers, state, (n,))
            }
            grown = not more <= reached
            reached |= more
        if goal in reached:
            return count
        further = set(reached)
        for state in reached:
            waiting = [
                n for n, one in enumerate(layers) if state[n] < goal[n] and one.stations[state[n]].restart == "node"
            ]
            for size in range(1, len(waiting) + 1):
                for some in itertools.combinations(waiting, size):
                    if allowed(layers, state, some):
                        further.add(tuple(at + (m in some) for m, at in enumerate(state)))
        if further == reached:
            return None
        reached, count = further, count + 1


@settings(max_examples=400, deadline=None)
@given(small_machines())
def test_no_order_of_work_needs_fewer_restarts_and_none_breaks_a_rule(layers: list[Layer]):
    found, best = find_passes(layers), fewest(layers)
    assert (best is None) == bool(found.stuck)
    place = {one.component: n for n, one in enumerate(layers)}
    state = tuple(0 for _ in layers)
    for one in found.passes:
        moves = [((place[m.component],), False) for m in one.first]
        moves += [(tuple(place[m.component] for m in one.switched), True)] if one.switched else []
        for moved, restart in moves:
            assert allowed(layers, state, moved)
            assert {layers[n].stations[state[n]].restart == "node" for n in moved} == {restart}
            state = tuple(at + (n in moved) for n, at in enumerate(state))
    if best is not None:
        assert state == tuple(len(one.stations) for one in layers)
        assert sum(bool(p.switched) for p in found.passes) == best


@pytest.mark.parametrize("order", list(itertools.permutations(range(3))))
def test_the_order_in_which_layers_are_given_changes_nothing(order: tuple[int, ...]):
    layers = [layer("nic", release(2, bios=">=2.0")), layer("bios", release(2)), layer("image", release(2))]
    assert told(find_passes([layers[n] for n in order])) == [([], ["bios", "image"]), ([], ["nic"])]


def test_a_format_that_what_stays_behind_forbids_is_not_raised_in_the_end():
    layers = [layer("data", release(2, "none", nic=">=3.0")), layer("nic", release(2)), layer("image", release(2))]
    found = find_passes(layers)
    assert told(found) == [([], ["nic", "image"])]
    assert found.stuck == {"data": "data 2.0 needs nic on 3.0 or later"}
