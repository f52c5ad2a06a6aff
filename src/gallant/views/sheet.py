"""A change sheet as a page of its own: no script, nothing from elsewhere, for a screen and for paper (HTML Living Standard)."""

from __future__ import annotations

import base64
import tempfile
from collections.abc import Mapping, Sequence
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING

from gallant.core.catalog.products import SEVERITIES
from gallant.core.errors import GallantError
from gallant.core.estate.windows import Span
from gallant.core.records import clean
from gallant.core.work.plan import Plan
from gallant.disk import put_whole
from gallant.views.words import duration, size

if TYPE_CHECKING:
    from gallant.operations.sheet import Hit, Sheet

LONGEST_WORDS = 600
MOST_SAID = 4


class Verdict:
    """Whether it may be begun, in a sentence, and how that is marked."""

    def __init__(self, mark: str, words: str) -> None:
        self.mark, self.words = mark, words


def write_sheet(sheet: Sheet, windows: Mapping[str, Sequence[Span]], path: Path) -> None:
    """Write the page, whole or not at all."""
    text = page_of(sheet, _figure(sheet.planned.plan, windows, sheet.planned.opens or sheet.now))
    try:
        put_whole(path, text.encode())
    except OSError as error:
        raise GallantError(f"{path} cannot be written: {error.strerror}.") from None


def page_of(sheet: Sheet, figure: str) -> str:
    """The page's text; `figure` is a PNG in base64. Whatever a device or a catalog said is only text."""
    from jinja2 import Environment, PackageLoader, StrictUndefined

    made = sheet.planned.plan
    environment = Environment(
        loader=PackageLoader("gallant.views", "pages"),
        autoescape=True,
        undefined=StrictUndefined,
        trim_blocks=True,
        finalize=_plain,
    )
    environment.filters |= {"day": _day, "date": _date, "long": _long, "clock": _clock, "size": size}
    within = made.spread.lanes if made.spread is not None else {}
    down = dict[str, float]()
    for name, seconds in [(h.system, h.down_s) for h in sheet.hits] + [p for h in sheet.hits for p in h.falls.items()]:
        if seconds:
            down[name] = down.get(name, 0.0) + seconds
    counted = [hit.sessions for hit in sheet.hits if hit.sessions is not None]
    return environment.get_template("sheet.html").render(
        s=sheet,
        plan=made,
        figure=figure,
        verdict=_verdict(sheet),
        when=_when(sheet),
        down=", ".join(f"{name} {_long(seconds)}" for name, seconds in down.items()),
        lone_times=sum(hit.lone_times for hit in sheet.hits),
        lone_s=sum(hit.lone_s for hit in sheet.hits),
        sessions=f"{sum(counted)} open at the last reading" if counted else "not told by these systems",
        one_way=", ".join(dict.fromkeys(f"{c.system} {c.to}" for c in sheet.changes if c.one_way is not None)),
        approved=_approved(sheet),
        route_of=lambda name: _route(sheet, name),
        severity_of=lambda name: _severity(sheet, name),
        means=_means,
        within=lambda name: _long(within[name].p90_s) if name in within else "–",
    )


def _figure(plan: Plan, windows: Mapping[str, Sequence[Span]], begins: datetime) -> str:
    from gallant.views.figure_plan import draw_plan

    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "plan.png"
        draw_plan(plan, windows, begins, path)
        return base64.b64encode(path.read_bytes()).decode()


def _plain(value: object) -> object:
    return clean(value, LONGEST_WORDS) if isinstance(value, str) and len(value) <= LONGEST_WORDS else value


def _day(then: datetime) -> str:
    return f"{then:%a %Y-%m-%d %H:%M} UTC"


def _date(then: datetime) -> str:
    return f"{then:%Y-%m-%d}"


def _clock(seconds: float) -> str:
    """Hours and minutes from the beginning."""
    return f"{int(seconds // 3600)}:{int(seconds % 3600 // 60):02d}"


def _long(seconds: float) -> str:
    return duration(seconds)


def _verdict(sheet: Sheet) -> Verdict:
    planned = sheet.planned
    if planned.roll_id is not None:
        state = "is being carried out by" if planned.under_way else "was carried out by"
        return Verdict("good", f"It {state} {planned.roll_id}.")
    against = [bar.what for bar in planned.bars]
    against += [f"{f.message}" for c in sheet.checked for f in c.findings if f.level == "stop"]
    if sheet.approval.missing:
        missing = sheet.approval.missing
        against.append(f"{missing} more {'has' if missing == 1 else 'have'} to approve it")
    if planned.to_fetch:
        against.append(f"{len(planned.to_fetch)} packages are not in stock yet")
    if against:
        more = f"; and {len(against) - MOST_SAID} more" if len(against) > MOST_SAID else ""
        return Verdict("bad", f"It may not be begun yet: {'; '.join(against[:MOST_SAID])}{more}.")
    if planned.opens is not None:
        return Verdict("work", f"It may be begun from {_day(planned.opens)} on.")
    return Verdict("good", "Nothing that is known today stands against it.")


def _when(sheet: Sheet) -> str:
    spans = sorted({span.begin: span for hit in sheet.hits for span in hit.windows or ()}.values(), key=_begin)
    if spans:
        return f"from {_day(max(spans[0].begin, sheet.now))}"
    return "in no window to come" if any(hit.windows is not None for hit in sheet.hits) else "at any time"


def _begin(span: Span) -> datetime:
    return span.begin


def _approved(sheet: Sheet) -> str:
    approval = sheet.approval
    if not approval.needed:
        return "needs nobody's approval"
    return f"by {len(approval.by)} of {approval.needed} that it needs"


def _route(sheet: Sheet, name: str) -> str:
    own = [c for c in sheet.changes if c.system == name]
    image = [c for c in own if c.component == "image"]
    way = " → ".join([image[0].from_, *(c.to for c in image)]) if image else ""
    parts = len({c.component for c in own} - {"image"})
    more = f"{parts} {'component' if parts == 1 else 'components'}" if parts else ""
    return " and ".join(text for text in (way, more) if text)


def _severity(sheet: Sheet, name: str) -> str:
    known = [c.severity for c in sheet.changes if c.system == name and c.severity is not None]
    return min(known, key=SEVERITIES.index, default="–")


def _means(hit: Hit) -> str:
    if hit.down_s:
        return f"down for about {_long(hit.down_s)}, within {_long(hit.late_s)}" + (
            f"; used by {', '.join(hit.used_by)}" if hit.used_by else ""
        )
    if hit.lone_times:
        return f"one node less for {_long(hit.lone_s)} in all, within {_long(max(hit.late_s, hit.lone_s))}"
    return "its nodes are away with their machines" if hit.with_machines else "carries on"
