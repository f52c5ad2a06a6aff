"""A change sheet as a page of its own, for those who decide."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING

from gallant.core.catalog.products import SEVERITIES
from gallant.core.windows.rules import Span
from gallant.views.ground.page import PageVerdict, day, drawn, rendered, write
from gallant.views.ground.words import duration

if TYPE_CHECKING:
    from gallant.operations.plan.sheet import Hit, Sheet

MOST_SAID = 4


def write_sheet(sheet: Sheet, windows: Mapping[str, Sequence[Span]], path: Path) -> None:
    """Write the page, whole or not at all."""
    from gallant.views.plan.figure_plan import draw_plan

    begins = sheet.planned.opens or sheet.now
    write(path, page_of(sheet, drawn(lambda file: draw_plan(sheet.planned.plan, windows, begins, file))))


def page_of(sheet: Sheet, figure: str) -> str:
    """The page's text; `figure` is a PNG in base64."""
    made = sheet.planned.plan
    within = made.spread.lanes if made.spread is not None else {}
    counted = [hit.sessions for hit in sheet.hits if hit.sessions is not None]
    return rendered(
        "sheet.html",
        s=sheet,
        plan=made,
        guests=[down for lane in made.lanes for down in lane.guests],
        figure=figure,
        verdict=_verdict(sheet),
        when=_when(sheet),
        down=", ".join(f"{name} {duration(seconds)}" for name, seconds in made.down_s.items()),
        lone_times=sum(hit.lone_times for hit in sheet.hits),
        lone_s=sum(hit.lone_s for hit in sheet.hits),
        sessions=f"{sum(counted)} open at the last reading" if counted else "not told by these systems",
        one_way=", ".join(hit.system for hit in sheet.hits if hit.one_way),
        approved=_approved(sheet),
        route_of=lambda name: _route(sheet, name),
        severity_of=lambda name: _severity(sheet, name),
        means=_means,
        within=lambda name: duration(within[name].p90_s) if name in within else "–",
    )


def _verdict(sheet: Sheet) -> PageVerdict:
    planned = sheet.planned
    if planned.roll_id is not None:
        state = "is being carried out by" if planned.under_way else "was carried out by"
        return PageVerdict("good", f"It {state} {planned.roll_id}.")
    against = [bar.what for bar in planned.bars]
    against += [f"{f.message}" for c in sheet.checked for f in c.findings if f.level == "stop"]
    if sheet.approval.missing:
        missing = sheet.approval.missing
        against.append(f"{missing} more {'has' if missing == 1 else 'have'} to approve it")
    if planned.to_fetch:
        against.append(f"{len(planned.to_fetch)} packages are not in stock yet")
    if against:
        more = f"; and {len(against) - MOST_SAID} more" if len(against) > MOST_SAID else ""
        return PageVerdict("bad", f"It may not start yet: {'; '.join(against[:MOST_SAID])}{more}.")
    if planned.opens is not None:
        return PageVerdict("work", f"It may be begun from {day(planned.opens)} on.")
    return PageVerdict("good", "No known problem.")


def _when(sheet: Sheet) -> str:
    spans = sorted({span.begin: span for hit in sheet.hits for span in hit.windows or ()}.values(), key=_begin)
    if spans:
        return f"from {day(max(spans[0].begin, sheet.now))}"
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
        return f"down for about {duration(hit.down_s)}, within {duration(hit.late_s)}" + (
            f"; used by {', '.join(hit.used_by)}" if hit.used_by else ""
        )
    if hit.lone_times:
        return f"one node less for {duration(hit.lone_s)} in all, within {duration(hit.late_s)}"
    return "its nodes are away with their machines" if hit.with_machines else "carries on"
