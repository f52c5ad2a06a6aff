"""The change record as a page, as Markdown and as data."""

from __future__ import annotations

from datetime import datetime
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

from gallant.core.after.picture import LOST, PLANNED, Unlike
from gallant.core.decide.ledger import LedgerEntry
from gallant.core.outages import Outage
from gallant.views.ground.page import PageVerdict, drawn, rendered, write
from gallant.views.ground.parts import Drawn, Listed, View
from gallant.views.ground.rows import ListRow, Says
from gallant.views.ground.words import duration, many, plain
from gallant.views.roll.outages import down_words

if TYPE_CHECKING:
    from gallant.operations.after.history import StepRow, WasDown
    from gallant.operations.after.report import Off, Report, RollReport, Stop


def write_page(report: Report, path: Path) -> None:
    """Write the page, whole or not at all."""
    from gallant.views.after.figure_timeline import draw_timeline

    figures = {one.run.run: drawn(partial(draw_timeline, one)) for one in report.rolls}
    write(path, rendered("report.html", figures=figures, **_said(report)))


def write_markdown(report: Report, path: Path) -> None:
    write(path, markdown_of(report))


def markdown_of(report: Report) -> str:
    return rendered("report.md", **_said(report))


def _said(report: Report) -> dict[str, Any]:
    return {
        "r": report,
        "title": report.rolls[0].run.run if report.since is None and report.rolls else "what was done",
        "verdict": _verdict(report),
        "mark_of": _mark,
        "planned": _planned,
        "outages": _outages,
        "down_words": down_words,
        "lost": _lost,
        "told": _told,
        "ways": _ways,
        "approved": _approved,
    }


def _verdict(report: Report) -> PageVerdict:
    unhappy = [one for one in report.rolls if not one.is_happy]
    if unhappy:
        first = unhappy[0]
        why = (
            f"{first.run.run} is {first.run.state}"
            if first.run.state != "finished"
            else f"{first.run.run} finished, and {_what_is_wrong(first)}"
        )
        more = f"; and {len(unhappy) - 1} more need somebody" if len(unhappy) > 1 else ""
        return PageVerdict("bad", f"{why}{more}.")
    if report.not_begun:
        return PageVerdict(
            "bad",
            f"{many(len(report.not_begun), 'thing')} that {'was' if len(report.not_begun) == 1 else 'were'} due did not"
            " start.",
        )
    if not report.rolls:
        return PageVerdict("good", "Nothing was done.")
    return PageVerdict(
        "good", f"{'It' if len(report.rolls) == 1 else f'All {len(report.rolls)} rolls'} finished, and nothing is lost."
    )


def _what_is_wrong(one: RollReport) -> str:
    if any(u.means == LOST for u in one.unlike):
        return "not all is as it was before"
    return f"not all was well when it was looked at after: {one.looks[-1].reason}"


def _mark(one: RollReport) -> str:
    return "good" if one.is_happy else "bad" if one.run.state != "running" else "work"


def _planned(one: RollReport) -> str:
    if one.run.spread is None:
        return duration(one.run.estimate_s)
    return f"{duration(one.run.spread.whole.p50_s)}, within {duration(one.run.spread.whole.p90_s)}"


def _outages(one: RollReport) -> str:
    if one.run.watched is None:
        return "not known"
    if not one.run.watched:
        return "none to watch"
    if not one.run.outages:
        return "answered all through it"
    return f"out {many(len(one.run.outages), 'time')}, {sum(o.measured or 0 for o in one.run.outages):.2f} s in all"


def _lost(one: RollReport) -> str:
    if not one.compared:
        return "not compared"
    count = sum(u.means == LOST for u in one.unlike)
    return str(count) if count else "nothing"


def _told(one: RollReport) -> list[Unlike]:
    return [u for u in one.unlike if u.means != PLANNED]


def _ways(one: RollReport) -> list[str]:
    found = []
    for lane in one.plan.lanes:
        image = [hop for hop in lane.hops if hop.image and not hop.lays]
        way = " → ".join([image[0].from_, *(hop.to for hop in image)]) if image else ""
        parts = [f"{p.component} {p.from_} → {p.to}" for hop in lane.hops for p in hop.parts]
        found.append(f"{lane.system}: {', '.join([way] * bool(way) + parts) or 'as it is'}")
    return found


def _approved(one: RollReport) -> str:
    if not one.approval.needed:
        return "needs nobody's approval"
    return f"approved by {', '.join(one.approval.by) or 'nobody'} ({len(one.approval.by)} of {one.approval.needed})"


class ReportRow(ListRow):
    """A roll with all that is told of it."""

    roll: str
    state: str
    systems: tuple[str, ...]
    began: datetime
    ended: datetime | None
    took_s: float | None
    planned_s: float
    within_s: Annotated[float | None, Says("in nine of ten cases")]
    plan: str
    by: str
    approved_by: tuple[str, ...]
    ways: Annotated[tuple[str, ...], Says("what each system ran, and to what it was led")]
    outages: tuple[Outage, ...]
    downs: tuple[WasDown, ...]
    compared: bool
    unlike: tuple[Unlike, ...]
    stops: tuple[Stop, ...]
    off: tuple[Off, ...]
    words: Annotated[tuple[LedgerEntry, ...], Says("the ledger's entries about it")]
    steps: tuple[StepRow, ...]
    first: Annotated[tuple[str, ...], Says("what is left to do first")]

    @classmethod
    def of(cls, one: RollReport) -> ReportRow:
        return cls(
            roll=one.run.run,
            state=one.run.state,
            systems=one.run.systems,
            began=one.run.began,
            ended=one.run.ended,
            took_s=one.took_s,
            planned_s=one.run.spread.whole.p50_s if one.run.spread is not None else one.run.estimate_s,
            within_s=one.run.spread.whole.p90_s if one.run.spread is not None else None,
            plan=one.plan.id,
            by=one.by,
            approved_by=tuple(one.approval.by),
            ways=tuple(_ways(one)),
            outages=one.run.outages,
            downs=one.run.downs,
            compared=one.compared,
            unlike=one.unlike,
            stops=one.stops,
            off=one.off,
            words=one.words,
            steps=one.steps,
            first=one.first,
        )


REPORT: Listed[ReportRow] = Listed("report", "report", beside=("since", "left", "not_begun", "totals"))


def report_view(report: Report) -> View:
    """What a terminal shows: the Markdown as it is."""

    def text() -> Drawn:
        yield from (plain(line) for line in markdown_of(report).splitlines())

    rows = list(map(ReportRow.of, report.rolls))
    more = {"since": report.since, "left": report.left, "not_begun": report.not_begun, "totals": report.totals}
    return REPORT.view(rows, text, more)
