"""Probe samples to outages: when a service address did not answer, and for how long."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime

from gallant.core.records import Record, replace


class Sample(Record):
    """One probe of one service. `at` is its start in estate time, `real` the same on the real monotonic clock (s)."""

    service: str
    at: datetime
    real: float
    ok: bool
    answer_s: float = 0
    why: str = ""


class Watched(Record):
    """A service that is probed, by the name that its samples have, and the system that has it. `budget_s` is for how long it may
    be out at a time, in seconds of estate time or, where it is `unscaled`, of real time."""

    system: str
    service: str
    budget_s: float | None = None
    unscaled: bool = False


class Outage(Record):
    """A stretch of failed probes of one service.

    `began` is the start of the first failed probe and `ended` that of the first good one after it, in estate time;
    an outage that is still open has `ended` None. `seconds` is their difference in estate time, `measured` in real
    time; the true length lies within one probe interval of it.
    """

    service: str
    began: datetime
    ended: datetime | None = None
    seconds: float | None = None
    measured: float | None = None
    why: str = ""


class Tally(Record):
    """What has been seen of one service so far: `since` is the first failed sample of an open outage, `answer_s` how long its newest good answer took."""

    since: Sample | None = None
    good: int = 0
    failed: int = 0
    answer_s: float = 0

    def after(self, sample: Sample) -> tuple[Tally, Outage | None]:
        """The tally with one more sample, and the outage that this sample ends."""
        if not sample.ok:
            return replace(self, since=self.since or sample, failed=self.failed + 1), None
        ended = None if self.since is None else _outage(self.since, sample)
        return replace(self, since=None, good=self.good + 1, answer_s=sample.answer_s), ended

    def open_outage(self) -> Outage | None:
        """The outage that no good sample has ended yet."""
        return (
            None if self.since is None else Outage(service=self.since.service, began=self.since.at, why=self.since.why)
        )


def _outage(first: Sample, good: Sample) -> Outage:
    return Outage(
        service=first.service,
        began=first.at,
        ended=good.at,
        seconds=(good.at - first.at).total_seconds(),
        measured=good.real - first.real,
        why=first.why,
    )


def outages(samples: Iterable[Sample]) -> list[Outage]:
    """Every outage in the samples of any services, in order of their start; open ones last of each service."""
    tallies: dict[str, Tally] = {}
    found: list[Outage] = []
    for sample in sorted(samples, key=lambda s: s.real):
        tallies[sample.service], ended = tallies.get(sample.service, Tally()).after(sample)
        if ended is not None:
            found.append(ended)
    found += [o for tally in tallies.values() if (o := tally.open_outage()) is not None]
    return sorted(found, key=lambda o: o.began)
