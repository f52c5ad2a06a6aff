"""Calls: one request each, in the words of a driver's protocol;
one record a verb, so that none has a field it cannot mean.

A profile's file writes a call as a mapping in which the verb stands: `{get: /path, take: {…}}`.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Annotated, TypeAlias

import msgspec
import regex

from gallant.core.documents import Document
from gallant.core.records import Record, tag_of
from gallant.core.versions import parse, parse_range

VERB = "verb"  # which of the records below a mapping is; made from its keys, never written


def checked_pattern(pattern: str) -> None:
    try:
        regex.compile(pattern)
    except regex.error as error:
        raise ValueError(f"pattern: {error}") from None


class Pages(Record):
    """A list that comes in pages: where the next page's path stands in an answer, and where its rows do (JMESPath)."""

    next: str
    rows: str


class Call(Record, tag_field=VERB):
    """What every call has: `take` names fields of the answer by JMESPath, and `when` is a
    version range; elsewhere the call is left out. An answer that is XML is first picked
    apart by `find` (name to XPath, or to rows: `at` and the columns' XPaths)."""

    take: dict[str, str] = {}
    find: dict[str, str | dict[str, str]] = {}
    when: str | None = None
    timeout_s: Annotated[float, msgspec.Meta(gt=0, le=7200)] | None = None

    def __post_init__(self) -> None:
        if self.when is not None:
            try:
                parse_range(self.when)
            except ValueError as error:
                raise ValueError(f"when: {error}") from None

    @property
    def verb(self) -> str:
        return tag_of(self)

    @property
    def said(self) -> str:
        """What the verb stands before: a path, a command, an RPC, an instruction."""
        return str(getattr(self, self.verb))

    def texts(self) -> Iterator[object]:
        """Every text of it, or what holds texts, in which a field may be named."""
        yield self.said

    def groups(self) -> set[str]:
        """The names that its patterns give to parts of the answer."""
        return set()

    def applies_to(self, version: str | None) -> bool:
        if self.when is None:
            return True
        if version is None:
            return False
        wanted = parse_range(self.when)
        try:
            return parse(wanted.scheme, version) in wanted
        except ValueError:
            return False


class Request(Call):
    """An HTTP request. Its body is JSON (`send`), a form, or a package that is uploaded, as a stream or as one part of
    a form of several; `upload_to` is the path of an upload where it is not the verb's."""

    send: dict[str, object] | None = None
    form: dict[str, str] | None = None
    headers: dict[str, str] = {}
    upload: str | None = None
    upload_as: str = "stream"
    upload_to: str | None = None
    part: str = "file"
    pages: Pages | None = None

    def __post_init__(self) -> None:
        super().__post_init__()
        if self.upload not in (None, "package"):
            raise ValueError("upload: only package")
        if self.upload_as not in ("stream", "multipart"):
            raise ValueError("upload_as: stream or multipart")

    def texts(self) -> Iterator[object]:
        yield from (self.said, self.send, self.form, self.headers)


class Get(Request, tag="get"):
    get: str


class Post(Request, tag="post"):
    post: str


class Put(Request, tag="put"):
    put: str


class Patch(Request, tag="patch"):
    patch: str


class Delete(Request, tag="delete"):
    delete: str


class Command(Call):
    """What a command line is asked. An answer is picked apart by `match` (the
    named groups of the first match) and `rows` (those of every match)."""

    match: str | None = None
    rows: str | None = None

    def __post_init__(self) -> None:
        super().__post_init__()
        for pattern in (self.match, self.rows):
            if pattern is not None:
                checked_pattern(pattern)

    def groups(self) -> set[str]:
        return {name for p in (self.match, self.rows) if p is not None for name in regex.compile(p).groupindex}


class RunCommand(Command, tag="run"):
    """A command. `answers` are its questions (patterns) and what is said to them; `elevated`
    needs more rights; `exits` are the exit statuses that are good. `upload` puts a package at
    `upload_to` first. A `detached` command outlives the connection: `take` its `handle`; each
    line of it is a command of its own, of which the first that fails ends the work."""

    run: str
    answers: dict[str, str] = {}
    elevated: bool = False
    detached: bool = False
    exits: tuple[int, ...] = (0,)
    upload: str | None = None
    upload_to: str | None = None

    def __post_init__(self) -> None:
        super().__post_init__()
        if self.upload not in (None, "package"):
            raise ValueError("upload: only package")
        for pattern in self.answers:
            checked_pattern(pattern)

    @property
    def lines(self) -> tuple[str, ...]:
        """The commands of a detached one, one a line."""
        return tuple(line.strip() for line in self.run.splitlines() if line.strip())

    def texts(self) -> Iterator[object]:
        yield from (self.run, list(self.answers.values()))


class Fetch(Command, tag="fetch"):
    """A file, read over SFTP or from this host."""

    fetch: str


class Rpc(Call, tag="rpc"):
    rpc: str


class Tell(Call, tag="tell"):
    """An instruction for a person."""

    tell: str


OneCall: TypeAlias = Get | Post | Put | Patch | Delete | RunCommand | Fetch | Rpc | Tell

# The verbs that each driver knows.
WEB, TERMINAL = ("get", "post", "put", "patch", "delete"), ("run", "fetch")
VERBS: dict[str, tuple[str, ...]] = {
    "http": WEB,
    "redfish": WEB,
    "shell": TERMINAL,
    "debian": TERMINAL,
    "netconf": ("rpc",),
    "manual": ("tell",),
}
EVERY_VERB = tuple(dict.fromkeys(verb for verbs in VERBS.values() for verb in verbs))
# Where calls stand in a profile; `*` is any key, or each of a list.
PLACES = (
    ("login", "call"),
    ("login", "logout"),
    ("reads", "*", "*"),
    ("self_test", "*"),
    ("job", "*"),
    ("acts", "*", "calls", "*"),
    ("brings", "*", "calls", "*"),
    ("exports", "*", "call"),
)

Path = tuple[str | int, ...]


def with_verbs(document: Document) -> object:
    """A profile's values with each call's verb said; a call that has none of the verbs, or several, is noted."""
    values = document.values
    for place in PLACES:
        values = _said(document, values, place, ())
    return values


def _said(document: Document, value: object, rest: tuple[str, ...], path: Path) -> object:
    if not rest:
        return _one(document, value, path)
    if isinstance(value, dict):
        keys = list(value) if rest[0] == "*" else [key for key in (rest[0],) if key in value]
        return {**value, **{key: _said(document, value[key], rest[1:], (*path, key)) for key in keys}}
    if isinstance(value, list) and rest[0] == "*":
        return [_said(document, item, rest[1:], (*path, index)) for index, item in enumerate(value)]
    return value


def _one(document: Document, value: object, path: Path) -> object:
    if not isinstance(value, dict):
        return value
    if VERB in value:
        document.at((*path, VERB), f"unknown key {VERB!r}", key=True)
    found = [verb for verb in EVERY_VERB if value.get(verb) is not None]
    if len(found) != 1:
        document.at(path, f"a call has exactly one of {', '.join(EVERY_VERB[:-1])} and {EVERY_VERB[-1]}")
        return {VERB: "tell", "tell": ""}  # it is told of, once
    return {**value, VERB: found[0]}
