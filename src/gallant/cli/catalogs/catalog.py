"""catalog add, remove, test, sync, list, show, draft, sign, trust."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from gallant.cli.ground.common import (
    Command,
    complete_catalogs,
    estate_option,
    finish,
    listing_options,
    may_go_on,
    open_place,
    output_options,
    reason_option,
    run,
    yes_option,
)

if TYPE_CHECKING:
    from gallant.views.ground.output import Output


def access_options(command: Command) -> Command:
    """How a source is reached: by a proxy, under a CA file or a pinned certificate, under an account."""
    for option in reversed(
        (
            click.option("--proxy", metavar="URL", help="Reach it by this proxy, http://HOST:PORT."),
            click.option("--ca", metavar="FILE", help="The CA file that its certificate is held against."),
            click.option(
                "--pin", metavar="SHA256", help="The one certificate that it may show, also one that ran out."
            ),
            click.option("--user", metavar="NAME", help="The account there; only over https."),
            click.option(
                "--secret",
                metavar="WHERE",
                help="Where its secret is kept: env:NAME, file:PATH, keyring:SERVICE or ask.",
            ),
        )
    ):
        command = option(command)
    return command


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
@access_options
@output_options
def add(estate_path: Path | None, name: str, source: str, key: str, output: Output, **access: str | None) -> None:
    """Follow the catalog of publisher NAME at SOURCE, and pin its key. SOURCE is an address, a folder or an archive
    that was carried here, or a channel of Debian packages.

    Examples:  gallant catalog add ostrel https://updates.ostrel.example/catalog.json --key keys/ostrel.pub
    |   gallant catalog add ostrel /media/usb/ostrel.tar.zst --key keys/ostrel.pub
    |   gallant catalog add debs "deb https://deb.skerry.example/debian stable main" --key keys/debs.asc
    """
    from gallant.operations.catalogs import following as catalogs
    from gallant.views.catalogs import catalogs as shown

    output.show(
        shown.catalog_added_view(
            catalogs.add(open_place(estate_path, output), name, source, key, catalogs.access_of(**access))
        )
    )


@catalog.command()
@estate_option
@click.argument("name", nargs=-1, shell_complete=complete_catalogs)
@output_options
def sync(estate_path: Path | None, name: tuple[str, ...], output: Output) -> None:
    """Fetch and verify catalogs; what is refused leaves the last good one in use.

    Examples:  gallant catalog sync
    """
    from gallant.operations.catalogs import syncing
    from gallant.views.catalogs import catalogs as shown

    rows, code = run(syncing.sync(open_place(estate_path, output), name))
    output.show(shown.catalog_synced_view(rows))
    finish(code)


@catalog.command("list")
@estate_option
@click.option(
    "--products", is_flag=True, help="What they list instead: each product, its newest release, who here has it."
)
@listing_options
@output_options
def list_(estate_path: Path | None, products: bool, output: Output) -> None:
    """The catalogs that are followed, and how old they are."""
    from gallant.operations.catalogs import here
    from gallant.views.catalogs import catalogs as shown

    place = open_place(estate_path, output)
    if products:
        output.show(shown.products_view(here.products_here(place)))
        return
    output.show(shown.catalog_list_view(here.listed(place), place.clock.now()))


@catalog.command()
@estate_option
@click.argument("product")
@click.argument("version", required=False)
@listing_options
@output_options
def show(estate_path: Path | None, product: str, version: str | None, output: Output) -> None:
    """A product's releases, newest first, or one of them by version, build or label.

    Examples:  gallant catalog show ostrel/shoal   |   gallant catalog show ostrel/shoal 3.2.4
    """
    from gallant.operations.catalogs import here
    from gallant.views.catalogs import catalogs as shown

    place = open_place(estate_path, output)
    output.show(shown.catalog_show_view(here.show(place, product, version)))


@catalog.command()
@estate_option
@click.argument("source")
@click.option("--key", default=None, metavar="KEY", help="The key to hold it against, where it is not followed yet.")
@click.option("--publisher", default=None, help="Whose catalog it should be, where it is not followed yet.")
@access_options
@output_options
def test(
    estate_path: Path | None, source: str, key: str | None, publisher: str | None, output: Output, **access: str | None
) -> None:
    """Look at a source, or at a catalog that is followed: does it
    resolve, answer, verify; how old is it? Nothing is kept.

    Examples:  gallant catalog test ostrel
    |   gallant catalog test https://updates.ostrel.example/catalog.json --key keys/ostrel.pub
    """
    from gallant.operations.catalogs import following as catalogs
    from gallant.operations.catalogs import testing
    from gallant.views.catalogs import catalogs as shown

    rows, code = run(
        testing.test(open_place(estate_path, output), source, key, publisher, catalogs.access_of(**access))
    )
    output.show(shown.catalog_tested_view(rows))
    finish(code)


@catalog.command()
@estate_option
@click.argument("name", shell_complete=complete_catalogs)
@reason_option("Why, for anyone who asks later.")
@yes_option
@output_options
def remove(estate_path: Path | None, name: str, reason: str, yes: bool, output: Output) -> None:
    """Follow a catalog no more; says what will be unknown then, and asks.

    Examples:  gallant catalog remove ostrel --reason "added by mistake"
    """
    from gallant.operations.catalogs import following as catalogs
    from gallant.views.catalogs import catalogs as shown

    removed = catalogs.remove(open_place(estate_path, output), name, reason, lambda text: may_go_on(text, yes))
    output.show(shown.catalog_removed_view(name, removed))
    finish(0 if removed is not None else 2)


@catalog.command()
@estate_option
@click.argument("name", shell_complete=complete_catalogs)
@click.option(
    "--key", required=True, metavar="KEY", help="The publisher's new public key: ed25519:… or a file that holds it."
)
@click.option("--yes", is_flag=True, help="You have compared the fingerprint with the publisher's word.")
@output_options
def trust(estate_path: Path | None, name: str, key: str, yes: bool, output: Output) -> None:
    """Pin another key for a catalog that is followed, after asking its publisher.

    Examples:  gallant catalog trust ostrel --key keys/ostrel-2027.pub
    """
    from gallant.operations.catalogs import following as catalogs
    from gallant.views.catalogs import catalogs as shown

    if not yes:
        click.confirm(
            f"Did the publisher of {name} confirm the new key by another way than the catalog's own?",
            abort=True,
            err=True,
        )
    output.show(shown.catalog_trusted_view(catalogs.trust(open_place(estate_path, output), name, key)))


@catalog.command()
@click.argument("draft_file", metavar="DRAFT", type=click.Path(path_type=Path))
@click.option(
    "--into",
    type=click.Path(path_type=Path),
    default=Path("catalog.json"),
    show_default=True,
    help="Where to write the catalog.",
)
@output_options
def draft(draft_file: Path, into: Path, output: Output) -> None:
    """Make a catalog from a hand-written DRAFT (YAML): sizes and SHA-256 come from the packages' files.

    Examples:  gallant catalog draft my-devices.yaml --into my-devices.json
    """
    from datetime import UTC, datetime

    from gallant.operations.catalogs import writing
    from gallant.views.catalogs import catalogs as shown

    output.show(shown.catalog_written_view(writing.draft(draft_file, into, datetime.now(UTC))))


@catalog.command()
@click.argument("catalog_file", metavar="CATALOG", type=click.Path(path_type=Path))
@click.option("--key", "key_file", required=True, type=click.Path(path_type=Path), help="Your signing key.")
@click.option("--new-key", is_flag=True, help="Make the key first; it is never overwritten.")
@output_options
def sign(catalog_file: Path, key_file: Path, new_key: bool, output: Output) -> None:
    """Sign a catalog with a key of your own; the signature lies next to it.

    Examples:  gallant catalog sign my-devices.json --key ~/.gallant-signing --new-key
    """
    from gallant.operations.catalogs import writing
    from gallant.views.catalogs import catalogs as shown

    output.show(shown.catalog_written_view(writing.sign(catalog_file, key_file, new_key)))


@catalog.command()
@estate_option
@click.argument("text", nargs=-1, required=True)
@output_options
def find(estate_path: Path | None, text: tuple[str, ...], output: Output) -> None:
    """Look a device's message up: in known issues, recalls, notes
    and earlier rolls; numbers and names in it do not matter.

    Examples:  gallant catalog find "replica of port 7 never gets whole"
    """
    from gallant.operations.assess.lookup import look_up
    from gallant.views.assess.lookup import found_view

    asked = " ".join(text)
    found = look_up(open_place(estate_path, output), asked)
    output.show(found_view(asked, found))
    finish(0 if found else 1)
