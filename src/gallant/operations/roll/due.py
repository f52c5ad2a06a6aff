"""Doing by itself what is due: safe to call every minute, and twice at
once. Whatever takes long is begun in a process of its own."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence
from datetime import datetime, timedelta
from typing import Unpack

import msgspec

from gallant.core.decide.consents import consents_needed
from gallant.core.decide.due import CUT, ENDED, FINISHED, HELD, RUNNING, STOPPED, DueJob, Rolled
from gallant.core.decide.ledger import FAILED, EntryFields, LedgerEntry
from gallant.core.decide.notices import Notice
from gallant.core.errors import GallantError
from gallant.core.estate.calendar import windows_of
from gallant.core.estate.systems import Estate
from gallant.core.windows.rules import AHEAD, Span
from gallant.core.work.events import RollRow
from gallant.core.work.plan import Plan, steps_of
from gallant.disk import put_whole
from gallant.engine import turn
from gallant.engine.desk import Begun, DueLook, DueRow, EndedRoll, LastTry, OpenRoll, Ready, Why
from gallant.engine.journal import RollState, replay
from gallant.operations.assess.plannable import open_roll
from gallant.operations.decide import notices
from gallant.operations.decide.approving import asked_for
from gallant.operations.ground.alone import alone, is_told, mark_told
from gallant.operations.ground.deciding import record
from gallant.operations.ground.workplace import Workplace
from gallant.operations.keep import stock
from gallant.operations.plan.again import next_times
from gallant.operations.plan.approved import approved_plan
from gallant.operations.plan.booking import stretches
from gallant.operations.plan.loading import load_plan
from gallant.operations.plan.making import PartChoice, Planned, foreseen, plan
from gallant.operations.roll.detaching import begin, detach
from gallant.operations.roll.notifying import message_of, notify
from gallant.store.database import state_folder

SAMPLED_FOR = "10m"  # of what a roll left behind
IN_STOCK = "stock"  # the check that misses what can be fetched
# How a roll that no process carries out stands, by its journal.
STANDS = {"open": CUT, "held": HELD, "stopped": STOPPED, "ended": ENDED, "finished": FINISHED}
TRIED = "due.json"  # in state/: when what could not start was tried last; nothing is lost with it


def to_come(place: Workplace) -> DueLook:
    """What is due and what will be, as it stands now; nothing is begun."""
    return turn.to_come(PlaceDesk(place))


async def due(place: Workplace) -> DueLook:
    """Begin what is due, inside of its windows and after fresh checks; what is left is told once, with the reason."""
    async with alone(place) as other:
        if other is None:
            return await turn.due(PlaceDesk(place))
    if not other.hangs:
        return DueLook(busy=True)
    if not is_told(place, other):
        record(place, "due", "due", state=FAILED, reason=other.trouble)
        await notify(place, message_of(place, "no roll", (), "stopped", other.trouble, other.way_out))
        mark_told(place, other)  # last: who is killed before it has them told once more, and not never
    return DueLook(busy=True, hangs=other.trouble, way_out=other.way_out)


class PlaceDesk:
    """The engine's `Desk`: an estate's folder, its stores, and processes of their own for what takes long."""

    def __init__(self, place: Workplace) -> None:
        self.place = place

    @property
    def estate(self) -> Estate:
        return self.place.estate

    def now(self) -> datetime:
        return self.place.clock.now()

    def said(self, kinds: Sequence[str]) -> list[LedgerEntry]:
        return [kept.entry for kept in self.place.ledger.about(kinds)]

    def last_entry(self) -> int:
        return self.place.ledger.last()

    def record(self, kind: str, subject: str, **more: Unpack[EntryFields]) -> None:
        record(self.place, kind, subject, **more)

    def notices(self, everything: bool = False) -> Sequence[Notice]:
        return notices.listed(self.place, [], everything=everything).notices

    def has_product(self, name: str) -> bool:
        return name in self.place.products

    def spans(self, system: str, now: datetime) -> Sequence[Span] | None:
        return windows_of(self.estate, self.estate.systems[system], now - timedelta(days=1), now + AHEAD)

    # --- rolls

    def open_rolls(self) -> Sequence[OpenRoll]:
        return [self._open(row) for row in self.place.journal.open_rolls()]

    def _open(self, row: RollRow) -> OpenRoll:
        state = replay(self.place.journal.events(row.id))
        return OpenRoll(
            id=row.id,
            plan=row.plan.id,
            began=row.began,
            systems=tuple(row.plan.systems),
            stands=RUNNING if self.place.journal.is_running(row.id) else STANDS[state.state],
            opens=state.opens,
            left=tuple(_worked_on(row.plan, state)),
        )

    def rolls(self) -> Sequence[EndedRoll]:
        return [
            EndedRoll(id=row.id, began=row.began, ended=row.ended, systems=tuple(row.plan.systems))
            for row in self.place.journal.rolls()[0]
        ]

    def has_finished(self, roll: str) -> bool:
        return STANDS[replay(self.place.journal.events(roll)).state] == FINISHED

    def rolled(self, systems: Collection[str], since: datetime) -> Iterator[Rolled]:
        for row in (row for row in self.place.journal.rolls(systems)[0] if row.began >= since):
            yield Rolled(
                id=row.id,
                began=row.began,
                brings=frozenset(notices.brought_by(row.plan)),
                stands=RUNNING if row.ended is None and self.place.journal.is_running(row.id) else self._stands(row),
            )

    def brought(self, systems: Collection[str]) -> Collection[tuple[str, str, str]]:
        return {one for row in self.place.journal.rolls(systems)[0] for one in notices.brought_by(row.plan)}

    def _stands(self, row: RollRow) -> str:
        return STANDS[replay(self.place.journal.events(row.id)).state]

    def in_the_way(self, system: str) -> GallantError | None:
        return open_roll(self.place, self.estate.systems[system])

    # --- plans

    def length_s(self, job: DueJob) -> float | None:
        try:
            needed = stretches(foreseen(self.place, {job.system: (job.component,)})[0])
        except GallantError:
            return None
        return max(needed, default=0.0) if self.estate.due.rests else sum(needed)

    def next_times(self, lapsed: Mapping[str, Collection[str]]) -> Mapping[str, datetime]:
        try:
            return next_times(self.place, lapsed)
        except GallantError:
            return {}

    def approved(self, jobs: Sequence[DueJob]) -> str | None:
        """None too where the estate asks for no approval of them: a fresh plan is better."""
        if not asked_for(self.place, {job.system for job in jobs}):
            return None
        return approved_plan(self.place, {(job.system, job.component, job.target) for job in jobs})

    async def planned(self, jobs: Sequence[DueJob], given: Collection[str]) -> Ready:
        """A plan of what is due; what can be fetched for it is fetched
        once, and what is still missing then is what stops it."""
        parts = {job.system: tuple(j.component for j in jobs if j.system == job.system) for job in jobs}
        fetched = set[str]()
        while True:
            made = await plan(self.place, list(parts), choice=PartChoice(of=parts), partly=True)
            if not (lacking := _lacking(made) - fetched):
                return Ready(plan=made.plan.id, stuck=await _in_the_way(self.place, made, jobs, given))
            await stock.fetch(self.place, sorted(lacking))
            fetched |= lacking

    # --- processes of their own

    def begin(self, plan: str, given: Collection[str], decided_at: int) -> Begun:
        made = load_plan(self.place, plan)
        wanted = dict.fromkeys(need.consent.words for need in consents_needed(made, ()) if need.consent.words in given)
        consents = [word for words in wanted for word in ("--consent", words)]
        words = ("roll", plan, "--detach", "--decided-at", str(decided_at), *consents)
        return self._detached(f"due-{plan}.log", *words)

    def take_up(self, roll: str) -> Begun:
        return self._detached(f"due-{roll}.log", "resume", roll, "--detach")

    def _detached(self, log: str, *words: str) -> Begun:
        done = detach(self.place, _words(self.place, *words), log)
        return Begun(roll=done.roll, said=done.said, exit_code=done.exit_code)

    def prepare(self, plan: str) -> None:
        words = _words(self.place, "plan", "--show", plan, "--prepare", "now")
        begin(self.place, words, f"prepare-{plan}.log")

    def look_after(self, roll: str) -> None:
        systems = self.place.journal.roll(roll).plan.systems
        words = _words(self.place, "verify", *systems, "--against", roll, "--settle", SAMPLED_FOR, "--tell")
        begin(self.place, words, f"verify-{roll}.log")

    # --- what was left

    async def tell(self, row: DueRow, text: str) -> None:
        systems = (row.subject.partition(":")[0],)
        message = message_of(self.place, row.roll or "no roll", systems, "stopped", text, row.next or "gallant due")
        await notify(self.place, message)

    def tried(self) -> dict[str, LastTry]:
        try:
            return msgspec.json.decode((state_folder(self.place.folder) / TRIED).read_bytes(), type=dict[str, LastTry])
        except (OSError, msgspec.MsgspecError, ValueError):
            return {}

    def keep_tried(self, tried: Mapping[str, LastTry]) -> None:
        put_whole(state_folder(self.place.folder) / TRIED, msgspec.json.encode(tried))


def _words(place: Workplace, *words: str) -> tuple[str, ...]:
    return (*words, "--estate", str(place.folder / place.path.name))


def _worked_on(plan: Plan, state: RollState) -> Iterator[str]:
    """The systems whose lane is not done."""
    for lane in plan.lanes:
        steps = (s for hop in lane.hops for s in steps_of(state.waves.get(hop.id, hop.waves)))
        if not all(state.step(step.id).done for step in steps):
            yield lane.system


def _lacking(planned: Planned) -> set[str]:
    """The systems of which a package of the way is not in stock."""
    return {finding.system for finding in planned.findings if finding.check == IN_STOCK and finding.level == "stop"}


async def _in_the_way(
    place: Workplace, planned: Planned, jobs: Sequence[DueJob], given: Collection[str]
) -> dict[str, Why]:
    """By system: why it did not start, for those of which something speaks against it."""
    made, first = planned.plan, {job.system: job.subject for job in reversed(jobs)}
    if planned.approvals:
        told = f"{made.id} needs the approval of {planned.approvals} other than {made.by}"
        return dict.fromkeys(first, (told, f"gallant approve {made.id}, by somebody else", 5))
    found = dict[str, Why]()
    for barred in planned.barred:
        found.setdefault(barred.system, (barred.what, barred.next, barred.exit_code))
    for finding in (f for f in planned.findings if f.level == "stop"):
        found.setdefault(finding.system, (f"{finding.message}: {finding.evidence}", finding.next, 5))
    for bar in planned.bars:
        found.setdefault(bar.notice.partition(":")[0], (bar.what, bar.next, 5))
    for need in planned.needs:
        if need.consent.words not in given:
            how = f"gallant notice book {first.get(need.lane, need.lane)} TIME --consent {need.consent.words}"
            found.setdefault(need.lane, (f"nobody has accepted it by name: {need.what}", how, 5))
    for name in first:
        if name not in made.systems:
            found.setdefault(name, ("nothing of it can be planned now", f"gallant plan {name}", 5))
    if not found and planned.to_fetch:
        fetched, _ = await stock.fetch(place, [], plan=made)
        for row in (row for row in fetched if row.state == "failed"):
            return dict.fromkeys(first, (row.error or f"{row.package} is not in stock", row.next, row.exit_code))
    return {name: why for name, why in found.items() if name in first}
