"""add."""

from __future__ import annotations

import sys
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

import click

from gallant.cli.ground.common import believing, estate_option, finish, may_go_on, open_place, output_options, run

if TYPE_CHECKING:
    from gallant.views.ground.output import Output


# generic for a type checker alone, in older versions not at all
class Ports(click.ParamType):  # type: ignore[type-arg]
    """Ports as people write them: 22,443,830."""

    name = "ports"

    def convert(self, value: object, param: click.Parameter | None, ctx: click.Context | None) -> tuple[int, ...]:
        parts = str(value).split(",")
        if not all(len(part) < 6 and part.isdecimal() and 0 < int(part) < 65536 for part in parts):
            self.fail(f"{value!r} is no list of ports; write 22,443", param, ctx)
        return tuple(dict.fromkeys(map(int, parts)))


class TakenOption(click.ParamType):  # type: ignore[type-arg]
    """A value of a column, as secret=env:QUAY."""

    name = "column=value"

    def convert(self, value: object, param: click.Parameter | None, ctx: click.Context | None) -> tuple[str, str]:
        column, equals, of_it = str(value).partition("=")
        if not equals or column not in ("user", "secret", "pin"):
            self.fail(
                f"{value!r} is no value of a column; write user=NAME, secret=WHERE or pin=FINGERPRINT", param, ctx
            )
        return column, of_it


@click.command()
@estate_option
@click.argument("address", nargs=-1)
@click.option("--as", "name", default="", metavar="NAME", help="The system's name; else the host's own.")
@click.option("--site", default="", metavar="SITE", help="Where it is; where the estate has one site, that.")
@click.option("--shape", default="", metavar="SHAPE", help="How its nodes share the work, where it does not show.")
@click.option("--kind", default="", metavar="KIND", help="What it is to you, as storage.")
@click.option("--tag", "tags", multiple=True, metavar="TAG", help="A tag; several times for several.")
@click.option("--driver", default="", metavar="DRIVER", help="How it is spoken to; else what answers says it.")
@click.option(
    "--profile", default="", metavar="NAME|FILE", help="Its kind, as gallant profiles has it, or a file of yours."
)
@click.option("--product", default="", metavar="PRODUCT", help="Its product, as the publisher's catalog has it.")
@click.option("--user", default="", metavar="NAME", help="An account of its own to read with; else the estate's.")
@click.option(
    "--secret",
    default="",
    metavar="WHERE",
    help="With --user: env:NAME, file:PATH, keyring:SERVICE, key:PATH, agent or ask.",
)
@click.option(
    "--pin",
    default=None,
    metavar="FINGERPRINT",
    help="The certificate's or host key's fingerprint, as its console shows it.",
)
@click.option("--ca", default=None, metavar="FILE", help="The CA file that its certificate is held against.")
@click.option(
    "--from",
    "source",
    default=None,
    type=click.Path(path_type=Path, dir_okay=False),
    metavar="FILE",
    help="Many, from a CSV file with a heading; rows with one name in the column as are nodes of one system.",
)
@click.option(
    "--take",
    multiple=True,
    type=TakenOption(),
    metavar="COLUMN=VALUE",
    help="With --from: take this user, secret or pin of the file, unasked; once for each value.",
)
@click.option(
    "--scan",
    "network",
    default=None,
    metavar="NETWORK",
    help="Only tell what answers in 192.0.2.0/24; nobody logs in and nothing is written.",
)
@click.option("--ports", type=Ports(), default=None, metavar="PORTS", help="With --scan: which; else 22,443,830.")
@click.option("--yes", is_flag=True, help="Take keys and certificates as they are shown, unasked.")
@output_options
def add(
    estate_path: Path | None,
    address: tuple[str, ...],
    source: Path | None,
    take: tuple[tuple[str, str], ...],
    network: str | None,
    ports: tuple[int, ...] | None,
    yes: bool,
    output: Output,
    **said: object,
) -> None:
    """Read one device, and write what it is into estate.yaml; several addresses are the nodes of one system.

    Examples:  gallant add 192.0.2.7 --as tickets --profile ostrel-shoal
    |   gallant add ssh://gates.example --site harbour
    |   gallant add --from devices.csv   |   gallant add --scan 192.0.2.0/24
    """
    from gallant.operations.setup import adding as operation
    from gallant.operations.setup import from_files, networks
    from gallant.views.setup import adding as views

    if sum((bool(address), source is not None, network is not None)) != 1:
        raise click.UsageError("Name an address, or --from FILE, or --scan NETWORK.")
    _goes_with("--take", bool(take), "--from", source is not None)
    _goes_with("--ports", ports is not None, "--scan", network is not None)
    place = open_place(estate_path, output)
    if network is not None:
        output.show(views.scan_view(run(networks.scan(place, network, ports or operation.USUAL_PORTS))))
        return
    wanted = operation.wanted_of(said, address)
    learn = believing(yes, sys.stdin.isatty())
    if source is not None:
        at_terminal = sys.stdin.isatty()
        every = from_files.from_file(source, wanted, take, partial(may_go_on, yes=False) if at_terminal else None)
        asks = at_terminal and operation.asks_somebody(place, every, yes)
        rows, code = run(operation.add_all(place, every, learn, asks))
    else:
        rows, code = [run(operation.add(place, wanted, learn))], 0
    output.show(views.added_view(rows, place.path.name))
    finish(code)


def _goes_with(option: str, said: bool, other: str, other_said: bool) -> None:
    if said and not other_said:
        raise click.UsageError(f"{option} goes with {other}.")
