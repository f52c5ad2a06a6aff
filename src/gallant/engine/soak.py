"""What is looked at while a round soaks: the numbers of its systems and how
fast their services answer, held against how they were before the roll."""

from __future__ import annotations

from collections import deque
from collections.abc import Awaitable, Callable, Iterable, Mapping

from gallant.core.after.picture import ANSWER
from gallant.core.after.settling import CREEPING, RUNNING_OUT, SETTLING, SLOWER, Judged, Point, Series, judge_all
from gallant.core.errors import GallantError
from gallant.core.ports import Clock
from gallant.core.readings import Reading

LOOKS = 30  # of one soak, and of one that goes on the newest so many
EVERY_S = (10.0, 300.0)  # of estate time: between two looks, at least and at most
HOLDS = (RUNNING_OUT, SLOWER, CREEPING)  # with which the next round does not begin
Key = tuple[str, str, str, str]


class Soak:
    """The looks of one soak. `read` reads the nodes of a system,
    `answers` gives the newest time to answer of its services (s)."""

    def __init__(
        self,
        clock: Clock,
        before: Mapping[str, Reading],
        answered: Mapping[tuple[str, str], float],
        read: Callable[[str], Awaitable[Mapping[str, Reading]]],
        answers: Callable[[str], Mapping[str, float]],
    ) -> None:
        """`before` and `answered` (by system and service) are from before the roll."""
        self.clock, self._before, self._answered = clock, before, answered
        self._read, self._answers = read, answers
        self._points: dict[Key, deque[Point]] = {}

    def pace_s(self, lasts_s: float) -> float:
        return min(max(lasts_s / LOOKS, EVERY_S[0]), EVERY_S[1])

    async def look(self, systems: Iterable[str]) -> None:
        """One look. A node that cannot be read now is no point; whether it is well is asked when the soak is over."""
        for system in systems:
            try:
                readings = await self._read(system)
            except GallantError:
                continue
            at = self.clock.now().timestamp()
            for r in readings.values():
                for g in r.gauges:
                    self._add((system, r.node, g.name, g.unit), at, g.value)
            for service, answer_s in self._answers(system).items():
                self._add((system, "", f"{ANSWER} {service}", "s"), at, answer_s)

    def _add(self, key: Key, at: float, value: float) -> None:
        self._points.setdefault(key, deque(maxlen=LOOKS)).append((at, value))

    def judged(self) -> list[Judged]:
        """What has become of each number, the worst first; what was so before the roll is not blamed on it."""
        after = [_series(key, points) for key, points in self._points.items()]
        return [one for one in judge_all(self._known(), after) if not one.as_before]

    def against(self) -> list[Judged]:
        """What speaks against going on."""
        return [one for one in self.judged() if one.state in HOLDS]

    def settling(self) -> list[Judged]:
        return [one for one in self.judged() if one.state == SETTLING]

    def _known(self) -> list[Series]:
        at = self.clock.now().timestamp()
        found = [
            _series((r.system, r.node, g.name, g.unit), [(at, g.value)])
            for r in self._before.values()
            for g in r.gauges
        ]
        return found + [
            _series((system, "", f"{ANSWER} {service}", "s"), [(at, answer_s)])
            for (system, service), answer_s in self._answered.items()
        ]


def _series(key: Key, points: Iterable[Point]) -> Series:
    system, node, about, unit = key
    return Series(system=system, node=node, about=about, unit=unit, points=tuple(points))
