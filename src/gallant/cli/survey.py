"""survey and inventory."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from gallant.cli.common import estate_option, finish, open_place, output_options, run, selector_argument, ticking


@click.command()
@estate_option
@selector_argument
@output_options
def survey(estate_path: Path | None, selector: tuple[str, ...], output: Any) -> None:
    """Contact nodes and keep what they say.

    Examples:  gallant survey   |   gallant survey tickets   |   gallant survey site:harbour kind:storage
    """
    from gallant.operations import survey as operation
    from gallant.views import tables

    place = open_place(estate_path, output)
    with ticking(output, "reading nodes") as tick:
        result = run(operation.survey(place, selector, tick))
    output.show(tables.survey_view(result, place.clock.now()))
    finish(result.exit_code)


@click.command()
@estate_option
@selector_argument
@output_options
def inventory(estate_path: Path | None, selector: tuple[str, ...], output: Any) -> None:
    """What runs where, as last read.

    Examples:  gallant inventory   |   gallant inventory tickets --json
    """
    from gallant.operations import assess
    from gallant.views import tables

    place = open_place(estate_path, output)
    output.show(tables.inventory_view(assess.inventory(place, selector), place.clock.now()))
