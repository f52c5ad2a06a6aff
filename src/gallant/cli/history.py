"""history."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from gallant.cli.common import complete_rolls, estate_option, finish, listing_options, open_place, output_options

if TYPE_CHECKING:
    from gallant.views.output import Output


@click.command()
@estate_option
@click.argument("roll_id", metavar="[ROLL]", required=False, shell_complete=complete_rolls)
@click.option(
    "--verify",
    "verify_id",
    default=None,
    metavar="ROLL",
    help="Check that roll's journal: its sequence and its grammar.",
)
@click.option(
    "--draft", is_flag=True, help="With a ROLL: what it saw that its publishers do not say, as a draft for them."
)
@listing_options
@output_options
def history(estate_path: Path | None, roll_id: str | None, verify_id: str | None, draft: bool, output: Output) -> None:
    """Past rolls, newest first; or one roll's steps with their times.

    Examples:  gallant history   |   gallant history roll-0007   |   gallant history --verify roll-0007
    """
    from gallant.core.errors import worst_exit
    from gallant.operations import history as operation
    from gallant.views import claims, rolls

    if draft and roll_id is None:
        raise click.UsageError("--draft is about one roll: gallant history ROLL --draft")
    place = open_place(estate_path, output)
    if verify_id is not None:
        events, problems = operation.verify(place, verify_id)
        output.show(rolls.journal_view(verify_id, events, problems))
        finish(1 if problems else 0)
    elif roll_id is not None and draft:
        output.show(claims.draft_view(roll_id, operation.claims(place, roll_id)))
    elif roll_id is not None:
        output.show(rolls.roll_steps_view(*operation.one(place, roll_id), operation.claims(place, roll_id)))
    else:
        runs, damaged = operation.history(place)
        output.show(rolls.history_view(runs, damaged))
        finish(worst_exit([error.exit_code for error in damaged]))
