"""gaps and route."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from gallant.cli.common import (
    estate_option,
    finish,
    junit_option,
    listing_options,
    open_place,
    output_options,
    pick_options,
    selector_argument,
)

if TYPE_CHECKING:
    from gallant.views.output import Output


@click.command()
@estate_option
@selector_argument
@click.option("--component", metavar="NAME", help="One component across the estate, by its name, kind or product.")
@click.option("--installed", metavar="VERSION", help="Only where this version is installed.")
@click.option("--severe", is_flag=True, help="Only what is critical, high or recalled.")
@click.option("--unknown", is_flag=True, help="Also the components of which no catalog says anything, each by itself.")
@click.option("--changed", is_flag=True, help="Only what is not as it was at the survey before the last.")
@click.option("--conflicts", is_flag=True, help="Requirements between products that do not hold today, instead.")
@click.option(
    "--figure",
    type=click.Path(path_type=Path, dir_okay=False),
    metavar="FILE.png",
    help="Also draw how far behind each system is, and the standing of every site.",
)
@junit_option
@pick_options
@listing_options
@output_options
def gaps(
    estate_path: Path | None,
    selector: tuple[str, ...],
    component: str | None,
    installed: str | None,
    severe: bool,
    unknown: bool,
    changed: bool,
    conflicts: bool,
    figure: Path | None,
    junit: Path | None,
    output: Output,
) -> None:
    """Installed against aimed-for, worst first.

    Examples:  gallant gaps   |   gallant gaps tickets   |   gallant gaps --component nic --installed 5.16
    """
    from gallant.operations.assess.gaps import Narrow
    from gallant.operations.assess.gaps import assess as assess_gaps
    from gallant.operations.ground import last as assess
    from gallant.views.assess import conflicts_view, gaps_view

    place = open_place(estate_path, output)
    if conflicts:
        rows = assess.conflicts(place, selector)
        output.show(conflicts_view(rows))
        finish(1 if rows else 0)
        return
    narrow = Narrow(component=component, installed=installed, severe=severe, unknown=unknown, changed=changed)
    result = assess_gaps(place, selector, narrow)
    if figure is not None:
        from gallant.views.figures import draw_gaps

        draw_gaps(result, place.estate.name, place.clock.now(), figure)
    if junit is not None:
        from gallant.views.junit import cases_of_gaps, write_junit

        write_junit(junit, "gallant gaps", cases_of_gaps(result), place.clock.now())
    output.show(gaps_view(result, place.clock.now(), bool(selector), output.listing.asked))
    if figure is not None:
        output.remark(f"The figure is in {figure}.")
    finish(result.exit_code)


@click.command()
@estate_option
@click.argument("system")
@click.option("--from", "start", default=None, metavar="VERSION", help="Start here, not at what the system runs.")
@click.option("--to", default=None, metavar="VERSION", help="Go here, not to the system's aim.")
@output_options
def route(estate_path: Path | None, system: str, start: str | None, to: str | None, output: Output) -> None:
    """The chain of releases from the running one to the aim, and why others were refused.

    Examples:  gallant route tickets   |   gallant route tickets --to 3.2.1
    """
    from gallant.operations.assess import route as operation
    from gallant.views.assess import route_view

    place = open_place(estate_path, output)
    answer = operation.route(place, system, start, to)
    output.show(route_view(answer))
    finish(0 if answer.route.found else 1)
