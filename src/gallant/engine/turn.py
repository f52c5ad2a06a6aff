"""One look at what is due: what it begins, what it leaves, and what it
says of that. Safe to be cut off anywhere, and to be had again.

What it needs of an estate it has through a `Desk`; what takes long goes on in processes of its own.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from datetime import datetime, timedelta
from typing import TypeAlias

from gallant.core.decide.due import (
    BOOKING,
    CUT,
    CUT_OFF,
    ENDED,
    GIVEN_UP,
    GONE,
    HELD,
    LOOK,
    LOOKS,
    MOST_TAKEN_UP,
    NEVER,
    PASSED,
    PREPARATION,
    REST,
    RUNNING,
    STOPPED,
    TO_DO,
    UNFINISHED,
    Booking,
    DueJob,
    Rolled,
    bookings,
    by_rule,
    cut_off,
    latest_begin,
    looks_after,
    most_urgent,
    open_bookings,
    preparations,
    rest_of,
)
from gallant.core.decide.ledger import BEGUN, CLOSE, DECISIONS, FAILED, INTENDED, LedgerEntry
from gallant.core.decide.notices import BOOKED, BY_ITSELF, DONE, OVERDUE, Notice
from gallant.core.errors import GallantError
from gallant.core.estate.rules import ACT
from gallant.core.plan.planning import systems_of
from gallant.core.records import Record, clean, replace
from gallant.core.windows.rules import open_at
from gallant.engine.desk import BEGINS, COMES, GOES, LEFT, Desk, DueLook, DueRow, LastTry, OpenRoll, Ready

PASSED_BY = "its time has passed and it did not start"
Decided: TypeAlias = tuple[
    str, str | None, datetime | None
]  # what was decided of a notice: for which release, and until when


class _Found(Record):
    """What there is to do, and what is left of what was to be done."""

    jobs: tuple[DueJob, ...]
    left: tuple[DueRow, ...]


def to_come(desk: Desk) -> DueLook:
    """What is due and what will be, as it stands now; nothing is begun."""
    now, tried = desk.now(), desk.tried()
    found = _found(desk, now, tried)
    left = _placed_again(desk, found.left, tried, now)
    return DueLook(rows=(*_under_way(desk), *left, *(_row(COMES, job) for job in found.jobs)))


async def due(desk: Desk) -> DueLook:
    """Begin what is due, inside of its windows and after fresh checks; what is left is told once, with the reason."""
    now, tried, decided_at = desk.now(), desk.tried(), desk.last_entry()
    found, retry = _found(desk, now, tried), timedelta(minutes=desk.estate.due.retry_minutes)
    vain = {(n, one.row.until): one.row for n, one in tried.items() if one.row.did == LEFT and now < one.at + retry}
    waiting = {job.subject: row for job in found.jobs if (row := vain.get((job.subject, job.until))) is not None}
    ready = [job for job in found.jobs if job.is_due(now) and job.subject not in waiting]
    rows = [*_under_way(desk), *found.left]
    rows += [_BEGINNING[job.why](desk, job) for job in ready if job.why in _BEGINNING]
    rows += await _notices(desk, _in_order(desk, [job for job in ready if job.system], now), decided_at)
    rows += [waiting[job.subject] for job in found.jobs if job.subject in waiting and job.is_due(now)]
    rows += [_row(COMES, job) for job in found.jobs if not job.is_due(now)]
    rows = _placed_again(desk, rows, tried, now)
    await _tell(desk, rows, tried, {job.subject for job in ready}, now)
    return DueLook(rows=tuple(rows))


def _found(desk: Desk, now: datetime, tried: Mapping[str, LastTry]) -> _Found:
    said = desk.said(["due", "prepare", *DECISIONS, CLOSE])
    begun = [e for e in said if e.kind == "due"]
    goes_on, left = list[DueJob](), list[DueRow]()
    for row in desk.open_rolls():
        job = None if row.stands == RUNNING else _of_roll(row, said)
        if job is not None and job.why == GIVEN_UP:
            left.append(_given_up(job))
        elif job is not None:
            goes_on.append(job)
    carried = {job.subject for job in goes_on} | {row.subject for row in left}
    goes_on += [*preparations(said), *_looks_after(desk, begun, now)]
    booked = open_bookings(said)
    listed = _listed(desk, bool(booked))
    for booking in bookings(booked, listed, _rolls_of(desk, booked), now):
        if booking.fate == TO_DO:
            goes_on.append(booking.job)
        elif booking.roll is None or booking.roll.id not in carried:
            left += _left_of(desk, booking, listed, tried, now)
    acting = [n for n in listed if n.state == BY_ITSELF]
    brought = desk.brought({n.system for n in acting}) if acting else set()
    made = (by_rule(n, desk.spans(n.system, now), begun, brought, now) for n in acting)
    goes_on += [job for job in made if job is not None]
    return _Found(jobs=tuple(sorted(goes_on, key=_soonest)), left=tuple(left))


def _soonest(job: DueJob) -> tuple[bool, datetime | None, str]:
    return job.at is None, job.at, job.subject


def _rolls_of(desk: Desk, booked: Sequence[LedgerEntry]) -> Iterable[Rolled]:
    """The rolls that may be those of some bookings."""
    starts = [e.start for e in booked if e.start is not None]
    return desk.rolled({e.subject.partition(":")[0] for e in booked}, min(starts)) if starts else ()


def _listed(desk: Desk, booked: bool) -> Sequence[Notice]:
    """The notices as they stand; none are made where no rule acts and nothing is `booked`."""
    acts = any(rule.then == ACT for rule in desk.estate.rules)
    if not booked and not (acts and desk.estate.systems):
        return ()
    return [n for n in desk.notices(everything=booked) if n.state != DONE]


# What became of a booking whose roll is not done and that nothing
# carries on by itself, by how that roll stands: why, and what helps.
_STANDS = {
    CUT: ("{roll} was cut off", "gallant resume {roll}"),
    HELD: ("{roll} is held, and nothing carries it on by itself", "gallant resume {roll}"),
    STOPPED: ("{roll} stopped", "gallant history {roll}"),
    ENDED: ("{roll} began it and was ended before it was done", "gallant notice book {subject} TIME"),
}


def _left_of(
    desk: Desk, booking: Booking, listed: Sequence[Notice], tried: Mapping[str, LastTry], now: datetime
) -> Iterator[DueRow]:
    """What is left of a booking, if anything is."""
    job, roll = booking.job, booking.roll
    is_over = job.until is not None and now > job.until
    if booking.fate == GONE:
        yield _left(job, _why_gone(desk, job, {n.name: n for n in listed}), "gallant notice list --all")
    elif booking.fate == PASSED:
        last, why = tried.get(job.subject), PASSED_BY
        before = last if last is not None and last.row.until == job.until else None  # of this booking
        if before is not None and before.row.lapsed:
            why = before.row.why
        elif before is not None and before.row.did == COMES:
            why = f"its time has passed while it waited: {before.row.why}"
        yield replace(_left(job, why, "gallant plan --all finds another time"), lapsed=True)
    elif booking.fate == UNFINISHED and roll is not None:
        if roll.stands == HELD and not is_over:  # somebody may carry it on yet
            return
        why, how = _STANDS[roll.stands]
        yield replace(_left(job, why.format(roll=roll.id), how.format(roll=roll.id, subject=job.subject)), roll=roll.id)


def _placed_again(desk: Desk, rows: Sequence[DueRow], tried: Mapping[str, LastTry], now: datetime) -> list[DueRow]:
    """What lapsed of some rows, each with the next time at which it fits: of all of
    it at once, as soon as something of it is new or its time has passed too."""
    lapsed = [row for row in rows if row.lapsed]
    known = {row.subject: tried[row.subject].row for row in lapsed if _is_known(tried.get(row.subject), row)}
    if all(row.subject in known and (known[row.subject].again or NEVER) > now for row in lapsed):
        times = {row.subject: known[row.subject].again for row in lapsed}
    else:
        parts = dict[str, set[str]]()
        for row in lapsed:
            system, _, component = row.subject.partition(":")
            parts.setdefault(system, set()).add(component)
        by_system = desk.next_times(parts)
        times = {row.subject: by_system.get(row.subject.partition(":")[0]) for row in lapsed}
    return [_with_time(row, times.get(row.subject)) for row in rows]


def _with_time(row: DueRow, again: datetime | None) -> DueRow:
    if again is None:
        return row
    return replace(row, again=again, next=f"gallant notice book {row.subject} {again:%Y-%m-%dT%H:%MZ}")


def _given_up(job: DueJob) -> DueRow:
    why = f"it was carried on by itself {MOST_TAKEN_UP} times, and cut off each time"
    return _left(job, why, f"gallant resume {job.subject}")


def _why_gone(desk: Desk, job: DueJob, known: Mapping[str, Notice]) -> str:
    system = desk.estate.systems.get(job.system)
    if system is None:
        return "it was booked, and the estate has no such system any more"
    if job.subject in known:
        return f"it was booked for {job.target}, and is to come to {known[job.subject].target} now"
    if not desk.has_product(system.product):
        return f"it was booked, and no catalog here lists {system.product} any more"
    return (
        f"it was booked for {job.target}, and nothing is to be done about it any more: it runs what its aim asks for,"
        " or that was withdrawn"
    )


def _of_roll(row: OpenRoll, said: Sequence[LedgerEntry]) -> DueJob | None:
    if row.stands == HELD:
        return rest_of(row.id, row.opens, said)
    return cut_off(row.id, row.plan, row.began, said) if row.stands == CUT else None


def _under_way(desk: Desk) -> Iterator[DueRow]:
    for row in desk.open_rolls():
        if row.stands == RUNNING:
            yield DueRow(
                did=GOES,
                what=", ".join(row.systems),
                subject=row.id,
                at=row.began,
                roll=row.id,
                plan=row.plan,
                next=f"gallant roll --follow {row.id}",
            )


def _row(did: str, job: DueJob, **more: object) -> DueRow:
    row = DueRow(did=did, what=job.why, subject=job.subject, at=job.at, until=job.until, by=job.by)
    return replace(row, **more)


def _left(job: DueJob, why: str, next: str | None, exit_code: int = 1) -> DueRow:
    return _row(LEFT, job, why=clean(why, 400), next=next, exit_code=exit_code)


def _take_up(desk: Desk, job: DueJob) -> DueRow:
    done = desk.take_up(job.subject)
    if done.roll is None:
        return _left(job, done.said or f"it ended with exit code {done.exit_code}", f"gallant resume {job.subject}")
    desk.record("due", job.subject, state=BEGUN, reason=f"carried on: {job.why}")
    return _row(BEGINS, job, roll=done.roll, next=f"gallant roll --follow {done.roll}")


def _prepare(desk: Desk, job: DueJob) -> DueRow:
    desk.record("prepare", job.subject, state=BEGUN)
    desk.prepare(job.subject)
    return _row(BEGINS, job, plan=job.subject, next=f"gallant plan --show {job.subject}")


def _looks_after(desk: Desk, said: Sequence[LedgerEntry], now: datetime) -> Iterator[DueJob]:
    """Of every roll that finished of late, and whose systems no other roll has changed since."""
    rolls = desk.rolls()
    newest: dict[str, datetime] = {}
    for row in rolls:
        for name in row.systems:
            newest[name] = max(row.began, newest.get(name, row.began))
    for row in rolls:
        current = all(newest[name] == row.began and name in desk.estate.systems for name in row.systems)
        if row.ended is not None and current and now <= row.ended + LOOKS[-1][1]:
            job = looks_after(row.id, row.ended, said, now)
            if job is not None and desk.has_finished(row.id):
                yield job


def _look_after(desk: Desk, job: DueJob) -> DueRow:
    """Verify by itself, with samples, and write down what was found."""
    roll = job.subject.split()[0]
    desk.record("due", job.subject, state=BEGUN)
    desk.look_after(roll)
    return _row(BEGINS, job, next=f"gallant report {roll}")


_BEGINNING = {REST: _take_up, CUT_OFF: _take_up, PREPARATION: _prepare, LOOK: _look_after}


def _in_order(desk: Desk, jobs: Sequence[DueJob], now: datetime) -> list[DueJob]:
    """The most urgent first; how long each takes is asked only where there may not be room for all."""
    limits = desk.estate.limits
    tight = len({job.system for job in jobs}) > 1 and any(
        most is not None
        for most in (limits.lanes_at_once, limits.lanes_at_once_per_site, limits.lanes_at_once_per_kind)
    )

    def urgency(job: DueJob) -> tuple[int, bool, datetime, str]:
        spans = desk.spans(job.system, now) if tight else None
        window = open_at(spans, now) if spans is not None else None
        return most_urgent(job, latest_begin(job, window, desk.length_s(job) if tight else None), now)

    return sorted(jobs, key=urgency)


async def _notices(desk: Desk, jobs: Sequence[DueJob], decided_at: int) -> list[DueRow]:
    """Plan what is due together, as it was decided up to an entry of the ledger, and begin it; what something stands in
    the way of is left, and the others are planned without it."""
    rows = list[DueRow]()
    for job in jobs:
        if (error := desk.in_the_way(job.system)) is not None:
            rows.append(_left(job, error.what, error.next, error.exit_code))
    left = [job for job in jobs if job.subject not in {row.subject for row in rows}]
    early = _too_early(desk, {job.system for job in left})
    later = early | _full(desk, list(dict.fromkeys(job.system for job in left if job.system not in early)))
    rows += [_row(COMES, job, why=later[job.system]) for job in left if job.system in later]
    left = [job for job in left if job.system not in later]
    if left and (approved := desk.approved(left)) is not None:
        return rows + _begin(desk, approved, _given(desk, left), left, decided_at)
    while left:
        try:
            ready = await desk.planned(left, _given(desk, left))
        except GallantError as error:
            ready = Ready(plan="", stuck={job.system: (error.what, error.next, error.exit_code) for job in left})
        # To plan takes minutes, or hours where this process stood still:
        # people may have taken it back, or its time has passed.
        decided_at = desk.last_entry()
        still, gone = _still_due(desk, left)
        if not ready.stuck and still == left:
            return rows + _begin(desk, ready.plan, _given(desk, left), left, decided_at)
        left, rows = still, rows + gone
        rows += [_left(job, *ready.stuck[job.system]) for job in left if job.system in ready.stuck]
        left = [job for job in left if job.system not in ready.stuck]
    return rows


def _still_due(desk: Desk, jobs: Sequence[DueJob]) -> tuple[list[DueJob], list[DueRow]]:
    """Of some jobs those that are due still, and what is left of the others."""
    now = desk.now()
    found = _found(desk, now, {})
    due_now = {_decision(job) for job in found.jobs if job.is_due(now)}
    still = [job for job in jobs if _decision(job) in due_now]
    gone = {job.subject for job in jobs} - {job.subject for job in still}
    return still, [row for row in found.left if row.subject in gone]


def _decision(job: DueJob) -> Decided:
    return job.subject, job.target, job.until


def _too_early(desk: Desk, systems: Collection[str]) -> dict[str, str]:
    """Of some systems those whose round has to wait, and why: of an
    earlier one a roll is not finished, or something is booked."""
    estate, waiting = desk.estate, dict[str, str]()
    if not estate.rounds:
        return {}
    open_rolls = {name: row.id for row in desk.open_rolls() for name in row.systems}
    booked = {n.system: n.name for n in desk.notices() if n.state in (BOOKED, OVERDUE)}
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


def _full(desk: Desk, systems: Sequence[str]) -> dict[str, str]:
    """Of some systems those for which there is no room beside what is under way, and why: no more go on at once, in
    all, of a site and of a kind, than the estate allows."""
    limits, found, every = desk.estate.limits, dict[str, str](), desk.estate.systems
    going = [every[name] for row in desk.open_rolls() if row.stands == RUNNING for name in row.left if name in every]
    for system in (every[name] for name in systems):
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


def _given(desk: Desk, jobs: Sequence[DueJob]) -> set[str]:
    """The consents that were given with the bookings."""
    booked = {(job.target, job.at) for job in jobs if job.why == BOOKING}
    return {e.subject for e in desk.said(["consent"]) if e.start is not None and (e.target, e.start) in booked}


def _begin(desk: Desk, plan: str, given: Collection[str], jobs: Sequence[DueJob], decided_at: int) -> list[DueRow]:
    """Begin a plan of some jobs, as they were decided up to an entry of the ledger."""
    desk.record("due", plan, state=INTENDED, reason=", ".join(job.subject for job in jobs))
    done = desk.begin(plan, given, decided_at)
    if done.roll is None:
        why = done.said or f"it ended with exit code {done.exit_code}"
        still, rows = _still_due(desk, jobs)
        return rows + [_left(job, why, f"gallant plan --show {plan}", done.exit_code) for job in still]
    systems = dict.fromkeys(job.system for job in jobs)
    desk.record("due", done.roll, target=plan, state=BEGUN, reason=", ".join(systems))
    for job in jobs:
        who = f"{job.why} by {job.by}" if job.by is not None and job.why == BOOKING else job.why
        desk.record("due", job.subject, target=job.target, state=BEGUN, reason=f"{done.roll}: {who}")
    follow = f"gallant roll --follow {done.roll}"
    return [_row(BEGINS, job, roll=done.roll, plan=plan, next=follow) for job in jobs]


async def _tell(
    desk: Desk, rows: Sequence[DueRow], tried: dict[str, LastTry], fresh: Collection[str], now: datetime
) -> None:
    """Write down what was left and why, and tell people of it, once
    for each reason; `fresh` is what was tried just now."""
    kept = dict[str, LastTry]()
    for row in rows:
        before = tried.get(row.subject)
        if row.did == LEFT and not _is_known(before, row):
            desk.record("due", row.subject, state=FAILED, reason=row.why)
            await desk.tell(row, f"{row.subject} was due and is not done: {row.why}")
        if row.did == LEFT or (row.did == COMES and row.why):
            since = before.at if before is not None and _is_known(before, row) and row.subject not in fresh else now
            kept[row.subject] = LastTry(at=since, row=row)
    if kept != tried:
        desk.keep_tried(kept)


def _is_known(before: LastTry | None, row: DueRow) -> bool:
    """Whether people were told the same of it, and of the same booking."""
    return before is not None and (before.row.did, before.row.why, before.row.until) == (row.did, row.why, row.until)
