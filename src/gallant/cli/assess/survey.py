"""survey and inventory."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import timedelta
from pathlib import Path
from typing import TYPE_CHECKING

import click

from gallant.cli.ground.common import (
    ONE_AT_A_TIME,
    SpanOption,
    as_record,
    ask_now,
    believing,
    estate_option,
    finish,
    listing_options,
    open_place,
    output_options,
    run,
    selector_argument,
    ticking,
)

if TYPE_CHECKING:
    from gallant.operations.ground.survey import Hands, Learn
    from gallant.views.ground.output import Output


def _hands(what: str) -> str | None:
    with ONE_AT_A_TIME:
        return str(click.prompt(what, err=True))


@dataclass(frozen=True, kw_only=True)
class SurveyAsked:
    """What was asked of `gallant survey`: each field is an option, or what it is about."""

    selector: tuple[str, ...]
    older_than: timedelta | None
    failed: bool
    learn_keys: bool
    yes: bool
    profile: str | None
    address: str | None
    user: str
    secret: str
    pin: str | None
    ca: str | None
    show_calls: bool
    past: bool


@click.command()
@estate_option
@selector_argument
@click.option(
    "--older-than",
    type=SpanOption(),
    default=None,
    metavar="TIME",
    help="Only nodes not read for so long: 90m, 12h or 3d.",
)
@click.option("--failed", is_flag=True, help="Only nodes whose last try failed, or that were never read.")
@click.option(
    "--learn-keys",
    is_flag=True,
    help=(
        "Show each host key that is not known yet, and each serial that was taken at first sight, and ask whether to"
        " keep it."
    ),
)
@click.option("--yes", is_flag=True, help="With --learn-keys: keep them all, unasked.")
@click.option(
    "--profile", default=None, metavar="FILE", help="Try a profile on one machine, read-only; the estate is left aside."
)
@click.option(
    "--address",
    default=None,
    metavar="ADDRESS",
    help="With --profile: https://HOST[:PORT], ssh://HOST[:PORT] or local:.",
)
@click.option("--user", default="", metavar="NAME", help="With --profile: the account's name.")
@click.option(
    "--secret",
    default="ask",
    metavar="WHERE",
    help="With --profile: env:NAME, file:PATH, keyring:SERVICE, key:PATH, agent or ask.",
)
@click.option(
    "--pin", default=None, metavar="FINGERPRINT", help="With --profile: the certificate's or host key's fingerprint."
)
@click.option("--ca", default=None, metavar="FILE", help="With --profile: a CA file.")
@click.option("--list", "past", is_flag=True, help="The surveys that were held, newest first; nobody is contacted.")
@click.option("--show-calls", is_flag=True, help="With --profile: each call, its answer and the fields taken from it.")
@listing_options
@output_options
@as_record(SurveyAsked)
def survey(estate_path: Path | None, asked: SurveyAsked, output: Output) -> None:
    """Contact nodes and keep what they say.

    Examples:  gallant survey   |   gallant survey site:harbour kind:storage   |   gallant survey --older-than 12h   |
    gallant survey --profile my-switch.yaml --address ssh://10.0.0.7 --user admin --show-calls
    """
    from gallant.operations.ground import survey as operation
    from gallant.views.assess import survey as views

    if asked.past and asked.selector:
        raise click.UsageError("--list is of all surveys; name no system beside it.")
    if (asked.profile is None) != (asked.address is None):
        raise click.UsageError("--profile and --address go together.")
    learn, hands = _people(asked)
    if asked.past:
        output.show(views.surveys_view(open_place(estate_path, output).readings.surveys()))
        return
    if asked.profile is not None and asked.address is not None:
        _try_profile(asked, asked.profile, asked.address, output)
        return
    place = open_place(estate_path, output)
    asks = (learn is not None and not asked.yes) or any(s.driver == "manual" for s in place.systems(asked.selector))
    with ticking(output, "reading nodes", asks) as tick:
        result = run(
            operation.survey(
                place, asked.selector, tick, older_than=asked.older_than, failed=asked.failed, learn=learn, hands=hands
            ),
            many_nodes=True,
        )
    output.show(views.survey_view(result, place.clock.now()))
    finish(result.exit_code)


def _people(asked: SurveyAsked) -> tuple[Learn | None, Hands | None]:
    """Who says whether a key is trusted, and what a node that is read by hand shows: whoever is at the terminal."""
    import sys

    at_terminal = sys.stdin.isatty()
    learn = believing(asked.yes, at_terminal) if asked.learn_keys else None
    if asked.learn_keys and learn is None:
        raise click.UsageError(
            "--learn-keys asks about each key, and nobody is at a terminal; --yes keeps them unasked."
        )
    return learn, _hands if at_terminal else None


def _try_profile(asked: SurveyAsked, profile: str, address: str, output: Output) -> None:
    """One machine is read by a profile that is being written; the estate is left aside."""
    from gallant.operations.setup import trial
    from gallant.views.assess import inventory as shown

    tried = run(
        trial.try_profile(
            trial.Trial(
                profile=Path(profile),
                address=address,
                user=asked.user,
                secret=asked.secret,
                fingerprint=asked.pin,
                ca=asked.ca,
            ),
            ask_now(),
            *_people(asked),
        )
    )
    output.show(shown.tried_view(tried, asked.show_calls))
    finish(tried.exit_code)


@click.command()
@estate_option
@selector_argument
@click.option(
    "--by", type=click.Choice(["system", "product", "component"]), default="system", help="How it is put together."
)
@click.option(
    "--at", default=None, metavar="MOMENT", help="As it was then: 2027-01-10, 2027-01-10T08:00Z, or a survey's number."
)
@click.option("--diff", nargs=2, default=None, metavar="A B", help="What changed from one moment to another.")
@click.option("--all", "everything", is_flag=True, help="Every node, however many there are.")
@click.option("--cyclonedx", is_flag=True, help="A bill of materials on stdout: CycloneDX 1.6, JSON.")
@listing_options
@output_options
def inventory(
    estate_path: Path | None,
    selector: tuple[str, ...],
    by: str,
    at: str | None,
    diff: tuple[str, str] | None,
    everything: bool,
    cyclonedx: bool,
    output: Output,
) -> None:
    """What runs where, as last read. A single node is shown in full.

    Examples:  gallant inventory   |   gallant inventory tickets/a   |   gallant inventory --by product   |
    gallant inventory --at 2027-01-10   |   gallant inventory --diff 2027-01-10 2027-01-12
    """
    from gallant.operations.assess import inventory as operation
    from gallant.views.assess import inventory as view

    if cyclonedx and (output.as_csv or diff is not None or by != "system"):
        raise click.UsageError("--cyclonedx is a document of its own form; it goes with no --csv, --diff or --by.")
    place = open_place(estate_path, output)
    if diff is not None:
        output.show(view.changes_view(operation.difference(place, selector, *diff), *diff))
        return
    nodes = operation.known(place, selector, at)
    if cyclonedx:
        output.document(operation.bill_of(place, nodes))
        return
    now = place.clock.now()
    if by != "system":
        output.show(view.grouped_view(operation.rows_of(nodes), by))
    elif len(nodes) == 1 and any("/" in term for term in selector):
        output.show(view.node_view(nodes[0], list(operation.rows_of(nodes)), now))
    else:
        whole = everything or output.listing.asked
        output.show(view.tree_view(nodes, lambda: operation.rows_of(nodes), now, at, whole))
