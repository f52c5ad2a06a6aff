"""Records of any kind, built from what their fields may hold: for
tests that care about one thing and need all the rest."""

from __future__ import annotations

import dataclasses
import types
import typing
from collections.abc import Callable, Iterable, Mapping, Sequence
from datetime import UTC, date, datetime, timedelta
from pathlib import Path
from typing import Any, Union, get_args, get_origin

import msgspec

from gallant.core.catalog.products import Package, Product
from gallant.core.estate.accounts import Account
from gallant.core.estate.backups import Backup, Item
from gallant.core.estate.reading import parse_estate
from gallant.core.estate.sources import Access
from gallant.core.estate.systems import Node, System
from gallant.core.readings import Gauge, Reading
from gallant.core.records import replace
from gallant.core.versions import Version, parse

NOW = datetime(2026, 11, 26, tzinfo=UTC)
# What must be right for a record to be built at all, by the field's name.
RIGHT = {
    "range": "vers:dotted/>=1.0",
    "from_range": "vers:dotted/>=1.0",
    "fresh_install": "vers:dotted/>=1.0",
    "scheme": "dotted",
    "when": None,
    "delivery": None,
    "sha256": "0" * 64,
    "severity": "high",
    "restart": "node",
}
# And what is right in the field of one kind alone.
RIGHT_IN: dict[type, dict[str, Any]] = {
    Account: {"secret": "ask"},
    Access: {"proxy": None, "ca": None, "fingerprint": None},
    Package: {"name": "p.pkg"},
    Product: {"name": "t/x", "releases": ()},
    Item: {"name": "a.json", "node": "a"},
    Backup: {"id": "t-1", "system": "t", "archive": "t-1.tar"},
}


def filled(kind: Any, text: str, **said: Any) -> Any:
    """A record of `kind` with `text` in every field that holds text, and something in every other."""
    right = {**RIGHT_IN.get(kind, {}), **said}
    hints = typing.get_type_hints(kind, include_extras=True)
    names = (
        [f.name for f in dataclasses.fields(kind)]
        if dataclasses.is_dataclass(kind)
        else [f.name for f in msgspec.structs.fields(kind)]
    )
    return kind(**{name: right[name] if name in right else _value(hints[name], text, name) for name in names})


def _value(kind: Any, text: str, name: str) -> Any:
    if name in RIGHT and (kind is str or str in get_args(kind)):
        return RIGHT[name]
    origin, arguments = get_origin(kind), get_args(kind)
    if origin is typing.Annotated:
        return _value(arguments[0], text, name)
    if origin in (Union, types.UnionType):
        return _value(next(a for a in arguments if a is not type(None)), text, name)
    if origin is typing.Literal:
        return arguments[0]
    if origin in (tuple, list, Sequence, Iterable):
        inner = [a for a in arguments if a is not Ellipsis]
        return tuple(_value(a, text, "") for a in inner)
    if origin in (dict, Mapping):
        return {_value(arguments[0], text, ""): _value(arguments[1], text, "")}
    if origin is Callable:
        return lambda *_: None
    simple = {
        str: text,
        int: 3,
        float: 1.5,
        bool: True,
        bytes: b"",
        datetime: NOW,
        date: NOW.date(),
        timedelta: timedelta(hours=1),
        Path: Path("a"),
        object: text,
        Any: text,
    }
    if kind in simple:
        return simple[kind]
    if kind is Version:
        return parse("dotted", "1.0")
    if kind is System:
        place = Node(address="https://127.0.0.1", serial=text)
        return System(
            name=text, product=text, shape="pair", site=text, driver="http", profile=text, nodes={text: place}
        )
    if kind is Node:
        return Node(address="https://127.0.0.1", serial=text)
    if hasattr(kind, "_fields"):
        return kind(*(_value(hint, text, field) for field, hint in typing.get_type_hints(kind).items()))
    assert isinstance(kind, type), f"no value for {name}: {kind}"
    return filled(kind, text)


# --- a pair of storage nodes, for everything that needs one

GOOD = """\
gallant: estate/1
name: Skerry Line
sites:
  harbour: {mbit_per_s: 1000}
accounts:
  read: {user: r, secret: "env:READ"}
aims:
  - {for: default, aim: settled 30d}
  - {for: "kind:storage", aim: newest}
  - {for: tickets/b, aim: pin 3.2.4}
systems:
  tickets:
    product: ostrel/shoal
    shape: pair
    site: harbour
    kind: storage
    tags: [prod]
    driver: http
    profile: ostrel-shoal
    nodes:
      a: {address: "https://10.0.0.1", serial: A}
      b: {address: "https://10.0.0.2", serial: B}
    usual: {active: a}
    services:
      blocks: {address: "10.0.1.1:860"}
"""

ESTATE = parse_estate(
    "estate.yaml", GOOD.replace("- {for: tickets/b, aim: pin 3.2.4}", "").replace("aim: newest", "aim: settled 90d")
)
TICKETS = ESTATE.systems["tickets"]


def reading(node: str, **changes) -> Reading:
    made = Reading(
        system="tickets",
        node=node,
        taken=NOW,
        serial=node.upper(),
        product="ostrel/shoal",
        version="2.8.5",
        boot=node,
        role="active" if node == "a" else "standby",
        state="in_service",
        next_version="2.8.5",
        in_sync=True,
        sync_word="matched",
        network="10.0.0.0/24",
        clock_offset_s=0.1,
        clock_uncertainty_s=0.1,
        gauges=(Gauge(name="free space", value=1e9, unit="B"),),
    )
    return replace(made, **changes)


def both(a: dict | None = None, b: dict | None = None) -> dict[str, Reading]:
    return {"a": reading("a", **(a or {})), "b": reading("b", **(b or {}))}


def sealed_backup(**said: Any) -> Backup:
    """A good backup of that pair as it was read."""
    plain = {
        "id": "b",
        "system": "tickets",
        "taken": NOW,
        "by": "t",
        "comment": "",
        "tool": "t",
        "versions": {"a": "2.8.5", "b": "2.8.5"},
        "items": (Item(name="x", node="a", bytes=1, sha256="0"),),
        "archive": "x",
        "bytes": 1,
        "blake3": "0",
        "sealed": NOW,
    }
    return Backup(**{**plain, **said})


def altered(path: Path) -> None:
    """Change the last byte of a file to another one."""
    raw = path.read_bytes()
    path.write_bytes(raw[:-1] + bytes([raw[-1] ^ 1]))
