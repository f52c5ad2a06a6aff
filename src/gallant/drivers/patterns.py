"""Patterns that people write, on texts that devices and services
tell: each look has a time limit, so that no text holds a roll."""

from __future__ import annotations

import asyncio
from functools import lru_cache

import regex

# A pattern gets this long on one device message; a hostile message must not hold a roll.
PATTERN_SECONDS = 0.2
AT_ONCE_SECONDS = (
    0.002  # what a look may take from everything else that goes on in its loop; a longer one is done beside it
)


@lru_cache(maxsize=1024)
def _compiled(pattern: str) -> regex.Pattern[str]:
    return regex.compile(pattern, flags=regex.MULTILINE)


def searched(pattern: str, text: str) -> regex.Match[str] | None:
    """The first match within the time limit; None where there is none, or where looking takes too long."""
    try:
        return _compiled(pattern).search(text, timeout=PATTERN_SECONDS)
    except TimeoutError:
        return None


def without(patterns: tuple[str, ...], text: str) -> str:
    """The text with what matches left out; as it is where looking takes too long."""
    for pattern in patterns:
        try:
            text = _compiled(pattern).sub("", text, timeout=PATTERN_SECONDS)
        except TimeoutError:
            continue
    return text


def every_match(pattern: str, text: str, most: int = 100_000) -> list[dict[str, str]]:
    """The named groups of every match, as far as the time limit lets; a group that took no part is left out."""
    found: list[dict[str, str]] = []
    try:
        for match in _compiled(pattern).finditer(text, timeout=PATTERN_SECONDS * 10):
            found.append({key: value for key, value in match.groupdict().items() if value is not None})
            if len(found) >= most:
                break
    except TimeoutError:
        pass
    return found


async def begins(pattern: str, text: str) -> bool:
    """Whether a text begins with what a pattern matches (no flags). What takes longer than a moment is looked for on
    another thread, without holding this one. Raises `TimeoutError` where it takes longer than a pattern may."""
    compiled = _plain(pattern)
    try:
        return compiled.match(text, timeout=AT_ONCE_SECONDS) is not None
    except TimeoutError:
        found = await asyncio.to_thread(compiled.match, text, timeout=PATTERN_SECONDS, concurrent=True)
        return found is not None


@lru_cache(maxsize=1024)
def _plain(pattern: str) -> regex.Pattern[str]:
    return regex.compile(pattern)


def groups_in(pattern: str, text: str) -> list[tuple[int, int]]:
    """Where the groups of all matches lie, those that overlap as
    one; raises `TimeoutError` where looking takes too long."""
    spans = sorted(
        match.span(group)
        for match in _plain(pattern).finditer(text, timeout=PATTERN_SECONDS)
        for group in range(1, len(match.groups()) + 1)
        if match.span(group)[0] >= 0
    )
    found = list[tuple[int, int]]()
    for begin, end in spans:
        if found and begin < found[-1][1]:
            found[-1] = (found[-1][0], max(end, found[-1][1]))
        else:
            found.append((begin, end))
    return found
