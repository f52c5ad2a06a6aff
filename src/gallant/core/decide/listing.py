"""Many notices: ranked by the few fields that rank them, and each made when it is looked at.

A fleet has hundreds of thousands of notices and a person looks at some dozens. What most of them are follows from the
verdict on their gap and from the rule on it, and of those there are few; a notice that somebody decided on, or that a
roll carries out, is made at once, since its state is its own.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from datetime import datetime
from typing import NamedTuple, overload

from gallant.core.assess.gaps import NO_GAP, Gap, Gaps, Verdict
from gallant.core.catalog.products import SEVERITIES, Product
from gallant.core.decide.ledger import LedgerEntry
from gallant.core.decide.notices import SETTLED, Notice, NoticeWork, notice_of, seen_name, wanted_of
from gallant.core.estate.rules import Decision
from gallant.core.readings import Component, Reading

Row = tuple[Reading, Component, Verdict]
Decide = Callable[[Reading, Component, Verdict], Decision]


class Ranked(NamedTuple):
    """A notice before it is made: what it is ranked by, in this order, its state, and the gaps that it is of, the worst
    node's first."""

    settled: bool
    day: int
    severity: int
    name: str
    state: str
    rows: Sequence[Row]


def grouped(gaps: Gaps) -> dict[str, list[Row]]:
    """The gaps that need work, put together by system and component, under the notice's name."""
    groups: dict[str, list[Row]] = {}
    for row in gaps.rows(but=NO_GAP):
        if row[2].target is not None:
            groups.setdefault(f"{row[0].system}:{row[1].name}", []).append(row)
    return groups


class Book:
    """What notices are made with: what was decided, when each was first seen (by name and target), the rolls that are
    open (by system), the catalogs, the time, and what the estate's rules say of a gap."""

    def __init__(
        self,
        ledger: Iterable[LedgerEntry],
        since: Mapping[tuple[str, str], datetime],
        work: Mapping[str, NoticeWork],
        products: Mapping[str, Product],
        now: datetime,
        decide: Decide,
    ) -> None:
        self.since, self.work, self.products, self.now, self.decide = since, work, products, now, decide
        self.said: dict[str, list[LedgerEntry]] = {}
        for entry in ledger:
            self.said.setdefault(entry.subject, []).append(entry)

    def notice(self, name: str, rows: Sequence[Row]) -> Notice:
        gaps = [(Gap(reading=r, part=p, verdict=v), self.decide(r, p, v)) for r, p, v in rows]
        w = wanted_of(name, gaps)
        work, product = self.work.get(w.system), self.products.get(w.product)
        return notice_of(w, self.said.get(name, ()), self.since, work, product, self.now)

    def ranked(self, groups: Mapping[str, Sequence[Row]]) -> list[Ranked]:
        """Newest and most severe first, the settled ones last."""
        return sorted(self._ranked(groups))

    def _ranked(self, groups: Mapping[str, Sequence[Row]]) -> Iterator[Ranked]:
        states: dict[tuple[int, int], str] = {}
        severities = {word: rank for rank, word in enumerate(SEVERITIES)}
        for name, rows in groups.items():
            reading, part, verdict = rows[0]
            if name in self.said or reading.system in self.work:
                state = self.notice(name, rows).state
            else:
                key = (id(verdict), id(self.decide(reading, part, verdict)))
                state = states.get(key) or states.setdefault(key, self.notice(name, rows).state)
            since = self.since.get((name, seen_name(verdict.standing, verdict.target)), self.now)
            severity = severities[verdict.severity] if verdict.severity else len(severities)
            yield Ranked(state in SETTLED, -since.toordinal(), severity, name, state, rows)


class AlikeNotices(NamedTuple):
    """Notices that say the same of many systems: the first of them, and the names of all."""

    notice: Notice
    names: Sequence[str]


def _order_of_alike(group: Sequence[Ranked]) -> tuple[object, ...]:
    """Within a day and severity what closes a hole first, then what is behind for longest, then what most have."""
    first, verdict = group[0], group[0].rows[0][2]
    return *first[:3], not verdict.security, -(verdict.days_behind or 0), -len(group)


class Notices(Sequence[Notice]):
    """Notices in their order, each made when it is looked at."""

    def __init__(self, book: Book, ranked: Sequence[Ranked]) -> None:
        self.book, self.ranked = book, ranked

    def __len__(self) -> int:
        return len(self.ranked)

    def __iter__(self) -> Iterator[Notice]:
        return (self.book.notice(one.name, one.rows) for one in self.ranked)

    @overload
    def __getitem__(self, at: int) -> Notice: ...
    @overload
    def __getitem__(self, at: slice) -> Notices: ...
    def __getitem__(self, at: int | slice) -> Notice | Notices:
        if isinstance(at, slice):
            return Notices(self.book, self.ranked[at])
        return self.book.notice(self.ranked[at].name, self.ranked[at].rows)

    def alike(self) -> list[AlikeNotices]:
        """Those of one product, release, target, state and day together, in the order of the first of each; what
        somebody decided on stands by itself."""
        found: dict[object, list[Ranked]] = {}
        for one in self.ranked:
            _, part, verdict = one.rows[0]
            installed = tuple(dict.fromkeys(row[1].version for row in one.rows))
            own = one.name in self.book.said
            key = one.name if own else (id(verdict), part.product, installed, one.state, one.day)
            found.setdefault(key, []).append(one)
        groups = sorted(found.values(), key=_order_of_alike)
        return [AlikeNotices(self.book.notice(g[0].name, g[0].rows), [one.name for one in g]) for g in groups]
