"""Gaps of many systems that are one and the same: a fleet has hundreds of thousands, and some hundreds that differ."""

from __future__ import annotations

from collections.abc import Iterable

from gallant.core.assess.gaps import Verdict
from gallant.core.readings import Component, Reading
from gallant.core.records import Record


class AlikeGap(Record):
    """One gap that many systems have: what they run, and what is to be said of it. `parts` are the names that the
    component has on them, `systems` their nodes by the system's name, in the order in which they were found."""

    product: str
    kind: str
    parts: tuple[str, ...]
    installed: str
    verdict: Verdict
    change: str | None
    systems: dict[str, list[str]]

    @property
    def nodes(self) -> int:
        return sum(map(len, self.systems.values()))

    @property
    def order(self) -> tuple[object, ...]:
        """Worst standing first, then most severe, then what closes a hole, then what is behind for longest."""
        verdict = self.verdict
        return *verdict.rank, not verdict.security, -(verdict.days_behind or 0), -len(self.systems), self.product


def alike(rows: Iterable[tuple[Reading, Component, Verdict, str | None]]) -> list[AlikeGap]:
    """One for each product, what runs, and verdict; `rows` are reading, component, verdict, and what changed.

    Verdicts are made once for all that are alike (core/assess/gaps.py), so most are told apart by being another
    object: to compare what they say for each of hundreds of thousands of rows would cost more than to find them.
    """
    found: dict[tuple[int, str, str, str | None], tuple[Reading, Component, Verdict, dict[str, list[str]], set[str]]]
    found = {}
    for reading, part, verdict, change in rows:
        key = (id(verdict), part.product, part.version, change)
        one = found.get(key)
        if one is None:
            one = found[key] = (reading, part, verdict, {}, set())
        one[3].setdefault(reading.system, []).append(reading.node)
        one[4].add(part.name)
    same: dict[tuple[Verdict, str, str, str | None], AlikeGap] = {}
    for (_, product, installed, change), (_, part, verdict, systems, parts) in found.items():
        known = same.get((verdict, product, installed, change))
        if known is not None:  # verdicts with a remark of their surroundings are objects of their own
            for name, nodes in systems.items():
                known.systems.setdefault(name, []).extend(nodes)
            parts |= {*known.parts}
            systems = known.systems
        same[verdict, product, installed, change] = AlikeGap(
            product=product,
            kind=part.kind,
            parts=tuple(sorted(parts)),
            installed=installed,
            verdict=verdict,
            change=change,
            systems=systems,
        )
    return sorted(same.values(), key=lambda one: one.order)
