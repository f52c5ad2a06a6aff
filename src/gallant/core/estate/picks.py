"""What of the selected systems is meant: terms about components, beside those about systems."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence

from gallant.core.catalog.products import SEVERITIES
from gallant.core.documents import suggestion
from gallant.core.errors import WrongUse
from gallant.core.estate.rules import severe_enough
from gallant.core.estate.systems import Estate
from gallant.core.records import Record, clean

STANDINGS = ("recalled", "blocked", "behind", "waits for restart", "unknown", "ahead", "current")
STATES = (
    "new",
    "accepted",
    "booked",
    "overdue",
    "under way",
    "skipped",
    "acts by itself",
    "left alone",
    "blocked",
    "done",
)


class Pick(Record):
    """Which components are meant: of this severity (with a plus: or worse), of one of these standings, in one of these
    states as notices, called by one of `components` (name, kind or product); `of` has the components that were named
    with their system or node. What is empty says nothing."""

    severity: str | None = None
    standings: tuple[str, ...] = ()
    states: tuple[str, ...] = ()
    components: tuple[str, ...] = ()
    of: dict[str, tuple[str, ...]] = {}

    @property
    def asked(self) -> bool:
        """Whether anything narrows the rows at all."""
        return self != Pick()

    def takes(
        self,
        system: str,
        nodes: Iterable[str],
        component: str,
        called: Sequence[str],
        severity: str | None,
        standing: str,
    ) -> bool:
        """Whether a component of a system, on these nodes, is meant; `called` are the other words that it goes by."""
        if not severe_enough(self.severity, severity) or (self.standings and standing not in self.standings):
            return False
        names = {component.casefold(), *(word.casefold() for word in called)}
        if self.components and not names & set(self.components):
            return False
        meant = [self.of[key] for key in (system, *(f"{system}/{node}" for node in nodes)) if key in self.of]
        return not meant or any(component.casefold() in one for one in meant)


def is_condition(term: str) -> bool:
    """Whether a term says what something is, and does not name it."""
    return ":" in term and term.partition(":")[0] in (*KNOWN, "site", "tag", "kind")


def split(estate: Estate, terms: Sequence[str]) -> tuple[list[str], Pick]:
    """The terms about systems, and what those about components pick: `severity:high+`, `standing:behind`, `state:new`,
    `component:bios`, `tickets/a:bios`. Raises `WrongUse` for a word that none of these has."""
    systems, pick = list[str](), dict[str, list[str]]()
    of: dict[str, list[str]] = {}
    for term in terms:
        key, colon, value = term.partition(":")
        if not colon or key in ("site", "tag", "kind"):
            systems.append(term)
        elif key in KNOWN:
            pick.setdefault(key, []).append(_word(key, value))
        elif key.partition("/")[0].casefold() in estate.systems:
            systems.append(key)
            of.setdefault(key.casefold(), []).append(value.casefold())
        else:
            systems.append(term)  # what it selects by is told where systems are selected
    severities = pick.get("severity", [])
    if len(severities) > 1:
        raise WrongUse("One severity at a time; severity:medium+ is medium and worse.")
    made = Pick(
        severity=severities[0] if severities else None,
        standings=tuple(pick.get("standing", ())),
        states=tuple(pick.get("state", ())),
        components=tuple(pick.get("component", ())),
        of={name: tuple(found) for name, found in of.items()},
    )
    return list(dict.fromkeys(systems)), made


KNOWN: dict[str, tuple[str, ...] | None] = {
    "severity": SEVERITIES,
    "standing": STANDINGS,
    "state": STATES,
    "component": None,
}


def _word(key: str, value: str) -> str:
    """A word as it is written here: in any case, and with a dash for a space."""
    said, known = value.casefold().replace("-", " ") if key in ("standing", "state") else value.casefold(), KNOWN[key]
    bare = said.removesuffix("+") if key == "severity" else said
    if known is not None and bare not in known:
        raise WrongUse(
            f"No {key} {clean(value, 40)!r}{suggestion(bare, known)}.",
            next=f"{key.capitalize()} is one of {', '.join(known)}",
        )
    return said


def nothing_called(pick: Pick, names: Mapping[str, set[str]], words: Collection[str]) -> WrongUse | None:
    """What to say of a component that none is called, or that was named with its system
    and that this one does not have; `names` are by system, `words` are all that
    components go by (name, kind, product). Where nothing was read nothing is said."""
    called = {word.casefold() for word in words}
    for name in pick.components if called else ():
        if name not in called:
            return WrongUse(
                "Nothing selected has a component, kind or product"
                f" {clean(name, 60)!r}{suggestion(name, sorted(called))}.",
                next="gallant inventory lists them",
            )
    for key, wanted in pick.of.items():
        known = {name.casefold() for name in names.get(key.partition("/")[0], set())}
        for name in wanted:
            if name not in known:
                return WrongUse(
                    f"{key} has no component {clean(name, 60)!r}{suggestion(name, sorted(known))}.",
                    next=f"gallant inventory {key}",
                )
    return None
