"""A placing made better by exchanging pieces, from lots that are given: the same lots come to the same placing."""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping, Sequence

from gallant.core.length.placing import (
    BLOCK,
    AtOnce,
    Piece,
    Placing,
    Table,
    fill,
    in_order,
    lay_out,
    night_of,
    placing_of,
    problems,
    room_in,
    share_of,
)
from gallant.core.windows.rules import Span


def exchanged(
    pieces: Sequence[Piece], at_once: AtOnce, nights: Sequence[Span], before: Placing, steps: int, seed: int
) -> Placing:
    """A placing after so many exchanges of pieces, drawn by `seed`, between the places of the nights, worse ones too as
    long as it is warm (simulated annealing: Kirkpatrick, Gelatt, Vecchi 1983); as it was where that is worth no
    more."""
    if at_once.whole is None or not before.placed:
        return before
    search = Exchange(pieces, nights, at_once.whole, before)
    search.go(steps, _drawn(seed))
    table = Table(pieces, at_once)
    lay_out(table, nights, search.chosen())
    fill(table, in_order(pieces))
    found = placing_of(pieces, table, nights, before.bound)
    return found if found.worth > before.worth and not problems(pieces, at_once, found.placed) else before


def _drawn(seed: int) -> Iterator[float]:
    """Numbers from 0 to 1, the same for every run with one seed."""
    import numpy as np

    lots = np.random.default_rng(seed)
    while True:
        yield from lots.random(BLOCK).tolist()


class Exchange:
    """Pieces in places: `place_of` has the number of each one's place (-1:
    none), of which every night has as many as may go on at once."""

    WARM, COLD = 0.3, 0.01  # of the weight of a piece, by a night earlier or later

    def __init__(self, pieces: Sequence[Piece], nights: Sequence[Span], width: int, before: Placing) -> None:
        self.pieces, self.width = pieces, width
        names = {piece.name: i for i, piece in enumerate(pieces)}
        self.length = [piece.length_s for piece in pieces]
        self.weight = [piece.weight for piece in pieces]
        self.share = [share_of(n, len(nights)) for n in range(len(nights))]
        self.room = [[room_in(piece, night) >= piece.length for night in nights] for piece in pieces]
        self._know_needs(names)
        self.free = [night.length.total_seconds() for night in nights for _ in range(width)]
        self.place_of = [-1] * len(pieces)
        self.total = 0.0
        self._take_over(before, nights, names)

    def _know_needs(self, names: Mapping[str, int]) -> None:
        """Who needs whom, both ways; `lone` is what needs something that is not to be placed."""
        self.needs = [[names[need] for need in piece.needs if need in names] for piece in self.pieces]
        self.lone = [len(piece.needs) > len(own) for piece, own in zip(self.pieces, self.needs, strict=True)]
        self.needed_by: list[list[int]] = [[] for _ in self.pieces]
        for i, own in enumerate(self.needs):
            for need in own:
                self.needed_by[need].append(i)

    def _take_over(self, before: Placing, nights: Sequence[Span], names: Mapping[str, int]) -> None:
        ends = [night.begin for night in nights for _ in range(self.width)]
        for one in before.placed:
            night, i = night_of(one.span, nights), names[one.piece]
            own = range(night * self.width, (night + 1) * self.width)
            place = next((p for p in own if ends[p] <= one.span.begin and self.free[p] >= self.length[i]), None)
            if place is not None:
                ends[place] = one.span.end
                self._put(i, place)

    def _put(self, i: int, place: int) -> None:
        old = self.place_of[i]
        if old >= 0:
            self.free[old] += self.length[i]
            self.total -= self.weight[i] * self.share[old // self.width]
        self.place_of[i] = place
        if place >= 0:
            self.free[place] -= self.length[i]
            self.total += self.weight[i] * self.share[place // self.width]

    def _stands(self, i: int) -> bool:
        """Whether a piece may be where it is, beside what it needs and what
        needs it: in a later night, or in the same place after it."""
        place = self.place_of[i]
        if place < 0:
            return all(self.place_of[d] < 0 for d in self.needed_by[i])
        night = place // self.width
        if self.free[place] < 0 or not self.room[i][night] or self.lone[i]:
            return False
        before = all(self._follows(place, self.place_of[need]) for need in self.needs[i])
        after = [self.place_of[d] for d in self.needed_by[i] if self.place_of[d] >= 0]
        return before and all(self._follows(p, place) for p in after)

    def _follows(self, later: int, earlier: int) -> bool:
        """Whether what is in one place comes after what is in another: a place is worked through in order of needs."""
        return earlier >= 0 and (later == earlier or earlier // self.width < later // self.width)

    def go(self, steps: int, lots: Iterator[float]) -> None:
        """Exchange so often; what was best is kept. A loss is accepted by lot, the less the colder (Metropolis)."""
        best, kept = self.total, list(self.place_of)
        cooling = (self.COLD / self.WARM) ** (1 / max(1, steps))
        warmth = self.WARM
        for _ in range(steps):
            warmth *= cooling
            moved = self._drawn_move(lots)
            before, old = self.total, [(one, self.place_of[one]) for one, _ in moved]
            if moved[0][1] == old[0][1]:
                continue
            self._put_all(moved)
            less = before - self.total
            if (less > 0 and next(lots) >= math.exp(-less / warmth)) or not all(self._stands(o) for o, _ in moved):
                self._put_all(old)
            elif self.total > best:
                best, kept = self.total, list(self.place_of)
        self._put_all(list(enumerate(kept)))

    def _drawn_move(self, lots: Iterator[float]) -> list[tuple[int, int]]:
        """One piece to any place or to none, or two that change places."""
        count, places = len(self.pieces), len(self.free)
        i = int(next(lots) * count)
        if next(lots) < 0.3:
            return [(i, int(next(lots) * (places + 1)) - 1)]
        j = int(next(lots) * count)
        return [(i, self.place_of[j]), (j, self.place_of[i])]

    def _put_all(self, moves: Sequence[tuple[int, int]]) -> None:
        for one, place in moves:
            self._put(one, place)

    def chosen(self) -> dict[str, tuple[int, int]]:
        """Night and place of each piece that has one."""
        return {self.pieces[i].name: divmod(place, self.width) for i, place in enumerate(self.place_of) if place >= 0}
