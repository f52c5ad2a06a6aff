"""Notices: gaps that wait for a decision, and where each stands by the decisions that the ledger holds.

A notice is one component of one system (`tickets:image`) and the release that it should come to.
An acceptance or a booking is for that release: when the aim moves on, it lapses and the notice
is new again. Who it is assigned to stays, and a skip stays until its release or day.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from datetime import date, datetime, timedelta

from gallant.core.assess.gaps import Gap
from gallant.core.catalog.products import SEVERITIES, Product
from gallant.core.decide.ledger import LedgerEntry
from gallant.core.estate.picks import STATES
from gallant.core.estate.rules import ACT, ASK, LEAVE, Decision
from gallant.core.records import Record, fields_of, replace
from gallant.core.versions import NotAVersion, parse

NEW, ACCEPTED, BOOKED, OVERDUE, UNDER_WAY, SKIPPED, BY_ITSELF, LEFT, BLOCKED, DONE = STATES
SETTLED = (SKIPPED, LEFT, DONE)


class About(Record):
    """What a notice is about: one component on the nodes of one system, and the release that it should come to."""

    name: str
    system: str
    product: str
    nodes: tuple[str, ...]
    installed: tuple[str, ...]
    target: str | None
    standing: str
    severity: str | None
    security: bool
    restart: str | None
    terms: tuple[str, ...] = ()
    lag: str | None = None
    component: str


class Wanted(About):
    """A notice before anybody decided anything. `length_s` is the publisher's word for all nodes one after the
    other."""

    reason: str
    decision: Decision
    length_s: float | None


def seen_as(w: Wanted) -> tuple[str, str]:
    """Under which name and target a notice is remembered: one that is blocked, as another than once its way is open."""
    return w.name, seen_name(w.standing, w.target)


def seen_name(standing: str, target: str | None) -> str:
    """The target under which a notice of this standing is remembered."""
    return f"{target} blocked" if standing == BLOCKED else target or ""


class NoticeWork(Record):
    """A roll that carries a notice out: when it began, and when it ended or is expected to."""

    roll: str
    began: datetime
    end: datetime | None
    finished: bool


class Notice(About):
    """Where a notice stands. `start` and `end` are those of the booking, or of the roll that carries it out."""

    state: str
    since: datetime
    start: datetime | None = None
    end: datetime | None = None
    person: str | None = None
    by: str | None = None
    why: str = ""
    roll: str | None = None

    @property
    def rank(self) -> tuple[bool, int, int, str]:
        """What still needs somebody first; of that the newest day, and of a day the most severe."""
        severity = SEVERITIES.index(self.severity) if self.severity else len(SEVERITIES)
        return self.state in SETTLED, -self.since.toordinal(), severity, self.name


def wanted(gaps: Iterable[tuple[Gap, Decision]]) -> list[Wanted]:
    """Gaps that need work, put together by system and component; the worst node speaks for the others."""
    groups: dict[str, list[tuple[Gap, Decision]]] = {}
    for gap, decision in gaps:
        if gap.needs_work and gap.verdict.target is not None:
            groups.setdefault(f"{gap.reading.system}:{gap.part.name}", []).append((gap, decision))
    return [wanted_of(name, rows) for name, rows in groups.items()]


def wanted_of(name: str, rows: Sequence[tuple[Gap, Decision]]) -> Wanted:
    """What the gaps of one component ask for, those of the worst node first, each with what its rule says."""
    (worst, decision), gaps = rows[0], [gap for gap, _ in rows]
    minutes = [gap.verdict.minutes for gap in gaps if gap.verdict.minutes]
    return Wanted(
        name=name,
        system=worst.reading.system,
        component=worst.part.name,
        product=worst.part.product,
        nodes=tuple(gap.reading.node for gap in gaps),
        installed=tuple(dict.fromkeys(gap.part.version for gap in gaps)),
        target=worst.verdict.target,
        standing=worst.verdict.standing,
        severity=worst.verdict.severity,
        security=worst.verdict.security,
        restart=worst.verdict.restart,
        reason=worst.verdict.reasons[0] if worst.verdict.reasons else "",
        lag=worst.verdict.lag,
        terms=tuple(dict.fromkeys(t for gap in gaps for t in gap.verdict.terms)),
        decision=decision,
        length_s=sum(minutes) * 60 if minutes else None,
    )


def notices(
    every: Iterable[Wanted],
    ledger: Sequence[LedgerEntry],
    since: Mapping[tuple[str, str], datetime],
    work: Mapping[str, NoticeWork],
    products: Mapping[str, Product],
    now: datetime,
) -> list[Notice]:
    """Newest and most severe first, the settled ones last. `since` is
    by (name, target), `work` by system while a roll is open."""
    by_name: dict[str, list[LedgerEntry]] = {}
    for entry in ledger:
        by_name.setdefault(entry.subject, []).append(entry)
    made = [
        notice_of(w, by_name.get(w.name, []), since, work.get(w.system), products.get(w.product), now) for w in every
    ]
    return sorted(made, key=lambda n: n.rank)


class _Standing(Record):
    state: str
    start: datetime | None = None
    end: datetime | None = None
    by: str | None = None
    why: str = ""


def notice_of(
    w: Wanted,
    said: Sequence[LedgerEntry],
    since: Mapping[tuple[str, str], datetime],
    work: NoticeWork | None,
    product: Product | None,
    now: datetime,
) -> Notice:
    """Where a notice stands, by the entries of the ledger on it (`said`) and the roll that carries it out."""
    person = next((e.person for e in reversed(said) if e.kind == "assign"), None)
    found = _where(w, said, product, now)
    if found.state == NEW and (w.name, f"{w.target} blocked") in since:
        found = replace(found, why=f"its way is open now; {found.why}")
    roll = None
    if work is not None and w.component == "image":
        found, roll = _Standing(state=UNDER_WAY, start=work.began, end=work.end, by=found.by, why=work.roll), work.roll
    return Notice(
        **fields_of(w, About),
        state=found.state,
        since=since.get(seen_as(w), now),
        start=found.start,
        end=found.end,
        person=person,
        by=found.by,
        why=found.why,
        roll=roll,
    )


def _where(w: Wanted, said: Sequence[LedgerEntry], product: Product | None, now: datetime) -> _Standing:
    """The newest decision that still holds; else what the estate's rules say."""
    lapsed = ""
    for entry in reversed(said):
        if entry.kind == "skip":
            if _still_skipped(entry, w, product, now):
                return _Standing(state=SKIPPED, by=entry.by, why=f"until {entry.until}: {entry.reason}")
            lapsed = f"was skipped until {entry.until}"
            break
        if entry.kind == "reopen":
            lapsed = f"reopened by {entry.by}" + (f": {entry.reason}" if entry.reason else "")
            break
        if entry.kind in ("accept", "book", "cancel"):
            if entry.target != w.target:
                lapsed = f"was {'booked' if entry.kind == 'book' else 'accepted'} for {entry.target} by {entry.by}"
                break
            if entry.kind != "book" or entry.start is None:
                why = "the booking was cancelled" if entry.kind == "cancel" else ""
                return _Standing(state=ACCEPTED, by=entry.by, why=why)
            end = entry.end or entry.start + timedelta(seconds=w.length_s or 0)
            passed = end < now
            why = "its time has passed and nothing was done" if passed else ""
            return _Standing(state=OVERDUE if passed else BOOKED, start=entry.start, end=end, by=entry.by, why=why)
    if w.standing == "blocked":
        return _Standing(state=BLOCKED, why=w.reason)
    rule = f"rule {w.decision.rule}: {w.decision.words}" if w.decision.rule else ""
    if not lapsed and w.decision.then == LEAVE:
        return _Standing(state=LEFT, why=rule)
    if not lapsed and w.decision.then == ACT:
        return _Standing(state=BY_ITSELF, why=rule)
    return _Standing(state=NEW, why=lapsed or w.reason)


class Bar(Record):
    """A decision that a roll would go against: what it is, why it stands, what to do; `booked`: it is a booking for
    another time, which a named person may set aside."""

    notice: str
    what: str
    why: str
    next: str
    booked: bool = False


def bar(notice: Notice, decision: Decision, now: datetime) -> Bar | None:
    """What blocks carrying a notice out now; `decision` is what the estate's rules say of it."""
    name, by = notice.name, notice.by
    if notice.state in (BOOKED, OVERDUE) and notice.start is not None and notice.end is not None:
        if notice.start <= now <= notice.end:
            return None
        same_day = notice.start.date() == notice.end.date()
        when = f"{notice.start:%Y-%m-%d %H:%M}Z to {notice.end:{'%H:%M' if same_day else '%Y-%m-%d %H:%M'}}Z"
        passed = f"the time that {name} was booked for has passed: {when}"
        return Bar(
            notice=name,
            what=f"{name} is booked for {when}, which is to come" if now < notice.start else passed,
            why=f"Booked by {by}." if by else "A booking says when the work may be done.",
            next=f"gallant notice book {name} TIME books it anew; or add --despite-booking --reason WHY",
            booked=True,
        )
    if notice.state == SKIPPED:
        return Bar(
            notice=name,
            what=f"{name} is skipped {notice.why}",
            why=f"Skipped by {by}." if by else "A skip says that it is not to be done yet.",
            next=f"gallant notice reopen {name}",
        )
    if notice.state == NEW and decision.then == ASK and decision.rule is not None:
        return Bar(
            notice=name,
            what=f"{name} waits for somebody to accept it"
            + (f", and the publisher's terms {', '.join(notice.terms)} with it" if notice.terms else ""),
            why=f"Rule {decision.rule} of the estate says ask: {decision.words}.",
            next=f"gallant notice accept {name}",
        )
    return None


def _still_skipped(entry: LedgerEntry, w: Wanted, product: Product | None, now: datetime) -> bool:
    day = as_day(entry.until or "")
    if day is not None:
        return now.date() < day
    if product is None or w.target is None:
        return True
    try:
        until = product.resolve(entry.until or "")
        bound = product.key(until) if until else parse(product.scheme, entry.until or "")
        return parse(product.scheme, w.target) < bound
    except NotAVersion:
        return True


def as_day(text: str) -> date | None:
    """A calendar day as 2026-12-24; None for anything else."""
    try:
        return date.fromisoformat(text) if len(text) == 10 else None
    except ValueError:
        return None
