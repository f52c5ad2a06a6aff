"""A time as people write it, and the instant that it means in a time zone."""

from __future__ import annotations

from datetime import UTC, date, datetime, time, timedelta
from zoneinfo import ZoneInfo

from gallant.core.windows.rules import instants_of, is_skipped


class NotATime(ValueError):
    """No time at all."""


class Unclear(ValueError):
    """A time that the clock of its zone shows twice, or never (`skipped`); `instants` are the two that may be meant."""

    def __init__(self, local: datetime, instants: tuple[datetime, datetime], skipped: bool) -> None:
        super().__init__(f"{local} may mean either of {instants}")
        self.local, self.instants, self.skipped = local, instants, skipped


def moment_meant(text: str, zone: ZoneInfo, now: datetime) -> datetime:
    """The instant (UTC) of a time with an offset, or by the clock of `zone`; HH:MM is the next such time there. Of one
    that is there twice only what is to come counts. Raises `NotATime` and `Unclear`."""
    try:
        if len(text) == 5 and text[2] == ":":
            return _next(time.fromisoformat(text), zone, now)
        said = datetime.fromisoformat(text)
        return said.astimezone(UTC) if said.tzinfo else _meant(said, zone, now)
    except OverflowError as error:
        raise NotATime(text) from error
    except Unclear:
        raise
    except ValueError as error:
        raise NotATime(text) from error


def _next(clock: time, zone: ZoneInfo, now: datetime) -> datetime:
    day: date = now.astimezone(zone).date()
    while (found := _meant(datetime.combine(day, clock), zone, now)) <= now:
        day += timedelta(days=1)
    return found


def _meant(local: datetime, zone: ZoneInfo, now: datetime) -> datetime:
    early, late = instants_of(local, zone)
    skipped = is_skipped(local, zone)
    if early < late and now < early:
        raise Unclear(local, (early, late), skipped)
    return early if skipped else late
