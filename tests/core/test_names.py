"""A name means one thing: no two classes share theirs, in whatever rooms they are."""

from __future__ import annotations

import ast
from collections import Counter
from pathlib import Path

import gallant

SOURCE = Path(gallant.__file__).parent


def test_no_class_name_is_used_twice():
    trees = (ast.parse(path.read_text()) for path in SOURCE.rglob("*.py"))
    names = Counter(node.name for tree in trees for node in tree.body if isinstance(node, ast.ClassDef))
    assert [name for name, count in names.items() if count > 1] == []
