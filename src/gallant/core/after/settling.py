"""Whether a system is settled after the work: levels and slopes of its numbers, held against the time before.

The slope is Theil's and Sen's: the median of the slopes between every two points, with Sen's interval of 99 % (Sen,
1968, section 5). One wild value moves neither; a number that goes up and down has no slope.
"""

from __future__ import annotations

import itertools
import math
import re
import statistics
from collections.abc import Iterable, Sequence
from functools import lru_cache
from statistics import NormalDist
from typing import TypeAlias

from gallant.core.after.picture import ANSWER, COUNTED, NONE_LEFT, SLOW
from gallant.core.records import Record, replace

SETTLED, ELSEWHERE, SETTLING, CREEPING, RUNNING_OUT, SLOWER = (
    "settled",
    "at another level",
    "still settling",
    "creeping",
    "running out",
    "slower",
)
STATES = (RUNNING_OUT, SLOWER, CREEPING, SETTLING, ELSEWHERE, SETTLED)  # the worst first
AT_REST = (SETTLED, ELSEWHERE)
FEWEST = 5  # points, to tell a slope by
MOST = 200  # points of one number that are looked at: the pairs of more would take seconds
AHEAD_S = 48 * 3600.0  # what would run out later than this is too far to be told by less than an hour of samples
ALL_WRONG = 0.05  # how often, of all numbers of one look together, one that stands still may seem to move
MOST_CORRELATED = 0.95  # from one sample to the next; beyond that half an hour of samples says nothing at all
# A level counts as another when it lies farther off than this part of the one before, and than this much.
APART, APART_PERCENT, APART_S = 0.15, 5.0, 0.05
# What a number comes to its end at, by its unit and its name; others have no end that is known.
_FREE = re.compile(r"(?<![a-z])(?:free|available|left|spare|remaining)(?![a-z])", re.IGNORECASE)
SIZES = ("B", "KiB", "MiB", "GiB", "TiB", "kB", "MB", "GB", "TB")
# Numbers of which more or fewer says nothing about load: they are compared one by one.
_NOT_LEVELS = {name for name, _ in COUNTED} | set(NONE_LEFT)

Point: TypeAlias = tuple[float, float]  # seconds, and the value then


class Series(Record):
    """One number of a node, or of a system's service (`node` empty),
    as it was at some moments (seconds since 1970, ascending)."""

    system: str
    node: str
    about: str
    unit: str
    points: tuple[Point, ...]


class Trend(Record):
    """A robust line: its value at the last point, what it rises by in a second, and within which bounds that slope lies
    in 99 of 100 cases. `follows` is the correlation from one sample to the next of what the line leaves over."""

    level: float
    slope: float
    low: float
    high: float
    follows: float = 0.0

    @property
    def moves(self) -> bool:
        """Whether it rises or falls for certain: its interval lies on one side of zero."""
        return self.low > 0 or self.high < 0


class Judged(Record):
    """One number after the work. `before` is its level in the time before, None where that is not known; `wait_s` how
    long it still takes to settle, or until it has run out; `per_h` what it rises by in an hour, and within what that
    lies in 99 of 100 cases (None: not known); `as_before`: it moved so before the work already."""

    system: str
    node: str
    about: str
    unit: str
    state: str
    before: float | None
    now: float
    per_h: float = 0.0
    least_per_h: float | None = None
    most_per_h: float | None = None
    wait_s: float | None = None
    as_before: bool = False


def trend(points: Sequence[Point], among: int = 1, follows: float = 0.0) -> Trend:
    """The line through some points. Raises `ValueError` for none. `among` is how many numbers
    are looked at beside each other: of forty that stand still one moves by chance at a level of
    one in forty, so each is held to a stricter one (Bonferroni, at 5 % for all of them).

    What follows from one sample to the next is taken out before the bounds are looked for
    (pre-whitening, von Storch 1995), else noise that drifts for a while looks like a movement.
    `follows` is how much does at least, where a longer series of the same number told.
    """
    if not points:
        raise ValueError("no points")
    points = _thinned(points)
    slopes = _slopes(points)
    if not slopes:
        return Trend(level=statistics.median(v for _, v in points), slope=0.0, low=-math.inf, high=math.inf)
    slope = statistics.median(slopes)
    last = points[-1][0]
    level = statistics.median(value + slope * (last - at) for at, value in points)
    r = max(follows, _correlation([value - slope * (at - last) for at, value in points]))
    low, high = bounds(points, among)
    if r > 0:  # and never narrower than of independent samples: a short series can be so by chance
        own = bounds([(b[0], (b[1] - r * a[1]) / (1 - r)) for a, b in itertools.pairwise(points)], among)
        low, high = min(low, own[0]), max(high, own[1])
    return Trend(level=level, slope=slope, low=low, high=high, follows=r)


def _slopes(points: Sequence[Point]) -> list[float]:
    return sorted((b[1] - a[1]) / (b[0] - a[0]) for a, b in itertools.combinations(points, 2) if b[0] != a[0])


def bounds(points: Sequence[Point], among: int) -> tuple[float, float]:
    """Sen's interval: the slopes at which a rank sum would be as far off as it may by chance."""
    slopes = _slopes(points)
    n, count = len(points), len(slopes)
    ties = sum(_ties(k) for k in _repeats(value for _, value in points))
    width = _z(among) * math.sqrt(max(0.0, _ties(n) - ties) / 18)
    low, high = (count - width) / 2, (count + width) / 2
    if n < FEWEST or low < 1 or high > count:
        return -math.inf, math.inf
    return slopes[max(0, math.floor(low) - 1)], slopes[min(count - 1, math.ceil(high))]


@lru_cache(maxsize=256)
def _z(among: int) -> float:
    """The quantile of a two-sided interval at 99 %, or stricter where many are looked at."""
    return NormalDist().inv_cdf(1 - min(0.01, ALL_WRONG / max(1, among)) / 2)


def _correlation(left: Sequence[float]) -> float:
    """From one sample to the next, of what a line leaves over; mended for what a fitted line and a short series take
    away (Marriott and Pope 1954). What chance alone makes of independent samples counts as none."""
    n = len(left)
    mean = sum(left) / n
    off = [value - mean for value in left]
    squares = sum(value * value for value in off)
    if n < FEWEST or squares <= 0:
        return 0.0
    raw = sum(a * b for a, b in itertools.pairwise(off)) / squares
    r = raw + (2 + 4 * raw) / n
    return min(MOST_CORRELATED, r) if r > 1 / math.sqrt(n) else 0.0


def judge(before: Series | None, after: Series, among: int = 1) -> Judged:
    """What has become of one number since the time before. Its level is that of
    the later half of the points: the earlier may still belong to the work."""
    follows = _follows(before, after)
    whole = trend(after.points, among, follows)
    now = trend(_later(after.points), among, whole.follows)
    base, tolerance = _base(before, after)
    span = after.points[-1][0] - after.points[0][0]
    goes_on = now.moves or (now.slope * whole.slope > 0 and abs(now.slope) >= abs(whole.slope) / 2)
    moves = whole.moves and goes_on and abs(now.slope) * span >= tolerance / 20
    state, wait_s = _moving(after, base, now, tolerance, span) if moves else (SETTLED, None)
    as_before = moves and before is not None and _was_so(before, whole)
    if state == CREEPING and as_before:
        state = SETTLED
    return Judged(
        system=after.system,
        node=after.node,
        about=after.about,
        unit=after.unit,
        state=_at_rest(after, base, now.level, tolerance) if state == SETTLED and not as_before else state,
        before=base,
        now=now.level,
        per_h=now.slope * 3600,
        least_per_h=_in_an_hour(now.low),
        most_per_h=_in_an_hour(now.high),
        wait_s=wait_s,
        as_before=as_before,
    )


def _in_an_hour(slope: float) -> float | None:
    return slope * 3600 if math.isfinite(slope) else None


def _follows(before: Series | None, after: Series) -> float:
    """How much of a sample followed from the one before it in the
    time before, where that was sampled at about the same pace."""
    if before is None or len(before.points) < 2 * FEWEST:
        return 0.0
    paces = [statistics.median(b[0] - a[0] for a, b in itertools.pairwise(s.points)) for s in (before, after)]
    return trend(before.points).follows if 0.5 <= paces[0] / paces[1] <= 2 else 0.0


def _moving(after: Series, base: float | None, now: Trend, tolerance: float, span: float) -> tuple[str, float | None]:
    """What a number that moves is on its way to, and how long that takes."""
    decay = _decay(after.points)
    off = 0.0 if base is None else now.level - base
    back = abs(off) > tolerance and off * now.slope < 0
    if decay is not None:  # to its level before, or to another one
        wait = _until_flat(now.slope * math.exp(-decay * span / 4), decay, tolerance)
        return (SETTLING, wait) if wait > 0 else (SETTLED, None)
    if back:
        return SETTLING, (abs(off) - tolerance) / abs(now.slope)
    if not steady(after.points):
        return SETTLED, None
    end = end_of(after)
    left = (end - now.level) / now.slope if end is not None else -1.0
    if 0 <= left <= AHEAD_S:
        return RUNNING_OUT, left
    return (CREEPING if base is None or abs(off) > tolerance else SETTLED), None


def judge_all(before: Iterable[Series], after: Iterable[Series]) -> list[Judged]:
    """Every number that was sampled often enough, the worst first."""
    known = {(s.system, s.node, s.about): s for s in before if s.points}
    looked_at = [s for s in after if len(s.points) >= FEWEST and s.about not in _NOT_LEVELS]
    found = [judge(known.get((s.system, s.node, s.about)), s, len(looked_at)) for s in looked_at]
    return sorted(found, key=_rank)


def judge_twice(before: Iterable[Series], first: Iterable[Series], second: Sequence[Series]) -> list[Judged]:
    """Every number by two stretches that follow one another. That something runs out is
    said of what does so over both, and moves that way in the second by itself: one stretch
    of noise that drifts is soon found among forty numbers, two of them are not."""
    again = {(s.system, s.node, s.about): trend(s.points, len(second)) for s in second if s.points}
    every = judge_all(before, joined(first, second))
    return sorted((_confirmed(one, again.get((one.system, one.node, one.about))) for one in every), key=_rank)


def joined(first: Iterable[Series], second: Iterable[Series]) -> list[Series]:
    """The numbers of two stretches, those of the first followed by those of the second."""
    points = {(s.system, s.node, s.about, s.unit): list(s.points) for s in first}
    for s in second:
        points.setdefault((s.system, s.node, s.about, s.unit), []).extend(s.points)
    return [
        Series(system=system, node=node, about=about, unit=unit, points=tuple(own))
        for (system, node, about, unit), own in points.items()
    ]


def _confirmed(one: Judged, second: Trend | None) -> Judged:
    if one.state != RUNNING_OUT or (second is not None and second.moves and second.slope * one.per_h > 0):
        return one
    return replace(one, state=CREEPING, wait_s=None)


def _rank(one: Judged) -> tuple[int, str, str, str]:
    return STATES.index(one.state), one.system, one.node, one.about


def end_of(series: Series) -> float | None:
    """The value at which there is no more of it; None where that is not known."""
    if _FREE.search(series.about):
        return 0.0 if series.unit == "%" or series.unit in SIZES else None
    return 100.0 if series.unit == "%" else None


def _base(before: Series | None, after: Series) -> tuple[float | None, float]:
    """The level before, and how far from it still counts as the same."""
    values = [value for _, value in before.points] if before is not None else []
    base = None
    if before is not None and values:
        old, last = trend(before.points), before.points[-1][0]
        if old.moves:  # then it is where it had come to, and its noise is what the line leaves over
            values = [value + old.slope * (last - at) for at, value in before.points]
        base = old.level if old.moves else statistics.median(values)
    noise = 3 * 1.4826 * _spread(values) if len(values) >= FEWEST else 0.0
    scale = abs(base) if base is not None else abs(statistics.median(v for _, v in after.points))
    least = {"%": APART_PERCENT, "s": APART_S}.get(after.unit, 1e-9)
    return base, max(APART * scale if after.unit != "%" else 0.0, least, noise)


def _at_rest(after: Series, base: float | None, level: float, tolerance: float) -> str:
    """What a number that does not move any more has come to."""
    if base is None:
        return SETTLED
    if after.about.startswith(ANSWER):  # that it is quicker is no news
        return SLOWER if level > max(SLOW * base, base + APART_S) else SETTLED
    return ELSEWHERE if abs(level - base) > tolerance else SETTLED


def _spread(values: Sequence[float]) -> float:
    middle = statistics.median(values)
    return statistics.median(abs(value - middle) for value in values)


def _later(points: Sequence[Point]) -> Sequence[Point]:
    return points[-max(FEWEST, len(points) // 2) :]


def _decay(points: Sequence[Point]) -> float | None:
    """By what share a second the movement slows down; None where it goes
    on as it was. By the slopes of the first and the second half."""
    half = len(points) // 2
    if half < 3:
        return None
    first, second = trend(points[:half]).slope, trend(points[half:]).slope
    if first * second < 0 or first == 0:
        return None
    between = (points[half][0] + points[-1][0] - points[0][0] - points[half - 1][0]) / 2
    if abs(second) > abs(first) / 1.5 or between <= 0:
        return None
    return math.log(abs(first) / max(abs(second), abs(first) / 1000)) / between


def steady(points: Sequence[Point]) -> bool:
    """Whether a movement goes one way all along, not up and down: each third of it lies a step on from the one
    before."""
    cuts = [round(n * len(points) / 3) for n in range(4)]
    first, second, third = (statistics.median(v for _, v in points[a:b]) for a, b in itertools.pairwise(cuts))
    one, two = second - first, third - second
    return one * two > 0 and min(abs(one), abs(two)) > abs(one + two) / 5


def _until_flat(slope: float, decay: float, tolerance: float) -> float:
    """Seconds until what is still to come of a movement that slows down is less than the tolerance."""
    to_come = abs(slope) / decay
    return max(0.0, math.log(max(to_come / tolerance, 1.0)) / decay)


def _was_so(before: Series, now: Trend) -> bool:
    """Whether the number moved the same way, and about as fast, in the time before."""
    if len(before.points) < FEWEST:
        return False
    old = trend(before.points)
    return old.moves and old.low <= now.high and now.low <= old.high


def _ties(n: int) -> int:
    return n * (n - 1) * (2 * n + 5)


def _repeats(values: Iterable[float]) -> list[int]:
    counts: dict[float, int] = {}
    for value in values:
        counts[value] = counts.get(value, 0) + 1
    return [count for count in counts.values() if count > 1]


def _thinned(points: Sequence[Point]) -> Sequence[Point]:
    step = len(points) / MOST
    return points if step <= 1 else [points[int(n * step)] for n in range(MOST - 1)] + [points[-1]]


def words_of(one: Judged) -> str:
    """What has become of a number, for a ledger or a message."""
    whose = f"{one.system}/{one.node}" if one.node else one.system
    wait = "" if one.wait_s is None else f", {'in ' if one.state == RUNNING_OUT else ''}about {_long(one.wait_s)}"
    before = "" if one.before is None else f", {valued(one.before, one.unit)} before"
    as_before = ", as before the work" if one.as_before else ""
    return f"{one.state}: {whose} {one.about}{wait} ({valued(one.now, one.unit)} now{before}){as_before}"


def _long(seconds: float) -> str:
    return f"{max(1, round(seconds / 60))} min" if seconds < 90 * 60 else f"{seconds / 3600:.0f} h"


def valued(value: float, unit: str) -> str:
    """A number with its unit, as people read it: bytes as GB, seconds of an answer as ms."""
    if unit == "s" and value < 10:
        return f"{value * 1000:.0f} ms"
    if unit == "B":
        for size, name in ((1e12, "TB"), (1e9, "GB"), (1e6, "MB"), (1e3, "kB")):
            if abs(value) >= size:
                return f"{value / size:.3g} {name}"
    return f"{value:.3g} {unit}".rstrip() if unit != "%" else f"{value:.0f} %"
