"""ledger, ledger export, ledger verify."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from gallant.cli.ground.common import estate_option, finish, open_place, output_options

if TYPE_CHECKING:
    from gallant.views.ground.output import Output


NEWEST = 50  # entries on a screen


@click.group(invoke_without_command=True)
@estate_option
@output_options
@click.option("--all", "everything", is_flag=True, help="Every entry, and not the newest fifty alone.")
@click.pass_context
def ledger(context: click.Context, estate_path: Path | None, everything: bool, output: Output) -> None:
    """Who decided what and when, newest first, and whether the chain of entries is whole.

    Examples:  gallant ledger   |   gallant ledger verify --against told.log
    """
    if context.invoked_subcommand is not None:
        return
    from gallant.operations.decide import ledger as operation
    from gallant.views.decide.notices import ledger_view

    looked = operation.look(open_place(estate_path, output), None if everything or output.whole else NEWEST)
    output.show(ledger_view(looked))
    finish(1 if looked.problems else 0)


@ledger.command()
@estate_option
@click.argument("file", type=click.Path(path_type=Path, dir_okay=False))
@output_options
def export(estate_path: Path | None, file: Path, output: Output) -> None:
    """Write every entry with its hash into FILE, a line of JSON each; anyone who keeps it can tell a rewritten chain.

    Examples:  gallant ledger export ledger-2026.jsonl
    """
    from gallant.operations.decide import ledger as operation
    from gallant.views.decide.notices import ledger_exported_view

    count = operation.export(open_place(estate_path, output), file)
    output.show(ledger_exported_view(count, str(file)))


@ledger.command()
@estate_option
@click.option(
    "--against",
    type=click.Path(path_type=Path, dir_okay=False),
    default=None,
    metavar="FILE",
    help="What others were told: an export, a file of JSON lines, or a collector's syslog.",
)
@output_options
def verify(estate_path: Path | None, against: Path | None, output: Output) -> None:
    """Is the chain whole, and is it the one that others were told of?

    Examples:  gallant ledger verify   |   gallant ledger verify --against /var/log/gallant.log
    """
    from gallant.operations.decide import ledger as operation
    from gallant.views.decide.notices import ledger_verified_view

    done = operation.verify(open_place(estate_path, output), against)
    output.show(ledger_verified_view(done))
    finish(1 if done.problems else 0)
