"""Parse once, compare keys: sorting 100,000 mixed versions from their texts, to sorting versions parsed beforehand.

The ratio is what parsing costs on top of the order itself; a comparer that parsed at every comparison would pay it some
seventeen times over (the third line, measured on a part and scaled by n log n).
"""

from __future__ import annotations

import functools
import math
import random
import time

from short import sized

from gallant.core.versions import SCHEMES, parse

COUNT = sized(100_000, 4_000)


def texts(scheme: str, count: int, chance: random.Random) -> list[str]:
    def one() -> str:
        base = f"{chance.randrange(1, 20)}.{chance.randrange(40)}.{chance.randrange(60)}"
        tail = {
            "dotted": ["", "b", "-mend2", "p12", " (4711)", "-rc1", ".4"],
            "deb": ["-1", "~rc1-1", "+b1", "-1x2"],
            "rpm": ["-1", "~rc1-2", "^git1-1", "-3.z9"],
            "semver": ["", "-rc.1", "-beta.11+x"],
        }[scheme]
        return base + chance.choice(tail)

    return [one() for _ in range(count)]


def main() -> None:
    chance = random.Random(4)
    mixed = {scheme: texts(scheme, COUNT // len(SCHEMES), chance) for scheme in SCHEMES}

    def sort_texts() -> None:
        parse.cache_clear()
        for scheme, some in mixed.items():
            sorted(some, key=lambda text: parse(scheme, text).key)

    keys = {scheme: [parse(scheme, text).key for text in some] for scheme, some in mixed.items()}

    def sort_keys() -> None:
        for some in keys.values():
            sorted(some)

    def timed(work: object, times: int = 5) -> float:
        taken = []
        for _ in range(times):
            began = time.perf_counter()
            work()  # type: ignore[operator]
            taken.append(time.perf_counter() - began)
        return sorted(taken)[times // 2]

    pairs = [(timed(sort_texts, 1), timed(sort_keys, 1)) for _ in range(5)]
    ratio = sorted(a / b for a, b in pairs)[2]
    part = mixed["dotted"][:1000]

    def sort_by_comparing() -> None:
        raw = SCHEMES["dotted"]
        sorted(part, key=functools.cmp_to_key(lambda a, b: (raw(a) > raw(b)) - (raw(a) < raw(b))))

    naive = timed(sort_by_comparing, 1) * COUNT * math.log(COUNT) / (len(part) * math.log(len(part)))
    print(f"sorting {COUNT:,} texts         {sorted(a for a, _ in pairs)[2]:6.2f} s")
    print(f"sorting their parsed keys     {sorted(b for _, b in pairs)[2]:6.2f} s")
    print(f"parsing at every comparison   {naive:6.2f} s (scaled)")
    print(f"ratio {ratio:.1f}")


if __name__ == "__main__":
    main()
