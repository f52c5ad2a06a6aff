"""The watch over services: what its last look sees is written down too."""

from __future__ import annotations

import asyncio
from datetime import UTC, datetime, timedelta
from types import SimpleNamespace

from gallant.core.assess.outages import Sample, Watched
from gallant.engine.watch import Watch

NOW = datetime(2026, 11, 25, tzinfo=UTC)


class Probes:
    """Gives the samples of each look in turn."""

    pause_s = 0.1
    watches = (Watched(system="tickets", service="blocks"),)

    def __init__(self, *looks: list[Sample]) -> None:
        self.looks = list(looks)

    def start(self) -> None: ...

    def take(self) -> list[Sample]:
        return self.looks.pop(0) if self.looks else []

    async def stop(self) -> None: ...


def sample(second: float, ok: bool) -> Sample:
    return Sample(service="blocks", at=NOW + timedelta(seconds=second), real=second, ok=ok)


def written(*looks: list[Sample]):
    told = []

    async def write(kind, **said):
        told.append((kind, said["outage"]))

    async def go():
        listener = SimpleNamespace(sample=lambda sample: None)
        watch = Watch(Probes(*looks), SimpleNamespace(write=write), SimpleNamespace(real=lambda: 9.0), listener)
        await watch.look()
        await watch.finish()
        return watch

    return asyncio.run(go()), told


def test_what_is_seen_only_after_the_probes_were_stopped_is_written_down():
    _, told = written([sample(0, True)], [sample(1, False), sample(2, True)])
    assert [kind for kind, _ in told] == ["outage"]


def test_what_is_still_out_in_the_end_is_written_down():
    watch, told = written([sample(0, True)], [sample(1, False)])
    assert [kind for kind, _ in told] == ["outage"]
    assert watch.unanswered("tickets") == ["blocks"]
