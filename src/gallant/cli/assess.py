"""gaps and route."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from gallant.cli.common import estate_option, finish, open_place, output_options, selector_argument


@click.command()
@estate_option
@selector_argument
@click.option("--conflicts", is_flag=True, help="Requirements between products that do not hold today, instead.")
@output_options
def gaps(estate_path: Path | None, selector: tuple[str, ...], conflicts: bool, output: Any) -> None:
    """Installed against aimed-for, worst first.

    Examples:  gallant gaps   |   gallant gaps tickets   |   gallant gaps --conflicts
    """
    from gallant.operations import assess
    from gallant.views import tables

    place = open_place(estate_path, output)
    if conflicts:
        rows = assess.conflicts(place, selector)
        output.show(tables.conflicts_view(rows))
        finish(1 if rows else 0)
        return
    result = assess.gaps(place, selector)
    output.show(tables.gaps_view(result, place.clock.now()))
    finish(result.exit_code)


@click.command()
@estate_option
@click.argument("system")
@click.option("--from", "start", default=None, metavar="VERSION", help="Start here, not at what the system runs.")
@click.option("--to", default=None, metavar="VERSION", help="Go here, not to the system's aim.")
@output_options
def route(estate_path: Path | None, system: str, start: str | None, to: str | None, output: Any) -> None:
    """The chain of releases from the running one to the aim, and why others were refused.

    Examples:  gallant route tickets   |   gallant route tickets --to 3.2.1
    """
    from gallant.operations import assess
    from gallant.views import tables

    place = open_place(estate_path, output)
    answer = assess.route(place, system, start, to)
    output.show(tables.route_view(answer))
    finish(0 if answer.route.found else 1)
