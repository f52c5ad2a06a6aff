"""Which of many systems one plan can be made of, and what bars each of the others."""

from __future__ import annotations

import pytest

from gallant.core.catalog.products import Product
from gallant.core.estate.systems import Estate
from gallant.core.plan.ground import Ground
from gallant.core.plan.planning import make_plan
from gallant.core.plan.sifting import sift
from gallant.core.records import replace
from gallant.core.work.knows import Knows

from .test_assessment import NOW, release
from .test_requirements import PRODUCTS, estate, needs, readings

FOUR = estate(("hosts", "s/hosts"), ("manager", "s/manager"), ("lone", "s/lone"), ("strange", "s/strange"))
ALL = {**PRODUCTS, "s/lone": Product(name="s/lone", scheme="dotted", releases=(release("1.0"), release("2.0")))}


def ground_of(products: dict[str, Product] = ALL, place: Estate = FOUR, **running: str) -> Ground:
    versions = {"hosts": "1.0", "manager": "1.0", "lone": "1.0", "strange": "1.0"} | running
    return Ground(estate=place, readings=readings(**versions), products=products, now=NOW)


def sifted(ground: Ground, *names: str, lanes: bool = True) -> tuple[set[str], dict[str, str]]:
    kept, barred = sift(ground, [ground.estate.systems[n] for n in names or ground.estate.systems], lanes)
    return {s.name for s in kept}, {b.system: b.what for b in barred}


def test_what_no_catalog_lists_is_left_out_and_the_rest_is_kept():
    kept, barred = sifted(ground_of())
    assert kept == {"hosts", "manager", "lone"}
    assert list(barred) == ["strange"]
    assert "no catalog here lists s/strange" in barred["strange"]


def test_what_is_kept_can_be_planned_together():
    ground = ground_of()
    kept, _ = sifted(ground)
    plan = make_plan(ground, [s for n, s in FOUR.systems.items() if n in kept], {"p": "d"}, by="t")
    assert set(plan.systems) == kept


def test_a_system_that_needs_another_one_is_left_out_with_the_name_of_that():
    kept, barred = sift(ground_of(), [FOUR.systems[n] for n in ("hosts", "lone")])
    assert [s.name for s in kept] == ["lone"]
    assert (barred[0].system, barred[0].needs) == ("hosts", ("manager",))
    assert "gallant plan hosts --with-needed" in barred[0].next


def test_only_the_one_in_the_way_of_the_others_is_left_out():
    manager = replace(ALL["s/manager"], releases=(release("1.0"), release("1.5")))
    hosts = replace(ALL["s/hosts"], releases=(release("1.0"), release("2.0", requires=needs("s/manager", ">=2.0"))))
    kept, barred = sifted(ground_of({**ALL, "s/manager": manager, "s/hosts": hosts}), "hosts", "manager", "lone")
    assert kept == {"manager", "lone"}
    assert list(barred) == ["hosts"]


def test_an_unread_node_bars_its_own_system_alone():
    ground = ground_of()
    ground = replace(ground, readings={n: r for n, r in ground.readings.items() if n != "lone/b"})
    kept, barred = sifted(ground, "hosts", "manager", "lone")
    assert kept == {"hosts", "manager"}
    assert "lone/b was never read" in barred["lone"]


@pytest.mark.parametrize("lanes", [True, False])
def test_what_a_driver_cannot_bring_is_seen_where_lanes_are_looked_at(lanes):
    ground = replace(ground_of(), knows={"lone": Knows(capabilities=frozenset({"restart"}))})
    kept, barred = sifted(ground, "hosts", "manager", "lone", lanes=lanes)
    assert ("lone" in barred) == lanes
    assert {"hosts", "manager"} <= kept


def test_nodes_without_roles_bar_their_system_where_lanes_are_looked_at():
    ground = ground_of()
    lost = {n: replace(r, role="") if n.startswith("lone/") else r for n, r in ground.readings.items()}
    kept, barred = sifted(replace(ground, readings=lost), "hosts", "manager", "lone")
    assert kept == {"hosts", "manager"}
    assert list(barred) == ["lone"]
