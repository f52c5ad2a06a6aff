"""Secrets that a driver has used, found in whatever a device says."""

from __future__ import annotations

from functools import lru_cache

import msgspec

from gallant.core.records import clean

SHORTEST_SECRET = 4  # a shorter one would mask half of every text


@lru_cache(maxsize=1024)
def needles(secrets: frozenset[str]) -> tuple[str, ...]:
    """What must not be in any text: each secret, also as it is in a text that was cleaned; the longest first."""
    every = {form for secret in secrets for form in (secret, clean(secret, len(secret)))}
    return tuple(sorted((form for form in every if len(form) >= SHORTEST_SECRET), key=lambda f: (-len(f), f)))


@lru_cache(maxsize=1024)
def encoded_needles(secrets: frozenset[str]) -> tuple[bytes, ...]:
    return tuple(msgspec.json.encode(form)[1:-1] for form in needles(secrets))
