"""What each command that only shows costs on a large estate: its
processor seconds, beside those of opening the same estate.

    python bench/commands.py                # 1,000 nodes of 30 components, then 10,000

The goal is under 2 s of processor time for every command at 1,000
nodes, and under 1 s for `inventory SYSTEM` at 10,000.
"""

from __future__ import annotations

import argparse
import resource
import subprocess
import sys
import tempfile
from datetime import UTC, datetime, timedelta
from pathlib import Path

import msgspec
from short import sized

from gallant.core.catalog.products import Catalog, Package, Product, Release
from gallant.core.readings import Component, Reading
from gallant.core.records import digest
from gallant.store.readings import ReadingStore

COMPONENTS, PRODUCTS, RELEASES = 30, 60, 40
NOW = datetime.now(UTC)
COMMANDS = (
    ("validate", "estate.yaml"),
    ("inventory", "s1"),
    ("inventory",),
    ("inventory", "--json"),
    ("gaps",),
    ("gaps", "--json"),
    ("gaps", "s1"),
    ("route", "s1"),
    ("notice", "list"),
    ("notice", "list", "s1"),
    ("catalog", "list"),
    ("history",),
    ("ledger",),
    ("stock", "list"),
    ("backup", "list"),
)


def product(number: int) -> Product:
    def release(n: int) -> Release:
        package = Package(name=f"p{number}-{n}.pkg", url="x", bytes=1, sha256="0" * 64)
        return Release(
            version=f"{n // 10}.{n % 10}", released=NOW - timedelta(days=5 * (RELEASES - n)), packages=(package,)
        )

    return Product(name=f"t/p{number}", scheme="dotted", releases=tuple(release(n) for n in range(RELEASES)))


def furnish(folder: Path, nodes: int) -> None:
    """An estate, a reading of each of its nodes, and a catalog of everything that they run."""
    rows = "\n".join(
        f"  s{n}: {{product: t/p0, shape: single, site: x, driver: http, profile: ostrel-shoal-mini, "
        f'nodes: {{a: {{address: "https://127.{n // 62500}.{n // 250 % 250}.{n % 250 + 1}", serial: "{n}"}}}}}}'
        for n in range(nodes)
    )
    (folder / "estate.yaml").write_text(f"gallant: estate/1\nname: large\nsites: {{x: {{}}}}\nsystems:\n{rows}\n")
    store = ReadingStore(folder)
    survey = store.begin_survey(NOW)
    for first in range(0, nodes, 500):
        store.add(survey, [(f"s{n}", "a", NOW, reading(n), None) for n in range(first, min(nodes, first + 500))])
    store.end_survey(survey, NOW)
    store.add_source("t", "https://127.0.0.1/catalog.json", "00" * 32, NOW)
    catalog = Catalog(
        schema="gallant.catalog/1",
        publisher="t",
        serial=1,
        issued=NOW,
        expires=NOW + timedelta(days=90),
        products=tuple(product(n) for n in range(PRODUCTS)),
    )
    raw = msgspec.json.encode(catalog)
    store.keep_catalog("t", 1, digest(raw), raw, None, (), NOW)
    store.close()


def reading(number: int) -> Reading:
    parts = tuple(
        Component(
            name="image" if k == 0 else f"c{k}",
            kind="system image" if k == 0 else "NIC",
            product=f"t/p{0 if k == 0 else (number + k) % PRODUCTS}",
            version=f"{(number + k) % 4}.{k % 10}",
        )
        for k in range(COMPONENTS)
    )
    return Reading(
        system=f"s{number}",
        node="a",
        taken=NOW,
        serial=str(number),
        product="t/p0",
        version=parts[0].version,
        boot="1",
        role="alone",
        state="in_service",
        components=parts,
    )


def seconds(folder: Path, *words: str) -> float:
    """Processor seconds of one command, its children's included."""
    before = resource.getrusage(resource.RUSAGE_CHILDREN)
    done = subprocess.run(
        [sys.executable, "-m", "gallant", *words], cwd=folder, capture_output=True, text=True, check=False
    )
    assert done.returncode in (0, 1), f"{words}: {done.returncode} {done.stderr}"
    after = resource.getrusage(resource.RUSAGE_CHILDREN)
    return after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime


def main() -> None:
    options = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    options.add_argument("--nodes", type=int, nargs="*", default=sized([1_000, 10_000], [20]))
    options.add_argument("--short", action="store_true", help="only as large as shows that it runs")
    for nodes in options.parse_args().nodes:
        with tempfile.TemporaryDirectory(prefix="gallant-bench-") as name:
            furnish(Path(name), nodes)
            opening = min(seconds(Path(name), "catalog", "list") for _ in range(2))
            print(
                f"{nodes:,} nodes of {COMPONENTS} components; opening the estate takes {opening:.2f} s of processor time"
            )
            for words in COMMANDS:
                took = seconds(Path(name), *words)
                print(f"  {' '.join(words):<22} {took:6.2f} s   ratio {took / opening:5.1f} to opening it")


if __name__ == "__main__":
    main()
