"""Patterns that people write, on texts that devices and services tell: each look has a time limit, so that no text holds a roll."""

from __future__ import annotations

from functools import lru_cache

import regex

# A pattern gets this long on one device message; a hostile message must not hold a roll.
PATTERN_SECONDS = 0.2


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
