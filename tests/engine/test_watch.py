"""The watch over services: what its last look sees is written down too."""

from __future__ import annotations

import asyncio
from datetime import UTC, datetime, timedelta
from types import SimpleNamespace

import pytest

from gallant.core.outages import Sample, Watched
from gallant.engine.watch import Watch

NOW = datetime(2026, 11, 25, tzinfo=UTC)


class Probes:
    """Gives the samples of each look in turn."""

    pause_s = 0.1
    watches = (
        Watched(system="tickets", service="blocks"),
        Watched(system="tickets", service="seats"),
        Watched(system="spit", service="spit-blocks"),
    )

    def __init__(self, *looks: list[Sample]) -> None:
        self.looks = list(looks)

    def start(self) -> None: ...

    def hurry(self, services: frozenset[str]) -> None:
        self.hurried = [*getattr(self, "hurried", []), services]

    def take(self) -> list[Sample]:
        return self.looks.pop(0) if self.looks else []

    async def stop(self) -> None: ...


def clock(real=lambda: 9.0, stood_s=lambda: 0.0) -> SimpleNamespace:
    return SimpleNamespace(real=real, stood_s=stood_s, estate_s=lambda seconds: seconds)


def sample(second: float, ok: bool, service: str = "blocks", answer_s: float = 0.0) -> Sample:
    return Sample(service=service, at=NOW + timedelta(seconds=second), real=second, ok=ok, answer_s=answer_s)


def written(*looks: list[Sample]):
    told = []

    async def write(kind, **said):
        told.append((kind, said["outage"]))

    async def go():
        listener = SimpleNamespace(sample=lambda sample: None)
        watch = Watch(Probes(*looks), SimpleNamespace(write=write), clock(), listener)
        await watch.look()
        await watch.finish()
        return watch

    return asyncio.run(go()), told


def test_what_is_seen_only_after_the_probes_were_stopped_is_written_down():
    _, told = written([sample(0, True)], [sample(1, False), sample(2, True)])
    assert [kind for kind, _ in told] == ["outage"]


class Careful(Probes):
    watches = (Watched(system="tickets", service="blocks", budget_s=5), Watched(system="spit", service="spit-blocks"))


def watching(*looks: list[Sample]) -> tuple[Watch, Careful]:
    async def write(kind, **said): ...

    prober = Careful(*looks)
    listener = SimpleNamespace(sample=lambda sample: None)
    return Watch(prober, SimpleNamespace(write=write), clock(), listener), prober


def test_a_service_spends_of_its_budget_what_is_certain_and_no_more():
    async def over(*samples: Sample) -> str | None:
        watch, _ = watching(list(samples))
        await watch.look()
        return watch.over_budget(("tickets",))

    assert asyncio.run(over(sample(0, True), sample(30, False), sample(60, True))) is None  # out for a moment, perhaps
    assert "was out for 6 s" in asyncio.run(over(sample(0, False), sample(6, False), sample(7, True)))


def test_an_outage_over_a_halt_spends_and_lasts_for_certain_only_what_was_seen():
    """Out for a second, then nobody looks for twenty, then out for two more."""
    at, told = [0.0], []

    async def write(kind, **said):
        told.append(said["outage"])

    async def go() -> tuple[list[str], list[str], str | None]:
        looks = [
            [sample(0, True), sample(1, False), sample(2, False)],
            [sample(23, False), sample(25, False)],
            [sample(26, True)],
        ]
        listener = SimpleNamespace(sample=lambda sample: None)
        stood = clock(lambda: at[0], lambda: 20.0 if at[0] > 20 else 0.0)
        watch = Watch(Careful(*looks), SimpleNamespace(write=write), stood, listener)
        at[0] = 2.5
        await watch.look()
        before = watch.silent("tickets")
        at[0] = 22.5
        after = watch.silent("tickets")  # of what was out before the halt nothing is known now
        await watch.look()
        at[0] = 26.0
        await watch.look()
        return before, after, watch.over_budget(("tickets",))

    assert asyncio.run(go()) == (["blocks"], [], None)
    [outage] = told
    assert (outage.least, outage.most, outage.unseen) == (3.0, 26.0, True)


def test_what_falls_silent_after_a_halt_is_silent_however_seldom_anybody_asks():
    at = [0.0]

    async def go() -> list[str]:
        listener = SimpleNamespace(sample=lambda sample: None)
        stood = clock(lambda: at[0], lambda: 20.0)
        watch = Watch(
            Probes([sample(1, True)], [sample(3, False), sample(90, False)]), SimpleNamespace(), stood, listener
        )
        watch._stood_s = 0.0  # the halt came after it was made
        at[0] = 2.0
        await watch.look()
        at[0] = 90.0
        await watch.look()
        return watch.silent("tickets")

    assert asyncio.run(go()) == ["blocks"]


def test_what_is_out_or_about_to_move_is_asked_in_a_hurry_and_nothing_else():
    async def go() -> list[frozenset[str]]:
        watch, prober = watching([sample(0, True)], [sample(1, False)], [sample(2, True)])
        await watch.look()
        with watch.moving("spit"):
            await watch.look()
        await watch.look()
        return prober.hurried

    moved, both, none = asyncio.run(go())
    assert (moved, both, none) == ({"spit-blocks"}, {"spit-blocks", "blocks"}, set())


class Addressed(Probes):
    watches = (Watched(system="guest", service="guest/a", is_address=True), Watched(system="tickets", service="blocks"))


def test_a_nodes_own_address_tells_how_long_it_was_away_and_nothing_is_judged_by_it():
    told, prober = [], Addressed(
        [sample(0, True, "guest/a")],
        [sample(1, False, "guest/a"), sample(2, True, "guest/a"), sample(3, False, "guest/a"), sample(5, True, "guest/a")],
        [sample(6, False, "guest/a"), sample(8, False, "guest/a")],
    )  # fmt: skip

    async def write(kind, **said):
        told.append(said["outage"])

    async def go() -> Watch:
        listener = SimpleNamespace(sample=lambda sample: pytest.fail("it is shown among the services"))
        watch = Watch(prober, SimpleNamespace(write=write), clock(), listener)
        with watch.going({"guest"}):
            await watch.look()
            assert prober.hurried[-1] == {"guest/a"}
        await watch.look()
        assert prober.hurried[-1] == set()
        await watch.look()
        return watch

    watch = asyncio.run(go())
    assert [(o.service, o.seconds) for o in told] == [("guest/a", 1.0), ("guest/a", 2.0)]
    assert (watch.silent("guest"), watch.unanswered("guest"), watch.flapping("guest")) == ([], [], {})


def test_what_is_still_out_in_the_end_is_written_down():
    watch, told = written([sample(0, True)], [sample(1, False)])
    assert [kind for kind, _ in told] == ["outage"]
    assert watch.unanswered("tickets") == ["blocks"]


def test_of_each_system_only_its_own_services_tell_how_long_an_answer_takes_and_only_those_that_ever_gave_one():
    watch, _ = written(
        [sample(0, True, "blocks", 0.02), sample(0, False, "seats"), sample(0, True, "spit-blocks", 0.3)]
    )
    assert watch.answers("tickets") == {"blocks": 0.02}
    assert watch.answers("spit") == {"spit-blocks": 0.3}


def test_of_each_system_only_its_own_services_are_silent_or_come_and_go():
    looks = [
        sample(second, ok, service) for service in ("seats", "spit-blocks") for second, ok in ((0, True), (1, False))
    ]
    watch, _ = written(looks)
    assert (watch.silent("tickets"), watch.silent("spit")) == (["seats"], ["spit-blocks"])
    assert (watch.flapping("tickets"), watch.flapping("spit")) == ({"seats": 1}, {"spit-blocks": 1})


def test_probes_are_started_once_also_where_the_watch_has_to_begin_again():
    probes = Probes([sample(0, True)], [sample(1, False), sample(2, True)])
    started, written, errors = list[bool](), list[object](), [OSError("the disk is full")]
    probes.start = lambda: started.append(True)

    async def write(kind, outage):
        if errors:
            raise errors.pop()
        written.append(outage)

    async def pause(seconds):
        watch._ended = not probes.looks

    listener, clock = (
        SimpleNamespace(sample=lambda sample: None),
        SimpleNamespace(real=lambda: 9.0, pause=pause, stood_s=lambda: 0.0),
    )
    watch = Watch(probes, SimpleNamespace(write=write), clock, listener)
    with pytest.raises(OSError, match="full"):
        asyncio.run(watch.run())
    asyncio.run(watch.run())
    assert started == [True]
    assert len(written) == 1
