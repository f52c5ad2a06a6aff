"""plan."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from gallant.cli.common import estate_option, open_place, output_options, reason_option, run, selector_argument

if TYPE_CHECKING:
    from gallant.views.output import Output


@click.command()
@estate_option
@selector_argument
@click.option(
    "--despite-recall",
    metavar="VERSION",
    help="Finish a recalled release that some nodes run already; only where its recall is shown to concern none of them.",
)
@reason_option("Why the recall is set aside; kept in the ledger.")
@output_options
def plan(
    estate_path: Path | None, selector: tuple[str, ...], despite_recall: str | None, reason: str, output: Output
) -> None:
    """The ordered work that takes systems to their aims, written to plans/.

    Examples:  gallant plan tickets
    """
    from gallant.operations import plan as operation
    from gallant.views import plans

    place = open_place(estate_path, output)
    output.show(plans.plan_view(run(operation.plan(place, selector, despite_recall, reason))))
