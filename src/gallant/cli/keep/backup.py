"""backup take, list, show, verify, diff, export, restore, prune."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from gallant.cli.ground.common import (
    complete_backups,
    estate_option,
    finish,
    listing_options,
    may_go_on,
    open_place,
    output_options,
    run,
    selector_argument,
    ticking,
    yes_option,
)

if TYPE_CHECKING:
    from gallant.views.ground.output import Output

identity_option = click.option(
    "--identity",
    type=click.Path(path_type=Path, dir_okay=False),
    default=None,
    metavar="FILE",
    help="The age identity that opens it; else the one that the estate names.",
)


@click.group()
def backup() -> None:
    """Configurations, kept off the systems."""


@backup.command()
@estate_option
@selector_argument
@click.option("--comment", default="", help="Why it is taken; stands in the list.")
@click.option("--plain", is_flag=True, help="Not encrypted; the list says so for as long as it lives.")
@output_options
def take(estate_path: Path | None, selector: tuple[str, ...], comment: str, plain: bool, output: Output) -> None:
    """Export everything that the profile lists, compress and encrypt it, and seal it by reading it back.

    Examples:  gallant backup take tickets --comment "before the window"
    """
    from gallant.operations.keep import backups
    from gallant.views.keep import backups as views

    place = open_place(estate_path, output)
    with ticking(output, "backing up", asks=True) as tick:
        rows, code = run(backups.take(place, selector, comment, plain, tick))
    output.show(views.taken_view(rows))
    finish(code)


@backup.command("list")
@estate_option
@selector_argument
@listing_options
@output_options
def list_(estate_path: Path | None, selector: tuple[str, ...], output: Output) -> None:
    """Backups, newest first.

    Examples:  gallant backup list   |   gallant backup list tickets
    """
    from gallant.operations.keep import backups
    from gallant.views.keep import backups as views

    place = open_place(estate_path, output)
    output.show(views.list_view(backups.listed(place, selector), place.clock.now()))


@backup.command()
@estate_option
@click.argument("backup_id", metavar="BACKUP", shell_complete=complete_backups)
@output_options
def show(estate_path: Path | None, backup_id: str, output: Output) -> None:
    """One backup in full: what it holds, who made it, who can open it, where its copies are.

    BACKUP is an id, the start of one, or a system for its newest.

    Examples:  gallant backup show tickets
    """
    from gallant.operations.keep import looking_into
    from gallant.views.keep import backups as views

    place = open_place(estate_path, output)
    shown = looking_into.show(place, backup_id)
    output.show(views.show_view(shown, place.clock.now()))
    finish(1 if shown.signature else 0)


@backup.command()
@estate_option
@click.argument("backup_id", nargs=-1, metavar="[BACKUP]...", shell_complete=complete_backups)
@click.option("--all", "everything", is_flag=True, help="All of them.")
@identity_option
@output_options
def verify(
    estate_path: Path | None, backup_id: tuple[str, ...], everything: bool, identity: Path | None, output: Output
) -> None:
    """Read backups and their copies again, and open them where an
    identity is at hand: is every item as it was exported?

    Examples:  gallant backup verify --all   |   gallant backup verify tickets --identity key.txt
    """
    from gallant.operations.keep import looking_into
    from gallant.views.keep import backups as views

    rows, code = run(looking_into.verify(open_place(estate_path, output), backup_id, everything, identity))
    output.show(views.checked_view(rows))
    finish(code)


@backup.command()
@estate_option
@click.argument("backup_id", metavar="BACKUP", shell_complete=complete_backups)
@click.argument("other", required=False, metavar="[OTHER]", shell_complete=complete_backups)
@click.option("--same", is_flag=True, help="Also name what is the same.")
@identity_option
@click.option(
    "--around", type=click.IntRange(0, 50), default=0, metavar="N", help="Also so many lines around each that differs."
)
@output_options
def diff(
    estate_path: Path | None,
    backup_id: str,
    other: str | None,
    same: bool,
    identity: Path | None,
    around: int,
    output: Output,
) -> None:
    """What differs between two backups; with one alone, between it and the system as it is now.

    Exit code 1 where anything differs.

    Examples:  gallant backup diff tickets   |   gallant backup diff tickets-20261125-220000 tickets
    """
    from gallant.operations.keep import looking_into
    from gallant.views.keep import backups as views

    place = open_place(estate_path, output)
    found = run(looking_into.diff(place, backup_id, other, identity, around))
    output.show(views.diff_view(found, place.clock.now(), same))
    finish(1 if any(d.what != "same" for d in found.items) else 0)


@backup.command()
@estate_option
@click.argument("backup_id", metavar="BACKUP", shell_complete=complete_backups)
@click.argument("folder", type=click.Path(path_type=Path))
@identity_option
@output_options
def export(estate_path: Path | None, backup_id: str, folder: Path, identity: Path | None, output: Output) -> None:
    """Unpack a backup into a new folder: all of it, or nothing.

    Examples:  gallant backup export tickets ./tickets-now
    """
    from gallant.operations.keep import restoring
    from gallant.views.keep import backups as views

    done = restoring.export(open_place(estate_path, output), backup_id, folder, identity)
    output.show(views.exported_view(done, folder))


@backup.command()
@estate_option
@click.argument("backup_id", metavar="BACKUP", shell_complete=complete_backups)
@click.option("--node", default=None, metavar="NODE", help="The node to put it on, where there are several.")
@click.option("--without-backup", is_flag=True, help="Do not back up first what is there now.")
@identity_option
@yes_option
@output_options
def restore(
    estate_path: Path | None,
    backup_id: str,
    node: str | None,
    without_backup: bool,
    identity: Path | None,
    yes: bool,
    output: Output,
) -> None:
    """Put a backup back onto its system, or onto a machine that was freshly installed in its place.

    The node must run the version that the backup was taken on. What is there now is backed up first.

    Examples:  gallant backup restore tickets --node a
    """
    from gallant.operations.keep import restoring
    from gallant.views.keep import backups as views

    place = open_place(estate_path, output)
    done = run(
        restoring.restore(place, backup_id, node, identity, lambda text: may_go_on(text, yes), not without_backup)
    )
    output.show(views.restored_view(done))
    finish(done.exit_code)


@backup.command()
@estate_option
@selector_argument
@click.option("--dry-run", is_flag=True, help="Only say what would go, and which rule keeps the rest.")
@yes_option
@output_options
def prune(estate_path: Path | None, selector: tuple[str, ...], dry_run: bool, yes: bool, output: Output) -> None:
    """Take away what the keep rules do not keep. Never the newest sealed one, never one that an open roll points to.

    Examples:  gallant backup prune --dry-run
    """
    from gallant.operations.keep import backups
    from gallant.views.keep import backups as views

    place = open_place(estate_path, output)
    planned = run(backups.prune(place, selector, dry=True))
    going = [f.backup.id for f in planned if f.kept is None]
    if not dry_run and going:
        if not may_go_on(f"Take away {len(going)} backups for good?", yes):
            dry_run = True
        else:
            planned = run(backups.prune(place, selector, dry=False))
    output.show(views.pruned_view(planned, place.clock.now(), dry_run or not going))
