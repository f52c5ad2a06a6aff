"""stock fetch and list."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from gallant.cli.common import estate_option, finish, open_place, output_options, run, selector_argument


@click.group()
def stock() -> None:
    """The verified packages kept locally."""


@stock.command()
@estate_option
@selector_argument
@output_options
def fetch(estate_path: Path | None, selector: tuple[str, ...], output: Any) -> None:
    """Fetch what the routes need, and what runs now for recovery; a broken download is carried on.

    Examples:  gallant stock fetch   |   gallant stock fetch tickets
    """
    from gallant.operations import stock as operation
    from gallant.views import tables
    from gallant.views.progress import metering

    place = open_place(estate_path, output)
    with metering(output.quiet) as meter:
        rows, code = run(operation.fetch(place, selector, meter))
    output.show(tables.stock_fetched_view(rows))
    finish(code)


@stock.command("list")
@estate_option
@output_options
def list_(estate_path: Path | None, output: Any) -> None:
    """What lies in stock, its bytes computed anew."""
    from gallant.operations import stock as operation
    from gallant.views import tables

    rows = operation.held(open_place(estate_path, output))
    output.show(tables.stock_list_view(rows))
    finish(0 if all(ok for _, _, ok in rows) else 1)
