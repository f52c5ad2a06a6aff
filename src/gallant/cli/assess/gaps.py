"""gaps and route."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

import click

from gallant.cli.ground.common import (
    as_record,
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
    from gallant.views.ground.output import Output


@dataclass(frozen=True, kw_only=True)
class GapsAsked:
    """What was asked of `gallant gaps`: each field is an option, or what it is about."""

    selector: tuple[str, ...]
    component: str | None
    installed: str | None
    severe: bool
    unknown: bool
    changed: bool
    everything: bool
    conflicts: bool
    figure: Path | None
    junit: Path | None


@click.command()
@estate_option
@selector_argument
@click.option("--component", metavar="NAME", help="One component across the estate, by its name, kind or product.")
@click.option("--installed", metavar="VERSION", help="Only where this version is installed.")
@click.option("--severe", is_flag=True, help="Only what is critical, high or recalled.")
@click.option("--unknown", is_flag=True, help="Also the components of which no catalog says anything, each by itself.")
@click.option("--changed", is_flag=True, help="Only what is not as it was at the survey before the last.")
@click.option("--all", "everything", is_flag=True, help="Every system by itself, however many there are.")
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
@as_record(GapsAsked)
def gaps(estate_path: Path | None, asked: GapsAsked, output: Output) -> None:
    """Installed against aimed-for, worst first.

    Examples:  gallant gaps   |   gallant gaps tickets   |   gallant gaps --component nic --installed 5.16
    """
    from gallant.operations.assess.gaps import Narrow
    from gallant.operations.assess.gaps import assess as assess_gaps
    from gallant.operations.ground import last as assess
    from gallant.views.assess.conflicts import conflicts_view
    from gallant.views.assess.gaps import gaps_view

    place = open_place(estate_path, output)
    if asked.conflicts:
        rows = assess.conflicts(place, asked.selector)
        output.show(conflicts_view(rows))
        finish(1 if rows else 0)
        return
    narrow = Narrow(
        component=asked.component,
        installed=asked.installed,
        severe=asked.severe,
        unknown=asked.unknown,
        changed=asked.changed,
    )
    result = assess_gaps(place, asked.selector, narrow)
    if asked.figure is not None:
        from gallant.views.ground.figures import draw_gaps

        draw_gaps(result, place.estate.name, place.clock.now(), asked.figure)
    if asked.junit is not None:
        from gallant.views.ground.junit import cases_of_gaps, write_junit

        write_junit(asked.junit, "gallant gaps", cases_of_gaps(result), place.clock.now())
    whole = asked.everything or output.listing.asked
    output.show(gaps_view(result, place.clock.now(), bool(asked.selector), whole))
    if asked.figure is not None:
        output.remark(f"The figure is in {asked.figure}.")
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
    from gallant.views.assess.route import route_view

    place = open_place(estate_path, output)
    answer = operation.route(place, system, start, to)
    output.show(route_view(answer))
    finish(0 if answer.route.found else 1)
