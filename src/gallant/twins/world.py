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

from gallant.core.assess.outages import Sample, Watched
from gallant.core.catalog.products import Product
from gallant.core.estate.capacity import OUT
from gallant.core.estate.order import FAILBACK, HANDOVER, SHAPES, Turn
from gallant.core.estate.systems import Estate, System, node_name
from gallant.core.estate.windows import Span
from gallant.core.ports import Act
from gallant.core.readings import IMAGE, IN_SERVICE, RUNNING, SAVED, Component, Gauge, Job, PackagePresent, Reading
from gallant.core.records import replace
from gallant.core.work.plan import STAGES, Knows, Plan, Returns, Step
from gallant.core.work.rehearsing import Lasts
from gallant.core.work.steps import (
    BY_HAND,
    CANCEL,
    KINDS,
    PAUSE,
    QUIET,
    RETURN,
    START_ON,
    STEADY,
    component_of,
    nodes_of,
)

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
        lower = {name: _pair(below) for name, below in stands.items() if below is not None}
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

    def begins(self, step: Step) -> None:
        """The engine has written down that it begins a step: how that will end is drawn now."""
        lasts = self._lasts(step)
        chance = self.cast.fails.get(step.kind, 0.0)
        now = self.loop.time()
        work = Work(step, lasts, bool(chance) and self.draw() < chance, now + step.deadline_s + OVERDUE_S)
        self.work[step.system, step.node] = work
        AT_WORK.set(work)
        if (effect := BY_ITSELF.get(step.kind)) is not None:
            effect(self, work)

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
        kept = tuple(_pair(name) for name in step.disturbs if name != step.subject)
        self._kept[step.system, step.node] = kept
        for guest in kept:
            self.goes(*guest)
        for name, seconds in step.anew.items():
            self.goes(*_pair(name))
            self.after(seconds, lambda n=name: self.starts(*_pair(n)))  # type: ignore[misc]

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


def _pair(name: str) -> tuple[str, str]:
    system, _, node = name.partition("/")
    return system, node


def _switched(part: Component) -> Component:
    return part if part.next_version is None else replace(part, version=part.next_version, next_version=None)


# --- what steps come to that are no order to a node


def _steady(world: TwinWorld, work: Work) -> None:
    """Nodes that started are whole again so long after that, and stay so for as long as the estate wants to see it."""
    step, steady = work.step, world.cast.estate.limits.steady_s
    fresh, now = world.started.pop(step.system, [step.node]), world.loop.time()
    whole = max(0.0, work.lasts - steady)
    work.turns = [now + whole, now + whole + steady]
    for node in fresh if whole else ():
        reading = world.nodes[step.system][node]
        if reading.in_sync is False and reading.sync_word != SETTLING:
            continue  # it was so before the night, and is not ours to mend
        world.change(step.system, node, in_sync=False, sync_word=SETTLING)
        before = {"in_sync": reading.in_sync if reading.sync_word != SETTLING else True, "sync_word": reading.sync_word}
        world.after(whole, lambda n=node, b=before: world.change(step.system, n, **b))  # type: ignore[misc]


def _quiet(world: TwinWorld, work: Work) -> None:
    step, rule = work.step, world.cast.estate.systems[work.step.system].quiet
    assert rule is not None  # else the step would not be there
    gauges = world.nodes[step.system][step.node].gauges
    fewer = tuple(
        Gauge(name=g.name, value=min(g.value, rule.sessions), unit=g.unit) if g.name == "sessions" else g
        for g in gauges
    )
    work.turns = [world.loop.time() + work.lasts]
    world.after(work.lasts, lambda: world.change(step.system, step.node, gauges=fewer))


def _returns(world: TwinWorld, work: Work) -> None:
    """What went down with the node below it is back so long after that."""
    work.turns = [world.loop.time() + work.lasts]
    world.after(work.lasts, lambda: world.starts(work.step.system, work.step.node))


def _by_hand(world: TwinWorld, work: Work) -> None:
    """Somebody switches it off, and works on it."""
    if KINDS[work.step.kind].away:
        world.goes(work.step.system, work.step.node)


BY_ITSELF: Mapping[str, Callable[[TwinWorld, Work], None]] = {
    STEADY: _steady,
    QUIET: _quiet,
    RETURN: _returns,
    START_ON: _returns,
    BY_HAND: _by_hand,
}


# --- what orders come to


def _laid(world: TwinWorld, work: Work, act: Act) -> None:
    """An install: of the image it runs from the next restart on; of a component at once where its step says so."""
    step = work.step
    if step.component == IMAGE:
        world.change(step.system, step.node, next_version=step.to)
    elif KINDS[step.kind].proved_by == "awaits_target":  # it waits for the restart
        world.part(step.system, step.node, step.component, next_version=step.to)
    else:
        world.runs_part(step)


def _raised(world: TwinWorld, work: Work, act: Act) -> None:
    """A format is that of the data, which all nodes share."""
    for node, reading in world.nodes[work.step.system].items():
        if component_of(reading, work.step.component) is not None:
            world.part(work.step.system, node, work.step.component, version=work.step.to)


def _set(**fields: object) -> Callable[[TwinWorld, Work, Act], None]:
    def effect(world: TwinWorld, work: Work, act: Act) -> None:
        world.change(work.step.system, work.step.node, **fields)
        world.seen_to_serve(work.step.system)

    return effect


def _refilled(world: TwinWorld, work: Work, act: Act) -> None:
    _set(state=IN_SERVICE)(world, work, act)
    world.takes_again(work.step)


def _spare(world: TwinWorld, work: Work, act: Act) -> None:
    world.change(work.step.system, work.step.node, other_slot=work.step.to)


def _channel(on: bool) -> Callable[[TwinWorld, Work, Act], None]:
    def effect(world: TwinWorld, work: Work, act: Act) -> None:
        step = work.step
        known = world.nodes[step.system][step.node].channels or ()
        set_ = tuple(replace(c, enabled=on) if c.name == step.component else c for c in known)
        world.change(step.system, step.node, channels=set_)

    return effect


def _kept(world: TwinWorld, work: Work, act: Act) -> None:
    step = work.step
    facets = world.nodes[step.system][step.node].facets
    saved = tuple(replace(f, state=SAVED) if f.name == RUNNING else f for f in facets)
    world.change(step.system, step.node, facets=saved)


def _loaded(world: TwinWorld, work: Work, act: Act) -> None:
    step = work.step
    there = tuple(p for p in world.nodes[step.system][step.node].packages if p.name != act.package)
    own = PackagePresent(name=act.package, sha256=act.sha256, bytes=act.bytes)
    world.change(step.system, step.node, packages=(*there, own))


def _moves(to_itself: bool) -> Callable[[TwinWorld, Work, Act], None]:
    return lambda world, work, act: world.moved(work, to_itself)


EFFECTS: Mapping[str, Callable[[TwinWorld, Work, Act], None]] = {
    "preload": _loaded,
    "save_config": _kept,
    "install": _laid,
    "fall_back": _laid,
    "renew_spare": _spare,
    "raise_format": _raised,
    "drain": _set(state=OUT),
    "refill": _refilled,
    "handover": _moves(to_itself=False),
    "failback": _moves(to_itself=True),
    "enable_channel": _channel(True),
    "disable_channel": _channel(False),
}


def works(world: TwinWorld, work: Work, act: Act) -> str:
    """An order that a node carries out while it answers; gives its job."""
    step = work.step
    name = world.job(work, [step.node])
    work.turns = [world.loop.time() + work.lasts]
    if KINDS[step.kind].sets_aside and not work.fails:
        world.leaves_down(step)
    if step.interrupts_s and not work.fails:
        world.after(work.lasts - step.interrupts_s, lambda: world.answers(step.system, False))

    def end() -> None:
        if not work.fails:
            EFFECTS[act.kind](world, work, act)
        world.job(work, [step.node], "failed" if work.fails else "done", name)
        if step.interrupts_s and not work.fails:
            world.answers(step.system, world.serves(step.system))

    world.after(work.lasts, end)
    return name


def restarts(world: TwinWorld, work: Work) -> None:
    """A node goes, with all that stands on it, and comes back; one whose restart fails does not."""
    step = work.step
    taken = [_pair(name) for name in step.disturbs] or [(step.system, step.node)]
    for system, node in taken:
        world.goes(system, node)
    work.turns = [work.until if work.fails else world.loop.time() + work.lasts]
    if work.fails:
        return

    def back() -> None:
        if not step.aside:
            world.change(step.system, step.node, state=IN_SERVICE)
        world.starts(step.system, step.node)

    world.after(work.lasts, back)


def rewinds(world: TwinWorld, work: Work) -> None:
    """A system goes back to its restore point, all of its nodes at once."""
    step = work.step
    for node in world.nodes[step.system]:
        world.change(step.system, node, next_version=step.to)
        world.goes(step.system, node)
    work.turns = [world.loop.time() + work.lasts]

    def back() -> None:
        for node in world.nodes[step.system]:
            world.change(step.system, node, state=IN_SERVICE)
            world.starts(step.system, node)

    world.after(work.lasts, back)


def updates_all(world: TwinWorld, work: Work) -> str:
    """A device brings its nodes to the release one after the other, the one that leads last; then it leads again."""
    step = work.step
    shape = SHAPES[world.cast.estate.systems[step.system].shape]
    every = tuple(world.nodes[step.system])
    roles = {n: r.role for n, r in world.nodes[step.system].items()}
    order = sorted(nodes_of(step) or every, key=lambda n: roles[n] in shape.heads)
    each, name = work.lasts / len(order), world.job(work, every)
    work.turns = [world.loop.time() + work.lasts]
    heads = [n for n in order if roles[n] in shape.heads and len(every) > 1]

    def takes(node: str) -> None:
        if work.stopped:
            return
        if node in heads:
            world.moved(_of_node(work, node), to_itself=False)
        world.goes(step.system, node)

    def brings(node: str) -> None:
        if (step.system, node) not in world.away:
            return
        world.change(step.system, node, next_version=step.to)
        for brought in step.brings:
            world.part(step.system, node, brought.component, version=brought.version, next_version=None)
        world.starts(step.system, node)

    def end() -> None:
        if work.stopped:
            return
        for node in heads:
            world.moved(_of_node(work, node), to_itself=True)
        world.job(work, every, "done", name)

    def fail() -> None:
        work.stopped = True
        world.job(work, every, "failed", name)

    for number, node in enumerate(order):
        world.after(number * each, lambda n=node: takes(n))  # type: ignore[misc]
        world.after((number + 0.6) * each, lambda n=node: brings(n))  # type: ignore[misc]
    world.after(work.lasts * (0.5 if work.fails else 1.0), fail if work.fails else end)
    return name


def _of_node(work: Work, node: str) -> Work:
    """The work as if it were about another of its nodes."""
    return Work(replace(work.step, node=node), work.lasts, work.fails, work.until)


STANDS = {PAUSE: "paused", CANCEL: "failed"}  # what a device that works on its nodes by itself does at such a word


def told(world: TwinWorld, work: Work, act: Act) -> None:
    """It stands still, or gives up, once the node is back that it has taken."""
    work.stopped = True
    every, at = list(world.nodes[work.step.system]), world.loop.time()
    later = [t for t in work.turns if t > at]
    work.turns = [min([at + OVERDUE_S, *later])]
    world.job(work, every, STANDS[act.kind], act.handle)
