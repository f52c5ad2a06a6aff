"""The watch: samples of the service addresses all through the work, and the outages that they show, into the
journal."""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Iterator
from contextlib import contextmanager

from gallant.core.outages import Outage, Sample, Tally
from gallant.core.ports import Clock, Prober
from gallant.core.work import events as e
from gallant.engine.means import Log, Shielded

SILENT_S = 1.0  # real seconds: one probe that is lost on the way is no silence


class Watch:
    """Reads a prober; writes each outage when it ends, and what is still out when the watch does.

    An outage that cannot be written now is kept and written with the next: none is lost because the disk was full for a
    while.
    """

    def __init__(self, prober: Prober, log: Log, clock: Clock, listener: Shielded) -> None:
        self.prober, self.log, self.clock, self.listener = prober, log, clock, listener
        self.tallies: dict[str, Tally] = {}
        self._unwritten: list[Outage] = []
        self._systems = {watched.service: watched.system for watched in prober.watches if not watched.is_address}
        self._addresses = {w.service: w.system for w in prober.watches if w.is_address}  # nothing is judged by these
        self._going: Counter[str] = Counter()  # by system, the steps under way that take nodes of it away
        self._watched = {watched.service: watched for watched in prober.watches}
        self._over: dict[str, str] = {}  # by service, in words, that it was out for longer than it may
        self._moving: Counter[str] = Counter()  # by system, the moves of roles that are under way
        self._unexplained: Counter[str] = Counter()  # by service, the outages that began while nothing was moved
        self._hurried: frozenset[str] = frozenset()
        self._stood_s, self._looks_since = clock.stood_s(), 0.0  # since when (real) nobody was away
        self._started = self._ended = False

    async def run(self) -> None:
        """Until `finish`; may be started again after it failed."""
        if not self._started:
            self.prober.start()
            self._started = True
        while not self._ended:
            await self.look()
            await self.clock.pause(self.prober.pause_s)

    async def look(self) -> None:
        self._was_away()
        for sample in self.prober.take():
            self._one(sample)
        self._hurry()
        await self._write()

    def _was_away(self) -> None:
        """Whether this process stood still since it was asked last: what was out then may have come and gone."""
        if (stood_s := self.clock.stood_s()) > self._stood_s:
            self._stood_s, self._looks_since = stood_s, self.clock.real()

    def _hurry(self) -> None:
        """What may be nowhere just now, or is, is asked as often as it
        can be: an outage is known as exactly as it was looked at."""
        out = {name for name, tally in self.tallies.items() if tally.since is not None}
        moving = {name for name, system in self._systems.items() if self._moving[system]}
        moving |= {name for name, system in self._addresses.items() if self._going[system]}
        if (now := frozenset(out | moving)) != self._hurried:
            self._hurried = now
            self.prober.hurry(now)

    @contextmanager
    def moving(self, system: str) -> Iterator[None]:
        """While this lasts a service of the system may be nowhere for a moment."""
        self._moving[system] += 1
        self._hurry()
        try:
            yield
        finally:
            self._moving[system] -= 1

    @contextmanager
    def going(self, systems: Collection[str]) -> Iterator[None]:
        """While this lasts nodes of these systems are away: when they went and came is looked at closely."""
        self._going.update(systems)
        self._hurry()
        try:
            yield
        finally:
            self._going.subtract(systems)

    def _one(self, sample: Sample) -> None:
        if sample.service not in self._addresses:  # no service: for how long it was away is told when it is over
            self.listener.sample(sample)
        before = self.tallies.get(sample.service, Tally())
        newest = before.last or before.answered
        unseen = newest is not None and newest.real < self._looks_since <= sample.real
        self.tallies[sample.service], outage = before.after(sample, unseen)
        self._spend(sample)
        if (
            before.since is None
            and not sample.ok
            and sample.service in self._systems
            and not self._moving[self._systems[sample.service]]
        ):
            self._unexplained[sample.service] += 1
        if outage is not None:
            self._unwritten.append(outage)

    def _spend(self, sample: Sample) -> None:
        """Hold a service's outage, also one that goes on, against what it may take."""
        watched = self._watched.get(sample.service)
        if watched is None or watched.budget_s is None or sample.ok:
            # that it was out until an answer came is not certain: it may have come back long before it was asked
            return
        certain = self.tallies[sample.service].certain_s
        out = certain if watched.unscaled else self.clock.estate_s(certain)
        if out > watched.budget_s:
            self._over[sample.service] = (
                f"{sample.service} was out for {out:.3g} s, and may be for {watched.budget_s:g} s"
            )

    def over_budget(self, systems: Collection[str]) -> str | None:
        """A service of one of these systems that was out for longer than it may, in words."""
        return next((words for name, words in self._over.items() if self._systems[name] in systems), None)

    async def _write(self) -> None:
        while self._unwritten:
            outage = self._unwritten.pop(0)
            try:
                await self.log.write(e.OUTAGE, outage=outage)
            except BaseException:
                self._unwritten.insert(0, outage)
                raise

    async def finish(self) -> None:
        """Stop probing and write down what is still out."""
        self._ended = True
        await self.prober.stop()
        await self.look()
        self._unwritten += [o for tally in self.tallies.values() if (o := tally.open_outage()) is not None]
        await self._write()

    def silent(self, system: str) -> list[str]:
        """The system's services that have not answered for `SILENT_S`."""
        self._was_away()
        now = self.clock.real()
        return [
            name
            for name, tally in self.tallies.items()
            if self._systems.get(name) == system
            and tally.sure is not None
            and tally.sure.real >= self._looks_since
            and now - tally.sure.real >= SILENT_S
        ]

    def answers(self, system: str) -> dict[str, float]:
        """By service of the system the seconds that its newest good answer took."""
        return {
            name: tally.answer_s
            for name, tally in self.tallies.items()
            if self._systems.get(name) == system and tally.good
        }

    def flapping(self, system: str) -> dict[str, int]:
        """By service of the system, how often it was out in this run while no role was moved."""
        return {name: times for name, times in self._unexplained.items() if self._systems.get(name) == system}

    def unanswered(self, system: str) -> list[str]:
        """The system's services whose newest sample failed."""
        return [n for n, tally in self.tallies.items() if self._systems.get(n) == system and tally.since is not None]
