"""How long steps were announced and took: what is learned from, and what a plan says of it."""

from __future__ import annotations

from math import log
from typing import Any, TypeAlias

from gallant.core.readings import IMAGE
from gallant.core.records import Record

Array: TypeAlias = Any  # of NumPy, which is imported where something is computed

# What nine of ten steps take of which nothing was seen: all four spreads together, and the tails of the last.
UNKNOWN_P90 = 1.75
# What every order costs besides its work, so that a second that was
# announced for a small package does not speak of all others.
OVERHEAD_S = 20.0
MOST_OFF = log(30.0)  # beyond that it was another kind of work


class Observation(Record):
    """One step that was carried out: the seconds that were announced and taken. `cut`:
    it was given up then, and takes at least so long. `brought`: it was carried out on
    another estate, and says nothing of when a step is to be given up here."""

    product: str
    hop: str
    kind: str
    component: str
    system: str
    announced_s: float
    took_s: float
    cut: bool = False
    brought: bool = False

    @property
    def key(self) -> str:
        return pace_key(self.kind, self.component)

    @property
    def group(self) -> str:
        return f"{self.product} {self.hop} {self.key}"

    @property
    def ratio(self) -> float:
        """The logarithm of taken over announced, each with what every
        order costs; what is farther off is taken for as far."""
        return max(-MOST_OFF, min(MOST_OFF, log((self.took_s + OVERHEAD_S) / (self.announced_s + OVERHEAD_S))))


def taken(announced_s: float, factor: Array) -> Array:
    """The seconds that a step takes whose announced time is off by a factor (one, or one for each of many nights)."""
    return (announced_s + OVERHEAD_S) * factor - OVERHEAD_S


class Pace(Record):
    """By which factor of what is announced (see `taken`) a step takes in half of all cases, in nine of ten, and in all
    but one of a hundred; and of how many it is known. `here`: of how many that were carried out on this estate, which
    alone say what all but one of a hundred take (None: of all of them)."""

    p50: float
    p90: float
    p99: float
    seen: int = 0
    here: int | None = None


class Within(Record):
    """Seconds from the start until something is done: in half of all cases, and in nine of ten."""

    p50_s: float
    p90_s: float


class Spread(Record):
    """When each lane of a plan is done, and all of it; `seen` is how many steps that is known from."""

    whole: Within
    lanes: dict[str, Within]
    seen: int


def pace_key(kind: str, component: str = IMAGE) -> str:
    return kind if component == IMAGE else f"{kind} {component}"


def hop_key(from_: str, to: str) -> str:
    return f"{from_} > {to}"
