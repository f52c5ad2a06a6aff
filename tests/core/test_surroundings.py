"""What no component knows by itself: conditions on readings,
neighbours, managers, counterparts, bundles, recalls, notes."""

from __future__ import annotations

from datetime import timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st

from gallant.core.assess.gaps import find_gaps
from gallant.core.assess.issues import concerns_of, worst_concerns
from gallant.core.assess.recalls import ways_out
from gallant.core.catalog.bundles import match_bundle
from gallant.core.catalog.conditions import check_condition, holds
from gallant.core.catalog.products import Bundle, KnownIssue, Product, Recall, Requirement
from gallant.core.estate.facts import facts_of
from gallant.core.estate.notes import notes_on
from gallant.core.estate.reading import parse_estate
from gallant.core.estate.systems import Estate
from gallant.core.readings import Component, Facet, Gauge, Reading
from gallant.core.records import replace
from gallant.core.versions import parse

from .test_assessment import NOW, release

ESTATE = """\
gallant: estate/1
name: t
sites: {harbour: {}, fulmar: {hands: no}}
notes:
  - {about: hosts, text: ring the office first, by: anna}
  - {about: s/hosts, text: slow, by: anna}
  - {about: s/hosts 2.0, text: hot, by: anna}
  - {about: s/hosts 1.0 > 2.0, text: careful, by: anna, date: 2026-03-14T00:00:00Z}
  - {about: s/manager, text: other, by: anna}
MORE
systems:
  hosts:
    {product: s/hosts, shape: pair, site: harbour, driver: http, profile: p, managed_by: manager, tags: [prod],
     nodes: {a: {address: "https://10.1.0.1", serial: A}, b: {address: "https://10.1.0.2", serial: B}}}
  manager:
    {product: s/manager, shape: single, site: harbour, driver: http, profile: p,
     nodes: {m: {address: "https://10.2.0.1", serial: M}}}
"""


def estate(more: str = "") -> Estate:
    return parse_estate("e", ESTATE.replace("MORE", more))


def reading(node: str, version: str, system: str = "hosts", **more) -> Reading:
    product = f"s/{system}"
    return Reading(
        **{
            "system": system,
            "node": node,
            "taken": NOW,
            "serial": node.upper(),
            "product": product,
            "version": version,
            "boot": "1",
            "components": (Component(name="image", kind="system image", product=product, version=version),),
            **more,
        }
    )


FACTS = facts_of(
    reading(
        "a",
        "1.0",
        facets=(Facet(name="uplink", state="up"),),
        gauges=(Gauge(name="replica paths", value=1, unit=""),),
        in_sync=None,
    ),
    estate().systems["hosts"],
    estate().sites["harbour"],
)
AT = parse("dotted", "1.0")
CONDITIONS = [
    ('gauges."replica paths" < `2`', True),
    ('gauges."replica paths" >= `2`', False),
    ("gauges.speed < `2`", None),
    ("gauges.speed == `2`", None),
    ("facets.uplink == 'up'", True),
    ("facets.uplink != 'up'", False),
    ("facets.downlink != 'up'", None),
    ("in_sync", None),
    ("!in_sync", None),
    ("gauges.speed < `2` && facets.uplink == 'down'", False),
    ("gauges.speed < `2` && facets.uplink == 'up'", None),
    ("gauges.speed < `2` || facets.uplink == 'up'", True),
    ("gauges.speed < `2` || facets.uplink == 'down'", None),
    ("!(facets.uplink == 'down')", True),
    ("contains(tags, 'prod')", True),
    ("contains(tags, 'test')", False),
    ("contains(nothing, 'test')", None),
    ("components.image.version == '1.0'", True),
    ("model == null", None),
    ("length(services) == `0`", True),
    ("hands", True),
    ("vers:dotted/<1.5", True),
    ("vers:dotted/>=1.5", False),
    ("vers:deb/<1.5", False),
    (None, True),
]


@pytest.mark.parametrize(("text", "answer"), CONDITIONS)
def test_a_condition_is_true_false_or_not_known_and_what_is_missing_is_never_no(text, answer):
    if text is not None:
        check_condition(text)
    assert holds(text, FACTS, AT) is answer


@pytest.mark.parametrize("text", ["", "a ==", "vers:dotted/", "vers:x/1", "a" * 1001, "(" * 900, "foo(", "`1"])
def test_what_is_no_condition_is_refused_when_it_is_read(text):
    with pytest.raises(ValueError):
        check_condition(text)


atoms = st.sampled_from(["facets.uplink == 'up'", "facets.uplink == 'down'", "gauges.speed < `2`"])
conditions = st.recursive(
    atoms,
    lambda inner: st.one_of(
        st.tuples(inner, inner).map(lambda p: f"({p[0]} && {p[1]})"),
        st.tuples(inner, inner).map(lambda p: f"({p[0]} || {p[1]})"),
        inner.map(lambda c: f"!({c})"),
    ),
    max_leaves=6,
)


@given(conditions)
def test_an_answer_that_is_given_is_the_same_whatever_the_missing_field_turns_out_to_be(text):
    told = holds(text, FACTS, AT)
    filled = {holds(text, {**FACTS, "gauges": {"speed": speed}}, AT) for speed in (1, 3)}
    assert None not in filled
    assert filled == {told} if told is not None else True


# --- neighbours, managers, counterparts, what the device offers


def needs(product: str, allowed: str) -> tuple[Requirement, ...]:
    return (Requirement(product=product, range=f"vers:dotted/{allowed}"),)


MANAGER = Product(name="s/manager", scheme="dotted", releases=(release("1.0"), release("2.0")))
HOSTS = Product(
    name="s/hosts",
    scheme="dotted",
    releases=(release("1.0", 200), release("2.0", 100, requires=needs("s/manager", ">=2.0"))),
)


def reasons(*readings: Reading, products: tuple[Product, ...] = (HOSTS, MANAGER), place: Estate | None = None):
    found = find_gaps(place or estate(), readings, {p.name: p for p in products}, NOW)
    return {g.name: (g.verdict.standing, " | ".join(g.verdict.reasons)) for g in found}


def test_nodes_that_run_different_versions_are_told_of_and_those_that_do_not_are_not():
    mixed = reasons(reading("a", "1.0"), reading("b", "2.0"), reading("m", "2.0", "manager"))
    assert all("its nodes run different versions: a 1.0, b 2.0" in mixed[f"hosts/{n}"][1] for n in "ab")
    even = reasons(reading("a", "1.0"), reading("b", "1.0"), reading("m", "2.0", "manager"))
    assert not any("different versions" in why for _, why in even.values())


def test_a_system_ahead_of_its_manager_is_told_of_from_either_side():
    ahead = reasons(reading("a", "2.0"), reading("b", "2.0"), reading("m", "1.0", "manager"))
    assert "ahead of its manager: hosts on 2.0 needs manager on 2.0 or later; manager runs 1.0" in ahead["hosts/a"][1]
    knows = replace(MANAGER, releases=(release("1.0", requires=needs("s/hosts", "<2.0")), release("2.0")))
    plain = replace(HOSTS, releases=(release("1.0"), release("2.0")))
    other = reasons(reading("a", "2.0"), reading("b", "2.0"), reading("m", "1.0", "manager"), products=(plain, knows))
    assert "hosts is ahead of its manager: manager on 1.0 needs hosts on before 2.0" in other["manager/m"][1]
    fine = reasons(reading("a", "2.0"), reading("b", "2.0"), reading("m", "2.0", "manager"))
    assert not any("manager:" in why for _, why in fine.values())


def test_one_node_of_a_mixed_system_is_enough_to_break_a_requirement():
    mixed = reasons(reading("a", "1.0"), reading("b", "2.0"), reading("m", "1.0", "manager"))
    assert "ahead of its manager" in mixed["hosts/a"][1]


def test_a_target_without_a_published_counterpart_is_blocked_until_there_is_one():
    rows = (reading("a", "1.0"), reading("b", "1.0"), reading("m", "1.0", "manager"))
    assert reasons(*rows)["hosts/a"][0] == "behind"
    early = replace(MANAGER, releases=(release("1.0"),))
    standing, why = reasons(*rows, products=(HOSTS, early))["hosts/a"]
    assert standing == "blocked"
    assert why.startswith("2.0 needs manager on 2.0 or later; no such release of s/manager is published yet")
    recalled = replace(MANAGER, releases=(release("1.0"), release("2.0", recalled=True)))
    assert reasons(*rows, products=(HOSTS, recalled))["hosts/a"][0] == "blocked"


def test_the_devices_own_list_is_held_against_the_catalog():
    rows = (reading("a", "1.0", offers=("9.9",)), reading("b", "1.0", offers=("2.0",)), reading("m", "2.0", "manager"))
    found = reasons(*rows)
    assert "list of updates has 9.9, which the catalog has not" in found["hosts/a"][1]
    assert "list of updates does not have 2.0" in found["hosts/a"][1]
    assert "list of updates" not in found["hosts/b"][1]
    recalled = replace(HOSTS, releases=(*HOSTS.releases, release("1.5", 150, recalled=True)))
    told = reasons(reading("a", "1.0", offers=("1.5", "2.0")), products=(recalled, MANAGER))
    assert "list of updates has 1.5, recalled on" in told["hosts/a"][1]


# --- aims on components


def test_the_most_specific_aim_that_binds_a_component_counts():
    place = estate(
        "aims:\n  - {for: default, aim: settled 150d}\n  - {for: hosts, aim: pin 1.0}\n"
        "  - {for: 'hosts:expander', aim: newest}\n  - {for: 'hosts/a:expander', aim: pin 1.0}\n"
    )
    expander = Product(
        name="s/expander", scheme="dotted", releases=(release("1.0", 300), release("1.1", 200), release("1.2", 10))
    )
    parts = tuple(Component(name=n, kind="disk", product="s/expander", version="1.0") for n in ("expander", "tray"))
    rows = [replace(reading(n, "1.0"), components=(*reading(n, "1.0").components, *parts)) for n in "ab"]
    found = find_gaps(place, rows, {p.name: p for p in (HOSTS, MANAGER, expander)}, NOW)
    assert {g.name: (g.verdict.aim, g.verdict.target) for g in found} == {
        "hosts/a": ("pin 1.0", "1.0"),
        "hosts/b": ("pin 1.0", "1.0"),
        "hosts/a:expander": ("pin 1.0", "1.0"),
        "hosts/b:expander": ("newest", "1.2"),
        "hosts/a:tray": ("settled 150d", "1.1"),  # the system's pin names a release of another product
        "hosts/b:tray": ("settled 150d", "1.1"),
    }


# --- bundles

EXPANDER = Product(name="s/expander", scheme="dotted", releases=(release("1.0", 300), release("1.1", 200)))
OLD = Bundle(name="spring", released=NOW - timedelta(days=200), versions={"s/hosts": "1.0", "s/expander": "1.0"})
NEW = Bundle(
    name="autumn",
    released=NOW - timedelta(days=50),
    versions={"s/hosts": "2.0", "s/expander": "1.1"},
    optional={"s/roots": "2026.1"},
)


def node(name: str, image: str, expander: str | None, **extra: str) -> Reading:
    more = {"expander": expander, **extra}
    parts = tuple(Component(name=n, kind="disk", product=f"s/{n}", version=v) for n, v in more.items() if v)
    return replace(reading(name, image), components=(*reading(name, image).components, *parts))


BUNDLES = [
    ((node("a", "2.0", "1.1"), node("b", "v2.0", "1.1")), "autumn", []),
    ((node("a", "1.0", "1.0"),), "spring", []),
    ((node("a", "2.0", "1.0"),), "autumn", ["hosts/a:expander runs 1.0, the bundle has 1.1"]),
    ((node("a", "2.0", "1.1", roots="2025.2"),), "autumn", ["hosts/a:roots runs 2025.2, the bundle has 2026.1"]),
    ((node("a", "2.0", "1.1", roots="2026.1"),), "autumn", []),
    ((node("a", "2.0", None),), "autumn", ["hosts/a has no s/expander, the bundle has 1.1"]),
]


@pytest.mark.parametrize(("rows", "bundle", "breaks"), BUNDLES)
def test_a_system_runs_a_bundle_or_is_told_which_component_breaks_the_nearest(rows, bundle, breaks):
    found = match_bundle("hosts", rows, [OLD, NEW], {p.name: p for p in (HOSTS, EXPANDER)})
    assert (found.bundle, [b.words for b in found.breaks], found.whole) == (bundle, breaks, not breaks)


def test_a_recalled_bundle_and_one_about_another_product_are_matched_by_nobody():
    bad = replace(NEW, recall=Recall(date=NOW, reason="x"))
    other = replace(NEW, versions={"s/else": "1"})
    assert match_bundle("hosts", [node("a", "2.0", "1.1")], [bad, other], {}) is None
    assert match_bundle("hosts", [node("a", "2.0", "1.1", rack="3")], [NEW], {}).beside == ("hosts/a:rack",)


def test_an_aim_at_a_bundle_gives_each_component_its_own_target():
    place = estate("aims: [{for: hosts, aim: bundle spring}, {for: default, aim: newest}]")
    products = {p.name: p for p in (HOSTS, MANAGER, EXPANDER)}
    found = find_gaps(place, [node("a", "1.0", "1.1", rack="3")], products, NOW, [OLD, NEW])
    assert {g.name: (g.verdict.target, g.verdict.standing) for g in found} == {
        "hosts/a": ("1.0", "current"),
        "hosts/a:expander": ("1.0", "ahead"),
        "hosts/a:rack": (None, "unknown"),
    }
    for aim, why in (
        ("bundle nosuch", "no catalog here has a bundle 'nosuch'"),
        ("bundle spring", "the bundle spring was recalled"),
    ):
        bundles = [replace(OLD, recall=Recall(date=NOW, reason="x"))]
        place = estate(f"aims: [{{for: hosts, aim: {aim}}}]")
        gap = next(
            g for g in find_gaps(place, [node("a", "1.0", "1.0")], products, NOW, bundles) if g.part.name == "image"
        )
        assert gap.verdict.standing == "blocked"
        assert why in gap.verdict.reasons[0]


def test_the_newest_bundle_may_be_aimed_at_by_that_word():
    place = estate("aims: [{for: hosts, aim: bundle newest}]")
    found = find_gaps(place, [node("a", "1.0", "1.0")], {p.name: p for p in (HOSTS, EXPANDER)}, NOW, [OLD, NEW])
    assert {g.part.name: g.verdict.target for g in found} == {"image": "2.0", "expander": "1.1"}


# --- ways out of a recall

WHEN = "facets.cache == 'on'"


def half(
    condition: str | None = WHEN, one_way: bool = False, successor: bool = True, before_recalled: bool = False
) -> Product:
    recalled = replace(release("2.0", one_way=one_way), recall=Recall(date=NOW, reason="loses data", when=condition))
    more = (release("3.0", from_range="vers:dotted/>=1.0" if successor else "vers:dotted/>=2.5"),)
    return Product(
        name="s/hosts", scheme="dotted", releases=(release("1.0", recalled=before_recalled), recalled, *more)
    )


def ways(product: Product, cache: tuple[str | None, str | None], versions: tuple[str, str] = ("1.0", "2.0")):
    hosts = estate().systems["hosts"]
    facts = {
        n: facts_of(reading(n, v, facets=(Facet(name="cache", state=c),) if c else ()), hosts)
        for n, v, c in zip("ab", versions, cache, strict=True)
    }
    running = {n: product.resolve(v) for n, v in zip("ab", versions, strict=True)}
    return {w.way: w for w in ways_out("hosts", product, running, product.resolve("3.0"), facts)}


WAYS = [
    (half(), ("off", "off"), {"forward": True, "back": True, "wait": False, "finish": True}),
    (half(successor=False), ("off", "off"), {"forward": False, "back": True, "wait": True, "finish": True}),
    (half(), ("off", "on"), {"forward": True, "back": True, "wait": False, "finish": False}),
    (half(), ("off", None), {"forward": True, "back": True, "wait": False, "finish": False}),
    (half(condition=None), ("off", "off"), {"forward": True, "back": True, "wait": False, "finish": False}),
    (half(one_way=True), ("off", "off"), {"forward": True, "back": False, "wait": False, "finish": True}),
    (half(before_recalled=True), ("off", "off"), {"forward": True, "back": False, "wait": False, "finish": False}),
]


@pytest.mark.parametrize(("product", "cache", "open_ways"), WAYS)
def test_the_ways_out_of_a_half_rolled_recalled_release_are_named_with_which_are_open(product, cache, open_ways):
    found = ways(product, cache)
    if product.releases[0].recall:  # both nodes run recalled releases: the newest is what is left
        assert {w: v.open for w, v in found.items() if w != "finish"} == {
            w: v for w, v in open_ways.items() if w != "finish"
        }
        return
    assert {w: v.open for w, v in found.items()} == open_ways
    assert all(w.why for w in found.values())
    assert all(w.next for w in found.values() if w.open)


def test_a_release_that_all_run_is_left_forward_or_waited_for_and_never_finished():
    found = ways(half(), ("off", "off"), ("2.0", "2.0"))
    assert {w: v.open for w, v in found.items()} == {"forward": True, "back": False, "wait": False, "finish": False}
    assert ways(half(), ("off", "off"), ("1.0", "1.0")) == {}


# --- known issues and the site's own notes


def test_known_issues_that_concern_this_estate_come_first_then_those_that_may():
    subject = release(
        "2.0",
        known_issues=(
            "a plain word",
            KnownIssue(text="of nobody", when="facets.x == 'y'", severity="critical"),
            KnownIssue(text="not told", when="gauges.speed < `2`", severity="low"),
            KnownIssue(text="of a", when="node == 'a'", severity="high"),
        ),
    )
    hosts = estate().systems["hosts"]
    facts = {f"hosts/{n}": facts_of(reading(n, "1.0", facets=(Facet(name="x", state="z"),)), hosts) for n in "ab"}
    found = worst_concerns(concerns_of(HOSTS, subject, facts))
    assert [(c.issue.text, c.nodes, bool(c.untold)) for c in found] == [
        ("of a", ("hosts/a",), False),
        ("a plain word", ("hosts/a", "hosts/b"), False),
        ("not told", (), True),
        ("of nobody", (), False),
    ]


NOTES = [
    ("hosts", [("1.0", "2.0")], None, ["ring the office first", "slow", "hot", "careful"]),
    ("hosts", [("1.5", "2.0")], None, ["ring the office first", "slow", "hot"]),
    ("hosts", [], None, ["ring the office first", "slow"]),
    (None, [], "2.0", ["slow", "hot"]),
    (None, [], None, ["slow"]),
]


@pytest.mark.parametrize(("system", "hops", "version", "texts"), NOTES)
def test_the_sites_own_notes_stand_with_what_they_are_about(system, hops, version, texts):
    place = estate()
    found = notes_on(place, place.systems[system] if system else None, HOSTS, hops, version)
    assert [n.text for n in found] == texts
