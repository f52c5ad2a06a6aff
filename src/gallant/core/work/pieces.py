"""A plan in pieces for windows: lanes that have to go together as
one, a lane that is longer than any of its windows in parts."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence

from gallant.core.estate.windows import Span
from gallant.core.records import Record, replace
from gallant.core.work.placing import Piece
from gallant.core.work.plan import Hop, Lane, Plan, hop_ends
from gallant.core.work.spread import back_s, late_s, stretches_of, to_rest_s

WEIGHTS = {"critical": 8.0, "high": 4.0, "medium": 2.0, "low": 1.0}


class PieceShare(Record):
    """The lanes of a piece: the systems that are worked on together, and which part of how many it is."""

    piece: Piece
    lanes: tuple[str, ...]
    part: int = 1
    parts: int = 1


def pieces_of(
    plan: Plan,
    place_of: Callable[[str], tuple[str, str]],
    spans_of: Callable[[Sequence[str]], tuple[Span, ...]],
    severities: Mapping[str, str | None],
) -> list[PieceShare]:
    """The pieces of a plan. `place_of` a system are its site and kind, `spans_of` some systems when all of them may be
    disturbed at once; of several that go together the first one's site and kind count."""
    groups = _together(plan)
    of = {lane.system: n for n, group in enumerate(groups) for lane in group}
    owner = {hop.id: lane.system for lane in plan.lanes for hop in lane.hops}
    soaks = {name: r.soak_s for r in plan.rounds for name in r.systems}
    shares = list[PieceShare]()
    last: dict[int, str] = {}
    for n, group in _needed_first(groups, lambda n: _needs(plan, groups[n], n, of, owner)):
        systems = tuple(lane.system for lane in group)
        site, kind = place_of(systems[0])
        spans = spans_of(tuple(dict.fromkeys(name for lane in group for name in (lane.system, *lane.also))))
        needs = _needs(plan, group, n, of, owner)
        whole = Piece(
            name="+".join(systems),
            site=site,
            kind=kind,
            length_s=_room_s(group),
            spans=spans,
            needs=tuple(last[m] for m in sorted(needs) if m in last),
            touches=tuple(dict.fromkeys(name for lane in group for name in (lane.system, *lane.also))),
            weight=max(WEIGHTS.get(severities.get(name) or "low", 1.0) for name in systems),
            soak_s=max(soaks.get(name, 0.0) for name in systems),
        )
        own = [PieceShare(piece=p, lanes=systems, part=k, parts=0) for k, p in enumerate(_parts(whole, group), 1)]
        shares += [replace(share, parts=len(own)) for share in own]
        last[n] = own[-1].piece.name
    return shares


def _room_s(group: Sequence[Lane]) -> float:
    """How long a window has to be for all of some lanes, side by side as far as they may go so."""
    ends = hop_ends(group, _late_s)
    back = (back_s(hop, stretch) for lane in group for hop, stretch in stretches_of(lane.hops))
    return float(max(ends.values(), default=0.0)) + max(back, default=0.0)


def _late_s(hop: Hop) -> float:
    return sum(
        max((sum(late_s(hop, s) for s in track.steps) for track in wave.tracks), default=0.0) for wave in hop.waves
    )


def _parts(whole: Piece, group: Sequence[Lane]) -> Iterator[Piece]:
    """A piece that no window of it holds, cut where its system may rest; as it is where that does not help."""
    longest = max((span.length.total_seconds() for span in whole.spans), default=0.0)
    stretches = [to_rest_s(hop, stretch) for lane in group for hop, stretch in stretches_of(lane.hops)]
    if whole.length_s <= longest or len(group) > 1 or max(stretches, default=longest + 1) > longest:
        yield whole
        return
    lengths = [0.0]
    for needed in stretches:
        if lengths[-1] + needed > longest:
            lengths.append(0.0)
        lengths[-1] += needed
    before = whole.needs
    for number, length in enumerate(lengths, 1):
        part = replace(
            whole,
            name=f"{whole.name} ({number} of {len(lengths)})",
            length_s=length,
            needs=before,
            soak_s=whole.soak_s if number == len(lengths) else 0.0,
        )
        before = (part.name,)
        yield part


def _together(plan: Plan) -> list[list[Lane]]:
    """Lanes of which each needs the other, in one way or another, as one."""
    owner = {hop.id: lane.system for lane in plan.lanes for hop in lane.hops}
    after = {
        lane.system: {owner[need] for hop in lane.hops for need in hop.needs if need in owner} - {lane.system}
        for lane in plan.lanes
    }
    reach = {name: _reached(name, after) for name in after}
    groups = list[list[Lane]]()
    for lane in plan.lanes:
        mine = next(
            (g for g in groups if lane.system in reach[g[0].system] and g[0].system in reach[lane.system]), None
        )
        if mine is None:
            groups.append([lane])
        else:
            mine.append(lane)
    return groups


def _reached(name: str, after: Mapping[str, set[str]]) -> set[str]:
    found, waiting = set[str](), list(after[name])
    while waiting:
        here = waiting.pop()
        if here not in found:
            found.add(here)
            waiting += after[here]
    return found


def _needs(plan: Plan, group: Sequence[Lane], number: int, of: Mapping[str, int], owner: Mapping[str, str]) -> set[int]:
    """The other groups that have to be done before one: what its hops need, and what is of an earlier round."""
    needs = {of[owner[need]] for lane in group for hop in lane.hops for need in hop.needs if need in owner}
    for lane in group:
        at = next((n for n, r in enumerate(plan.rounds) if lane.system in r.systems), 0)
        needs |= {of[name] for r in plan.rounds[:at] for name in r.systems if name in of}
    return needs - {number}


def _needed_first(groups: Sequence[list[Lane]], needs: Callable[[int], set[int]]) -> Iterator[tuple[int, list[Lane]]]:
    left, done = list(range(len(groups))), set[int]()
    while left:
        ready = next((n for n in left if needs(n) <= done), left[0])
        left.remove(ready)
        done.add(ready)
        yield ready, groups[ready]
