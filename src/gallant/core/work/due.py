"""What is to be done by itself, and when: decided from what people booked, what rules let happen, and what waits for a window.

Nothing is begun twice for one booking, or twice by a rule for one release: what did not come off the first time is a person's to look at.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from datetime import datetime, timedelta

from gallant.core.assess.ledger import BEGUN, INTENDED, LedgerEntry
from gallant.core.assess.notices import BOOKED, BY_ITSELF, OVERDUE, Notice
from gallant.core.estate.windows import Span, next_after, open_at
from gallant.core.records import Record

BOOKING, RULE, REST, PREPARATION, CUT_OFF, LOOK, GIVEN_UP = (
    "booked",
    "by a rule",
    "rest of a roll",
    "preparation",
    "cut off",
    "look after",
    "given up",
)
# When a roll that finished is looked after, and until when that is still of use.
LOOKS = ((timedelta(hours=1), timedelta(hours=24)), (timedelta(hours=24), timedelta(days=7)))
MOST_TAKEN_UP = 3  # times that one roll is carried on without a person after it was cut off


class Job(Record):
    """Something that is to be begun: a notice, the rest of a roll, or what a plan needs beforehand. `at`: from then on, and where it is
    booked not after `until`; `at` None: no time for it is known. `by`: who decided it."""

    why: str
    subject: str
    at: datetime | None
    until: datetime | None = None
    system: str = ""
    component: str = ""
    target: str | None = None
    by: str | None = None

    def is_due(self, now: datetime) -> bool:
        return self.at is not None and self.at <= now and (self.until is None or now <= self.until)


def job_of(n: Notice, spans: Sequence[Span] | None, said: Iterable[LedgerEntry], now: datetime) -> Job | None:
    """What a notice comes to, by the windows of its system (`spans`; None: at any time) and by what was begun of it by itself before."""
    begun = max((e.at for e in said if e.subject == n.name and e.state == BEGUN and e.target == n.target), default=None)
    if n.state in (BOOKED, OVERDUE) and n.start is not None:
        if begun is not None and begun >= n.start:
            return None
        return _job(BOOKING, n, n.start, n.end)
    if n.state == BY_ITSELF and begun is None:
        if spans is None or open_at(spans, now) is not None:
            return _job(RULE, n, now, None)
        following = next_after(spans, now)
        return _job(RULE, n, following.begin if following is not None else None, None)
    return None


TOLD_FOR = timedelta(hours=24)  # after the end of a booking it is still said what became of it


def vanished(
    said: Iterable[LedgerEntry], notices: Iterable[Notice], begun: Iterable[LedgerEntry], now: datetime
) -> list[LedgerEntry]:
    """The bookings that nobody took back, that were not begun, and that no notice has any more: what was booked is gone, or is to come to another release.
    `said` are all decisions on notices in their order, of which the last on each counts, `begun` what was begun by itself."""
    last = {e.subject: e for e in said if e.kind != "assign"}  # whose it is says nothing of when
    known = {n.name: n for n in notices}
    started = {(e.subject, e.target): e.at for e in begun if e.state == BEGUN}
    return [
        e
        for e in last.values()
        if e.kind == "book"
        and e.start is not None
        and e.target is not None
        and ":" in e.subject  # a notice; the rest of a roll is booked by the roll's name
        and now <= (e.end or e.start) + TOLD_FOR
        and ((n := known.get(e.subject)) is None or n.target != e.target)
        and started.get((e.subject, e.target), datetime.min.replace(tzinfo=now.tzinfo)) < e.start
    ]


def _job(why: str, n: Notice, at: datetime | None, until: datetime | None) -> Job:
    return Job(
        why=why,
        subject=n.name,
        at=at,
        until=until,
        system=n.system,
        component=n.component,
        target=n.target,
        by=n.by,
    )


def rest_of(roll: str, opens: datetime | None, said: Iterable[LedgerEntry]) -> Job | None:
    """The rest of a roll that waits for a window (`opens`), where somebody, or the estate, booked it."""
    booked = [e for e in said if e.kind == "book" and e.subject == roll and e.start is not None]
    if opens is None or not booked:
        return None
    return Job(why=REST, subject=roll, at=max(opens, booked[-1].start or opens), by=booked[-1].by)


def cut_off(roll: str, plan: str, began: datetime, said: Iterable[LedgerEntry]) -> Job | None:
    """A roll that was begun by itself and that no process carries out any more: to be carried on, or given up where it was cut off too often. None where a
    person began it. That it was to be begun by itself is known by its plan: that is written down before its process is started, which may end at once."""
    of_plan = {(e.subject, e.state) for e in said if e.kind == "due"}
    times = sum(e.kind == "due" and e.subject == roll and e.state == BEGUN for e in said)
    if not times and (plan, INTENDED) not in of_plan:
        return None
    return Job(why=CUT_OFF if times <= MOST_TAKEN_UP else GIVEN_UP, subject=roll, at=began)


def looks_after(roll: str, ended: datetime, said: Iterable[LedgerEntry], now: datetime) -> Job | None:
    """The next look at what a roll left behind that nobody has had yet; None where there is none to come, or its time has passed."""
    begun = {e.subject for e in said if e.kind == "due" and e.state == BEGUN}
    for after, until in LOOKS:
        subject = f"{roll} {after.total_seconds() / 3600:.0f} h after"
        if subject not in begun and now <= ended + until:
            return Job(why=LOOK, subject=subject, at=ended + after)
    return None


def preparations(said: Iterable[LedgerEntry]) -> list[Job]:
    """What is to be brought and saved ahead of a plan, and was not begun yet; the last word on each plan counts."""
    last: Mapping[str, LedgerEntry] = {e.subject: e for e in said if e.kind == "prepare"}
    return [Job(why=PREPARATION, subject=e.subject, at=e.start, by=e.by) for e in last.values() if e.state is None]


class Rolled(Record):
    """A roll as far as bookings are concerned: when it began, and what it brings to which release (system, component, version)."""

    id: str
    began: datetime
    brings: frozenset[tuple[str, str, str]]


def begun_by(jobs: Iterable[Job], rolls: Iterable[Rolled]) -> dict[str, str]:
    """By subject of what is booked, the first of some rolls that began it in its time, whoever began that. A roll from before the booking is
    another's work: it may have been what the booking is to make good."""
    found: dict[str, str] = {}
    known = list(rolls)
    for job in (job for job in jobs if job.why == BOOKING and job.at is not None and job.target is not None):
        own = (r for r in known if (job.system, job.component, job.target) in r.brings)
        if (first := next((r for r in own if job.at is not None and r.began >= job.at), None)) is not None:
            found[job.subject] = first.id
    return found
