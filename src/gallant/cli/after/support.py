"""support."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from gallant.cli.ground.common import complete_names, estate_option, open_place, output_options, run

if TYPE_CHECKING:
    from gallant.views.ground.output import Output


@click.command()
@estate_option
@click.argument("name", metavar="ROLL|SYSTEM", shell_complete=complete_names)
@click.option(
    "--to",
    "into",
    default=None,
    type=click.Path(path_type=Path, dir_okay=False),
    metavar="FILE.zip",
    help="Where it is written; else NAME.zip.",
)
@click.option(
    "--anonymous",
    is_flag=True,
    help="Replace names, addresses and serials; the table of them stays beside it, for you alone.",
)
@output_options
def support(estate_path: Path | None, name: str, into: Path | None, anonymous: bool, output: Output) -> None:
    """A bundle for a publisher's support desk about a roll or a system:
    readings, the device's own words, the journal; no secret is in it.

    Examples:  gallant support roll-0007 --anonymous   |   gallant support tickets --to case.zip
    """
    from gallant.operations.after.support import support as operation
    from gallant.views.after import support as views

    place = open_place(estate_path, output)
    output.show(views.bundle_view(run(operation(place, name, into or Path(f"{name}.zip"), anonymous))))
