"""verify."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

import click

from gallant.cli.ground.common import (
    SpanOption,
    as_record,
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

    from gallant.views.ground.output import Output


@dataclass(frozen=True, kw_only=True)
class VerifyAsked:
    """What was asked of `gallant verify`: each field is an option, or what it is about."""

    selector: tuple[str, ...]
    keep: str | None
    against: str | None
    settle: timedelta | None
    figure: Path | None
    backup: bool
    tell: bool
    junit: Path | None


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
@as_record(VerifyAsked)
def verify(estate_path: Path | None, asked: VerifyAsked, output: Output) -> None:
    """Is everything as it should be, and as it was: versions, roles,
    replicas, services, links, alarms? And is nothing wanted any more?

    Where it is, snapshots that were taken for the work are removed once their soak time
    is over. Catalogs are asked again where that is longer than an hour ago.

    Examples:  gallant verify tickets   |   gallant verify --keep before-monday
    |   gallant verify tickets --against before-monday
    |   gallant verify tickets --settle 30m --figure settle.png   |   gallant verify tickets --backup
    """
    from gallant.operations.after import verify as operation
    from gallant.views.after.verify import verify_view

    if asked.figure is not None and asked.settle is None:
        raise click.UsageError("--figure goes with --settle.")
    place = open_place(estate_path, output)
    with ticking(output, "sampling", asks=asked.settle is None) as tick:
        work = operation.verify(
            place,
            asked.selector,
            asked.keep,
            asked.against,
            settle_s=asked.settle.total_seconds() if asked.settle is not None else None,
            backup=asked.backup,
            tell=asked.tell,
            tick=tick,
        )
        done = run(work)
    if asked.junit is not None:
        from gallant.views.ground.junit import cases_of_verify, write_junit

        write_junit(asked.junit, "gallant verify", cases_of_verify(done), place.clock.now())
    output.show(verify_view(done))
    if asked.figure is not None and done.settling is not None:
        from gallant.views.after.figure_settling import draw_settling

        draw_settling(done.settling, asked.figure)
        output.remark(f"The figure is in {asked.figure}.")
    finish(done.exit_code)
