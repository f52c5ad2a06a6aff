"""note add."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from gallant.cli.ground.common import estate_option, open_place, output_options

if TYPE_CHECKING:
    from gallant.views.ground.output import Output


@click.group()
def note() -> None:
    """What was learned, shown with the publisher's word at the right moment."""


@note.command()
@estate_option
@click.argument("about", metavar="PRODUCT|HOP|SYSTEM")
@click.argument("text", nargs=-1, required=True)
@output_options
def add(estate_path: Path | None, about: str, text: tuple[str, ...], output: Output) -> None:
    """Keep what was learned of a product, a release, a hop or a system:
    it stands in plans, in checks and beside messages like it.

    Examples:  gallant note add "ostrel/shoal 2.8.5 > 2.11.3" "ring the box office first"
    |   gallant note add tickets "its printers hang on b"
    """
    from gallant.operations.assess.lookup import add_note
    from gallant.views.assess.lookup import NOTED
    from gallant.views.ground.tables import lines_view, next_steps
    from gallant.views.ground.words import plain, said

    place = open_place(estate_path, output)
    kept = add_note(place, about, " ".join(text))
    product = kept.about.partition(" ")[0]
    seen = f"gallant check {kept.about}" if kept.about in place.estate.systems else f"gallant catalog show {product}"
    told = said("good", f"Kept of {plain(kept.about)}: {plain(kept.text)}")
    output.show(lines_view(NOTED, [kept], told, *next_steps(seen)))
