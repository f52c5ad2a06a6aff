"""The order over 60 products in rule-chains of depth 4, 40 releases each, to reading the same catalogs from their
JSON."""

from __future__ import annotations

import itertools
import time
from datetime import UTC, datetime

import msgspec
from short import sized

from gallant.core.assess.compat import Rule, Task, find_order
from gallant.core.catalog.products import Minutes, Package, Product, Release

DEPTH, CHAINS, RELEASES = 4, sized(15, 2), 40
THEN = datetime(2026, 1, 1, tzinfo=UTC)


def product(name: str) -> Product:
    """Ten trains of four releases; a train is entered from the last release of the one before it."""
    releases = []
    for n in range(RELEASES):
        train, place = divmod(n, 4)
        from_range = f"vers:dotted/>={train - 1}.3" if train else None
        releases.append(
            Release(
                version=f"{train}.{place}",
                released=THEN,
                from_range=from_range,
                minutes=Minutes(install=10 + n % 3),
                packages=(Package(name=f"p{n}", url="x", bytes=1, sha256="0" * 64),),
            )
        )
    return Product(name=f"t/{name}", scheme="dotted", releases=tuple(releases))


def main() -> None:
    tasks, rules = [], []
    for chain in range(CHAINS):
        names = [f"c{chain}-{level}" for level in range(DEPTH)]
        tasks += [Task(system=name, product=product(name), running="0.0", target="9.3") for name in names]
        for upper, lower in itertools.pairwise(
            names
        ):  # a host may be one train ahead of its manager at most, and two behind
            for train in range(1, 10):
                rules.append(
                    Rule(
                        system=lower,
                        when=f"vers:dotted/>={train}.0|<{train + 1}.0",
                        other=upper,
                        range=f"vers:dotted/>={train}.0",
                    )
                )
                rules.append(
                    Rule(
                        system=upper,
                        when=f"vers:dotted/>={train}.0|<{train + 1}.0",
                        other=lower,
                        range=f"vers:dotted/>={max(0, train - 2)}.0",
                    )
                )
    raw = [msgspec.json.encode(task.product) for task in tasks]
    began = time.perf_counter()
    for one in raw:
        msgspec.json.decode(one, type=Product)
    reading = time.perf_counter() - began
    began = time.perf_counter()
    order = find_order(tasks, rules)
    took = time.perf_counter() - began
    assert not order.conflicts
    print(f"reading the catalogs   {reading:6.3f} s")
    print(f"finding the order      {took:6.3f} s   ({len(order.hops)} hops, {len(rules)} rules)")
    print(f"ratio {took / reading:.1f}")


if __name__ == "__main__":
    main()
