"""Figures for a collector, in the OpenMetrics text format (version 1.0.0): to a file, or served on this machine."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from datetime import datetime
from pathlib import Path
from typing import Any, TypeAlias

from gallant.core.errors import GallantError
from gallant.core.records import Record, clean
from gallant.disk import put_whole, why_not
from gallant.operations.after import history
from gallant.operations.assess import gaps
from gallant.operations.ground.workplace import Workplace
from gallant.operations.keep.backups import listed

Metric: TypeAlias = Any  # a family of the library's, whichever kind: each takes other values

LONGEST_LABEL = 120


class Figures:
    """What a collector is told, gathered each time that it asks: what is kept here is read, no node is contacted."""

    def __init__(self, folder: Path) -> None:
        self._path = folder

    def collect(self) -> Iterator[Metric]:
        place = Workplace(self._path)
        yield from _behind(place)
        yield from _rolls(place)
        yield from _ages(place)


def _family(kind: str, name: str, words: str, labels: tuple[str, ...] = (), unit: str = "") -> Metric:
    from prometheus_client import core

    made = {"gauge": core.GaugeMetricFamily, "counter": core.CounterMetricFamily}[kind]
    return made(f"gallant_{name}", words, labels=labels, unit=unit)


def _behind(place: Workplace) -> Iterator[Metric]:
    systems = _family(
        "gauge",
        "systems_behind",
        "Systems with a component that is behind its aim, by the worst severity.",
        ("severity",),
    )
    days = _family("gauge", "behind", "Days since the aim of a system's own software was out.", ("system",), "days")
    unread = _family("gauge", "nodes_unread", "Nodes of which nothing is known.")
    if place.estate.systems:
        result = gaps.assess(place, [])
        worst: dict[str, str] = {}
        for shown in result.shown:  # worst first
            if shown.gap.needs_work:
                worst.setdefault(shown.gap.reading.system, shown.gap.verdict.severity or "none")
        for severity, count in sorted(Counter(worst.values()).items()):
            systems.add_metric([severity], count)
        for lag in result.lags:
            if lag.days is not None:
                days.add_metric([_label(lag.system)], lag.days)
        unread.add_metric([], len(result.unread))
    yield from (systems, days, unread)


def _rolls(place: Workplace) -> Iterator[Metric]:
    runs, _ = history.history(place)
    totals = history.totals(place, runs)
    rolls = _family("gauge", "rolls", "Rolls by their state.", ("state",))
    for state in history.STATES:
        rolls.add_metric([state], totals.states.get(state, 0))
    outages = _family(
        "counter", "outage", "Seconds for which a service did not answer during rolls.", ("service",), "seconds"
    )
    seconds: dict[str, float] = {}
    for month in totals.outages:
        seconds[month.service] = seconds.get(month.service, 0.0) + month.seconds
    for service, total in sorted(seconds.items()):
        outages.add_metric([_label(service)], total)
    yield from (rolls, outages)


def _ages(place: Workplace) -> Iterator[Metric]:
    now = place.clock.now()
    survey = _family("gauge", "last_survey", "Seconds since every node was read or tried.", unit="seconds")
    held = [one.ended for one in place.readings.surveys() if one.ended is not None]
    if held:
        survey.add_metric([], _since(max(held), now))
    backup = _family(
        "gauge",
        "last_opened_backup",
        "Seconds since the newest backup of a system that was opened was taken.",
        ("system",),
        "seconds",
    )
    newest: dict[str, datetime] = {}
    for one in listed(place, []) if place.estate.systems else ():
        if one.opened is not None:
            newest[one.system] = max(newest.get(one.system, one.taken), one.taken)
    for system, taken in sorted(newest.items()):
        backup.add_metric([_label(system)], _since(taken, now))
    catalog = _family("gauge", "catalog_age", "Seconds since a catalog was fetched.", ("catalog",), "seconds")
    for source in place.readings.sources():
        if source.fetched is not None:
            catalog.add_metric([_label(source.name)], _since(source.fetched, now))
    yield from (survey, backup, catalog)


def _since(then: datetime, now: datetime) -> float:
    return max(0.0, (now - then).total_seconds())


def _label(text: str) -> str:
    return clean(text, LONGEST_LABEL)


def text_of(place: Workplace) -> bytes:
    """The figures as they are now."""
    from prometheus_client import CollectorRegistry
    from prometheus_client.openmetrics.exposition import generate_latest

    registry = CollectorRegistry(auto_describe=False)
    registry.register(Figures(place.path))
    raw: bytes = generate_latest(registry)  # type: ignore[no-untyped-call]
    return raw


class CollectorSample(Record):
    """One figure, as a collector reads it."""

    name: str
    labels: dict[str, str]
    value: float


def samples_of(raw: bytes) -> list[CollectorSample]:
    """The figures of a text, read back by the format's own parser."""
    from prometheus_client.openmetrics.parser import text_string_to_metric_families as families

    return [
        CollectorSample(name=s.name, labels=dict(s.labels), value=float(s.value))
        for family in families(raw.decode())  # type: ignore[no-untyped-call]
        for s in family.samples
    ]


def write(place: Workplace, path: Path) -> None:
    """Write them to a file, whole or not at all, readable for a collector of this machine."""
    try:
        put_whole(path, text_of(place))
        path.chmod(0o644)
    except OSError as error:
        raise GallantError(f"{path} cannot be written: {why_not(error, path)}.") from None
