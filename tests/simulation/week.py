"""A week of made-up life, drawn from a seed: people book and change their minds,
aims, catalogs and systems change, clocks change, and what is due is looked at every
five minutes by a process that is killed, stopped, doubled and put to sleep.

    python -m tests.simulation.week --runs 2000 --seed 1       # as `make week`

What a look decides is Gallant's own (`gallant.engine.turn`); a roll here is only its
length, its windows and how it ends. `week_judge` says what was promised.
"""

from __future__ import annotations

import argparse
import random
import sys
from collections import Counter
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from typing import Any

from gallant.core.catalog.products import SEVERITIES
from gallant.core.decide import due
from gallant.core.decide.ledger import CLOSE, DECISIONS, ENDED, LedgerEntry
from gallant.core.decide.notices import Notice, NoticeWork, Wanted, notices
from gallant.core.errors import GallantError, Refused
from gallant.core.estate.calendar import windows_of
from gallant.core.estate.reading import parse_estate
from gallant.core.estate.rules import ACT, Decision
from gallant.core.estate.systems import Estate
from gallant.core.records import replace
from gallant.core.windows.rules import Span, next_after, open_at
from gallant.engine import turn
from gallant.engine.desk import Begun, DueRow, EndedRoll, LastTry, OpenRoll, Ready

from .week_judge import Judge

EVERY = timedelta(minutes=5)
LASTS = timedelta(days=7)
QUIET = timedelta(days=9)  # after it nothing is drawn any more: what was begun comes to its end
NAMES = ("quay", "tickets", "gates", "deck")
PEOPLE = ("anna", "berta", "carl")
ZONES = ("Europe/London", "America/Santiago", "Australia/Lord_Howe", "UTC")
# Three days before clocks change, somewhere, forward or back; and a week in which none do.
WEEKS = ("2027-03-25", "2027-10-28", "2027-09-02", "2027-04-01", "2027-10-01", "2027-06-14")
DAYS = ("mon", "tue", "wed", "thu", "fri", "sat", "sun")
NIGHTS = (("22:00", "05:00"), ("00:30", "04:30"), ("01:00", "03:00"), ("20:00", "23:00"), ("23:45", "02:45"))
CLOSED = (("01:30", "02:30"), ("00:30", "01:45"), ("02:15", "02:40"), ("00:30", "01:15"), ("23:30", "00:30"))


class Died(Exception):
    """The process that looked at what is due was killed."""


@dataclass
class SimRoll:
    """A roll and its process: for how long it works (`needs`, of which
    `done`), and after how much work it is killed or stops."""

    id: str
    plan: str
    began: datetime
    brings: frozenset[tuple[str, str, str]]
    needs: timedelta
    by: str
    dies_at: list[timedelta] = field(default_factory=list)
    stops_at: timedelta | None = None
    stands: str = due.RUNNING
    done: timedelta = timedelta(0)
    opens: datetime | None = None
    ended: datetime | None = None

    @property
    def systems(self) -> tuple[str, ...]:
        return tuple(sorted({system for system, _, _ in self.brings}))

    @property
    def is_open(self) -> bool:
        return self.ended is None


def estate_of(lots: random.Random, names: Sequence[str]) -> str:
    sites = {f"site{n}": zone for n, zone in enumerate(lots.sample(ZONES, 2))}
    where = {name: lots.choice(sorted(sites)) for name in names}
    lines = ["gallant: estate/1", "name: week", "sites:"]
    lines += [f"  {site}: {{time_zone: {zone}}}" for site, zone in sites.items()]
    lines.append("systems:")
    for name in names:
        lines.append(f"  {name}: {{product: t/{name}, shape: single, site: {where[name]}, driver: manual, nodes: {{a: {{address: 'hands:', serial: {name}}}}}}}")  # fmt: skip
    if lots.random() < 0.8:
        lines.append("windows:")
        for name in [name for name in names if lots.random() < 0.8] or names[:1]:
            from_, to = lots.choice(NIGHTS)
            days = "daily" if lots.random() < 0.6 else ", ".join(lots.sample(DAYS, lots.randint(2, 5)))
            lines.append(f'  - {{for: {name}, days: [{days}], from: "{from_}", to: "{to}"}}')
    if lots.random() < 0.6:
        lines.append("blackouts:")
        for _ in range(lots.randint(1, 3)):
            from_, to = lots.choice(CLOSED)
            whom = lots.choice([*names, *(f"site:{site}" for site in sorted(set(where.values()))), '"*"'])
            lines.append(
                f'  - {{for: {whom}, days: [{lots.choice(("daily", "sun", "sat"))}], from: "{from_}", to: "{to}"}}'
            )
    if lots.random() < 0.7:
        lines.append(f"limits: {{lanes_at_once: {lots.choice((1, 1, 2))}}}")
    if lots.random() < 0.4:
        lines.append("rules: [{security: yes, then: act}]")
    lines.append(f"due: {{rests: {lots.choice(('yes', 'no'))}, retry_minutes: {lots.choice((10, 30))}}}")
    return "\n".join(lines) + "\n"


class Week:
    """The world: what runs where, who decided what, the rolls, and what people were told."""

    def __init__(self, seed: int) -> None:
        self.lots = lots = random.Random(seed)
        self.begin = datetime.fromisoformat(lots.choice(WEEKS)).replace(tzinfo=UTC)
        self.at = self.begin
        self.names = NAMES[: lots.randint(2, 4)]
        self.whole: Estate = parse_estate("estate.yaml", estate_of(lots, self.names))
        self.estate = self.whole
        self.ledger: list[LedgerEntry] = []
        self.rolls: list[SimRoll] = []
        self.plans: dict[str, tuple[tuple[str, str, str], ...]] = {}
        self.kept: dict[str, LastTry] = {}
        self.catalogs = {f"t/{name}" for name in self.names}
        self.runs = {(name, part): "1.0" for name in self.names for part in ("image", "bios")}
        self.wants = {key: "1.1" if lots.random() < 0.8 else "1.0" for key in self.runs}
        self.severity = {key: lots.choice(SEVERITIES) for key in self.runs}
        self.security = {key: lots.random() < 0.3 for key in self.runs}
        self.needs = {name: timedelta(minutes=5 * lots.randint(2, 30)) for name in self.names}
        self.troubles = list(self._troubles())
        self.asleep = list(self._stretches(0.5, 12))  # the machine: nothing goes on at all
        self.stuck = list(self._stretches(0.4, 6))  # a look that was stopped, and holds its lock
        self.changes = sorted(self._changes(), key=lambda c: c[0])
        self.judge = Judge(self.whole, self.begin)
        self._spans: dict[tuple[str, bool], Sequence[Span] | None] = {}
        self.looks = 0

    # --- what is drawn

    def _moment(self) -> datetime:
        return self.begin + EVERY * self.lots.randint(0, int(LASTS / EVERY))

    def _stretches(self, chance: float, hours: int) -> Iterator[Span]:
        for _ in range(3):
            if self.lots.random() < chance:
                begin = self._moment()
                yield Span(begin=begin, end=begin + timedelta(hours=self.lots.uniform(0.5, hours)))

    def _troubles(self) -> Iterator[tuple[str, Span, str]]:
        for name in self.names:
            for span in self._stretches(0.3, 20):
                yield name, span, self.lots.choice(("check", "consent", "error"))

    def _changes(self) -> Iterator[tuple[datetime, Any]]:
        lots = self.lots
        for _ in range(lots.randint(1, 6)):
            at = self._moment()
            for _ in range(lots.choice((1, 1, 2, 4, 6))):
                yield at, self._a_person_decides
        for _ in range(lots.randint(0, 4)):
            yield self._moment(), self._an_aim_changes
        for _ in range(lots.randint(0, 12)):
            yield self._moment(), self._a_person_at_a_roll
        for n in range(int(LASTS / timedelta(hours=2))):  # somebody looks at what stopped, more or less soon
            if lots.random() < 0.3:
                yield self.begin + timedelta(hours=2 * n, minutes=5 * lots.randint(0, 23)), self._a_person_mends
        if lots.random() < 0.2:
            name, gone = lots.choice(self.names), self._moment()
            yield gone, lambda: self._leave_out(name)
            yield gone + timedelta(hours=lots.uniform(1, 60)), lambda: self._leave_out(None)
        if lots.random() < 0.2:
            product, gone = f"t/{lots.choice(self.names)}", self._moment()
            yield gone, lambda: self.catalogs.discard(product)
            yield gone + timedelta(hours=lots.uniform(1, 60)), lambda: self.catalogs.add(product)

    def _leave_out(self, name: str | None) -> None:
        kept = {n: s for n, s in self.whole.systems.items() if n != name}
        self.estate = replace(self.whole, systems=kept)

    def _an_aim_changes(self) -> None:
        key = self.lots.choice(sorted(self.wants))
        self.wants[key] = self.lots.choice(("1.0", "1.1", "1.2"))

    # --- people

    def write(self, by: str, kind: str, subject: str, **more: Any) -> None:
        self.ledger.append(LedgerEntry(at=self.at, by=by, host="desk", kind=kind, subject=subject, **more))

    def _a_person_decides(self) -> None:
        lots, open_now = self.lots, self.notices()
        if not open_now:
            return
        n, who = lots.choice(open_now), lots.choice(PEOPLE)
        if n.state == "under way":
            return
        word = lots.choice(("book", "book", "book", "book", "accept", "cancel", "skip", "reopen", "assign"))
        if word == "book":
            self._book(n, who)
        elif word == "skip":
            day = (self.at + timedelta(days=lots.randint(1, 5))).date()
            self.write(who, "skip", n.name, target=n.target, until=f"{day}", reason="busy")
        elif word == "assign":
            self.write(who, "assign", n.name, target=n.target, person=lots.choice(PEOPLE))
        elif word != "cancel" or n.state in ("booked", "overdue"):
            self.write(who, word, n.name, target=n.target)

    def _book(self, n: Notice, who: str) -> None:
        """In a window of its system, as a booking is taken."""
        lots, spans = self.lots, self.spans(n.system)
        start = self.at + EVERY * lots.choice((1, 12, lots.randint(1, 500)))
        if spans is not None and open_at(spans, start) is None:
            following = next_after(spans, start)
            if following is None:
                return
            start = following.begin + EVERY * lots.choice((0, 0, 1, 6))
            if open_at(spans, start) is None:
                return
        lasting = EVERY * lots.choice((3, 12, 24, 60, 120)) if lots.random() < 0.8 else self.needs[n.system]
        self.write(who, "book", n.name, target=n.target, start=start, end=start + lasting)

    def _a_person_mends(self) -> None:
        """Carries on what rests, or ends it for good."""
        resting = [r for r in self.rolls if r.is_open and r.stands != due.RUNNING]
        if resting:
            roll = self.lots.choice(resting)
            if self.lots.random() < 0.5:
                roll.stands = due.RUNNING
            else:
                roll.stands, roll.ended = due.ENDED, self.at

    def _a_person_at_a_roll(self) -> None:
        lots, who = self.lots, self.lots.choice(PEOPLE)
        free = [n for n in self.notices() if self.in_the_way(n.system) is None and n.target]
        if free:
            n = lots.choice(free)
            if self.is_open(n.system):
                self.start(self.plan_of([(n.system, n.component, n.target or "")]), who)

    # --- the world's own

    def now(self) -> datetime:
        return self.at

    def spans(self, system: str) -> Sequence[Span] | None:
        key = (system, system in self.estate.systems)
        if key not in self._spans:
            until = self.begin + LASTS + QUIET + timedelta(days=14)
            self._spans[key] = windows_of(self.whole, self.whole.systems[system], self.begin - timedelta(days=2), until)
        return self._spans[key]

    def is_open(self, system: str) -> bool:
        spans = self.spans(system)
        return spans is None or open_at(spans, self.at) is not None

    def notices(self, everything: bool = False) -> list[Notice]:
        every = [self._wanted(s, p, to) for (s, p), to in sorted(self.wants.items()) if self._is_behind(s, p)]
        work = {
            name: NoticeWork(roll=r.id, began=r.began, end=None, finished=False)
            for r in self.rolls
            if r.is_open
            for name in r.systems
        }
        decided = [e for e in self.ledger if e.kind in DECISIONS]
        found = notices(every, decided, {}, work, {}, self.at)
        return [n for n in found if everything or not n.rank[0]]

    def _is_behind(self, system: str, part: str) -> bool:
        known = system in self.estate.systems and f"t/{system}" in self.catalogs
        return known and self.runs[system, part] < self.wants[system, part]

    def _wanted(self, system: str, part: str, to: str) -> Wanted:
        acts = self.security[system, part] and bool(self.whole.rules)
        return Wanted(
            name=f"{system}:{part}",
            system=system,
            component=part,
            product=f"t/{system}",
            nodes=(f"{system}/a",),
            installed=(self.runs[system, part],),
            target=to,
            standing="behind",
            severity=self.severity[system, part],
            security=self.security[system, part],
            restart="node",
            reason="",
            decision=Decision(then=ACT if acts else "ask", rule=1 if acts else None, words="security"),
            length_s=self.needs[system].total_seconds(),
        )

    def in_the_way(self, system: str) -> GallantError | None:
        barring = next((r for r in self.rolls if r.is_open and system in r.systems), None)
        return Refused(f"{barring.id} of {system} is open") if barring is not None else None

    def is_booked_for_now(self, plan: str) -> bool:
        """A roll asks for itself whether it is booked for another time."""
        own = {f"{system}:{part}" for system, part, _ in self.plans[plan]}
        booked = [n for n in self.notices() if n.name in own and n.state in ("booked", "overdue") and n.start and n.end]
        return all(n.start <= self.at <= n.end for n in booked if n.start and n.end)

    def plan_of(self, brings: Iterable[tuple[str, str, str]]) -> str:
        name = f"plan-{len(self.plans) + 1:04}"
        self.plans[name] = tuple(brings)
        return name

    def start(self, plan: str, by: str) -> SimRoll:
        lots, brings = self.lots, frozenset(self.plans[plan])
        needs = max(self.needs[system] for system, _, _ in brings)
        roll = SimRoll(f"roll-{len(self.rolls) + 1:04}", plan, self.at, brings, needs, by)
        if lots.random() < 0.4:
            roll.dies_at = sorted(needs * lots.random() for _ in range(lots.choice((1, 1, 2, 6))))
        if lots.random() < 0.3:
            roll.stops_at = needs * lots.random()
        self.rolls.append(roll)
        self.judge.began(self.at, roll.id, by, roll.brings, self.rolls, self.estate)
        return roll

    def work(self) -> None:
        """Five minutes of every roll that a process carries out; it holds where a window ends."""
        for roll in (r for r in self.rolls if r.stands == due.RUNNING):
            shut = [s for s in roll.systems if not self._has_room(s)]
            if shut:
                self._hold(roll, shut)
                continue
            self.judge.disturbed(roll.id, roll.systems, self.at, self.at + EVERY)
            roll.done += EVERY
            if roll.dies_at and roll.done >= roll.dies_at[0]:
                roll.dies_at.pop(0)
                roll.stands = due.CUT
            elif roll.stops_at is not None and roll.done >= roll.stops_at:
                roll.stands, roll.stops_at = due.STOPPED, None
            elif roll.done >= roll.needs:
                self._finish(roll)

    def _has_room(self, system: str) -> bool:
        spans = self.spans(system)
        here = open_at(spans, self.at) if spans is not None else None
        return spans is None or (here is not None and self.at + EVERY <= here.end)

    def _hold(self, roll: SimRoll, shut: Sequence[str]) -> None:
        following = [next_after(self.spans(system) or (), self.at) for system in shut]
        roll.stands = due.HELD
        roll.opens = max((span.begin for span in following if span is not None), default=None)
        if self.estate.due.rests and roll.opens is not None:
            self.write("due", "book", roll.id, target=roll.plan, start=roll.opens)

    def _finish(self, roll: SimRoll) -> None:
        roll.stands, roll.ended = due.FINISHED, self.at
        for system, part, version in roll.brings:
            self.runs[system, part] = version
        for system, part, version in sorted(roll.brings):
            if not self._is_behind(system, part):
                self.write("roll", CLOSE, f"{system}:{part}", target=version, state=ENDED, reason=roll.id)

    def is_in(self, spans: Iterable[Span]) -> bool:
        return any(span.begin <= self.at < span.end for span in spans)

    # --- five minutes after five minutes

    def live(self) -> Judge:
        while self.at < self.begin + LASTS + QUIET:
            self.change()
            quiet = self.at >= self.begin + LASTS
            if quiet or not self.is_in(self.asleep):
                self.work()
                if self.at.minute % 15 == 0 if quiet else not self.is_in(self.stuck):
                    self.look(quiet)
            self.at += EVERY
        self.judge.close(self.at, self.ledger, self.rolls)
        return self.judge

    def change(self) -> None:
        while self.changes and self.changes[0][0] <= self.at:
            self.changes.pop(0)[1]()

    def look(self, quiet: bool) -> None:
        self.looks += 1
        lots = self.lots
        dies = lots.randint(1, 5) if not quiet and lots.random() < 0.2 else 0
        halts = lots.randint(1, 4) if not quiet and lots.random() < 0.1 else 0
        desk, begun = SimDesk(self, dies, halts), self.at
        try:
            seen = asyncio_free(turn.due(desk))
        except Died:
            self.judge.died(self.at)
            return
        self.judge.looked(
            begun, self.at, seen.exit_code, [(row.subject, row.why) for row in seen.rows if row.did == turn.LEFT]
        )


def asyncio_free(going: Any) -> Any:
    """What a coroutine gives that waits for nothing: without a loop, for its speed."""
    try:
        going.send(None)
    except StopIteration as end:
        return end.value
    raise AssertionError("a look of the made-up world waits for something")


class SimDesk:
    """The engine's `Desk`. At the `dies`-th thing that it does the process is
    killed, before or after it; at the `halts`-th it stands still for hours."""

    def __init__(self, week: Week, dies: int, halts: int) -> None:
        self.week, self.dies, self.halts, self.did = week, dies, halts, 0
        self.estate = week.estate

    def _does(self, thinks: bool = False) -> Iterator[None]:
        """Once, with what may happen to it; people change their minds while it `thinks`."""
        self.did += 1
        after = self.week.lots.random() < 0.5
        if self.did == self.halts:
            self._stand_still(thinks)
        if self.did == self.dies and not after:
            raise Died
        yield
        if self.did == self.dies:
            raise Died

    def _stand_still(self, thinks: bool) -> None:
        """Stopped, as by SIGSTOP: the world goes on without any look, since this one has the lock."""
        for _ in range(self.week.lots.randint(1, 60)):
            self.week.at += EVERY
            self.week.work()
            if thinks:
                self.week.change()

    def now(self) -> datetime:
        return self.week.at + timedelta(seconds=self.did)

    def said(self, kinds: Sequence[str]) -> list[LedgerEntry]:
        return [e for e in self.week.ledger if e.kind in kinds]

    def record(self, kind: str, subject: str, **more: Any) -> None:
        for _ in self._does():
            self.week.write("due", kind, subject, **more)

    def notices(self, everything: bool = False) -> Sequence[Notice]:
        return self.week.notices(everything)

    def has_product(self, name: str) -> bool:
        return name in self.week.catalogs

    def spans(self, system: str, now: datetime) -> Sequence[Span] | None:
        return self.week.spans(system)

    def open_rolls(self) -> Sequence[OpenRoll]:
        return [
            OpenRoll(
                id=r.id, plan=r.plan, began=r.began, systems=r.systems, stands=r.stands, opens=r.opens, left=r.systems
            )
            for r in self.week.rolls
            if r.is_open
        ]

    def rolls(self) -> Sequence[EndedRoll]:
        return [EndedRoll(id=r.id, began=r.began, ended=r.ended, systems=r.systems) for r in self.week.rolls]

    def has_finished(self, roll: str) -> bool:
        return any(r.id == roll and r.stands == due.FINISHED for r in self.week.rolls)

    def rolled(self, systems: Collection[str], since: datetime) -> Iterable[due.Rolled]:
        return [
            due.Rolled(id=r.id, began=r.began, brings=r.brings, stands=r.stands)
            for r in self.week.rolls
            if r.began >= since and set(r.systems) & set(systems)
        ]

    def brought(self, systems: Collection[str]) -> Collection[tuple[str, str, str]]:
        return {one for r in self.week.rolls for one in r.brings if one[0] in systems}

    def in_the_way(self, system: str) -> GallantError | None:
        return self.week.in_the_way(system)

    def length_s(self, job: due.DueJob) -> float | None:
        return self.week.needs[job.system].total_seconds()

    def next_times(self, lapsed: Mapping[str, Collection[str]]) -> Mapping[str, datetime]:
        return {name: at for name in lapsed if (at := self._opens(name)) is not None}

    def _opens(self, name: str) -> datetime | None:
        spans, soon = self.week.spans(name), self.week.at + EVERY
        if spans is None or open_at(spans, soon) is not None:
            return soon
        following = next_after(spans, soon)
        return following.begin if following is not None else None

    def approved(self, jobs: Sequence[due.DueJob]) -> str | None:
        return None

    async def planned(self, jobs: Sequence[due.DueJob], given: Collection[str]) -> Ready:
        for _ in self._does(thinks=True):
            pass
        stuck = dict[str, tuple[str, str | None, int]]()
        for name, span, what in self.week.troubles:
            if any(job.system == name for job in jobs) and span.begin <= self.week.at < span.end:
                if what == "error":
                    raise Refused(f"{name} cannot be planned")
                stuck[name] = (f"{what} of {name}", None, 5)
        return Ready(plan=self.week.plan_of((j.system, j.component, j.target or "") for j in jobs), stuck=stuck)

    def last_entry(self) -> int:
        return len(self.week.ledger)

    def begin(self, plan: str, given: Collection[str], decided_at: int) -> Begun:
        begun = Begun(roll=None)
        for _ in self._does(thinks=True):
            own = {f"{system}:{part}" for system, part, _ in self.week.plans[plan]}
            newer = [e for e in self.week.ledger[decided_at:] if e.subject in own and e.kind in DECISIONS]
            if any(e.kind != "assign" for e in newer):
                return Begun(roll=None, said="somebody decided on it meanwhile", exit_code=5)
            systems = {system for system, _, _ in self.week.plans[plan]}
            shut = [system for system in sorted(systems) if not self.week.is_open(system)]
            barred = len(shut) == len(systems) or any(self.week.in_the_way(system) for system in systems)
            if barred or not self.week.is_booked_for_now(plan):
                return Begun(roll=None, said=f"no window of {', '.join(shut)} is open", exit_code=5)
            begun = Begun(roll=self.week.start(plan, "due").id)
        return begun

    def take_up(self, roll: str) -> Begun:
        for _ in self._does():
            one = next(r for r in self.week.rolls if r.id == roll)
            one.stands = due.RUNNING
        return Begun(roll=roll)

    def prepare(self, plan: str) -> None: ...

    def look_after(self, roll: str) -> None: ...

    async def tell(self, row: DueRow, text: str) -> None:
        for _ in self._does():
            self.week.judge.told(self.week.at, row.subject, row.why)

    def tried(self) -> dict[str, LastTry]:
        return dict(self.week.kept)

    def keep_tried(self, tried: Mapping[str, LastTry]) -> None:
        for _ in self._does():
            self.week.kept = dict(tried)


def one_week(seed: int) -> tuple[int, list[str], Counter[str]]:
    judge = Week(seed).live()
    return seed, judge.problems, judge.fates


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--runs", type=int, default=100)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--jobs", type=int, default=1)
    said = parser.parse_args()
    broken, fates = 0, Counter[str]()
    with ProcessPoolExecutor(said.jobs) as pool:
        for seed, problems, own in pool.map(one_week, range(said.seed, said.seed + said.runs), chunksize=4):
            fates += own
            broken += bool(problems)
            for problem in problems:
                print(f"{seed}: {problem}", flush=True)
    told = ", ".join(f"{count} {fate}" for fate, count in sorted(fates.items()))
    print(f"{said.runs} weeks from seed {said.seed}: {told}; {broken} broke a promise")
    return 1 if broken else 0


if __name__ == "__main__":
    sys.exit(main())
