"""The documents that ship with the code say what the code does."""

from __future__ import annotations

import json
import re
import runpy
from pathlib import Path

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
