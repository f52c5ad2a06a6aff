"""Placing many systems: piece by piece at once, then as well as programs find it in the time that there is."""

from __future__ import annotations

import os
import sys
import time
from collections.abc import Iterator, Sequence
from contextlib import contextmanager

from gallant.core.errors import GallantError
from gallant.core.length.exchanging import exchanged
from gallant.core.length.placing import AtOnce, Piece, Placing, best, first_fit, improved, nights_of, problems
from gallant.operations.plan.searching import assign

PROGRAM_S = 4.0  # and no more than half of the time
STEPS = 500_000  # exchanges between two looks at the clock
GOOD = 0.003  # so near to the bound that nobody waits for more
TRIES = 8


def place(pieces: Sequence[Piece], at_once: AtOnce, seconds: float) -> Placing:
    """The best placing that is found in about some seconds of the wall's clock; every one was held against all
    rules."""
    nights, until = nights_of(pieces), time.monotonic() + seconds
    found = first_fit(pieces, at_once, nights)
    with _silent():
        answer = assign(pieces, at_once, nights, min(PROGRAM_S, seconds / 2))
    if answer is not None:
        found = best([found, improved(pieces, at_once, nights, answer)])
        for seed in range(TRIES):
            if time.monotonic() > until or found.gap is None or found.gap < GOOD:
                break
            found = exchanged(pieces, at_once, nights, found, STEPS, seed)
    if wrong := problems(pieces, at_once, found.placed):
        raise GallantError(f"No placing that keeps every rule was found: {wrong[0]}.", next="Please report this.")
    return found


@contextmanager
def _silent() -> Iterator[None]:
    """What a solver writes to the standard output by itself goes nowhere: data stands there."""
    sys.stdout.flush()
    kept = os.dup(1)
    nowhere = os.open(os.devnull, os.O_WRONLY)
    try:
        os.dup2(nowhere, 1)
        yield
    finally:
        os.dup2(kept, 1)
        os.close(kept)
        os.close(nowhere)
