"""200 systems into 12 windows: the worth of the placing that is found, as a share of the bound that no placing exceeds;
how long that takes, to the first placing piece by piece."""

from __future__ import annotations

import random
import time
from datetime import UTC, datetime, timedelta

from short import sized

from gallant.core.length.placing import AtOnce, Piece, first_fit, nights_of
from gallant.core.windows.rules import Span
from gallant.operations.plan.placing import place

SYSTEMS, WINDOWS, AT_ONCE = sized(200, 40), sized(12, 4), 4
THEN = datetime(2026, 12, 1, 22, tzinfo=UTC)
SECONDS = sized(15.0, 3.0)


def pieces(seed: int) -> list[Piece]:
    """Five sites whose windows are some of the nights; a system in ten
    needs another one first; more work than all windows hold."""
    lots = random.Random(seed)
    nights = [
        Span(begin=THEN + timedelta(days=3 * n), end=THEN + timedelta(days=3 * n, hours=lots.choice([4, 5, 6])))
        for n in range(WINDOWS)
    ]
    sites = {f"site-{n}": [night for night in nights if lots.random() < 0.7] or nights for n in range(5)}
    found = list[Piece]()
    for n in range(SYSTEMS):
        site = lots.choice(sorted(sites))
        found.append(
            Piece(
                name=f"s{n}",
                site=site,
                kind=lots.choice(["storage", "network", "platform"]),
                length_s=lots.randrange(25, 170) * 60,
                spans=tuple(sites[site]),
                needs=(f"s{lots.randrange(n)}",) if n and lots.random() < 0.1 else (),
                touches=(f"s{n}",),
                weight=lots.choice([1.0, 2.0, 4.0, 8.0]),
            )
        )
    return found


def main() -> None:
    at_once = AtOnce(whole=AT_ONCE)
    for seed in range(sized(3, 1)):
        every = pieces(seed)
        nights = nights_of(every)
        began = time.perf_counter()
        first = first_fit(every, at_once, nights)
        greedy_s = time.perf_counter() - began
        began = time.perf_counter()
        found = place(every, at_once, SECONDS)
        whole_s = time.perf_counter() - began
        assert found.bound is not None
        print(
            f"seed {seed}: {len(found.placed)} of {len(every)} systems in {len(nights)} windows, worth {found.worth / found.bound:.4f} of the bound "
            f"(goal 0.98), piece by piece {first.worth / found.bound:.4f}; {whole_s:.1f} s (goal 20) and {greedy_s:.2f} s, ratio {whole_s / greedy_s:.0f}"
        )


if __name__ == "__main__":
    main()
