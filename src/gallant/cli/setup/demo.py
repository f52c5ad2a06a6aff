"""demo."""

from __future__ import annotations

from pathlib import Path

import click


@click.command()
@click.option(
    "--folder",
    type=click.Path(path_type=Path),
    default=Path("skerry-line"),
    show_default=True,
    help="Where to make it.",
)
@click.option("--night", is_flag=True, help="The second act: all ten systems from behind to their aims, in one roll.")
@click.option(
    "--week",
    is_flag=True,
    help=(
        "The third act: all of it into windows, and a week that gallant due carries out; six minutes. With --serve: to"
        " try it by hand."
    ),
)
@click.option("--serve", is_flag=True, help="Keep the stand-ins up, to try every command by hand; ctrl-C ends them.")
@click.option(
    "--scenario", metavar="NAME", default=None, help="Let something go wrong: a name from --list, or a YAML file."
)
@click.option("--list", "list_", is_flag=True, help="The scenarios, one line each.")
def demo(folder: Path, night: bool, week: bool, serve: bool, scenario: str | None, list_: bool) -> None:
    """The whole example on stand-ins: survey, gaps, route, backup, plan, roll, verify, in under a minute.

    Examples:  gallant demo   |   gallant demo --night   |   gallant demo --serve
    |   gallant demo --scenario no_return
    """
    from gallant.demo import tour

    if list_:
        click.echo(tour.scenarios())
        return
    if serve and night:
        raise click.UsageError("--night is a tour by itself; --serve lets you type it.")
    if week and night:
        raise click.UsageError("--night and --week are two tours; one after the other.")
    if serve:
        tour.serve(folder, tour.faults(scenario), week)
    elif week:
        tour.week(folder, tour.faults(scenario))
    else:
        tour.tour(folder, tour.faults(scenario), tour.NIGHT if night else tour.STEPS)
