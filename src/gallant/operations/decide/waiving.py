"""Waiving: a named person accepts one warning, with a reason and an end; it goes into the ledger before it counts."""

from __future__ import annotations

from datetime import date, timedelta

from gallant.core.checks.all import CHECKS, check_named
from gallant.core.checks.facts import Finding
from gallant.core.decide.waivers import WAIVE, Waiver, subject, waivers
from gallant.core.documents import suggestion
from gallant.core.errors import Refused, WrongUse
from gallant.core.records import clean
from gallant.operations.ground.deciding import record
from gallant.operations.ground.workplace import Workplace

LONGEST = timedelta(days=366)


def waive(place: Workplace, check: str, system: str, until: str, reason: str) -> Waiver:
    """Accept the warnings of one check on one system or node. Raises `Refused` where the check says stop now."""
    if check_named(check) is None:
        raise WrongUse(
            f"No check {clean(check, 60)!r}{suggestion(check, [c.id for c, _ in CHECKS])}.", next="gallant check --list"
        )
    name, _, node = system.partition("/")
    known = place.estate.systems.get(name)
    if known is None or (node and node not in known.nodes):
        raise WrongUse(f"No system or node {clean(system, 80)!r} in the estate.", next="gallant inventory lists them.")
    end = _end_of(until, place.clock.now().date())
    if not reason.strip():
        raise WrongUse("A waiver without a reason is none.", next='Write --reason "…"')
    if (stop := _says_stop(place, check, name, node)) is not None:
        raise Refused(
            f"{check} says stop for {name}: {stop.message}.", "A stop cannot be waived by anybody.", stop.next
        )
    record(place, WAIVE, subject(check, system), until=end.isoformat(), reason=clean(reason))
    return next(w for w in waivers(place.ledger.about([WAIVE])) if (w.check, w.system) == (check, system))


def _end_of(until: str, today: date) -> date:
    """The last day of a waiver. Raises `WrongUse` for what is no day, or lies beyond a year."""
    try:
        end = date.fromisoformat(until)
    except ValueError:
        raise WrongUse(f"{clean(until, 40)!r} is not a day.", next="Write --until 2027-01-31") from None
    if not today <= end <= today + LONGEST:
        raise WrongUse(
            f"{end} is not within the year from today, {today}.", "A waiver has an end that somebody will see."
        )
    return end


def _says_stop(place: Workplace, check: str, name: str, node: str) -> Finding | None:
    """The stop that a check said last of a system, or of one of its nodes."""
    last = place.readings.findings_before(name, place.clock.now())
    stops = (f for f in (last[1] if last else []) if f.check == check and f.level == "stop")
    return next((stop for stop in stops if node in ("", stop.node)), None)
