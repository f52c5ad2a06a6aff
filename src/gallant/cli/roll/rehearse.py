"""rehearse."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from gallant.cli.ground.common import complete_plans, estate_option, open_place, output_options, ticking

if TYPE_CHECKING:
    from gallant.views.ground.output import Output


@click.command()
@estate_option
@click.argument("plan_name", metavar="[PLAN|SYSTEM]", required=False, shell_complete=complete_plans)
@click.option("--runs", type=int, default=500, show_default=True, metavar="N", help="How many nights are rehearsed.")
@click.option(
    "--at",
    default=None,
    metavar="TIME",
    help="When it begins: 2026-11-28T22:00, 22:00. Else now, or when its window opens.",
)
@click.option("--seed", type=int, default=1, metavar="N", help="Draw other nights; the same number draws the same.")
@click.option(
    "--figure",
    type=click.Path(path_type=Path, dir_okay=False),
    default=None,
    metavar="FILE",
    help="Draw when it is done, with the window, into a PNG.",
)
@output_options
def rehearse(
    estate_path: Path | None,
    plan_name: str | None,
    runs: int,
    at: str | None,
    seed: int,
    figure: Path | None,
    output: Output,
) -> None:
    """A plan carried out some hundred times on twins of its systems, by what was learned here: when it is done, how
    often it stops and where, whether its window holds it, and which step decides. No node is contacted.

    Examples:  gallant rehearse plan-1a2b3c   |   gallant rehearse tickets --at 22:00 --figure night.png
    """
    from gallant.operations.plan.loading import load_plan
    from gallant.operations.roll import rehearsing as operation
    from gallant.views.roll import rehearsal

    place = open_place(estate_path, output)
    with ticking(output, "nights") as tick:
        found = operation.rehearse(place, load_plan(place, plan_name), runs, at, seed, tick)
    if figure is not None:
        rehearsal.draw_rehearsal(found, figure)
        output.remark(f"The figure is in {figure}.")
    output.show(rehearsal.rehearsal_view(found))
