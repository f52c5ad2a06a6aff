"""An estate's file read: `parse_estate` turns its text into an `Estate`, or raises every problem of the file at once.
An estate's file read: `parse_estate` turns its text into an `Estate`, or raises every problem of the file at once."""

from __future__ import annotations

from collections.abc import Mapping

import msgspec

from gallant.core.documents import Document, Invalid, Problem, document_of
from gallant.core.estate.accounts import Account
from gallant.core.estate.gathering import Gathered, Reader, no_files
from gallant.core.estate.systems import GENERIC_PROFILES, Default, Estate, Site, System
from gallant.core.estate.wrong import look_for_names
from gallant.core.records import Record, replace
from gallant.core.terms import matches, parse_term


def parse_estate(name: str, text: str | bytes | Document, read: Reader = no_files) -> Estate:
    """The estate that `text` declares, with the files that it includes (`read` gives
    them); raises `Invalid` with every problem, each in the file where it stands."""
    document = document_of(name, text)
    if document.values is None:
        raise Invalid(name, [Problem(1, 1, "empty; gallant init writes a commented one")])
    if isinstance(document.values, dict):
        document = gathered = Gathered(document, read)
        if gathered.values.get("systems", 0) is None:
            gathered.values["systems"] = {}  # a heading below which nothing stands yet
        fill_in(gathered.values)
        for key in ("windows", "blackouts"):
            if isinstance(name_of := gathered.values.get(key), str):
                gathered.values[key] = [{"for": "*", "file": name_of}]
    estate = document.convert(Estate) or _what_converts(document)
    if estate is not None:
        estate = replace(estate, systems={key: _named(system, key) for key, system in estate.systems.items()})
        look_for_names(document, estate)
    document.finish()
    assert estate is not None  # without a problem noted, the file converted
    return estate


def fill_in(values: dict[str, object]) -> None:
    """Give each system what the defaults say and it does not; what is no system or no default is left to be told."""
    defaults, systems = values.get("defaults"), values.get("systems")
    if not isinstance(defaults, list) or not isinstance(systems, dict):
        return
    right = [_right_of(default) for default in defaults if isinstance(default, dict)]
    for name, system in systems.items():
        if isinstance(system, dict):
            systems[name] = filled = dict(system)
            for default in right:
                if _is_for(default.get("for"), filled):
                    _fill_one(filled, default)


def _right_of(default: Mapping[str, object]) -> dict[str, object]:
    """What of a default is right in itself; the rest is told at its own place, and not at every system's."""
    terms = default.get("for")
    return {field: value for field, value in default.items() if _converts({"for": terms, field: value})}


def _converts(value: object) -> bool:
    try:
        msgspec.convert(value, Default)
    except msgspec.ValidationError:
        return False
    return True


def _is_for(terms: object, system: Mapping[str, object]) -> bool:
    """Whether all of a default's terms hold for a system, as far as that says by now what it is."""
    if not isinstance(terms, str):
        return False
    tags = system.get("tags")
    so_far = _SoFar(
        site=str(system.get("site", "")),
        kind=str(system.get("kind", "")),
        tags=tuple(map(str, tags)) if isinstance(tags, list) else (),
    )
    try:
        return all(matches(parse_term(term), so_far) for term in terms.split())
    except ValueError:
        return False


class _SoFar(Record):
    """What a system's block says by now."""

    site: str
    kind: str
    tags: tuple[str, ...]
    name: str = ""


def _fill_one(system: dict[str, object], default: Mapping[str, object]) -> None:
    for field, value in default.items():
        if field == "node":
            _fill_nodes(system, value)
        elif field == "accounts" and isinstance(value, dict) and isinstance(own := system.get(field, {}), dict):
            system[field] = {**value, **own}
        elif field not in ("for", "known"):
            system.setdefault(field, value)


def _fill_nodes(system: dict[str, object], default: object) -> None:
    nodes = system.get("nodes")
    if isinstance(default, dict) and isinstance(nodes, dict):
        pinned = {key: value for key, value in default.items() if key != "ca"}  # and so held against no CA file
        system["nodes"] = {
            name: {**(pinned if "fingerprint" in node else default), **node} if isinstance(node, dict) else node
            for name, node in nodes.items()
        }


def _named(system: System, name: str) -> System:
    return replace(system, name=name, profile=system.profile or GENERIC_PROFILES.get(system.driver, ""))


def _what_converts(document: Document) -> Estate | None:
    """The estate without the records that are wrong in themselves, so that wrong names in the others are found too."""
    values = document.values
    if not isinstance(values, dict):
        return None
    kinds: dict[str, type] = {"sites": Site, "systems": System, "accounts": Account}
    kept: dict[str, object] = {"gallant": values.get("gallant", "estate/1"), "name": str(values.get("name", ""))}
    for field, kind in kinds.items():
        entries = values.get(field, {})
        entries = entries if isinstance(entries, dict) else {}
        kept[field] = {k: v for k, v in entries.items() if document.converts(kind, v) is not None or kind is Site}
    if isinstance(kept["sites"], dict):
        kept["sites"] = {name: {} for name in kept["sites"]}  # only their names matter from here on
    return document.converts(Estate, kept)
