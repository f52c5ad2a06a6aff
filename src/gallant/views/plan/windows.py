"""Windows for two weeks: a strip for each system, and the next ones of each as a list."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import datetime, timedelta
from typing import TYPE_CHECKING, Annotated
from zoneinfo import ZoneInfo

from gallant.core.windows.rules import Span
from gallant.views.ground.parts import Drawn, Listed, View
from gallant.views.ground.rows import ListRow, Says
from gallant.views.ground.tables import next_steps, table
from gallant.views.ground.words import BOLD, DIM, GREEN, OFF, duration, mark, plain, said

if TYPE_CHECKING:
    from gallant.operations.plan.windows import Calendar

DAYS = 14
PART_H = 6  # hours of one sign
MOST_SPANS = 4  # of each system in the list; one alone has all of its own


class WindowRow(ListRow):
    """A window in the next two weeks."""

    system: str
    begin: datetime
    end: datetime
    zone: Annotated[str, Says("the time zone of its site; the times are UTC")]
    length_s: float


WINDOWS: Listed[WindowRow] = Listed(
    "windows",
    "windows",
    beside=("any_time",),
    headings={"systems": "system", "begins": "begin", "ends": "end", "long": "length_s", "in": "begin"},
)


def windows_view(rows: Sequence[Calendar], now: datetime) -> View:
    data = [
        WindowRow(system=c.system, begin=s.begin, end=s.end, zone=c.zone, length_s=s.length.total_seconds())
        for c in rows
        for s in c.spans or ()
    ]

    def text() -> Drawn:
        free = [c.system for c in rows if c.spans is None]
        held = [c for c in rows if c.spans is not None]
        if held:
            alike = _alike(held)
            strip = table("systems", _heading(held[0], now), "zone")
            for names, c in alike:
                strip.add_row(f"{BOLD}{_few(names)}{OFF}", _strip(c, now), plain(c.zone))
            yield strip
            yield f"{DIM}a sign is {PART_H} h of the site's own time: █ open, ▒ partly, · closed{OFF}"
            shown = table("systems", "begins", "ends", "long", "in", right=("long", "in"))
            for names, c in alike:
                for number, span in enumerate((c.spans or ())[: None if len(alike) == 1 else MOST_SPANS]):
                    shown.add_row(f"{BOLD}{_few(names)}{OFF}" if not number else "", *_row(c, span, now))
            yield shown
        for c in held:
            if not c.spans:
                yield f"{mark('bad')} {BOLD}{plain(c.system)}{OFF} has no window in the next two weeks."
        yield from _rules(held)
        if free:
            yield (
                f"{mark('note')} At any time: {plain(', '.join(free))}: no windows: of the estate are for"
                f" {'it' if len(free) == 1 else 'them'}."
            )
        if held:
            yield from next_steps(f"gallant plan {held[0].system}")

    return WINDOWS.view(data, text, {"any_time": [c.system for c in rows if c.spans is None]})


def _alike(held: Sequence[Calendar]) -> list[tuple[list[str], Calendar]]:
    """Systems that have the same windows are one row."""
    found: dict[tuple[str, tuple[Span, ...]], tuple[list[str], Calendar]] = {}
    for c in held:
        found.setdefault((c.zone, c.spans or ()), ([], c))[0].append(c.system)
    return list(found.values())


def _few(names: Sequence[str]) -> str:
    return plain(", ".join(names[:2])) + (f" and {len(names) - 2} more" if len(names) > 2 else "")


def _row(c: Calendar, span: Span, now: datetime) -> tuple[str, str, str, str]:
    zone = ZoneInfo(c.zone)
    begin, end = span.begin.astimezone(zone), span.end.astimezone(zone)
    until = said("going", "open") if span.begin <= now else duration((span.begin - now).total_seconds())
    begins, long = f"{begin:%a %Y-%m-%d %H:%M}", duration(span.length.total_seconds())
    if span.end >= c.end:  # as far as was looked
        return begins, "not in these weeks", f"over {long}", until
    if span.length > timedelta(days=1):
        return begins, f"{end:%a %Y-%m-%d %H:%M}", long, until
    return begins, f"{end:%H:%M}" if end.date() == begin.date() else f"{end:%a %H:%M}", long, until


def _days(c: Calendar, now: datetime) -> list[datetime]:
    first = now.astimezone(ZoneInfo(c.zone)).replace(hour=0, minute=0, second=0, microsecond=0)
    return [first + timedelta(days=n) for n in range(DAYS)]


def _heading(c: Calendar, now: datetime) -> str:
    return " ".join(f"{day:%a}"[:2] + f"{day:%d}" for day in _days(c, now))


def _strip(c: Calendar, now: datetime) -> str:
    return " ".join("".join(_sign(c, day + timedelta(hours=h)) for h in range(0, 24, PART_H)) for day in _days(c, now))


def _sign(c: Calendar, begin: datetime) -> str:
    end = begin + timedelta(hours=PART_H)
    free = sum(max(0.0, (min(s.end, end) - max(s.begin, begin)).total_seconds()) for s in c.spans or ()) / (
        PART_H * 3600
    )
    return f"{GREEN}█{OFF}" if free > 0.99 else f"{GREEN}▒{OFF}" if free > 0 else f"{DIM}·{OFF}"


def _rules(held: Sequence[Calendar]) -> Iterator[str]:
    """What of the estate says so, each once."""
    for word, every in (
        ("window", [r for c in held for r in c.rules]),
        ("blackout", [r for c in held for r in c.blackouts]),
    ):
        yield from (f"{mark('note')} {word} for {plain(rule)}" for rule in dict.fromkeys(every))
