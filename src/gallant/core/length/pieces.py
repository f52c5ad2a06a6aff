"""A plan in pieces for windows: lanes that have to go together as
one, a lane that is longer than any of its windows in parts."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence

from gallant.core.length.placing import Piece
from gallant.core.length.spread import back_s, late_s, stretches_of, to_rest_s
from gallant.core.records import Record, replace
from gallant.core.windows.rules import Span
from gallant.core.work.plan import Hop, Lane, Plan, hop_ends

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
        touches = tuple(dict.fromkeys(name for lane in group for name in (lane.system, *lane.also)))
        site, kind = place_of(systems[0])
        whole = Piece(
            name="+".join(systems),
            site=site,
            kind=kind,
            length_s=_room_s(group),
            spans=spans_of(touches),
            needs=tuple(last[m] for m in sorted(_needs(plan, group, n, of, owner)) if m in last),
            touches=touches,
            weight=max(WEIGHTS.get(severities.get(name) or "low", 1.0) for name in systems),
            soak_s=max(soaks.get(name, 0.0) for name in systems),
        )
        parts = list(_parts(whole, group))
        shares += [PieceShare(piece=p, lanes=systems, part=k, parts=len(parts)) for k, p in enumerate(parts, 1)]
        last[n] = parts[-1].name
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
    lengths, before = _filled(stretches, longest), whole.needs
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


def _filled(stretches: Sequence[float], longest: float) -> list[float]:
    """The lengths of parts that take as many stretches as go into the longest window, in their order."""
    lengths = [0.0]
    for needed in stretches:
        if lengths[-1] + needed > longest:
            lengths.append(0.0)
        lengths[-1] += needed
    return lengths


def _together(plan: Plan) -> list[list[Lane]]:
    """Lanes of which each needs the other, in one way or another, as one."""
    owner = {hop.id: lane.system for lane in plan.lanes for hop in lane.hops}
    after = {lane.system: _owners_of_needs([lane], owner) - {lane.system} for lane in plan.lanes}
    reach = {name: _reached(name, after) for name in after}
    groups = list[list[Lane]]()
    for lane in plan.lanes:
        for group in groups:
            head = group[0].system
            if lane.system in reach[head] and head in reach[lane.system]:
                group.append(lane)
                break
        else:
            groups.append([lane])
    return groups


def _owners_of_needs(lanes: Sequence[Lane], owner: Mapping[str, str]) -> set[str]:
    """The systems of the hops that have to be finished before those of some lanes."""
    return {owner[need] for lane in lanes for hop in lane.hops for need in hop.needs if need in owner}


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
    needs = {of[name] for name in _owners_of_needs(group, owner)}
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
