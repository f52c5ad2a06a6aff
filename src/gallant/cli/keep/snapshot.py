"""snapshot take, list, revert, remove."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from gallant.cli.ground.common import (
    complete_names,
    estate_option,
    finish,
    listing_options,
    may_go_on,
    open_place,
    output_options,
    reason_option,
    run,
    selector_argument,
    yes_option,
)

if TYPE_CHECKING:
    from gallant.views.ground.output import Output


@click.group()
def snapshot() -> None:
    """Restore points, short-lived by intent."""


@snapshot.command()
@estate_option
@selector_argument
@reason_option("What for; stands in its name.", required=True)
@output_options
def take(estate_path: Path | None, selector: tuple[str, ...], reason: str, output: Output) -> None:
    """Take a restore point, through the host where the system is a guest, and see that it is there.

    Examples:  gallant snapshot take overlook --reason "before 17.6"
    """
    from gallant.operations.keep import snapshots
    from gallant.views.keep import snapshots as views

    rows, code = run(snapshots.take(open_place(estate_path, output), selector, reason))
    output.show(views.made_view(rows))
    finish(code)


@snapshot.command("list")
@estate_option
@selector_argument
@listing_options
@output_options
def list_(estate_path: Path | None, selector: tuple[str, ...], output: Output) -> None:
    """Restore points as they are now, the oldest first.

    Examples:  gallant snapshot list   |   gallant snapshot list overlook
    """
    from gallant.operations.keep import snapshots
    from gallant.views.keep import snapshots as views

    place = open_place(estate_path, output)
    kept, failed, code = run(snapshots.listed(place, selector))
    output.show(views.list_view(kept, failed, place.estate.limits.snapshot_days))
    finish(code)


@snapshot.command()
@estate_option
@click.argument("system", shell_complete=complete_names)
@click.argument("name", metavar="SNAPSHOT")
@yes_option
@output_options
def revert(estate_path: Path | None, system: str, name: str, yes: bool, output: Output) -> None:
    """Go back to a restore point; what came after it is lost on the system.

    Examples:  gallant snapshot revert overlook before-17.6
    """
    from gallant.operations.keep import snapshots
    from gallant.views.keep import snapshots as views

    place = open_place(estate_path, output)
    done = run(snapshots.revert(place, system, name, lambda text: may_go_on(text, yes)))
    output.show(views.reverted_view(done))
    finish(done.exit_code)


@snapshot.command()
@estate_option
@click.argument("system", shell_complete=complete_names)
@click.argument("name", metavar="SNAPSHOT")
@yes_option
@output_options
def remove(estate_path: Path | None, system: str, name: str, yes: bool, output: Output) -> None:
    """Take a restore point away.

    Examples:  gallant snapshot remove overlook before-17.6
    """
    from gallant.operations.keep import snapshots
    from gallant.views.keep import snapshots as views

    place = open_place(estate_path, output)
    done = run(snapshots.remove(place, system, name, lambda text: may_go_on(text, yes)))
    output.show(views.done_view(done, "no longer has"))
