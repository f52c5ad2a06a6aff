"""check."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from gallant.cli.common import estate_option, finish, open_place, output_options, run, selector_argument


@click.command()
@estate_option
@selector_argument
@click.option("--all", "everything", is_flag=True, help="Show the passes too.")
@output_options
def check(estate_path: Path | None, selector: tuple[str, ...], everything: bool, output: Any) -> None:
    """Health, now: findings worst first, each with what to do next.

    Examples:  gallant check tickets   |   gallant check --all
    """
    from gallant.operations import check as operation
    from gallant.views import tables

    findings = run(operation.check(open_place(estate_path, output), selector))
    output.show(tables.check_view(findings, everything))
    finish(operation.exit_code(findings))
