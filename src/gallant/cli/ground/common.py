"""What commands share: the options that mean the same everywhere, and the way from an operation to an exit code."""

from __future__ import annotations

import functools
import os
import sys
from collections.abc import Callable, Coroutine
from contextlib import AbstractContextManager
from pathlib import Path
from threading import Lock
from typing import TYPE_CHECKING, ClassVar, TypeAlias, TypeVar

import click

if TYPE_CHECKING:
    from datetime import timedelta

    from gallant.operations.ground.workplace import Workplace
    from gallant.views.ground.output import Output

T = TypeVar("T")
Command: TypeAlias = Callable[..., None]  # what Click calls, with the options that stand above it

ESTATE_VARIABLE = "GALLANT_ESTATE"
PAGER_VARIABLE = "GALLANT_PAGER"
ONE_AT_A_TIME = Lock()  # several nodes may have something to ask

estate_option = click.option(
    "--estate",
    "estate_path",
    type=click.Path(path_type=Path),
    default=None,
    metavar="PATH",
    help=f"The estate's file or folder; else ${ESTATE_VARIABLE}, else the current folder.",
)


def complete_names(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[str]:
    """Systems, nodes, sites, tags and kinds of the estate at hand, for a shell; nothing where there is none."""
    try:
        from gallant.core.estate.systems import node_name
        from gallant.operations.ground.workplace import Workplace

        estate = Workplace(ctx.params.get("estate_path") or Path(os.environ.get(ESTATE_VARIABLE, "."))).estate
    except Exception:  # a shell that completes is no place for an error
        return []
    systems = estate.systems.values()
    names = [*estate.systems]
    if "/" in incomplete:
        names += [node_name(s, n) for s in systems for n in s.nodes]
    for key, values in (
        ("site", [s.site for s in systems]),
        ("kind", [s.kind for s in systems if s.kind]),
        ("tag", [t for s in systems for t in s.tags]),
    ):
        names += [f"{key}:{value}" for value in dict.fromkeys(values)]
    return [name for name in names if name.startswith(incomplete)]


def completer(
    rows: Callable[[Workplace, str], list[str]],
) -> Callable[[click.Context, click.Parameter, str], list[str]]:
    """What a shell completes with what the estate at hand has; nothing where there is none."""

    def complete(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[str]:
        try:
            from gallant.operations.ground.workplace import Workplace

            place = Workplace(ctx.params.get("estate_path") or Path(os.environ.get(ESTATE_VARIABLE, ".")))
            return [name for name in rows(place, incomplete) if name.startswith(incomplete)]
        except Exception:  # a shell that completes is no place for an error
            return []

    return complete


MOST_SYSTEMS = 50  # whose notices are looked for at once; of a fleet the system is completed first


def _notices(place: Workplace, incomplete: str) -> list[str]:
    from gallant.operations.decide.notices import names_of_open

    system, colon, _ = incomplete.partition(":")
    if not colon and len(place.estate.systems) > MOST_SYSTEMS:
        return [f"{name}:" for name in place.estate.systems]
    return names_of_open(place, [system] if system in place.estate.systems else [])


def _catalogs(place: Workplace, _: str) -> list[str]:
    return [source.name for source in place.readings.sources()]


def _backups(place: Workplace, _: str) -> list[str]:
    from gallant.operations.keep.backups import listed

    return [*place.estate.systems, *(backup.id for backup in listed(place, []))]


def _rolls(place: Workplace, _: str) -> list[str]:
    return place.journal.names()


complete_notices, complete_catalogs = completer(_notices), completer(_catalogs)
complete_backups, complete_rolls = completer(_backups), completer(_rolls)


def _pictures(place: Workplace, _: str) -> list[str]:
    from gallant.operations.checks.keeping import names

    return names(place)


complete_pictures = completer(_pictures)


def complete_checks(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[str]:
    from gallant.core.checks.all import CHECKS

    return [check.id for check, _ in CHECKS if check.id.startswith(incomplete)]


def complete_plans(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[str]:
    """The plans of the estate at hand, newest first."""
    path = ctx.params.get("estate_path") or Path(os.environ.get(ESTATE_VARIABLE, "."))
    folder = (path if path.is_dir() else path.parent) / "plans"
    try:
        found = sorted(folder.glob("plan-*.json"), key=lambda p: p.stat().st_mtime, reverse=True)
    except OSError:
        return []
    return [p.stem for p in found if p.stem.startswith(incomplete)]


selector_argument = click.argument("selector", nargs=-1, metavar="[SELECTOR]...", shell_complete=complete_names)


# generic for a type checker alone, in older versions not at all
class SpanOption(click.ParamType):  # type: ignore[type-arg]
    """A stretch of time as people write it: 90m, 12h, 3d."""

    name = "time"
    UNITS: ClassVar[dict[str, str]] = {"s": "seconds", "m": "minutes", "h": "hours", "d": "days", "w": "weeks"}

    def convert(self, value: object, param: click.Parameter | None, ctx: click.Context | None) -> timedelta:
        from datetime import timedelta

        if isinstance(value, timedelta):
            return value
        text = str(value)
        number, unit = text[:-1], text[-1:]
        if unit not in self.UNITS or not number.replace(".", "", 1).isdecimal() or len(number) > 6:
            self.fail(f"{value!r} is not a stretch of time; write 90m, 12h or 3d", param, ctx)
        return timedelta(**{self.UNITS[unit]: float(number)})


def output_options(command: Command) -> Command:
    """Give a command --json, --csv, --quiet and --verbose, and an `output` in their stead."""

    @click.option("--json", "as_json", is_flag=True, help="Data as one JSON document on stdout.")
    @click.option("--csv", "as_csv", is_flag=True, help="Rows as CSV on stdout.")
    @click.option("--quiet", "-q", is_flag=True, help="No remarks and no progress on stderr.")
    @click.option(
        "--verbose", "-v", is_flag=True, help="Where things are read from, and every step of progress, on stderr."
    )
    @click.option("--no-pager", is_flag=True, help=f"Do not page what is longer than the screen (${PAGER_VARIABLE}).")
    @functools.wraps(command)
    def wrapped(
        *args: object, as_json: bool, as_csv: bool, quiet: bool, verbose: bool, no_pager: bool, **kwargs: object
    ) -> None:
        from gallant.views.ground.listing import Listing
        from gallant.views.ground.output import Output

        if as_json and as_csv:
            raise click.UsageError("--json and --csv cannot be given together.")
        context = click.get_current_context()
        context.meta["gallant.json"] = as_json
        listing: Listing = context.meta.get("gallant.listing", Listing())
        command(*args, output=Output(as_json, as_csv, quiet, verbose, listing, not no_pager), **kwargs)

    return wrapped


def as_record(kind: Callable[..., T]) -> Callable[[Callable[[Path | None, T, Output], None]], Command]:
    """Hand a command its own options as one record, between the estate's path and the output."""

    def decorated(command: Callable[[Path | None, T, Output], None]) -> Command:
        @functools.wraps(command)
        def wrapped(estate_path: Path | None, output: Output, **options: object) -> None:
            command(estate_path, kind(**options), output)

        return wrapped

    return decorated


def pick_options(command: Command) -> Command:
    """Give a command --severity and --standing, as further terms of its `selector`."""

    @click.option("--severity", metavar="WORD", help="Only of this severity: high, or high+ for that and worse.")
    @click.option(
        "--standing", multiple=True, metavar="WORD", help="Only of this standing: behind, recalled, blocked …"
    )
    @functools.wraps(command)
    def wrapped(
        *args: object, selector: tuple[str, ...], severity: str | None, standing: tuple[str, ...], **kwargs: object
    ) -> None:
        more = [f"severity:{severity}"] if severity is not None else []
        command(*args, selector=(*selector, *more, *(f"standing:{word}" for word in standing)), **kwargs)

    return wrapped


def listing_options(command: Command) -> Command:
    """Give a command --sort, --columns and --limit; stands above `output_options`, which has their word."""

    @click.option(
        "--sort",
        default=None,
        metavar="COLUMN",
        help="By this column, the worst or most first; -COLUMN: the other way round.",
    )
    @click.option(
        "--columns", default=None, metavar="NAMES", help="Only these columns, in this order: node,target,lag."
    )
    @click.option(
        "--limit", type=click.IntRange(min=1), default=None, metavar="N", help="No more than the first so many rows."
    )
    @functools.wraps(command)
    def wrapped(*args: object, sort: str | None, columns: str | None, limit: int | None, **kwargs: object) -> None:
        from gallant.views.ground.listing import parse_listing

        click.get_current_context().meta["gallant.listing"] = parse_listing(sort, columns, limit)
        command(*args, **kwargs)

    return wrapped


def open_place(estate_path: Path | None, output: Output, forgiving: bool = False) -> Workplace:
    """The estate's folder, with a person to ask where there is a terminal; says so when its time is simulated.
    `forgiving`: also where something in it cannot be read."""
    from gallant.operations.ground.workplace import Workplace

    place = Workplace(estate_path or Path(os.environ.get(ESTATE_VARIABLE, ".")), ask_now(), forgiving)
    if place.estate.simulation is not None:
        output.remark(
            f"time is simulated, {place.estate.simulation.speed:g} times as fast; now"
            f" {place.clock.now():%Y-%m-%d %H:%M}Z"
        )
    if output.verbose:
        from gallant.views.ground.words import many

        estate = place.estate
        nodes = sum(len(system.nodes) for system in estate.systems.values())
        output.remark(
            f"{estate.name}: {many(len(estate.systems), 'system')}, {many(nodes, 'node')}; from"
            f" {place.folder / place.path.name}, state in state/"
        )
    return place


def ask_now() -> Callable[[str], str] | None:
    """How to have a secret typed; None where nobody is at a terminal."""
    return _ask if sys.stdin.isatty() else None


def _ask(what: str) -> str:
    return str(click.prompt(what, hide_input=True, err=True))


def reason_option(words: str, required: bool = False) -> Callable[[Command], Command]:
    """Give a command --reason: the words of a decision, kept where the decision is."""
    if required:  # with no default at all: one of None would count as given
        return click.option("--reason", required=True, metavar="TEXT", help=words)
    return click.option("--reason", default="", metavar="TEXT", help=words)


junit_option = click.option(
    "--junit",
    default=None,
    type=click.Path(path_type=Path, dir_okay=False),
    metavar="FILE",
    help="Also write what was found as JUnit XML, for a pipeline.",
)
yes_option = click.option("--yes", is_flag=True, help="Do not ask; for scripts that know what they do.")


def may_go_on(question: str, yes: bool) -> bool:
    """Whether somebody says yes; who is not at a terminal says it with --yes, or means no."""
    if yes:
        return True
    if not sys.stdin.isatty():
        click.echo(f"{question} Nobody is at a terminal to ask; --yes says it beforehand.", err=True)
        return False
    return bool(click.confirm(question, default=False, err=True))


def _learn(node: str, kind: str, fingerprint: str) -> bool:
    """Show a host key, or a serial, that nobody has confirmed yet, and ask; nothing is believed unseen."""
    what = "says that its serial is" if kind == "serial" else f"shows a {kind} that nothing here vouches for:"
    with ONE_AT_A_TIME:
        click.echo(f"{node} {what}\n  {fingerprint}", err=True)
        return click.confirm("Does the machine show the same, and should it be kept", default=False, err=True)


def _believe(node: str, kind: str, fingerprint: str) -> bool:
    """What somebody believes who said --yes beforehand: shown, and not asked about."""
    with ONE_AT_A_TIME:
        click.echo(f"{node}: {kind} {fingerprint} is kept, as --yes says.", err=True)
    return True


def believing(yes: bool, at_terminal: bool) -> Callable[[str, str, str], bool] | None:
    """Who is asked about a key that is not known: nobody where --yes was
    said, a person at a terminal; None where nobody is there."""
    return _believe if yes else _learn if at_terminal else None


def run(operation: Coroutine[object, object, T], many_nodes: bool = False) -> T:
    """The result of an operation that waits for the network.

    Where `many_nodes` are asked at once, by the faster loop: a fifth less of the time that a survey of thousands takes.
    What they say is kept in records without cycles, so the collector need not look through them all the while.
    """
    import logging

    logging.getLogger("asyncio").setLevel(logging.ERROR)  # what it remarks on a line that was cut is said in our words
    if many_nodes:
        import gc

        import uvloop

        gc.freeze()
        gc.set_threshold(50_000, 20, 50)
        return uvloop.run(operation)
    import asyncio

    return asyncio.run(operation)


def finish(code: int) -> None:
    """End the command with its exit code."""
    if code:
        raise click.exceptions.Exit(code)


def ticking(output: Output, what: str, asks: bool = False) -> AbstractContextManager[Callable[[int, int], None]]:
    """A progress bar on stderr where that is a terminal: a context manager that gives `tick(done, of)`.

    What `asks` a person something on the way has none: it would write over the question.
    """
    from gallant.views.ground.progress import ticking as shown

    return shown(what, output.quiet or asks)
