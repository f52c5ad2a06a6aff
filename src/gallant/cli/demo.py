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
@click.option("--serve", is_flag=True, help="Keep the stand-ins up, to try every command by hand; ctrl-C ends them.")
def demo(folder: Path, serve: bool) -> None:
    """The whole example on stand-ins: survey, gaps, route, backup, plan, roll, verify, in under a minute.

    Examples:  gallant demo   |   gallant demo --serve
    """
    from gallant.demo import tour

    (tour.serve if serve else tour.tour)(folder)
