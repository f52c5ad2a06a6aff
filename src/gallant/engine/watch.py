"""The watch: samples of the service addresses all through the work, and the outages that they show, into the journal."""

from __future__ import annotations

from gallant.core import events as e
from gallant.core.events import Entry
from gallant.core.outages import Outage, Sample, Tally
from gallant.core.ports import Clock, Journal, Listener, Prober

LOOK_S = 0.1  # real seconds between looks at what the prober has


class Watch:
    """Reads a prober; writes each outage when it ends, and what is still out when the watch does."""

    def __init__(self, prober: Prober, journal: Journal, clock: Clock, listener: Listener) -> None:
        self.prober, self.journal, self.clock, self.listener = prober, journal, clock, listener
        self.tallies: dict[str, Tally] = {}
        self._ended = False

    async def run(self) -> None:
        """Until `finish`."""
        self.prober.start()
        while not self._ended:
            self.look()
            await self.clock.pause(LOOK_S)

    def look(self) -> None:
        for sample in self.prober.take():
            self._one(sample)

    def _one(self, sample: Sample) -> None:
        self.listener.sample(sample)
        self.tallies[sample.service], outage = self.tallies.get(sample.service, Tally()).after(sample)
        if outage is not None:
            self._write(outage)

    def _write(self, outage: Outage) -> None:
        entry = Entry(kind=e.OUTAGE, at=self.clock.now(), wall=self.clock.wall(), outage=outage)
        self.listener.event(self.journal.append(entry))

    async def finish(self) -> None:
        """Stop probing and write down what is still out."""
        self._ended = True
        await self.prober.stop()
        self.look()
        for tally in self.tallies.values():
            outage = tally.open_outage()
            if outage is not None:
                self._write(outage)

    def unanswered(self) -> list[str]:
        """Services whose newest sample failed."""
        return [name for name, tally in self.tallies.items() if tally.since is not None]
