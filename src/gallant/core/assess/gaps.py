"""Gaps: readings against catalogs and aims, one for each component, with its standing and the reasons.

Each distinct (product, installed, next, aims) is assessed once; an estate of ten thousand nodes runs few of them. What
no component knows by itself (its neighbours, its manager, what its device offers) is added by core/assess/remarks.py.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from datetime import datetime, timedelta
from itertools import islice
from operator import attrgetter, itemgetter
from typing import cast, overload

from gallant.core.assess.remarks import Remark, remarks
from gallant.core.assess.routes import Refusal, describe_unknown, find_route, why_not_enter
from gallant.core.catalog.products import RESTARTS, SEVERITIES, Bundle, Product, Release
from gallant.core.estate.aiming import AimHere, aims_on
from gallant.core.estate.aims import choose, parse_aim, subject_of
from gallant.core.estate.picks import STANDINGS as STANDINGS
from gallant.core.estate.systems import Estate, System
from gallant.core.readings import IMAGE, Component, Reading
from gallant.core.records import Record, replace
from gallant.core.versions import NotAVersion, Version, parse

# Worst first: what a person should look at before the rest.
NO_GAP = ("current", "ahead", "unknown")  # there is nothing to close, as far as is known
SUPPORT_NEARLY_OVER = timedelta(days=90)
SEVERE = ("critical", "high")
RANKS = {severity: rank for rank, severity in enumerate(SEVERITIES)}


class Verdict(Record):
    """What is to be said of one installed version under one aim.

    `hops` are the versions to go through; `restart` the worst on the way; `releases_behind` and
    `days_behind` count from the installed release to the target (days are the least that is
    known where the catalog has not the installed one); `one_way` and `terms` are those of the
    releases to be entered. `lag` is the one of the `reasons` that says by how much.
    """

    aim: str
    target: str | None = None
    standing: str
    severity: str | None = None
    security: bool = False
    restart: str | None = None
    hops: tuple[str, ...] = ()
    reasons: tuple[str, ...] = ()
    releases_behind: int | None = None
    days_behind: int | None = None
    minutes: float | None = None
    one_way: tuple[str, ...] = ()
    terms: tuple[str, ...] = ()
    lag: str | None = None

    @property
    def needs_a_way(self) -> bool:
        """Whether a route from what is installed is of any interest."""
        return self.standing in ("behind", "blocked", "recalled")

    @property
    def needs_work(self) -> bool:
        """Whether there is anything to close; of what is unknown there is not."""
        return self.standing not in NO_GAP

    @property
    def severe(self) -> bool:
        """Whether it is work that should not wait."""
        return self.needs_work and (self.severity in SEVERE or self.standing == "recalled")

    @property
    def rank(self) -> tuple[int, int]:
        """Worst standing first, then most severe."""
        return STANDINGS.index(self.standing), SEVERITIES.index(self.severity) if self.severity else len(SEVERITIES)


class Gap(Record, gc=False):
    """The difference between what a component runs and what its aim asks for: where it is, and the verdict on it."""

    reading: Reading
    part: Component
    verdict: Verdict

    @property
    def name(self) -> str:
        """As people write it: `tickets/a` for the system image, `tickets/a:expander` for any other component."""
        at = f"{self.reading.system}/{self.reading.node}"
        return at if self.part.name == IMAGE else f"{at}:{self.part.name}"

    @property
    def needs_work(self) -> bool:
        """Whether there is anything to close; of what is unknown there is not."""
        return self.verdict.needs_work

    @property
    def disruptive(self) -> bool:
        """Whether closing it takes a service or a node out for a while."""
        return self.needs_work and self.verdict.restart in ("service", "node")


class Gaps(Sequence[Gap]):
    """Gaps in their order. An estate has hundreds of thousands and a person looks at few: each is made when looked
    at."""

    def __init__(self, buckets: Iterable[list[Reading | Component | Verdict]]) -> None:
        """Each bucket is reading, part, verdict, reading, part, verdict, and so on."""
        self._buckets = [bucket for bucket in buckets if bucket]

    def rows(self, but: Sequence[str] = ()) -> Iterator[tuple[Reading, Component, Verdict]]:
        """What each gap is made of, for anyone who counts them all; those of some standings are not gone through."""
        for bucket in self._buckets:
            if cast(Verdict, bucket[2]).standing not in but:
                every = iter(bucket)
                yield from cast(Iterator[tuple[Reading, Component, Verdict]], zip(every, every, every, strict=True))

    def standings(self) -> Iterator[tuple[str, Sequence[Reading], Sequence[Component]]]:
        """The same by standing, the worst first, each as readings and parts side by side; a standing may come more than
        once. For anyone who counts them all."""
        for bucket in self._buckets:
            readings, parts = cast(list[Reading], bucket[::3]), cast(list[Component], bucket[1::3])
            yield cast(Verdict, bucket[2]).standing, readings, parts

    def __iter__(self) -> Iterator[Gap]:
        return (Gap(reading=reading, part=part, verdict=verdict) for reading, part, verdict in self.rows())

    def __len__(self) -> int:
        return sum(map(len, self._buckets)) // 3

    @overload
    def __getitem__(self, at: int) -> Gap: ...
    @overload
    def __getitem__(self, at: slice) -> list[Gap]: ...
    def __getitem__(self, at: int | slice) -> Gap | list[Gap]:
        return list(self)[at] if isinstance(at, slice) else next(islice(self, range(len(self))[at], None))


Add = Callable[[tuple[Reading, Component, Verdict]], None]
Known = dict[tuple[str, str, str | None], tuple[Verdict, Add]]


class _Judge:
    """Verdicts, each made once, and the buckets of equal rank that gaps are laid into.

    An estate has hundreds of thousands of gaps and some dozens of ranks. So nothing is sorted: systems and components
    are gone through in the order of the table, and what falls into one bucket lies there in that order already. To walk
    them in another order would break the order within a rank, with no sort behind it to mend that. A bucket is one flat
    list, since a tuple for each gap would cost more than the gap.
    """

    def __init__(
        self, estate: Estate, products: Mapping[str, Product], now: datetime, bundles: Sequence[Bundle]
    ) -> None:
        self.by_subject, self.products, self.now, self.bundles = estate.aims_by_subject, products, now, bundles
        self.buckets: dict[tuple[int, int], list[Reading | Component | Verdict]] = {}
        self._known: dict[tuple[str, tuple[AimHere, ...]], Known] = {}
        self._prospects: dict[tuple[str, str], Prospect] = {}

    def known(self, system: System, aims: tuple[AimHere, ...]) -> Known:
        """What was said already under these aims; what a system itself
        runs binds its aims differently from what another runs."""
        return self._known.setdefault((system.product, aims), {})

    def add_to(self, verdict: Verdict) -> Add:
        return self.buckets.setdefault(verdict.rank, []).extend

    def judge(self, system: System, aims: tuple[AimHere, ...], part: Component) -> tuple[Verdict, Add]:
        own = part.product == system.product
        aim = next(here.aim for here in aims if here.binds(part.product, own, self.bundles))
        product = self.products.get(part.product)
        if product is None:
            verdict = Verdict(aim=aim, standing="unknown", reasons=(f"no catalog here lists {part.product}",))
        else:
            prospect = self._prospects.get((part.product, aim))
            if prospect is None:
                prospect = self._prospects[part.product, aim] = Prospect(product, aim, self.now, self.bundles)
            verdict = assess(prospect, part.version, part.next_version, self.now)
        made = verdict, self.add_to(verdict)
        self.known(system, aims)[part.product, part.version, part.next_version] = made
        return made


def find_gaps(
    estate: Estate,
    readings: Iterable[Reading],
    products: Mapping[str, Product],
    now: datetime,
    bundles: Sequence[Bundle] = (),
) -> Gaps:
    """One gap a component, worst standing first, then most severe,
    then by system, component (the image first) and node."""
    by_system: dict[str, list[Reading]] = {}
    for reading in readings:
        by_system.setdefault(reading.system, []).append(reading)
    judge = _Judge(estate, products, now, bundles)
    said = remarks(estate, by_system, products)
    orders: dict[tuple[str, ...], tuple[int, ...]] = {}
    special = {subject_of(aim.for_).partition(":")[0].partition("/")[0] for aim in estate.aims if ":" in aim.for_}
    for name in sorted(by_system):
        system, nodes = estate.systems[name], sorted(by_system[name], key=attrgetter("node"))
        built = [part.name for part in nodes[0].components]
        alike = all([part.name for part in reading.components] == built for reading in nodes[1:])
        if not alike or name in said or name in special:
            _one_by_one(judge, system, nodes, said.get(name, {}))
            continue
        # Nodes that are built alike go side by side: one order for all of them, and nothing to sort.
        order = orders.get(names := tuple(built)) or orders.setdefault(names, _image_first(names))
        aims = aims_on(judge.by_subject, system, "")
        shared = judge.known(system, aims)
        rows = []
        for reading in nodes:
            if reading.name in judge.by_subject:
                own = aims_on(judge.by_subject, system, reading.node)
                rows.append((reading, reading.components, own, judge.known(system, own)))
            else:
                rows.append((reading, reading.components, aims, shared))
        for index in order:
            for reading, components, here, known in rows:
                part = components[index]
                found = known.get((part.product, part.version, part.next_version)) or judge.judge(system, here, part)
                found[1]((reading, part, found[0]))
    return Gaps(judge.buckets[rank] for rank in sorted(judge.buckets))


def _one_by_one(judge: _Judge, system: System, nodes: Sequence[Reading], said: Mapping[str, Remark]) -> None:
    """The gaps of a system whose components have aims of their own, or whose surroundings have a word to say."""
    parts = [(c.name != IMAGE, c.name, reading.node, c, reading) for reading in nodes for c in reading.components]
    for _, name, node, part, reading in sorted(parts, key=itemgetter(0, 1, 2)):
        aims = aims_on(judge.by_subject, system, node, name)
        known = judge.known(system, aims).get((part.product, part.version, part.next_version))
        verdict, add = known or judge.judge(system, aims, part)
        if node in said and part.product == system.product:
            verdict = with_remark(verdict, said[node])
            add = judge.add_to(verdict)
        add((reading, part, verdict))


def _image_first(names: tuple[str, ...]) -> tuple[int, ...]:
    return tuple(sorted(range(len(names)), key=lambda n: (names[n] != IMAGE, names[n])))


def with_remark(verdict: Verdict, remark: Remark) -> Verdict:
    """A verdict with what its surroundings add: reasons, and a block where the target has no counterpart yet."""
    blocked = remark.blocked.get(verdict.target or "", ()) if verdict.needs_a_way else ()
    reasons = [*remark.reasons]
    first = verdict.hops[0] if verdict.hops else None  # what the device would have to offer now
    if remark.offers is not None and verdict.needs_a_way and first is not None and first not in remark.offers:
        reasons.append(f"the device's own list of updates does not have {first}")
    return replace(
        verdict,
        standing="blocked" if blocked and verdict.standing == "behind" else verdict.standing,
        # The verdict's own first word stays first, unless there is a block to be told of.
        reasons=(*blocked, *verdict.reasons[:1], *reasons, *verdict.reasons[1:]),
    )


class Prospect:
    """What one aim comes to for one product, and what lies between any release and that target; worked out once for all
    the versions that are held against it."""

    def __init__(self, product: Product, aim: str, now: datetime, bundles: Sequence[Bundle] = ()) -> None:
        self.product, self.aim = product, aim
        choice = choose(parse_aim(aim), product, now, bundles)
        self.target, self.refused = choice.release, choice.refused
        self.passed = tuple(f"{version} passed over: {why}" for version, why in choice.passed_over)
        # From each place in the product's order: unrecalled releases up to the target, the worst severity among them,
        # and whether one closes a hole.
        self._ahead: list[tuple[int, int, bool]] = []
        if self.target is not None:
            until = product.after(product.key(self.target))
            count, worst, security = 0, len(SEVERITIES), False
            self._ahead = [(0, worst, False)] * (until + 1)
            for at in range(until - 1, -1, -1):
                release = product.ascending[at][1]
                if release.recall is None:
                    count += 1
                    rank = RANKS[release.severity]
                    worst = rank if rank < worst else worst
                    security = security or release.security
                self._ahead[at] = (count, worst, security)

        # A target that installs on anything older is one hop away from all of it: no route has to be looked for.
        self.from_anywhere = (
            self.target is not None
            and self.refused is None
            and self.target.from_range is None
            and not self.target.requires
            and why_not_enter(self.target) is None
            and all(p.kind == "installer" and p.from_range is None and p.delivery is None for p in self.target.packages)
        )

    def ahead_of(self, here: Version) -> tuple[int, str | None, bool]:
        """Releases from `here` (outside) to the target, their worst severity, and whether one closes a hole."""
        at = self.product.after(here)
        count, worst, security = self._ahead[at] if at < len(self._ahead) else (0, len(SEVERITIES), False)
        return count, SEVERITIES[worst] if worst < len(SEVERITIES) else None, security

    def next_after(self, here: Version) -> Release | None:
        """The oldest release that is newer than `here`."""
        at = self.product.after(here)
        return self.product.ascending[at][1] if at < len(self.product.ascending) else None


def assess(prospect: Prospect, installed: str, next_version: str | None, now: datetime) -> Verdict:
    """The verdict on one installed version under the aim that `prospect` is of."""
    product, aim, target, passed = prospect.product, prospect.aim, prospect.target, prospect.passed
    running = product.resolve(installed)
    off_catalog = None if running else describe_unknown(product, installed)
    if target is None:
        why = f"no release fits the aim {aim}" + (f": {prospect.refused}" if prospect.refused else "")
        return Verdict(aim=aim, standing="blocked", reasons=(why, *passed))
    try:
        at = product.key(running) if running else parse(product.scheme, installed)
    except NotAVersion:
        return Verdict(aim=aim, target=target.version, standing="blocked", reasons=(f"{installed}: {off_catalog}",))
    notes = [f"{installed}: {off_catalog}"] if off_catalog else []
    notes += _support("support", running, now)
    if target != running:
        notes += _support(f"support of {target.version}, the aim,", target, now)
    recall = running.recall.words if running and running.recall else None
    reasons = (*notes, *passed)
    if next_version is not None and not product.same(next_version, installed):
        right = product.resolve(next_version) == target
        beside = "" if right else f"; the aim is {target.version}"
        waiting = f"{next_version} is installed and runs from the next restart on{beside}"
        entered, _ = _way(prospect, target, next_version)
        return _verdict(prospect, target, running, at, "waits for restart", entered, (waiting, *reasons))
    if at == product.key(target):
        return Verdict(aim=aim, target=target.version, standing="current", reasons=reasons)
    if at > product.key(target):
        reason = recall or f"newer than the aim {aim} asks for"
        standing = "recalled" if recall else "ahead"
        return Verdict(aim=aim, target=target.version, standing=standing, reasons=(reason, *reasons))
    if prospect.refused:
        why = f"{target.version}, what the aim {aim} comes to, cannot be kept: {prospect.refused}"
        return _verdict(prospect, target, running, at, "blocked", (), (why, *reasons))
    return _behind(prospect, target, running, at, installed, recall, reasons)


def _behind(
    prospect: Prospect,
    target: Release,
    running: Release | None,
    at: Version,
    installed: str,
    recall: str | None,
    reasons: tuple[str, ...],
) -> Verdict:
    """The verdict on what is older than its target: whether a chain of releases leads there."""
    entered, refused = ((target,), ()) if prospect.from_anywhere else _way(prospect, target, installed)
    if not entered:
        why = next((r.why for r in refused if r.version == target.version), "no chain of releases leads there")
        why = f"no route to {target.version}: {why}"
        return _verdict(prospect, target, running, at, "blocked", entered, (why, *reasons))
    if recall is not None:
        return _verdict(prospect, target, running, at, "recalled", entered, (recall, *reasons))
    return _verdict(prospect, target, running, at, "behind", entered, reasons)


def _way(prospect: Prospect, target: Release, start: str) -> tuple[tuple[Release, ...], tuple[Refusal, ...]]:
    """The releases that a route from a version enters, and what bars others; nothing of a text that is no version."""
    product = prospect.product
    if not _is_version(product, start):
        return (), ()
    route = find_route(product, start, target, explain=False)
    return tuple(r for hop in route.hops if (r := product.resolve(hop.to)) is not None), route.refused


def _verdict(
    prospect: Prospect,
    target: Release,
    running: Release | None,
    at: Version,
    standing: str,
    entered: Sequence[Release],
    reasons: tuple[str, ...],
) -> Verdict:
    """A verdict on what lies before its target: how far behind it is, and the marks of all that it passes over."""
    count, severity, security = prospect.ahead_of(at)
    # Of a version that the catalog has not, only the next one's day is known: it is at least so far behind.
    known = running or prospect.next_after(at)
    lag = None
    if standing == "behind":
        days = f" and {'' if running else 'at least '}{_days(known, target)} d" if known else ""
        lag = f"behind by {count} release{'s' * (count != 1)}{days}"
        reasons = (lag, *reasons)
    return Verdict(
        aim=prospect.aim,
        target=target.version,
        standing=standing,
        severity=severity or target.severity,
        security=security or target.security,
        restart=max((r.restart for r in (*entered, target)), key=RESTARTS.index),
        hops=tuple(r.version for r in entered),
        reasons=reasons,
        releases_behind=count,
        days_behind=_days(known, target) if known else None,
        minutes=sum(r.minutes.total for r in entered) or None,
        one_way=tuple(r.version for r in entered if r.one_way),
        terms=tuple(dict.fromkeys(r.terms for r in entered if r.terms)),
        lag=lag,
    )


def _days(running: Release, target: Release) -> int:
    return max(0, (target.released - running.released).days)


def _is_version(product: Product, text: str) -> bool:
    try:
        parse(product.scheme, text)
    except NotAVersion:
        return product.resolve(text) is not None
    return True


def _support(what: str, release: Release | None, now: datetime) -> list[str]:
    if release is None or release.support_ends is None:
        return []
    if release.support_ends <= now:
        return [f"{what} ended on {release.support_ends:%Y-%m-%d}"]
    if release.support_ends - now <= SUPPORT_NEARLY_OVER:
        return [f"{what} ends on {release.support_ends:%Y-%m-%d}"]
    return []
