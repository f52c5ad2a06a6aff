"""What is promised of bookings, judged from what the world saw and the ledger says. It shares no reasoning with what it
judges: when work is allowed is asked of the clock of each site, minute by minute, and a booking's end is read from the
words of people, the rolls and what people were told.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Sequence
from datetime import datetime, timedelta
from typing import Any
from zoneinfo import ZoneInfo

from gallant.core.decide.ledger import LedgerEntry
from gallant.core.estate.systems import Estate
from gallant.core.windows.rules import DAYS, WindowRule

MINUTE = timedelta(minutes=1)
WORDS = ("accept", "book", "cancel", "skip", "reopen")  # of a person, on a notice
SOON = timedelta(hours=2)  # after its end it is known what became of a booking, where anybody looks


class Judge:
    def __init__(self, estate: Estate, begin: datetime) -> None:
        self.estate = estate
        self.problems: list[str] = []
        self.fates: Counter[str] = Counter()
        self.begun: list[tuple[datetime, str, str, frozenset[tuple[str, str, str]]]] = []
        self.heard: list[tuple[datetime, str, str]] = []
        self.looks: list[tuple[datetime, datetime, dict[str, str]]] = []  # begun, ended, what was left
        self.deaths: list[datetime] = []
        self._allowed: dict[tuple[str, datetime], bool] = {}

    def say(self, at: datetime, what: str) -> None:
        self.problems.append(f"{at:%Y-%m-%d %H:%M}Z {what}")

    # --- while the world goes on

    def died(self, at: datetime) -> None:
        self.deaths.append(at)

    def told(self, at: datetime, subject: str, why: str) -> None:
        self.heard.append((at, subject, why))

    def looked(self, begun: datetime, at: datetime, exit_code: int, left: Sequence[tuple[str, str]]) -> None:
        self.looks.append((begun, at, dict(left)))
        if bool(left) != bool(exit_code):
            self.say(at, f"exit code {exit_code} with {left}")

    def began(
        self, at: datetime, roll: str, by: str, brings: frozenset[Any], rolls: Sequence[Any], estate: Estate
    ) -> None:
        self.begun.append((at, roll, by, brings))
        others = [r for r in rolls if r.id != roll and r.is_open]
        systems = {system for system, _, _ in brings}
        for other in others:
            if systems & set(other.systems):
                self.say(at, f"{roll} began beside {other.id} of the same system")
        running = {name for r in others if r.stands == "running" for name in r.systems}
        most = estate.limits.lanes_at_once
        if by == "due" and most is not None and len(running | systems) > most:
            self.say(at, f"{roll} makes {len(running | systems)} lanes of {most}")

    def disturbed(self, roll: str, systems: Iterable[str], begin: datetime, end: datetime) -> None:
        """Held against the clock of the site, at each minute of it."""
        for system in systems:
            at = begin
            while at < end:
                if not self._may(system, at):
                    self.say(at, f"{roll} disturbs {system} where it may not")
                    break
                at += MINUTE

    def _may(self, system: str, at: datetime) -> bool:
        if (system, at) not in self._allowed:
            own = self.estate.systems[system]
            local = at.astimezone(ZoneInfo(self.estate.sites[own.site].time_zone))
            windows = [rule for rule in self.estate.windows if rule.for_ == system]
            closed = [rule for rule in self.estate.blackouts if rule.for_ in (system, f"site:{own.site}", "*")]
            may = not windows or any(_shows(rule, local) for rule in windows)
            self._allowed[system, at] = may and not any(_shows(rule, local) for rule in closed)
        return self._allowed[system, at]

    # --- at the end of it

    def close(self, at: datetime, ledger: Sequence[LedgerEntry], rolls: Sequence[Any]) -> None:
        for number, entry in enumerate(ledger):
            if entry.kind == "book" and ":" in entry.subject:
                self.fates[self._fate(entry, ledger[number + 1 :], rolls, at)] += 1
        self._begun_once(ledger)
        self._told_once(ledger)

    def _fate(self, entry: LedgerEntry, later: Sequence[LedgerEntry], rolls: Sequence[Any], at: datetime) -> str:
        system, _, part = entry.subject.partition(":")
        start, end = entry.start or at, entry.end or at
        word = next((e for e in later if e.subject == entry.subject and e.kind in (*WORDS, "close")), None)
        own = [r for r in rolls if r.began >= start and (system, part, entry.target) in r.brings]
        own = [r for r in own if word is None or r.began <= word.at]
        if word is not None and word.kind == "close":
            return "done"
        if own and own[0].stands == "finished":
            return "done"
        if word is not None and (word.at <= end or any(r.ended is None or r.ended >= word.at for r in own)):
            return "taken back"
        if (
            own
            and own[0].stands in ("running", "held")
            and own[0].is_open
            and (own[0].stands == "running" or self._goes_on(own[0], later))
        ):
            return "goes on"
        names = {entry.subject, *(r.id for r in own)}
        before = word.at if word is not None else at
        if not any(a >= entry.at and subject in names for a, subject, _ in self.heard):
            over = max(end, own[0].ended or end) if own else end  # a roll that rests until a window may be ended later
            looked = any(over < a < min(before, over + SOON) for a, _, _ in self.looks)
            if word is None or looked:
                self.say(
                    before,
                    f"{entry.subject} booked by {entry.by} for {start:%d %H:%M} to {end:%d %H:%M} was neither done nor taken back, and nobody was told",
                )
                return "forgotten"
            return "taken back"
        seen = any(a >= entry.at and names & set(left) for _, a, left in self.looks)
        # a look that was killed once it had told people ends with no code
        cut = any(a <= death <= before for a, subject, _ in self.heard if subject in names for death in self.deaths)
        if not seen and not cut:
            self.say(before, f"{entry.subject} was left, and no look ended with 1 for it")
        return "left"

    def _goes_on(self, roll: Any, later: Sequence[LedgerEntry]) -> bool:
        return any(e.kind == "book" and e.subject == roll.id for e in later)

    def _begun_once(self, ledger: Sequence[LedgerEntry]) -> None:
        """Each roll that was begun without a person has its own decision: a
        booking whose time it is, or a rule, once for each release."""
        used, by_rule = set[int](), set[tuple[str, str, str]]()
        for at, roll, by, brings in self.begun:
            if by != "due":
                continue
            for system, part, version in sorted(brings):
                subject = f"{system}:{part}"
                said = [
                    (n, e)
                    for n, e in enumerate(ledger)
                    if e.subject == subject and e.at <= at and e.kind in (*WORDS, "close")
                ]
                last = said[-1] if said else None
                if last is not None and last[1].kind == "book" and last[1].target == version:
                    number, e = last
                    if not (e.start and e.end and e.start <= at <= e.end):
                        self.say(at, f"{roll} began {subject} outside of its booked time {e.start} to {e.end}")
                    if number in used:
                        self.say(at, f"{roll} is the second one for one booking of {subject}")
                    used.add(number)
                elif (system, part, version) in by_rule:
                    self.say(at, f"{roll} is the second one by a rule for {subject} {version}")
                elif not self.estate.rules:
                    self.say(at, f"{roll} began {subject}, which nobody decided")
                else:
                    by_rule.add((system, part, version))

    def _told_once(self, ledger: Sequence[LedgerEntry]) -> None:
        """What is left stands in the ledger as often as people were told of it, and is
        told again for another reason, another booking or after a killed look."""
        written = Counter(e.subject for e in ledger if e.kind == "due" and e.state == "failed")
        told = Counter(subject for _, subject, _ in self.heard)
        for subject in sorted(written.keys() | told.keys()):
            if abs(written[subject] - told[subject]) > len(self.deaths):
                self.say(
                    self.heard[-1][0],
                    f"{subject} is written down {written[subject]} times and told {told[subject]} times",
                )
        last: dict[str, tuple[datetime, str]] = {}
        for at, subject, why in self.heard:
            before = last.get(subject)
            between = before is not None and (
                any(before[0] <= death <= at for death in self.deaths)
                or any(
                    before[0] <= e.at <= at
                    for e in ledger
                    if e.kind in (*WORDS, "close") or e.state in ("begun", "intended")
                )
                or any(before[0] < a < at and subject not in left for _, a, left in self.looks)
            )
            if before is not None and before[1] == why and not between:
                self.say(at, f"{subject} is told twice: {why}")
            last[subject] = (at, why)


def _shows(rule: WindowRule, local: datetime) -> bool:
    """Whether the clock of a site shows a time that a rule has."""
    clock, to = f"{local:%H:%M}", rule.to if rule.to != "24:00" else "99"
    today = "daily" in rule.days or DAYS[local.weekday()] in rule.days
    yesterday = "daily" in rule.days or DAYS[(local - timedelta(days=1)).weekday()] in rule.days
    if rule.from_ < to:
        return today and rule.from_ <= clock < to
    return (today and clock >= rule.from_) or (yesterday and clock < to)
