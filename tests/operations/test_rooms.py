"""The rooms of the operations: each stands on those below it, types counted."""

from __future__ import annotations

import ast
import tomllib
from pathlib import Path

import gallant

ROOT = Path(gallant.__file__).parents[2]
ROOMS = Path(gallant.__file__).parent / "operations"


def order() -> list[str]:
    contracts = tomllib.loads((ROOT / "pyproject.toml").read_text())["tool"]["importlinter"]["contracts"]
    return next(one["layers"] for one in contracts if one.get("containers") == ["gallant.operations"])


def test_no_room_imports_one_above_it_not_even_for_its_types():
    rooms = order()
    assert {path.name for path in ROOMS.iterdir() if (path / "__init__.py").exists()} == set(rooms)
    upward = [
        f"{path.relative_to(ROOMS)} imports {node.module}"
        for path in ROOMS.rglob("*.py")
        for node in ast.walk(ast.parse(path.read_text()))
        if isinstance(node, ast.ImportFrom)
        and (node.module or "").startswith("gallant.operations.")
        and rooms.index(node.module.split(".")[2]) < rooms.index(path.relative_to(ROOMS).parts[0])
    ]
    assert upward == []
