"""What a later check found to differ from an earlier one: what is new or worse first, then what is better or gone."""

from __future__ import annotations

import re
from collections.abc import Iterable

from gallant.core.checks.facts import LEVELS, Finding
from gallant.core.records import Record

NEW, WORSE, BETTER, GONE = "new", "worse", "better", "gone"
ORDER = (NEW, WORSE, BETTER, GONE)
_NUMBERS = re.compile(r"\d+(?:\.\d+)*")


class Drift(Record):
    """One finding that is not as it was; `was` is the level before, where there was one."""

    what: str
    finding: Finding
    was: str | None = None


def drift(before: Iterable[Finding], after: Iterable[Finding]) -> list[Drift]:
    """Between two runs of the same checks. A finding is the same one when it says the same of the same thing; the
    numbers in it may differ. Passes are what nothing is said of."""
    old = {_key(f): f for f in before if f.level != "pass"}
    new = {_key(f): f for f in after if f.level != "pass"}
    found = []
    for key, finding in new.items():
        was = old.get(key)
        if was is None:
            found.append(Drift(what=NEW, finding=finding))
        elif LEVELS.index(finding.level) != LEVELS.index(was.level):
            worse = LEVELS.index(finding.level) < LEVELS.index(was.level)
            found.append(Drift(what=WORSE if worse else BETTER, finding=finding, was=was.level))
    found += [Drift(what=GONE, finding=f, was=f.level) for key, f in old.items() if key not in new]
    return sorted(found, key=lambda d: (ORDER.index(d.what), LEVELS.index(d.finding.level)))


def _key(finding: Finding) -> tuple[str, str, str | None, str]:
    return finding.check, finding.system, finding.node, _NUMBERS.sub("#", finding.message)
