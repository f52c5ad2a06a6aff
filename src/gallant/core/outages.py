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
    """A service that is probed, by the name that its samples have, and the system that has it; or a node's own address
    (`is_address`, by the node's name), which tells only for how long the node was away. `budget_s` is for how long it
    may be out at a time, in seconds of estate time or, where it is `unscaled`, of real time."""

    system: str
    service: str
    budget_s: float | None = None
    unscaled: bool = False
    is_address: bool = False


class Outage(Record):
    """A stretch of failed probes of one service.

    `began` is the start of the first failed probe and `ended` that of the first good one after it, in estate time; an
    outage that is still open has `ended` None. `seconds` is their difference in estate time, `measured` in real time.
    The true length in real time lies between `least`, from the first failed probe to the last, and `most`, from the
    last answer before to the first after it (None: nothing had answered before); how far apart they are is how often it
    was asked. `unseen`: for a while of it nobody looked, since this process stood still.
    """

    service: str
    began: datetime
    ended: datetime | None = None
    seconds: float | None = None
    measured: float | None = None
    why: str = ""
    least: float | None = None
    most: float | None = None
    unseen: bool = False


class Tally(Record):
    """What has been seen of one service so far: `since` is the first failed sample of an open outage and `last` its
    newest, `answered` the newest good one, `answer_s` how long that answer took. `sure` is the first failed sample
    since which nothing can have been missed, and `sure_s` for how long (real s) it was out for certain before that;
    `unseen`: in between nobody looked, or between the newest answer and the first failure."""

    since: Sample | None = None
    last: Sample | None = None
    sure: Sample | None = None
    sure_s: float = 0
    unseen: bool = False
    answered: Sample | None = None
    good: int = 0
    failed: int = 0
    answer_s: float = 0

    def after(self, sample: Sample, unseen: bool = False) -> tuple[Tally, Outage | None]:
        """The tally with one more sample, and the outage that this sample ends. `unseen`: nobody looked for a while
        before it, so that the service may have answered and gone again."""
        if not sample.ok:
            known = self if not unseen else replace(self, sure=None, sure_s=self.certain_s, unseen=True)
            first = self.since or sample
            return replace(known, since=first, last=sample, sure=known.sure or sample, failed=self.failed + 1), None
        ended = self._outage(sample, unseen)
        good = replace(
            self,
            since=None,
            last=None,
            sure=None,
            sure_s=0.0,
            unseen=False,
            answered=sample,
            good=self.good + 1,
            answer_s=sample.answer_s,
        )
        return good, ended

    @property
    def certain_s(self) -> float:
        """For how long (real s) the open outage goes on for certain:
        between failed samples with nobody away in between."""
        return self.sure_s + (
            self.last.real - self.sure.real if self.last is not None and self.sure is not None else 0.0
        )

    def _outage(self, good: Sample, unseen: bool) -> Outage | None:
        first, last = self.since, self.last
        if first is None:
            return None
        return Outage(
            service=first.service,
            began=first.at,
            ended=good.at,
            seconds=(good.at - first.at).total_seconds(),
            measured=good.real - first.real,
            why=first.why,
            least=0.0 if last is None else self.certain_s,
            most=None if self.answered is None else good.real + good.answer_s - self.answered.real,
            unseen=self.unseen or unseen,
        )

    def open_outage(self) -> Outage | None:
        """The outage that no good sample has ended yet."""
        return (
            None if self.since is None else Outage(service=self.since.service, began=self.since.at, why=self.since.why)
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
