"""report."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from gallant.cli.ground.common import SpanOption, complete_rolls, estate_option, finish, open_place, output_options

if TYPE_CHECKING:
    from datetime import timedelta

    from gallant.views.ground.output import Output


@click.command()
@estate_option
@click.argument("roll_id", metavar="[ROLL]", required=False, shell_complete=complete_rolls)
@click.option(
    "--since", type=SpanOption(), default=None, metavar="TIME", help="Of all that was done within this time: 12h, 7d."
)
@click.option(
    "--html",
    default=None,
    type=click.Path(path_type=Path, dir_okay=False),
    metavar="FILE",
    help="Write it as a page by itself.",
)
@click.option(
    "--markdown",
    default=None,
    type=click.Path(path_type=Path, dir_okay=False),
    metavar="FILE",
    help="Write it as Markdown.",
)
@output_options
def report(
    estate_path: Path | None,
    roll_id: str | None,
    since: timedelta | None,
    html: Path | None,
    markdown: Path | None,
    output: Output,
) -> None:
    """The change record: what was planned and approved, what was done, what is not as before, what is left to do first.
    Of the newest roll, where neither a ROLL nor --since says otherwise. Exit code 1: something of it needs somebody.

    Examples:  gallant report roll-0007 --html change.html   |   gallant report --since 12h   |   gallant report --json
    """
    from gallant.operations.after import history
    from gallant.operations.after import report as operation
    from gallant.views.after import report as views

    if roll_id is not None and since is not None:
        raise click.UsageError("A ROLL or --since: one of the two.")
    place = open_place(estate_path, output)
    if roll_id is None and since is None:
        roll_id = history.newest(place)
    made = operation.report(place, roll_id, since)
    if html is not None:
        views.write_page(made, html)
        output.remark(f"The page is in {html}.")
    if markdown is not None:
        views.write_markdown(made, markdown)
        output.remark(f"The Markdown is in {markdown}.")
    if not (html or markdown) or output.as_json or output.as_csv:
        output.show(views.report_view(made))
    finish(made.exit_code)
