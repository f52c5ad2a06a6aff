"""Break the engine, the order, plans and guards in many ways, one by one, and see whether any related test notices.

    python -m tests.mutants --count 150 --seed 1        # as `make mutants`

Whatever lives is listed with its place; each is killed by a test, or shown to be the same program, in docs/proof.md.
"""

from __future__ import annotations

import argparse
import ast
import copy
import math
import os
import random
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path
from xml.etree import ElementTree

from coverage import CoverageData

ROOT = Path(__file__).parents[1]
SOURCE = ROOT / "src" / "gallant"
TARGETS = (
    *(f"engine/{name}.py" for name in ("attempt", "looking", "waiting", "own_work", "reconcile", "ends", "guards", "roll", "rounds", "watch", "journal", "overseer", "stages", "soak", "known")),
    *(f"core/{path.parent.name}/{path.name}" for room in ("plan", "steps") for path in sorted((SOURCE / "core" / room).glob("[a-z]*.py"))),
    *(f"core/plan/back/{name}.py" for name in ("lane", "making", "order", "pieces")),
    *(f"core/{name}.py" for name in ("decide/consents", "decide/due", "length/placing", "length/patience")),
    "engine/turn.py",
    "core/after/settling.py",
    "core/outages.py",
    "core/shapes.py",
    "core/estate/capacity.py",
)  # fmt: skip
# The tests that are asked; each mutant meets those of them that come to its line, the quickest first.
TESTS = (
    "tests/engine",
    "tests/core",
    "tests/simulation",
)  # fmt: skip
NOT_ASKED = "not killed_anywhere and not killed_at_any_instant and not is_caught and not byte_for_byte"
ENOUGH_S = 60  # of the quickest tests that come to a line; what lives then meets all of them with --all
LEAST_S = (
    60  # tests with a change in them have this, and three times as long as they took without; what hangs is noticed
)
COMPARED: dict[type[ast.cmpop], type[ast.cmpop]] = {
    ast.Lt: ast.LtE,
    ast.LtE: ast.Lt,
    ast.Gt: ast.GtE,
    ast.GtE: ast.Gt,
    ast.Eq: ast.NotEq,
    ast.NotEq: ast.Eq,
    ast.In: ast.NotIn,
    ast.NotIn: ast.In,
    ast.Is: ast.IsNot,
    ast.IsNot: ast.Is,
}
# What is easily taken for something else: planned for observed, stale for fresh, an outcome for one that is well.
TAKEN_FOR = {
    "done": "outcome",
    "expected": "readings",
    "readings": "before",
    "version": "next_version",
    "next_version": "version",
    "estimate_s": "deadline_s",
    "deadline_s": "estimate_s",
    "from_": "to",
    "to": "from_",
    "began": "ended",
    "ended": "began",
    "begin": "end",
    "end": "begin",
    "taken": "now",
    "intent": "outcome",
    "seconds": "measured",
    "measured": "seconds",
    "least": "most",
    "most": "least",
}
OTHER_END = {"min": "max", "max": "min", "any": "all", "all": "any"}


@dataclass(frozen=True)
class Mutant:
    """One change: the file, the line, the n-th place of it that could be changed, and in words what is changed."""

    file: str
    line: int
    place: int
    words: str


class Changing(ast.NodeTransformer):
    """Counts the places that could be changed, and changes the one that is asked for."""

    def __init__(self, wanted: int = -1) -> None:
        self.wanted, self.count = wanted, 0
        self.found: list[tuple[int, str]] = []

    def _here(self, node: ast.AST, words: str) -> bool:
        self.found.append((getattr(node, "lineno", 0), words))
        self.count += 1
        return self.count - 1 == self.wanted

    def visit_FunctionDef(self, node: ast.FunctionDef) -> ast.AST:
        return self._of_function(node)

    def visit_AsyncFunctionDef(self, node: ast.AsyncFunctionDef) -> ast.AST:
        return self._of_function(node)

    def _of_function(self, node: ast.FunctionDef | ast.AsyncFunctionDef) -> ast.AST:
        node.body = [self.visit(one) for one in node.body]  # not its annotations and defaults
        return node

    def visit_Compare(self, node: ast.Compare) -> ast.AST:
        self.generic_visit(node)
        for at, op in enumerate(node.ops):
            other = COMPARED.get(type(op))
            if other is not None and self._here(node, f"{ast.unparse(node)}: {type(op).__name__} → {other.__name__}"):
                node.ops[at] = other()
        return node

    def visit_BoolOp(self, node: ast.BoolOp) -> ast.AST:
        self.generic_visit(node)
        if self._here(node, f"{ast.unparse(node)[:100]}: and ↔ or"):
            node.op = ast.Or() if isinstance(node.op, ast.And) else ast.And()
        return node

    def visit_UnaryOp(self, node: ast.UnaryOp) -> ast.AST:
        self.generic_visit(node)
        if isinstance(node.op, ast.Not) and self._here(node, f"{ast.unparse(node)[:100]}: without not"):
            return node.operand
        return node

    def visit_Constant(self, node: ast.Constant) -> ast.AST:
        if isinstance(node.value, bool):
            if self._here(node, f"{node.value} → {not node.value}"):
                return ast.copy_location(ast.Constant(not node.value), node)
        elif isinstance(node.value, int) and self._here(node, f"{node.value} → {node.value + 1}"):
            return ast.copy_location(ast.Constant(node.value + 1), node)
        return node

    def visit_If(self, node: ast.If) -> ast.AST:
        self.generic_visit(node)
        if self._here(node, f"if {ast.unparse(node.test)[:100]}: never"):
            node.test = ast.Constant(False)
        return node

    def visit_Raise(self, node: ast.Raise) -> ast.AST:
        return (
            ast.copy_location(ast.Pass(), node) if self._here(node, f"{ast.unparse(node)[:100]}: not raised") else node
        )

    def visit_Expr(self, node: ast.Expr) -> ast.AST:
        if isinstance(node.value, ast.Constant):
            return node  # words for people
        self.generic_visit(node)
        if isinstance(node.value, (ast.Await, ast.Call)) and self._here(node, f"{ast.unparse(node)[:100]}: left out"):
            return ast.copy_location(ast.Pass(), node)
        return node

    def visit_Call(self, node: ast.Call) -> ast.AST:
        self.generic_visit(node)
        name = node.func.id if isinstance(node.func, ast.Name) else ""
        if name in OTHER_END and self._here(node, f"{ast.unparse(node)[:80]}: {OTHER_END[name]}"):
            node.func = ast.copy_location(ast.Name(OTHER_END[name], ast.Load()), node.func)
        plain = len(node.args) > 1 and not any(isinstance(one, ast.Starred) for one in node.args[:2])
        if (
            plain
            and name not in ("isinstance", "range", *OTHER_END)
            and self._here(node, f"{ast.unparse(node)[:80]}: swapped")
        ):
            node.args[:2] = reversed(node.args[:2])
        return node

    def visit_Attribute(self, node: ast.Attribute) -> ast.AST:
        self.generic_visit(node)
        other = TAKEN_FOR.get(node.attr) if isinstance(node.ctx, ast.Load) else None
        if other is not None and self._here(node, f"{ast.unparse(node)[:80]}: {other}"):
            node.attr = other
        return node

    def visit_Subscript(self, node: ast.Subscript) -> ast.AST:
        """The first for the last, the earliest for the latest."""
        ends = {"0": "-1", "-1": "0"}
        there = ast.unparse(node.slice)
        self.generic_visit(node)
        if there in ends and self._here(node, f"{ast.unparse(node)[:80]}: [{ends[there]}]"):
            node.slice = ast.parse(ends[there], mode="eval").body
        return node

    def visit_For(self, node: ast.For) -> ast.AST:
        self.generic_visit(node)
        if self._here(node, f"for … in {ast.unparse(node.iter)[:80]}: without the first"):
            node.iter = _without_the_first(node.iter)
        return node

    def visit_comprehension(self, node: ast.comprehension) -> ast.AST:
        self.generic_visit(node)
        if not node.is_async and self._here(node.iter, f"… in {ast.unparse(node.iter)[:80]}: without the first"):
            node.iter = _without_the_first(node.iter)
        if node.ifs and self._here(node.ifs[0], f"for … if {ast.unparse(node.ifs[0])[:80]}: whatever"):
            node.ifs = []
        return node


def _without_the_first(what: ast.expr) -> ast.expr:
    return ast.parse(f"list({ast.unparse(what)})[1:]", mode="eval").body


def every_mutant() -> Iterator[Mutant]:
    for file in TARGETS:
        tree = ast.parse((ROOT / "src/gallant" / file).read_text())
        looking = Changing()
        looking.visit(tree)
        for place, (line, words) in enumerate(looking.found):
            yield Mutant(file, line, place, words)


class Touched:
    """Which tests come to which line, and how long each of them takes:
    from one run of all of them, kept in `kept` for the next time."""

    def __init__(self, folder: Path, jobs: int, kept: Path) -> None:
        data, times = kept / "touched", kept / "times.xml"
        if not times.exists():
            kept.mkdir(parents=True, exist_ok=True)
            _pytest(folder, None, "-n", str(jobs), "--cov=src/gallant", "--cov-context=test", "--cov-report=", f"--junitxml={times}", "-m", "not long and not alone and not machines", "-k", NOT_ASKED, *TESTS, COVERAGE_FILE=str(data))  # fmt: skip
        cases = ElementTree.parse(times).iter("testcase")
        self.seconds = {(case.get("classname", ""), case.get("name", "")): float(case.get("time", 0)) for case in cases}
        self._data = CoverageData(str(data))
        self._data.read()
        self._files = {file.partition("/src/gallant/")[2]: file for file in self._data.measured_files()}
        self._of: dict[str, dict[int, list[str]]] = {}

    def by(self, mutant: Mutant, source: str) -> list[str]:
        """The tests that come to the statement of `mutant`, the quickest first; all that come to its file where it is
        read once, when it is imported."""
        if mutant.file not in self._of:
            self._of[mutant.file] = self._data.contexts_by_lineno(self._files[mutant.file])
        of = self._of[mutant.file]
        first, last = _statement(source, mutant.line)
        contexts = {context for line in range(first, last + 1) for context in of.get(line, ())}
        if not contexts or "" in contexts:
            contexts = {context for line in of.values() for context in line}
        return sorted({context.partition("|")[0] for context in contexts if context}, key=self.takes)

    def takes(self, test: str) -> float:
        file, _, name = test.partition("::")
        return self.seconds.get((file.removesuffix(".py").replace("/", "."), name), 1.0)


def _statement(source: str, line: int) -> tuple[int, int]:
    """First and last line of the innermost statement around a line; of one with a body, of its head."""
    found = (line, line)
    for node in ast.walk(ast.parse(source)):  # outer ones come first
        if isinstance(node, ast.stmt) and node.lineno <= line <= (node.end_lineno or node.lineno):
            body = getattr(node, "body", None)
            last = max(node.lineno, body[0].lineno - 1) if body else node.end_lineno or node.lineno
            found = (node.lineno, last) if line <= last else found
    return found


def lives(mutant: Mutant, folder: Path, touched: Touched, enough_s: float) -> bool:
    """Whether the tests that come to it, the quickest up to `enough_s`,
    pass with the change; `folder` holds a copy of all of it."""
    target = folder / "src/gallant" / mutant.file
    source = target.read_text()  # as it was when the places were counted
    tests, spent = list[str](), 0.0
    for test in touched.by(mutant, source):
        if spent < enough_s:
            tests.append(test)
            spent += touched.takes(test)
    tree = Changing(mutant.place).visit(copy.deepcopy(ast.parse(source)))
    target.write_text(ast.unparse(ast.fix_missing_locations(tree)))
    (folder / "chosen").write_text("\n".join(tests))
    try:
        return not tests or _pytest(
            folder, LEAST_S + 3 * spent, "-x", "-p", "no:xdist", "--hypothesis-profile=at_once", "@chosen"
        )
    finally:
        target.write_text(source)


def _pytest(folder: Path, longest_s: float | None, *words: str, **environ: str) -> bool:
    """Whether these tests pass in time."""
    try:
        done = subprocess.run(
            [sys.executable, "-m", "pytest", "-q", "-p", "no:cacheprovider", *words],
            cwd=folder,
            env={**os.environ, "PYTHONPATH": str(folder / "src"), **environ},
            capture_output=True,
            timeout=longest_s,
            check=False,
        )
    except subprocess.TimeoutExpired:
        return False
    return done.returncode == 0


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--count", type=int, default=150)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--jobs", type=int, default=2)
    parser.add_argument("--all", action="store_true", help="every test that comes to its line, however long they take")
    parser.add_argument("--kept", type=Path, metavar="FOLDER", help="where it is kept which test comes to which line")
    parser.add_argument(
        "--at", default="", metavar="FILE:LINE[PLACE],…", help="these alone, as they are listed where they live"
    )
    parser.add_argument("--skip", type=int, default=0, help="leave out the first so many of them")
    parser.add_argument("--only", default="", metavar="FILE", help="of this file alone, as engine/known.py")
    said = parser.parse_args()
    every = [mutant for mutant in every_mutant() if mutant.file.startswith(said.only)]
    chosen = random.Random(said.seed).sample(every, min(said.count, len(every)))[said.skip :]
    if said.at:
        wanted = said.at.split(",")
        chosen = [mutant for mutant in every if f"{mutant.file}:{mutant.line}[{mutant.place}]" in wanted]
    alive, free = list[Mutant](), list[Path]()
    with tempfile.TemporaryDirectory() as top:
        for job in range(said.jobs):
            folder = Path(top) / str(job)
            for name in ("src", "tests"):
                shutil.copytree(ROOT / name, folder / name, ignore=shutil.ignore_patterns("__pycache__"))
            for name in ("pyproject.toml", "docs", "README.md", "CHANGELOG.md"):
                (folder / name).symlink_to(ROOT / name)
            free.append(folder)

        touched = Touched(free[0], said.jobs, said.kept or Path(top) / "kept")
        print(f"{len(touched.seconds)} tests, {sum(touched.seconds.values()):.0f} s of them", flush=True)

        def one(mutant: Mutant) -> bool:
            folder = free.pop()
            try:
                return lives(mutant, folder, touched, math.inf if said.all else ENOUGH_S)
            finally:
                free.append(folder)

        with ThreadPoolExecutor(said.jobs) as pool:
            for number, (mutant, survived) in enumerate(zip(chosen, pool.map(one, chosen), strict=True), 1):
                if survived:
                    alive.append(mutant)
                    print(f"lives: {mutant.file}:{mutant.line}[{mutant.place}] {mutant.words}", flush=True)
                if number % 10 == 0:
                    print(f"{number} tried, {len(alive)} live", flush=True)
    print(f"{len(chosen)} mutants, {len(chosen) - len(alive)} killed, {len(alive)} live")
    return 1 if alive else 0


if __name__ == "__main__":
    sys.exit(main())
