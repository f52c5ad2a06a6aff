"""Requirements of releases, as rules between the systems of an estate; and plans that keep them."""

from __future__ import annotations

from datetime import timedelta

import pytest

from gallant.core.assess.compat import breaches
from gallant.core.assess.remarks import remarks
from gallant.core.assess.requirements import own_breaches, requirements
from gallant.core.catalog.products import Product, Requirement
from gallant.core.errors import Refused
from gallant.core.estate.reading import parse_estate
from gallant.core.estate.systems import Estate
from gallant.core.plan.ground import Ground
from gallant.core.plan.planning import make_plan
from gallant.core.readings import Component, Reading
from gallant.core.records import replace
from gallant.core.work.plan import Plan

from .test_assessment import NOW, release

PAIR = """\
  {name}:
    product: {product}
    shape: pair
    site: harbour
    driver: http
    profile: p
    nodes:
      a: {{address: "https://10.{n}.0.1", serial: {name}-a}}
      b: {{address: "https://10.{n}.0.2", serial: {name}-b}}
"""


def estate(*systems: tuple[str, str], more: str = "") -> Estate:
    text = "gallant: estate/1\nname: t\nsites: {harbour: {}}\n" + more + "systems:\n"
    return parse_estate(
        "e",
        text + "".join(PAIR.format(name=name, product=product, n=n) for n, (name, product) in enumerate(systems, 1)),
    )


def readings(**running: str) -> dict[str, Reading]:
    return {
        f"{name}/{node}": Reading(
            system=name,
            node=node,
            taken=NOW,
            serial=f"{name}-{node}",
            product="x",
            version=version,
            boot="1",
            state="in_service",
            in_sync=True,
            role="active" if node == "a" else "standby",
            next_version=version,
        )
        for name, version in running.items()
        for node in "ab"
    }


def needs(product: str, allowed: str) -> tuple[Requirement, ...]:
    return (Requirement(product=product, range=f"vers:dotted/{allowed}"),)


MANAGER = Product(name="s/manager", scheme="dotted", releases=(release("1.0"), release("2.0")))
HOSTS = Product(
    name="s/hosts", scheme="dotted", releases=(release("1.0"), release("2.0", requires=needs("s/manager", ">=2.0")))
)
PRODUCTS = {p.name: p for p in (MANAGER, HOSTS)}
BOTH = estate(("hosts", "s/hosts"), ("manager", "s/manager"))


def plan_of(place: Estate, read: dict[str, Reading], products: dict[str, Product], *names: str) -> Plan:
    ground = Ground(estate=place, readings=read, products=products, now=NOW)
    return make_plan(ground, [place.systems[n] for n in names], {"p": "d"}, by="t")


def test_a_plan_over_two_systems_has_the_one_wait_for_the_other():
    plan = plan_of(BOTH, readings(hosts="1.0", manager="1.0"), PRODUCTS, "hosts", "manager")
    by_id = {hop.id: hop for lane in plan.lanes for hop in lane.hops}
    assert by_id["hosts.1"].needs == ("manager.1",)
    assert by_id["manager.1"].needs == ()


def test_a_plan_over_one_alone_is_refused_while_the_other_stands_in_its_way():
    with pytest.raises(Refused, match="no order of work keeps every requirement") as refused:
        plan_of(BOTH, readings(hosts="1.0", manager="1.0"), PRODUCTS, "hosts")
    assert "needs manager on 2.0 or later" in refused.value.what
    assert "hosts 1.0" in refused.value.why
    assert plan_of(BOTH, readings(hosts="1.0", manager="2.0"), PRODUCTS, "hosts").lanes[0].hops[0].to == "2.0"


def test_a_product_that_is_not_read_is_unknown_until_somebody_declares_it():
    lanyard = {
        "s/hosts": replace(
            HOSTS, releases=(release("1.0"), release("2.0", requires=needs("lanyard/tidemark", ">=5.2")))
        )
    }
    alone = estate(("hosts", "s/hosts"))
    with pytest.raises(Refused, match="what that runs is not known") as refused:
        plan_of(alone, readings(hosts="1.0"), lanyard, "hosts")
    assert "declared:" in refused.value.next
    for version, good in (("5.3", True), ("5.1", False)):
        declared = estate(
            ("hosts", "s/hosts"),
            more=f"declared: {{lanyard/tidemark: {{version: '{version}', by: anna, date: 2026-11-01T00:00:00Z}}}}\n",
        )
        if good:
            assert plan_of(declared, readings(hosts="1.0"), lanyard, "hosts").lanes
        else:
            with pytest.raises(Refused, match="no order of work"):
                plan_of(declared, readings(hosts="1.0"), lanyard, "hosts")


def test_a_system_of_which_one_node_is_unread_counts_as_unknown():
    read = readings(hosts="1.0", manager="2.0")
    del read["manager/b"]
    assert [u.product for u in requirements(BOTH, read, PRODUCTS, {}).unknown] == ["s/manager"]


def test_a_breach_that_exists_today_is_found():
    known = requirements(BOTH, readings(hosts="2.0", manager="1.0"), PRODUCTS, {})
    assert [(b.rule.system, b.other_running) for b in breaches(known.tasks, known.rules)] == [("hosts", "1.0")]


def test_a_requirement_on_a_component_of_its_own_nodes_is_about_that_and_no_other_system():
    card = Component(name="card", kind="NIC", product="s/manager", version="1.5")
    read = {name: replace(one, components=(card,)) for name, one in readings(hosts="2.0").items()}
    read["hosts/b"] = replace(read["hosts/b"], components=(replace(card, version="2.1"),))
    read |= readings(manager="3.0")
    known = requirements(BOTH, read, PRODUCTS, {})
    assert (known.rules, known.unknown) == ((), ())
    found = own_breaches(BOTH, read, PRODUCTS)
    assert [(b.rule.system, b.running, b.rule.other, b.other_running) for b in found] == [
        ("hosts", "2.0", "card", "1.5")
    ]
    by_system = {"hosts": [read["hosts/a"], read["hosts/b"]]}
    said = remarks(BOTH, by_system, PRODUCTS)["hosts"]["a"].reasons
    assert said == ("hosts on 2.0 needs its card on 2.0 or later; its card runs 1.5",)
    older = {name: replace(one, version="1.0") for name, one in read.items()}
    assert own_breaches(BOTH, older, PRODUCTS) == []  # 1.0 asks for nothing


@pytest.mark.parametrize(("version", "kept"), [("2.0", True), ("1.9", False), ("none", False)])
def test_a_component_that_no_catalog_lists_is_held_against_the_range_by_its_own_words(version, kept):
    card = Component(name="card", kind="NIC", product="x/card", version=version)
    hosts = replace(HOSTS, releases=(release("2.0", requires=needs("x/card", ">=2.0")),))
    read = {name: replace(one, components=(card,)) for name, one in readings(hosts="2.0").items()}
    assert (own_breaches(BOTH, read, {"s/hosts": hosts}) == []) is kept


def test_a_requirement_is_about_the_systems_that_belong_together():
    place = estate(("hosts", "s/hosts"), ("near", "s/manager"), ("far", "s/manager"))
    tied = replace(place, systems={**place.systems, "hosts": replace(place.systems["hosts"], uses=("near",))})
    assert {r.other for r in requirements(place, readings(hosts="1.0", near="1.0", far="1.0"), PRODUCTS, {}).rules} == {
        "near",
        "far",
    }
    assert {r.other for r in requirements(tied, readings(hosts="1.0", near="1.0", far="1.0"), PRODUCTS, {}).rules} == {
        "near"
    }


def test_a_version_with_signs_of_the_range_notation_is_still_one_version():
    odd = replace(
        HOSTS,
        releases=(
            release("1.0"),
            release("2.0-mend1", requires=needs("s/manager", ">=2.0"), days=int(timedelta(days=1).days)),
        ),
    )
    assert (
        plan_of(BOTH, readings(hosts="1.0", manager="2.0"), {**PRODUCTS, "s/hosts": odd}, "hosts").lanes[0].hops[0].to
        == "2.0-mend1"
    )


def test_an_order_that_cannot_be_kept_says_why_and_what_to_do():
    from gallant.core.plan.components import NoOrder

    error = NoOrder(
        "No order keeps it.", "spit needs bank, and bank spit.", "gallant gaps --conflicts", ["spit", "bank"]
    )
    assert (error.what, error.why, error.next, error.systems) == (
        "No order keeps it.",
        "spit needs bank, and bank spit.",
        "gallant gaps --conflicts",
        ("spit", "bank"),
    )
    assert str(error).startswith("No order keeps it.")
