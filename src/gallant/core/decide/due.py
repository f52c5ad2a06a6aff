"""What is to be done by itself, and when: decided from what people
booked, what rules let happen, and what waits for a window.

Nothing is begun twice for one booking, or twice by a rule for one
release: what did not come off the first time is a person's to look at.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence
from datetime import UTC, datetime, timedelta

from gallant.core.catalog.products import SEVERITIES
from gallant.core.decide.ledger import BEGUN, CLOSE, DECISIONS, INTENDED, LedgerEntry
from gallant.core.decide.notices import BY_ITSELF, Notice
from gallant.core.records import Record
from gallant.core.windows.rules import Span, next_after, open_at

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


class DueJob(Record):
    """Something that is to be begun: a notice, the rest of a roll, or what a plan needs
    beforehand. `at`: from then on, and where it is booked not after `until`; `at` None: no
    time for it is known. `by`: who decided it. `severity` is that of its notice."""

    why: str
    subject: str
    at: datetime | None
    until: datetime | None = None
    system: str = ""
    component: str = ""
    target: str | None = None
    by: str | None = None
    severity: str | None = None

    def is_due(self, now: datetime) -> bool:
        """Whether its time has come and is not over."""
        return self.at is not None and self.at <= now and (self.until is None or now <= self.until)


RUNNING, CUT, HELD, STOPPED, ENDED, FINISHED = "running", "cut off", "held", "stopped", "ended", "finished"


class Rolled(Record):
    """A roll as far as bookings are concerned: when it began, what it brings
    to which release (system, component, version), and how it stands."""

    id: str
    began: datetime
    brings: frozenset[tuple[str, str, str]]
    stands: str = FINISHED


TO_DO, GONE, PASSED, BEGAN, UNFINISHED = "to do", "gone", "passed", "began", "unfinished"


class Booking(Record):
    """A booking that nobody took back, and how it stands (`fate`): it is to be done at its
    time; what was booked is gone, or is to come to another release now; its time has passed;
    its roll is under way or finished; or its roll stands and is not done (`roll`)."""

    job: DueJob
    fate: str
    roll: Rolled | None = None


TOLD_FOR = timedelta(hours=24)  # after the end of a booking it is still said that what was booked is gone


def bookings(
    booked: Iterable[LedgerEntry], notices: Iterable[Notice], rolls: Iterable[Rolled], now: datetime
) -> list[Booking]:
    """What people booked (`open_bookings`), held against the notices and the rolls of today."""
    known, every = {n.name: n for n in notices}, list(rolls)
    found = (_booking(e, known.get(e.subject), every, now) for e in booked)
    return [one for one in found if one is not None]


def open_bookings(said: Iterable[LedgerEntry]) -> list[LedgerEntry]:
    """The entries of bookings that nothing has come after: no other word of a person, and no roll that closed the
    notice. `said` are in their order. The rest of a roll is booked by the roll's name, and is none of these."""
    # whose it is says nothing of when, and what a look says of it is no decision
    last = {e.subject: e for e in said if e.kind in (*DECISIONS, CLOSE) and e.kind != "assign"}
    return [e for e in last.values() if e.kind == "book" and e.start is not None and e.target and ":" in e.subject]


def _booking(e: LedgerEntry, n: Notice | None, rolls: Sequence[Rolled], now: datetime) -> Booking | None:
    system, _, component = e.subject.partition(":")
    start = e.start or now
    until = e.end or (n.end if n is not None and n.start == start else None) or start
    job = DueJob(
        why=BOOKING,
        subject=e.subject,
        at=start,
        until=until,
        system=system,
        component=component,
        target=e.target,
        by=e.by,
        severity=n.severity if n is not None else None,
    )
    # A roll from before the booking is another's work: it may have been what the booking is to make good.
    own = [r for r in rolls if r.began >= start and (system, component, e.target) in r.brings]
    if own:
        first = min(own, key=_began)
        return Booking(job=job, fate=BEGAN if first.stands in (RUNNING, FINISHED) else UNFINISHED, roll=first)
    if n is None or n.target != e.target:
        return Booking(job=job, fate=GONE) if now <= until + TOLD_FOR else None
    return Booking(job=job, fate=TO_DO if now <= until else PASSED)


def _began(roll: Rolled) -> datetime:
    return roll.began


def by_rule(
    n: Notice,
    spans: Sequence[Span] | None,
    said: Iterable[LedgerEntry],
    brought: Collection[tuple[str, str, str]],
    now: datetime,
) -> DueJob | None:
    """What a notice on which a rule acts comes to, by the windows of its system (`spans`; None: at any time). None
    where it was begun before, by itself (`said`) or by a roll of anyone's (`brought`)."""
    if n.state != BY_ITSELF or any(e.subject == n.name and e.state == BEGUN and e.target == n.target for e in said):
        return None
    if (n.system, n.component, n.target) in brought:
        return None
    at: datetime | None = now
    if spans is not None and open_at(spans, now) is None:
        following = next_after(spans, now)
        at = following.begin if following is not None else None
    return DueJob(
        why=RULE,
        subject=n.name,
        at=at,
        system=n.system,
        component=n.component,
        target=n.target,
        by=n.by,
        severity=n.severity,
    )


NEVER = datetime.max.replace(tzinfo=UTC)


def latest_begin(job: DueJob, window: Span | None, length_s: float | None) -> datetime:
    """Until when a job may begin and still be done: its length before the `window` of its system ends (None: it has
    none, and its own time is its window), and never after its own time. `length_s` None is a length that nobody
    knows."""
    end = window.end if window is not None else job.until
    length = timedelta(seconds=length_s or 0.0)
    last = end - length if end is not None else NEVER
    return min(last, job.until or NEVER)


def most_urgent(job: DueJob, latest: datetime, now: datetime) -> tuple[int, bool, datetime, str]:
    """Where there is no room for all: the most severe first; of these what still
    fits before what does not any more, and then what can wait least."""
    rank = SEVERITIES.index(job.severity) if job.severity in SEVERITIES else len(SEVERITIES)
    return rank, latest < now, latest, job.subject


def rest_of(roll: str, opens: datetime | None, said: Iterable[LedgerEntry]) -> DueJob | None:
    """The rest of a roll that waits for a window (`opens`), where somebody, or the estate, booked it."""
    booked = [e for e in said if e.kind == "book" and e.subject == roll and e.start is not None]
    if opens is None or not booked:
        return None
    return DueJob(why=REST, subject=roll, at=max(opens, booked[-1].start or opens), by=booked[-1].by)


def cut_off(roll: str, plan: str, began: datetime, said: Iterable[LedgerEntry]) -> DueJob | None:
    """A roll that was begun by itself and that no process carries out any more: to be carried on, or given up where it
    was cut off too often. None where a person began it. That it was to be begun by itself is known by its plan: that is
    written down before its process is started, which may end at once."""
    of_plan = {(e.subject, e.state) for e in said if e.kind == "due"}
    times = sum(e.kind == "due" and e.subject == roll and e.state == BEGUN for e in said)
    if not times and (plan, INTENDED) not in of_plan:
        return None
    return DueJob(why=CUT_OFF if times <= MOST_TAKEN_UP else GIVEN_UP, subject=roll, at=began)


def looks_after(roll: str, ended: datetime, said: Iterable[LedgerEntry], now: datetime) -> DueJob | None:
    """The next look at what a roll left behind that nobody has had yet;
    None where there is none to come, or its time has passed."""
    begun = {e.subject for e in said if e.kind == "due" and e.state == BEGUN}
    for after, until in LOOKS:
        subject = f"{roll} {after.total_seconds() / 3600:.0f} h after"
        if subject not in begun and now <= ended + until:
            return DueJob(why=LOOK, subject=subject, at=ended + after)
    return None


def preparations(said: Iterable[LedgerEntry]) -> list[DueJob]:
    """What is to be brought and saved ahead of a plan, and was not begun yet; the last word on each plan counts."""
    last: Mapping[str, LedgerEntry] = {e.subject: e for e in said if e.kind == "prepare"}
    return [DueJob(why=PREPARATION, subject=e.subject, at=e.start, by=e.by) for e in last.values() if e.state is None]
