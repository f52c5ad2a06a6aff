"""A plan in pieces for windows: what has to go together stays together, what is too long is cut where it may rest."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

from gallant.core.length.pieces import pieces_of
from gallant.core.length.spread import room_s, stretches_of, to_rest_s
from gallant.core.windows.rules import Span
from gallant.core.work.plan import Basis, Hop, Lane, Plan, Round, Step, Track, Wave

THEN = datetime(2026, 12, 1, 22, tzinfo=UTC)


def span(hours: float) -> tuple[Span, ...]:
    return (Span(begin=THEN, end=THEN + timedelta(hours=hours)),)


def step(hop: str, system: str, node: str, minutes: float, rest: bool) -> Step:
    return Step(
        id=f"{hop}.{node}.restart",
        hop=hop,
        kind="restart",
        system=system,
        node=node,
        to="2",
        guards=(),
        expects="it runs",
        disturbs=(f"{system}/{node}",),
        deadline_s=9999,
        estimate_s=minutes * 60,
        safe_stop_s=3600 if rest else None,
    )


def hop(name: str, system: str, *needs: str, minutes: float = 10) -> Hop:
    tracks = [Track(node=node, steps=(step(name, system, node, minutes, True),)) for node in "ab"]
    waves = tuple(Wave(why=f"then {track.node}", tracks=(track,)) for track in tracks)
    return Hop(id=name, system=system, from_="1", to="2", needs=needs, waves=waves)


def plan(*lanes: Lane, rounds: tuple[Round, ...] = ()) -> Plan:
    basis = Basis(nodes={}, shapes={}, runs_on={}, versions={}, releases={}, profiles={})
    return Plan(made=THEN, by="anna", estate="e", basis=basis, lanes=lanes, rounds=rounds)


def cut(made: Plan, hours: float = 100, **severities: str):
    shares = pieces_of(made, lambda name: ("harbour", "storage"), lambda names: span(hours), severities)
    return {share.piece.name: share for share in shares}


def test_each_lane_is_a_piece_with_room_for_all_of_it_and_the_way_back():
    lane = Lane(system="tickets", hops=(hop("t1", "tickets"), hop("t2", "tickets")))
    found = cut(plan(lane), tickets="critical")
    [share] = found.values()
    assert share.piece.length_s == room_s(lane.hops)
    assert share.piece.length_s > 4 * 600
    assert (share.piece.weight, share.piece.touches) == (8.0, ("tickets",))


def test_what_one_needs_of_another_comes_before_it():
    found = cut(
        plan(
            Lane(system="deck", hops=(hop("d1", "deck", "o1"),)), Lane(system="overlook", hops=(hop("o1", "overlook"),))
        )
    )
    assert found["deck"].piece.needs == ("overlook",)
    assert list(found) == ["overlook", "deck"]


def test_lanes_that_need_each_other_are_one_piece():
    deck = Lane(system="deck", hops=(hop("d1", "deck"), hop("d2", "deck", "h1")))
    below = Lane(system="deck-hw", hops=(hop("h1", "deck-hw", "d1"),))
    [share] = cut(plan(deck, below)).values()
    assert share.lanes == ("deck", "deck-hw")
    assert set(share.piece.touches) == {"deck", "deck-hw"}
    assert share.piece.length_s > room_s(deck.hops)


def test_a_later_round_waits_for_all_of_the_one_before_it_and_its_soak():
    lanes = [Lane(system=name, hops=(hop(name, name),)) for name in ("ship", "slipway", "gates")]
    rounds = (Round(name="first", systems=("ship",), soak_s=300), Round(name="rest", systems=("slipway", "gates")))
    found = cut(plan(*lanes, rounds=rounds))
    assert found["ship"].piece.soak_s == 300
    assert found["slipway"].piece.needs == found["gates"].piece.needs == ("ship",)


def test_a_lane_longer_than_its_windows_is_cut_where_it_may_rest():
    lane = Lane(system="tickets", hops=(hop("t1", "tickets"), hop("t2", "tickets")))
    longest = max(to_rest_s(h, s) for h, s in stretches_of(lane.hops))
    found = cut(plan(lane, Lane(system="gates", hops=(hop("g1", "gates", "t2"),))), hours=1.2 * longest / 3600)
    parts = [share for share in found.values() if share.lanes == ("tickets",)]
    assert [(s.part, s.parts) for s in parts] == [(n, 4) for n in (1, 2, 3, 4)]
    assert parts[1].piece.needs == (parts[0].piece.name,)
    after = next(share for share in found.values() if share.lanes == ("gates",))
    assert after.piece.needs == (parts[-1].piece.name,)
    [whole] = cut(plan(lane), hours=0.5 * longest / 3600).values()  # nothing helps where no stretch fits
    assert whole.parts == 1
