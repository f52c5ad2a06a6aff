"""What takes back what a roll did, piece by piece: what each component goes back to, and what keeps it where it is."""

from __future__ import annotations

import pytest

from gallant.core.catalog.products import Product, Requirement
from gallant.core.plan.back.case import BackCase, Did, Obstacle
from gallant.core.plan.back.lane import _after, _has_turn, newest_first, standing_after
from gallant.core.plan.back.order import parts_against
from gallant.core.plan.back.pieces import part_back, part_goal
from gallant.core.plan.ground import Ground
from gallant.core.plan.todo import Runs, Todo
from gallant.core.readings import Component
from gallant.core.records import replace
from gallant.core.shapes import Standing
from gallant.core.work.knows import Knows
from gallant.core.work.plan import BACKOUT, Hop, Lane, Part

from ..builders import ESTATE, TICKETS, both
from .test_assessment import NOW, SHOAL, release
from .test_work import plan_of

BMC = Product(
    name="ostrel/bmc",
    scheme="dotted",
    releases=(release("1"), release("2", from_range="vers:dotted/>=1|<=2"), release("3"), release("4")),
)


def part(from_: str = "2", to: str = "3", **more) -> Part:
    said = {
        "component": "bmc",
        "kind": "x",
        "product": BMC.name,
        "restart": "service",
        "in_turn": True,
        "install_s": 60,
    }
    return Part(from_=from_, to=to, **{**said, **more})


def hop(*parts: Part, number: int = 0, **more) -> Hop:
    said = {"id": f"tickets.{number}", "system": "tickets", "from_": "2.8.5", "to": "2.11.3", "waves": ()}
    return Hop(parts=parts, **{**said, **more})


def ground(needs: str | None = None) -> Ground:
    """Both nodes run 2.11.3 and a controller on 3, which needs so much of the image."""
    component = Component(name="bmc", kind="x", product=BMC.name, version="3")
    told = {"version": "2.11.3", "components": (component,)}
    readings = {f"tickets/{n}": r for n, r in both(told, told).items()}
    requires = (Requirement(product=SHOAL.name, range=needs),) if needs else ()
    releases = tuple(replace(r, requires=requires) if r.version == "3" else r for r in BMC.releases)
    products = {SHOAL.name: SHOAL, BMC.name: replace(BMC, releases=releases)}
    return Ground(estate=ESTATE, readings=readings, products=products, now=NOW)


def case(*hops: Hop, began: str = "1", points: tuple[str, ...] = (), nodes: tuple[str, ...] = ("a", "b"), system=TICKETS) -> BackCase:  # fmt: skip
    undone = plan_of(both())
    versions = {**undone.basis.versions, **{f"tickets/{n}:bmc": began for n in nodes}}
    return BackCase(
        ground=replace(ground(), knows={"tickets": Knows(capabilities=frozenset(), parts=("bmc",))}),
        system=system,
        lane=Lane(system="tickets", hops=hops),
        undone=replace(undone, basis=replace(undone.basis, versions=versions)),
        done=Did(
            altered=frozenset(("tickets", n, "bmc") for n in nodes),
            points=frozenset(("tickets", to) for to in points),
        ),
        nodes=nodes,
    )


@pytest.mark.parametrize(
    ("needs", "back", "words"),
    [
        (
            "vers:dotted/>=2.11.3",
            "2.8.5",
            ["bmc of tickets/a on 3 needs ostrel/shoal on", "bmc of tickets/b on 3 needs"],
        ),
        ("vers:dotted/>=2.8", "2.8.5", []),
        ("vers:dotted/>=3", "2.8.5", []),  # it does not hold today either
        (None, "2.8.5", []),
    ],
)
def test_what_stays_keeps_what_it_needs_where_that_is(needs, back, words):
    lane = Lane(system="tickets", hops=(hop(from_="2.11.3", to=back, back=True),), kind=BACKOUT)
    found = parts_against(ground(needs), [lane])
    assert [obstacle.why[: len(word)] for obstacle, word in zip(found, words, strict=True)] == words


def test_a_component_goes_back_hop_by_hop_and_what_joined_on_the_way_to_where_it_joined_from():
    runs = Runs(version="2.11.3", parts={"bmc": ("3", None)})
    assert [part_goal(case(began=began), part("2", "3"), "a", runs) for began in ("1", "2")] == ["2", "2"]
    assert part_goal(case(began="2"), part("1", "3"), "a", runs) == "2"
    assert part_goal(case(), part("2", "3"), "a", replace(runs, parts={"bmc": ("1", "2")})) is None


@pytest.mark.parametrize(("runs", "turn"), [(("3", None), True), (("1", None), False), (("1", "3"), False)])
def test_a_node_has_a_turn_where_it_runs_something_of_the_roll(runs, turn):
    assert _has_turn(case(hop(part("1", "3"))), "a", Runs(version="2.8.5", parts={"bmc": runs})) is turn


def test_a_package_that_goes_on_nothing_newer_leads_no_component_back_and_both_releases_are_named():
    found = part_back(case(), part("2", "4"), "2", ["a"])
    assert isinstance(found, Obstacle)
    assert found.why == "no package of bmc 2 goes on 4"


def test_a_component_whose_older_release_its_catalog_lost_does_not_go_back_and_its_nodes_are_named():
    assert part_back(case(), part("2", "3"), "0", ["a"]) == Obstacle(
        system="tickets", nodes=("a",), why="bmc 0 is not in its catalog"
    )


@pytest.mark.parametrize(
    ("todo", "slots", "left"),
    [
        (Todo(image=True), 2, "3.2.4"),
        (Todo(image=True), 1, "2.8.5"),
        (Todo(parts=(part(restart="node"),)), 2, "2.8.5"),
        (Todo(image=True, stays=True), 2, "2.8.5"),
    ],
)
def test_with_a_second_slot_a_restart_into_another_release_leaves_there_what_it_left(todo, slots, left):
    now = Runs(version="3.2.4", other_slot="2.8.5", parts={"bmc": ("3", None)})
    assert _after(now, todo, hop(from_="3.2.4", to="2.11.3", back=True), slots).other_slot == left


def test_after_a_hop_back_the_nodes_have_the_roles_to_which_its_handover_led():
    before = Standing(roles={"a": "active", "b": "standby"})
    both_go = {n: Todo(image=True) for n in "ab"}
    after = standing_after(replace(TICKETS, usual={}), before, both_go)
    assert after.roles == {"a": "standby", "b": "active"}


def test_a_restore_point_takes_back_all_the_components_of_its_own_hop_and_of_every_later_one_the_last_first():
    names = [part(component=name) for name in "xyzw"]
    alone = replace(TICKETS, nodes={"a": TICKETS.nodes["a"]}, shape="single")
    hops = (hop(*names[:2], number=1), hop(*names[2:], number=2, from_="2.11.3", to="3.2.4"))
    own = case(*hops, points=("2.11.3",), nodes=("a",), system=alone)
    [back] = newest_first(own, {"a": Runs(version="2.11.3")})
    assert (back.rewinds, "".join(p.component for p in back.parts)) == ("2.11.3", "yxwz")
