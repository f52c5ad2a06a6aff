"""plan."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from gallant.cli.common import estate_option, open_place, output_options, run, selector_argument


@click.command()
@estate_option
@selector_argument
@output_options
def plan(estate_path: Path | None, selector: tuple[str, ...], output: Any) -> None:
    """The ordered work that takes systems to their aims, written to plans/.

    Examples:  gallant plan tickets
    """
    from gallant.operations import plan as operation
    from gallant.views import tables

    place = open_place(estate_path, output)
    output.show(tables.plan_view(run(operation.plan(place, selector))))
