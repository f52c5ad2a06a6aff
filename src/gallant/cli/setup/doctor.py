"""gallant doctor."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from gallant.cli.ground.common import estate_option, finish, may_go_on, open_place, output_options, yes_option

if TYPE_CHECKING:
    from gallant.views.ground.output import Output


@click.command()
@estate_option
@click.option("--mend", is_flag=True, help="Repair what was found, asking each time.")
@click.option(
    "--group",
    default=None,
    metavar="NAME",
    help="Look also whether the members of this group can work on the estate; with --mend, let them.",
)
@yes_option
@output_options
def doctor(estate_path: Path | None, mend: bool, group: str | None, yes: bool, output: Output) -> None:
    """Gallant's own health: its stores and their copies, keys, rights, free space, clock.

    Examples:  gallant doctor   |   gallant doctor --mend   |   gallant doctor --mend --group storage
    """
    from gallant.operations.setup import doctor as operation
    from gallant.people import group_number
    from gallant.views.setup.doctor import examined_view

    place = open_place(estate_path, output, forgiving=True)
    gid = group_number(group) if group is not None else None
    rows, done = operation.examine(place, gid), []
    if mend:
        done = operation.mend(place, rows, lambda question: may_go_on(question, yes))
        rows = operation.examine(place, gid)
    output.show(examined_view(rows, done))
    finish(operation.exit_code(rows))
