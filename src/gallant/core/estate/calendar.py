"""The windows of a system: which rules are for it, and what they come to over the next weeks."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from gallant.core.errors import WrongUse
from gallant.core.estate.systems import Estate, System
from gallant.core.terms import ALL, KIND, NAME, SITE, TAG, matches
from gallant.core.windows.rules import Span, WindowRule, common, joined, spans_of, without

# The most special rules that there are for a system say when it may be worked on; the others are silent then.
KINDS = (NAME, TAG, KIND, SITE, ALL)


def zone_of(estate: Estate, system: System) -> ZoneInfo:
    """The time zone of a system's site; raises `WrongUse` where this machine does not know it."""
    name = estate.sites[system.site].time_zone
    try:
        return ZoneInfo(name)
    except (ZoneInfoNotFoundError, ValueError, OSError):
        raise WrongUse(f"{name!r}, the time zone of the site of {system.name}, is not known on this machine.") from None


def rules_for(rules: Sequence[WindowRule], system: System) -> list[WindowRule]:
    """The rules that hold for a system, however special."""
    return [rule for rule in rules if _kind(rule, system) is not None]


def most_special(rules: Sequence[WindowRule], system: System) -> list[WindowRule]:
    """Of the rules for a system those of the most special kind."""
    found = rules_for(rules, system)
    kind = next((kind for kind in KINDS if any(_kind(rule, system) == kind for rule in found)), None)
    return [rule for rule in found if _kind(rule, system) == kind]


def _kind(rule: WindowRule, system: System) -> str | None:
    """As what a rule is for a system; None where it is not."""
    return rule.term.key if matches(rule.term, system) else None


def windows_of(estate: Estate, system: System, begin: datetime, end: datetime) -> list[Span] | None:
    """When a system may be disturbed; None: at any time, since nothing
    says otherwise. A system that nobody depends on has no windows."""
    rules, black = most_special(estate.windows, system), rules_for(estate.blackouts, system)
    if not system.in_service or not (rules or black):
        return None
    zone = zone_of(estate, system)
    spans = [s for rule in rules for s in spans_of(rule, zone, begin, end)] if rules else [Span(begin=begin, end=end)]
    return without(joined(spans), [s for rule in black for s in spans_of(rule, zone, begin, end, closes=True)])


def windows_of_all(estate: Estate, systems: Sequence[System], begin: datetime, end: datetime) -> list[Span] | None:
    """When all of some systems may be disturbed at once."""
    found: list[Span] | None = None
    for system in systems:
        own = windows_of(estate, system, begin, end)
        if own is not None:
            found = own if found is None else common(found, own)
    return found
