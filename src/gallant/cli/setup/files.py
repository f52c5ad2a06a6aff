"""init and validate."""

from __future__ import annotations

import shutil
import sys
from pathlib import Path
from typing import TYPE_CHECKING

import click

from gallant.cli.ground.common import finish, listing_options, output_options

if TYPE_CHECKING:
    from gallant.views.ground.output import Output


@click.command()
@click.argument("folder", type=click.Path(path_type=Path), default=Path("."))
@click.option(
    "--sudoers",
    default=None,
    metavar="USER",
    help="Print the sudoers file that Gallant's account needs on a Linux host.",
)
@click.option(
    "--profile", default=None, metavar="NAME|FILE", help="With --sudoers: what this profile's own commands need, too."
)
@click.option(
    "--identity",
    type=click.Path(path_type=Path, dir_okay=False),
    default=None,
    metavar="FILE",
    help="Make a key that opens backups, and say the recipient that goes into estate.yaml.",
)
@click.option(
    "--timer",
    type=click.Choice(["user", "system"]),
    default=None,
    help="Print the systemd units that have the estate in FOLDER looked after, for one user or the whole system.",
)
@click.option(
    "--group", default=None, metavar="NAME", help="Make FOLDER an estate that the members of this group work on."
)
@click.option("--passphrase", is_flag=True, help="With --identity: wrap the file in a passphrase, which is asked for.")
@output_options
def init(
    folder: Path,
    sudoers: str | None,
    profile: str | None,
    identity: Path | None,
    timer: str | None,
    group: str | None,
    passphrase: bool,
    output: Output,
) -> None:
    """Write a commented estate.yaml into FOLDER.

    Examples:  gallant init ferry-line   |   gallant init ferry-line --group storage
    |   gallant init --identity backups.key   |   gallant init --sudoers gallant
    |   gallant init --timer user
    """
    if sudoers is not None:
        _show_sudoers(sudoers, profile, output)
    elif timer is not None:
        _show_units(folder, timer, output)
    elif identity is not None:
        _make_identity(identity, passphrase, output)
    else:
        _make_estate(folder, group, output)


def _show_sudoers(user: str, profile: str | None, output: Output) -> None:
    from gallant.operations.setup import files
    from gallant.views.ground.tables import lines_view
    from gallant.views.ground.words import plain
    from gallant.views.setup.files import SUDOERS, SudoersRow

    text = files.sudoers(user, profile)
    output.show(lines_view(SUDOERS, [SudoersRow(user=user, text=text)], plain(text.rstrip())))


def _make_estate(folder: Path, group: str | None, output: Output) -> None:
    from gallant.operations.setup import files
    from gallant.people import group_name, group_number
    from gallant.views.ground.tables import lines_view
    from gallant.views.ground.words import BOLD, OFF, plain, said
    from gallant.views.setup.files import WRITTEN, FileRow

    gid = group_number(group) if group is not None else None
    path = files.init(folder, gid)
    theirs = (
        [
            f"The members of {plain(group_name(gid))} can work on it, each with secrets of their own (file:~/…,"
            " key:~/…, agent, ask)."
        ]
        if gid is not None
        else []
    )
    output.show(
        lines_view(
            WRITTEN,
            [FileRow(file=str(path))],
            said("good", f"{path} is written; its comments say what goes where."),
            *theirs,
            f"{BOLD}next{OFF}  {plain(f'gallant validate {path}')}",
        )
    )


def _program() -> tuple[str, ...]:
    """How this very program is called from anywhere."""
    if Path(sys.argv[0]).name == "__main__.py":  # as python -m gallant
        return sys.executable, "-P", "-m", "gallant"
    return (str(Path(shutil.which(sys.argv[0]) or sys.argv[0]).resolve()),)


def _show_units(folder: Path, whose: str, output: Output) -> None:
    from gallant.operations.setup import timers
    from gallant.views.ground.tables import lines_view
    from gallant.views.ground.words import BOLD, OFF, plain
    from gallant.views.setup.files import UNITS

    units = timers.units(folder.resolve(), whose, _program())
    control = "systemctl --user" if whose == "user" else "systemctl"
    names = " ".join(unit.file.rpartition("/")[2] for unit in units if unit.file.endswith(".timer"))
    linger = ["  so that it goes on while you are logged out: loginctl enable-linger"] if whose == "user" else []
    output.show(
        lines_view(
            UNITS,
            units,
            *(f"{BOLD}# {plain(unit.file)}{OFF}\n{plain(unit.text.rstrip())}\n" for unit in units),
            f"{BOLD}next{OFF}  Write each into the file that its first line names; then: {control} daemon-reload;"
            f" {control} enable --now {names}",
            *linger,
        )
    )


def _make_identity(path: Path, passphrase: bool, output: Output) -> None:
    from gallant.operations.keep import backups
    from gallant.views.ground.tables import lines_view
    from gallant.views.ground.words import BOLD, OFF, said
    from gallant.views.setup.files import IDENTITY, IdentityRow

    word = click.prompt("Passphrase", hide_input=True, confirmation_prompt=True, err=True) if passphrase else None
    recipient = backups.make_identity(path, word)
    output.show(
        lines_view(
            IDENTITY,
            [IdentityRow(file=str(path), recipient=recipient)],
            said("good", f"{path} is written, readable by you alone. It opens what is encrypted to:"),
            f"  {recipient}",
            "Keep a copy of it where the backups are not: without it nothing of them can be read.",
            f'{BOLD}next{OFF}  write in estate.yaml:  backups: {{recipients: ["{recipient}"]}}',
        )
    )


@click.command()
@click.argument("file", nargs=-1, required=True, type=click.Path(path_type=Path))
@output_options
def validate(file: tuple[Path, ...], output: Output) -> None:
    """Check Gallant files: estates, profiles, scenarios, plans, catalogs, backup manifests.

    Examples:  gallant validate estate.yaml my-device.yaml
    """
    from gallant.operations.setup import files
    from gallant.views.setup.files import validated_view

    rows = files.validate(list(file))
    output.show(validated_view(rows))
    finish(2 if any(r.problems for r in rows) else 0)


@click.command()
@listing_options
@output_options
def profiles(output: Output) -> None:
    """The kinds of device that are known, each with its driver; a profile of your own teaches another.

    Examples:  gallant profiles   |   gallant profiles --json
    """
    from gallant.operations.setup import files
    from gallant.views.setup.files import profiles_view

    output.show(profiles_view(files.kinds()))
