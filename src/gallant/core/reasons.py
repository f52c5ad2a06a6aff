"""Why something is impossible, in as few words as there are: sets of
rules that bar it, each without a rule that is not needed."""

from __future__ import annotations

from collections.abc import Callable, Hashable, Sequence
from typing import TypeVar

R = TypeVar("R", bound=Hashable)
MOST_REASONS = 4


def reasons(every: Sequence[R], bars: Callable[[Sequence[R]], bool]) -> list[list[R]]:
    """Parts of `every` that bar by themselves, none of whose rules could be left out; `bars` holds for the whole.

    Where there is only one, dropping any rule of it makes the thing possible. Where there are
    more, one alone does not say what to do: for each rule of the first that is not enough to
    drop, a reason without that rule is found too (no more than `MOST_REASONS` in all).
    """
    found = [_irreducible(every, bars)]
    for rule in found[0]:
        others = [one for one in every if one != rule]
        if len(found) < MOST_REASONS and bars(others) and not any(rule not in known for known in found[1:]):
            found.append(_irreducible(others, bars))
    return found


def _irreducible(every: Sequence[R], bars: Callable[[Sequence[R]], bool]) -> list[R]:
    """Rules are left out in halves first, so that few are tried one by one."""
    kept, size = list(every), max(1, len(every) // 2)
    while True:
        at = 0
        while at < len(kept):
            fewer = kept[:at] + kept[at + size :]
            if bars(fewer):
                kept = fewer
            else:
                at += size
        if size == 1:
            return kept
        size //= 2
