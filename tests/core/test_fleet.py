"""What is worked out once for all systems that are alike, held against the same for each by itself."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st

from gallant.core.assess.compat import Rule, Task, find_order
from gallant.core.assess.fleet import alike
from gallant.core.assess.gaps import find_gaps
from gallant.core.catalog.products import Package, Product, Release
from gallant.core.decide.consents import Consent, Needed, covered, parse_consent
from gallant.core.decide.ledger import LedgerEntry
from gallant.core.decide.listing import Book, Notices, grouped
from gallant.core.decide.notices import NoticeWork, notices, seen_name, wanted
from gallant.core.errors import WrongUse
from gallant.core.estate.reading import parse_estate
from gallant.core.estate.rules import Decision
from gallant.core.plan.alike import Routes
from gallant.core.readings import Component, Reading

NOW = datetime(2026, 11, 25, tzinfo=UTC)
VERSIONS = ("1.0", "1.1", "2.0", "2.1")


def product(name: str, closes: bool = False) -> Product:
    def release(version: str, days: int) -> Release:
        package = Package(name=f"p-{version}", url="x", bytes=1, sha256="0" * 64)
        return Release(
            version=version,
            released=NOW - timedelta(days=days),
            packages=(package,),
            from_range="vers:dotted/>=1.1" if version == "2.1" else None,
            severity="high" if version == "2.0" else "medium",
            security=closes and version == "2.1",
        )

    return Product(name=name, scheme="dotted", releases=tuple(map(release, VERSIONS, (400, 300, 200, 100))))


IMAGE_OF, BOARD = product("ostrel/shoal"), product("ostrel/roots", closes=True)
PRODUCTS = {p.name: p for p in (IMAGE_OF, BOARD)}


def estate_of(count: int):
    rows = "".join(
        f"  s{n}: {{product: ostrel/shoal, shape: pair, site: x, driver: http, profile: ostrel-shoal, nodes: "
        f'{{a: {{address: "https://127.0.0.1:{2 * n + 1}", serial: "{n}a"}},'
        f' b: {{address: "https://127.0.0.1:{2 * n + 2}", serial: "{n}b"}}}}}}\n'
        for n in range(count)
    )
    return parse_estate("estate.yaml", f"gallant: estate/1\nname: line\nsites: {{x: {{}}}}\nsystems:\n{rows}")


def reading_of(system: str, node: str, image: str, board: str) -> Reading:
    parts = (
        Component(name="image", kind="system image", product="ostrel/shoal", version=image),
        Component(name="roots", kind="reference data", product="ostrel/roots", version=board),
    )
    return Reading(
        system=system, node=node, taken=NOW, serial="1", product="ostrel/shoal", version=image, boot="1",
        role="active", state="in_service", components=parts,
    )  # fmt: skip


@st.composite
def fleets(draw):
    count = draw(st.integers(1, 6))
    runs = st.tuples(st.sampled_from((*VERSIONS, "0.9")), st.sampled_from(VERSIONS))
    readings = [reading_of(f"s{n}", node, *draw(runs)) for n in range(count) for node in "ab"]
    return estate_of(count), readings


@given(fleets())
def test_alike_gaps_are_all_gaps_and_each_says_what_its_systems_say(fleet):
    estate, readings = fleet
    gaps = find_gaps(estate, readings, PRODUCTS, NOW)
    rows = alike((reading, part, verdict, None) for reading, part, verdict in gaps.rows())
    told = {
        (system, node, one.product): (one.installed, one.verdict)
        for one in rows
        for system, nodes in one.systems.items()
        for node in nodes
    }
    assert told == {(r.system, r.node, part.product): (part.version, v) for r, part, v in gaps.rows()}
    assert sum(one.nodes for one in rows) == len(gaps)
    assert len({(one.product, one.installed, one.verdict) for one in rows}) == len(rows)
    assert [one.verdict.rank for one in rows] == sorted(one.verdict.rank for one in rows)


SAID = st.lists(
    st.builds(
        LedgerEntry,
        at=st.just(NOW),
        by=st.just("anna"),
        host=st.just("keeper"),
        kind=st.sampled_from(["accept", "book", "assign", "skip", "reopen", "cancel"]),
        subject=st.sampled_from([f"s{n}:{part}" for n in range(3) for part in ("image", "roots")]),
        target=st.just("2.1"),
        until=st.just("2026-12-24"),
        reason=st.just("why"),
    ),
    max_size=4,
)
DECISIONS = tuple(Decision(then=word, rule=1) for word in ("ask", "act", "leave"))


@given(fleets(), SAID, st.booleans(), st.integers(0, 2))
def test_notices_made_when_they_are_looked_at_are_those_that_are_made_at_once(fleet, said, rolls, leaves):
    estate, readings = fleet
    gaps = find_gaps(estate, readings, PRODUCTS, NOW)
    work = {"s0": NoticeWork(roll="roll-1", began=NOW, end=NOW, finished=False)} if rolls else {}

    def decide(reading, part, verdict):
        return DECISIONS[leaves if part.product == "ostrel/roots" else 0]

    groups = grouped(gaps)
    since = {
        (name, seen_name(rows[0][2].standing, rows[0][2].target)): NOW - timedelta(days=len(name) + int(name[1]))
        for name, rows in groups.items()
    }
    found = Book(said, since, work, PRODUCTS, NOW, decide)
    lazily = Notices(found, found.ranked(groups))
    at_once = notices(
        wanted((gap, decide(gap.reading, gap.part, gap.verdict)) for gap in gaps), said, since, work, PRODUCTS, NOW
    )
    assert list(lazily) == at_once
    assert [one.state for one in lazily.ranked] == [one.state for one in at_once]
    assert sorted(name for one in lazily.alike() for name in one.names) == sorted(n.name for n in at_once)
    for one in lazily.alike():
        states = {n.name: (n.state, n.target, n.installed, n.product) for n in at_once}
        assert {states[name] for name in one.names} == {states[one.notice.name]}


TASKS = st.lists(
    st.tuples(st.sampled_from(VERSIONS), st.sampled_from(VERSIONS), st.sampled_from((IMAGE_OF, BOARD))), max_size=7
)


@given(TASKS, st.data())
def test_systems_that_share_their_tables_have_the_hops_that_they_have_alone(runs, data):
    tasks = [
        Task(system=f"s{n}", product=product, running=min(ends), target=max(ends))
        for n, (*ends, product) in enumerate(runs)
    ]
    names = [task.system for task in tasks]
    rules = []
    if len(names) > 1 and data.draw(st.booleans()):
        one, other = names[:2]
        rules = [Rule(system=one, when=None, other=other, range="vers:dotted/>=1.0", said_by="x")]
    together = find_order(tasks, rules)
    for task in tasks:
        alone = find_order([task], [])
        assert [hop for hop in together.hops if hop.system == task.system] == list(alone.hops)
    assert together.minutes == sum(find_order([task], []).minutes for task in tasks)
    assert not together.conflicts


def test_a_route_is_looked_for_once_for_all_that_run_the_same():
    routes, target = Routes(NOW), BOARD.resolve("2.1")
    found = [routes.route(BOARD, version, target) for version in ("1.0", "1.1") * 500]
    assert len({id(one) for one in found}) == 2
    assert found[0].hops and found[1].hops
    assert routes.choice(BOARD, "newest") is routes.choice(BOARD, "newest")


@dataclass(frozen=True)
class Said:
    name: str
    site: str
    kind: str
    tags: tuple[str, ...]


MARKED = st.builds(
    Said,
    name=st.sampled_from([f"s{n}" for n in range(9)]),
    site=st.sampled_from(["harbour", "quay"]),
    kind=st.sampled_from(["storage", "network"]),
    tags=st.sampled_from([(), ("night",), ("night", "prod")]),
)


@given(
    st.lists(MARKED, min_size=1, unique_by=lambda one: one.name),
    st.lists(st.tuples(st.sampled_from(["downtime", "one-way"]), st.integers(0, 8)), max_size=12),
    st.sampled_from(["*", "tag:night", "site:quay", "kind:storage", "TAG:Night"]),
)
def test_a_consent_for_many_covers_what_is_needed_of_its_kind_and_nothing_else(every, wanted, term):
    systems = {one.name: one for one in every}
    needed = [
        Needed(lane=f"s{n}", consent=Consent(to=to, system=f"s{n}"), what="w") for to, n in wanted if f"s{n}" in systems
    ]
    meant = {
        "*": lambda one: True,
        "tag:night": lambda one: "night" in one.tags,
        "site:quay": lambda one: one.site == "quay",
        "kind:storage": lambda one: one.kind == "storage",
    }[term.casefold()]
    own = {n.consent.words for n in needed if n.consent.to == "downtime" and meant(systems[n.consent.system])}
    given = parse_consent(f"downtime:{term}")
    assert given.of_many
    if own:
        assert set(covered(given, needed, systems)) == own
    else:
        with pytest.raises(WrongUse, match="covers nothing"):
            covered(given, needed, systems)


def test_a_consent_for_one_system_is_for_no_other():
    assert not parse_consent("downtime:tickets").of_many
    assert not parse_consent("loses-unsaved:tickets/b").of_many
    with pytest.raises(WrongUse, match="is no term"):
        covered(parse_consent("downtime:nosuch:x"), [], {})
