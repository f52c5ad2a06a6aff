"""Restore points: names that say why, when and who; how long they may live."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from datetime import datetime, timedelta

from gallant.core.readings import Reading, Snapshot
from gallant.core.records import Record

MOST_NAME = 60  # several kinds of devices take no longer ones


def snapshot_name(reason: str, by: str, now: datetime) -> str:
    """`before-3.2.4_20261125-2200_anna`: letters, digits, dots, dashes; whoever meets it later knows what it was for."""
    when, who = f"{now:%Y%m%d-%H%M}", _slug(by) or "somebody"
    why = _slug(reason)[: MOST_NAME - len(when) - len(who) - 2].rstrip("-.") or "no-reason"
    return f"{why}_{when}_{who}"


def _slug(text: str) -> str:
    return re.sub(r"[^A-Za-z0-9.]+", "-", text).strip("-.")[:40]


class Kept(Record):
    """A restore point of a system: which node keeps it, how long it has lived, and whether that is too long."""

    system: str
    keeper: str
    snapshot: Snapshot
    age: timedelta
    overdue: bool


def snapshots_of(
    system: str, own: Iterable[Reading], hosts: Mapping[str, Reading], now: datetime, limit: timedelta
) -> list[Kept]:
    """A system's restore points, the oldest first: those of its own nodes, and those of it that hosts keep.

    `hosts` are readings of the machines that its nodes live on. One that several nodes of a cluster show is told once.
    """
    found: dict[tuple[str, datetime], Kept] = {}
    rows = [(r.name, s) for r in own for s in r.snapshots or () if s.of is None]
    rows += [(name, s) for name, r in hosts.items() for s in r.snapshots or () if s.of == system]
    for keeper, snapshot in rows:
        age = now - snapshot.taken
        kept = Kept(system=system, keeper=keeper, snapshot=snapshot, age=age, overdue=age > limit)
        found.setdefault((snapshot.name, snapshot.taken), kept)
    return sorted(found.values(), key=lambda k: k.age, reverse=True)
