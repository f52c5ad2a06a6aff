"""Aims, gaps and routes; routes against brute force on small catalogs."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from itertools import permutations

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from gallant.core.aims import choose, parse_aim
from gallant.core.catalog import Minutes, Package, Product, Recall, Release
from gallant.core.estate import parse_estate
from gallant.core.gaps import Prospect, assess, find_gaps
from gallant.core.readings import Component, Reading
from gallant.core.routes import admits, describe_unknown, find_route
from gallant.core.versions import parse

from .test_estate import GOOD


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
    with pytest.raises(ValueError, match="is no aim"):
        parse_aim(text)


STANDINGS = [
    ("2.8.5", None, "settled 90d", "behind"),
    ("3.2.4", None, "settled 90d", "current"),
    ("3.2.6", None, "settled 90d", "ahead"),
    ("2.11.2", None, "settled 90d", "recalled"),
    ("2.8.5", "2.11.3", "settled 90d", "waits for restart"),
    ("9.9", None, "settled 90d", "ahead"),
    ("2.9", None, "settled 90d", "behind"),
    ("purple", None, "newest", "unknown"),
    ("3.2.4", None, "pin 9", "unknown"),
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
                Component(name="shelf", kind="enclosure module", product="none/such", version="1"),
            ),
        )

    gaps = find_gaps(estate, [reading("a", "3.2.4"), reading("b", "2.11.2")], {SHOAL.name: SHOAL}, NOW)
    assert [(g.node, g.component, g.standing) for g in gaps] == [
        ("b", "image", "recalled"),
        ("a", "shelf", "unknown"),
        ("b", "shelf", "unknown"),
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
