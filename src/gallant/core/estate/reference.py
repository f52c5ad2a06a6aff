"""The reference of `estate.yaml`, made from the records that read it:
`python -m gallant.core.estate.reference > docs/estate.md`."""

from __future__ import annotations

import inspect
from collections.abc import Iterator
from datetime import datetime
from types import NoneType, UnionType
from typing import Annotated, Any, Literal, Union, cast, get_args, get_origin

import msgspec

from gallant.core.estate.systems import DRIVERS, GENERIC_PROFILES, Estate
from gallant.core.records import Record
from gallant.core.shapes import SHAPES

HEAD = """\
# estate.yaml, field by field

Made from the records that read it; every other key is an error, told with its place by `gallant validate estate.yaml`.
`gallant init` writes a first one with comments, `gallant add` a device's block into it. What has no default has to be
there.

`include: [systems/*.yaml]` reads more files of the folder as if they stood in the first one: each may have `sites`,
`systems`, `accounts`, `declared`, `catalogs`, `approval`, `aims`, `defaults`, `rules`, `notes`, `rounds`, `events`,
`notify`, `windows` and `blackouts`. Lists are joined in the order of the files' names; no name stands twice.
"""
# What is Gallant's own word and never stands in a file.
OURS = {"Node": ("held_by",), "WindowRule": ("events",), "System": ("name",)}
ONE_OF = {
    ("System", "shape"): tuple(SHAPES),
    ("System", "driver"): DRIVERS,
    ("Default", "shape"): tuple(SHAPES),
    ("Default", "driver"): DRIVERS,
}
TOLD = {
    ("System", "profile"): f"the one for its driver ({', '.join(f'{d}: {p}' for d, p in GENERIC_PROFILES.items())})"
}
PLAIN = {str: "text", int: "whole number", float: "number", bool: "yes or no", datetime: "day or time"}


def reference() -> str:
    """The whole page."""
    return "\n".join([HEAD, *(line for kind in _kinds(Estate) for line in _section(kind))])


def _kinds(kind: type[Record]) -> Iterator[type[Record]]:
    """A record and those in it, each once, in the order in which they come up."""
    found: dict[type[Record], None] = {kind: None}
    waiting = [kind]
    while waiting:
        here = waiting.pop(0)
        for field in _fields(here):
            for inner in _records_in(field.type):
                if inner not in found:
                    found[inner] = None
                    waiting.append(inner)
    yield from found


def _fields(kind: type[Record]) -> Iterator[msgspec.structs.FieldInfo]:
    yield from (f for f in msgspec.structs.fields(cast(Any, kind)) if f.name not in OURS.get(kind.__name__, ()))


def _records_in(kind: object) -> Iterator[type[Record]]:
    if isinstance(kind, type) and issubclass(kind, msgspec.Struct):
        yield cast(type[Record], kind)
    for inner in get_args(kind):
        yield from _records_in(inner)


def _section(kind: type[Record]) -> Iterator[str]:
    name = "The whole file" if kind is Estate else kind.__name__
    yield f"\n## {name}\n"
    yield " ".join((inspect.getdoc(kind) or "").split())
    yield "\n| key | what | default |\n|---|---|---|"
    for field in _fields(kind):
        key, known = field.encode_name, (kind.__name__, field.name)
        what = " or ".join(f"`{word}`" for word in ONE_OF[known]) if known in ONE_OF else _words(field.type)
        yield f"| `{key}` | {what} | {TOLD.get(known) or _default(field)} |"


def _words(kind: object) -> str:
    origin, inner = get_origin(kind), get_args(kind)
    if origin is Annotated:
        return _words(inner[0]) + _bounds(inner[1:])
    if origin in (Union, UnionType):
        return " or ".join(dict.fromkeys(_words(one) for one in inner if one is not NoneType))
    if origin is Literal:
        return " or ".join(f"`{word}`" for word in inner)
    if origin is dict:
        return f"names, each {_words(inner[1])}"
    if origin in (tuple, list, frozenset):
        return f"list of {_words(inner[0])}"
    if isinstance(kind, type) and issubclass(kind, msgspec.Struct):
        return f"[{kind.__name__}](#{kind.__name__.casefold()})"
    return PLAIN.get(cast(type, kind), "text")


def _bounds(marks: tuple[object, ...]) -> str:
    told = [
        f"{word} {value:g}"
        for mark in marks
        for word, value in (
            ("from", getattr(mark, "ge", None)),
            ("above", getattr(mark, "gt", None)),
            ("to", getattr(mark, "le", None)),
        )
        if value is not None
    ]
    return f", {' '.join(told)}" if told else ""


def _default(field: msgspec.structs.FieldInfo) -> str:
    if field.required:
        return ""
    value = field.default_factory() if field.default is msgspec.NODEFAULT else field.default
    if value is None or value in ("", (), {}):
        return "none"
    if isinstance(value, bool):
        return "yes" if value else "no"
    return (
        "as below"
        if isinstance(value, msgspec.Struct)
        else f"`{value:g}`"
        if isinstance(value, float)
        else f"`{value}`"
    )


if __name__ == "__main__":
    print(reference())
