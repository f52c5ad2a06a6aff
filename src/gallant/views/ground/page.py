"""Pages that stand by themselves: no script, nothing from elsewhere, for a
screen and for paper (HTML Living Standard); and the same as Markdown."""

from __future__ import annotations

import base64
import re
import tempfile
from collections.abc import Callable
from datetime import datetime
from pathlib import Path

from markupsafe import Markup

from gallant.core.errors import GallantError
from gallant.core.records import clean
from gallant.disk import put_whole, why_not
from gallant.views.ground.palette import variables
from gallant.views.ground.words import duration, size

LONGEST_WORDS = 600
LONGEST_MESSAGE = 4000


class PageVerdict:
    """How it stands, in a sentence, and how that is marked."""

    def __init__(self, mark: str, words: str) -> None:
        self.mark, self.words = mark, words


def rendered(template: str, **said: object) -> str:
    """A page's text. Whatever a device or a catalog said is only text: in
    HTML it is escaped, in Markdown no sign of it means anything."""
    from jinja2 import Environment, PackageLoader, StrictUndefined

    html = template.endswith(".html")
    environment = Environment(
        loader=PackageLoader("gallant.views.ground", "pages"),
        autoescape=html,
        undefined=StrictUndefined,
        trim_blocks=True,
        finalize=_plain if html else marked,
    )
    environment.globals["variables"] = variables
    environment.filters |= {
        "day": day,
        "date": _date,
        "second": _second,
        "time_of": _time_of,
        "long": duration,
        "clock": clock,
        "size": size,
        "code": code,
    }
    return environment.get_template(template).render(**said)


def write(path: Path, text: str) -> None:
    """Write a page, whole or not at all."""
    try:
        put_whole(path, text.encode())
    except OSError as error:
        raise GallantError(f"{path} cannot be written: {why_not(error, path)}.") from None


def drawn(draw: Callable[[Path], None]) -> Markup:
    """A figure as it stands in a page: a PNG in base64, which is our own and no words of anybody's."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "figure.png"
        draw(path)
        return Markup(base64.b64encode(path.read_bytes()).decode())


def _plain(value: object) -> object:
    """Without signs that a screen obeys; what is longer than anybody reads is cut. Figures are no words."""
    if isinstance(value, str) and not hasattr(value, "__html__"):
        return clean(value, LONGEST_MESSAGE)
    return value


SIGNS = str.maketrans({sign: f"\\{sign}" for sign in "\\`*_[]<>|#~"})


class _Code(str):
    """A code span: nothing in it is escaped, and nothing in it ends it."""


def code(text: str) -> _Code:
    """In more backquotes than the text has in a row (CommonMark 0.31, 6.1)."""
    plain = clean(text, LONGEST_MESSAGE)
    longest = max(map(len, re.findall("`+", plain)), default=0)
    fence, room = "`" * (longest + 1), " " if longest else ""
    return _Code(f"{fence}{room}{plain}{room}{fence}")


def marked(value: object) -> object:
    if isinstance(value, _Code):
        return value
    return clean(value, LONGEST_MESSAGE).translate(SIGNS) if isinstance(value, str) else value


def day(then: datetime) -> str:
    return f"{then:%a %Y-%m-%d %H:%M} UTC"


def _date(then: datetime) -> str:
    return f"{then:%Y-%m-%d}"


def _second(then: datetime) -> str:
    return f"{then:%Y-%m-%d %H:%M:%S} UTC"


def _time_of(then: datetime, began: datetime) -> str:
    """The time of day, with the day where it is not that on which the roll began."""
    return f"{then:%H:%M:%S}" if then.date() == began.date() else f"{then:%a %H:%M:%S}"


def clock(seconds: float) -> str:
    """Hours and minutes from the beginning."""
    return f"{int(seconds // 3600)}:{int(seconds % 3600 // 60):02d}"
