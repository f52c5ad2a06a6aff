"""backup take, list, verify."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from gallant.cli.common import estate_option, finish, open_place, output_options, run, selector_argument


@click.group()
def backup() -> None:
    """Configurations, kept off the systems."""


@backup.command()
@estate_option
@selector_argument
@click.option("--comment", default="", help="Why it is taken; stands in the list.")
@output_options
def take(estate_path: Path | None, selector: tuple[str, ...], comment: str, output: Any) -> None:
    """Export everything that the profile lists, compress it, and seal it by reading it back.

    Examples:  gallant backup take tickets --comment "before the window"
    """
    from gallant.operations import backups
    from gallant.views import tables

    rows, code = run(backups.take(open_place(estate_path, output), selector, comment))
    output.show(tables.backup_taken_view(rows))
    finish(code)


@backup.command("list")
@estate_option
@selector_argument
@output_options
def list_(estate_path: Path | None, selector: tuple[str, ...], output: Any) -> None:
    """Backups, newest first."""
    from gallant.operations import backups
    from gallant.views import tables

    place = open_place(estate_path, output)
    output.show(tables.backup_list_view(backups.listed(place, selector), place.clock.now()))


@backup.command()
@estate_option
@click.argument("backup_id", nargs=-1, metavar="[BACKUP]...")
@click.option("--all", "everything", is_flag=True, help="All of them.")
@output_options
def verify(estate_path: Path | None, backup_id: tuple[str, ...], everything: bool, output: Any) -> None:
    """Read backups again and unpack them: is every item as it was exported?

    Examples:  gallant backup verify --all
    """
    from gallant.operations import backups
    from gallant.views import tables

    rows, code = backups.verify(open_place(estate_path, output), backup_id, everything)
    output.show(tables.backup_checked_view(rows))
    finish(code)
