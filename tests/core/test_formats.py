"""The documents that ship with the code say what the code does."""

from __future__ import annotations

import importlib
import json
import re
import runpy
from pathlib import Path

import click
import msgspec

from gallant.cli.main import COMMANDS
from gallant.core.catalog.products import Catalog
from gallant.core.estate.reference import reference
from gallant.drivers.profile_reading import parse_profile

DOCS = Path(__file__).resolve().parents[2] / "docs"


def test_the_catalogs_schema_is_the_codes():
    assert json.loads((DOCS / "catalog.schema.json").read_text()) == json.loads(
        json.dumps(msgspec.json.schema(Catalog))
    )


def test_the_profile_in_the_manual_is_a_right_one():
    text = re.search(r"```yaml\n(.*?)```", (DOCS / "profiles.md").read_text(), re.DOTALL)[1]
    assert parse_profile("profiles.md", text).product == "example/store"


def test_every_command_that_the_readme_names_exists():
    named = set(re.findall(r"`gallant ([a-z]+)", (DOCS.parent / "README.md").read_text()))
    assert named <= set(COMMANDS)
    assert {"survey", "plan", "roll", "verify"} <= named


def test_the_reference_of_the_estate_says_what_the_records_read():
    assert (DOCS / "estate.md").read_text() == reference() + "\n", "make docs"


def test_the_index_of_messages_has_those_that_there_are():
    made = runpy.run_path(str(DOCS / "make_errors.py"))["page"]()
    assert (DOCS / "errors.md").read_text() == made, "make docs"
    assert all(f"\n## {code}: " in made for code in (2, 3, 4, 5))
    assert made.count("\n| ") > 200


def _formats() -> dict:
    return runpy.run_path(str(DOCS / "make_formats.py"))


def test_the_fields_of_every_listing_are_those_of_the_records_of_its_rows():
    made = _formats()
    assert (DOCS / "formats.md").read_text() == made["page"](), "make docs"
    assert len(list(made["listings"]())) > 60


def test_every_column_with_another_name_is_a_field_of_its_row_and_no_other_fields_name():
    made = _formats()
    for listing, kind, _ in made["listings"]():
        fields = set(made["names"](kind).values())
        assert set(listing.headings.values()) <= fields, listing.command
        assert not set(listing.headings) & fields, listing.command


def test_every_listing_names_a_command_and_options_that_there_are():
    for listing, _, _ in _formats()["listings"]():
        for words in listing.command.split(", "):
            first, *rest = words.split()
            module, name, _ = COMMANDS[first]
            command = getattr(importlib.import_module(f"gallant.cli.{module}"), name)
            if isinstance(command, click.Group) and rest:
                command = command.commands[rest.pop(0)]
            options = {opt for param in command.params for opt in param.opts}
            assert {word for word in rest if word.startswith("--")} <= options, words
