"""Conditions on a reading: does a known issue, or a recall, concern this node?

A condition is a VERS range over the running version, or a JMESPath expression that yields true or
false over what is known of a node (`facts_of` in core/estate/facts.py). The answer has three
values: what is not in the reading is not known, and that is never taken for no. So the connectives
and comparisons are judged here, by Kleene's tables, and only their operands by the library.
"""

from __future__ import annotations

from collections.abc import Mapping
from functools import lru_cache
from typing import Any, TypeAlias, cast

from gallant.core.records import clean
from gallant.core.versions import Version, parse_range

Tree: TypeAlias = dict[str, Any]  # a condition as the library parses it

# A condition is a sentence, not a program.
LONGEST = 1000
FactsByName = Mapping[str, object]


def check_condition(text: str) -> None:
    """Raises ValueError for a text that is not a condition."""
    if len(text) > LONGEST:
        raise ValueError(f"a condition is no longer than {LONGEST} characters")
    if text.startswith("vers:"):
        parse_range(text)
    else:
        _parsed(text)


@lru_cache(maxsize=1024)
def _parsed(text: str) -> Tree:
    import jmespath

    try:
        return dict(jmespath.compile(text).parsed)
    except jmespath.exceptions.JMESPathError as error:
        raise ValueError(f"{clean(text, 60)!r} is no JMESPath: {str(error).splitlines()[0]}") from None
    except RecursionError:
        raise ValueError("a condition is not nested so deep") from None


def holds(text: str | None, facts: FactsByName, running: Version | None) -> bool | None:
    """Whether the condition holds (no condition always does); None where the reading does not tell."""
    if text is None:
        return True
    if text.startswith("vers:"):
        return None if running is None else running in parse_range(text)
    return _truth(_parsed(text), facts)


def _truth(node: Tree, facts: FactsByName) -> bool | None:
    kind, children = node["type"], node.get("children", [])
    if kind == "not_expression":
        inner = _truth(children[0], facts)
        return None if inner is None else not inner
    if kind in ("and_expression", "or_expression"):
        decides = kind == "or_expression"  # one true decides an or, one false an and, whatever the other is
        sides = [_truth(child, facts) for child in children]
        return decides if decides in sides else (None if None in sides else not decides)
    if kind == "comparator" and any(c["type"] != "literal" and _value(c, facts) is None for c in children):
        return None
    found = _value(node, facts)
    return None if found is None else bool(found)


def _value(node: Tree, facts: FactsByName) -> object:
    from jmespath.exceptions import JMESPathError
    from jmespath.visitor import TreeInterpreter

    try:
        return TreeInterpreter().visit(cast(Any, node), facts)
    except (JMESPathError, RecursionError, TypeError, ValueError, ArithmeticError):
        return None  # a function that was handed nothing, or something else than it wants: not known
