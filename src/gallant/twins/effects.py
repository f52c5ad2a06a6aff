"""What steps and orders come to on a twin."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from gallant.core.estate.capacity import OUT
from gallant.core.ports import Act
from gallant.core.readings import IMAGE, IN_SERVICE, RUNNING, SAVED, Gauge, PackagePresent
from gallant.core.records import replace
from gallant.core.shapes import SHAPES
from gallant.core.steps.kinds import BY_HAND, CANCEL, KINDS, PAUSE, QUIET, RETURN, START_ON, STEADY, nodes_of
from gallant.core.steps.seen import component_of
from gallant.core.work.plan import Step
from gallant.twins.world import OVERDUE_S, SETTLING, TwinWorld, Work, pair

STANDS = {PAUSE: "paused", CANCEL: "failed"}  # what a device that works on its nodes by itself does at such a word


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
    taken = [pair(name) for name in step.disturbs] or [(step.system, step.node)]
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


def told(world: TwinWorld, work: Work, act: Act) -> None:
    """It stands still, or gives up, once the node is back that it has taken."""
    work.stopped = True
    every, at = list(world.nodes[work.step.system]), world.loop.time()
    later = [t for t in work.turns if t > at]
    work.turns = [min([at + OVERDUE_S, *later])]
    world.job(work, every, STANDS[act.kind], act.handle)


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
BY_ITSELF: Mapping[str, Callable[[TwinWorld, Work], None]] = {
    STEADY: _steady,
    QUIET: _quiet,
    RETURN: _returns,
    START_ON: _returns,
    BY_HAND: _by_hand,
}


def begins(world: TwinWorld, step: Step) -> None:
    """The engine has written down that it begins a step: how that will end is drawn, and what it comes to by itself."""
    work = world.begins(step)
    if (effect := BY_ITSELF.get(step.kind)) is not None:
        effect(world, work)
