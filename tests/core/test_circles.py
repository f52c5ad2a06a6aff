"""No two modules need one another: neither when they are loaded, nor later, nor for their types."""

from __future__ import annotations

import ast
from graphlib import CycleError, TopologicalSorter
from pathlib import Path

import gallant

SOURCE = Path(gallant.__file__).parent
MODULES = {
    ".".join(("gallant", *path.relative_to(SOURCE).with_suffix("").parts)).removesuffix(".__init__"): path
    for path in SOURCE.rglob("*.py")
}


def needs(path: Path) -> set[str]:
    """The modules that a file imports, wherever in it."""
    found = (node for node in ast.walk(ast.parse(path.read_text())) if isinstance(node, ast.ImportFrom))
    named = {f"{node.module}.{one.name}": node.module or "" for node in found for one in node.names}
    return {full if full in MODULES else module for full, module in named.items()} & MODULES.keys()


def test_there_is_no_circle_of_imports():
    sorter = TopologicalSorter({name: needs(path) - {name} for name, path in MODULES.items()})
    try:
        sorter.prepare()
    except CycleError as error:
        raise AssertionError(" needs ".join(error.args[1][::-1])) from None
