"""plan."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

import click

from gallant.cli.ground.common import (
    SpanOption,
    as_record,
    complete_plans,
    estate_option,
    finish,
    open_place,
    output_options,
    reason_option,
    run,
    selector_argument,
)

if TYPE_CHECKING:
    from datetime import timedelta

    from gallant.core.work.plan import Plan
    from gallant.operations.ground.workplace import Workplace
    from gallant.operations.plan.making import Planned
    from gallant.views.ground.output import Output


@dataclass(frozen=True, kw_only=True)
class PlanAsked:
    """What was asked of `gallant plan`: each field is an option, or the selector."""

    selector: tuple[str, ...]
    despite_recall: str | None
    with_needed: bool
    order: str
    only: tuple[str, ...]
    without: tuple[str, ...]
    restart: bool
    by_hand: str
    named: str | None
    figure: Path | None
    html: Path | None
    ics: Path | None
    everything: bool
    book: bool
    consent: tuple[str, ...]
    search: timedelta
    prepare: str | None
    reason: str

    @property
    def errand(self) -> bool:
        """Whether nodes are worked on without a release: restarted, or handed to a person."""
        return self.restart or bool(self.by_hand.strip())

    @property
    def wish(self) -> tuple[str, ...]:
        """The order in which nodes are to be worked on, as far as their shape leaves a choice."""
        return tuple(name for name in self.order.split(",") if name)


@click.command()
@estate_option
@selector_argument
@click.option(
    "--despite-recall",
    metavar="VERSION",
    help=(
        "Finish a recalled release that some nodes run already; only where its recall is shown to concern none of them."
    ),
)
@click.option(
    "--with-needed", is_flag=True, help="Take along the systems that have to be brought to their aims with these."
)
@click.option(
    "--order",
    default="",
    metavar="NODES",
    help="Your order of a system's nodes, c,a,b: kept where it is safe, else refused.",
)
@click.option(
    "--only", multiple=True, metavar="COMPONENT", help="Only this component, as bios; image is the system image."
)
@click.option("--without", multiple=True, metavar="COMPONENT", help="Everything but this component.")
@click.option("--restart", is_flag=True, help="Only restart every node as it is, in order; needs --reason.")
@click.option(
    "--by-hand",
    default="",
    metavar="TEXT",
    help="Take every node out in order for what a person does at it, as 'add a card'; needs --reason.",
)
@click.option(
    "--show",
    "named",
    default=None,
    metavar="PLAN",
    help="Only show a plan that was made before; nothing is contacted.",
    shell_complete=complete_plans,
)
@click.option(
    "--figure",
    default=None,
    type=click.Path(path_type=Path, dir_okay=False),
    metavar="FILE.png",
    help="Also draw it: lanes and waves in time, what is disturbed, how late it may get, when no window is open.",
)
@click.option(
    "--html",
    default=None,
    type=click.Path(path_type=Path, dir_okay=False),
    metavar="FILE",
    help="Also write its change sheet, a page for those who decide.",
)
@click.option(
    "--ics",
    default=None,
    type=click.Path(path_type=Path, dir_okay=False),
    metavar="FILE",
    help="Also write the windows that it takes as a calendar (RFC 5545).",
)
@click.option("--all", "everything", is_flag=True, help="Put all that is behind into the windows to come.")
@click.option("--book", is_flag=True, help="With --all: book it there; gallant due begins it then.")
@click.option(
    "--consent",
    multiple=True,
    metavar="WHAT",
    help="With --book: accept by name what cannot be undone, as one-way:tickets.",
)
@click.option(
    "--search",
    type=SpanOption(),
    default="10s",
    show_default=True,
    metavar="TIME",
    help="With --all: for how long a better placing is looked for.",
)
@click.option(
    "--prepare",
    default=None,
    metavar="TIME",
    help="Have it prepared from then on by gallant due: packages brought and laid, backups taken; now: do it at once.",
)
@reason_option("Why a recall is set aside, or what no aim asks for is done; kept in the ledger.")
@output_options
@as_record(PlanAsked)
def plan(estate_path: Path | None, asked: PlanAsked, output: Output) -> None:
    """The ordered work that takes systems and their components to their aims, written to plans/.

    Examples:  gallant plan tickets   |   gallant plan site:harbour   |   gallant plan deck/b deck/c
    |   gallant plan --all --book   |   gallant plan deck-hw --only bios
    |   gallant plan gates --restart --reason "memory leak"
    """
    from gallant.operations.plan import making as operation
    from gallant.views.plan import plans

    _goes_together(asked)
    place = open_place(estate_path, output)
    if asked.everything:
        _over_windows(place, asked, output)
        return
    if asked.named is not None:
        planned = operation.shown(place, asked.named)
    elif asked.errand:
        planned = run(operation.errand(place, asked.selector, asked.reason, asked.by_hand, asked.wish))
    else:
        choice = operation.PartChoice(
            only=asked.only, without=asked.without, order=asked.wish, needed=asked.with_needed
        )
        planned = run(operation.plan(place, asked.selector, asked.despite_recall, asked.reason, choice))
    _write_beside(place, planned, asked, output)
    if asked.prepare is not None:
        _prepare(place, planned.plan, asked.prepare, output)
        return
    output.show(plans.plan_view(planned))
    finish(planned.exit_code)


def _goes_together(asked: PlanAsked) -> None:
    """Raise `UsageError` for options of which one says what the other cannot mean."""
    narrowed = any((asked.only, asked.without, asked.with_needed, asked.despite_recall))
    if asked.errand and (narrowed or (asked.restart and asked.by_hand)):
        raise click.UsageError(
            "--restart and --by-hand bring no release: of the other options only --order goes with them."
        )
    if asked.errand and not asked.reason.strip():
        raise click.UsageError("Say why with --reason; it stands in the ledger and in the plan.")
    if asked.named is not None and any((asked.selector, asked.errand, narrowed, asked.wish)):
        raise click.UsageError("--show is of a plan as it was made; no system and no other option goes with it.")
    if (asked.book or asked.consent) and not asked.everything:
        raise click.UsageError("--book and --consent go with --all; for one notice: gallant notice book NOTICE TIME")
    others = (asked.named, asked.errand, narrowed, asked.wish, asked.prepare, asked.figure, asked.html)
    if asked.everything and any(others):
        raise click.UsageError("--all is of all that is behind, as it is aimed for; only a selector narrows it.")


def _over_windows(place: Workplace, asked: PlanAsked, output: Output) -> None:
    """All that is behind, put into the windows to come."""
    from gallant.operations.plan import calendar_entries as calendar
    from gallant.operations.plan import loading
    from gallant.operations.plan import over_windows as over
    from gallant.views.plan.over_windows import over_windows_view

    found = run(over.over_windows(place, asked.selector, asked.search.total_seconds(), asked.book, asked.consent))
    if asked.ics is not None:
        entries = calendar.entries_over(found, loading.load_plan(place, found.plan))
        _wrote(output, asked.ics, calendar.write(asked.ics, entries, place.clock.now(), place.identity))
    output.show(over_windows_view(found, place.clock.now()))
    finish(found.exit_code)


def _write_beside(place: Workplace, planned: Planned, asked: PlanAsked, output: Output) -> None:
    """The files that were asked for besides the plan: a figure, calendar entries, a change sheet."""
    from gallant.operations.plan.windows import windows_of_plan

    if asked.figure is not None:
        from gallant.views.plan.figure_plan import draw_plan

        windows = windows_of_plan(place, planned.plan)
        draw_plan(planned.plan, windows, planned.opens or place.clock.now(), asked.figure)
        output.remark(f"The figure is in {asked.figure}.")
    if asked.ics is not None:
        from gallant.operations.plan import calendar_entries as calendar

        entries = calendar.entries_of(planned)
        _wrote(output, asked.ics, calendar.write(asked.ics, entries, place.clock.now(), place.identity))
    if asked.html is not None:
        from gallant.operations.plan.sheet import sheet_of
        from gallant.views.plan.sheet import write_sheet

        write_sheet(sheet_of(place, planned), windows_of_plan(place, planned.plan), asked.html)
        output.remark(f"The change sheet is in {asked.html}.")


def _wrote(output: Output, path: Path, count: int) -> None:
    from gallant.views.ground.words import many

    output.remark(f"The calendar is in {path}: {many(count, 'event')}.")


def _prepare(place: Workplace, plan: Plan, when: str, output: Output) -> None:
    from gallant.operations.plan import preparing
    from gallant.views.roll import due

    if when == "now":
        rows = run(preparing.prepare(place, plan))
        output.show(due.prepared_view(plan, rows))
        finish(preparing.exit_code_of(rows))
    else:
        output.show(due.booked_preparation_view(plan, preparing.book(place, plan, when)))
