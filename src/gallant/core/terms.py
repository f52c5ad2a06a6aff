"""Terms: how an estate and those who ask it name systems. One way to read a term, and one rule for what it matches,
wherever one is written: selectors, aims, rules, windows, blackouts, rounds, defaults.

Case says nothing: `site:Harbour` is `site:harbour`. Whoever takes a term asks `unmatched` too: one that matches nothing
is most likely a slip of the pen, and somebody counts on it.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Protocol

from gallant.core.documents import near
from gallant.core.records import Record

ALL = "*"
SITE, TAG, KIND = CONDITIONS = ("site", "tag", "kind")
NAME = "name"


class Marked(Protocol):
    """What a term looks at."""

    @property
    def name(self) -> str: ...
    @property
    def site(self) -> str: ...
    @property
    def kind(self) -> str: ...
    @property
    def tags(self) -> Sequence[str]: ...


class Term(Record):
    """`key` is `*`, `site`, `tag`, `kind`, or `name` for a system or a node of it; `value` is in small letters."""

    key: str
    value: str = ""


def parse_term(text: str) -> Term:
    """A term as it is written: `*`, `site:NAME`, `tag:NAME`,
    `kind:NAME`, `SYSTEM` or `SYSTEM/NODE`. Raises `ValueError`."""
    key, colon, value = text.strip().partition(":")
    if text.strip() == ALL:
        return Term(key=ALL)
    if not colon:
        return Term(key=NAME, value=key.casefold())
    if key.casefold() not in CONDITIONS or not value:
        raise ValueError(f"{text!r} is no term: write *, site:NAME, tag:NAME, kind:NAME, or a system")
    return Term(key=key.casefold(), value=value.casefold())


def words_of(system: Marked, key: str) -> Sequence[str]:
    """What a system can be selected by, of one kind."""
    return {SITE: (system.site,), TAG: system.tags, KIND: (system.kind,), NAME: (system.name,)}[key]


def matches(term: Term, system: Marked) -> bool:
    """Whether a term means a system, or some node of it."""
    if term.key == ALL:
        return True
    wanted = term.value.partition("/")[0] if term.key == NAME else term.value
    return any(word.casefold() == wanted for word in words_of(system, term.key))


def unmatched(term: Term, systems: Iterable[Marked]) -> str | None:
    """What to say of a term that means nothing there is; None where it means something."""
    every = list(systems)
    if any(matches(term, system) for system in every):
        return None
    known = {word.casefold(): word for system in every for word in words_of(system, term.key)}
    close = near(term.value, known)
    hint = f" (did you mean {known[close]}?)" if close is not None else ""
    return f"no system {term.value!r}{hint}" if term.key == NAME else f"no system has {term.key}:{term.value}{hint}"
