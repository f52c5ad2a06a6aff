"""Findings as JUnit XML, which pipelines read: a case for each
thing that was looked at, failed where somebody has to act."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING
from xml.etree import ElementTree as Xml

from gallant.core.after.picture import LOST
from gallant.core.assess.gaps import NO_GAP
from gallant.core.errors import GallantError
from gallant.core.records import Record, clean
from gallant.disk import put_whole, why_not

if TYPE_CHECKING:
    from gallant.core.checks.facts import Finding
    from gallant.operations.after.verify import Verified
    from gallant.operations.assess.gaps import Assessment

# What XML 1.0 allows (2.2, Char); anything else is written as its number.
_FORBIDDEN = re.compile("[^\t\n\r\u0020-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")
LONGEST = 2000
LEVELS = ("stop", "warn", "note", "pass")  # the worst first


class Case(Record):
    """One thing that was looked at: of which system, what, and why it failed (None: it did not)."""

    of: str
    name: str
    failed: str | None = None
    kind: str = ""


def cases_of_check(findings: Sequence[Finding], fail_on: str) -> list[Case]:
    """One for each finding; failed from the level on from which the command fails."""
    worst = LEVELS[: LEVELS.index(fail_on) + 1]
    return [
        Case(
            of=f.system,
            name=f"{f.check} {f.node}" if f.node else f.check,
            failed=f"{f.message}: {f.evidence}" + (f" → {f.next}" if f.next else "") if f.level in worst else None,
            kind=f.level,
        )
        for f in findings
    ]


def cases_of_verify(done: Verified) -> list[Case]:
    found = [
        Case(of=r.system, name=r.node, failed="; ".join(r.problems) if not r.ok else None, kind="not as it should be")
        for r in done.verdicts
    ]
    return found + [
        Case(of=one.system, name=one.about, failed=one.words, kind=one.means)
        for one in done.unlike
        if one.means == LOST
    ]


def cases_of_gaps(result: Assessment) -> list[Case]:
    found = [
        Case(
            of=shown.gap.reading.system,
            name=f"{shown.gap.reading.node}:{shown.gap.part.name}",
            failed=f"{shown.gap.part.version} → {shown.gap.verdict.target or 'unknown'}"
            if shown.gap.verdict.standing not in NO_GAP
            else None,
            kind=shown.gap.verdict.standing,
        )
        for shown in result.shown
    ]
    return found + [
        Case(of=name.partition("/")[0], name=name, failed="it was never read", kind="unread") for name in result.unread
    ]


def write_junit(path: Path, suite: str, cases: Iterable[Case], at: datetime) -> None:
    """Write a suite, whole or not at all."""
    every = list(cases)
    root = Xml.Element("testsuites")
    failed = sum(case.failed is not None for case in every)
    counts = {"tests": str(len(every)), "failures": str(failed), "errors": "0"}
    one = Xml.SubElement(root, "testsuite", {"name": _text(suite), **counts, "timestamp": f"{at:%Y-%m-%dT%H:%M:%S}"})
    for case in every:
        row = Xml.SubElement(one, "testcase", {"classname": _text(case.of), "name": _text(case.name)})
        if case.failed is not None:
            Xml.SubElement(row, "failure", {"type": _text(case.kind), "message": _text(case.failed)})
    Xml.indent(root)
    try:
        put_whole(path, Xml.tostring(root, "utf-8", xml_declaration=True) + b"\n")
    except OSError as error:
        raise GallantError(f"{path} cannot be written: {why_not(error, path)}.") from None


def _text(text: str) -> str:
    shown = clean(text, LONGEST)
    return _FORBIDDEN.sub(lambda found: f"\\u{ord(found[0]):04x}", shown)
