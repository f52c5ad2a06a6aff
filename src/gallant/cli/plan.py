"""plan."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from gallant.cli.common import (
    SpanOption,
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
    from gallant.views.output import Output


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
def plan(
    estate_path: Path | None,
    selector: tuple[str, ...],
    despite_recall: str | None,
    with_needed: bool,
    order: str,
    only: tuple[str, ...],
    without: tuple[str, ...],
    restart: bool,
    by_hand: str,
    named: str | None,
    figure: Path | None,
    html: Path | None,
    ics: Path | None,
    everything: bool,
    book: bool,
    consent: tuple[str, ...],
    search: timedelta,
    prepare: str | None,
    reason: str,
    output: Output,
) -> None:
    """The ordered work that takes systems and their components to their aims, written to plans/.

    Examples:  gallant plan tickets   |   gallant plan site:harbour   |   gallant plan deck/b deck/c
    |   gallant plan --all --book   |   gallant plan deck-hw --only bios   |   gallant plan gates --restart --reason "memory leak"
    """
    from gallant.operations.plan import making as operation
    from gallant.operations.plan import over_windows as over
    from gallant.views import plans
    from gallant.views.over_windows import over_windows_view

    wish = tuple(name for name in order.split(",") if name)
    errand = restart or bool(by_hand.strip())
    if errand and (despite_recall or with_needed or only or without or (restart and by_hand)):
        raise click.UsageError(
            "--restart and --by-hand bring no release: of the other options only --order goes with them."
        )
    if errand and not reason.strip():
        raise click.UsageError("Say why with --reason; it stands in the ledger and in the plan.")
    if named is not None and (selector or errand or only or without or wish or with_needed or despite_recall):
        raise click.UsageError("--show is of a plan as it was made; no system and no other option goes with it.")
    if (book or consent) and not everything:
        raise click.UsageError("--book and --consent go with --all; for one notice: gallant notice book NOTICE TIME")
    if everything and (
        named or errand or only or without or wish or with_needed or despite_recall or prepare or figure or html
    ):
        raise click.UsageError("--all is of all that is behind, as it is aimed for; only a selector narrows it.")
    place = open_place(estate_path, output)
    if ics is not None:
        from gallant.operations.plan import calendar_entries as calendar
    if everything:
        found = run(over.over_windows(place, selector, search.total_seconds(), book, consent))
        if ics is not None:
            entries = calendar.entries_over(found, operation.load_plan(place, found.plan))
            _wrote(output, ics, calendar.write(ics, entries, place.clock.now(), place.identity))
        output.show(over_windows_view(found, place.clock.now()))
        finish(found.exit_code)
        return
    if named is not None:
        planned = operation.shown(place, named)
    elif errand:
        planned = run(operation.errand(place, selector, reason, by_hand, wish))
    else:
        choice = operation.PartChoice(only=only, without=without, order=wish, needed=with_needed)
        planned = run(operation.plan(place, selector, despite_recall, reason, choice))
    if figure is not None:
        from gallant.operations.plan.windows import windows_of_plan
        from gallant.views.figure_plan import draw_plan

        draw_plan(planned.plan, windows_of_plan(place, planned.plan), planned.opens or place.clock.now(), figure)
        output.remark(f"The figure is in {figure}.")
    if ics is not None:
        _wrote(output, ics, calendar.write(ics, calendar.entries_of(planned), place.clock.now(), place.identity))
    if html is not None:
        from gallant.operations.plan.sheet import sheet_of
        from gallant.operations.plan.windows import windows_of_plan
        from gallant.views.sheet import write_sheet

        write_sheet(sheet_of(place, planned), windows_of_plan(place, planned.plan), html)
        output.remark(f"The change sheet is in {html}.")
    if prepare is not None:
        _prepare(place, planned.plan, prepare, output)
        return
    output.show(plans.plan_view(planned))
    finish(planned.exit_code)


def _wrote(output: Output, path: Path, count: int) -> None:
    from gallant.views.words import many

    output.remark(f"The calendar is in {path}: {many(count, 'event')}.")


def _prepare(place: Workplace, plan: Plan, when: str, output: Output) -> None:
    from gallant.operations.plan import preparing
    from gallant.views import due

    if when == "now":
        rows = run(preparing.prepare(place, plan))
        output.show(due.prepared_view(plan, rows))
        finish(preparing.exit_code_of(rows))
    else:
        output.show(due.booked_preparation_view(plan, preparing.book(place, plan, when)))
