"""Waivers: a named person's acceptance of one warning, with a reason and an end. A stop cannot be waived by anybody."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import date, datetime

from gallant.core.checks.facts import Finding
from gallant.core.decide.ledger import Kept
from gallant.core.records import Record, replace

WAIVE = "waive"


class Waiver(Record):
    """`check` on `system` (or on one node of it) is accepted by `by` until the end of the day `until` (UTC)."""

    check: str
    system: str
    until: date
    by: str
    reason: str

    def holds(self, now: datetime) -> bool:
        """Whether its last day is not over."""
        return now.date() <= self.until

    def covers(self, finding: Finding) -> bool:
        """Whether a finding is the one that was accepted."""
        name = f"{finding.system}/{finding.node}" if finding.node is not None else finding.system
        return finding.check == self.check and self.system in (finding.system, name)


def subject(check: str, system: str) -> str:
    """A waiver's subject in the ledger: the check and the system."""
    return f"{check} {system}"


def waivers(entries: Iterable[Kept]) -> list[Waiver]:
    """The newest waiver of each check and system, out of the ledger; ended ones too."""
    found: dict[str, Waiver] = {}
    for kept in entries:
        entry = kept.entry
        check, _, system = entry.subject.partition(" ")
        if entry.kind == WAIVE and system and entry.until is not None:
            found[entry.subject] = Waiver(
                check=check, system=system, until=date.fromisoformat(entry.until), by=entry.by, reason=entry.reason
            )
    return list(found.values())


def with_waivers(findings: Iterable[Finding], known: Iterable[Waiver], now: datetime) -> list[Finding]:
    """The findings, each warning that somebody accepted as a note that says who, why and until when."""
    alive = [w for w in known if w.holds(now)]
    return [_waived(finding, alive) for finding in findings]


def _waived(finding: Finding, alive: list[Waiver]) -> Finding:
    waiver = next((w for w in alive if w.covers(finding)), None)
    if waiver is None or finding.level != "warn":
        return finding
    return replace(
        finding, level="note", waived=f"{waiver.by} accepts it until {waiver.until}: {waiver.reason}", mend=None
    )
