"""What may happen by itself: rules over the marks of a gap, of which the first that matches decides.

A rule never acts on what a person has to consent to: the caller says so with `needs_person`.
"""

from __future__ import annotations

from collections.abc import Sequence

from gallant.core.catalog.products import RESTARTS, SEVERITIES
from gallant.core.records import Record

ACT, ASK, LEAVE = "act", "ask", "leave"
DECISIONS = (ACT, ASK, LEAVE)


class ActRule(Record):
    """Conditions (all that are given must hold) and what then happens: `act`, `ask` (a notice) or `leave`.

    `severity` is one of the catalog's words, with a plus for that or worse; `kind` is a system's kind or a component's.
    `known: no`: it is for systems to come.
    """

    then: str
    security: bool | None = None
    severity: str | None = None
    restart: str | None = None
    kind: str | None = None
    tag: str | None = None
    known: bool = True

    def __post_init__(self) -> None:
        if self.then not in DECISIONS:
            raise ValueError(f"then: one of {', '.join(DECISIONS)}")
        if self.severity is not None and self.severity.removesuffix("+") not in SEVERITIES:
            raise ValueError(f"severity: one of {', '.join(SEVERITIES)}, with a plus for that or worse")
        if self.restart is not None and self.restart not in RESTARTS:
            raise ValueError(f"restart: one of {', '.join(RESTARTS)}")

    @property
    def words(self) -> str:
        """What a rule lets happen, in one line."""
        said = [
            f"{field} {value if not isinstance(value, bool) else 'yes' if value else 'no'}"
            for field in ("security", "severity", "restart", "kind", "tag")
            if (value := getattr(self, field)) is not None
        ]
        return ", ".join(said) or "anything"


class Marks(Record):
    """What rules look at: those of the gap, and those of the system and component that have it."""

    security: bool
    severity: str | None
    restart: str | None
    kinds: tuple[str, ...]
    tags: tuple[str, ...]


class Decision(Record):
    """What happens with a gap, and by which rule (`rule` counts from 1; None: no rule matched)."""

    then: str
    rule: int | None = None
    words: str = ""


def matches(rule: ActRule, marks: Marks) -> bool:
    """Whether a rule is about a release with these marks."""
    return (
        rule.security in (None, marks.security)
        and severe_enough(rule.severity, marks.severity)
        and rule.restart in (None, marks.restart)
        and (rule.kind is None or _among(rule.kind, marks.kinds))
        and (rule.tag is None or _among(rule.tag, marks.tags))
    )


def _among(word: str, words: Sequence[str]) -> bool:
    """As terms are compared: case says nothing."""
    return any(one.casefold() == word.casefold() for one in words)


def severe_enough(asked: str | None, severity: str | None) -> bool:
    """Whether a severity is the one that was asked for, or with a plus as bad or worse; nothing asked is anything."""
    if asked is None:
        return True
    if severity is None:
        return False
    if asked.endswith("+"):
        return SEVERITIES.index(severity) <= SEVERITIES.index(asked[:-1])
    return severity == asked


def decide(rules: Sequence[ActRule], marks: Marks, needs_person: str | None = None) -> Decision:
    """The first rule that matches; `ask` where none does, or where `needs_person` says why somebody has to decide."""
    for number, rule in enumerate(rules, 1):
        if matches(rule, marks):
            if rule.then == ACT and needs_person is not None:
                return Decision(then=ASK, rule=number, words=f"{rule.words}; asks all the same: {needs_person}")
            return Decision(then=rule.then, rule=number, words=rule.words)
    return Decision(then=ASK)
