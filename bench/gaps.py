"""Gaps over 10,000 nodes with 30 components each and 20,000 releases, to merely reading the same rows from the
store."""

from __future__ import annotations

import tempfile
import time
from datetime import UTC, datetime, timedelta
from pathlib import Path

from short import sized

from gallant.core.assess.gaps import find_gaps
from gallant.core.catalog.products import Package, Product, Release
from gallant.core.estate.systems import Aim, Estate, Node, Site, System
from gallant.core.readings import Component, Reading
from gallant.store.readings import ReadingStore

SYSTEMS, COMPONENTS, PRODUCTS, RELEASES = sized(5_000, 50), 30, 200, 100
NOW = datetime(2026, 11, 25, tzinfo=UTC)


def products() -> dict[str, Product]:
    def release(n: int) -> Release:
        package = Package(name=f"p{n}", url="x", bytes=1, sha256="0" * 64)
        return Release(
            version=f"{n // 10}.{n % 10}", released=NOW - timedelta(days=5 * (RELEASES - n)), packages=(package,)
        )

    made = tuple(release(n) for n in range(RELEASES))
    return {f"t/p{i}": Product(name=f"t/p{i}", scheme="dotted", releases=made) for i in range(PRODUCTS)}


def estate() -> Estate:
    systems = {}
    for i in range(SYSTEMS):
        nodes = {
            n: Node(address=f"https://10.{i // 250}.{i % 250}.{k}", serial=f"{i}{n}") for k, n in enumerate("ab", 1)
        }
        systems[f"s{i}"] = System(
            name=f"s{i}", product="t/p0", shape="pair", site="h", driver="http", profile="p", nodes=nodes
        )
    return Estate(
        gallant="estate/1",
        name="large",
        sites={"h": Site()},
        systems=systems,
        aims=(Aim(for_="default", aim="settled 30d"),),
    )


def fill(store: ReadingStore) -> None:
    rows = []
    for i in range(SYSTEMS):
        for node in "ab":
            components = tuple(
                Component(
                    name=f"c{k}", kind="part", product=f"t/p{(i + k) % PRODUCTS}", version=f"{(i + k) % 10}.{k % 10}"
                )
                for k in range(COMPONENTS)
            )
            rows.append(
                (
                    f"s{i}",
                    node,
                    NOW,
                    Reading(
                        system=f"s{i}",
                        node=node,
                        taken=NOW,
                        serial="x",
                        product="t/p0",
                        version="1.0",
                        boot="1",
                        components=components,
                    ),
                    None,
                )
            )
    survey = store.begin_survey(NOW)
    store.add(survey, rows)
    store.end_survey(survey, NOW)


def main() -> None:
    known, large = products(), estate()
    with tempfile.TemporaryDirectory(prefix="gallant-bench-") as folder:
        store = ReadingStore(Path(folder))
        fill(store)
        pairs = []
        for _ in range(3):
            began = time.perf_counter()
            readings = [last.reading for last in store.newest().values() if last.reading is not None]
            reading = time.perf_counter() - began
            began = time.perf_counter()
            found = find_gaps(large, readings, known, NOW)
            pairs.append((reading, time.perf_counter() - began))
        store.close()
    reading, finding = sorted(pairs, key=lambda p: (p[0] + p[1]) / p[0])[1]
    print(f"reading the rows       {reading:6.2f} s   ({len(readings):,} nodes)")
    print(f"finding the gaps       {finding:6.2f} s   ({len(found):,} components)")
    print(f"ratio {(reading + finding) / reading:.2f} (reading and finding, to reading; goal: under 2)")


if __name__ == "__main__":
    main()
