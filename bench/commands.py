"""What each command that only shows costs on a large estate: its processor seconds, as ratios to opening the same
estate and reading its newest readings in the same run, and how they grow.

    python bench/commands.py                # 1,000, 3,000 and 10,000 nodes of 30 components

Goals are for 10,000 nodes. The exit code is 1 where a command grows faster than the estate by more than the power 1.15.
"""

from __future__ import annotations

import argparse
import math
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
# Each command with its goal, as a ratio at 10,000 nodes.
COMMANDS: tuple[tuple[tuple[str, ...], float | None], ...] = (
    (("validate", "estate.yaml"), None),
    (("inventory", "s1"), 0.7),
    (("inventory",), 1.5),
    (("inventory", "--json"), 2.0),
    (("gaps",), 1.6),
    (("gaps", "--json"), 2.5),
    (("gaps", "s1"), 0.7),
    (("route", "s1"), 0.7),
    (("notice", "list"), 1.8),
    (("notice", "list", "s1"), 0.7),
    (("windows",), 1.5),
    (("due", "--list"), 1.5),
    (("catalog", "list"), None),
    (("history",), None),
    (("ledger",), None),
    (("stock", "list"), None),
    (("backup", "list"), None),
)
MOST_GROWTH = 1.15  # the power with which a command may grow
OPENING = """
from pathlib import Path
from gallant.operations.ground.last import last_readings
from gallant.operations.ground.workplace import Workplace
place = Workplace(Path("."), None)
assert place.products
last_readings(place, [])
"""


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
    """Processor seconds of one command, its children's included; the better of two."""
    return min(_seconds(folder, "-m", "gallant", *words) for _ in range(2))


def _seconds(folder: Path, *words: str) -> float:
    before = resource.getrusage(resource.RUSAGE_CHILDREN)
    done = subprocess.run([sys.executable, *words], cwd=folder, capture_output=True, text=True, check=False)
    assert done.returncode in (0, 1), f"{words}: {done.returncode} {done.stderr}"
    after = resource.getrusage(resource.RUSAGE_CHILDREN)
    return after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime


def growth(sizes: list[int], took: list[float]) -> float:
    """The power with which it grows: the slope of a line through (log size, log seconds)."""
    x, y = [math.log(n) for n in sizes], [math.log(max(t, 0.01)) for t in took]
    middle_x, middle_y = sum(x) / len(x), sum(y) / len(y)
    along = sum((a - middle_x) ** 2 for a in x)
    return sum((a - middle_x) * (b - middle_y) for a, b in zip(x, y, strict=True)) / along if along else 0.0


def main() -> int:
    options = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    options.add_argument("--nodes", type=int, nargs="*", default=sized([1_000, 3_000, 10_000], [20]))
    options.add_argument("--short", action="store_true", help="only as large as shows that it runs")
    sizes = options.parse_args().nodes
    every: dict[tuple[str, ...], list[float]] = {words: [] for words, _ in COMMANDS}
    for nodes in sizes:
        with tempfile.TemporaryDirectory(prefix="gallant-bench-") as name:
            furnish(Path(name), nodes)
            seconds(Path(name), "notice", "list")  # the first time, what is seen first is written down
            opening = min(_seconds(Path(name), "-c", OPENING) for _ in range(3))
            print(f"{nodes:,} nodes of {COMPONENTS} components; opening and reading: {opening:.2f} s of processor time")
            for words, goal in COMMANDS:
                took = seconds(Path(name), *words)
                every[words].append(took)
                told = f"   goal {goal}" if goal is not None and nodes == 10_000 else ""
                print(f"  {' '.join(words):<22} {took:6.2f} s   ratio {took / opening:5.2f}{told}")
    fast = {words: power for words, took in every.items() if (power := growth(sizes, took)) > MOST_GROWTH}
    for words, power in fast.items():
        print(f"{' '.join(words)} grows with the power {power:.2f} of the nodes; {MOST_GROWTH} at most")
    return 1 if fast else 0


if __name__ == "__main__":
    sys.exit(main())
