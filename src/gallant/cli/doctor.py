"""gallant doctor."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from gallant.cli.common import estate_option, finish, may_go_on, open_place, output_options, yes_option

if TYPE_CHECKING:
    from gallant.views.output import Output


@click.command()
@estate_option
@click.option("--mend", is_flag=True, help="Repair what was found, asking each time.")
@yes_option
@output_options
def doctor(estate_path: Path | None, mend: bool, yes: bool, output: Output) -> None:
    """Gallant's own health: its stores and their copies, keys, rights, free space, clock.

    Examples:  gallant doctor   |   gallant doctor --mend
    """
    from gallant.operations import doctor as operation
    from gallant.views.doctor import examined_view

    place = open_place(estate_path, output)
    rows, done = operation.examine(place), []
    if mend:
        done = operation.mend(place, rows, lambda question: may_go_on(question, yes))
        rows = operation.examine(place)
    output.show(examined_view(rows, done))
    finish(operation.exit_code(rows))
