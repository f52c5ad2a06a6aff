"""The rolling order of every shape, held against the table of docs/rolling.md written once more, by random cases."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from gallant.core.estate.capacity import rooms, standing_of, width
from gallant.core.estate.systems import Limits
from gallant.core.readings import Gauge
from gallant.core.records import replace
from gallant.core.shapes import SHAPES, NotSafe, Standing, Turn, rounds

from ..builders import TICKETS, reading

NAMES = "abcdefghijkl"
HEAD = {"pair": "active", "pairs": "active", "quorum": "leader", "fabric": "leader"}
REST = {
    "pair": "standby",
    "pairs": "standby",
    "quorum": "member",
    "fabric": "member",
    "pool": "member",
    "single": "alone",
}


def groups_of(shape: str, nodes: str) -> list[str]:
    if shape == "pool":
        return list(nodes)
    return [nodes[at : at + 2] for at in range(0, len(nodes), 2)] if shape == "pairs" else [nodes]


@st.composite
def cases(draw):
    shape = draw(st.sampled_from(sorted(REST)))
    size = {"single": 1, "pair": 2}.get(shape) or draw(st.integers(1, 6)) * (2 if shape == "pairs" else 1)
    nodes = NAMES[:size]
    heads = {draw(st.sampled_from(group)) for group in groups_of(shape, nodes)} if shape in HEAD else set()
    roles = {n: HEAD[shape] if n in heads else REST[shape] for n in nodes}
    todo = [n for n in nodes if draw(st.booleans())]
    out = tuple(n for n in todo if n not in heads and draw(st.integers(0, 3)) == 0)
    usual = (
        {HEAD[shape]: draw(st.sampled_from(nodes))}
        if shape in ("pair", "quorum", "fabric") and draw(st.booleans())
        else {}
    )
    domains = {n: draw(st.sampled_from(["r1", "r2"])) for n in nodes} if draw(st.booleans()) else {}
    return shape, nodes, todo, Standing(roles=roles, out=out, width=draw(st.integers(1, 4)), domains=domains), usual


@given(cases())
def test_every_order_does_all_of_the_work_once_and_never_takes_out_what_serves(case):
    shape, nodes, todo, standing, usual = case
    order = rounds(shape, nodes, todo, standing, usual)
    work = [t.node for together in order for t in together if t.kind == "work"]
    assert sorted(work) == sorted(todo)
    leads = {g: next((n for n in g if standing.roles[n] == HEAD.get(shape)), None) for g in groups_of(shape, nodes)}
    left = list(standing.out)
    for together in order:
        own = [t for t in together if t.kind == "work"]
        if any(t.node in left for t in own):
            assert together == order[0]  # what is out comes first, and nothing that serves goes with it
            assert {t.node for t in own} == set(left)
            left = []
            continue
        assert not left
        assert len(own) <= (standing.width if shape in ("pool", "pairs") else 1)
        assert len({standing.domains.get(t.node) for t in own}) <= 1
        for turn in together:
            group = next(g for g in leads if turn.node in g)
            if turn.kind == "work":
                assert leads[group] != turn.node or len(group) == 1
                assert sum(t.node in group for t in own) == 1
            else:
                assert len(together) == 1  # a move of roles is by itself
                others = [n for n in group if n != turn.node]
                leads[group] = others[0] if turn.kind == "handover" and len(others) == 1 else None
                if turn.kind == "failback":
                    leads[group] = turn.node
    for group, lead in leads.items():
        wanted = next((n for n in usual.values() if n in group), None)
        if todo and wanted and len(group) > 1:
            assert lead == wanted


def test_after_a_handover_another_of_its_group_leads_and_after_a_failback_it_does_again():
    row, roles = SHAPES["quorum"], {"a": "leader", "b": "member", "c": "member"}
    moved = row.roles_after("abc", roles, [Turn(kind="handover", node="a")])
    assert moved == {"a": "member", "b": "leader", "c": "member"}
    assert row.roles_after("abc", moved, [Turn(kind="failback", node="a")]) == roles


PAIRS_OF_TWO = {"a": "active", "b": "standby", "c": "active", "d": "standby"}


def test_one_export_is_the_configuration_of_all_where_one_node_has_it():
    assert {name for name, shape in SHAPES.items() if shape.shares_export} == {"pair"}


def test_every_nodes_failure_domain_counts():
    nodes = {name: replace(node, domain=f"room {name}") for name, node in TICKETS.nodes.items()}
    standing = standing_of(replace(TICKETS, nodes=nodes), {n: reading(n) for n in nodes}, Limits())
    assert standing.domains == {"a": "room a", "b": "room b"}


def test_of_pairs_the_one_goes_first_whose_node_a_person_named():
    order = rounds("pairs", "abcd", list("abcd"), Standing(roles=PAIRS_OF_TWO, wish=("d",)), {})
    assert [turn.node for turn in order[0]] == ["d"]


def test_nodes_of_pairs_go_side_by_side_by_their_own_domain_whatever_that_of_the_other_of_their_pair_is():
    domains = {"a": "west", "b": "east", "c": "west", "d": "east"}
    order = rounds("pairs", "abcd", list("abcd"), Standing(roles=PAIRS_OF_TWO, width=2, domains=domains), {})
    assert [turn.node for turn in order[0]] == ["b", "d"]


@pytest.mark.parametrize(("shape", "roles"), [("quorum", "mmm"), ("quorum", "llm"), ("pairs", "asss")])
def test_roles_that_no_shape_allows_are_refused(shape, roles):
    words = {"m": "member", "l": "leader", "a": "active", "s": "standby"}
    standing = Standing(roles={n: words[r] for n, r in zip(NAMES, roles, strict=False)})
    with pytest.raises(NotSafe, match="needs one"):
        rounds(shape, NAMES[: len(roles)], list(NAMES[: len(roles)]), standing, {})


@given(
    st.lists(st.floats(0, 100), min_size=1, max_size=9), st.integers(1, 100), st.one_of(st.none(), st.integers(1, 9))
)
def test_the_width_of_a_pool_is_the_most_that_the_rest_can_carry(loads, ceiling, cap):
    nodes = {n: next(iter(TICKETS.nodes.values())) for n in NAMES[: len(loads)]}
    pool = replace(TICKETS, shape="pool", nodes=nodes)
    read = {
        n: replace(reading(n), gauges=(Gauge(name="load", value=v, unit="%"),))
        for n, v in zip(nodes, loads, strict=True)
    }
    found = width(pool, read, Limits(ceiling_percent=ceiling, width=cap))
    fits = [w for w in range(1, len(loads)) if sum(loads) / (len(loads) - w) <= ceiling and w <= (cap or 9)]
    assert found == max([1, *fits])
    assert not rooms(list(read.values()), len(loads))


def order_of(wish: str, roles: str = "lmm", out: str = "") -> list[str]:
    words = {"m": "member", "l": "leader"}
    standing = Standing(
        roles={n: words[r] for n, r in zip(NAMES, roles, strict=False)}, out=tuple(out), wish=tuple(wish)
    )
    order = rounds("quorum", NAMES[: len(roles)], list(NAMES[: len(roles)]), standing, {})
    return [t.node for together in order for t in together if t.kind == "work"]


def test_a_persons_order_is_kept_where_it_is_safe():
    assert order_of("") == ["b", "c", "a"]
    assert order_of("cba") == order_of("cb") == order_of("c") == ["c", "b", "a"]
    assert order_of("b") == ["b", "c", "a"]


@pytest.mark.parametrize(
    ("wish", "out", "why"),
    [
        ("abc", "", "a before b is not safe: a is leader, and is worked on once another node has taken over"),
        ("bc", "c", "b before c is not safe: c is out of service already"),
    ],
)
def test_an_order_that_is_not_safe_is_refused_with_the_reason(wish, out, why):
    with pytest.raises(NotSafe, match=why):
        order_of(wish, out=out)


@given(st.permutations("abcdef"), st.integers(1, 3))
def test_a_pool_is_worked_in_the_order_that_a_person_asks_for(wish, wide):
    standing = Standing(roles=dict.fromkeys("abcdef", "member"), width=wide, wish=tuple(wish))
    order = rounds("pool", "abcdef", list("abcdef"), standing, {})
    assert [t.node for together in order for t in together] == list(wish)
    assert max(map(len, order)) == wide


FLAGS = {
    "side_by_side": {"pool", "pairs"},
    "needs_head": {"pair", "pairs", "quorum"},
    "shares_load": {"pool", "pairs", "quorum"},
    "shares_export": {"pair"},
}


@pytest.mark.parametrize("flag", FLAGS)
def test_each_shape_is_what_the_table_says(flag):
    assert {name for name, shape in SHAPES.items() if getattr(shape, flag)} == FLAGS[flag]


@pytest.mark.parametrize(
    ("shape", "usual", "head"),
    [
        ("pair", {}, "a"),
        ("pair", {"active": "b"}, "b"),
        ("pair", {"standby": "b"}, "a"),
        ("quorum", {"leader": "c"}, "c"),
    ],
)
def test_who_speaks_for_a_system_when_all_is_well_is_as_declared_and_else_the_first(shape, usual, head):
    assert SHAPES[shape].usual_head("abc", usual) == head
