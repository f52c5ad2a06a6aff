"""The change record of a roll, or of all that was done in a stretch of time:
facts from the journal, the ledger and the pictures that were kept."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import datetime, timedelta

from gallant.core.after.picture import LOST, Unlike
from gallant.core.decide.ledger import FAILED, LedgerEntry
from gallant.core.errors import GallantError
from gallant.core.records import Record
from gallant.core.work import events as e
from gallant.core.work.plan import Plan
from gallant.engine.journal import replay
from gallant.operations.after import history
from gallant.operations.after.history import Run, StepRow
from gallant.operations.checks import keeping
from gallant.operations.decide.approving import Approval, approval_of
from gallant.operations.decide.notices import left_out
from gallant.operations.ground.workplace import Workplace

WORDS = (
    "consent", "waive", "despite-booking", "despite-check", "despite-recall", "outside-window", "terms", "accept",
    "book", "approve", "verify",
)  # fmt: skip
UNHAPPY = ("stopped", "cut off", "held", "running")
OFF_BY = 1.5  # times as long as planned, or as short: worth a line


class Stop(Record):
    """A time at which a roll stopped, was held or cut off, and when it went on (None: it did not)."""

    at: datetime
    state: str
    message: str
    went_on: datetime | None
    by: str | None = None


class Off(Record):
    """A step that took much longer, or was much quicker, than planned."""

    step: StepRow
    times: float


class RollReport(Record):
    """All of one roll: what was planned and by whom approved, what was done, what it did to services, what is not as
    before, what differed from the plan, who said what, and what is left to do first."""

    run: Run
    plan: Plan
    approval: Approval
    steps: tuple[StepRow, ...]
    stops: tuple[Stop, ...]
    unlike: tuple[Unlike, ...]
    compared: bool
    off: tuple[Off, ...]
    words: tuple[LedgerEntry, ...]
    first: tuple[str, ...]
    by: str

    @property
    def is_happy(self) -> bool:
        """Whether it finished, lost nothing, and no later look found anything wrong."""
        lost = any(one.means == LOST for one in self.unlike)
        return self.run.state == "finished" and not lost and not (self.looks and self.looks[-1].state == FAILED)

    @property
    def looks(self) -> tuple[LedgerEntry, ...]:
        """What was found when it was looked at after it had finished; the newest counts."""
        return tuple(word for word in self.words if word.kind == "verify")

    @property
    def took_s(self) -> float | None:
        """Seconds from begin to end; None while it goes on."""
        return None if self.run.ended is None else (self.run.ended - self.run.began).total_seconds()


class Report(Record):
    """Rolls, the unhappy ones first; `began` and `until` are the stretch that was asked for (None: one roll). `left` is
    what is still behind of their systems, `not_begun` what was due and was left, with the reason."""

    estate: str
    at: datetime
    rolls: tuple[RollReport, ...]
    totals: history.Totals
    since: datetime | None = None
    left: tuple[str, ...] = ()
    not_begun: tuple[LedgerEntry, ...] = ()

    @property
    def exit_code(self) -> int:
        """1 where a roll did not end well, or was never begun."""
        return 0 if all(one.is_happy for one in self.rolls) and not self.not_begun else 1


def report(place: Workplace, roll_id: str | None, since: timedelta | None) -> Report:
    """Of one roll, or of all that ended, or still go on, since then. Raises `WrongUse` for a roll that does not
    exist."""
    runs = [history.one(place, roll_id)[0]] if roll_id is not None else history.history(place, since=since)[0]
    said = [kept.entry for kept in place.ledger.about([*WORDS, "due", "roll"])]
    rolls = sorted((_one(place, run, said) for run in runs), key=_unhappy_first)
    first = place.clock.now() - since if since is not None else None
    return Report(
        estate=place.estate.name,
        at=place.clock.now(),
        rolls=tuple(rolls),
        totals=history.totals(place, runs),
        since=first,
        left=tuple(_behind(place, [name for run in runs for name in run.systems])),
        not_begun=tuple(entry for entry in said if first is not None and _not_begun(entry) and entry.at >= first),
    )


def _behind(place: Workplace, names: Sequence[str]) -> list[str]:
    """What is still behind on the systems of some rolls, as far as that can be told now."""
    systems = [name for name in dict.fromkeys(names) if name in place.estate.systems]
    if not systems:
        return []
    try:
        left = left_out(place, systems)
    except GallantError:
        return []
    return [f"{notice.name} {', '.join(notice.installed)} → {notice.target or 'unknown'}" for notice in left]


def _not_begun(entry: LedgerEntry) -> bool:
    return entry.kind == "due" and entry.state == "failed"


def _unhappy_first(one: RollReport) -> tuple[bool, int, float]:
    rank = UNHAPPY.index(one.run.state) if one.run.state in UNHAPPY else len(UNHAPPY)
    return one.is_happy, rank, -one.run.began.timestamp()


def _one(place: Workplace, run: Run, said: Sequence[LedgerEntry]) -> RollReport:
    row = place.journal.roll(run.run)
    _, steps = history.one(place, run.run)
    unlike, compared = _unlike(place, run)
    return RollReport(
        run=run,
        plan=row.plan,
        approval=approval_of(place, row.plan),
        steps=tuple(steps),
        stops=tuple(_stops(place, run.run)),
        unlike=unlike,
        compared=compared,
        off=tuple(_off(steps)),
        words=tuple(word for word in said if word.kind in WORDS and _is_about(word, run, row.plan.id)),
        first=tuple(_first(run, unlike)),
        by=next((x.by for x in said if x.kind == "roll" and x.subject == run.run), row.plan.by),
    )


def _is_about(word: LedgerEntry, run: Run, plan: str) -> bool:
    """Whether a decision is about a roll: its own, its plan's, or one on its systems that was made before it."""
    if word.target == plan or word.subject in (run.run, plan):
        return True
    on_systems = any(word.subject.startswith(f"{system}:") for system in run.systems)
    return word.kind in ("accept", "book") and on_systems and word.at <= run.began


def _unlike(place: Workplace, run: Run) -> tuple[tuple[Unlike, ...], bool]:
    """What a comparison with the time before the roll has shown so far, and whether there was one."""
    try:
        before = keeping.kept(place, f"{run.run}.{keeping.BEFORE}")
        keeping.kept(place, f"{run.run}.{keeping.AFTER}")
    except GallantError:
        return (), False
    return before.unlike, True


def _stops(place: Workplace, run: str) -> Iterator[Stop]:
    """Each time that it came to stand, and how that ended: by a person's resume, or not yet."""
    waiting: Stop | None = None
    for event in place.journal.events(run):
        entry = event.entry
        if entry.kind in (e.HELD, e.STOPPED, e.ENDED):
            waiting = Stop(at=entry.at, state=entry.kind, message=entry.message, went_on=None)
            if entry.kind == e.ENDED:
                yield waiting
                waiting = None
        elif entry.kind == e.RESUMED:
            if waiting is not None:
                yield Stop(at=waiting.at, state=waiting.state, message=waiting.message, went_on=entry.at, by=entry.by)
            else:
                yield Stop(
                    at=entry.at, state="cut off", message="no process carried it out", went_on=entry.at, by=entry.by
                )
            waiting = None
    if waiting is not None and replay(place.journal.events(run)).state in ("held", "stopped"):
        yield waiting


def _off(steps: Sequence[StepRow]) -> Iterator[Off]:
    """The steps that were most off what was planned of them, of those that took or were to take a minute at least."""
    found = []
    for step in steps:
        if step.seconds and step.estimate and max(step.seconds, step.estimate) >= 60:
            times = step.seconds / step.estimate
            if times >= OFF_BY or times <= 1 / OFF_BY:
                found.append(Off(step=step, times=times))
    yield from sorted(found, key=lambda one: -abs((one.step.seconds or 0) - one.step.estimate))[:10]


def _first(run: Run, unlike: Sequence[Unlike]) -> Iterator[str]:
    """What is left to do, the first thing first."""
    if run.next and run.state != "finished":
        yield run.next
    yield from dict.fromkeys(f"gallant check {one.system}" for one in unlike if one.means == LOST)
    if run.state == "finished":
        yield f"gallant verify {' '.join(run.systems)}"
