"""metrics."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from gallant.cli.ground.common import estate_option, open_place, output_options

if TYPE_CHECKING:
    from gallant.views.ground.output import Output


@click.command()
@estate_option
@click.option(
    "--file",
    "file",
    default=None,
    type=click.Path(path_type=Path, dir_okay=False),
    metavar="FILE",
    help="Write them there, whole or not at all.",
)
@click.option(
    "--serve",
    "port",
    type=click.IntRange(1, 65535),
    default=None,
    metavar="PORT",
    help="Serve /metrics on 127.0.0.1 until ctrl-C.",
)
@output_options
def metrics(estate_path: Path | None, file: Path | None, port: int | None, output: Output) -> None:
    """Figures for a collector, in the OpenMetrics text format: what
    is behind, rolls, outages, ages. No node is contacted.

    Examples:  gallant metrics   |   gallant metrics --file /var/lib/collector/gallant.txt
    |   gallant metrics --serve 9911
    """
    from gallant.operations.after import metrics as operation
    from gallant.operations.after.serving import serve

    if file is not None and port is not None:
        raise click.UsageError("--file and --serve are two ways; one at a time.")
    place = open_place(estate_path, output)
    if file is not None:
        operation.write(place, file)
        output.remark(f"The figures are in {file}.")
    elif port is not None:
        output.remark(f"Served at http://127.0.0.1:{port}/metrics; ctrl-C ends it.")
        serve(place, port)
    else:
        raw = operation.text_of(place)
        if output.as_json or output.as_csv:
            from gallant.views.after.metrics import metrics_view

            output.show(metrics_view(operation.samples_of(raw)))
        else:
            click.echo(raw.decode(), nl=False)
