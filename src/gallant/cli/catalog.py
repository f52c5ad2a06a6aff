"""catalog add, sync, list, show."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from gallant.cli.common import estate_option, finish, open_place, output_options, run


@click.group()
def catalog() -> None:
    """Publishers' catalogs: signed, expiring, serial-numbered."""


@catalog.command()
@estate_option
@click.argument("name")
@click.argument("source")
@click.option(
    "--key", required=True, metavar="KEY", help="The publisher's public key: ed25519:… or a file that holds it."
)
@output_options
def add(estate_path: Path | None, name: str, source: str, key: str, output: Any) -> None:
    """Follow the catalog of publisher NAME at SOURCE, and pin its key.

    Examples:  gallant catalog add ostrel https://updates.ostrel.example/catalog.json --key keys/ostrel.pub
    """
    from gallant.operations import catalogs
    from gallant.views import tables

    output.show(tables.catalog_added_view(catalogs.add(open_place(estate_path, output), name, source, key)))


@catalog.command()
@estate_option
@click.argument("name", nargs=-1)
@output_options
def sync(estate_path: Path | None, name: tuple[str, ...], output: Any) -> None:
    """Fetch and verify catalogs; what is refused leaves the last good one in use.

    Examples:  gallant catalog sync
    """
    from gallant.operations import catalogs
    from gallant.views import tables

    rows, code = run(catalogs.sync(open_place(estate_path, output), name))
    output.show(tables.catalog_synced_view(rows))
    finish(code)


@catalog.command("list")
@estate_option
@output_options
def list_(estate_path: Path | None, output: Any) -> None:
    """The catalogs that are followed, and how old they are."""
    from gallant.operations import catalogs
    from gallant.views import tables

    place = open_place(estate_path, output)
    output.show(tables.catalog_list_view(catalogs.listed(place), place.clock.now()))


@catalog.command()
@estate_option
@click.argument("product")
@click.argument("version", required=False)
@output_options
def show(estate_path: Path | None, product: str, version: str | None, output: Any) -> None:
    """A product's releases, newest first, or one of them by version, build or label.

    Examples:  gallant catalog show ostrel/shoal   |   gallant catalog show ostrel/shoal 3.2.4
    """
    from gallant.operations import catalogs
    from gallant.views import tables

    place = open_place(estate_path, output)
    found, releases = catalogs.show(place, product, version)
    output.show(tables.catalog_show_view(found, releases, place.clock.now()))
