"""What a publisher says of a release, against what was seen of it."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

import pytest

from gallant.core.after.claims import Fact, held_against
from gallant.core.catalog.products import Minutes, Product, Release
from gallant.core.records import replace
from gallant.core.work.plan import Step

BEGAN = datetime(2026, 11, 25, 22, 0, tzinfo=UTC)
STEADY_S = 60.0


def products(**more) -> dict[str, Product]:
    release = Release(version="2.0", released=BEGAN, minutes=Minutes(install=15, restart=5, sync=10), **more)
    return {"ostrel/shoal": Product(name="ostrel/shoal", scheme="dotted", releases=(release,))}


def step(kind: str, node: str = "a", **more) -> Step:
    plain = Step(
        id=f"tickets.1.{node}.{kind}", hop="tickets.1", kind=kind, system="tickets", node=node, product="ostrel/shoal",
        to="2.0", guards=(), expects="", deadline_s=1, estimate_s=1, ends_node=kind == "steady",
    )  # fmt: skip
    return replace(plain, **more)


def fact(kind: str, minutes: float, node: str = "a", boot: str | None = "1", **more) -> Fact:
    return Fact(step=step(kind, node, **more), began=BEGAN, ended=BEGAN + timedelta(minutes=minutes), boot=boot)


@pytest.mark.parametrize(
    ("kind", "minutes", "about"),
    [
        ("install", 50, "install"),
        ("install", 22.5, None),  # half as long again is within what one expects
        ("install", 22.6, "install"),
        ("install", 8, None),
        ("install", 7, "install"),
        ("restart", 9.9, None),  # not even five minutes more
        ("restart", 10.5, "restart"),
        ("steady", 15, None),
        ("steady", 17, "sync"),
        ("apply_part", 50, "install"),
        ("drain", 500, None),
    ],
)
def test_a_figure_that_is_far_off_is_a_claim_that_does_not_hold(kind, minutes, about):
    found = held_against([fact(kind, minutes)], products(), STEADY_S)
    assert [claim.about for claim in found] == ([about] if about else [])


def test_of_several_nodes_the_longest_counts_and_the_look_afterwards_does_not():
    found = held_against(
        [fact("install", 16), fact("install", 40, "b"), fact("install", 17, "c")], products(), STEADY_S
    )
    assert [(c.said_s, c.took_s, c.nodes) for c in found] == [(900, 2400, 3)]
    (sync,) = held_against([fact("steady", 31)], products(), STEADY_S)
    assert sync.took_s == 1800


def test_a_publisher_that_gives_no_figure_claims_none():
    assert held_against([fact("handover", 90), fact("install", 90, to="9.9")], products(), STEADY_S) == ()
    none = {
        "ostrel/shoal": replace(
            products()["ostrel/shoal"],
            releases=(replace(products()["ostrel/shoal"].releases[0], minutes=Minutes(install=0)),),
        )
    }
    assert held_against([fact("install", 90)], none, STEADY_S) == ()


def test_what_nobody_looked_at_all_through_is_no_figure_to_hold_against_anybody():
    slow = fact("install", 90)
    assert [c.about for c in held_against([slow], products(), STEADY_S)] == ["install"]
    assert held_against([replace(slow, timed=False)], products(), STEADY_S) == ()


@pytest.mark.parametrize(
    ("restart", "following", "found"),
    [
        ("none", fact("steady", 1, boot="2"), ["no restart"]),
        ("none", fact("steady", 1, boot="1"), []),
        ("none", fact("steady", 1, "b", boot="2"), []),
        ("none", fact("return", 1, boot=None), []),
        ("node", fact("steady", 1, boot="2"), []),
    ],
)
def test_a_node_that_started_anew_after_what_needs_no_restart_is_seen(restart, following, found):
    facts = [fact("apply_part", 15), following]
    assert [c.about for c in held_against(facts, products(restart=restart), STEADY_S) if c.about != "sync"] == found


def test_the_restart_that_a_plan_asks_for_is_nobodys_broken_word():
    facts = [fact("apply_part", 15), fact("restart", 5, boot="1"), fact("steady", 10, boot="2")]
    assert held_against(facts, products(restart="none"), STEADY_S) == ()
