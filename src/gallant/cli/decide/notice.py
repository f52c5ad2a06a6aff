"""notice list, accept, book, assign, skip, reopen; and ledger, which keeps what was decided."""

from __future__ import annotations

import sys
from collections.abc import Callable
from dataclasses import dataclass
from datetime import timedelta
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, TypeVar

import click

from gallant.cli.ground.common import (
    SpanOption,
    as_record,
    complete_notices,
    estate_option,
    finish,
    listing_options,
    may_go_on,
    open_place,
    output_options,
    pick_options,
    reason_option,
    selector_argument,
    yes_option,
)

if TYPE_CHECKING:
    from gallant.operations.decide.notices import Decided
    from gallant.operations.ground.workplace import Workplace
    from gallant.views.ground.output import Output

T = TypeVar("T")

terms_option = click.option(
    "--accept-terms",
    "terms",
    multiple=True,
    metavar="VERSION",
    help="You have read this version of the publisher's terms and accept it.",
)


@click.group()
def notice() -> None:
    """Gaps that wait for a decision."""


@notice.command("list")
@estate_option
@selector_argument
@click.option("--all", "everything", is_flag=True, help="Also those that are skipped, left alone or done.")
@pick_options
@listing_options
@output_options
def list_(estate_path: Path | None, selector: tuple[str, ...], everything: bool, output: Output) -> None:
    """Where each notice stands: the newest and most severe first.

    Examples:  gallant notice list   |   gallant notice list site:harbour --all
    """
    from gallant.operations.decide import notices
    from gallant.views.decide.notices import notices_view

    place = open_place(estate_path, output)
    result = notices.listed(place, selector, everything)
    output.show(notices_view(result, place.clock.now(), output.listing.asked))
    finish(1 if any(n.state in ("new", "overdue") for n in result.notices) else 0)


def _with_terms(output: Output, decide: Callable[[tuple[str, ...]], T], terms: tuple[str, ...]) -> T:
    """The decision; where terms of use stand in its way and a person is there, they are shown and asked about."""
    from gallant.operations.decide.notices import TermsAsked
    from gallant.views.decide.notices import terms_text

    while True:
        try:
            return decide(terms)
        except TermsAsked as asked:
            if not sys.stdin.isatty() or asked.version in terms:
                raise
            click.echo(terms_text(asked.version, asked.text), err=True)
            click.confirm(f"Do you accept the terms {asked.version}, in your own name?", abort=True, err=True)
            terms = (*terms, asked.version)


def _show(output: Output, decided: Decided) -> None:
    from gallant.views.decide.notices import decided_view

    output.show(decided_view(decided))


@notice.command()
@estate_option
@click.argument("selector", nargs=-1, required=True, metavar="NOTICE|SELECTOR...", shell_complete=complete_notices)
@reason_option("Why, for anyone who asks later.")
@terms_option
@yes_option
@output_options
def accept(
    estate_path: Path | None,
    selector: tuple[str, ...],
    reason: str,
    terms: tuple[str, ...],
    yes: bool,
    output: Output,
) -> None:
    """It is to be done; several are shown first, and asked about once.
    Terms of use are accepted once for each version of them.

    Examples:  gallant notice accept tickets   |   gallant notice accept tickets:expander --reason "agreed on Monday"
    |   gallant notice accept severity:low site:harbour
    """
    from gallant.operations.decide import notices
    from gallant.views.decide.notices import accepted_view, chosen_view

    place = open_place(estate_path, output)
    chosen = notices.chosen(place, selector)
    if len(chosen.notices) == 1 and chosen.by_name:
        name = chosen.notices[0].name
        _show(output, _with_terms(output, partial(_accepted, place, name, reason), terms))
        return
    if not yes and chosen.notices:
        output.aside(chosen_view(chosen, place.clock.now()))
    if not chosen.notices or not may_go_on(
        f"Accept {'this one' if len(chosen.notices) == 1 else f'these {len(chosen.notices)}'}?", yes
    ):
        output.show(accepted_view([], chosen))
        finish(1)
        return
    done = [_with_terms(output, partial(_accepted, place, one.name, reason), terms) for one in chosen.notices]
    output.show(accepted_view(done, chosen))


def _accepted(place: Workplace, name: str, reason: str, terms: tuple[str, ...]) -> Decided:
    from gallant.operations.decide import notices

    return notices.accept(place, name, terms, reason)


@dataclass(frozen=True, kw_only=True)
class BookAsked:
    """What was asked of `gallant book`: each field is an option, or what it is about."""

    name: str
    time: str | None
    lasting: timedelta | None
    cancel: bool
    consent: tuple[str, ...]
    terms: tuple[str, ...]
    yes: bool


@notice.command()
@estate_option
@click.argument("name", metavar="NOTICE", shell_complete=complete_notices)
@click.argument("time", required=False)
@click.option(
    "--for",
    "lasting",
    type=SpanOption(),
    default=None,
    metavar="LENGTH",
    help="How long there is: 90m, 4h; else as expected.",
)
@click.option("--cancel", is_flag=True, help="Take the booking back.")
@click.option(
    "--consent",
    multiple=True,
    metavar="WHAT",
    help="Accept by name what cannot be undone, as one-way:tickets, for when it is begun by itself.",
)
@terms_option
@yes_option
@output_options
@as_record(BookAsked)
def book(estate_path: Path | None, asked: BookAsked, output: Output) -> None:
    """Book it for a TIME, in the site's own time zone where none is written; again to change it. What would be left
    undone in the night is said now (exit 1); --yes books it all the same.

    Examples:  gallant notice book tickets 2026-11-28T22:00 --for 4h   |   gallant notice book tickets --cancel
    """
    from gallant.operations.decide import bookings
    from gallant.operations.plan import booking

    if asked.cancel == (asked.time is not None):
        raise click.UsageError("Write a TIME, or --cancel.")
    place = open_place(estate_path, output)
    if asked.cancel:
        _show(output, bookings.cancel(place, asked.name))
        return
    draft = bookings.drafted(place, asked.name, str(asked.time), asked.lasting, asked.consent)

    def sure(text: str) -> bool:
        return asked.yes or (sys.stdin.isatty() and may_go_on(text, asked.yes))  # what is refused says why itself

    _show(output, _with_terms(output, lambda given: booking.book(place, draft, given, sure), asked.terms))


@notice.command()
@estate_option
@click.argument("name", metavar="NOTICE", shell_complete=complete_notices)
@click.argument("person")
@output_options
def assign(estate_path: Path | None, name: str, person: str, output: Output) -> None:
    """Give it to a PERSON to look after.

    Examples:  gallant notice assign tickets anna
    """
    from gallant.operations.decide import notices

    _show(output, notices.assign(open_place(estate_path, output), name, person))


@notice.command()
@estate_option
@click.argument("name", metavar="NOTICE", shell_complete=complete_notices)
@click.option("--until", required=True, metavar="RELEASE|DATE", help="The release or the day until which it is left.")
@reason_option("Why, for anyone who asks later.", required=True)
@yes_option
@output_options
def skip(estate_path: Path | None, name: str, until: str, reason: str, yes: bool, output: Output) -> None:
    """Leave it until a release is out or a day has come.

    Examples:  gallant notice skip tickets --until 3.2.6 --reason "3.2.4 slows the replica"
    """
    from gallant.operations.decide import notices

    place = open_place(estate_path, output)
    _show(output, notices.skip(place, name, until, reason, lambda text: may_go_on(text, yes)))


@notice.command()
@estate_option
@click.argument("name", metavar="NOTICE", shell_complete=complete_notices)
@reason_option("Why, for anyone who asks later.")
@output_options
def reopen(estate_path: Path | None, name: str, reason: str, output: Output) -> None:
    """Take the last decision back.

    Examples:  gallant notice reopen tickets
    """
    from gallant.operations.decide import notices

    _show(output, notices.reopen(open_place(estate_path, output), name, reason))
