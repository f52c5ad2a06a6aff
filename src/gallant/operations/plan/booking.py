"""Booking: what would go wrong in the night is said by day, before it is booked."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from datetime import datetime, timedelta
from typing import TypeAlias

from gallant.core.checks.facts import UNATTENDED
from gallant.core.decide.consents import Needed
from gallant.core.decide.notices import Notice
from gallant.core.errors import GallantError
from gallant.core.estate.calendar import windows_of_all
from gallant.core.estate.stacks import systems_above
from gallant.core.length.spread import stretches_of, to_rest_s
from gallant.core.records import Record, replace
from gallant.core.windows.rules import open_at
from gallant.core.work.plan import Plan
from gallant.operations.decide import bookings
from gallant.operations.decide.approving import asked_for
from gallant.operations.decide.bookings import BookingDraft
from gallant.operations.decide.notices import Decided
from gallant.operations.ground.secrets import unattended
from gallant.operations.ground.workplace import Ask, Workplace
from gallant.operations.plan.approved import approved_plan
from gallant.operations.plan.making import foreseen


class Doubt(Record):
    """Why a booking would come to nothing, and what to do about it:
    a `consent` to be given with it, or another command."""

    what: str
    next: str = ""
    consent: str = ""


class Doubtful(GallantError):
    """A booking that would come to nothing: it is taken for somebody who says so."""

    exit_code = 1


def book(place: Workplace, draft: BookingDraft, terms: Sequence[str], sure: Ask) -> Decided:
    """Take a booking, where nothing speaks against it or somebody is `sure`; one of
    which nobody said how long it is has room for its plan. Raises `Doubtful`."""
    foreknown = _foreknown(place, draft.notice)
    if not draft.length_said and not isinstance(foreknown, GallantError):
        minutes = math.ceil(sum(stretches(foreknown[0])) / 60)
        draft = replace(draft, end=max(draft.end or draft.start, draft.start + timedelta(minutes=minutes)))
    found = tuple(doubts(place, draft, foreknown))
    whats = "; ".join(doubt.what for doubt in found)
    if found and not sure(f"{draft.notice.name} would be left undone: {whats}. Book it all the same?"):
        raise Doubtful(
            f"{draft.notice.name} is not booked, since it would be left undone: {found[0].what}.",
            " ".join(f"Also: {doubt.what}." for doubt in found[1:]) or None,
            f"{_way_out(draft, found)}; or --yes books it all the same",
        )
    return replace(bookings.book(place, draft, terms), doubts=tuple(doubt.what for doubt in found))


Foreknown: TypeAlias = (
    tuple[Plan, tuple[Needed, ...]] | GallantError
)  # the plan and what is to be accepted for it, or why there is none


def _foreknown(place: Workplace, notice: Notice) -> Foreknown:
    try:
        return foreseen(place, {notice.system: (notice.component,)})
    except GallantError as error:
        return error


def _way_out(draft: BookingDraft, found: Sequence[Doubt]) -> str:
    """What helps against the first that no consent helps against, else all the consents at once."""
    if other := next((doubt.next for doubt in found if not doubt.consent), None):
        return other
    words = " ".join(f"--consent {doubt.consent}" for doubt in found)
    return f"gallant notice book {draft.notice.name} {draft.start:%Y-%m-%dT%H:%MZ} {words}"


def doubts(place: Workplace, draft: BookingDraft, foreknown: Foreknown) -> Iterator[Doubt]:
    """What speaks against a booking, by the plan that would be made of it as everything was read last."""
    system = place.estate.systems[draft.notice.system]
    for one in unattended(place.estate, system, place.folder):
        yield Doubt(
            what=f"accounts: {one.purpose}: {UNATTENDED[one.kind].format(where=one.where)}",
            next=f"gallant check {system.name}",
        )
    if isinstance(foreknown, GallantError):
        what = f"no plan can be made of it: {foreknown.what.rstrip('.')}"
        yield Doubt(what=what, next=(foreknown.next or f"gallant plan {system.name}").rstrip("."))
        return
    made, needs = foreknown
    for need in needs:
        if need.consent.words not in draft.consents:
            what = f"nobody has accepted it by name: {need.what.rstrip('.')}"
            yield Doubt(what=what, consent=need.consent.words)
    yield from _unapproved(place, draft.notice, made)
    yield from _too_short(place, made, draft.notice, draft.start, draft.end)


def _unapproved(place: Workplace, notice: Notice, made: Plan) -> Iterator[Doubt]:
    """What is due is rolled by a plan that others approved before; one that is made at night nobody has approved."""
    needed = asked_for(place, made.every)
    if needed and approved_plan(place, {(notice.system, notice.component, notice.target)}) is None:
        what = f"no plan of it has the approval of {needed} other than who made it"
        yield Doubt(what=what, next=f"gallant plan {notice.system}; somebody else: gallant approve PLAN")


def stretches(made: Plan) -> list[float]:
    """The seconds from rest to rest of all that is done, in nine of ten cases."""
    return [to_rest_s(hop, stretch) for lane in made.lanes for hop, stretch in stretches_of(lane.hops)]


def _too_short(place: Workplace, made: Plan, notice: Notice, start: datetime, end: datetime | None) -> Iterator[Doubt]:
    """Whether its stretches from rest to rest go into what is open from its begin on."""
    names = [notice.system, *systems_above(place.estate, place.estate.systems[notice.system])]
    systems = [place.estate.systems[name] for name in names]
    spans = windows_of_all(place.estate, systems, start - timedelta(days=1), start + timedelta(days=2))
    here = open_at(spans, start) if spans is not None else None
    ends = [moment for moment in (here.end if here is not None else None, None if spans is not None else end) if moment]
    if not ends:
        return
    room = (min(ends) - start).total_seconds()
    needed = stretches(made)
    longer = next((s for s in needed if s > room), None)
    if longer is not None:
        what = f"it needs up to {longer / 60:.0f} min in one piece, and {room / 60:.0f} min are open from then on"
    elif sum(needed) > room and not place.estate.due.rests:
        what = (
            f"it needs up to {sum(needed) / 60:.0f} min, {room / 60:.0f} min are open from then on, and nothing carries"
            " on the rest by itself (due: rests)"
        )
    else:
        return
    yield Doubt(what=what, next=f"gallant windows {notice.system}; gallant plan --all finds a time")
