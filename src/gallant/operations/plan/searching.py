"""The search for a good placing as an integer program, for as long as it may take. What a placing is, and whether it
keeps every rule, the core says."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import TypeAlias

from gallant.core.length.placing import Answer, AtOnce, Piece, kind_of, room_in, share_of, site_of
from gallant.core.windows.rules import Span


def assign(pieces: Sequence[Piece], at_once: AtOnce, nights: Sequence[Span], seconds: float) -> Answer | None:
    """The night of each piece, as a program finds them within some seconds: of a night it counts how much work goes
    into it in all. The bound holds for every placing. None where it finds nothing."""
    import numpy as np
    from scipy.optimize import Bounds, LinearConstraint, milp
    from scipy.sparse import coo_array

    known = {piece.name: piece for piece in pieces}
    allowed = {p.name: [n for n, night in enumerate(nights) if room_in(p, night) >= p.length] for p in pieces}
    index = {key: at for at, key in enumerate((name, n) for name, own in allowed.items() for n in own)}
    if not index:
        return None
    rows = _Rows()
    for name, own in allowed.items():
        rows.add({index[name, n]: 1.0 for n in own}, 1.0)
    _room_of_nights(rows, known, at_once, nights, allowed, index)
    _needs_before(rows, known, allowed, index)
    matrix = coo_array((rows.values, (rows.rows, rows.columns)), shape=(len(rows.most), len(index))).tocsr()
    found = milp(
        -np.array([known[name].weight * share_of(n, len(nights)) for name, n in index]),
        constraints=LinearConstraint(matrix, ub=np.array(rows.most)),
        bounds=Bounds(0, 1),
        integrality=np.ones(len(index)),
        options={"time_limit": seconds, "mip_rel_gap": 0.001},
    )
    if found.x is None:
        return None
    chosen = {name: (n, -1) for (name, n), at in index.items() if found.x[at] > 0.5}
    bound = sum(piece.weight for piece in pieces) if found.mip_dual_bound is None else -float(found.mip_dual_bound)
    return Answer(chosen=chosen, bound=bound)


def _room_of_nights(
    rows: _Rows, known: Mapping[str, Piece], at_once: AtOnce, nights: Sequence[Span], allowed: Allowed, index: Index
) -> None:
    """No night takes more work than goes on at once in it, in all, of one site and of one kind."""
    for n, night in enumerate(nights):
        here, length = [name for name, own in allowed.items() if n in own], night.length.total_seconds()
        for most, names in _groups(known, at_once, here):
            if most is not None:
                rows.add({index[name, n]: known[name].length_s for name in names}, length * most)


def _groups(known: Mapping[str, Piece], at_once: AtOnce, here: Sequence[str]) -> Iterator[tuple[int | None, list[str]]]:
    """How many of which pieces may go on at once."""
    yield at_once.whole, list(here)
    for most, group_of in ((at_once.site, site_of), (at_once.kind, kind_of)):
        for group in sorted({group_of(known[name]) for name in here}):
            yield most, [name for name in here if group_of(known[name]) == group]


def _needs_before(rows: _Rows, known: Mapping[str, Piece], allowed: Allowed, index: Index) -> None:
    """Up to each night a piece is done only where what it needs is done by then."""
    for name, own in allowed.items():
        for need in known[name].needs:
            for n in own:
                done = {index[name, m]: 1.0 for m in own if m <= n}
                before = {index[need, m]: -1.0 for m in allowed.get(need, ()) if m <= n}
                rows.add({**done, **before}, 0.0)


Allowed: TypeAlias = Mapping[str, Sequence[int]]  # by piece, the nights that it goes into
Index: TypeAlias = Mapping[tuple[str, int], int]  # the unknown of each piece and night


class _Rows:
    """A sparse matrix, a row at a time, and the most that each may come to."""

    def __init__(self) -> None:
        self.rows: list[int] = []
        self.columns: list[int] = []
        self.values: list[float] = []
        self.most: list[float] = []

    def add(self, row: Mapping[int, float], most: float) -> None:
        if row:
            self.rows += [len(self.most)] * len(row)
            self.columns += row.keys()
            self.values += row.values()
            self.most.append(most)
