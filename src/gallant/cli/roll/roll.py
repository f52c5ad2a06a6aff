"""approve, roll, hold, resume, backout."""

from __future__ import annotations

import sys
from collections.abc import Callable, Coroutine
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

import click

from gallant.cli.ground.common import (
    as_record,
    complete_plans,
    complete_rolls,
    estate_option,
    finish,
    open_place,
    output_options,
    reason_option,
    run,
    selector_argument,
)

if TYPE_CHECKING:
    from gallant.core.work.plan import Plan
    from gallant.operations.ground.workplace import Workplace
    from gallant.operations.roll.carrying import RollEnded, Show
    from gallant.views.ground.output import Output

hold_after_option = click.option(
    "--hold-after",
    type=click.Choice(["step", "node", "wave", "hop"]),
    default=None,
    help="Hold after each; resume carries on.",
)
hold_at_option = click.option(
    "--hold-at",
    metavar="TIME",
    default=None,
    help="Begin nothing more from then on, as 04:30; site time unless it has a zone.",
)
on_failure_option = click.option(
    "--on-failure",
    type=click.Choice(["go-on", "stop"]),
    default="go-on",
    show_default=True,
    help="What the other systems do when one stops: go on, or hold at their next safe stop.",
)
outside_option = click.option(
    "--outside-window", is_flag=True, help="Disturb systems although no window of theirs is open; needs --reason."
)
detach_option = click.option(
    "--detach",
    is_flag=True,
    help=(
        "Give the terminal back at once: the roll goes on by itself. Without it, one whose terminal goes away holds at"
        " its next safe stop."
    ),
)


def _carry_out(
    place: Workplace, output: Output, operation: Callable[[Show], Coroutine[object, object, RollEnded]]
) -> None:
    """Run a roll under its live view, then show how it ended."""
    from gallant.operations.after import history
    from gallant.views.roll import live, rolls

    output.paged = False  # nobody may be there to leave a pager when the night is over
    show = live.show_for(output.quiet, output.verbose)
    try:
        result = run(operation(show))
    finally:
        show.close()
    output.show(rolls.rolled_view(result, history.one(place, result.id)[0]))
    finish(result.exit_code)


def _is_let_go(place: Workplace, output: Output) -> bool:
    """Whether the roll goes on in a process of its own; how it is followed is said then."""
    from gallant.operations.roll import detaching
    from gallant.views.roll.rolls import detached_view

    if detaching.is_detached():
        return False
    done = detaching.detach(place, sys.argv[1:])
    if done.roll is None:
        click.echo(done.said, err=True)
    else:
        output.show(detached_view(done))
    finish(done.exit_code)
    return True


def _show_calls(place: Workplace, plan: Plan, output: Output) -> None:
    from gallant.operations.plan.calls import calls_of
    from gallant.views.plan.plans import calls_view

    output.show(calls_view(run(calls_of(place, plan))))


@dataclass(frozen=True, kw_only=True)
class RollAsked:
    """What was asked of `gallant roll`: each field is an option, or what it is about."""

    plan_name: str | None
    follow: bool
    show_calls: bool
    hold_after: str | None
    hold_at: str | None
    on_failure: str
    consent: tuple[str, ...]
    despite_booking: bool
    despite: tuple[str, ...]
    decided_at: int | None
    outside_window: bool
    reason: str
    detach: bool


@click.command()
@estate_option
@click.argument("plan_name", metavar="[PLAN|SYSTEM]", required=False, shell_complete=complete_plans)
@click.option("--follow", is_flag=True, help="Only look on while another process carries out the ROLL named instead.")
@click.option("--show-calls", is_flag=True, help="Only show every call of the plan; nothing is sent.")
@hold_after_option
@hold_at_option
@on_failure_option
@click.option(
    "--consent", multiple=True, metavar="WHAT", help="Accept by name what cannot be undone, as one-way:tickets."
)
@click.option("--despite-booking", is_flag=True, help="Begin although it is booked for another time; needs --reason.")
@click.option("--despite", multiple=True, metavar="CHECK", help="Begin although this check says stop; needs --reason.")
@click.option(
    "--decided-at",
    type=click.IntRange(min=0),
    metavar="ENTRY",
    help="Begin only if nobody decided on its notices after this entry of the ledger.",
)
@outside_option
@reason_option("Why a booking, a check or a window is set aside; kept in the ledger.")
@detach_option
@output_options
@as_record(RollAsked)
def roll(estate_path: Path | None, asked: RollAsked, output: Output) -> None:
    """Carry out a plan; without its name the newest that was not, of a system where one
    is named. It may be killed at any moment; resume finds out where it was.

    Examples:  gallant roll tickets   |   gallant roll plan-3fa9   |   gallant roll plan-3fa9 --hold-after node
    |   gallant roll --follow roll-0007
       |   gallant roll plan-3fa9 --show-calls
    """
    from gallant.operations.plan import loading
    from gallant.operations.roll import followed, holding
    from gallant.operations.roll import rolling as operation

    if (asked.despite_booking or asked.despite or asked.outside_window) and not asked.reason.strip():
        raise click.UsageError(
            "--despite-booking, --despite and --outside-window need --reason; it stands in the ledger."
        )
    place = open_place(estate_path, output)
    if asked.follow:
        name = holding.open_roll(place, asked.plan_name)
        _carry_out(place, output, lambda show: followed.follow(place, name, show))
        return
    plan = loading.load_plan(place, asked.plan_name)
    if asked.show_calls:
        _show_calls(place, plan, output)
        return
    if asked.detach and _is_let_go(place, output):
        return
    outside = asked.reason if asked.outside_window else ""
    pace = operation.pace_of(place, plan, asked.hold_after, asked.hold_at, asked.on_failure == "stop", outside)
    _carry_out(
        place,
        output,
        lambda show: operation.roll(
            place,
            plan,
            show,
            pace=pace,
            consents=asked.consent,
            detach=asked.detach,
            despite_booking=asked.reason if asked.despite_booking else None,
            despite=dict.fromkeys(asked.despite, asked.reason),
            decided_at=asked.decided_at,
        ),
    )


@dataclass(frozen=True, kw_only=True)
class ResumeAsked:
    """What was asked of `gallant resume`: each field is an option, or what it is about."""

    roll_id: str | None
    hold_after: str | None
    hold_at: str | None
    on_failure: str
    detach: bool
    it_did: tuple[str, ...]
    it_did_not: tuple[str, ...]
    done: tuple[str, ...]
    again: tuple[str, ...]
    outside_window: bool
    reason: str


@click.command()
@estate_option
@click.argument("roll_id", metavar="[ROLL]", required=False, shell_complete=complete_rolls)
@hold_after_option
@hold_at_option
@on_failure_option
@detach_option
@click.option(
    "--it-did",
    multiple=True,
    metavar="STEP",
    help="A step that is reported as unknown did take effect; you have looked.",
)
@click.option("--done", multiple=True, metavar="STEP", help="What was yours to do by hand is done.")
@click.option("--it-did-not", multiple=True, metavar="STEP", help="It did not take effect; you have looked.")
@click.option(
    "--again", multiple=True, metavar="STEP", help="A step that was done and whose effect is gone: do it once more."
)
@outside_option
@reason_option("Why a window is set aside; kept in the ledger.")
@output_options
@as_record(ResumeAsked)
def resume(estate_path: Path | None, asked: ResumeAsked, output: Output) -> None:
    """Carry on a roll that was held, stopped or cut off.

    Examples:  gallant resume roll-0007   |   gallant resume roll-0007 --it-did tickets.1.b.install
    """
    from gallant.operations.roll import holding
    from gallant.operations.roll import rolling as operation

    both = {*asked.it_did, *asked.done} & set(asked.it_did_not)
    if both:
        raise click.UsageError(f"{', '.join(sorted(both))}: it did, or it did not?")
    if asked.outside_window and not asked.reason.strip():
        raise click.UsageError("--outside-window needs --reason; it stands in the ledger.")
    place = open_place(estate_path, output)
    answers = {**dict.fromkeys((*asked.it_did, *asked.done), True), **dict.fromkeys(asked.it_did_not, False)}
    name = holding.open_roll(place, asked.roll_id)
    if asked.detach and _is_let_go(place, output):
        return
    plan, outside = place.journal.roll(name).plan, asked.reason if asked.outside_window else ""
    pace = operation.pace_of(place, plan, asked.hold_after, asked.hold_at, asked.on_failure == "stop", outside)
    _carry_out(
        place,
        output,
        lambda show: operation.resume(
            place, name, show, pace=pace, answers=answers, again=asked.again, detach=asked.detach
        ),
    )


@click.command()
@estate_option
@click.argument("plan_name", metavar="PLAN", shell_complete=complete_plans)
@reason_option("What you looked at; kept in the ledger.")
@output_options
def approve(estate_path: Path | None, plan_name: str, reason: str, output: Output) -> None:
    """Approve a plan that somebody else made, as it is; the estate says which need that.

    Examples:  gallant approve plan-3fa9   |   gallant approve plan-3fa9 --reason "order and length are right"
    """
    from gallant.operations.decide import approving
    from gallant.operations.plan import loading
    from gallant.views.plan import plans as views

    place = open_place(estate_path, output)
    plan = loading.load_plan(place, plan_name)
    output.show(views.approved_view(approving.approve(place, plan, reason)))


@click.command()
@estate_option
@click.argument("roll_id", metavar="ROLL", shell_complete=complete_rolls)
@selector_argument
@output_options
def backout(estate_path: Path | None, roll_id: str, selector: tuple[str, ...], output: Output) -> None:
    """Plan the way back from what a roll did, newest change first; gallant roll carries it out.

    Examples:  gallant backout roll-0007   |   gallant backout roll-0007 tickets
    |   gallant backout roll-0007 tickets/b
    """
    from gallant.operations.plan import backout as operation
    from gallant.views.plan import plans

    place = open_place(estate_path, output)
    output.show(plans.plan_view(run(operation.backout(place, roll_id, selector))))


@click.command()
@estate_option
@click.argument("roll_id", metavar="[ROLL]", required=False, shell_complete=complete_rolls)
@click.option("--all", "everything", is_flag=True, help="Every roll that is open.")
@click.option("--now", is_flag=True, help="Right after the act that is under way, without waiting for a safe stop.")
@click.option("--for-good", is_flag=True, help="End it where it stands; its systems are then free for another plan.")
@reason_option("Why it is ended; stands in its journal.")
@output_options
def hold(
    estate_path: Path | None,
    roll_id: str | None,
    everything: bool,
    now: bool,
    for_good: bool,
    reason: str,
    output: Output,
) -> None:
    """Pause a running roll at its next safe stop, or end one that is not running for good.

    Examples:  gallant hold   |   gallant hold --all
    |   gallant hold roll-0007 --for-good --reason "new plan tomorrow"
    """
    from gallant.operations.roll import holding
    from gallant.views.roll import rolls as views

    place = open_place(estate_path, output)
    if everything and (for_good or roll_id is not None):
        raise click.UsageError("--all is for every open roll; it goes with no other word.")
    if for_good:
        _end(place, output, roll_id, reason)
        return
    names = holding.open_names(place) if everything else [holding.open_roll(place, roll_id)]
    asked = [holding.ask_to_hold(place, name, now) for name in names]
    output.show(views.asked_view(asked, now))
    finish(4 if any(one.trouble is not None for one in asked) else 0)


def _end(place: Workplace, output: Output, roll_id: str | None, reason: str) -> None:
    from gallant.operations.roll import holding
    from gallant.views.ground.tables import lines_view
    from gallant.views.ground.words import BOLD, OFF, said
    from gallant.views.roll.rolls import HELD, HoldRow

    if not reason:
        raise click.UsageError("--for-good needs --reason; it stands in the journal.")
    name = holding.end_for_good(place, roll_id, reason)
    output.show(
        lines_view(
            HELD,
            [HoldRow(run=name, state="ended")],
            said("good", f"{name} is ended where it stands."),
            f"{BOLD}next{OFF}  gallant verify",
        )
    )
