"""Aims, gaps and routes; routes against brute force on small catalogs."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from itertools import permutations

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from gallant.core.assess.compat import Task, find_order
from gallant.core.assess.gaps import Prospect, assess, find_gaps
from gallant.core.assess.routes import admits, describe_unknown, find_route
from gallant.core.catalog.products import Minutes, Package, Product, Recall, Release, Requirement, version_of
from gallant.core.estate.aims import choose, parse_aim, runs_on
from gallant.core.estate.reading import parse_estate
from gallant.core.readings import Component, Reading
from gallant.core.records import replace
from gallant.core.versions import parse, parse_range

from ..builders import GOOD


def verdict_on(product, installed, following, aim, bundles=()):
    return assess(Prospect(product, aim, NOW, bundles), installed, following, NOW)


NOW = datetime(2026, 11, 25, tzinfo=UTC)


def release(
    version: str, days: int = 100, from_range: str | None = None, minutes: float = 10, recalled: bool = False, **more
) -> Release:
    return Release(
        train=version.rpartition(".")[0],
        version=version,
        released=NOW - timedelta(days=days),
        from_range=from_range,
        minutes=Minutes(install=minutes, restart=0, sync=0),
        recall=Recall(date=NOW, reason="loses data") if recalled else None,
        packages=more.pop("packages", (Package(name=f"p-{version}", url="x", bytes=1, sha256="0" * 64),)),
        **more,
    )


SHOAL = Product(
    name="ostrel/shoal",
    scheme="dotted",
    releases=(
        release("2.8.3", 690),
        release("2.8.5", 540, build="60762", label="Shoal 2.8 fifth"),
        release("2.11.1", 420, "vers:dotted/>=2.8.3"),
        release("2.11.2", 330, "vers:dotted/>=2.8.3", recalled=True),
        release("2.11.3", 300, "vers:dotted/>=2.8.3", bridge=True, severity="high", security=True),
        release("3.2.1", 210, "vers:dotted/>=2.11.3"),
        release("3.2.4", 120, "vers:dotted/>=2.11.3"),
        release("3.2.6", 6, "vers:dotted/>=2.11.3"),
    ),
)


def target(version: str) -> Release:
    found = SHOAL.resolve(version)
    assert found
    return found


def test_the_route_leads_over_the_bridge_and_says_why_not_straight():
    route = find_route(SHOAL, "2.8.5", target("3.2.4"))
    assert [hop.to for hop in route.hops] == ["2.11.3", "3.2.4"]
    why = {r.version: r.why for r in route.refused}
    assert "not in one hop: it installs on 2.11.3 or later; not on 2.8.5" in why["3.2.4"]
    assert "recalled" in why["2.11.2"]
    assert set(why) == {"2.11.1", "2.11.2", "3.2.1", "3.2.4"}


def test_a_recalled_release_is_never_entered_and_may_be_left():
    assert not find_route(SHOAL, "2.8.5", target("2.11.2")).found
    assert [h.to for h in find_route(SHOAL, "2.11.2", target("2.11.3")).hops] == ["2.11.3"]


@pytest.mark.parametrize("text", ["2.8.5", "60762", "shoal 2.8 FIFTH", "v2.08.5"])
def test_a_release_answers_to_all_of_its_names(text):
    assert SHOAL.resolve(text).version == "2.8.5"
    assert [h.to for h in find_route(SHOAL, text, target("2.11.3")).hops] == ["2.11.3"]


def test_a_version_that_the_catalog_lacks_is_placed_among_those_it_has():
    assert "between 2.8.5 and 2.11.1" in describe_unknown(SHOAL, "2.9.0")
    assert "after 3.2.6" in describe_unknown(SHOAL, "4.0")
    assert "before 2.8.3" in describe_unknown(SHOAL, "1.0")
    assert "no version" in describe_unknown(SHOAL, "purple")
    assert describe_unknown(SHOAL, "2.8.5") is None


def test_a_release_that_never_stops_there_is_no_station():
    product = Product(
        name="a/b",
        scheme="dotted",
        releases=(release("1.0"), release("2.0", stops_here=False), release("3.0", from_range="vers:dotted/>=2.0")),
    )
    assert not find_route(product, "1.0", product.releases[2]).found


def test_a_release_without_a_package_is_not_on_a_route():
    product = Product(name="a/b", scheme="dotted", releases=(release("1.0"), release("2.0", packages=())))
    answer = find_route(product, "1.0", product.releases[1])
    assert not answer.found
    assert "no installer" in answer.refused[0].why


ranges = st.one_of(
    st.none(),
    st.builds(lambda low, more: f"vers:dotted/>={low}.0|<={low + more}.0", st.integers(1, 6), st.integers(1, 4)),
)


@settings(max_examples=200, deadline=None)
@given(st.lists(st.tuples(ranges, st.integers(1, 30), st.booleans(), st.booleans()), min_size=2, max_size=6))
def test_the_route_is_the_cheapest_that_brute_force_finds(rows):
    product = Product(
        name="a/b",
        scheme="dotted",
        releases=tuple(
            release(f"{i}.0", from_range=r, minutes=m, recalled=bad and i > 1, stops_here=not passing)
            for i, (r, m, bad, passing) in enumerate(rows, 1)
        ),
    )
    goal = product.releases[-1]
    found = find_route(product, "1.0", goal)
    best = None
    middle = product.releases[1:-1]
    for count in range(len(middle) + 1):
        for stations in permutations(middle, count):
            chain = [*stations, goal]
            at, cost, good = parse("dotted", "1.0"), 0.0, True
            for station in chain:
                good = good and station.recall is None and admits(product, station, at) is None and station.stops_here
                at, cost = product.key(station), cost + station.minutes.total
            if good and (best is None or (cost, len(chain)) < best):
                best = (cost, len(chain))
    assert found.found == (best is not None)
    if best is not None:
        assert (found.minutes, len(found.hops)) == best


AIMS = [
    ("newest", "3.2.6"),
    ("settled 90d", "3.2.4"),
    ("settled 200d", "3.2.1"),
    ("settled 320d", "2.11.1"),
    ("pin 2.11.3", "2.11.3"),
    ("pin 60762", "2.8.5"),
    ("pin 2.11.2", None),
    ("settled 900d", None),
    ("pin 9.9", None),
    ("behind 0", "3.2.6"),
    ("behind 1", "3.2.4"),
    ("behind 3", "2.11.3"),
    ("behind 40", None),
    ("train 2.11", "2.11.3"),
    ("train 9", None),
    ("after 1 in train", "3.2.6"),
    ("after 2 in train", "3.2.6"),
    ("after 3 in train", None),
    ("security", "2.11.3"),
]


@pytest.mark.parametrize(("aim", "version"), AIMS)
def test_an_aim_chooses_the_newest_release_that_it_allows_and_never_a_recalled_one(aim, version):
    choice = choose(parse_aim(aim), SHOAL, NOW)
    assert (choice.release.version if choice.release else None) == version
    assert all(why for _, why in choice.passed_over)


@pytest.mark.parametrize(
    "text", ["latest", "settled", "settled 30", "behind", "behind -1", "train", "after 3", "pin", "", "securty"]
)
def test_what_is_no_aim_is_refused(text):
    with pytest.raises(ValueError, match="is not an aim"):
        parse_aim(text)


STANDINGS = [
    ("2.8.5", None, "settled 90d", "behind"),
    ("3.2.4", None, "settled 90d", "current"),
    ("3.2.6", None, "settled 90d", "ahead"),
    ("2.11.2", None, "settled 90d", "recalled"),
    ("2.8.5", "2.11.3", "settled 90d", "waits for restart"),
    ("9.9", None, "settled 90d", "ahead"),
    ("2.9", None, "settled 90d", "behind"),
    ("purple", None, "newest", "blocked"),
    ("3.2.4", None, "pin 9", "blocked"),
    ("3.2.4", "3.2.4", "settled 90d", "current"),
]


@pytest.mark.parametrize(("installed", "following", "aim", "standing"), STANDINGS)
def test_every_standing_comes_of_what_runs_and_what_should(installed, following, aim, standing):
    verdict = verdict_on(SHOAL, installed, following, aim)
    assert verdict.standing == standing
    assert verdict.reasons or standing == "current"


def test_a_version_from_which_no_chain_leads_to_the_aim_is_blocked():
    product = Product(
        name="a/b", scheme="dotted", releases=(release("2.0"), release("3.0", from_range="vers:dotted/>=2.5"))
    )
    verdict = verdict_on(product, "2.0", None, "newest")
    assert verdict.standing == "blocked"
    assert "it installs on 2.5 or later; not on 2.0" in verdict.reasons[0]


def test_behind_says_by_how_much_and_carries_the_worst_severity_on_the_way():
    verdict = verdict_on(SHOAL, "2.8.5", None, "settled 90d")
    assert verdict.reasons[0] == "behind by 4 releases and 420 d"
    assert (verdict.severity, verdict.security) == ("high", True)
    assert verdict.hops == ("2.11.3", "3.2.4")


def test_gaps_come_worst_first():
    estate = parse_estate(
        "estate.yaml", GOOD.replace("kind:storage", "site:harbour").replace("aim: newest", "aim: settled 90d")
    )

    def reading(node: str, version: str) -> Reading:
        return Reading(
            system="tickets",
            node=node,
            taken=NOW,
            serial="x",
            product=SHOAL.name,
            version=version,
            boot="1",
            components=(
                Component(name="image", kind="system image", product=SHOAL.name, version=version),
                Component(name="expander", kind="enclosure module", product="none/such", version="1"),
            ),
        )

    gaps = find_gaps(estate, [reading("a", "3.2.4"), reading("b", "2.11.2")], {SHOAL.name: SHOAL}, NOW)
    assert [(g.reading.node, g.part.name, g.verdict.standing) for g in gaps] == [
        ("b", "image", "recalled"),
        ("a", "expander", "unknown"),
        ("b", "expander", "unknown"),
        ("a", "image", "current"),
    ]


def test_support_that_is_over_or_nearly_so_is_said():
    product = Product(
        name="a/b",
        scheme="dotted",
        releases=(release("1.0", support_ends=NOW + timedelta(days=10)), release("2.0", support_ends=NOW)),
    )
    for version, words in (("1.0", "support ends on"), ("2.0", "support ended on")):
        verdict = verdict_on(product, version, None, "newest")
        assert any(words in reason for reason in verdict.reasons)


def test_an_aim_whose_support_is_over_is_said_too():
    product = Product(
        name="a/b", scheme="dotted", releases=(release("1.0"), release("2.0", support_ends=NOW - timedelta(days=3)))
    )
    verdict = verdict_on(product, "1.0", None, "newest")
    assert any(reason.startswith("support of 2.0, the aim, ended on") for reason in verdict.reasons)


# --- what bars a way


def bars(product: Product, start: str, goal: Release, dropped: set[tuple[str, str]]) -> bool:
    """Whether no chain leads from start to goal, by trying every chain under the rules that are left."""

    def rules(station: Release, at) -> list[tuple[str, str]]:
        found = []
        if station.recall is not None:
            found.append((station.version, station.recall.words))
        if not station.stops_here:
            found.append((station.version, next(w for w in (runs_on(station, product),) if w)))
        if not station.packages:
            found.append((station.version, "the publisher offers no installer for it"))
        if station.from_range is not None and at not in parse_range(station.from_range):
            found.append((station.version, f"it installs on {parse_range(station.from_range).words()}"))
        return found

    ladder = [r for _, r in product.between(parse("dotted", start), product.key(goal))]
    reached = {start}
    for station in ladder:
        if any(not set(rules(station, parse("dotted", at))) - dropped for at in reached):
            reached.add(station.version)
    return goal.version not in reached


@settings(max_examples=300, deadline=None)
@given(
    st.lists(
        st.tuples(ranges, st.booleans(), st.booleans(), st.booleans()),
        min_size=1,
        max_size=6,
    )
)
def test_what_bars_a_way_is_irreducible_drop_any_one_rule_and_there_is_a_way(rows):
    product = Product(
        name="a/b",
        scheme="dotted",
        releases=(
            release("1.0"),
            *(
                release(
                    f"{i}.0",
                    from_range=r,
                    recalled=bad,
                    stops_here=not passing,
                    **({"packages": ()} if bare else {}),
                )
                for i, (r, bad, passing, bare) in enumerate(rows, 2)
            ),
        ),
    )
    goal = product.releases[-1]
    found = find_route(product, "1.0", goal)
    assert found.found is not bars(product, "1.0", goal, set())
    named = {(r.version, r.why) for r in found.rules}
    assert bool(named) is not found.found
    every = {(r.version, w) for r in product.releases for w in _all_words(r, product)}
    if named:
        assert bars(product, "1.0", goal, every - named)  # these alone are enough
        for one in named:
            assert not bars(product, "1.0", goal, (every - named) | {one})  # and each of them is needed
        # Where no other reason is named, without any one of these there is a way, whatever else stands.
        frees = all(not bars(product, "1.0", goal, {one}) for one in named)
        assert frees == (not found.others)
        for other in found.others:
            theirs = {(r.version, r.why) for r in other}
            assert theirs != named
            assert bars(product, "1.0", goal, every - theirs)


def test_a_release_whose_only_package_is_a_patch_of_nothing_in_particular_is_on_no_route():
    patch = release("2.0").packages[0]
    bare = release("2.0", packages=(replace(patch, kind="patch", from_range=None),))
    product = Product(
        name="a/b", scheme="dotted", releases=(release("1.0"), bare, release("3.0", from_range="vers:dotted/2.0"))
    )
    found = find_route(product, "1.0", product.releases[-1])
    assert not found.found
    assert [(r.version, r.why) for r in found.rules][-1] == ("2.0", "its packages go on some releases only")


def _all_words(station: Release, product: Product) -> list[str]:
    found = ["the publisher offers no installer for it"]
    if station.recall is not None:
        found.append(station.recall.words)
    if (words := runs_on(station, product)) is not None:
        found.append(words)
    if station.from_range is not None:
        found.append(f"it installs on {parse_range(station.from_range).words()}")
    return found


def test_a_way_back_to_an_older_release_is_barred_by_that_alone():
    found = find_route(SHOAL, "3.2.4", target("2.11.3"))
    assert [r.why for r in found.rules] == ["it is older than 3.2.4, and nothing is rolled to an older release"]


def test_a_route_from_a_recalled_release_is_marked_and_one_way_and_snapshots_are_said():
    assert "recalled" in find_route(SHOAL, "2.11.2", target("2.11.3")).hops[0].leaves_recall
    product = Product(
        name="a/b", scheme="dotted", releases=(release("1.0"), release("2.0", one_way=True, snapshots=False))
    )
    hop = find_route(product, "1.0", product.releases[1]).hops[0]
    assert (hop.one_way, hop.snapshots, hop.leaves_recall) == (True, False, None)


BY_HAND = [
    ("vers:dotted/>=1.0", True, (True, "somebody is at the site")),
    ("vers:dotted/>=1.0", False, (False, "nobody is at its site")),
    ("vers:dotted/>=1.5", True, (False, "it takes a configuration saved on 1.5 or later; not on 1.0")),
    (None, True, None),
]


@pytest.mark.parametrize(("takes", "hands", "told"), BY_HAND)
def test_a_fresh_install_is_named_where_the_publisher_allows_it_and_somebody_is_there(takes, hands, told):
    product = Product(
        name="a/b",
        scheme="dotted",
        releases=(release("1.0"), release("3.0", from_range="vers:dotted/>=2.0", fresh_install=takes)),
    )
    found = find_route(product, "1.0", product.releases[1], hands=hands)
    assert not found.found
    assert (found.by_hand and (found.by_hand.possible, found.by_hand.why[: len(told[1])])) == told
    assert find_route(product, "1.0", product.releases[1]).by_hand is None


# --- the forms in which one release comes


def form(name: str, size: int, kind: str = "installer", on: str | None = None, delivery: str | None = None) -> Package:
    return Package(name=name, url=name, bytes=size, sha256="0" * 64, kind=kind, from_range=on, delivery=delivery)


FORMS = (
    form("whole", 100),
    form("patch", 10, "patch", "vers:dotted/>=1.5|<2.0"),
    form("dial-in", 50, delivery="modem"),
    form("loose-patch", 1, "patch"),
)
TAKEN = [
    ("1.0", None, "whole"),
    ("1.5", None, "patch"),
    ("1.5", "modem", "patch"),
    ("1.0", "modem", "dial-in"),
    (None, None, "whole"),
]


@pytest.mark.parametrize(("running", "delivery", "name"), TAKEN)
def test_the_smallest_form_that_goes_on_what_runs_by_this_path_is_taken(running, delivery, name):
    found = release("2.0", packages=FORMS).package_on(parse("dotted", running) if running else None, delivery)
    assert found.name == name


def test_a_release_that_comes_only_as_a_patch_is_entered_from_where_the_patch_goes_on():
    product = Product(
        name="a/b",
        scheme="dotted",
        releases=(release("1.0"), release("1.5"), release("2.0", packages=(FORMS[1],))),
    )
    route = find_route(product, "1.0", product.releases[2])
    assert [(h.to, h.package) for h in route.hops] == [("1.5", "p-1.5"), ("2.0", "patch")]
    assert "no package of it goes on 1.0" in next(r.why for r in route.refused if r.version == "2.0")
    elsewhere = replace(product.releases[2], packages=(form("m", 1, delivery="modem"),))
    only = Product(name="a/b", scheme="dotted", releases=(*product.releases[:2], elsewhere))
    assert not find_route(only, "1.0", elsewhere).found
    assert find_route(only, "1.0", elsewhere, delivery="modem").found


# --- nodes that run next to each other


def test_nodes_of_one_system_run_beside_each_other_only_as_far_apart_as_the_release_allows():
    skew = (Requirement(product="a/b", range="vers:dotted/>=1.5"),)
    product = Product(
        name="a/b", scheme="dotted", releases=(release("1.0"), release("1.5"), release("2.0", requires=skew))
    )
    route = find_route(product, "1.0", product.releases[2])
    assert [h.to for h in route.hops] == ["1.5", "2.0"]
    assert "its nodes run together with 1.5 or later only, not with 1.0" in next(
        r.why for r in route.refused if r.version == "2.0"
    )
    order = find_order([Task(system="x", product=product, running="1.0", target="2.0")], [])
    assert [h.to for h in order.hops] == ["1.5", "2.0"]


def test_an_updater_that_runs_on_is_an_aim_that_is_refused_with_the_release_it_runs_on_to():
    product = Product(
        name="a/b",
        scheme="dotted",
        releases=(release("1.0", 300), release("2.0", 200, stops_here=False), release("3.0", 10)),
    )
    choice = choose(parse_aim("settled 30d"), product, NOW)
    assert choice.release.version == "2.0"
    assert "runs on to 3.0" in choice.refused
    verdict = verdict_on(product, "1.0", None, "settled 30d")
    assert (verdict.standing, verdict.target) == ("blocked", "2.0")
    assert "cannot be kept: its updater does not stop there; it runs on to 3.0" in verdict.reasons[0]
    assert verdict_on(product, "1.0", None, "newest").standing == "behind"


# --- the list of gaps


@given(
    st.lists(st.tuples(st.sampled_from("ab"), st.sampled_from(["2.8.5", "3.2.4", "3.2.6", "9", "2.11.2"])), max_size=8)
)
def test_gaps_are_counted_indexed_and_gone_through_alike(rows):
    estate = parse_estate("estate.yaml", GOOD)
    readings = [
        Reading(
            system="tickets",
            node=node,
            taken=NOW,
            serial="x",
            product=SHOAL.name,
            version=version,
            boot="1",
            components=tuple(
                Component(name=name, kind="disk", product=SHOAL.name, version=version)
                for name in ("image", "c2")[: 1 + n % 2]
            ),
        )
        for n, (node, version) in enumerate(rows)
    ]
    found = find_gaps(estate, readings, {SHOAL.name: SHOAL}, NOW)
    assert len(found) == len(list(found)) == sum(len(r.components) for r in readings)
    assert [found[n] for n in range(len(found))] == list(found) == found[:]
    ranks = [g.verdict.rank for g in found]
    assert ranks == sorted(ranks)
    with pytest.raises(IndexError):
        found[len(found)]


@pytest.mark.parametrize(
    ("text", "version"),
    [("2.8.5", "2.8.5"), ("60762", "2.8.5"), ("shoal 2.8 Fifth", "2.8.5"), ("7.1", "7.1"), ("none at all", None)],
)
def test_a_text_is_the_version_that_it_names_by_whatever_name(text, version):
    assert version_of(SHOAL, text) == (None if version is None else parse("dotted", version))
