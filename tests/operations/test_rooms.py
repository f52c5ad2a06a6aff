"""The rooms of operations, views and commands: the same names, and each stands on those below it, types counted."""

from __future__ import annotations

import ast
import tomllib
from pathlib import Path

import pytest

import gallant

HOUSE = Path(gallant.__file__).parent


def order() -> list[str]:
    contracts = tomllib.loads((HOUSE.parents[1] / "pyproject.toml").read_text())["tool"]["importlinter"]["contracts"]
    rooms = next(one["layers"] for one in contracts if "gallant.operations" in one.get("containers", ()))
    return [room.strip("()") for room in rooms]


@pytest.mark.parametrize(
    ("floor", "without"), [("operations", set()), ("views", {"length"}), ("cli", {"length"})], ids=lambda one: str(one)
)
def test_no_room_imports_one_above_it_not_even_for_its_types(floor: str, without: set[str]):
    rooms = order()
    here = HOUSE / floor
    assert {path.name for path in here.iterdir() if (path / "__init__.py").exists()} == set(rooms) - without
    upward = [
        f"{path.relative_to(here)} imports {node.module}"
        for path in here.glob("*/*.py")
        for node in ast.walk(ast.parse(path.read_text()))
        if isinstance(node, ast.ImportFrom)
        and (node.module or "").startswith(f"gallant.{floor}.")
        and rooms.index(node.module.split(".")[2]) < rooms.index(path.relative_to(here).parts[0])
    ]
    assert upward == []
