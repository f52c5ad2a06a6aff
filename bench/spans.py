"""Stretches of time, and a view of a roll that keeps when it waited: for measurements that tell waiting from work."""

from __future__ import annotations

import io
from datetime import datetime

from gallant.views.roll.live import LinesShow

Span = tuple[float, float]


class Timing(LinesShow):
    """Keeps when the roll waited, and for which step."""

    def __init__(self) -> None:
        super().__init__(file=io.StringIO(), quiet=True)
        self.waits: list[tuple[str, Span]] = []

    def waiting(self, began: datetime, ended: datetime, step: str) -> None:
        self.waits.append((step, (began.timestamp(), ended.timestamp())))

    def apart(self, device: list[Span], lane: str = "") -> tuple[float, float]:
        """How long a lane (every one, where none is named) polled and
        saw to be steady while no device worked, in seconds."""
        own = [(step, span) for step, span in self.waits if step.startswith(lane)]
        polls = outside(union([span for step, span in own if ".steady" not in step]), device)
        return polls, outside(union([span for step, span in own if ".steady" in step]), device)


def union(spans: list[Span]) -> list[Span]:
    merged: list[Span] = []
    for began, ended in sorted(spans):
        if merged and began <= merged[-1][1]:
            merged[-1] = (merged[-1][0], max(merged[-1][1], ended))
        else:
            merged.append((began, ended))
    return merged


def length(spans: list[Span]) -> float:
    return sum(ended - began for began, ended in spans)


def outside(spans: list[Span], others: list[Span]) -> float:
    """How much of `spans` lies in none of `others`; both merged."""
    shared = sum(max(0.0, min(a[1], b[1]) - max(a[0], b[0])) for a in spans for b in others)
    return length(spans) - shared
