"""What one run of a roll works with: what it is given, what the person wants of it, its journal, and how it can end."""

from __future__ import annotations

import asyncio
from collections import Counter
from collections.abc import Awaitable, Callable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from pathlib import PurePath
from typing import Any, Protocol, TypeVar

from gallant.core.errors import GallantError, Stopped
from gallant.core.estate.systems import Estate
from gallant.core.outages import Sample
from gallant.core.ports import Clock, Drivers, Journal, Listener, Prober, Releases, RestorePoints, Vault
from gallant.core.readings import Reading
from gallant.core.records import Record
from gallant.core.windows.rules import Span
from gallant.core.work import events as e
from gallant.core.work.events import Before, Entry, Event
from gallant.core.work.plan import Step
from gallant.engine.journal import RollState, after, replay

T = TypeVar("T")
# Of the lease: an intent that was written this long ago is not acted on any more, so another process that took the
# lease can go on.
SEND_WITHIN = 1 / 3


class AskAll(Protocol):
    """How several nodes are asked one thing: gives what every one
    of them says, or raises the first error in their order."""

    async def __call__(self, nodes: Sequence[str], ask: Callable[[str], Awaitable[T]]) -> dict[str, T]: ...


async def side_by_side(nodes: Sequence[str], ask: Callable[[str], Awaitable[T]]) -> dict[str, T]:
    """All at once; an error is raised once all have answered."""
    if len(nodes) == 1:
        return {nodes[0]: await ask(nodes[0])}
    answers = await asyncio.gather(*map(ask, nodes), return_exceptions=True)
    said: dict[str, T] = {}
    for node, answer in zip(nodes, answers, strict=True):
        if isinstance(answer, BaseException):
            raise answer
        said[node] = answer
    return said


class Hears:
    """Whoever wants to know what the engine reads; here, nobody. `rest`: a hop
    has ended, or a lane. `late`: a step is over its time and goes on."""

    def reading(self, reading: Reading) -> None: ...

    def rest(self) -> None: ...

    def late(self, step: Step, words: str) -> None: ...


@dataclass(frozen=True)
class Means:
    """Everything the engine is given from outside."""

    estate: Estate
    clock: Clock
    drivers: Drivers
    vault: Vault
    restore_points: RestorePoints
    releases: Releases
    prober: Prober
    journal: Journal
    listener: Listener
    before: Mapping[str, Reading] = field(default_factory=dict)  # by node, as it was read before the roll began
    # By system and service as it is watched: the seconds that an answer took before the roll began.
    answered: Mapping[tuple[str, str], float] = field(default_factory=dict)
    ask_all: AskAll = side_by_side
    hears: Hears = field(default_factory=Hears)

    def same(self, product: str, a: str | None, b: str | None) -> bool:
        """Whether two texts name one release of a product, by whichever of its names."""
        if a is None or b is None:
            return False
        if a == b:
            return True
        known = self.releases.product(product)
        return known is not None and known.same(a, b)


class Orders(Record):
    """What the person wants of this run.

    `hold_after` is step, node, wave or hop; `answers` say what open steps came to; `again` are steps that were done and
    whose effect is gone, to be done once more. `hold_at` is when it is to hold; `stop_others`: a lane that stops has
    the others hold too. `windows` are, by the system of a lane, when it may be disturbed; one that is not in there may
    be at any time. Those of `booked` are what somebody booked, where the estate says nothing.
    """

    by: str
    hold_after: str | None = None
    consents: tuple[str, ...] = ()
    answers: dict[str, bool] = {}
    again: tuple[str, ...] = ()
    hold_at: datetime | None = None
    stop_others: bool = False
    windows: dict[str, tuple[Span, ...]] = {}
    booked: frozenset[str] = frozenset()


class End(Record):
    """How a run, or one lane of it, ended: finished, held or stopped.

    `resumes`: `next` itself says how the roll is carried on. `remarks` are for anyone who looks, and change nothing.
    `waits`: it is held for nothing but a window; `opens` is when the next one begins that is long enough.
    """

    state: str
    message: str
    next: str | None = None
    resumes: bool = False
    remarks: tuple[str, ...] = ()
    waits: bool = False
    opens: datetime | None = None


class Hold(Exception):
    """The lane pauses here, at a safe stop; or where somebody wants it at once, with `unsafe` nodes in the middle of
    something. `waits`: for a window, its own or that of one it needs; `opens` is when its own begins."""

    def __init__(
        self, reason: str, unsafe: Sequence[str] = (), waits: bool = False, opens: datetime | None = None
    ) -> None:
        super().__init__(reason)
        self.unsafe, self.waits, self.opens = tuple(unsafe), waits, opens


class WayOn(Stopped):
    """The lane stops here, and `next` itself says how the roll is carried on from here."""


class Unknown(WayOn):
    """Whether an act took effect is not known, and cannot be found out; a person has to say."""


def in_words(error: Exception) -> str:
    """An error for a person. Of one that is not Gallant's own its kind and its place alone: its text may hold a
    secret."""
    if isinstance(error, GallantError):
        return error.what.rstrip(".")
    frame = error.__traceback__
    while frame is not None and frame.tb_next is not None:
        frame = frame.tb_next
    if frame is None:
        return type(error).__name__
    return f"{type(error).__name__} at {PurePath(frame.tb_frame.f_code.co_filename).name}:{frame.tb_lineno}"


def awake(clock: Clock) -> datetime:
    """Estate time that stands still while this process does: by it deadlines, patience and silence are measured. So
    what ran out while nobody looked is looked at once more, by a request that was made after that."""
    return clock.now() - timedelta(seconds=clock.estate_s(clock.stood_s()))


class Shielded:
    """A listener that cannot reach back: the first error in it is kept for a remark."""

    def __init__(self, listener: Listener) -> None:
        self._listener = listener
        self.failed: str | None = None

    def _tell(self, say: Callable[[Listener], None]) -> None:
        try:
            say(self._listener)
        except Exception as error:  # whatever it is, the work goes on
            self.failed = self.failed or (
                f"What shows the roll failed ({in_words(error)}); the journal has what was not shown."
            )

    def event(self, event: Event) -> None:
        self._tell(lambda it: it.event(event))

    def progress(self, step: str, percent: float, message: str) -> None:
        self._tell(lambda it: it.progress(step, percent, message))

    def unanswered(self, step: str, what: str) -> None:
        self._tell(lambda it: it.unanswered(step, what))

    def sample(self, sample: Sample) -> None:
        self._tell(lambda it: it.sample(sample))

    def waiting(self, began: datetime, ended: datetime, step: str) -> None:
        self._tell(lambda it: it.waiting(began, ended, step))


class Log:
    """The journal as this run writes it, and the state that its entries add up to."""

    def __init__(self, journal: Journal, clock: Clock, listener: Listener, by: str) -> None:
        self.journal, self.clock, self.listener, self.by = journal, clock, listener, by
        self.state = RollState()
        self.entries: Counter[str] = Counter()  # by system, how many this run has written about its steps
        self._stood: dict[str, float] = {}  # by step, how long this process had stood still when it was begun

    def read(self) -> list[Event]:
        events = self.journal.events()
        self.state = replay(events)
        return events

    async def write(self, kind: str, step: Step | None = None, **said: object) -> Event:
        """Write one entry of this moment, about a step or about the roll; `said` are the entry's other fields."""
        about, now = None if step is None else step.id, self.clock.now()
        fields: dict[str, Any] = {**said, "kind": kind, "at": now, "wall": self.clock.real(), "step": about}
        event = await self.journal.append(Entry(**fields), None if step is None else step.system)
        self.state = after(self.state, event)
        if step is not None:
            self.entries[step.system] += 1
        self.listener.event(event)
        return event

    async def intent(self, step: Step, before: Before) -> Event:
        self._stood[step.id] = self.clock.stood_s()
        return await self.write(e.INTENT, step, before=before, attempt=self.state.step(step.id).attempts + 1)

    async def outcome(self, step: Step, result: str, message: str, handle: str | None = None) -> None:
        await self.write(e.OUTCOME, step, result=result, message=message, handle=handle, stood_s=self.stood_s(step))

    def stood_s(self, step: Step) -> float:
        """For how long (estate s) this process has stood still since it began the step."""
        stood_s = self.clock.stood_s()
        return round(self.clock.estate_s(stood_s - self._stood.get(step.id, stood_s)), 1)

    async def word(self, step: Step, kind: str, result: str | None, message: str) -> None:
        """A person's word on a step, written down as what it is."""
        await self.write(kind, step, result=result, by=self.by, message=message)
