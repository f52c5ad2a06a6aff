"""Nights of systems that are several pairs: one node of each may
be away, as many pairs at a time as the rest can carry."""

from __future__ import annotations

from dataclasses import dataclass, field

import pytest

from gallant.core.readings import Gauge
from gallant.core.records import replace
from gallant.engine.means import Orders
from gallant.standin.shoal import PairTask, ShoalNode, ShoalPair
from gallant.standin.world import Fault

from .night import Killed, Night, images_of
from .shapes import LETTERS, estate_text


class SeveralPairs:
    """Pairs that are one system, as the night asks a pair."""

    def __init__(self, pairs: list[ShoalPair]) -> None:
        self.pairs = pairs
        self.snapshots: list = []

    @property
    def nodes(self) -> dict[str, ShoalNode]:
        return {name: node for pair in self.pairs for name, node in pair.nodes.items()}

    @property
    def broken(self) -> list[str]:
        return [words for pair in self.pairs for words in pair.broken]

    @property
    def serving(self) -> str | None:
        """Its service is there as long as every pair's is."""
        return None if any(pair.serving is None for pair in self.pairs) else "all"

    def of(self, node: str) -> ShoalPair:
        return next(pair for pair in self.pairs if node in pair.nodes)

    def role(self, node: str) -> str:
        return self.of(node).role(node)

    def order(self, node: str, what: str, package: str = "") -> PairTask:
        return self.of(node).order(node, what, package)

    def keep(self, node: str, package: str, body: bytes) -> None:
        self.of(node).keep(node, package, body)

    def snapshot(self, name: str) -> None:
        for pair in self.pairs:
            pair.snapshot(name)
        self.snapshots = self.pairs[0].snapshots

    def forget_snapshot(self, name: str) -> None:
        for pair in self.pairs:
            pair.forget_snapshot(name)
        self.snapshots = self.pairs[0].snapshots


@dataclass
class PairsNight(Night):
    """`load` is what every node carries, in percent; of each pair
    the first one serves, but where `active` names others."""

    running: dict[str, str] = field(default_factory=lambda: dict.fromkeys("abcd", "2.8.5"))
    load: float | None = 10
    active: str = "ac"

    def __post_init__(self) -> None:
        services = '    services: {blocks: {address: "10.1.1.1:860"}}\n'
        self.estate_text = estate_text("pairs", len(self.running), services)
        self.most_away = 0
        super().__post_init__()

    def _pair(self, system, running):
        images = images_of(self.catalogs[system.product])
        names, made = list(running), []
        for first, second in zip(names[::2], names[1::2], strict=True):
            nodes = {n: ShoalNode(n, system.nodes[n].serial, "10.1.0.0/24", running[n]) for n in (first, second)}
            active = second if second in self.active else first
            made.append(ShoalPair(self.world, system.name, nodes, images, active))
        return SeveralPairs(made)

    def pair_of(self, system, node):
        return self.pairs[system].of(node)

    def _reading(self, system, name):
        reading = super()._reading(system, name)
        gauges = () if self.load is None else (Gauge(name="load", value=self.load, unit="%"),)
        return replace(reading, gauges=gauges)

    def judge(self, system, node, kind, release):
        super().judge(system, node, kind, release)
        if kind == "restart":
            nodes = self.pairs[system].nodes
            away = {
                n
                for n, one in nodes.items()
                if not one.up or any(t.what == "restart" and t.state == "busy" for t in one.tasks)
            }
            self.most_away = max(self.most_away, len(away | {node}))
            left = len(nodes) - len(away | {node})
            if self.load is not None and (not left or self.load * len(nodes) / left > 80):
                self.broken.append(f"capacity: {sorted(away | {node})} are away at once")

    def whole(self) -> list[str]:
        nodes = self.pairs["tickets"].nodes
        return self.all_well() + [f"{n} runs {one.version}" for n, one in nodes.items() if one.version != "3.2.4"]


def night_of(size: int = 4, **more) -> PairsNight:
    more.setdefault("running", dict.fromkeys(LETTERS[:size], "2.8.5"))
    more.setdefault("active", LETTERS[:size:2])
    return PairsNight(**more)


@pytest.mark.parametrize(
    ("size", "load", "width"), [(2, 10, 1), (4, 10, 2), (4, 50, 1), (4, None, 1), (8, 10, 4), (8, 45, 3)]
)
def test_one_node_of_each_pair_goes_and_as_many_pairs_as_the_rest_can_carry(size, load, width):
    night = night_of(size, load=load)
    assert night.run(night.plan()).state == "finished"
    assert night.whole() == []
    assert night.most_away == width


@pytest.mark.parametrize("running", [("2.8.5", "2.11.3", "3.2.4", "3.2.4"), ("3.2.4", "3.2.4", "2.8.5", "2.8.5")])
def test_nodes_that_start_on_different_releases_end_on_one(running):
    versions = {"2.8.5": None, "2.11.3": "vers:dotted/>=2.8.0", "3.2.4": "vers:dotted/>=2.8.0"}
    night = night_of(4, versions=versions, running=dict(zip(LETTERS, running, strict=False)))
    assert night.run(night.plan()).state == "finished"
    assert night.whole() == []


KILLS = [(f"{when} {kind}", n) for kind, most in (("append", 90), ("act", 40)) for when in ("before", "after") for n in range(1, most, 6)]  # fmt: skip


@pytest.mark.parametrize("where", KILLS, ids=lambda w: f"{w[0]} {w[1]}")
def test_a_night_that_is_killed_anywhere_and_resumed_ends_as_one_left_alone(where):
    night = night_of(4)
    plan = night.plan()
    night.kill_at = where
    try:
        night.run(plan)
    except Killed:
        assert night.finish(plan).state == "finished"
    assert night.whole() == []


@pytest.mark.parametrize(
    "fault", ["install_fails_at", "no_return", "role_stuck", "answer_lost", "never_acts", "sync_stuck"]
)
@pytest.mark.parametrize("node", ["a", "b", "d"])
def test_one_fault_of_each_kind_breaks_no_promise_and_leaves_every_pair_serving(fault, node):
    on = {"install_fails_at": "install", "role_stuck": "yield"}.get(fault, "restart")
    night = night_of(
        4, faults=[Fault(name=fault, node=f"tickets/{node}", act=on, value=0 if fault == "no_return" else 40)]
    )
    end = night.run(night.plan())
    assert end.state in ("finished", "stopped", "held")
    assert night.all_well() == []
    assert night.pairs["tickets"].serving == "all"


def test_a_hold_leaves_every_pair_whole():
    night = night_of(4)
    plan = night.plan()
    while (end := night.run(plan, Orders(by="tester", hold_after="step"))).state == "held":
        assert all(pair.replica()[0] == "matched" for pair in night.pairs["tickets"].pairs)
    assert (end.state, night.whole()) == ("finished", [])


def test_those_that_serve_go_side_by_side_too_once_all_of_them_have_handed_over():
    waves = [wave.why for wave in night_of(4).plan().lanes[0].hops[0].waves][2:]
    assert waves == [
        "b, d to 2.11.3",
        "all nodes again",
        "a hands over",
        "c hands over",
        "a, c to 2.11.3",
        "all nodes again",
    ]
