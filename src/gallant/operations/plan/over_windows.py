"""All that is behind, put into the windows to come; and booked there, for `gallant due` to begin."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import datetime, timedelta

from gallant.core.decide.consents import Needed
from gallant.core.decide.notices import BLOCKED, BOOKED, SETTLED, UNDER_WAY, Notice
from gallant.core.errors import GallantError
from gallant.core.estate.calendar import windows_of_all
from gallant.core.estate.systems import Limits
from gallant.core.length.pieces import PieceShare, pieces_of
from gallant.core.length.placing import LONGEST_NIGHT, AtOnce, Placing
from gallant.core.plan.sifting import Barred
from gallant.core.records import Record, replace, rfc3339
from gallant.core.windows.rules import AHEAD, Span
from gallant.core.work.plan import Plan
from gallant.operations.decide import bookings, notices
from gallant.operations.decide.approving import asked_for
from gallant.operations.ground.workplace import Workplace
from gallant.operations.plan.approved import approved_plan
from gallant.operations.plan.making import Planned, plan
from gallant.operations.plan.placing import place as placed_well

LATE = timedelta(hours=12)
LEAD, LEAD_REAL_S = timedelta(minutes=2), 5.0  # what is booked is booked for a time to come, when this is done


class Slot(Record):
    """A piece of the work and where it goes: `span` None where it goes nowhere, and then
    `why`. `consents` are what somebody has to accept by name, `notices` what it carries
    out; `booked` whether that stands in the ledger, else `not_booked` says why."""

    piece: str
    systems: tuple[str, ...]
    site: str
    length_s: float
    span: Span | None
    window: Span | None = None
    part: int = 1
    parts: int = 1
    needs: tuple[str, ...] = ()
    why: str = ""
    consents: tuple[str, ...] = ()
    notices: tuple[str, ...] = ()
    booked: bool = False
    not_booked: str = ""
    next: str | None = None


class OverWindows(Record):
    """A plan over the windows to come. `gap` is how far its worth is from what no placing could exceed, as a share;
    `rests`: the estate lets the second part of a system be carried on by itself."""

    plan: str
    path: str
    slots: tuple[Slot, ...]
    gap: float | None
    barred: tuple[Barred, ...] = ()
    asked: bool = False
    rests: bool = False

    @property
    def exit_code(self) -> int:
        unplaced = any(slot.span is None for slot in self.slots)
        unbooked = self.asked and any(slot.span is not None and not slot.booked for slot in self.slots)
        return 1 if unplaced or unbooked or self.barred else 0


async def over_windows(
    place: Workplace, terms: Sequence[str], seconds: float, booking: bool, consents: Sequence[str]
) -> OverWindows:
    """Read and plan everything that is behind, put it into windows, and book it there where that is asked for."""
    planned = await plan(place, terms, partly=True)
    about = notices.carried_out(place, planned.plan)
    booked = booked_already(about, place.clock.now())
    shares = [kept_as_booked(share, booked) for share in shares_of(place, planned.plan)]
    placing = placed_well([share.piece for share in shares], at_once(place.estate.limits), seconds)
    slots = [_slot(share, placing, planned) for share in shares]
    slots = [_with_notices(slot, about, booked) for slot in slots]
    if booking:
        slots = [_booked(place, slot, consents) for slot in slots]
    return OverWindows(
        plan=planned.plan.id,
        path=planned.path,
        slots=tuple(sorted(slots, key=_begin)),
        gap=placing.gap,
        barred=planned.barred,
        asked=booking,
        rests=place.estate.due.rests,
    )


def at_once(limits: Limits) -> AtOnce:
    """How many systems may be worked on side by side."""
    return AtOnce(whole=limits.lanes_at_once, site=limits.lanes_at_once_per_site, kind=limits.lanes_at_once_per_kind)


def booked_already(about: Sequence[Notice], now: datetime) -> dict[str, datetime]:
    """By system: the time to come for which something of it is booked; the earliest of several."""
    found = dict[str, datetime]()
    for n in about:
        if n.state == BOOKED and n.start is not None and n.start > now:
            found[n.system] = min(n.start, found.get(n.system, n.start))
    return found


def kept_as_booked(share: PieceShare, booked: Mapping[str, datetime]) -> PieceShare:
    """What is booked stays where it is."""
    at = min((booked[name] for name in share.lanes if name in booked), default=None)
    if at is None or share.part > 1:
        return share
    return replace(share, piece=replace(share.piece, spans=(Span(begin=at, end=at + share.piece.length),)))


def _begin(slot: Slot) -> tuple[bool, datetime | None, str]:
    return slot.span is None, slot.span.begin if slot.span is not None else None, slot.piece


def shares_of(place: Workplace, made: Plan) -> list[PieceShare]:
    """The pieces of a plan, each with the windows to come that all of its systems have."""
    estate = place.estate
    lead = timedelta(seconds=place.clock.estate_s(LEAD_REAL_S))
    first = _whole_minute(place.clock.now() + max(LEAD, lead))

    def spans_of(names: Sequence[str]) -> tuple[Span, ...]:
        systems = [estate.systems[name] for name in names if name in estate.systems]
        spans = windows_of_all(estate, systems, first - timedelta(days=1), first + AHEAD)
        if spans is None:
            return (Span(begin=first, end=first + AHEAD),)
        return tuple(Span(begin=max(first, span.begin), end=span.end) for span in spans if span.end > first)

    def place_of(name: str) -> tuple[str, str]:
        return estate.systems[name].site, estate.systems[name].kind or ""

    severities = {n.system: n.severity for n in reversed(notices.carried_out(place, made))}
    return pieces_of(made, place_of, spans_of, severities)


def _whole_minute(moment: datetime) -> datetime:
    return moment.replace(second=0, microsecond=0) + timedelta(minutes=1)


def _slot(share: PieceShare, placing: Placing, planned: Planned) -> Slot:
    piece = share.piece
    span = next((one.span for one in placing.placed if one.piece == piece.name), None)
    inside = (w for w in piece.spans if span is not None and w.begin <= span.begin and span.end <= w.end)
    needs: Sequence[Needed] = planned.needs
    return Slot(
        piece=piece.name,
        systems=share.lanes,
        site=piece.site,
        length_s=piece.length_s,
        span=span,
        window=next(inside, None),
        part=share.part,
        parts=share.parts,
        needs=piece.needs,
        why=placing.left.get(piece.name, ""),
        consents=tuple(dict.fromkeys(need.consent.words for need in needs if need.lane in share.lanes)),
    )


def _with_notices(slot: Slot, about: Sequence[Notice], booked: Mapping[str, datetime]) -> Slot:
    open_now = (n for n in about if n.state not in (*SETTLED, UNDER_WAY, BLOCKED) and n.system in slot.systems)
    stands = slot.part == 1 and slot.span is not None and all(name in booked for name in slot.systems)
    return replace(slot, notices=tuple(n.name for n in open_now), booked=stands)


def _lasting(span: Span, window: Span | None) -> timedelta:
    """A booking holds until its window ends: what begins late may still
    fit. Where that is nearly always open, a night's length more."""
    if window is None or window.length > LONGEST_NIGHT:
        return span.length + LATE
    return window.end - span.begin


def _unapproved(place: Workplace, slot: Slot) -> bool:
    every = [n for n in notices.listed(place, list(slot.systems)).notices if n.name in slot.notices]
    return approved_plan(place, {(n.system, n.component, n.target) for n in every}) is None


def _booked(place: Workplace, slot: Slot, consents: Sequence[str]) -> Slot:
    """Book all that a piece carries out for its time; the later parts of a system follow from the first."""
    if slot.span is None or slot.booked:
        return slot
    if slot.part > 1:
        return replace(slot, booked=place.estate.due.rests)
    if missing := [word for word in slot.consents if word not in consents]:
        words = " ".join(f"--consent {word}" for word in missing)
        return replace(
            slot, not_booked="nobody accepted by name what it needs", next=f"gallant plan --all --book {words}"
        )
    if (needed := asked_for(place, slot.systems)) and _unapproved(place, slot):
        whom = " ".join(slot.systems)
        why = f"no plan of it has the approval of {needed} other than who made it"
        return replace(slot, not_booked=why, next=f"gallant plan {whom}; somebody else: gallant approve PLAN")
    try:
        for name in slot.notices:
            begin, lasting = rfc3339(slot.span.begin), _lasting(slot.span, slot.window)
            bookings.book(place, bookings.drafted(place, name, begin, lasting, slot.consents), ())
    except GallantError as error:
        return replace(slot, not_booked=error.what, next=error.next)
    return replace(slot, booked=bool(slot.notices), not_booked="" if slot.notices else "no notice is about it")
