"""check and waive."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import timedelta
from pathlib import Path
from typing import TYPE_CHECKING

import click

from gallant.cli.ground.common import (
    SpanOption,
    as_record,
    complete_checks,
    complete_names,
    estate_option,
    finish,
    junit_option,
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


@dataclass(frozen=True, kw_only=True)
class CheckAsked:
    """What was asked of `gallant check`: each field is an option, or what it is about."""

    selector: tuple[str, ...]
    everything: bool
    only: tuple[str, ...]
    nodes: tuple[str, ...]
    phase: str | None
    fail_on: str
    since: timedelta | None
    junit: Path | None
    mend: bool
    explain: str | None
    catalogue: bool
    try_notify: bool
    yes: bool


@click.command()
@estate_option
@selector_argument
@click.option("--all", "everything", is_flag=True, help="Show the passes too.")
@click.option(
    "--only",
    multiple=True,
    metavar="CHECK",
    shell_complete=complete_checks,
    help="Only this check; may be given several times.",
)
@click.option("--node", "nodes", multiple=True, metavar="NODE", help="Only findings on this node, as a or b.")
@click.option(
    "--when",
    "phase",
    type=click.Choice(["ahead", "before", "during", "after"]),
    default=None,
    help="Only the checks that are of use then.",
)
@click.option(
    "--fail-on",
    type=click.Choice(["stop", "warn", "note"]),
    default="warn",
    help="Exit code 1 from this level on; warn.",
)
@click.option(
    "--since", type=SpanOption(), default=None, metavar="AGO", help="Compare with the run that long ago, as 12h or 3d."
)
@junit_option
@click.option("--mend", is_flag=True, help="Clear what can be cleared, asking for each, and check again.")
@click.option(
    "--explain",
    default=None,
    metavar="CHECK",
    shell_complete=complete_checks,
    help="What a check looks at, and why it matters.",
)
@click.option("--list", "catalogue", is_flag=True, help="Every check there is.")
@click.option("--notify", "try_notify", is_flag=True, help="Only send a test message to everybody under notify:.")
@yes_option
@listing_options
@output_options
@as_record(CheckAsked)
def check(estate_path: Path | None, asked: CheckAsked, output: Output) -> None:
    """Health, now: what changed since the last time first, then findings worst first, each with what to do next.

    Examples:  gallant check tickets   |   gallant check --mend tickets   |   gallant check --explain roles
    """
    from gallant.operations.checks import check as operation
    from gallant.operations.checks import mending
    from gallant.operations.roll import notifying
    from gallant.views.checks import checks as views

    if asked.explain is not None or asked.catalogue:
        if asked.selector:
            raise click.UsageError("--list and --explain are of the checks; name no system beside them.")
        output.show(views.catalogue_view(asked.explain))
        return
    place = open_place(estate_path, output)
    if asked.try_notify:
        told = run(notifying.try_all(place))
        output.show(views.told_view(told))
        finish(1 if any(one.error for one in told) else 0)
        return
    health = run(operation.check(place, asked.selector, asked.only, asked.nodes, asked.phase, asked.since))
    if asked.mend:
        done = run(mending.mend(place, health.findings, lambda text: may_go_on(text, asked.yes)))
        output.show(views.mended_view(done))
        health = run(operation.check(place, asked.selector, asked.only, asked.nodes, asked.phase, asked.since))
    if asked.junit is not None:
        from gallant.views.ground.junit import cases_of_check, write_junit

        write_junit(asked.junit, "gallant check", cases_of_check(health.findings, asked.fail_on), place.clock.now())
    output.show(views.health_view(health, asked.everything, place.clock.now(), asked.selector))
    finish(operation.exit_code(health.findings, asked.fail_on))


@click.command()
@estate_option
@click.argument("check", metavar="CHECK", shell_complete=complete_checks)
@click.argument("system", metavar="SYSTEM", shell_complete=complete_names)
@reason_option("Why it may be so, for anyone who asks later.", required=True)
@click.option("--until", required=True, metavar="DAY", help="The last day on which it counts, as 2027-01-31.")
@output_options
def waive(estate_path: Path | None, check: str, system: str, reason: str, until: str, output: Output) -> None:
    """Accept the warnings of one check on one system or node, in your own name. A stop cannot be waived.

    Examples:  gallant waive time-source slipway --until 2027-01-31 --reason "its server moves in January"
    """
    from gallant.operations.decide import waiving
    from gallant.views.checks import checks as views

    output.show(views.waived_view(waiving.waive(open_place(estate_path, output), check, system, until, reason)))
