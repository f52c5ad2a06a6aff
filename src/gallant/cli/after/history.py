"""history."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

import click

from gallant.cli.ground.common import (
    SpanOption,
    as_record,
    complete_names,
    complete_rolls,
    estate_option,
    finish,
    listing_options,
    open_place,
    output_options,
)

if TYPE_CHECKING:
    from datetime import timedelta

    from gallant.operations.ground.workplace import Workplace
    from gallant.views.ground.output import Output


NEWEST = 50  # rolls on a screen, where nobody chose


@dataclass(frozen=True, kw_only=True)
class HistoryAsked:
    """What was asked of `gallant history`: each field is an option, or what it is about."""

    roll_id: str | None
    verify_id: str | None
    draft: bool
    durations: bool
    everything: bool
    systems: tuple[str, ...]
    since: timedelta | None
    states: tuple[str, ...]
    product: str | None
    export_to: Path | None
    import_from: Path | None
    figure: Path | None


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
@click.option(
    "--durations",
    is_flag=True,
    help="How long steps took, by product and hop: announced, taken, and what the next is given.",
)
@click.option("--all", "everything", is_flag=True, help="Every roll, and not the newest fifty alone.")
@click.option(
    "--system",
    "systems",
    multiple=True,
    metavar="SYSTEM",
    help="Only rolls of this system.",
    shell_complete=complete_names,
)
@click.option(
    "--since", type=SpanOption(), default=None, metavar="TIME", help="Only what ended within this time: 12h, 30d."
)
@click.option(
    "--state",
    "states",
    multiple=True,
    type=click.Choice(["running", "cut off", "held", "stopped", "finished", "ended"]),
    help="Only rolls in this state.",
)
@click.option("--product", default=None, metavar="PRODUCT", help="With --durations: of this product alone.")
@click.option(
    "--export",
    "export_to",
    default=None,
    type=click.Path(path_type=Path, dir_okay=False),
    metavar="FILE",
    help="With --durations: write them, for another estate.",
)
@click.option(
    "--import",
    "import_from",
    default=None,
    type=click.Path(path_type=Path, dir_okay=False),
    metavar="FILE",
    help="With --durations: learn from another estate's.",
)
@click.option(
    "--figure",
    default=None,
    type=click.Path(path_type=Path, dir_okay=False),
    metavar="FILE.png",
    help="With --durations: also draw announced against taken.",
)
@listing_options
@output_options
@as_record(HistoryAsked)
def history(estate_path: Path | None, asked: HistoryAsked, output: Output) -> None:
    """Past rolls, newest first; or one roll's steps with their times.

    Examples:  gallant history   |   gallant history roll-0007   |   gallant history --verify roll-0007
    |   gallant history --system tickets --since 90d   |   gallant history --durations --product ostrel/shoal
    """
    from gallant.operations.after import history as operation
    from gallant.views.after import history as views
    from gallant.views.decide import claims

    _goes_together(
        asked.roll_id,
        asked.verify_id,
        asked.draft,
        asked.durations,
        (asked.product, asked.export_to, asked.import_from, asked.figure),
        (asked.systems, asked.since, asked.states),
    )
    place = open_place(estate_path, output)
    if asked.durations:
        _durations(place, asked.product, asked.export_to, asked.import_from, asked.figure, output)
        return
    if asked.verify_id is not None:
        events, problems = operation.verify(place, asked.verify_id)
        output.show(views.journal_view(asked.verify_id, events, problems))
        finish(1 if problems else 0)
    elif asked.roll_id is not None and asked.draft:
        output.show(claims.draft_view(asked.roll_id, operation.claims(place, asked.roll_id)))
    elif asked.roll_id is not None:
        output.show(views.roll_steps_view(*operation.one(place, asked.roll_id), operation.claims(place, asked.roll_id)))
    else:
        _list(place, asked, output)


def _list(place: Workplace, asked: HistoryAsked, output: Output) -> None:
    """The newest rolls on a screen; all of them as data, and where somebody chose some of them."""
    from gallant.core.errors import worst_exit
    from gallant.operations.after import history as operation
    from gallant.views.after import history as views

    chosen = bool(asked.systems or asked.since or asked.states)
    most = None if chosen or asked.everything or output.whole else NEWEST
    runs, damaged = operation.history(place, asked.systems, asked.since, asked.states, most)
    older = max(0, place.journal.count() - NEWEST) if most is not None else 0
    output.show(views.history_view(runs, damaged, operation.totals(place, runs), chosen, older))
    finish(worst_exit([error.exit_code for error in damaged]))


def _goes_together(
    roll_id: str | None,
    verify_id: str | None,
    draft: bool,
    durations: bool,
    of_durations: Sequence[object],
    choosing: Sequence[object],
) -> None:
    """Raise `UsageError` for options of which one says what the other cannot mean."""
    if draft and roll_id is None:
        raise click.UsageError("--draft is about one roll: gallant history ROLL --draft")
    if not durations and any(of_durations):
        raise click.UsageError("--product, --export, --import and --figure go with --durations.")
    if any(choosing) and (durations or roll_id or verify_id):
        raise click.UsageError(
            "--system, --since and --state choose among all rolls; they go with no ROLL and not with --durations."
        )
    if durations and (roll_id is not None or verify_id is not None):
        raise click.UsageError("--durations is of all rolls; name none beside it.")


def _durations(
    place: Workplace,
    product: str | None,
    export_to: Path | None,
    import_from: Path | None,
    figure: Path | None,
    output: Output,
) -> None:
    from gallant.operations.length import durations as operation
    from gallant.views.after import history as views

    if import_from is not None:
        output.remark(f"{operation.bring(place, import_from)} steps of {import_from} are known here now.")
    rows = operation.shown(place, product)
    if export_to is not None:
        output.remark(
            f"{operation.export(place, export_to)} steps are in {export_to}; it names no system of this estate."
        )
    if figure is not None:
        from gallant.views.ground.figures import draw_durations

        draw_durations(rows, figure)
        output.remark(f"The figure is in {figure}.")
    output.show(views.durations_view(rows))
