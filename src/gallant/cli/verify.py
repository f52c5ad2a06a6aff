"""verify."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from gallant.cli.common import (
    estate_option,
    finish,
    listing_options,
    open_place,
    output_options,
    run,
    selector_argument,
)

if TYPE_CHECKING:
    from gallant.views.output import Output


@click.command()
@estate_option
@selector_argument
@listing_options
@output_options
def verify(estate_path: Path | None, selector: tuple[str, ...], output: Output) -> None:
    """Is everything as it should be: versions, roles, replicas, services?

    Where it is, snapshots that were taken for the work are removed once their soak time is over.

    Examples:  gallant verify tickets
    """
    from gallant.operations import verify as operation
    from gallant.views import rolls

    done = run(operation.verify(open_place(estate_path, output), selector))
    output.show(rolls.verify_view(done))
    finish(done.exit_code)
