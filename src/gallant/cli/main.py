"""The program's entry: the group of commands, each loaded when it is used, and the way errors end it."""

from __future__ import annotations

import contextlib
import gc
import inspect
import os
import re
import sys
from importlib import import_module
from typing import TYPE_CHECKING

import click

from gallant import __version__

if TYPE_CHECKING:
    from gallant.core.errors import GallantError

# In the order of the work. Each is cli/<room>/<module>.py:<function>, with the one line that --help shows, so that
# listing the commands loads none of them.
COMMANDS: dict[str, tuple[str, str, str]] = {
    "demo": ("setup.demo", "demo", "The whole example on stand-ins, from survey to history."),
    "init": ("setup.files", "init", "A new estate folder with a commented estate.yaml."),
    "add": ("setup.add", "add", "One device or many, told by themselves, written into the estate."),
    "validate": ("setup.files", "validate", "Check any Gallant file: errors as file:line:column."),
    "profiles": ("setup.files", "profiles", "The kinds of device that are known, each with its driver."),
    "doctor": ("setup.doctor", "doctor", "Gallant's own stores, keys, rights, free space, clock."),
    "survey": ("assess.survey", "survey", "Contact nodes and keep what they say."),
    "inventory": ("assess.survey", "inventory", "What runs where."),
    "catalog": (
        "catalogs.catalog",
        "catalog",
        "Publishers' catalogs: add, remove, test, sync, list, show, draft, sign, trust.",
    ),
    "gaps": ("assess.gaps", "gaps", "Installed against aimed-for."),
    "route": ("assess.gaps", "route", "The chain of releases to the aim, and why."),
    "notice": ("decide.notice", "notice", "Decisions on gaps: list, accept, book, assign, skip, reopen."),
    "note": ("assess.note", "note", "What was learned: add it, for the next time."),
    "stock": ("keep.stock", "stock", "Packages kept locally: fetch, add, list, verify, preload, unload, prune."),
    "backup": ("keep.backup", "backup", "Configurations: take, list, show, verify, diff, export, restore, prune."),
    "snapshot": ("keep.snapshot", "snapshot", "Restore points: take, list, revert, remove."),
    "check": ("checks.check", "check", "Health, now or ahead of time; --mend clears what can be cleared."),
    "windows": ("plan.windows", "windows", "When work is allowed, over the next two weeks."),
    "waive": ("checks.check", "waive", "Accept a warning, by name, with a reason and an end."),
    "plan": ("plan.plan", "plan", "The ordered work, its length, what will change."),
    "rehearse": ("roll.rehearse", "rehearse", "A plan some hundred times on twins: when it is done, where it stops."),
    "approve": ("roll.roll", "approve", "Approve a plan that somebody else made."),
    "roll": ("roll.roll", "roll", "Carry out a plan."),
    "due": ("roll.due", "due", "Do what is booked and due; for a timer."),
    "backout": ("roll.roll", "backout", "Plan the way back from what a roll did, newest change first."),
    "hold": ("roll.roll", "hold", "Pause a running roll at its next safe stop, or end one for good."),
    "resume": ("roll.roll", "resume", "Carry on a roll that was held, stopped or cut off."),
    "verify": ("after.verify", "verify", "Versions, roles and services after the work."),
    "history": ("after.history", "history", "Past rolls and their steps."),
    "report": ("after.report", "report", "The change record, as a page or as data."),
    "support": ("after.support", "support", "A bundle for a publisher's support desk, without secrets."),
    "metrics": ("after.metrics", "metrics", "Figures for a collector, to a file or a local port."),
    "ledger": ("decide.ledger", "ledger", "Who decided what; export, and verify whether the chain is whole."),
}


EXAMPLES = "Examples:"


def _examples_on_lines(command: click.Command) -> None:
    """Put the examples of a command, and of those below it, one on a line; in its docstring they stand between bars."""
    text, title, examples = inspect.cleandoc(command.help or "").partition(EXAMPLES)
    if title and "\b" not in examples:  # click leaves a paragraph that begins with this mark as it is
        rows = (" ".join(example.split()) for example in re.split(r"\s\|\s+(?=gallant\b)", examples))
        command.help = f"{text}\b\n{EXAMPLES}\n" + "\n".join(f"  {row}" for row in rows if row)
    for below in getattr(command, "commands", {}).values():
        _examples_on_lines(below)


class Commands(click.Group):
    """Loads a command's module when the command is used, and not before."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        return list(COMMANDS)

    def get_command(self, ctx: click.Context, name: str) -> click.Command | None:
        if name not in COMMANDS:
            return None
        module, function, _ = COMMANDS[name]
        found: click.Command = getattr(import_module(f"gallant.cli.{module}"), function)
        _examples_on_lines(found)
        return found

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        with formatter.section("Commands, in the order of the work"):
            formatter.write_dl([(name, line) for name, (_, _, line) in COMMANDS.items()])

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        if args and not args[0].startswith("-") and args[0] not in COMMANDS:
            import difflib

            close = difflib.get_close_matches(args[0], COMMANDS, n=1)
            ctx.fail(f"No command {args[0]!r}" + (f" (did you mean {close[0]}?)" if close else "") + ".")
        return super().resolve_command(ctx, args)


@click.group(
    cls=Commands,
    context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100},
    epilog="Start with: gallant demo",
)
@click.version_option(__version__, prog_name="gallant")
def gallant() -> None:
    """Firmware and appliance updates for systems that others depend on: what runs where, what should, in which order,
    and that nothing was lost.

    Exit codes: 0 done, 1 findings or gaps to act on, 2 wrong usage or file, 3 could not reach or authenticate,
    4 stopped or held part-way, 5 refused for safety.
    """


def main(arguments: list[str] | None = None) -> None:
    """Run a command; every way in which it can fail ends as a message and an exit code, never as a traceback."""
    from gallant.core.errors import GallantError

    said = sys.argv[1:] if arguments is None else arguments
    gc.set_threshold(
        50_000, 20, 50
    )  # what a large estate is made of has no cycles; looking through it all costs seconds
    os.umask(0o077)  # what Gallant makes is for its owner alone; what others may see, a person says
    for stream in (sys.stdout, sys.stderr):  # a terminal without our symbols shows question marks, and no error
        if hasattr(stream, "reconfigure"):
            stream.reconfigure(errors="replace")
    try:
        code = gallant.main(args=said, prog_name="gallant", standalone_mode=False)
        _end(code if isinstance(code, int) else 0)
    except GallantError as error:
        _show(error, "--json" in said)
        _end(error.exit_code)
    except click.exceptions.Abort:
        _end(4)
    except click.ClickException as error:
        _show(GallantError(error.format_message(), next=_help_of(error)), "--json" in said)
        _end(2)
    except KeyboardInterrupt:
        _show(
            GallantError("Cut off by ctrl-C.", "Nothing at any node is left half-said by this command."),
            "--json" in said,
        )
        _end(4)
    except BrokenPipeError:
        _forget_stdout()
        _end(0)
    except OSError as error:
        _show(_of_disk(error), "--json" in said)
        _end(4)
    except Exception as error:
        _show(_defect(error), "--json" in said)
        _end(4)


def _help_of(error: click.ClickException) -> str:
    context = getattr(error, "ctx", None)
    return f"{context.command_path if context else 'gallant'} --help"


def _of_disk(error: OSError) -> GallantError:
    from pathlib import Path

    from gallant.core.errors import GallantError
    from gallant.disk import why_not

    where = f"{error.filename}: " if error.filename else ""
    return GallantError(
        f"{where}{why_not(error, Path(error.filename or '.'))}.",
        next="Look at the path, its rights and the free space.",
    )


def _defect(error: Exception) -> GallantError:
    """A failure that nobody foresaw: where it was, without values, which could be secrets."""
    from gallant.core.errors import GallantError

    frame = error.__traceback__
    while frame is not None and frame.tb_next is not None:
        frame = frame.tb_next
    where = f"{os.path.basename(frame.tb_frame.f_code.co_filename)}:{frame.tb_lineno}" if frame else "unknown"
    return GallantError(
        f"Gallant has a defect: {type(error).__name__} at {where}.",
        "This should never be seen; whatever was begun is in the journal.",
        "gallant history shows what was done; please report the line above.",
    )


def _show(error: GallantError, as_json: bool) -> None:
    from gallant.views.ground.output import show_error

    with contextlib.suppress(OSError):  # nobody may be there to read it
        show_error(error, as_json)


def _forget_stdout() -> None:
    """The reader of our output has gone: let the interpreter's own flush at the end go nowhere."""
    os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())


def _end(code: int) -> None:
    try:
        sys.stdout.flush()
    except OSError:
        _forget_stdout()
    sys.exit(code)
