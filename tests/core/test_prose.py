"""A fact is a field: no code reads a sentence that is meant for a person."""

from __future__ import annotations

import re
from pathlib import Path

SOURCES = Path(__file__).resolve().parents[2] / "src" / "gallant"
# What errors, findings, journals, ledgers and gaps say in words;
# texts of devices and files are read where they come in.
SENTENCES = r"(?:message|reason|reasons|what|why|words|evidence|comment|told|said_by)"
READS = re.compile(
    rf"\.{SENTENCES}(?:\[\w+\])?\.(?:startswith|endswith|partition|rpartition|split|removeprefix|removesuffix|find|index|replace)\("
    rf"|(?<!for )\b\w[\w. \"'-]* (?:not )?in [a-z_.]+\.{SENTENCES}\b(?! for)"
    rf"|re\.\w+\([^)]*\.{SENTENCES}\b"
    rf"|[\"'] (?:not )?in {SENTENCES}\b"
)
# Where a sentence of a protocol's library or of a device is all that there is.
AT_THE_EDGE = ("drivers", "standin", "catalogs", "demo")


def test_no_code_reads_a_sentence_that_a_person_is_meant_to_read():
    found = [
        f"{file.relative_to(SOURCES)}:{number}: {line.strip()}"
        for file in sorted(SOURCES.rglob("*.py"))
        if file.relative_to(SOURCES).parts[0] not in AT_THE_EDGE
        for number, line in enumerate(file.read_text().splitlines(), 1)
        if READS.search(line) and " for " not in line
    ]
    assert found == []


def test_the_search_finds_what_it_is_for():
    for line in (
        'if "no sealed backup" not in error.what:',
        "head = error.what.split(' answers as ')[0]",
        'if n.why.startswith("behind by "):',
        'what, _, words = entry.reason.partition(": ")',
        'error.what.replace("every node", "every image")',
        'late="in time" in what',
        "roll = backup.comment.removeprefix('before ')",
    ):
        assert READS.search(line), line
