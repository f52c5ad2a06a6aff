"""Notices: listed, and decided upon by a named person; every decision goes into the ledger before it counts."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from datetime import timedelta
from typing import Unpack

from gallant.core.assess.gaps import NO_GAP, Gap, Gaps, find_gaps
from gallant.core.decide.ledger import CLOSE, DECISIONS, ENDED, EntryMore, Kept, LedgerEntry
from gallant.core.decide.listing import Book, Notices, Ranked, grouped
from gallant.core.decide.notices import (
    ACCEPTED,
    BOOKED,
    DONE,
    OVERDUE,
    SETTLED,
    SKIPPED,
    UNDER_WAY,
    Bar,
    Notice,
    NoticeWork,
    Wanted,
    as_day,
    bar,
    notices,
    seen_as,
    seen_name,
    wanted,
)
from gallant.core.documents import suggestion
from gallant.core.errors import Refused, WrongUse
from gallant.core.estate.picks import Pick, is_condition, split
from gallant.core.plan.sifting import Barred
from gallant.core.readings import IMAGE, Reading
from gallant.core.records import Record, clean
from gallant.core.versions import NotAVersion, parse
from gallant.core.windows.rules import Span, joined
from gallant.core.work.events import RollRow
from gallant.core.work.plan import Plan
from gallant.operations.assess.gaps import Decisions, wrongly_picked
from gallant.operations.assess.plannable import barred_here, ways_to_plan
from gallant.operations.ground.deciding import record
from gallant.operations.ground.last import last_readings
from gallant.operations.ground.workplace import Ask, Workplace
from gallant.store.ledger import terms_subject


class NoticesListed(Record):
    """The notices of the selected systems, and how many more are settled when those were not asked for. Nothing known,
    none and not looked at are three answers: `uncatalogued` are selected systems whose product no catalog here lists,
    `unread` nodes that were never read. `barred` are those of its systems that cannot be planned, and why; `named`: systems or
    nodes by their names."""

    notices: Sequence[Notice]
    settled: int
    uncatalogued: tuple[str, ...] = ()
    unread: tuple[str, ...] = ()
    barred: tuple[Barred, ...] = ()
    named: bool = False


def listed(place: Workplace, terms: Sequence[str], everything: bool = False) -> NoticesListed:
    """Newest and most severe first. Skipped, left and done ones only when `everything` is asked for."""
    terms, pick = split(place.estate, terms)
    read, unread = last_readings(place, terms)
    found, selected = _picked(place, terms, pick, read), place.select(terms)
    open_now = Notices(found.book, [one for one in found.ranked if not one.settled])
    done = _done(place, terms, {one.name for one in found.ranked}) if everything else []
    return NoticesListed(
        notices=(*found, *done) if everything else open_now,
        settled=0 if everything else len(found) - len(open_now),
        uncatalogued=tuple(s.name for s, _ in selected if s.product not in place.products),
        barred=tuple(barred_here(place, _moving(open_now.ranked), None if terms else read).values()),
        unread=tuple(unread),
        named=any(":" not in term for term in terms),
    )


def names_of_open(place: Workplace, terms: Sequence[str]) -> list[str]:
    """The names of the notices that somebody may decide on."""
    return [one.name for one in _all(place, terms).ranked if not one.settled]


def _moving(found: Sequence[Ranked]) -> dict[str, bool]:
    """The systems that some notices are of, and of each whether its image is among them."""
    moving = dict.fromkeys((one.rows[0][0].system for one in found), False)
    return moving | {one.rows[0][0].system: True for one in found if one.rows[0][1].name == IMAGE}


def bars(place: Workplace, plan: Plan) -> list[Bar]:
    """The decisions that a roll of this plan would go against now. None is about going back."""
    if plan.undoes is not None:
        return []
    every, now = all_wanted(place, plan.systems), place.clock.now()
    decisions = {w.name: w.decision for w in every}
    found = (bar(n, decisions[n.name], now) for n in _concerned(place, plan, every))
    return [one for one in found if one is not None]


def booked(place: Workplace, plan: Plan) -> dict[str, list[Span]]:
    """By system: the times for which what a plan does is booked."""
    found = dict[str, list[Span]]()
    if plan.undoes is None and place.ledger.about(["book"]):
        for n in carried_out(place, plan):
            if n.state == BOOKED and n.start is not None and n.end is not None:
                found.setdefault(n.system, []).append(Span(begin=n.start, end=n.end))
    return {name: joined(spans) for name, spans in found.items()}


def carried_out(place: Workplace, plan: Plan) -> list[Notice]:
    """The notices that a plan is about."""
    return _concerned(place, plan, all_wanted(place, plan.systems))


def _concerned(place: Workplace, plan: Plan, every: Sequence[Wanted]) -> list[Notice]:
    # To finish a recalled release is another matter, decided by name when the plan was made.
    moved = {lane.system: [hop for hop in lane.hops if hop.image] for lane in plan.lanes}
    covered = {name for name, hops in moved.items() if hops and not all(hop.despite_recall for hop in hops)}
    touched = {(name, IMAGE) for name in covered}
    touched |= {(lane.system, part.component) for lane in plan.lanes for hop in lane.hops for part in hop.parts}
    return [n for n in _told(place, every) if (n.system, n.component) in touched]


def left_out(place: Workplace, systems: Sequence[str]) -> list[Notice]:
    """What `gaps` lists of some systems besides their images, and nobody decided to leave."""
    found = _all(place, systems)
    return list(Notices(found.book, [one for one in found.ranked if _is_left_out(one)]))


def parts_behind(place: Workplace, systems: Sequence[str]) -> list[Ranked]:
    """The same of many systems, of which no notice is made."""
    return [one for one in _all(place, systems).ranked if _is_left_out(one)]


def _is_left_out(one: Ranked) -> bool:
    return one.rows[0][1].name != IMAGE and one.state not in SETTLED


def _picked(place: Workplace, terms: Sequence[str], pick: Pick, readings: Mapping[str, Reading]) -> Notices:
    """The notices that are meant, those of one system together: the system of the first one first."""
    if (wrong := wrongly_picked(pick, readings)) is not None:
        raise wrong
    every = _all(place, terms, readings)
    found = [one for one in every.ranked if _is_meant(pick, one)] if pick.asked else every.ranked
    first = {name: at for at, name in enumerate(dict.fromkeys(one.rows[0][0].system for one in found))}
    return Notices(every.book, sorted(found, key=lambda one: (one.settled, first[one.rows[0][0].system])))


def _is_meant(pick: Pick, one: Ranked) -> bool:
    reading, part, verdict = one.rows[0]
    nodes = [row[0].node for row in one.rows]
    taken = pick.takes(reading.system, nodes, part.name, (part.product,), verdict.severity, verdict.standing)
    return taken and (not pick.states or one.state in pick.states)


def _all(place: Workplace, terms: Sequence[str], readings: Mapping[str, Reading] | None = None) -> Notices:
    """Every notice of some systems, each made when it is looked at."""
    gaps, now = _gaps_of(place, terms, readings), place.clock.now()
    groups = grouped(gaps)
    seen = ((name, seen_name(rows[0][2].standing, rows[0][2].target)) for name, rows in groups.items())
    alone = {rows[0][0].system for rows in groups.values()}
    begins = f"{next(iter(alone))}:" if len(alone) == 1 else ""  # of a long ledger only what is about this system
    book = Book(
        [kept.entry for kept in place.ledger.about(DECISIONS, begins)],
        place.readings.noticed(seen, now),
        _under_way(place),
        place.products,
        now,
        Decisions(place),
    )
    return Notices(book, book.ranked(groups))


def _gaps_of(place: Workplace, terms: Sequence[str], readings: Mapping[str, Reading] | None = None) -> Gaps:
    readings = last_readings(place, terms)[0] if readings is None else readings
    return find_gaps(place.estate, readings.values(), place.products, place.clock.now(), place.bundles)


def all_wanted(place: Workplace, terms: Sequence[str]) -> list[Wanted]:
    """What the gaps of some systems ask for."""
    decide = Decisions(place)
    made = (Gap(reading=r, part=part, verdict=v) for r, part, v in _gaps_of(place, terms).rows(but=NO_GAP))
    return wanted((gap, decide(gap.reading, gap.part, gap.verdict)) for gap in made)


def _under_way(place: Workplace) -> dict[str, NoticeWork]:
    return {
        name: NoticeWork(
            roll=row.id, began=row.began, end=row.began + timedelta(seconds=row.plan.estimate_s), finished=False
        )
        for row in place.journal.open_rolls()
        for name in row.plan.systems
    }


def _told(place: Workplace, every: Sequence[Wanted]) -> list[Notice]:
    now = place.clock.now()
    since = place.readings.noticed(map(seen_as, every), now)
    said = [kept.entry for kept in place.ledger.about(DECISIONS)]
    return notices(every, said, since, _under_way(place), place.products, now)


def _done(place: Workplace, terms: Sequence[str], still: set[str]) -> list[Notice]:
    """Notices that somebody decided on, or that a roll closed, and whose
    gap is no more; with the roll that brought what was wanted."""
    chosen = {system.name for system in place.systems(terms)}
    found: dict[str, Notice] = {}
    rolls, _ = place.journal.rolls(chosen)
    for kept in reversed(place.ledger.about([*DECISIONS, CLOSE])):
        entry = kept.entry
        told = entry.subject in still or entry.subject in found
        if entry.subject.partition(":")[0] in chosen and not told and entry.target is not None:
            found[entry.subject] = _done_notice(place, entry, entry.target, rolls)
    return list(found.values())


def _done_notice(place: Workplace, entry: LedgerEntry, target: str, rolls: Sequence[RollRow]) -> Notice:
    """A notice whose gap is no more, with the first roll that brought what was wanted."""
    system, _, component = entry.subject.partition(":")
    brought = (r for r in reversed(rolls) if r.ended and (system, component, target) in brought_by(r.plan))
    roll = next(brought, None)
    return Notice(
        name=entry.subject,
        system=system,
        component=component,
        product=place.estate.systems[system].product,
        nodes=(),
        installed=(target,),
        target=target,
        standing="current",
        severity=None,
        security=False,
        restart=None,
        state=DONE,
        since=entry.at,
        start=roll.began if roll else None,
        end=roll.ended if roll else None,
        by=entry.by,
        why=roll.id if roll else "closed outside a roll",
        roll=roll.id if roll else None,
    )


def brought_by(plan: Plan) -> set[tuple[str, str, str]]:
    """What a plan brings to which release: (system, component, version)."""
    return set(_in_order(plan))


def close(place: Workplace, plan: Plan, roll: str) -> list[str]:
    """Write down which notices a roll that finished has closed; gives their names. One whose gap is still there, at
    another node or to a newer release, stays open."""
    still = {w.name for w in all_wanted(place, plan.systems)}
    last = {f"{system}:{component}": to for system, component, to in _in_order(plan)}
    names = [name for name in last if name not in still]
    for name in names:
        record(place, CLOSE, name, target=last[name], state=ENDED, reason=roll)
    return names


def _in_order(plan: Plan) -> Iterator[tuple[str, str, str]]:
    """What a plan brings, each hop of a lane after the one before it."""
    for lane in plan.lanes:
        for hop in lane.hops:
            if hop.image:
                yield lane.system, IMAGE, hop.to
            for part in hop.parts:
                yield lane.system, part.component, part.to


def decided_since(place: Workplace, plan: Plan, seq: int) -> Kept | None:
    """The first that a person decided of what a plan brings after an entry of
    the ledger; whose it is says nothing of whether it is to be done."""
    names = {f"{system}:{component}" for system, component, _ in brought_by(plan)}
    newer = (kept for kept in place.ledger.about(DECISIONS) if kept.seq > seq and kept.entry.subject in names)
    return next((kept for kept in newer if kept.entry.kind != "assign"), None)


def one(place: Workplace, name: str) -> Notice:
    """The notice of that name; a bare system will do where it has one. Raises `WrongUse` where none or several fit."""
    found = _all(place, [name.partition(":")[0]] if name.partition(":")[0] in place.estate.systems else [])
    fitting = [n for n in found if n.name == name] or [n for n in found if n.system == name]
    if len(fitting) == 1:
        return fitting[0]
    if fitting:
        names = ", ".join(n.name for n in fitting)
        raise WrongUse(f"{name} has {len(fitting)} notices: {names}.", next="Name one of them.")
    known = name.partition(":")[0] in place.estate.systems
    why = "Nothing of it is behind its aim as it was last read." if known else None
    raise WrongUse(
        f"No notice {clean(name, 60)!r}{suggestion(name, [n.name for n in found])}.",
        why,
        "gallant notice list shows them.",
    )


class Chosen(Record):
    """The notices that some terms mean and that can be decided on, and
    those that they mean and that cannot; `by_name`: one was named."""

    notices: tuple[Notice, ...]
    by_name: bool = False
    blocked: tuple[Notice, ...] = ()
    settled: int = 0


def chosen(place: Workplace, terms: Sequence[str]) -> Chosen:
    """One notice by its name, or all that some terms mean and that nobody
    has decided on yet. Raises `WrongUse` for terms that mean none."""
    if len(terms) == 1 and not is_condition(terms[0]):
        return Chosen(notices=(one(place, terms[0]),), by_name=True)
    every = _all(place, [])
    names = {one.name: at for at, one in enumerate(every.ranked)}
    if all(term in names for term in terms):
        return Chosen(notices=tuple(every[names[term]] for term in dict.fromkeys(terms)), by_name=len(terms) == 1)
    estate_terms, pick = split(place.estate, terms)
    found = _picked(place, estate_terms, pick, last_readings(place, estate_terms)[0])
    if not found:
        raise WrongUse(f"{' '.join(terms)}: no notice is all of that.", next="gallant notice list shows them.")
    states = pick.states or ("new", "overdue")
    open_now = [n for n in found if n.state in states and n.standing != "blocked"]
    return Chosen(
        notices=tuple(open_now),
        blocked=tuple(n for n in found if n.standing == "blocked"),
        settled=sum(n.state not in states and n.standing != "blocked" for n in found),
    )


class Decided(Record):
    """A decision that is in the ledger now, and the notice as it stands
    after it; `doubts` are why what was booked would be left undone."""

    notice: Notice
    entry: int
    did: str
    next: tuple[str, ...] = ()
    doubts: tuple[str, ...] = ()


class TermsAsked(Refused):
    """Terms of use that nobody accepted yet: anyone who asks can show `text` and come again."""

    def __init__(self, place: Workplace, notice: Notice, version: str) -> None:
        self.version = version
        self.text = place.terms_text(notice.product, version)
        super().__init__(
            f"{notice.target or 'It'} of {notice.product} comes under the publisher's terms {version}, which nobody"
            " accepted here.",
            "A named person accepts them once for each version of the terms.",
            f"Read them: gallant catalog show {notice.product} {notice.target}; then add --accept-terms {version}",
        )


def write_down(place: Workplace, kind: str, notice: Notice, **more: Unpack[EntryMore]) -> Kept:
    """Write a decision on a notice into the ledger."""
    return record(place, kind, notice.name, target=notice.target, **more)


def accept_terms(place: Workplace, notice: Notice, accepted: Sequence[str]) -> None:
    """Raise `TermsAsked` for terms of a release that nobody has accepted; those that are given are written down."""
    publisher = notice.product.partition("/")[0]
    for version in notice.terms:
        if place.ledger.accepted(version, publisher):
            continue
        if version not in accepted:
            raise TermsAsked(place, notice, version)
        record(place, "terms", terms_subject(publisher, version), target=notice.target)


def decided_as(place: Workplace, name: str, kept: Kept, did: str, next: tuple[str, ...] = ()) -> Decided:
    """A notice as it is after a decision, with its entry."""
    return Decided(notice=one(place, name), entry=kept.seq, did=did, next=next)


def still_open(decided: Decided) -> Decided:
    """A decision that was written down while a roll began: the roll looks at it
    once more, and whoever decided hears of the roll. Raises `Refused`."""
    notice = decided.notice
    if notice.state == UNDER_WAY:
        raise Refused(
            f"{notice.name} is {decided.did}, and {notice.roll} began it in the same moment.",
            "It ends by itself where it saw that in time.",
            f"gallant history {notice.roll}; gallant hold {notice.roll} pauses it",
        )
    return decided


def may(notice: Notice) -> None:
    """Raise `Refused` where a roll works on it right now."""
    if notice.state == UNDER_WAY:
        raise Refused(
            f"{notice.name} is being carried out by {notice.roll}.",
            next=f"gallant hold {notice.roll} pauses it; gallant history",
        )


def accept(place: Workplace, name: str, terms: Sequence[str], reason: str = "") -> Decided:
    """Somebody wants it done; the terms of use of what is to be entered are accepted with it."""
    notice = one(place, name)
    may(notice)
    refuse_blocked(notice)
    accept_terms(place, notice, terms)
    kept = write_down(place, "accept", notice, reason=reason)
    return decided_as(place, notice.name, kept, f"accepted for {notice.target}", ways_to_plan(place, [notice.system]))


def refuse_blocked(notice: Notice) -> None:
    """Raise `Refused` for what cannot be done at all."""
    if notice.standing == "blocked":
        raise Refused(
            f"{notice.name} cannot be done yet: {notice.why}.",
            next=f"gallant route {notice.system} says what bars the way.",
        )


def given_with(place: Workplace, notice: Notice) -> list[str]:
    """The consents that were given with a booking as it stands."""
    if notice.start is None or notice.target is None:
        return []
    entries = (kept.entry for kept in place.ledger.about(["consent"]))
    return list(dict.fromkeys(e.subject for e in entries if (e.target, e.start) == (notice.target, notice.start)))


def assign(place: Workplace, name: str, person: str) -> Decided:
    """Give a notice to a person. Raises `WrongUse` without a name."""
    notice = one(place, name)
    if not person.strip():
        raise WrongUse("A person has a name.", next="gallant notice assign NOTICE PERSON")
    kept = write_down(place, "assign", notice, person=clean(person, 80))
    return decided_as(place, notice.name, kept, f"assigned to {clean(person, 80)}")


def skip(place: Workplace, name: str, until: str, reason: str, sure: Ask) -> Decided:
    """Leave it until a release is out or a day has come; the reason is kept. A release that no catalog lists yet is
    asked about: it may be one to come, or a slip of the pen."""
    notice = one(place, name)
    may(notice)
    if not reason.strip():
        raise WrongUse("A skip has a reason, for anyone who asks later.", next="Add --reason TEXT.")
    if not _is_known(place, notice, until) and not sure(
        f"No catalog here lists {clean(until, 40)} of {notice.product}. Is {notice.name} to be left until it is out?"
    ):
        newest = place.products[notice.product].ascending[-1][1].version
        raise WrongUse(
            f"{notice.name} is not skipped: no catalog lists {clean(until, 40)}; the newest is {newest}.",
            next="Write a release that is listed, a day, or --yes for one to come",
        )
    kept = write_down(place, "skip", notice, until=until, reason=clean(reason))
    return still_open(decided_as(place, notice.name, kept, f"skipped until {until}"))


def _is_known(place: Workplace, notice: Notice, until: str) -> bool:
    """Whether it is a day, or a release that a catalog lists. Raises `WrongUse` where it lies behind, or is neither."""
    product = place.products.get(notice.product)
    release = product.resolve(until) if product else None
    day = as_day(until)
    if release is None and day is not None:
        if day <= place.clock.now().date():
            raise WrongUse(f"{until} is not a day to come.", next="Skip until a later day or release.")
        return True
    try:
        if product is None:
            raise NotAVersion("any", until, "its product is in no catalog here")
        bound = product.key(release) if release else parse(product.scheme, until)
        if notice.target is not None and bound <= parse(product.scheme, notice.target):
            raise WrongUse(
                f"{until} is not newer than {notice.target}, which is out.", next="Skip until a later release or a day."
            )
    except NotAVersion as error:
        raise WrongUse(f"{error}, and no day.", next="Write --until RELEASE, or --until 2026-12-24.") from None
    return release is not None


def reopen(place: Workplace, name: str, reason: str = "") -> Decided:
    """Take the last decision back: the notice is new again."""
    notice = one(place, name)
    may(notice)
    if notice.state not in (ACCEPTED, BOOKED, OVERDUE, SKIPPED):
        raise WrongUse(
            f"{notice.name} is {notice.state}; there is no decision to take back.", next="gallant notice list"
        )
    return still_open(
        decided_as(place, notice.name, write_down(place, "reopen", notice, reason=clean(reason)), "open again")
    )


def record_despite(place: Workplace, system: str, release: str, reason: str) -> None:
    """A named person lets a recalled release be finished on a system that it does not concern."""
    record(place, "despite-recall", system, target=release, reason=clean(reason))
