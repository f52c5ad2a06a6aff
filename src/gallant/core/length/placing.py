"""Many systems into windows: which goes into which, so that the
weightiest are done first, within what may be done at once.

A first placing is made piece by piece (`first_fit`). A mixed-integer program, which an operation asks, then says which
night each piece goes into, and the best worth that any schedule could have (`Answer`); of a night it knows only how
much goes into it in all. So what is laid out of that is bettered by exchanges between the places of the nights
(core/length/exchanging.py).
`problems` holds what comes of it against every rule, and knows nothing of how it was made.

Worth of a piece in the n-th of N nights: its weight * (1 - n / (N + 1)); of one that is not placed: 0.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from datetime import datetime, timedelta
from typing import TypeAlias

from gallant.core.records import Record
from gallant.core.windows.rules import Span, common, joined

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
        """How long it takes."""
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
    """The worth of a placing: see the formula above."""
    weights = {piece.name: piece.weight for piece in pieces}
    return sum(weights[p.piece] * share_of(night_of(p.span, nights), len(nights)) for p in placed)


def share_of(night: int, count: int) -> float:
    """What of a weight counts in the n-th of some nights."""
    return 1 - night / (count + 1)


def night_of(span: Span, nights: Sequence[Span]) -> int:
    """The night that a stretch lies in."""
    return next((n for n, night in enumerate(nights) if span.begin < night.end), len(nights))


class Table:
    """What is placed so far, and whether one more piece goes in at a moment."""

    def __init__(self, pieces: Sequence[Piece], at_once: AtOnce) -> None:
        self.pieces = {piece.name: piece for piece in pieces}
        self.at_once = at_once
        self.placed: dict[str, Span] = {}

    def take(self, piece: Piece, begin: datetime) -> None:
        """Place a piece."""
        self.placed[piece.name] = Span(begin=begin, end=begin + piece.length)

    def may_begin(self, piece: Piece) -> datetime | None:
        """From when on what it needs is done; None where something of that is not placed."""
        if any(need not in self.placed for need in piece.needs):
            return None
        after = (self.placed[n].end + timedelta(seconds=self.pieces[n].soak_s) for n in piece.needs)
        return max(after, default=min((span.begin for span in piece.spans), default=None))

    def fits(self, piece: Piece, begin: datetime, beside: Sequence[tuple[Piece, Span]]) -> bool:
        """Whether a piece that begins then goes on beside what is there."""
        own = Span(begin=begin, end=begin + piece.length)
        others = [(other, span) for other, span in beside if span.begin < own.end and own.begin < span.end]
        if any(set(piece.touches) & set(other.touches) for other, _ in others):
            return False
        rules = (
            (self.at_once.whole, lambda other: True),
            (self.at_once.site, lambda other: other.site == piece.site),
            (self.at_once.kind, lambda other: other.kind == piece.kind),
        )
        return all(
            most is None or _most_at_once([span for other, span in others if counts(other)]) < most
            for most, counts in rules
        )

    def earliest(self, piece: Piece, only: Span | None = None) -> datetime | None:
        """The first moment at which a piece goes in, in one night alone where one is given."""
        since = self.may_begin(piece)
        if since is None:
            return None
        for span in piece.spans if only is None else common(piece.spans, [only]):
            first, last = max(since, span.begin), span.end - piece.length
            beside = [(self.pieces[n], s) for n, s in self.placed.items() if s.begin < span.end and span.begin < s.end]
            # A piece that fits anywhere fits at the start, or where something else has just ended.
            starts = sorted({first, *(s.end for _, s in beside if s.end > first)})
            fitting = (begin for begin in starts if begin <= last and self.fits(piece, begin, beside))
            if (begin := next(fitting, None)) is not None:
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
    table = Table(pieces, at_once)
    fill(table, in_order(pieces))
    return placing_of(pieces, table, nights)


def fill(table: Table, pieces: Iterable[Piece]) -> None:
    """Place each piece as early as it goes in, one after the other."""
    for piece in pieces:
        if piece.name not in table.placed and (begin := table.earliest(piece)) is not None:
            table.take(piece, begin)


def placing_of(pieces: Sequence[Piece], table: Table, nights: Sequence[Span], bound: float | None = None) -> Placing:
    """What a table holds, as a placing with its worth."""
    placed = sorted((Placed(piece=n, span=s) for n, s in table.placed.items()), key=lambda p: (p.span.begin, p.piece))
    return Placing(
        placed=tuple(placed),
        left={piece.name: _why_left(table, piece) for piece in pieces if piece.name not in table.placed},
        worth=worth_of(pieces, placed, nights),
        bound=bound,
    )


def _why_left(table: Table, piece: Piece) -> str:
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


class Answer(Record):
    """What a program came to: the night and the place in it (-1:
    any) of each piece, and the most that its worth could be."""

    chosen: dict[str, tuple[int, int]]
    bound: float


def improved(pieces: Sequence[Piece], at_once: AtOnce, nights: Sequence[Span], answer: Answer) -> Placing:
    """An answer laid out; what does not go in where it was meant to goes wherever it does."""
    table = Table(pieces, at_once)
    lay_out(table, nights, answer.chosen)
    fill(table, in_order(pieces))
    return placing_of(pieces, table, nights, answer.bound)


def lay_out(table: Table, nights: Sequence[Span], chosen: Mapping[str, tuple[int, int]]) -> None:
    """Put pieces one after the other into their places; the longest of a night first where no place is given (-1)."""
    free = dict[tuple[int, int], datetime]()
    for piece in in_order([table.pieces[name] for name in chosen], by=_longest):
        night, place = chosen[piece.name]
        since = table.may_begin(piece)
        if since is None:
            continue
        at = max(free.get((night, place), nights[night].begin), since)
        begin = _first_from(table, piece, nights[night], at) if place >= 0 else None
        if begin is None:
            begin = table.earliest(piece, nights[night])
        if begin is not None:
            table.take(piece, begin)
            free[night, place] = max(begin + piece.length, free.get((night, place), begin))


def _first_from(table: Table, piece: Piece, night: Span, at: datetime) -> datetime | None:
    """The first moment of a night from which a piece has room, where that does not collide with what is placed."""
    starts = ((max(at, span.begin), span.end) for span in common(piece.spans, [night]))
    begin = next((start for start, end in starts if start + piece.length <= end), None)
    beside = [(table.pieces[name], span) for name, span in table.placed.items()]
    return begin if begin is not None and table.fits(piece, begin, beside) else None


def site_of(piece: Piece) -> str:
    """The group that at most so many of one site are counted in."""
    return piece.site


def kind_of(piece: Piece) -> str:
    """The group that at most so many of one kind are counted in."""
    return piece.kind


def _longest(piece: Piece) -> tuple[float, float, str]:
    return -piece.length_s, -piece.weight, piece.name


def room_in(piece: Piece, night: Span) -> timedelta:
    """The longest stretch that a piece has in a night."""
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
        found += _by_itself(piece, one.span)
    for name, span in spans.items():
        found += _too_early(known, spans, name, span)
        beside = [other for other, its in spans.items() if its.begin <= span.begin < its.end]
        found += _too_many_beside(known, at_once, name, beside)
    return found


def _by_itself(piece: Piece, span: Span) -> Iterator[str]:
    """What is wrong with one placed piece, whatever lies beside it."""
    if abs(span.length.total_seconds() - piece.length_s) > 1e-3:
        yield f"{piece.name} is given another length than it needs"
    if not any(window.begin <= span.begin and span.end <= window.end for window in piece.spans):
        yield f"{piece.name} lies outside of its windows"


def _too_early(known: Mapping[str, Piece], spans: Mapping[str, Span], name: str, span: Span) -> Iterator[str]:
    for need in known[name].needs:
        ended = spans[need].end + timedelta(seconds=known[need].soak_s) if need in spans else None
        if ended is None or span.begin < ended:
            yield f"{name} begins before {need}, which it needs, has ended"


def _too_many_beside(known: Mapping[str, Piece], at_once: AtOnce, name: str, beside: Sequence[str]) -> Iterator[str]:
    """What may not go on at the moment at which a piece begins: what touches the same system, and too many at once."""
    own = known[name]
    for other in beside:
        if other != name and set(known[other].touches) & set(own.touches):
            yield f"{name} and {other} are worked on at once"
    alike = (
        ("in all", at_once.whole, len(beside)),
        ("of its site", at_once.site, sum(known[other].site == own.site for other in beside)),
        ("of its kind", at_once.kind, sum(known[other].kind == own.kind for other in beside)),
    )
    for what, most, count in alike:
        if most is not None and count > most:
            yield f"when {name} begins, {count} go on at once {what}; {most} may"


def best(placings: Iterable[Placing]) -> Placing:
    """The one that is worth most; the bound of any of them holds for all."""
    every = list(placings)
    bounds = [placing.bound for placing in every if placing.bound is not None]
    top = max(every, key=lambda placing: placing.worth)
    return Placing(placed=top.placed, left=top.left, worth=top.worth, bound=min(bounds, default=None))
