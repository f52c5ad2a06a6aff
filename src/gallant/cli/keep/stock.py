"""stock fetch, add, list, verify, preload, unload, prune."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from gallant.cli.ground.common import (
    estate_option,
    finish,
    listing_options,
    may_go_on,
    open_place,
    output_options,
    run,
    selector_argument,
    yes_option,
)

if TYPE_CHECKING:
    from gallant.views.ground.output import Output

FEW = 6  # nodes that a question names one by one


@click.group()
def stock() -> None:
    """The verified packages kept locally."""


@stock.command()
@estate_option
@selector_argument
@click.option("--plan", "plan_name", metavar="PLAN", default=None, help="Only what the steps of this plan bring.")
@output_options
def fetch(estate_path: Path | None, selector: tuple[str, ...], plan_name: str | None, output: Output) -> None:
    """Fetch what the routes need, and what runs now for recovery; a broken download is carried on.

    Examples:  gallant stock fetch   |   gallant stock fetch tickets   |   gallant stock fetch --plan plan-3fa9
    """
    from gallant.operations.keep import stock as operation
    from gallant.operations.plan import loading
    from gallant.views.ground.progress import metering
    from gallant.views.keep import stock as views

    if plan_name is not None and selector:
        raise click.UsageError("A plan says by itself what it needs; name no systems beside it.")
    place = open_place(estate_path, output)
    made = loading.load_plan(place, plan_name) if plan_name is not None else None
    with metering(output.quiet) as meter:
        rows, code = run(operation.fetch(place, selector, meter, made))
    output.show(views.fetched_view(rows, operation.after_fetch(place, selector, made)))
    finish(code)


@stock.command()
@estate_option
@click.argument("file", nargs=-1, required=True, type=click.Path(path_type=Path, dir_okay=False))
@click.option("--vouch", default=None, metavar="REASON", help="Answer yourself for what no catalog knows.")
@output_options
def add(estate_path: Path | None, file: tuple[Path, ...], vouch: str | None, output: Output) -> None:
    """Take files that were carried in, each held against the catalogs.

    Examples:  gallant stock add /media/usb/shoal-3.2.4.pkg
    """
    from gallant.operations.keep import stock as operation
    from gallant.views.keep import stock as views

    output.show(views.added_view(operation.add(open_place(estate_path, output), file, vouch)))


@stock.command("list")
@estate_option
@listing_options
@output_options
def list_(estate_path: Path | None, output: Output) -> None:
    """What lies in stock, its bytes computed anew; what is wrong or recalled first."""
    _held(estate_path, output)


@stock.command()
@estate_option
@output_options
def verify(estate_path: Path | None, output: Output) -> None:
    """Compute every package's digest anew; exit code 1 where one is not what its name says.

    Examples:  gallant stock verify
    """
    _held(estate_path, output)


def _held(estate_path: Path | None, output: Output) -> None:
    from gallant.operations.keep import stock as operation
    from gallant.views.keep import stock as views

    rows = operation.held(open_place(estate_path, output))
    output.show(views.held_view(rows))
    finish(0 if all(r.ok for r in rows) else 1)


@stock.command()
@estate_option
@selector_argument
@output_options
def preload(estate_path: Path | None, selector: tuple[str, ...], output: Output) -> None:
    """Put the next package on every node, ahead of the window; nothing is installed.

    Examples:  gallant stock preload fulmar-box
    """
    from gallant.operations.keep import preloading
    from gallant.views.ground.progress import metering
    from gallant.views.keep import stock as views

    place = open_place(estate_path, output)
    with metering(output.quiet) as meter:
        rows, code = run(preloading.preload(place, selector, meter))
    output.show(views.preloaded_view(rows))
    finish(code)


@stock.command()
@estate_option
@selector_argument
@yes_option
@output_options
def unload(estate_path: Path | None, selector: tuple[str, ...], yes: bool, output: Output) -> None:
    """Take packages off the nodes again, without installing them.

    Examples:  gallant stock unload tickets
    """
    from gallant.operations.keep import preloading
    from gallant.views.keep import stock as views

    place = open_place(estate_path, output)
    nodes = [f"{system.name}/{node}" for system, nodes in place.select(selector) for node in nodes]
    named = ", ".join(nodes) if len(nodes) <= FEW else f"{len(nodes)} nodes"
    if not may_go_on(f"Take every package that lies on {named} off again?", yes):
        finish(5)
    rows, code = run(preloading.unload(place, selector))
    output.show(views.preloaded_view(rows))
    finish(code)


@stock.command()
@estate_option
@click.option("--dry-run", is_flag=True, help="Only say what would go.")
@yes_option
@output_options
def prune(estate_path: Path | None, dry_run: bool, yes: bool, output: Output) -> None:
    """Take away what no system needs for its route or its recovery, and what broke off.

    Examples:  gallant stock prune --dry-run
    """
    from gallant.operations.keep import stock as operation
    from gallant.views.keep import stock as views

    place = open_place(estate_path, output)
    rows = operation.prune(place, dry=True)
    going = sum(r.kept is None for r in rows)
    if not dry_run and going:
        if may_go_on(f"Take {going} packages out of the stock?", yes):
            rows = operation.prune(place, dry=False)
        else:
            dry_run = True
    output.show(views.pruned_view(rows, dry_run))
