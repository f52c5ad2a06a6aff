"""Many systems into windows: which goes into which, so that the
weightiest are done first, within what may be done at once.

A first placing is made piece by piece (`first_fit`). A mixed-integer program (SciPy's `milp`, HiGHS) then says which
night each piece goes into, and the best worth that any schedule could have (`assign`); of a night it knows only how
much goes into it in all. So what is laid out of that is bettered by exchanges between the places of the nights
(`exchanged`).
`problems` holds what comes of it against every rule, and knows nothing of how it was made.

Worth of a piece in the n-th of N nights: its weight * (1 - n / (N + 1)); of one that is not placed: 0.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from datetime import datetime, timedelta
from typing import TypeAlias

from gallant.core.estate.windows import Span, common, joined
from gallant.core.records import Record

LONGEST_NIGHT = timedelta(hours=36)  # a longer span is no night: what has it may be worked on at nearly any time
A_DAY = timedelta(days=1)
MOST_NIGHTS = 60
BLOCK = 10_000


class Piece(Record):
    """Work in one piece: for `length_s` it has to be in one of its `spans`. It begins
    after each of `needs` (pieces) has ended and, where those soak, for their
    `soak_s`. `touches` are systems of which no two pieces are worked on at once."""

    name: str
    site: str
    kind: str
    length_s: float
    spans: tuple[Span, ...]
    needs: tuple[str, ...] = ()
    touches: tuple[str, ...] = ()
    weight: float = 1.0
    soak_s: float = 0

    @property
    def length(self) -> timedelta:
        return timedelta(seconds=self.length_s)


class AtOnce(Record):
    """How many pieces may go on side by side: in all, of one site, of one kind; None: any number."""

    whole: int | None = None
    site: int | None = None
    kind: int | None = None


class Placed(Record):
    piece: str
    span: Span


class Placing(Record):
    """Where each piece goes (`placed`, by begin) and those that go nowhere, each with the reason. `worth` is what it
    comes to, `bound` what no placing could exceed (None: not known)."""

    placed: tuple[Placed, ...]
    left: dict[str, str]
    worth: float
    bound: float | None = None

    @property
    def gap(self) -> float | None:
        """How far it is from the bound, as a share of that."""
        return None if not self.bound else max(0.0, (self.bound - self.worth) / self.bound)


def nights_of(pieces: Sequence[Piece]) -> list[Span]:
    """When anybody works at all: the windows of all pieces, those that
    overlap as one. Where none is as short as a night, days."""
    spans = [span for piece in pieces for span in piece.spans]
    short = joined(span for span in spans if span.length <= LONGEST_NIGHT)
    if short:
        return short[:MOST_NIGHTS]
    days, every = list[Span](), joined(spans)
    for span in every:
        at = span.begin
        while at < span.end and len(days) < MOST_NIGHTS:
            days.append(Span(begin=at, end=min(at + A_DAY, span.end)))
            at += A_DAY
    return days


def worth_of(pieces: Sequence[Piece], placed: Iterable[Placed], nights: Sequence[Span]) -> float:
    weights = {piece.name: piece.weight for piece in pieces}
    return sum(weights[p.piece] * _share(_night_of(p.span, nights), len(nights)) for p in placed)


def _share(night: int, count: int) -> float:
    return 1 - night / (count + 1)


def _night_of(span: Span, nights: Sequence[Span]) -> int:
    return next((n for n, night in enumerate(nights) if span.begin < night.end), len(nights))


# --- piece by piece -------------------------------------------------------------------------------------------------


class _Table:
    """What is placed so far, and whether one more piece goes in at a moment."""

    def __init__(self, pieces: Sequence[Piece], at_once: AtOnce) -> None:
        self.pieces = {piece.name: piece for piece in pieces}
        self.at_once = at_once
        self.placed: dict[str, Span] = {}

    def take(self, piece: Piece, begin: datetime) -> None:
        self.placed[piece.name] = Span(begin=begin, end=begin + piece.length)

    def may_begin(self, piece: Piece) -> datetime | None:
        """From when on what it needs is done; None where something of that is not placed."""
        if any(need not in self.placed for need in piece.needs):
            return None
        after = (self.placed[n].end + timedelta(seconds=self.pieces[n].soak_s) for n in piece.needs)
        return max(after, default=min((span.begin for span in piece.spans), default=None))

    def fits(self, piece: Piece, begin: datetime, beside: Sequence[tuple[Piece, Span]]) -> bool:
        own = Span(begin=begin, end=begin + piece.length)
        others = [(other, span) for other, span in beside if span.begin < own.end and own.begin < span.end]
        if any(set(piece.touches) & set(other.touches) for other, _ in others):
            return False
        rules = (
            (self.at_once.whole, [span for _, span in others]),
            (self.at_once.site, [span for other, span in others if other.site == piece.site]),
            (self.at_once.kind, [span for other, span in others if other.kind == piece.kind]),
        )
        return all(most is None or _most_at_once(spans) < most for most, spans in rules)

    def earliest(self, piece: Piece, only: Span | None = None) -> datetime | None:
        """The first moment at which a piece goes in, in one night alone where one is given."""
        since = self.may_begin(piece)
        if since is None:
            return None
        for span in piece.spans if only is None else common(piece.spans, [only]):
            first = max(since, span.begin)
            last = span.end - piece.length
            if first > last:
                continue
            beside = [(self.pieces[n], s) for n, s in self.placed.items() if s.begin < span.end and span.begin < s.end]
            for begin in sorted({first, *(s.end for _, s in beside if first < s.end <= last)}):
                if self.fits(piece, begin, beside):
                    return begin
        return None


def _most_at_once(spans: Sequence[Span]) -> int:
    """The most of some stretches that go on at one moment."""
    return max((sum(s.begin <= one.begin < s.end for s in spans) for one in spans), default=0)


Rank: TypeAlias = tuple[float, float, str]


def _urgent(piece: Piece) -> Rank:
    return -piece.weight, -piece.length_s, piece.name


def in_order(pieces: Sequence[Piece], by: Callable[[Piece], Rank] = _urgent) -> list[Piece]:
    """What is needed before what needs it; the weightiest first, as
    far as that leaves a choice. A ring of needs comes last."""
    left, found, names = sorted(pieces, key=by), list[Piece](), {piece.name for piece in pieces}
    done = set[str]()
    while left:
        ready = next((piece for piece in left if done.issuperset(names.intersection(piece.needs))), left[0])
        left.remove(ready)
        found.append(ready)
        done.add(ready.name)
    return found


def first_fit(pieces: Sequence[Piece], at_once: AtOnce, nights: Sequence[Span]) -> Placing:
    """Each piece as early as it goes in, the weightiest first."""
    table = _Table(pieces, at_once)
    _fill(table, in_order(pieces))
    return _placing(pieces, table, nights)


def _fill(table: _Table, pieces: Iterable[Piece]) -> None:
    for piece in pieces:
        if piece.name not in table.placed and (begin := table.earliest(piece)) is not None:
            table.take(piece, begin)


def _placing(pieces: Sequence[Piece], table: _Table, nights: Sequence[Span], bound: float | None = None) -> Placing:
    placed = sorted((Placed(piece=n, span=s) for n, s in table.placed.items()), key=lambda p: (p.span.begin, p.piece))
    return Placing(
        placed=tuple(placed),
        left={piece.name: _why_left(table, piece) for piece in pieces if piece.name not in table.placed},
        worth=worth_of(pieces, placed, nights),
        bound=bound,
    )


def _why_left(table: _Table, piece: Piece) -> str:
    longest = max((span.length for span in piece.spans), default=timedelta(0))
    if not piece.spans:
        return "no window of it is to come"
    if piece.length > longest:
        minutes = (piece.length - longest).total_seconds() / 60
        return (
            f"its longest window is {minutes:.0f} min too short: prepare it ahead, widen the window, or plan fewer hops"
        )
    if missing := [need for need in piece.needs if need not in table.placed]:
        return f"it needs {', '.join(missing)}, which found no place"
    since = table.may_begin(piece)
    if since is not None and all(max(since, s.begin) + piece.length > s.end for s in piece.spans):
        return "what it needs ends too late for its last window"
    return "its windows are full: more at once (limits:), or another window"


# --- as a whole -----------------------------------------------------------------------------------------------------


class Answer(Record):
    """What a program came to: the night and the place in it (-1:
    any) of each piece, and the most that its worth could be."""

    chosen: dict[str, tuple[int, int]]
    bound: float


def assign(pieces: Sequence[Piece], at_once: AtOnce, nights: Sequence[Span], seconds: float) -> Answer | None:
    """The night of each piece, as a program finds them within some seconds: of a night it counts how much work goes
    into it in all. The bound holds for every placing. None where it finds nothing."""
    import numpy as np
    from scipy.optimize import Bounds, LinearConstraint, milp
    from scipy.sparse import coo_array

    known = {piece.name: piece for piece in pieces}
    allowed = {p.name: [n for n, night in enumerate(nights) if _room(p, night) >= p.length] for p in pieces}
    index = {key: at for at, key in enumerate((name, n) for name, own in allowed.items() for n in own)}
    if not index:
        return None
    rows = _Rows()
    for name, own in allowed.items():
        rows.add({index[name, n]: 1.0 for n in own}, 1.0)
    for n, night in enumerate(nights):
        here, length = [name for name, own in allowed.items() if n in own], night.length.total_seconds()
        groups = [(at_once.whole, here)]
        for most, group_of in ((at_once.site, _site), (at_once.kind, _kind)):
            for group in sorted({group_of(known[name]) for name in here}):
                groups.append((most, [name for name in here if group_of(known[name]) == group]))
        for most, names in groups:
            if most is not None:
                rows.add({index[name, n]: known[name].length_s for name in names}, length * most)
    for name, own in allowed.items():
        for need in known[name].needs:
            for n in own:
                # up to each night: it is done only where what it needs is done by then
                done = {index[name, m]: 1.0 for m in own if m <= n}
                before = {index[need, m]: -1.0 for m in allowed.get(need, ()) if m <= n}
                rows.add({**done, **before}, 0.0)
    matrix = coo_array((rows.values, (rows.rows, rows.columns)), shape=(len(rows.most), len(index))).tocsr()
    found = milp(
        -np.array([known[name].weight * _share(n, len(nights)) for name, n in index]),
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


def improved(pieces: Sequence[Piece], at_once: AtOnce, nights: Sequence[Span], answer: Answer) -> Placing:
    """An answer laid out; what does not go in where it was meant to goes wherever it does."""
    table = _Table(pieces, at_once)
    _lay_out(table, nights, answer.chosen)
    _fill(table, in_order(pieces))
    return _placing(pieces, table, nights, answer.bound)


def exchanged(
    pieces: Sequence[Piece], at_once: AtOnce, nights: Sequence[Span], before: Placing, steps: int, seed: int
) -> Placing:
    """A placing after so many exchanges of pieces, drawn by `seed`, between the places of the nights, worse ones too as
    long as it is warm (simulated annealing: Kirkpatrick, Gelatt, Vecchi 1983); as it was where that is worth no
    more."""
    if at_once.whole is None or not before.placed:
        return before
    search = _Exchange(pieces, nights, at_once.whole, before)
    search.go(steps, _drawn(seed))
    table = _Table(pieces, at_once)
    _lay_out(table, nights, search.chosen())
    _fill(table, in_order(pieces))
    found = _placing(pieces, table, nights, before.bound)
    return found if found.worth > before.worth and not problems(pieces, at_once, found.placed) else before


def _drawn(seed: int) -> Iterator[float]:
    """Numbers from 0 to 1, the same for every run with one seed."""
    import numpy as np

    lots = np.random.default_rng(seed)
    while True:
        yield from lots.random(BLOCK).tolist()


class _Exchange:
    """Pieces in places: `place_of` has the number of each one's place (-1:
    none), of which every night has as many as may go on at once."""

    WARM, COLD = 0.3, 0.01  # of the weight of a piece, by a night earlier or later

    def __init__(self, pieces: Sequence[Piece], nights: Sequence[Span], width: int, before: Placing) -> None:
        self.pieces, self.width = pieces, width
        names = {piece.name: i for i, piece in enumerate(pieces)}
        self.length = [piece.length_s for piece in pieces]
        self.weight = [piece.weight for piece in pieces]
        self.share = [_share(n, len(nights)) for n in range(len(nights))]
        self.room = [[_room(piece, night) >= piece.length for night in nights] for piece in pieces]
        self.needs = [[names[need] for need in piece.needs if need in names] for piece in pieces]
        self.lone = [len(piece.needs) > len(own) for piece, own in zip(pieces, self.needs, strict=True)]
        self.needed_by: list[list[int]] = [[] for _ in pieces]
        for i, own in enumerate(self.needs):
            for need in own:
                self.needed_by[need].append(i)
        self.free = [night.length.total_seconds() for night in nights for _ in range(width)]
        self.place_of = [-1] * len(pieces)
        self.total = 0.0
        self._take_over(before, nights, names)

    def _take_over(self, before: Placing, nights: Sequence[Span], names: Mapping[str, int]) -> None:
        ends = [night.begin for night in nights for _ in range(self.width)]
        for one in before.placed:
            night, i = _night_of(one.span, nights), names[one.piece]
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
        before = (self.place_of[need] for need in self.needs[i])
        after = (self.place_of[d] for d in self.needed_by[i] if self.place_of[d] >= 0)
        return all(p >= 0 and (p == place or p // self.width < night) for p in before) and all(
            p == place or p // self.width > night for p in after
        )

    def go(self, steps: int, lots: Iterator[float]) -> None:
        best, kept = self.total, list(self.place_of)
        count, places = len(self.pieces), len(self.free)
        cooling = (self.COLD / self.WARM) ** (1 / max(1, steps))
        warmth = self.WARM
        for _ in range(steps):
            warmth *= cooling
            i = int(next(lots) * count)
            if next(lots) < 0.3:
                moved = [(i, int(next(lots) * (places + 1)) - 1)]
            else:
                j = int(next(lots) * count)
                moved = [(i, self.place_of[j]), (j, self.place_of[i])]
            before, old = self.total, [(one, self.place_of[one]) for one, _ in moved]
            if moved[0][1] == old[0][1]:
                continue
            for one, place in moved:
                self._put(one, place)
            less = before - self.total
            if (less > 0 and next(lots) >= math.exp(-less / warmth)) or not all(self._stands(o) for o, _ in moved):
                for one, place in old:
                    self._put(one, place)
            elif self.total > best:
                best, kept = self.total, list(self.place_of)
        for i, place in enumerate(kept):
            self._put(i, place)

    def chosen(self) -> dict[str, tuple[int, int]]:
        return {self.pieces[i].name: divmod(place, self.width) for i, place in enumerate(self.place_of) if place >= 0}


def _lay_out(table: _Table, nights: Sequence[Span], chosen: Mapping[str, tuple[int, int]]) -> None:
    """Put pieces one after the other into their places; the longest of a night first where no place is given (-1)."""
    free = dict[tuple[int, int], datetime]()
    order = in_order([table.pieces[name] for name in chosen], by=_longest)
    for piece in order:
        night, place = chosen[piece.name]
        since = table.may_begin(piece)
        if since is None:
            continue
        at = max(free.get((night, place), nights[night].begin), since)
        own = common(piece.spans, [nights[night]])
        begin = next((max(at, s.begin) for s in own if max(at, s.begin) + piece.length <= s.end), None)
        beside = [(table.pieces[n], s) for n, s in table.placed.items()]
        if place < 0 or begin is None or not table.fits(piece, begin, beside):
            begin = table.earliest(piece, nights[night])
        if begin is not None:
            table.take(piece, begin)
            free[night, place] = max(begin + piece.length, free.get((night, place), begin))


def _site(piece: Piece) -> str:
    return piece.site


def _kind(piece: Piece) -> str:
    return piece.kind


def _longest(piece: Piece) -> tuple[float, float, str]:
    return -piece.length_s, -piece.weight, piece.name


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


def _room(piece: Piece, night: Span) -> timedelta:
    return max((span.length for span in common(piece.spans, [night])), default=timedelta(0))


def problems(pieces: Sequence[Piece], at_once: AtOnce, placed: Sequence[Placed]) -> list[str]:
    """Every rule that a placing breaks, in words; empty for one that may be
    used. It asks the clock of every placed piece and nothing else."""
    known = {piece.name: piece for piece in pieces}
    spans: dict[str, Span] = {}
    found = list[str]()
    for one in placed:
        piece = known.get(one.piece)
        if piece is None or one.piece in spans:
            found.append(f"{one.piece} is {'placed twice' if piece is not None else 'nothing that was to be placed'}")
            continue
        spans[one.piece] = one.span
        if abs(one.span.length.total_seconds() - piece.length_s) > 1e-3:
            found.append(f"{one.piece} is given another length than it needs")
        if not any(window.begin <= one.span.begin and one.span.end <= window.end for window in piece.spans):
            found.append(f"{one.piece} lies outside of its windows")
    for name, span in spans.items():
        for need in known[name].needs:
            ended = spans[need].end + timedelta(seconds=known[need].soak_s) if need in spans else None
            if ended is None or span.begin < ended:
                found.append(f"{name} begins before {need}, which it needs, has ended")
        beside = [other for other, its in spans.items() if its.begin <= span.begin < its.end]
        for other in beside:
            if other != name and set(known[other].touches) & set(known[name].touches):
                found.append(f"{name} and {other} are worked on at once")
        alike = (
            ("in all", at_once.whole, beside),
            ("of its site", at_once.site, [o for o in beside if known[o].site == known[name].site]),
            ("of its kind", at_once.kind, [o for o in beside if known[o].kind == known[name].kind]),
        )
        for what, most, those in alike:
            if most is not None and len(those) > most:
                found.append(f"when {name} begins, {len(those)} go on at once {what}; {most} may")
    return found


def best(placings: Iterable[Placing]) -> Placing:
    """The one that is worth most; the bound of any of them holds for all."""
    every = list(placings)
    bounds = [placing.bound for placing in every if placing.bound is not None]
    top = max(every, key=lambda placing: placing.worth)
    return Placing(placed=top.placed, left=top.left, worth=top.worth, bound=min(bounds, default=None))
