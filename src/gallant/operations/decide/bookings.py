"""Bookings: work that starts by itself at a time that somebody chose."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime, timedelta
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from gallant.core.decide.consents import parse_consent
from gallant.core.decide.notices import (
    BOOKED,
    OVERDUE,
    Notice,
)
from gallant.core.errors import Refused, WrongUse
from gallant.core.estate.calendar import windows_of
from gallant.core.readings import IMAGE
from gallant.core.records import Record, clean
from gallant.core.windows.moments import NotATime, Unclear, moment_meant
from gallant.core.windows.rules import AHEAD, next_after, open_at
from gallant.operations.assess.plannable import ways_to_plan
from gallant.operations.decide.notices import (
    Decided,
    accept_terms,
    all_wanted,
    decided_as,
    given_with,
    may,
    one,
    refuse_blocked,
    still_open,
    write_down,
)
from gallant.operations.ground.deciding import record
from gallant.operations.ground.workplace import Workplace
from gallant.operations.length.jobs import image_room


class BookingDraft(Record):
    """A booking before it is taken: the notice, its time, and all that a
    named person accepts with it. `length_said`: by a person."""

    notice: Notice
    start: datetime
    end: datetime | None
    consents: tuple[str, ...]
    length_said: bool = False


def drafted(
    place: Workplace, name: str, when: str, lasting: timedelta | None = None, consents: Sequence[str] = ()
) -> BookingDraft:
    """For a time, and as long as is said, else as the work is expected to last. With
    it a named person gives `consents`, for when nobody is there to ask; what was
    given with the one before holds on. Raises `Refused` outside of its windows."""
    for word in consents:
        if parse_consent(word).of_many:
            raise WrongUse(
                f"--consent {clean(word, 60)} names no system, and a booking is of one.",
                next=f"Name it: {word.partition(':')[0]}:{name.partition(':')[0]}",
            )
    notice = one(place, name)
    may(notice)
    refuse_blocked(notice)
    start = moment_of(place, notice.system, when)
    if start <= place.clock.now():
        raise WrongUse(f"{when} is past; it is {place.clock.now():%Y-%m-%d %H:%M}Z now.", next="Book a time to come.")
    _refuse_closed(place, notice, start)
    length = lasting or _length(place, notice)
    words = dict.fromkeys([*given_with(place, notice), *consents])
    end = start + length if length else None
    return BookingDraft(notice=notice, start=start, end=end, consents=tuple(words), length_said=lasting is not None)


def book(place: Workplace, draft: BookingDraft, terms: Sequence[str]) -> Decided:
    """Take a booking; a second one of a notice changes the first."""
    notice, start = draft.notice, draft.start
    accept_terms(place, notice, terms)
    kept = write_down(place, "book", notice, start=start, end=draft.end)
    for word in draft.consents:
        record(place, "consent", word, target=notice.target, start=start, reason=f"with the booking of {notice.name}")
    did = "booking changed to" if notice.state in (BOOKED, OVERDUE) else "booked for"
    said = f"{did} {start:%Y-%m-%d %H:%M}Z"
    return still_open(decided_as(place, notice.name, kept, said, ways_to_plan(place, [notice.system])))


def _refuse_closed(place: Workplace, notice: Notice, start: datetime) -> None:
    """What is booked begins in a window of its system, where it has any."""
    spans = windows_of(place.estate, place.estate.systems[notice.system], start - timedelta(days=1), start + AHEAD)
    if spans is None or open_at(spans, start) is not None:
        return
    following = next_after(spans, start)
    raise Refused(
        f"{notice.name} is not booked: no window of {notice.system} is open at {start:%Y-%m-%d %H:%M} UTC"
        + (f"; the next begins at {following.begin:%Y-%m-%d %H:%M} UTC." if following is not None else "."),
        next=f"gallant windows {notice.system}",
    )


def _length(place: Workplace, notice: Notice) -> timedelta | None:
    """So long that a plan of it has room for each of its stretches;
    the publisher's word where none can be made of it yet."""
    seconds = image_room(place, place.estate.systems[notice.system]) if notice.component == IMAGE else None
    if seconds is None:
        every = all_wanted(place, [notice.system])
        seconds = next((w.length_s for w in every if w.name == notice.name), None)
    return timedelta(seconds=seconds) if seconds else None


def cancel(place: Workplace, name: str) -> Decided:
    """Take a booking back; the acceptance stays."""
    notice = one(place, name)
    if notice.state not in (BOOKED, OVERDUE):
        raise WrongUse(f"{notice.name} is not booked; it is {notice.state}.", next="gallant notice list")
    kept = write_down(place, "cancel", notice)
    return still_open(decided_as(place, notice.name, kept, "booked no more, and stays accepted"))


def moment_of(place: Workplace, system: str, text: str) -> datetime:
    """A time as people write it: with a zone, else in that of the system's site; HH:MM is the next such time there."""
    zone_name = place.estate.sites[place.estate.systems[system].site].time_zone
    try:
        zone = ZoneInfo(zone_name)
    except (ZoneInfoNotFoundError, ValueError, OSError):
        raise WrongUse(f"{zone_name!r}, the time zone of the site of {system}, is not known on this machine.") from None
    try:
        return moment_meant(text, zone, place.clock.now())
    except NotATime:
        raise WrongUse(
            f"{clean(text, 40)!r} is not a time.", next="Write 2026-11-28T22:00, with a zone if you like, or 22:00."
        ) from None
    except Unclear as unclear:
        early, late = (i.astimezone(zone).isoformat(timespec="minutes") for i in unclear.instants)
        how = "is not there" if unclear.skipped else "is there twice"
        why = "clocks go forward over it" if unclear.skipped else "clocks go back over it"
        utc = " and ".join(f"{i:%H:%M}Z" for i in unclear.instants)
        raise WrongUse(
            f"{unclear.local:%Y-%m-%d %H:%M} {how} in {zone.key}: {why}. It may mean {utc}.",
            next=f"Write {early} or {late}.",
        ) from None
