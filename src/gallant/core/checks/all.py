"""Checks: small pure functions over facts, each giving findings; worst first, each with what to do next.

Where each is written, it is registered (core/checks/register.py). It never passes for want of data: a node that was not
read gives no pass, because `reachable` has stopped the work already.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable

from gallant.core.checks import circumstances, complaints, health
from gallant.core.checks.facts import LEVELS, Facts, Finding
from gallant.core.checks.register import REGISTERED, Check, Look
from gallant.core.records import replace

# Being imported, each of these has registered its checks; they are listed in this order.
ROOMS = (health, circumstances, complaints)
CHECKS: tuple[tuple[Check, Look], ...] = tuple(
    row for room in ROOMS for row in REGISTERED if row[1].__module__ == room.__name__
)


_BY_NAME = {check.id: check for check, _ in CHECKS}


def check_named(check_id: str) -> Check | None:
    """A check by its name; None where there is none."""
    return _BY_NAME.get(check_id)


def run_checks(
    facts: Facts, only: Collection[str] = (), phase: str | None = None, entering: bool = True
) -> list[Finding]:
    """Every finding on one system, worst first, else in the order of the catalogue; of some checks, or of one phase.
    Without `entering` no release is to be entered."""
    found = [
        replace(finding, check=check.id, mend=check.mend if finding.level in ("stop", "warn") else None)
        for check, function in CHECKS
        if check.is_asked(only, phase) and check.applies(facts.system)
        if entering or not check.entering
        for finding in function(facts)
    ]
    return worst_first(found)


def worst_first(findings: Iterable[Finding]) -> list[Finding]:
    """Stops first, then warnings; else in the order in which they were found."""
    return sorted(findings, key=lambda f: LEVELS.index(f.level))
