"""Orders of work across systems: every interleaving that the
needs permit keeps every rule, at the lowest cost there is."""

from __future__ import annotations

import heapq
from itertools import product as combinations

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from gallant.core.assess.compat import Order, Rule, Task, breaches, find_order
from gallant.core.assess.routes import admits
from gallant.core.catalog.products import Product
from gallant.core.versions import parse, parse_range

from .test_assessment import release


def make(
    name: str, versions: list[str], ranges: dict[str, str] | None = None, minutes: dict[str, float] | None = None
) -> Product:
    return Product(
        name=f"t/{name}",
        scheme="dotted",
        releases=tuple(
            release(v, from_range=(ranges or {}).get(v), minutes=(minutes or {}).get(v, 10)) for v in versions
        ),
    )


def task(name: str, versions: list[str], running: str | None = None, target: str | None = None, **more) -> Task:
    return Task(
        system=name, product=make(name, versions, **more), running=running or versions[0], target=target or versions[-1]
    )


def rule(system: str, when: str | None, other: str, allowed: str) -> Rule:
    return Rule(system=system, when=when and f"vers:dotted/{when}", other=other, range=f"vers:dotted/{allowed}")


def broken(rules: list[Rule], running: dict[str, str]) -> set[int]:
    return {
        n
        for n, r in enumerate(rules)
        if (r.when is None or parse("dotted", running[r.system]) in parse_range(r.when))
        and parse("dotted", running[r.other]) not in parse_range(r.range)
    }


def check_every_interleaving(tasks: list[Task], rules: list[Rule], order: Order) -> None:
    """Walk all states that the needs permit, hops side by side, each also backed out; no rule may newly break in
    any."""
    hops = {h.id: h for h in order.hops}
    own = {t.system: [h for h in order.hops if h.system == t.system] for t in tasks}
    at_first = broken(rules, {t.system: t.running for t in tasks})
    waiting, seen = [(frozenset(), frozenset())], set()
    finished_all = False
    while waiting:
        finished, in_hop = waiting.pop()
        if (finished, in_hop) in seen:
            continue
        seen.add((finished, in_hop))
        running = {}
        for t in tasks:
            done = [h for h in own[t.system] if h.id in finished]
            now = done[-1].to if done else t.running
            going = [h.to for h in own[t.system] if h.id in in_hop]
            running[t.system] = [now, *going]
        for choice in combinations(*running.values()):
            assert broken(rules, dict(zip(running, choice, strict=True))) <= at_first, (finished, in_hop, choice)
        finished_all = finished_all or len(finished) == len(hops)
        for hop in hops.values():
            if hop.id not in finished and hop.id not in in_hop and set(hop.needs) <= finished:
                waiting.append((finished, in_hop | {hop.id}))
        for going in in_hop:
            waiting.append((finished | {going}, in_hop - {going}))
            waiting.append((finished, in_hop - {going}))
    assert finished_all, "the needs wait for one another"


def cheapest(tasks: list[Task], rules: list[Rule]) -> float | None:
    """The lowest minutes by looking at every joint state, one hop at a time; None where the targets cannot be
    reached."""
    names = [t.system for t in tasks]
    start, goal = tuple(t.running for t in tasks), tuple(t.target for t in tasks)
    queue, best = [(0.0, start)], {start: 0.0}
    while queue:
        minutes, state = heapq.heappop(queue)
        if state == goal:
            return minutes
        was = broken(rules, dict(zip(names, state, strict=True)))
        for i, t in enumerate(tasks):
            for r in t.product.releases:
                if (
                    t.product.key(r) > parse("dotted", t.target)
                    or admits(t.product, r, parse("dotted", state[i])) is not None
                ):
                    continue
                following = (*state[:i], r.version, *state[i + 1 :])
                if broken(
                    rules, dict(zip(names, following, strict=True))
                ) <= was and minutes + r.minutes.total < best.get(following, 1e9):
                    best[following] = minutes + r.minutes.total
                    heapq.heappush(queue, (best[following], following))
    return None


def test_a_manager_goes_before_the_hosts_that_need_it():
    tasks = [task("hosts", ["1.0", "2.0"]), task("manager", ["1.0", "2.0"])]
    order = find_order(tasks, [rule("hosts", ">=2.0", "manager", ">=2.0")])
    assert [(h.id, h.needs) for h in order.hops] == [("manager.1", ()), ("hosts.1", ("manager.1",))]


def test_each_keeps_the_other_back_so_both_go_in_turns():
    tasks = [
        task("switch", ["1.0", "2.0", "3.0"], ranges={"3.0": "vers:dotted/>=2.0"}),
        task("controller", ["1.0", "2.0", "3.0"], ranges={"3.0": "vers:dotted/>=2.0"}),
    ]
    rules = [
        rule("switch", "2.0", "controller", ">=2.0"),
        rule("switch", "3.0", "controller", ">=3.0"),
        rule("controller", "3.0", "switch", ">=2.0"),
    ]
    order = find_order(tasks, rules)
    assert [h.id for h in order.hops] == ["controller.1", "switch.1", "controller.2", "switch.2"]
    check_every_interleaving(tasks, rules, order)


def test_systems_that_nothing_ties_together_need_nothing_of_each_other():
    order = find_order([task("a", ["1", "2"]), task("b", ["1", "2"])], [])
    assert all(h.needs == () for h in order.hops)


def test_a_dearer_chain_is_taken_where_the_cheaper_one_breaks_a_rule():
    tasks = [task("a", ["1", "2", "3"], minutes={"3": 5}), task("b", ["1", "2"])]
    rules = [rule("a", "3", "b", ">=2"), rule("b", "2", "a", ">=2")]
    order = find_order(tasks, rules)
    assert [(h.system, h.to) for h in order.hops] == [("a", "2"), ("b", "2"), ("a", "3")]
    check_every_interleaving(tasks, rules, order)


def test_a_third_party_that_does_not_support_the_release_is_named_with_the_nearest_aim():
    tasks = [task("manager", ["7", "8", "9"]), task("backup", ["5"], target="5"), task("hosts", ["7", "8", "9"])]
    rules = [
        rule("manager", ">=9", "backup", ">=6"),
        rule("hosts", ">=9", "manager", ">=9"),
        rule("hosts", ">=8", "manager", ">=8"),
    ]
    order = find_order(tasks, rules)
    (conflict,) = order.conflicts
    assert conflict.rules == (rules[0],)
    assert conflict.nearest == {"manager": "8", "backup": "5", "hosts": "8"}
    assert "manager on 9 or later needs backup on 6 or later" in conflict.rules[0].words


def test_a_breach_that_exists_is_said_and_led_out_of_and_stands_in_nobodys_way():
    tasks = [task("a", ["1", "2"]), task("b", ["1", "2"])]
    rules = [rule("a", "1", "b", ">=2"), rule("a", "2", "b", ">=1")]
    assert [(b.running, b.other_running) for b in breaches(tasks, rules)] == [("1", "1")]
    order = find_order(tasks, rules)
    assert len(order.hops) == 2
    check_every_interleaving(tasks, rules, order)


def test_a_system_that_is_where_it_should_be_has_no_hop_and_still_counts():
    tasks = [task("a", ["1", "2"]), task("b", ["1", "2"], running="1", target="1")]
    assert find_order(tasks, [rule("a", "2", "b", ">=2")]).hops == ()
    assert find_order(tasks, [rule("a", "2", "b", ">=2")]).conflicts[0].nearest == {"a": "1", "b": "1"}


VERSIONS = ["1", "2", "3", "4"]
ranges = st.sampled_from([">=1", ">=2", ">=3", ">=4", "<=1", "<=2", "<=3", "2", "3", "!=2", ">=2|<=3"])
rule_sets = st.lists(
    st.tuples(st.sampled_from(["a", "b", "c"]), st.one_of(st.none(), ranges), st.sampled_from(["a", "b", "c"]), ranges),
    max_size=5,
)
catalogs = st.tuples(*[st.tuples(st.integers(2, 4), st.integers(1, 20), st.booleans()) for _ in "abc"])


@settings(max_examples=250, deadline=None)
@given(rows=rule_sets, shapes=catalogs)
def test_the_order_is_the_cheapest_that_brute_force_finds_and_safe_in_every_interleaving(rows, shapes):
    tasks = [
        task(
            name,
            VERSIONS[:n],
            minutes={"3": float(m)},
            ranges={VERSIONS[n - 1]: f"vers:dotted/>={VERSIONS[n - 2]}"} if bridge else None,
        )
        for name, (n, m, bridge) in zip("abc", shapes, strict=True)
    ]
    rules = [rule(a, when, b, allowed) for a, when, b, allowed in rows if a != b]
    order = find_order(tasks, rules)
    best = cheapest(tasks, rules)
    assert (best is None) == bool(order.conflicts)
    if best is not None:
        assert order.minutes == pytest.approx(best)
        check_every_interleaving(tasks, rules, order)
    for conflict in order.conflicts:
        own = [t for t in tasks if t.system in conflict.systems]
        assert find_order(own, conflict.rules).conflicts
        for one in conflict.rules:
            assert not find_order(own, [r for r in conflict.rules if r is not one]).conflicts
        frees = all(not find_order(own, [r for r in rules if r is not one]).conflicts for one in conflict.rules)
        assert not conflict.rules or frees == (not conflict.others)
        for other in conflict.others:
            assert find_order(own, other).conflicts
        if conflict.nearest:
            lower = [
                Task(system=t.system, product=t.product, running=t.running, target=conflict.nearest[t.system])
                for t in own
            ]
            assert not find_order(lower, rules).conflicts


def test_the_order_that_leads_out_of_a_breach_is_preferred_to_one_of_the_same_cost():
    rules = [rule("b", None, "c", ">=2")]  # broken today, until c is updated
    for names in ("abc", "cab", "bca"):
        tasks = [task(name, ["1", "2"]) for name in names]
        rules_of_a_group = [*rules, rule("a", ">=3", "b", ">=1"), rule("a", ">=3", "c", ">=1")]
        order = find_order(tasks, rules_of_a_group)
        assert order.hops[0].system == "c", names
        check_every_interleaving(tasks, rules_of_a_group, order)
