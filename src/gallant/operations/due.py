"""Doing by itself what is due: safe to call every minute, and twice at once. Whatever takes long is begun in a process of its own."""

from __future__ import annotations

import contextlib
import fcntl
import os
from collections.abc import Collection, Iterator, Mapping, Sequence
from contextlib import contextmanager
from datetime import datetime, timedelta
from typing import TypeAlias

import msgspec

from gallant.core.assess.ledger import BEGUN, CLOSE, DECISIONS, FAILED, INTENDED, LedgerEntry
from gallant.core.assess.notices import BOOKED, DONE, OVERDUE, Notice
from gallant.core.errors import GallantError
from gallant.core.estate.calendar import windows_of
from gallant.core.estate.rules import ACT
from gallant.core.estate.windows import AHEAD
from gallant.core.records import Record, clean
from gallant.core.work.consents import consents_needed
from gallant.core.work.due import (
    BOOKING,
    CUT_OFF,
    GIVEN_UP,
    LOOK,
    LOOKS,
    MOST_TAKEN_UP,
    PREPARATION,
    REST,
    Job,
    Rolled,
    begun_by,
    cut_off,
    job_of,
    looks_after,
    preparations,
    rest_of,
    vanished,
)
from gallant.core.work.events import RollRow
from gallant.core.work.plan import Plan, steps_of
from gallant.core.work.planning import systems_of
from gallant.disk import opened, put_whole
from gallant.engine.journal import replay
from gallant.operations import notices, stock
from gallant.operations.approving import approval_of
from gallant.operations.deciding import record
from gallant.operations.detaching import begin, detach
from gallant.operations.notifying import message_of, notify
from gallant.operations.plan import Choice, Planned, load_plan, plan
from gallant.operations.plannable import open_roll
from gallant.operations.workplace import Workplace
from gallant.store.database import state_folder

SAMPLED_FOR = "10m"  # of what a roll left behind
LOCK = "due.lock"
IN_STOCK = "stock"  # the check that misses what can be fetched
TRIED = "due.json"  # in state/: when what could not be begun was tried last; nothing is lost with it
BEGINS, LEFT, COMES, GOES = "begun", "left", "to come", "under way"


class Row(Record):
    """What became of one thing: `did` is begun, left, to come or under way; `at` when it is or was to be begun, and
    where it is booked not after `until`."""

    did: str
    what: str
    subject: str
    at: datetime | None = None
    until: datetime | None = None
    roll: str | None = None
    plan: str | None = None
    by: str | None = None
    why: str = ""
    next: str | None = None
    exit_code: int = 0


class Turn(Record):
    """One look at what is due; `busy`: another one is at it, and nothing was done here."""

    rows: tuple[Row, ...] = ()
    busy: bool = False

    @property
    def exit_code(self) -> int:
        return 1 if any(row.did == LEFT for row in self.rows) else 0


class Tried(Record):
    """The last time that something was tried in vain."""

    at: datetime
    row: Row


def to_come(place: Workplace) -> Turn:
    """What is due and what will be, as it stands now; nothing is begun."""
    now = place.clock.now()
    jobs = sorted(_jobs(place, now), key=_soonest)
    return Turn(rows=(*_under_way(place), *_gone(place, now), *(_lapsed(job, now) or _row(COMES, job) for job in jobs)))


def _lapsed(job: Job, now: datetime) -> Row | None:
    """What is left of a job that can begin no more: its time has passed, or it was given up."""
    if job.why == GIVEN_UP:
        return _given_up(job)
    return _too_late(job) if job.until is not None and now > job.until else None


def _given_up(job: Job) -> Row:
    why = f"it was carried on by itself {MOST_TAKEN_UP} times, and cut off each time"
    return _left(job, why, f"gallant resume {job.subject}")


def _soonest(job: Job) -> tuple[bool, datetime | None, str]:
    return job.at is None, job.at, job.subject


async def due(place: Workplace) -> Turn:
    """Begin what is due, inside of its windows and after fresh checks; what is left is told once, with the reason."""
    with _alone(place) as alone:
        if not alone:
            return Turn(busy=True)
        now, tried = place.clock.now(), _tried(place)
        jobs = sorted(_jobs(place, now), key=_soonest)
        retry = timedelta(minutes=place.estate.due.retry_minutes)
        waiting = {job.subject for job in jobs if job.subject in tried and now < tried[job.subject].at + retry}
        ready = [job for job in jobs if job.is_due(now) and job.subject not in waiting]
        rows = [*_under_way(place)]
        for job in ready:
            if job.why in (REST, CUT_OFF):
                rows.append(_take_up(place, job))
            elif job.why == GIVEN_UP:
                rows.append(_given_up(job))
            elif job.why == PREPARATION:
                rows.append(_prepare(place, job))
            elif job.why == LOOK:
                rows.append(_look_after(place, job))
        rows += _gone(place, now)
        rows += await _notices(place, [job for job in ready if job.system])
        rows += [tried[job.subject].row for job in jobs if job.subject in waiting and job.is_due(now)]
        rows += [_too_late(job) for job in jobs if job.until is not None and now > job.until]
        rows += [_row(COMES, job) for job in jobs if job.at is None or job.at > now]
        await _tell(place, rows, tried, {job.subject for job in ready}, now)
        return Turn(rows=tuple(rows))


# --- what there is to do


def _jobs(place: Workplace, now: datetime) -> Iterator[Job]:
    said: list[LedgerEntry] = [kept.entry for kept in place.ledger.about(["due", "book", "prepare"])]
    for row in place.journal.open_rolls():
        if not place.journal.is_running(row.id):
            job = _of_roll(place, row, said)
            if job is not None:
                yield job
    yield from preparations(said)
    yield from _looks_after(place, said, now)
    for n in _decided(place, said):
        system = place.estate.systems[n.system]
        spans = windows_of(place.estate, system, now - timedelta(days=1), now + AHEAD)
        job = job_of(n, spans, [e for e in said if e.kind == "due"], now)
        if job is not None:
            yield job


def _decided(place: Workplace, said: Sequence[LedgerEntry]) -> Sequence[Notice]:
    """The notices of which any could be due; none are made where no rule acts and nobody booked anything."""
    acts = any(rule.then == ACT for rule in place.estate.rules)
    if not place.estate.systems or not (acts or any(e.kind == "book" for e in said)):
        return ()
    return notices.listed(place, []).notices


def _gone(place: Workplace, now: datetime) -> list[Row]:
    """What was booked, and whose notice is there no more: it is left, with what has changed."""
    said = [kept.entry for kept in place.ledger.about([*DECISIONS, CLOSE])]
    begun = [kept.entry for kept in place.ledger.about(["due"])]
    if not vanished(said, (), begun, now):  # no booking is open, so no notice need be made
        return []
    listed = [n for n in notices.listed(place, [], everything=True).notices if n.state != DONE]
    known = {n.name: n for n in listed}
    return [
        Row(
            did=LEFT,
            what=BOOKING,
            subject=e.subject,
            at=e.start,
            until=e.end,
            by=e.by,
            why=_why_gone(place, e, known),
            next="gallant notice list --all",
            exit_code=1,
        )
        for e in vanished(said, listed, begun, now)
    ]


def _why_gone(place: Workplace, entry: LedgerEntry, known: Mapping[str, Notice]) -> str:
    system = place.estate.systems.get(entry.subject.partition(":")[0])
    if system is None:
        return "it was booked, and the estate has no such system any more"
    if entry.subject in known:
        return f"it was booked for {entry.target}, and is to come to {known[entry.subject].target} now"
    if system.product not in place.products:
        return f"it was booked, and no catalog here lists {system.product} any more"
    return f"it was booked for {entry.target}, and nothing is to be done about it any more: it runs what its aim asks for, or that was withdrawn"


def _of_roll(place: Workplace, row: RollRow, said: Sequence[LedgerEntry]) -> Job | None:
    state = replay(place.journal.events(row.id))
    if state.state == "held":
        return rest_of(row.id, state.opens, said)
    return cut_off(row.id, row.plan.id, row.began, said) if state.state == "open" else None


def _under_way(place: Workplace) -> Iterator[Row]:
    for row in place.journal.open_rolls():
        if place.journal.is_running(row.id):
            yield Row(
                did=GOES,
                what=", ".join(row.plan.systems),
                subject=row.id,
                at=row.began,
                roll=row.id,
                plan=row.plan.id,
                next=f"gallant roll --follow {row.id}",
            )


def _row(did: str, job: Job, **more: object) -> Row:
    row = Row(did=did, what=job.why, subject=job.subject, at=job.at, until=job.until, by=job.by)
    return msgspec.structs.replace(row, **more)  # type: ignore[type-var]


def _left(job: Job, why: str, next: str | None, exit_code: int = 1) -> Row:
    return _row(LEFT, job, why=clean(why, 400), next=next, exit_code=exit_code)


def _too_late(job: Job) -> Row:
    return _left(job, "its time has passed and it did not start", "gallant plan --all finds another")


# --- rolls and preparations that go on


def _take_up(place: Workplace, job: Job) -> Row:
    done = detach(place, _words(place, "resume", job.subject, "--detach"), f"due-{job.subject}.log")
    if done.roll is None:
        return _left(job, done.said or f"it ended with exit code {done.exit_code}", f"gallant resume {job.subject}")
    record(place, "due", job.subject, state=BEGUN, reason=f"carried on: {job.why}")
    return _row(BEGINS, job, roll=done.roll, next=f"gallant roll --follow {done.roll}")


def _prepare(place: Workplace, job: Job) -> Row:
    record(place, "prepare", job.subject, state=BEGUN)
    begin(place, _words(place, "plan", "--show", job.subject, "--prepare", "now"), f"prepare-{job.subject}.log")
    return _row(BEGINS, job, plan=job.subject, next=f"gallant plan --show {job.subject}")


def _looks_after(place: Workplace, said: Sequence[LedgerEntry], now: datetime) -> Iterator[Job]:
    """Of every roll that finished of late, and whose systems no other roll has changed since."""
    rolls, _ = place.journal.rolls()
    newest: dict[str, datetime] = {}
    for row in rolls:
        for name in row.plan.systems:
            newest[name] = max(row.began, newest.get(name, row.began))
    for row in rolls:
        current = all(newest[name] == row.began and name in place.estate.systems for name in row.plan.systems)
        if row.ended is not None and current and now <= row.ended + LOOKS[-1][1]:
            job = looks_after(row.id, row.ended, said, now)
            if job is not None and replay(place.journal.events(row.id)).state == "finished":
                yield job


def _look_after(place: Workplace, job: Job) -> Row:
    """Verify by itself, with samples, and write down what was found."""
    roll = job.subject.split()[0]
    systems = place.journal.roll(roll).plan.systems
    record(place, "due", job.subject, state=BEGUN)
    words = _words(place, "verify", *systems, "--against", roll, "--settle", SAMPLED_FOR, "--tell")
    begin(place, words, f"verify-{roll}.log")
    return _row(BEGINS, job, next=f"gallant report {roll}")


def _words(place: Workplace, *words: str) -> tuple[str, ...]:
    return (*words, "--estate", str(place.folder / place.path.name))


# --- notices


async def _notices(place: Workplace, jobs: Sequence[Job]) -> list[Row]:
    """Plan what is due together, and begin it; what something stands in the way of is left, and the others are planned without it."""
    rows = list[Row]()
    for job in jobs:
        if (error := open_roll(place, place.estate.systems[job.system])) is not None:
            rows.append(_left(job, error.what, error.next, error.exit_code))
    free = [job for job in jobs if job.subject not in {row.subject for row in rows}]
    rolled = _rolled_since(place, free)
    rows += [
        _left(job, f"{rolled[job.subject]} began it and did not end well", "gallant history")
        for job in free
        if job.subject in rolled
    ]
    left = [job for job in jobs if job.subject not in {row.subject for row in rows}]
    early = _too_early(place, {job.system for job in left})
    later = early | _full(place, list(dict.fromkeys(job.system for job in left if job.system not in early)))
    rows += [_row(COMES, job, why=later[job.system]) for job in left if job.system in later]
    left = [job for job in left if job.system not in later]
    if left and (approved := _approved(place, left)) is not None:
        return rows + _begin(place, approved, _given(place, left), left)
    fetched = set[str]()
    while left:
        parts = {job.system: tuple(j.component for j in left if j.system == job.system) for job in left}
        try:
            planned = await plan(place, list(parts), choice=Choice(of=parts), partly=True)
            if lacking := _lacking(planned) - fetched:  # brought once; what is still missing then stands in the way
                await stock.fetch(place, sorted(lacking))
                fetched |= lacking
                continue
            stuck = await _in_the_way(place, planned, left)
        except GallantError as error:
            return rows + [_left(job, error.what, error.next, error.exit_code) for job in left]
        if not stuck:
            return rows + _begin(place, planned.plan, _given(place, left), left)
        rows += [_left(job, *stuck[job.system]) for job in left if job.system in stuck]
        left = [job for job in left if job.system not in stuck]
    return rows


def _rolled_since(place: Workplace, jobs: Sequence[Job]) -> dict[str, str]:
    """What is booked and was begun in its time, by whomever, though nobody wrote that down: it is not begun twice."""
    booked = {job.system for job in jobs if job.why == BOOKING}
    rows = place.journal.rolls(booked)[0] if booked else ()
    return begun_by(jobs, (Rolled(id=r.id, began=r.began, brings=frozenset(notices.brought_by(r.plan))) for r in rows))


def _approved(place: Workplace, jobs: Sequence[Job]) -> Plan | None:
    """The newest plan that others approved of just what is due, where the estate asks for that; whether it still fits, its roll finds out. A plan that is made now
    nobody can have approved."""
    systems = {job.system for job in jobs}
    if not any(tag in place.estate.approval for name in systems for tag in place.estate.systems[name].tags):
        return None
    carried_out = {row.plan.id for row in place.journal.rolls(systems)[0]}
    found = list[Plan]()
    for path in (place.folder / "plans").glob("plan-*.json"):
        with contextlib.suppress(GallantError):
            made = load_plan(place, str(path))
            covers = all((job.system, job.component, job.target) in notices.brought_by(made) for job in jobs)
            if (
                set(made.systems) == systems
                and covers
                and made.id not in carried_out
                and not approval_of(place, made).missing
            ):
                found.append(made)
    return max(found, key=_made, default=None)


def _made(plan: Plan) -> datetime:
    return plan.made


def _too_early(place: Workplace, systems: Collection[str]) -> dict[str, str]:
    """Of some systems those whose round has to wait, and why: of an earlier one a roll is not finished, or something is booked."""
    estate, waiting = place.estate, dict[str, str]()
    if not estate.rounds:
        return {}
    open_rolls = {name: row.id for row in place.journal.open_rolls() for name in row.plan.systems}
    booked = {n.system: n.name for n in notices.listed(place, []).notices if n.state in (BOOKED, OVERDUE)}
    before, seen = dict[str, str](), set[str]()
    for rule in estate.rounds:
        own = systems_of(estate, rule) - seen
        for name in sorted(own & set(systems)):
            first = next(((s, r) for s, r in before.items()), None)
            if first is not None:
                waiting[name] = f"an earlier round is not done: {first[1]} of {first[0]}"
        seen |= own
        before |= {name: open_rolls.get(name) or booked[name] for name in own if name in open_rolls or name in booked}
    return waiting


def _full(place: Workplace, systems: Sequence[str]) -> dict[str, str]:
    """Of some systems those for which there is no room beside what is under way, and why: no more go on at once, in all, of a site and of a kind,
    than the estate allows."""
    limits, found = place.estate.limits, dict[str, str]()
    going = [place.estate.systems[name] for name in _worked_on(place) if name in place.estate.systems]
    for system in (place.estate.systems[name] for name in systems):
        rules = (
            (limits.lanes_at_once, len(going), "in all"),
            (limits.lanes_at_once_per_site, sum(s.site == system.site for s in going), f"of {system.site}"),
            (limits.lanes_at_once_per_kind, sum(s.kind == system.kind for s in going), f"of kind {system.kind}"),
        )
        full = next(((count, what) for most, count, what in rules if most is not None and count >= most), None)
        if full is None:
            going.append(system)
        else:
            found[system.name] = f"{full[0]} systems {full[1]} are worked on, and no more may be at once"
    return found


def _worked_on(place: Workplace) -> Iterator[str]:
    """The systems whose lane of a roll that is under way is not done."""
    for row in place.journal.open_rolls():
        if place.journal.is_running(row.id):
            state = replay(place.journal.events(row.id))
            for lane in row.plan.lanes:
                steps = (s for hop in lane.hops for s in steps_of(state.waves.get(hop.id, hop.waves)))
                if not all(state.step(step.id).done for step in steps):
                    yield lane.system


def _lacking(planned: Planned) -> set[str]:
    """The systems of which a package of the way is not in stock."""
    return {finding.system for finding in planned.findings if finding.check == IN_STOCK and finding.level == "stop"}


Why: TypeAlias = tuple[str, str | None, int]  # why something did not start, what to do about it, and its exit code


async def _in_the_way(place: Workplace, planned: Planned, jobs: Sequence[Job]) -> dict[str, Why]:
    """By system: why it did not start, for those of which something speaks against it."""
    made, first = planned.plan, {job.system: job.subject for job in reversed(jobs)}
    if planned.approvals:
        told = f"{made.id} needs the approval of {planned.approvals} other than {made.by}"
        return dict.fromkeys(first, (told, f"gallant approve {made.id}, by somebody else", 5))
    found = dict[str, Why]()
    for barred in planned.barred:
        found.setdefault(barred.system, (barred.what, barred.next, barred.exit_code))
    for finding in (f for f in planned.findings if f.level == "stop"):
        found.setdefault(finding.system, (f"{finding.message}: {finding.evidence}", finding.next, 5))
    for bar in planned.bars:
        found.setdefault(bar.notice.partition(":")[0], (bar.what, bar.next, 5))
    given = _given(place, jobs)
    for need in planned.needs:
        if need.consent.words not in given:
            how = f"gallant notice book {first.get(need.lane, need.lane)} TIME --consent {need.consent.words}"
            found.setdefault(need.lane, (f"nobody has accepted it by name: {need.what}", how, 5))
    for name in first:
        if name not in made.systems:
            found.setdefault(name, ("nothing of it can be planned now", f"gallant plan {name}", 5))
    if not found and planned.to_fetch:
        fetched, _ = await stock.fetch(place, [], plan=made)
        for row in (row for row in fetched if row.state == "failed"):
            return dict.fromkeys(first, (row.error or f"{row.package} is not in stock", row.next, row.exit_code))
    return {name: why for name, why in found.items() if name in first}


def _given(place: Workplace, jobs: Sequence[Job]) -> set[str]:
    """The consents that were given with the bookings."""
    booked = {(job.target, job.at) for job in jobs if job.why == BOOKING}
    entries = (kept.entry for kept in place.ledger.about(["consent"]))
    return {e.subject for e in entries if e.start is not None and (e.target, e.start) in booked}


def _begin(place: Workplace, made: Plan, given: Collection[str], jobs: Sequence[Job]) -> list[Row]:
    wanted = dict.fromkeys(need.consent.words for need in consents_needed(made, ()) if need.consent.words in given)
    consents = [word for words in wanted for word in ("--consent", words)]
    record(place, "due", made.id, state=INTENDED, reason=", ".join(job.subject for job in jobs))
    done = detach(place, _words(place, "roll", made.id, "--detach", *consents), f"due-{made.id}.log")
    if done.roll is None:
        why = done.said or f"it ended with exit code {done.exit_code}"
        return [_left(job, why, f"gallant plan --show {made.id}", done.exit_code) for job in jobs]
    record(place, "due", done.roll, target=made.id, state=BEGUN, reason=", ".join(made.systems))
    for job in jobs:
        who = f"{job.why} by {job.by}" if job.by is not None and job.why == BOOKING else job.why
        record(place, "due", job.subject, target=job.target, state=BEGUN, reason=f"{done.roll}: {who}")
    follow = f"gallant roll --follow {done.roll}"
    return [_row(BEGINS, job, roll=done.roll, plan=made.id, next=follow) for job in jobs]


# --- what was left


async def _tell(
    place: Workplace, rows: Sequence[Row], tried: dict[str, Tried], fresh: Collection[str], now: datetime
) -> None:
    """Write down what was left and why, and tell people of it, once for each reason; `fresh` is what was tried just now."""
    left = {row.subject: row for row in rows if row.did == LEFT}
    for name, row in left.items():
        if name in tried and tried[name].row.why == row.why:
            continue
        record(place, "due", name, state=FAILED, reason=row.why)
        text = f"{name} was due and did not start: {row.why}"
        systems = (name.partition(":")[0],)
        await notify(
            place, message_of(place, row.roll or "no roll", systems, "stopped", text, row.next or "gallant due")
        )
    kept = {
        name: tried[name]
        if name in tried and name not in fresh and tried[name].row.why == row.why
        else Tried(at=now, row=row)
        for name, row in left.items()
    }
    if kept != tried:
        put_whole(state_folder(place.folder) / TRIED, msgspec.json.encode(kept))


def _tried(place: Workplace) -> dict[str, Tried]:
    try:
        return msgspec.json.decode((state_folder(place.folder) / TRIED).read_bytes(), type=dict[str, Tried])
    except (OSError, msgspec.MsgspecError, ValueError):
        return {}


@contextmanager
def _alone(place: Workplace) -> Iterator[bool]:
    """Whether no other look at what is due is under way, here."""
    lock = opened(state_folder(place.folder) / LOCK, os.O_RDWR | os.O_CREAT)
    try:
        fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError:
        yield False
        return
    else:
        yield True
    finally:
        os.close(lock)
