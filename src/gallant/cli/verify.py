"""verify."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from gallant.cli.common import (
    SpanOption,
    complete_pictures,
    estate_option,
    finish,
    junit_option,
    listing_options,
    open_place,
    output_options,
    run,
    selector_argument,
    ticking,
)

if TYPE_CHECKING:
    from datetime import timedelta

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
@click.option(
    "--settle",
    type=SpanOption(),
    default=None,
    metavar="TIME",
    help="Watch numbers and answers for so long, and say whether it is settled: 30m.",
)
@click.option(
    "--figure",
    type=click.Path(path_type=Path, dir_okay=False),
    default=None,
    metavar="FILE",
    help="With --settle: draw the numbers before and after into a PNG.",
)
@click.option("--backup", is_flag=True, help="Also take a backup of what runs now.")
@click.option(
    "--tell", is_flag=True, help="Write what was found into the ledger, and tell people where it needs somebody."
)
@junit_option
@listing_options
@output_options
def verify(
    estate_path: Path | None,
    selector: tuple[str, ...],
    keep: str | None,
    against: str | None,
    settle: timedelta | None,
    figure: Path | None,
    backup: bool,
    tell: bool,
    junit: Path | None,
    output: Output,
) -> None:
    """Is everything as it should be, and as it was: versions, roles,
    replicas, services, links, alarms? And is nothing wanted any more?

    Where it is, snapshots that were taken for the work are removed once their soak time
    is over. Catalogs are asked again where that is longer than an hour ago.

    Examples:  gallant verify tickets   |   gallant verify --keep before-monday   |   gallant verify tickets --against before-monday
    |   gallant verify tickets --settle 30m --figure settle.png   |   gallant verify tickets --backup
    """
    from gallant.operations.after import verify as operation
    from gallant.views import rolls

    if figure is not None and settle is None:
        raise click.UsageError("--figure goes with --settle.")
    place = open_place(estate_path, output)
    with ticking(output, "sampling", asks=settle is None) as tick:
        work = operation.verify(
            place,
            selector,
            keep,
            against,
            settle_s=settle.total_seconds() if settle is not None else None,
            backup=backup,
            tell=tell,
            tick=tick,
        )
        done = run(work)
    if junit is not None:
        from gallant.views.junit import cases_of_verify, write_junit

        write_junit(junit, "gallant verify", cases_of_verify(done), place.clock.now())
    output.show(rolls.verify_view(done))
    if figure is not None and done.settling is not None:
        from gallant.views.figure_settling import draw_settling

        draw_settling(done.settling, figure)
        output.remark(f"The figure is in {figure}.")
    finish(done.exit_code)
