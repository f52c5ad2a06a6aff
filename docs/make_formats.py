"""The part of docs/formats.md that says what each command lists, from the records of its rows."""

from __future__ import annotations

import ast
import importlib
import pkgutil
import sys
import textwrap
from collections.abc import Iterator
from pathlib import Path
from types import ModuleType

from gallant.core.records import Record
from gallant.views.ground.parts import Listed
from gallant.views.ground.rows import Counts, Says

PAGE = Path(__file__).with_name("formats.md")
BEGIN, END = "<!-- rows: made from the records by make docs -->\n", "<!-- rows end -->\n"
ROOMS = ("setup", "assess", "catalogs", "decide", "keep", "checks", "plan", "roll", "after")


def listings() -> Iterator[tuple[Listed[object], type, ModuleType]]:
    """Each listing of the views with the record of its rows, room by room, as its modules have them."""
    for room in ROOMS:
        package = importlib.import_module(f"gallant.views.{room}")
        for found in pkgutil.iter_modules(package.__path__):
            module = importlib.import_module(f"{package.__name__}.{found.name}")
            for name, annotation in getattr(module, "__annotations__", {}).items():
                if annotation.startswith("Listed["):
                    word = annotation.removeprefix("Listed[").removesuffix("]")
                    yield getattr(module, name), named(module, word), module


def named(module: ModuleType, name: str) -> type:
    """What a name means in a module, types that it imports for its annotations alone counted."""
    if (here := vars(module).get(name)) is not None:
        return here
    source = ast.parse(Path(str(module.__file__)).read_text())
    for node in ast.walk(source):
        if isinstance(node, ast.ImportFrom) and name in {alias.name for alias in node.names}:
            return getattr(importlib.import_module(str(node.module)), name)
    raise LookupError(f"{module.__name__} has no {name}")


def fields(kind: type) -> list[str]:
    """Each field of a record as a list has it: its name, its unit, and what it says where its name is not enough."""
    told = []
    for name, written in names(kind).items():
        home = next(c for c in kind.__mro__ if name in vars(c).get("__annotations__", {}))
        notes = list(_notes(vars(home)["__annotations__"][name], sys.modules[home.__module__]))
        told.append(written + (f" ({'; '.join(notes)})" if notes else ""))
    return told


def names(kind: type) -> dict[str, str]:
    """A record's fields by their names, as they are written."""
    return dict(zip(kind.__struct_fields__, kind.__struct_encode_fields__, strict=True))


def _notes(annotation: object, module: ModuleType) -> Iterator[str]:
    """The units and the words in a field's annotation, and the fields of the record that it is made of."""
    nodes = [
        node for node in ast.walk(ast.parse(str(annotation), mode="eval")) if isinstance(node, (ast.Name, ast.Call))
    ]
    units, words, inner = [], [], []
    for node in nodes:
        if isinstance(node, ast.Call) and isinstance(node.func, ast.Name):
            value = ast.literal_eval(node.args[0])
            (units if node.func.id == Counts.__name__ else words).append(value)
        elif isinstance(node, ast.Name) and node.id not in (Counts.__name__, Says.__name__):
            meant = vars(module).get(node.id) or _maybe(module, node.id)
            units += [one.word for one in getattr(meant, "__metadata__", ()) if isinstance(one, Counts)]
            if isinstance(meant, type) and issubclass(meant, Record):
                inner.append(", ".join(names(meant).values()))
    yield from (*units, *words, *inner)


def _maybe(module: ModuleType, name: str) -> object:
    try:
        return named(module, name)
    except LookupError:  # a type of the language, such as str
        return None


def table() -> str:
    """All listings: what a command prints, what its rows are, their fields, and what is told besides."""
    alike: dict[type, list[Listed[object]]] = {}
    for listing, kind, _ in listings():
        alike.setdefault(kind, []).append(listing)
    return "".join(_told(kind, own) for kind, own in alike.items())


def _told(kind: type, own: list[Listed[object]]) -> str:
    """The listings whose rows are alike, as one entry of a list."""
    commands = "; ".join(f"`{one.command}` ({one.schema})" for one in own)
    beside = dict.fromkeys(name for one in own for name in one.beside)
    headings = {heading: field for one in own for heading, field in one.headings.items()}
    lines = [f"- {commands}: {_said(kind)}", f"  Fields: {', '.join(fields(kind))}."]
    if beside:
        lines.append(f"  Besides the rows: {', '.join(beside)}.")
    if headings:
        named_so = ", ".join(f"`{heading}` is {field}" for heading, field in headings.items())
        lines.append(f"  On the screen: {named_so}.")
    return "\n".join(textwrap.fill(line, 140, subsequent_indent="  ", break_long_words=False) for line in lines) + "\n"


def _said(kind: type) -> str:
    """The first paragraph of what a record's docstring says."""
    return " ".join((kind.__doc__ or "").strip().split("\n\n")[0].split())


def page() -> str:
    """docs/formats.md with its listings as the records are now."""
    before, _, rest = PAGE.read_text().partition(BEGIN)
    return before + BEGIN + table() + END + rest.partition(END)[2]


if __name__ == "__main__":
    PAGE.write_text(page())
