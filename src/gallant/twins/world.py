"""What the twins of a plan's systems are like at each moment of
one night, and what becomes of them by the engine's orders.

A node answers what it told last, changed by what was done to it since. How long an order takes and whether it fails was
drawn before; what it leaves behind is a row of `EFFECTS`, by the order's name.
"""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Mapping, Sequence
from contextvars import ContextVar
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from math import inf

from gallant.core.catalog.products import Product
from gallant.core.estate.systems import Estate, System, node_name
from gallant.core.length.rehearsing import Lasts
from gallant.core.outages import Sample, Watched
from gallant.core.readings import IMAGE, IN_SERVICE, Component, Job, Reading
from gallant.core.records import replace
from gallant.core.shapes import FAILBACK, HANDOVER, SHAPES, Turn
from gallant.core.steps.kinds import KINDS, RETURN, START_ON
from gallant.core.steps.seen import component_of
from gallant.core.windows.rules import Span
from gallant.core.work.knows import STAGES, Knows, Returns
from gallant.core.work.plan import Plan, Step

SETTLING = "settling"  # what a twin says of its replica after a start
LOOKS = 4  # within the time of a stage
DRAWN = "it was drawn to fail in this night"
OVERDUE_S = 1.0  # after a step's deadline, when it is seen to be overdue


@dataclass(frozen=True)
class Cast:
    """What all nights of a rehearsal share. `readings` are by node, `knows`
    by system; `fails` has by kind of step the chance that one fails."""

    plan: Plan
    estate: Estate
    readings: Mapping[str, Reading]
    knows: Mapping[str, Knows]
    products: Mapping[str, Product]
    windows: Mapping[str, Sequence[Span]]
    begins: datetime
    lasts: Lasts
    usual: Mapping[str, float]
    fails: Mapping[str, float]
    watches: tuple[Watched, ...] = ()
    consents: tuple[str, ...] = ()

    @property
    def systems(self) -> list[System]:
        return [self.estate.systems[name] for name in self.plan.every]


@dataclass
class Work:
    """A step that was begun: when what it waits for is so (`turns`, in
    seconds of the night), until when it may take, and whether it fails."""

    step: Step
    lasts: float
    fails: bool
    until: float
    turns: list[float] = field(default_factory=list)
    stopped: bool = False

    def after(self, now: float) -> float | None:
        """The next moment at which anything of it is to be seen: that it is so, or that it is overdue."""
        turn = next((at for at in self.turns if at > now), None)
        return min(turn, self.until) if turn is not None and self.until > now else turn


# What the task that sleeps is at work on: nothing of it can be seen before its next turn.
AT_WORK: ContextVar[Work | None] = ContextVar("AT_WORK", default=None)


class TwinWorld:
    """One night of the twins. `number` is that of the night, `draw` gives numbers from 0 to 1."""

    def __init__(self, cast: Cast, number: int, draw: Callable[[], float], loop: asyncio.AbstractEventLoop) -> None:
        self.cast, self.number, self.draw, self.loop = cast, number, draw, loop
        self.nodes = {s.name: {n: cast.readings[node_name(s, n)] for n in s.nodes} for s in cast.systems}
        self._planned = {step.id: step for step in cast.plan.steps()}
        self.steps = dict(self._planned)
        self.away: set[tuple[str, str]] = set()
        self.work: dict[tuple[str, str], Work] = {}
        self.started: dict[str, list[str]] = {}  # by system, the nodes that started since it was last looked at
        stands = {(s.name, n): node.runs_on for s in cast.systems for n, node in s.nodes.items()}
        lower = {name: pair(below) for name, below in stands.items() if below is not None}
        self._kept: dict[
            tuple[str, str], tuple[tuple[str, str], ...]
        ] = {}  # by an emptied node, what is left down on it
        self._above: dict[tuple[str, str], list[tuple[str, str]]] = {name: [] for name in stands}
        for name, below in lower.items():
            self._above.setdefault(below, []).append(name)
        # Nodes of which a step of their own waits until they are back.
        self._awaited = {(s.system, s.node) for s in self.steps.values() if s.kind in (RETURN, START_ON)}
        self.samples: list[Sample] = []
        self.heard = asyncio.Event()
        self.away_s = 0.0  # for how long a service was away at a time, at most
        self.down_s: dict[str, float] = {}  # by system that is in service, for how long nothing of it served in all
        self._since: dict[str, float] = {}  # when what is away went
        # By system: for so long nobody has to look, while nothing is to be
        # seen. A stage of a return may have a time of its own.
        self.unseen_s = {name: _shortest(knows.returns) / LOOKS for name, knows in cast.knows.items()}
        self._numbers, self._now = 0, (0.0, cast.begins)  # the moment that was asked for last
        # What serves by no role that is known is taken to serve for as long as nothing is done to it.
        self._served = {system: self.serves(system) for system in self.nodes}
        self._services: dict[str, list[str]] = {}
        self._with_services = {watched.system for watched in cast.watches if not watched.is_address}
        for watched in cast.watches:
            self._services.setdefault(watched.system, []).append(watched.service)

    # --- time

    @property
    def now(self) -> datetime:
        at = self.loop.time()
        if at != self._now[0]:
            self._now = (at, self.cast.begins + timedelta(seconds=at))
        return self._now[1]

    def after(self, seconds: float, what: Callable[[], None]) -> None:
        self.loop.call_later(max(0.0, seconds), what)

    # --- steps

    def begins(self, step: Step) -> Work:
        """The engine has written down that it begins a step: how that will end is drawn now."""
        lasts = self._lasts(step)
        chance = self.cast.fails.get(step.kind, 0.0)
        now = self.loop.time()
        work = Work(step, lasts, bool(chance) and self.draw() < chance, now + step.deadline_s + OVERDUE_S)
        self.work[step.system, step.node] = work
        AT_WORK.set(work)
        return work

    def _lasts(self, step: Step) -> float:
        """Of a step that is on another node than was planned, since roles
        have moved, what was drawn for its like of the same hop."""
        drawn = self.cast.lasts.get(step.id)
        if drawn is None:
            like = next((name for name, s in self._planned.items() if _alike(s, step)), "")
            drawn = self.cast.lasts.get(like)
        return step.estimate_s if drawn is None else float(drawn[self.number])

    def of(self, system: str, node: str) -> Work:
        """What a node is at work on."""
        return self.work[system, node]

    def name(self) -> str:
        self._numbers += 1
        return f"r{self._numbers}"

    # --- nodes

    def change(self, system: str, node: str, **fields: object) -> None:
        self.nodes[system][node] = replace(self.nodes[system][node], **fields)

    def goes(self, system: str, node: str) -> None:
        if system in self.nodes:
            self.away.add((system, node))
            self.seen_to_serve(system)

    def starts(self, system: str, node: str) -> None:
        """A node is back, on what it was to start; what was set aside is so still."""
        reading, carried = self.nodes[system][node], self.cast.knows[system].image_from
        parts = tuple(_switched(part) for part in reading.components)
        own = next((p.version for p in parts if p.name in carried), None) or reading.next_version or reading.version
        self.change(
            system,
            node,
            boot=self.name(),
            version=own,
            next_version=None,
            gauges=self.cast.readings[f"{system}/{node}"].gauges,
            components=tuple(replace(p, version=own) if p.name == IMAGE else p for p in parts),
        )
        self.away.discard((system, node))
        self.started.setdefault(system, []).append(node)
        self.seen_to_serve(system)
        kept = self._kept.get((system, node), ())
        for above in self._above[system, node]:
            if above in self.away and above not in self._awaited and above not in kept:
                self.starts(*above)

    def leaves_down(self, step: Step) -> None:
        """A node is being emptied: what it does not move is down until
        it takes its guests again, or is started anew elsewhere."""
        kept = tuple(pair(name) for name in step.disturbs if name != step.subject)
        self._kept[step.system, step.node] = kept
        for guest in kept:
            self.goes(*guest)
        for name, seconds in step.anew.items():
            self.goes(*pair(name))
            self.after(seconds, lambda n=name: self.starts(*pair(n)))  # type: ignore[misc]

    def takes_again(self, step: Step) -> None:
        """A node carries again: what was left down on it is started."""
        for name in self._kept.pop((step.system, step.node), ()):
            if name in self.away:
                self.starts(*name)

    def part(self, system: str, node: str, name: str, **fields: object) -> None:
        """A component of a node is another now."""
        reading = self.nodes[system][node]
        parts = tuple(replace(p, **fields) if p.name == name else p for p in reading.components)
        if component_of(reading, name) is None:
            blank = Component(name=name, kind="unknown", product="", version="")
            parts = (*parts, replace(blank, **fields))
        self.change(system, node, components=parts)

    def runs_part(self, step: Step) -> None:
        """A component runs its release."""
        self.part(step.system, step.node, step.component, version=step.to, next_version=None)
        if step.component in self.cast.knows[step.system].image_from:
            self.change(step.system, step.node, version=step.to)
            self.part(step.system, step.node, IMAGE, version=step.to)

    def job(self, work: Work, nodes: Sequence[str], state: str = "running", name: str | None = None) -> str:
        """The job of a step, as its nodes list it; what ended before is listed no more."""
        step, name = work.step, name or self.name()
        said = DRAWN if state == "failed" else ""
        own = Job(id=name, kind=KINDS[step.kind].order, state=state, message=said, release=step.to)
        for node in nodes:
            others = tuple(
                j for j in self.nodes[step.system][node].jobs if j.state in ("running", "paused") and j.id != name
            )
            self.change(step.system, node, jobs=(*others, own))
        return name

    # --- services

    def serves(self, system: str) -> bool:
        carrying = SHAPES[self.cast.estate.systems[system].shape].carrying
        return any(
            r.state == IN_SERVICE and r.role in carrying and (system, node) not in self.away
            for node, r in self.nodes[system].items()
        )

    def seen_to_serve(self, system: str) -> None:
        serves = self.serves(system)
        if self.cast.estate.systems[system].in_service and serves is not self._served[system]:
            self.answers(system, serves)

    def answers(self, system: str, ok: bool) -> None:
        """The services of a system answer from now on, or do not."""
        self._served[system] = ok
        for service in self._services.get(system, ()):
            self.samples.append(Sample(service=service, at=self.now, real=self.loop.time(), ok=ok))
        if self._services.get(system):
            self.heard.set()
        if not ok:
            self._since[system] = self.loop.time()
        elif system in self._since:
            self._was_away(system)

    def at_an_end(self) -> None:
        """What is away still was so until now."""
        for system in list(self._since):
            self._was_away(system)

    def _was_away(self, system: str) -> None:
        lasted = self.loop.time() - self._since.pop(system)
        if system in self._with_services:
            self.away_s = max(self.away_s, lasted)
        self.down_s[system] = self.down_s.get(system, 0.0) + lasted

    def moved(self, work: Work, to_itself: bool) -> None:
        """Roles have moved within the node's group; for as long as that interrupts the service nobody answers."""
        step = work.step
        system = self.cast.estate.systems[step.system]
        roles = {node: r.role for node, r in self.nodes[system.name].items()}
        turn = Turn(kind=FAILBACK if to_itself else HANDOVER, node=step.node)
        for node, role in SHAPES[system.shape].roles_after(tuple(system.nodes), roles, [turn]).items():
            if role != roles[node]:
                self.change(system.name, node, role=role)
        self.seen_to_serve(system.name)


def _shortest(returns: Returns) -> float:
    return min((within for stage in STAGES if (within := returns.of(stage)) is not None), default=inf)


def _alike(one: Step, other: Step) -> bool:
    return (one.hop, one.kind, one.component) == (other.hop, other.kind, other.component)


def pair(name: str) -> tuple[str, str]:
    system, _, node = name.partition("/")
    return system, node


def _switched(part: Component) -> Component:
    return part if part.next_version is None else replace(part, version=part.next_version, next_version=None)
