"""windows."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from gallant.cli.ground.common import estate_option, listing_options, open_place, output_options, selector_argument

if TYPE_CHECKING:
    from gallant.views.ground.output import Output


@click.command()
@estate_option
@selector_argument
@listing_options
@output_options
def windows(estate_path: Path | None, selector: tuple[str, ...], output: Output) -> None:
    """When systems may be worked on, over the next two weeks, in the time zone of their sites.

    Examples:  gallant windows   |   gallant windows tickets   |   gallant windows site:harbour
    """
    from gallant.operations.plan import windows as operation
    from gallant.views.plan.windows import windows_view

    place = open_place(estate_path, output)
    output.show(windows_view(operation.calendars(place, selector), place.clock.now()))
