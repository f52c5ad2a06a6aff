"""Restore points: names that say why, when and who; how long they may live."""

from __future__ import annotations

import hashlib
import re
from collections.abc import Iterable, Mapping
from datetime import datetime, timedelta

from gallant.core.readings import Reading, Snapshot
from gallant.core.records import Record

DIGEST = 6
MOST_REASON, MOST_WHO = 33, 12  # so that a name has 60 characters at most: several kinds of devices take no longer ones


def snapshot_name(reason: str, by: str, now: datetime) -> str:
    """`before-3.2.4_20261125-2200_anna`: letters, digits, dots,
    dashes; anyone who meets it later knows what it was for."""
    return f"{_reason(reason) or 'no-reason'}_{now:%Y%m%d-%H%M}_{_slug(by, MOST_WHO) or 'somebody'}"


def roll_reason(roll: str, before: str = "") -> str:
    """Why a roll takes one; without the release that it precedes, how all of the roll's begin."""
    return f"{roll} before {before}"


def name_begins(reason: str) -> str:
    """How the names of all snapshots begin that were taken for this reason, whenever and by whomever."""
    return _reason(reason)


def is_for(name: str, reason: str) -> bool:
    """Whether a snapshot was taken for this very reason."""
    return name.rpartition("_")[0].rpartition("_")[0] == name_begins(reason)


def is_of_roll(name: str, roll: str) -> bool:
    """Whether a restore point was taken by a roll."""
    return name.startswith(name_begins(roll_reason(roll)) + "-")


def _reason(text: str) -> str:
    """Where a reason is too long for a name, its end is a digest: two hops never share a restore point."""
    if len(whole := _slug(text, len(text))) <= MOST_REASON:
        return whole
    digest = hashlib.sha256(text.encode("utf-8", "replace")).hexdigest()[:DIGEST]
    return f"{_slug(text, MOST_REASON - DIGEST - 1)}-{digest}"


def _slug(text: str, most: int) -> str:
    return re.sub(r"[^A-Za-z0-9.]+", "-", text).strip("-.")[:most].rstrip("-.")


class RestorePoint(Record):
    """A restore point of a system: which node keeps it, how long it has lived, and whether that is too long."""

    system: str
    keeper: str
    snapshot: Snapshot
    age: timedelta
    overdue: bool


def snapshots_of(
    system: str, own: Iterable[Reading], hosts: Mapping[str, Reading], now: datetime, limit: timedelta
) -> list[RestorePoint]:
    """A system's restore points, the oldest first: those of its own nodes, and those of it that hosts keep.

    `hosts` are readings of the machines that its nodes live on. One that several nodes of a cluster show is told once.
    """
    found: dict[tuple[str, datetime], RestorePoint] = {}
    rows = [(r.name, s) for r in own for s in r.snapshots or () if s.of is None]
    rows += [(name, s) for name, r in hosts.items() for s in r.snapshots or () if s.of == system]
    for keeper, snapshot in rows:
        age = now - snapshot.taken
        kept = RestorePoint(system=system, keeper=keeper, snapshot=snapshot, age=age, overdue=age > limit)
        found.setdefault((snapshot.name, snapshot.taken), kept)
    return sorted(found.values(), key=lambda k: k.age, reverse=True)
