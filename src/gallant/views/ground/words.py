"""Numbers with their units, times with their zone, states with a
symbol next to the word, and the styles of all of them.

A style begins and ends with a control character, which no text of a device, catalog
or file has any more once it is here. So everything is taken literally save what
this program itself puts between: brackets, backslashes and links are text.
"""

from __future__ import annotations

import re
from datetime import datetime
from typing import TYPE_CHECKING

from gallant.core.records import printable
from gallant.views.ground.palette import TERMINAL

if TYPE_CHECKING:
    from rich.text import Text

_BEGINS, _ENDS = "\x0e", "\x0f"
_STYLE = re.compile(f"{_BEGINS}([a-z_ ]*){_ENDS}")


def on(style: str) -> str:
    """From here on in a style (of Rich); `OFF` ends the last that was begun."""
    return f"{_BEGINS}{style}{_ENDS}"


BOLD, DIM, GREEN, YELLOW, CYAN, LOUD, LIVELY, OFF = map(
    on, ("bold", *(TERMINAL[role] for role in ("muted", "good", "warn", "accent", "bad", "going")), "")
)

# A symbol, the word's own style; colour never carries the meaning alone.
MARKS = {
    "good": ("✓", TERMINAL["good"]),
    "work": ("▲", TERMINAL["warn"]),
    "bad": ("✗", TERMINAL["bad"]),
    "note": ("•", TERMINAL["accent"]),
    "quiet": ("·", TERMINAL["muted"]),
    "going": ("▸", TERMINAL["going"]),
}


class WordMarks(dict[str, str]):
    """Our words and the symbol of each; a word that is not in the table is only noted."""

    def __missing__(self, word: str) -> str:
        return "note"


def mark(kind: str) -> str:
    symbol, style = MARKS[kind]
    return f"{on(style)}{symbol}{OFF}"


def said(kind: str, text: str) -> str:
    """A symbol and a word in one style; the text is taken literally."""
    symbol, style = MARKS[kind]
    return f"{on(style)}{symbol} {plain(text)}{OFF}"


def plain(text: object) -> str:
    """Text that may come from anywhere: without styles, and without anything that could steer a terminal."""
    return printable(str(text))


def styled(text: str) -> Text:
    """What is put on the screen: our own styles as such, all the rest literally as such."""
    from rich.text import Text

    shown, begun = Text(), list[str]()
    for number, part in enumerate(_STYLE.split(text)):
        if number % 2 == 0:
            shown.append(printable(part), " ".join(begun) or None)
        elif part:
            begun.append(part)
        elif begun:
            begun.pop()
    return shown


def duration(seconds: float | None) -> str:
    """0.8 s, 45 s, 8 min 4 s, 1 h 20 min, 3 d 4 h."""
    if seconds is None:
        return "–"
    if seconds < 10:
        return f"{seconds:.1f} s" if seconds % 1 else f"{seconds:.0f} s"
    whole = round(seconds)
    for size, unit, smaller, small in ((86400, "d", 3600, "h"), (3600, "h", 60, "min"), (60, "min", 1, "s")):
        if whole >= size:
            rest = whole % size // smaller
            return f"{whole // size} {unit}" + (f" {rest} {small}" if rest else "")
    return f"{whole} s"


def roughly(seconds: float) -> str:
    """An age at a glance: 45 s, 8 min, 3 h, 12 d."""
    for size, unit in ((86400, "d"), (3600, "h"), (60, "min")):
        if seconds >= size * (2 if unit != "min" else 1):
            return f"{seconds // size:.0f} {unit}"
    return f"{max(0.0, seconds):.0f} s"


def clock(seconds: float) -> str:
    """Minutes and seconds, for columns: 8:04, 1:02:03."""
    whole = max(0, round(seconds))
    hours, rest = divmod(whole, 3600)
    return f"{hours}:{rest // 60:02d}:{rest % 60:02d}" if hours else f"{rest // 60}:{rest % 60:02d}"


def ago(then: datetime | None, now: datetime) -> str:
    return "never" if then is None else f"{duration(max(0.0, (now - then).total_seconds()))} ago"


def moment(then: datetime | None) -> str:
    return "–" if then is None else f"{then:%Y-%m-%d %H:%M:%S}Z"


def size(count: float) -> str:
    """Bytes in decimal units, as disks and links are sold."""
    for limit, unit, divisor in ((1e3, "B", 1.0), (1e6, "kB", 1e3), (1e9, "MB", 1e6)):
        if count < limit:
            return f"{count / divisor:.0f} {unit}" if divisor == 1.0 else f"{count / divisor:.1f} {unit}"
    return f"{count / 1e9:.1f} GB"


def many(count: int, one: str, more: str | None = None) -> str:
    return f"{count} {one if count == 1 else more or one + 's'}"
