"""due."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from gallant.cli.ground.common import estate_option, finish, listing_options, open_place, output_options, run

if TYPE_CHECKING:
    from gallant.views.ground.output import Output


@click.command()
@estate_option
@click.option("--list", "list_", is_flag=True, help="Only show what is due and what will be; nothing is begun.")
@listing_options
@output_options
def due(estate_path: Path | None, list_: bool, output: Output) -> None:
    """Begin what is booked or acts by a rule and is due, inside of its windows, after fresh checks; for a timer. It may
    be called every minute, and twice at once. Exit code 1: something that was due is not done.

    Examples:  gallant due   |   gallant due --list   |   gallant due --json
    """
    from gallant.operations.roll import due as operation
    from gallant.views.roll.due import due_view

    place = open_place(estate_path, output)
    turn = operation.to_come(place) if list_ else run(operation.due(place))
    output.show(due_view(turn, place.clock.now(), not list_))
    finish(turn.exit_code)
