"""verify."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from gallant.cli.common import (
    complete_pictures,
    estate_option,
    finish,
    junit_option,
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
@click.option(
    "--keep", default=None, metavar="NAME", help="Keep how all of it is now under a name, to compare with it later."
)
@click.option(
    "--against",
    default=None,
    metavar="NAME|ROLL",
    shell_complete=complete_pictures,
    help="Compare with what was kept under a name, or before a roll; else with what was before the newest one.",
)
@junit_option
@listing_options
@output_options
def verify(
    estate_path: Path | None,
    selector: tuple[str, ...],
    keep: str | None,
    against: str | None,
    junit: Path | None,
    output: Output,
) -> None:
    """Is everything as it should be, and as it was: versions, roles, replicas, services, links, alarms?

    Where it is, snapshots that were taken for the work are removed once their soak time is over.

    Examples:  gallant verify tickets   |   gallant verify --keep before-monday   |   gallant verify tickets --against before-monday
    """
    from gallant.operations import verify as operation
    from gallant.views import rolls

    place = open_place(estate_path, output)
    done = run(operation.verify(place, selector, keep, against))
    if junit is not None:
        from gallant.views.junit import cases_of_verify, write_junit

        write_junit(junit, "gallant verify", cases_of_verify(done), place.clock.now())
    output.show(rolls.verify_view(done))
    finish(done.exit_code)
