"""Text to records, with positions: every error of a file in one run, each as file:line:column.

YAML is read as a tree of nodes that keep their places; values are converted by the record types themselves. Only when
the whole does not convert is it walked field by field, so a right file pays nothing for the messages of a wrong one.
"""

from __future__ import annotations

import difflib
import gc
import itertools
import re
import types
import typing
from collections.abc import Callable, Iterable, Iterator, Sequence, Set
from datetime import UTC, datetime
from functools import lru_cache
from typing import Any, TypeVar, Union, get_args, get_origin

import msgspec
import yaml

from gallant.core.errors import WrongUse
from gallant.core.records import YEARS, clean

T = TypeVar("T")
Path = tuple[str | int, ...]

# A file that people write by hand is small; anything larger is a mistake or an attack.
LARGEST_BYTES = 64 * 1024 * 1024
MOST_VALUES = 400_000  # an estate of ten thousand nodes has half of them
DEEPEST = 64
MOST_PROBLEMS = 50  # that are told with their places; of the rest it is said how many there are
MOST_COUNTED = 1_000  # problems, after which nothing further is looked at
MOST_HELP = 10  # problems that come with help for the spelling
LONGEST_WORD = 60  # that help is given for
LARGEST_NUMBER = 2**63
_BASE: Any = getattr(yaml, "CSafeLoader", yaml.SafeLoader)


class _LOADER(_BASE):  # type: ignore[misc]
    """The library's own tree of nodes, with the tag of a plain word
    found in one step: half the time of a file goes there."""

    def resolve(self, kind: type[yaml.Node], value: str, implicit: tuple[bool, bool]) -> str:
        if kind is not yaml.ScalarNode:
            return _OF_KIND[kind]
        if implicit[0]:
            for tag, pattern in self.yaml_implicit_resolvers.get(value[:1], ()):
                if pattern.match(value):
                    return str(tag)
        return _STR


_NUMBER = re.compile(r"[-+]?[0-9]+(\.[0-9]*)?([eE][-+]?[0-9]{1,3})?|[-+]?\.[0-9]+([eE][-+]?[0-9]{1,3})?", re.ASCII)
_PREFIX = "tag:yaml.org,2002:"
_STR, _SEQ, _MAP = (f"{_PREFIX}{name}" for name in ("str", "seq", "map"))
_OF_KIND: dict[type[yaml.Node], str] = {yaml.SequenceNode: _SEQ, yaml.MappingNode: _MAP}
_BOOLS = {"yes": True, "no": False, "true": True, "false": False, "on": True, "off": False}


def _wrong(node: yaml.Node, message: str) -> yaml.constructor.ConstructorError:
    return yaml.constructor.ConstructorError(None, None, message, node.start_mark)


def _number(node: yaml.Node) -> object:
    text = node.value
    if _NUMBER.fullmatch(text) is None:
        return text
    whole = text.lstrip("+-").isdigit()
    found = float(text) if not whole or len(text) > 25 else int(text)
    if abs(found) >= LARGEST_NUMBER:
        raise _wrong(node, "a number that large is none here")
    return found


def _truth(node: yaml.Node) -> object:
    return _BOOLS.get(node.value.lower(), node.value)


def _moment(node: yaml.ScalarNode) -> object:
    try:
        found = yaml.constructor.SafeConstructor().construct_yaml_timestamp(node)
    except (ValueError, OverflowError, AttributeError):
        raise _wrong(node, "no day and no time that there is") from None
    if found.year not in YEARS:
        raise _wrong(node, f"a time in the years {YEARS[0]} to {YEARS[-1]}")
    return found if isinstance(found, datetime) else datetime(found.year, found.month, found.day, tzinfo=UTC)


# Values are as JSON has them: decimal numbers within bounds, and a plain day as its beginning in UTC. Whatever only
# looks like a number, as 1:59 does to YAML 1.1, is a text.
_SCALARS: dict[str, Callable[[yaml.ScalarNode], object]] = {
    f"{_PREFIX}null": lambda node: None,
    f"{_PREFIX}int": _number,
    f"{_PREFIX}float": _number,
    f"{_PREFIX}bool": _truth,
    f"{_PREFIX}timestamp": _moment,
}


def _is_plain(node: yaml.Node) -> bool:
    """Whether the tag is one that such a node has without anybody writing it."""
    if isinstance(node, yaml.ScalarNode):
        return node.tag == _STR or node.tag in _SCALARS
    return node.tag == _OF_KIND[type(node)]


def _value(node: yaml.Node) -> object:
    """What a tree of plain nodes says; its depth was looked at before."""
    if isinstance(node, yaml.ScalarNode):
        made = _SCALARS.get(node.tag)
        return node.value if made is None else made(node)
    if isinstance(node, yaml.MappingNode):
        return {_value(key): _value(value) for key, value in node.value}
    return [_value(item) for item in node.value]


class Problem(msgspec.Struct, frozen=True):
    """One thing wrong with a file, at a 1-based line and column."""

    line: int
    column: int
    message: str


class Invalid(WrongUse):
    """A file with problems, all of them listed in `problems` and in `what`, one a line."""

    def __init__(self, name: str, problems: Sequence[Problem], more: int = 0, *, left: bool = False) -> None:
        """`more` is how many problems there are besides those that are told; `left`: the rest was not looked at."""
        self.name = name
        self.problems = sorted(problems, key=lambda p: (p.line, p.column))
        self.lines = [f"{name}:{p.line}:{p.column}: {p.message}" for p in self.problems]
        if more:
            words = f"and {more:,} more problem{'s' * (more > 1)}"
            self.lines.append(f"{name}: {words}; {'the rest was not looked at' if left else 'these are the first'}")
        super().__init__("\n".join(self.lines), next=f"Mend it, then: gallant validate {name}")

    @classmethod
    def together(cls, name: str, several: Sequence[Invalid]) -> Invalid:
        """The problems of several files that are read as one, `name` the first of them."""
        found = cls(name, [problem for one in several for problem in one.problems])
        found.lines = [line for one in several for line in one.lines]
        found.what = "\n".join(found.lines)
        found.args = (found.what,)
        return found


def suggestion(word: object, known: Iterable[str]) -> str:
    """` (did you mean …?)` when something known is close, else nothing."""
    close = near(word, known)
    return f" (did you mean {close}?)" if close is not None else ""


def near(word: object, known: Iterable[str]) -> str | None:
    """What of the known words is most likely meant."""
    if len(text := str(word)) > LONGEST_WORD:
        return None
    alike = [name for name in known if abs(len(name) - len(text)) <= LONGEST_WORD]
    close = difflib.get_close_matches(text, sorted(alike) if isinstance(known, Set) else alike, n=1, cutoff=0.6)
    return close[0] if close else None


def _below(node: yaml.Node, part: str | int, key: bool) -> yaml.Node | None:
    """What a table has under a name (or the name itself, where `key`), or a list at a place."""
    if isinstance(node, yaml.MappingNode):
        pair = next((pair for pair in node.value if pair[0].value == str(part)), None)
        found: yaml.Node | None = None if pair is None else pair[0] if key else pair[1]
        return found
    if isinstance(node, yaml.SequenceNode) and isinstance(part, int) and part < len(node.value):
        item: yaml.Node = node.value[part]
        return item
    return None


class Document:
    """One parsed file: its plain values, and where each of them stands."""

    def __init__(self, name: str, text: str | bytes) -> None:
        """Parse YAML (or JSON, which is YAML). Raises `Invalid` when it cannot be parsed or repeats a key."""
        self.name = name
        self.problems: list[Problem] = []
        self.more = 0
        self._helped = 0
        if len(text) > LARGEST_BYTES:
            raise Invalid(name, [Problem(1, 1, f"larger than {LARGEST_BYTES // 1024 // 1024} MiB")])
        collecting = gc.isenabled()
        # allocating many small nodes makes the collector run for nothing; a 5,000-node file loads 5x faster
        gc.disable()
        try:
            self._count(text)
            loader = _LOADER(text)
            try:
                self.root: yaml.Node | None = loader.get_single_node()
                self._look_at_keys()
                self.finish()
                self.values: object = None if self.root is None else _value(self.root)
            finally:
                loader.dispose()
        except yaml.MarkedYAMLError as error:
            mark = error.problem_mark or error.context_mark
            line, column = (mark.line + 1, mark.column + 1) if mark else (1, 1)
            raise Invalid(name, [Problem(line, column, clean(error.problem or "not YAML"))]) from None
        except Invalid:
            raise
        except (yaml.YAMLError, ValueError, RecursionError, LookupError, TypeError, AttributeError) as error:
            raise Invalid(name, [Problem(1, 1, clean(f"not readable as YAML text: {error}"))]) from None
        finally:
            if collecting:
                gc.enable()

    def _count(self, text: str | bytes) -> None:
        """Refuse a file of more values than anybody writes before a tree is made of it: each costs 300 bytes and
        more."""
        raw = text if isinstance(text, bytes) else text.encode("utf-8", "replace")
        if sum(map(raw.count, (b",", b":", b"\n"))) <= MOST_VALUES:  # no value without one of them
            return
        kinds = (yaml.ScalarEvent, yaml.AliasEvent, yaml.CollectionStartEvent)
        values = (event for event in yaml.parse(text, Loader=_LOADER) if isinstance(event, kinds))
        if (last := next(itertools.islice(values, MOST_VALUES, None), None)) is not None:
            line, column = (last.start_mark.line, last.start_mark.column) if last.start_mark else (0, 0)
            raise Invalid(self.name, [Problem(line + 1, column + 1, f"more than {MOST_VALUES:,} values")])

    def suggestion(self, word: object, known: Iterable[str]) -> str:
        """Help for the spelling, for the first few problems of a file."""
        if self._helped >= MOST_HELP:
            return ""
        self._helped += 1
        return suggestion(word, known)

    def _look_at_keys(self) -> None:
        """Duplicate keys, keys that are not text, tags, aliases that fold the tree, and depth."""
        seen: set[int] = set()
        waiting: list[tuple[yaml.Node | None, int]] = [(self.root, 1)]
        while waiting:
            node, depth = waiting.pop()
            if node is None:
                continue
            if not _is_plain(node):
                self.at_node(
                    node, f"a tag ({clean(node.tag.removeprefix(_PREFIX), 40)}); write the value plainly, or in quotes"
                )
                continue
            if isinstance(node, yaml.ScalarNode):
                continue
            if depth > DEEPEST:
                self.at_node(node, f"nested deeper than {DEEPEST}")
                return
            if id(node) in seen:
                self.at_node(node, "an alias of a list or mapping; write it out")
                return
            seen.add(id(node))
            if isinstance(node, yaml.MappingNode):
                self._look_at_mapping(node)
                waiting.extend((value, depth + 1) for _, value in node.value)
            else:
                waiting.extend((item, depth + 1) for item in node.value)

    def _look_at_mapping(self, node: yaml.MappingNode) -> None:
        first: dict[str, int] = {}
        for key, _ in node.value:
            if not isinstance(key, yaml.ScalarNode):
                self.at_node(key, "a key must be plain text")
            elif not _is_plain(key):
                self.at_node(key, f"a key that means something else to YAML; write {clean(key.value, 20)!r} in quotes")
            elif key.value in first:
                self.at_node(key, f"{clean(key.value, 60)!r} stands twice; it is already on line {first[key.value]}")
            else:
                first[key.value] = key.start_mark.line + 1

    @property
    def crowded(self) -> bool:
        """Whether so many problems are noted that of any further it is only said how many there are."""
        return len(self.problems) >= MOST_PROBLEMS

    def at_node(self, node: yaml.Node, message: str) -> None:
        """Note a problem where a node of the document begins."""
        self._note(Problem(node.start_mark.line + 1, node.start_mark.column + 1, message))

    def _note(self, problem: Problem) -> None:
        if len(self.problems) + self.more >= MOST_COUNTED:
            raise Invalid(self.name, self.problems, self.more, left=True)
        if self.crowded:
            self.more += 1
        else:
            self.problems.append(problem)

    def at(self, path: Path, message: str, *, key: bool = False) -> None:
        """Note a problem at the value (or the key) that `path` leads to, or as near as the file goes."""
        if self.crowded or self.root is None:
            self._note(Problem(1, 1, message))
        else:
            self.at_node(self._find(path, key), message)

    def _find(self, path: Path, want_key: bool) -> yaml.Node:
        """The node at a path, or the last one on the way there that is."""
        node = self.root
        assert node is not None
        for depth, part in enumerate(path):
            found = _below(node, part, want_key and depth == len(path) - 1)
            if found is None:
                break
            node = found
        return node

    def convert(self, kind: type[T], path: Path = (), value: object = msgspec.UNSET) -> T | None:
        """The value at `path` as a record; None, with the problems noted, when it is none."""
        raw = self.values if value is msgspec.UNSET else value
        try:
            return msgspec.convert(raw, kind)
        except msgspec.ValidationError as error:
            found = False
            for where, message, at_key in _problems_of(raw, kind, self.suggestion):
                found = True
                self.at(path + where, message, key=at_key)
            if not found:
                self.at(path, _sentence(str(error)))
            return None

    def converts(self, kind: type[T], value: object) -> T | None:
        """`value` as a record; None, with nothing noted, when it is none."""
        try:
            return msgspec.convert(value, kind)
        except msgspec.ValidationError:
            return None

    def finish(self) -> None:
        """Raise `Invalid` when any problem was noted."""
        if self.problems:
            raise Invalid(self.name, self.problems, self.more)


def document_of(name: str, source: str | bytes | Document) -> Document:
    """The document in a file's text, or the one that was read from it already."""
    return source if isinstance(source, Document) else Document(name, source)


def _sentence(message: str) -> str:
    """The converter's message in our words, without its own notion of a path."""
    text = message.split(" - at `")[0]
    for theirs, ours in (
        (" | null`", "`"),
        ("Expected `datetime` with a timezone component", "expected a time with its zone, as 2026-11-25T22:00:00Z"),
        ("Invalid RFC3339 encoded datetime", "expected a day or a time with its zone, as 2026-11-25T22:00:00Z"),
        ("Expected `str`", "expected text"),
        ("Expected `int`", "expected a whole number"),
        ("Expected `float`", "expected a number"),
        ("Expected `bool`", "expected yes or no"),
        ("Expected `object`", "expected a mapping"),
        ("Expected `array`", "expected a list"),
        ("Object missing required field", "missing"),
    ):
        text = text.replace(theirs, ours)
    for theirs, ours in (
        ("`str`", "text"),
        ("`int`", "a whole number"),
        ("`float`", "a number"),
        ("`bool`", "yes or no"),
        ("`object`", "a mapping"),
        ("`array`", "a list"),
        ("`null`", "nothing"),
    ):
        text = text.replace("got " + theirs, "got " + ours)
    if text.startswith("expected text, got "):
        text += "; put it in quotes"
    return clean(text.replace("`", ""))


def _record_in(kind: object, value: object) -> type[msgspec.Struct] | None:
    """The record type that `kind` is, or that it may be; of several the one whose tag the value has."""
    choices = get_args(kind) if get_origin(kind) in (Union, types.UnionType) else (kind,)
    records = [c for c in choices if isinstance(c, type) and issubclass(c, msgspec.Struct)]
    if len(records) > 1 and isinstance(value, dict):
        return next((c for c in records if c.__struct_config__.tag == value.get(c.__struct_config__.tag_field)), None)
    return records[0] if records else None


Spell = Callable[[object, Iterable[str]], str]


def _problems_of(value: object, kind: object, spell: Spell) -> Iterator[tuple[Path, str, bool]]:
    """Every problem of `value` as a `kind`: (path, message, whether the key is meant)."""
    record = _record_in(kind, value)
    if record is not None and isinstance(value, dict):
        yield from _problems_of_record(value, record, spell)
        return
    origin, arguments = _container_in(kind, value)
    if origin is dict and isinstance(value, dict):
        for key, item in value.items():
            yield from (((key, *where), message, k) for where, message, k in _problems_of(item, arguments[1], spell))
    elif origin in (list, tuple) and isinstance(value, list):
        for index, item in enumerate(value):
            yield from (((index, *where), message, k) for where, message, k in _problems_of(item, arguments[0], spell))
    else:
        yield from _problem_of_value(value, kind)


def _container_in(kind: object, value: object) -> tuple[object, tuple[object, ...]]:
    """What of a type is a list or a table, and of what: of a union the one that a value may be."""
    origin, arguments = get_origin(kind), get_args(kind)
    if origin not in (Union, types.UnionType):
        return origin, arguments
    inner = next((a for a in arguments if get_origin(a) in (dict, list, tuple)), None)
    return (get_origin(inner), get_args(inner)) if isinstance(value, (dict, list)) else (None, ())


def _problem_of_value(value: object, kind: object) -> Iterator[tuple[Path, str, bool]]:
    try:
        msgspec.convert(value, kind)
    except msgspec.ValidationError as error:
        yield (), _sentence(str(error)), False


@lru_cache(maxsize=256)
def _form(record: type[msgspec.Struct]) -> tuple[dict[str, msgspec.structs.FieldInfo], dict[str, object]]:
    """A record's fields by the names that files use, and their types by our names."""
    fields = {field.encode_name: field for field in msgspec.structs.fields(record)}
    return fields, typing.get_type_hints(record, include_extras=True)


def _problems_of_record(
    value: dict[str | int, object], record: type[msgspec.Struct], spell: Spell
) -> Iterator[tuple[Path, str, bool]]:
    fields, hints = _form(record)
    found = False
    for key, item in value.items():
        if key == record.__struct_config__.tag_field:
            continue
        if not isinstance(key, str) or key not in fields:
            found = True
            yield (key,), f"unknown key {clean(str(key), 60)!r}{spell(key, fields)}", True
            continue
        for where, message, at_key in _problems_of(item, hints[fields[key].name], spell):
            found = True
            yield (key, *where), message, at_key
    missing = [name for name, field in fields.items() if field.required and name not in value]
    yield from (((), f"missing {name!r}", False) for name in missing)
    if not found and not missing:
        yield from _problem_of_whole(value, record, fields)


def _problem_of_whole(
    value: object, record: type[msgspec.Struct], fields: Iterable[str]
) -> Iterator[tuple[Path, str, bool]]:
    """What a record says of itself once each of its fields is well; it is at a field where it names one first."""
    try:
        msgspec.convert(value, record)
    except msgspec.ValidationError as error:
        text = _sentence(str(error))
        named = next((name for name in fields if text.startswith(f"{name}:")), None)
        yield ((named,) if named else ()), text, False
