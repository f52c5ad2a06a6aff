"""The waves of a hop: which steps on which nodes, in the order that the shape allows.

`hop_waves` is called when a plan is made, and again by the engine at the start of each hop with the roles that it
observes then: the same function, so the plan cannot promise one order and the roll follow another.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

from gallant.core.estate.stacks import Upper
from gallant.core.estate.systems import System, node_name
from gallant.core.plan.layers import rank_of
from gallant.core.plan.step import one_step, part_step
from gallant.core.plan.todo import Todo
from gallant.core.records import Record, replace
from gallant.core.shapes import FAILBACK, HANDOVER, SHAPES, WORK, NotSafe, Round, Standing, Turn, rounds
from gallant.core.steps.kinds import (
    BACKUP,
    BY_HAND,
    DISABLE_CHANNEL,
    ENABLE_CHANNEL,
    KINDS,
    LOOK_OVER,
    LOSING,
    NEEDS_PEERS,
    QUIET,
    RENEW_SPARE,
    RETURN,
    REWIND,
    SAVE_CONFIG,
    SNAPSHOT,
    START_ON,
    STEADY,
    UPDATE_ALL,
)
from gallant.core.work.hop_work import HopWork
from gallant.core.work.knows import ALL
from gallant.core.work.plan import Brought, Step, Track, Wave, steps_of


def hop_rounds(
    system: System, todo: Mapping[str, Todo], standing: Standing, uppers: Sequence[Upper] = ()
) -> tuple[Round, ...]:
    """The order of one hop; none for a system that is not in service, which has none. Raises `NotSafe`.

    Machines that are all alike follow the order of what stands on them: the one that leads there hands over first.
    """
    leaving = [node for node, work in todo.items() if work.has_turn]
    if not leaving or not system.in_service:
        return ()
    leads = next((upper for upper in uppers if SHAPES[upper.system.shape].has_spare), None)
    if leads is None or SHAPES[system.shape].needs_head or standing.out:
        return rounds(system.shape, tuple(system.nodes), leaving, standing, system.usual)
    above = [leads.on[node] for node in leaving if node in leads.on]
    free = [node for node in leaving if node not in leads.on]
    order = rounds(leads.system.shape, tuple(leads.system.nodes), above, leads.standing, leads.system.usual)
    own = rounds(system.shape, tuple(system.nodes), free, standing, system.usual) if free else ()
    return (*own, *(tuple(_below(turn, leads) for turn in together) for together in order))


def _below(turn: Turn, upper: Upper) -> Turn:
    """Work on what stands above is work on the machine below it; a move of roles stays where it is."""
    if turn.kind == WORK:
        return replace(turn, node=upper.lower[turn.node])
    return replace(turn, system=upper.system.name)


def hop_waves(system: System, work: HopWork, standing: Standing, todo: Mapping[str, Todo]) -> tuple[Wave, ...]:
    """The waves of one hop: a backup, packages and a restore point first, then what needs no restart, one node after
    the other, then one wave a round of the rolling order.

    `standing` is as observed. Raises `NotSafe`. A system that is not in
    service has no order: all of its nodes are worked on at once.
    """
    done = _hop_waves(system, work, standing, todo)
    if not done:
        return ()
    opened, closed = (tuple(_channels(system, work, todo, kind)) for kind in (ENABLE_CHANNEL, DISABLE_CHANNEL))
    kept = (n for n, wave in enumerate(done, 1) if any(s.kind in (BACKUP, SNAPSHOT) for s in steps_of((wave,))))
    first = max(kept, default=0)  # the way back is taken before anything else is done
    late = (*_spares(system, work, todo), *_looked_over(system, work, standing))
    return (*done[:first], *_saves(system, work, todo), *opened, *done[first:], *closed, *late)


def _saves(system: System, work: HopWork, todo: Mapping[str, Todo]) -> Iterator[Wave]:
    """What a restart would lose is saved when the backup has both, where the driver knows how."""
    nodes = [n for n, own in todo.items() if own.unsaved and own.restarts]
    if nodes and SAVE_CONFIG in work.knows.capabilities:
        plain = replace(work, image=False, package=None)
        steps = {node: one_step(system, plain, SAVE_CONFIG, node) for node in nodes}
        yield Wave(why="save", tracks=tuple(Track(node=node, steps=(step,)) for node, step in steps.items()))


def _channels(system: System, work: HopWork, todo: Mapping[str, Todo], kind: str) -> Iterator[Wave]:
    """The channels that are closed on a node, opened before its work and closed again after it."""
    row = KINDS[kind]
    for node in (n for n in todo if work.channels.get(n)):
        plain = replace(work, image=False, package=None)
        steps = [
            replace(one_step(system, plain, kind, node, f".{number}"), component=channel)
            for number, channel in enumerate(work.channels[node], 1)
        ]
        yield Wave(why=f"{node}: {row.order.replace('_', ' ')}", tracks=(Track(node=node, steps=tuple(steps)),))


def _looked_over(system: System, work: HopWork, standing: Standing) -> Iterator[Wave]:
    """What a person is to look at before anything else is done on the system."""
    if work.look_over and not work.lays:
        first = SHAPES[system.shape].head(system.nodes, standing.roles)
        task = f"look at what is new in {work.to}: {work.look_over}"
        step = replace(one_step(system, work, LOOK_OVER, first), task=task)
        yield Wave(why=f"settings new in {work.to}", tracks=(Track(node=first, steps=(step,)),))


def _spares(system: System, work: HopWork, todo: Mapping[str, Todo]) -> Iterator[Wave]:
    """The spare slots, one node after the other, when all of it is whole on the release."""
    for node in (n for n, one in todo.items() if work.renews_spare and (one.image or one.waiting)):
        steps = (one_step(system, work, RENEW_SPARE, node),)
        yield Wave(why=f"{node}: spare slot to {work.to}", tracks=(Track(node=node, steps=steps),))


def _hop_waves(system: System, work: HopWork, standing: Standing, todo: Mapping[str, Todo]) -> tuple[Wave, ...]:
    if not todo:
        return (_seen_on(system, work, standing),) if work.served else ()
    if work.lays:
        return (
            *_preparation(system, work, SHAPES[system.shape].head(system.nodes, standing.roles), todo),
            *(_laid(system, work, node) for node, own in todo.items() if own.image),
        )
    if not system.in_service:
        return _all_at_once(system, work, todo)
    first = SHAPES[system.shape].head(system.nodes, standing.roles)
    if work.rewinds is not None:
        return (*_preparation(system, work, first, {}), _rewound(system, work, first))
    ahead = (*_preparation(system, work, first, todo), *_ahead(system, work, first, todo, standing))
    if work.knows.updates_all and any(one.image or one.waiting for one in todo.values()):
        return (*ahead, *_by_the_device(system, work, first, standing, todo))
    return (*ahead, *_in_order(system, work, standing, todo))


def _laid(system: System, work: HopWork, node: str) -> Wave:
    """The release installed and not entered: the restart of the machine below does that."""
    steady = replace(one_step(system, work, STEADY, node, ".laid"), estimate_s=work.steady_s, ends_node=False)
    return Wave(
        why=f"{node}: {work.to} laid",
        tracks=(Track(node=node, steps=(one_step(system, work, "install", node), steady)),),
    )


def _seen_on(system: System, work: HopWork, standing: Standing) -> Wave:
    first = SHAPES[system.shape].head(system.nodes, standing.roles)
    return Wave(
        why=f"all nodes on {work.to}", tracks=(Track(node=first, steps=(one_step(system, work, STEADY, first),)),)
    )


def _in_order(system: System, work: HopWork, standing: Standing, todo: Mapping[str, Todo]) -> Iterator[Wave]:
    order = hop_rounds(system, todo, standing, work.uppers)
    if order and work.knows.reach == ALL:
        raise NotSafe(
            f"An order to one node of {system.name} reaches all of them, in the mode in which they are.",
            "Its profile knows no order that brings all of them to a release one after the other.",
            f"Take {system.name} out of that mode, or work on it by hand.",
        )
    for together in order:
        yield from _round_waves(system, work, together, todo)


def _by_the_device(
    system: System, work: HopWork, first: str, standing: Standing, todo: Mapping[str, Todo]
) -> Iterator[Wave]:
    """What takes a service down goes in the order of the shape, what waits for the
    restart is laid on every node, and then one order has the device bring all nodes to
    the release. Raises `NotSafe` where that could take away what stands on them."""
    if work.uppers:
        raise NotSafe(
            f"{system.name} updates its own nodes by one order, and {work.uppers[0].system.name} stands on them.",
            "When which of them goes down would not be known.",
            f"Move {work.uppers[0].system.name} elsewhere, or update {system.name} by hand.",
        )
    turns = {
        n: replace(one, image=False, waiting=False, awaiting=(), parts=tuple(p for p in one.parts if not p.waits))
        for n, one in todo.items()
    }
    yield from _in_order(system, replace(work, image=False), standing, turns)
    for node in sorted(todo, key=lambda node: node == first):
        if laid := [part for part in todo[node].in_turn if part.waits]:
            steady = replace(one_step(system, work, STEADY, node, ".laid"), estimate_s=work.steady_s, ends_node=False)
            steps = (*(part_step(system, work, part, node) for part in laid), steady)
            yield Wave(why=f"{node}: laid for the restart", tracks=(Track(node=node, steps=steps),))
    reached = {n: one for n, one in todo.items() if one.image or one.waiting}
    waits = dict.fromkeys(p for one in reached.values() for p in (*one.parts, *one.awaiting) if p.waits)
    brings = tuple(Brought(component=p.component, product=p.product, version=p.to) for p in waits)
    order = one_step(system, replace(work, by_itself=len(reached)), UPDATE_ALL, first)
    order = replace(order, brings=brings, disturbs=tuple(node_name(system, n) for n in reached))
    look = one_step(system, work, STEADY, first)
    yield Wave(why=f"all nodes {_goal(work)}, by the device", tracks=(Track(node=first, steps=(order, look)),))


def _preparation(system: System, work: HopWork, first: str, todo: Mapping[str, Todo]) -> Iterator[Wave]:
    prepare = []
    for node in system.nodes:
        kinds = [BACKUP] if node == first else []
        if work.preloads and node in todo and todo[node].image and _image_kind(work, todo[node]) == "install":
            kinds.append("preload")
        if kinds:
            prepare.append(Track(node=node, steps=tuple(one_step(system, work, kind, node) for kind in kinds)))
    preloads = any(step.kind != BACKUP for track in prepare for step in track.steps)
    yield Wave(why="backup, package" if preloads else "backup", tracks=tuple(prepare))
    if work.restore_point:  # last of all, since it slows the system down from then on
        yield Wave(why="restore point", tracks=(Track(node=first, steps=(one_step(system, work, SNAPSHOT, first),)),))


def _ahead(system: System, work: HopWork, first: str, todo: Mapping[str, Todo], standing: Standing) -> Iterator[Wave]:
    """What disturbs nobody, still one node at a time, the one that
    speaks for all last: a bad release is seen on one node."""
    for node in sorted(standing.as_wished(todo), key=lambda node: node == first):
        if (parts := todo[node].ahead) or (todo[node].stays and todo[node].image):
            steps = [part_step(system, work, part, node) for part in parts]
            if todo[node].stays and todo[node].image:
                steps.insert(0, one_step(system, work, _image_kind(work, todo[node]), node))
            steady = replace(one_step(system, work, STEADY, node, ".ahead"), estimate_s=work.steady_s, ends_node=False)
            yield Wave(why=f"{node}: no restart", tracks=(Track(node=node, steps=(*steps, steady)),))


def _image_kind(work: HopWork, todo: Todo) -> str:
    return "fall_back" if todo.slotted and "fall_back" in work.knows.capabilities else "install"


def _rewound(system: System, work: HopWork, node: str) -> Wave:
    """The system as a whole goes back to its restore point."""
    steps = (one_step(system, work, REWIND, node), one_step(system, work, STEADY, node))
    return Wave(why=f"back to before {work.rewinds}", tracks=(Track(node=node, steps=steps),))


def _all_at_once(system: System, work: HopWork, todo: Mapping[str, Todo]) -> tuple[Wave, ...]:
    """No one depends on these nodes yet: all are installed and restarted at the same time, then all are looked at."""
    first = next(iter(system.nodes))
    knows = replace(work.knows, capabilities=work.knows.capabilities - {k for k, row in KINDS.items() if row.optional})
    tracks = []
    for node, own in todo.items():
        steps = [part_step(system, work, part, node) for part in own.ahead]
        steps += [one_step(system, work, _image_kind(work, own), node)] if own.stays and own.image else []
        steps += _work_steps(system, replace(work, knows=knows), node, own)[:-1] if own.has_turn else []
        tracks.append(Track(node=node, steps=tuple(_by_itself(step) for step in steps)))
    return (
        *_preparation(system, work, first, todo),
        Wave(why=f"{len(todo)} at once: not in service", tracks=tuple(tracks)),
        Wave(why="all nodes again", tracks=(Track(node=first, steps=(one_step(system, work, STEADY, first),)),)),
    )


def _by_itself(step: Step) -> Step:
    return replace(step, alone=True, interrupts_s=0, guards=tuple(g for g in step.guards if g not in NEEDS_PEERS))


class _Move(Record):
    """A move of roles: its step, what the plan says it is for, and how the look after it is told apart."""

    kind: str
    why: str
    suffix: str


_MOVES = {
    HANDOVER: _Move(kind="handover", why="{node} hands over", suffix=".handover"),
    FAILBACK: _Move(kind="failback", why="{node} to its usual place", suffix=".failback"),
}


def _round_waves(system: System, work: HopWork, together: Round, todo: Mapping[str, Todo]) -> tuple[Wave, ...]:
    """One wave for a turn by itself. Of several that go side by side
    each comes back by itself, and then all are looked at."""
    if len(together) == 1:
        return (_turn_wave(system, work, together[0], todo),)
    every = [_turn_wave(system, work, turn, todo) for turn in together]
    tracks = tuple(Track(node=w.tracks[0].node, steps=w.tracks[0].steps[:-1]) for w in every)
    names = ", ".join(turn.node for turn in together)
    return (
        Wave(why=f"{names} {_goal(work)}", tracks=tracks),
        Wave(why="all nodes again", tracks=(Track(node=tracks[0].node, steps=(every[0].tracks[0].steps[-1],)),)),
    )


def _goal(work: HopWork) -> str:
    if work.back:
        return f"back to {work.to}" if work.image else "as it was" if work.parts else "back in service"
    if work.restarts:
        return "restarted"
    return f"to {work.to}" if work.image else work.by_hand or "updated"


def _turn_wave(system: System, work: HopWork, turn: Turn, todo: Mapping[str, Todo]) -> Wave:
    if turn.kind == WORK:
        why = f"{turn.node} {_goal(work)}"
        steps = _work_steps(system, work, turn.node, todo[turn.node])
    else:
        row = _MOVES[turn.kind]
        upper = next((one for one in work.uppers if one.system.name == turn.system), None)
        moved, whole = (upper.system, _of_upper(work, upper)) if upper is not None else (system, work)
        why = row.why.format(node=turn.node if upper is None else f"{turn.system}/{turn.node}")
        steady = one_step(moved, whole, STEADY, turn.node, row.suffix)
        # Nothing was restarted: a replica that is whole stays whole.
        steps = [
            one_step(moved, whole, row.kind, turn.node),
            replace(steady, estimate_s=work.steady_s, ends_node=False),
        ]
    return Wave(why=why, tracks=(Track(node=turn.node, steps=tuple(steps)),))


def _work_steps(system: System, work: HopWork, node: str, todo: Todo) -> list[Step]:
    """A node's own turn: taken out where its driver can, all components and the image brought, one restart for all that
    wait for one, taken back, and looked at."""
    disturbs = todo.restarts or bool(todo.in_turn)
    drains = "drain" in work.knows.capabilities and disturbs
    leaves = todo.restarts or drains
    made = [one_step(system, work, QUIET, node)] if work.quiet_s and disturbs and system.in_service else []
    made += _upper_leaves(work, node) if leaves else []
    made += [_emptied(system, work, node)] if drains else []
    work = replace(work, stacked={}) if drains else work  # what stands on it is elsewhere from then on, or down already
    made += _brought(system, work, node, todo)
    if work.by_hand:
        made += [one_step(system, work, kind, node) for kind in (BY_HAND, RETURN)]
    elif todo.restarts:
        made.append(_restarted(system, work, node, todo))
    made += [one_step(system, work, "refill", node)] if "refill" in work.knows.capabilities else []
    made.append(one_step(system, work, STEADY, node))
    return _set_aside([*made, *(_upper_returns(work, node) if leaves else [])])


def _brought(system: System, work: HopWork, node: str, todo: Todo) -> Iterator[Step]:
    """The components below the image and those that wait for no restart, then the image, then the others."""
    image_rank = rank_of("system image")
    lower = [part for part in todo.in_turn if rank_of(part.kind) < image_rank or not part.waits]
    yield from (part_step(system, work, part, node) for part in lower)
    if todo.image and not todo.stays:
        yield one_step(system, work, _image_kind(work, todo), node)
    yield from (part_step(system, work, part, node) for part in todo.in_turn if part not in lower)


def _restarted(system: System, work: HopWork, node: str, todo: Todo) -> Step:
    """One restart for all that waits for one. Where the image stays, a node comes back on its own, which need not be
    that of its siblings."""
    switched = [*(part for part in todo.parts if part.waits), *todo.awaiting]
    brings = tuple(Brought(component=p.component, product=p.product, version=p.to) for p in switched)
    to = work.to if todo.image or todo.waiting else todo.runs
    return replace(one_step(system, work, "restart", node), brings=brings, to=to)


def _of_upper(work: HopWork, upper: Upper) -> HopWork:
    """The work on a system that stands on the one of the hop: nothing of it changes, it only makes room."""
    knows = replace(work.knows, repeat=upper.repeat)
    return replace(work, image=False, parts=(), package=None, above=upper, knows=knows)


def _upper_leaves(work: HopWork, node: str) -> list[Step]:
    """What stands on the machine is taken out of service first, where its driver can."""
    pairs = [(upper, upper.on[node]) for upper in work.uppers if upper.drains and node in upper.on]
    return [_drained(work, upper, above) for upper, above in pairs]


def _emptied(system: System, work: HopWork, node: str) -> Step:
    """A node is emptied: what on it does not move is down from then on
    until it is taken back, or while it is started anew elsewhere."""
    step = one_step(system, work, "drain", node)
    fate = work.fates.get(step.subject)
    if fate is None or not (fate.down or fate.anew):
        return step
    return replace(
        step, disturbs=(*step.disturbs, *fate.down), anew=fate.anew, guards=(*step.guards, "upper_ready", LOSING)
    )


def _drained(work: HopWork, upper: Upper, node: str) -> Step:
    """What is to come back on another release needs a backup of what it runs."""
    step = _emptied(upper.system, _of_upper(work, upper), node)
    return replace(step, guards=(*step.guards, "backup_sealed")) if node in upper.laid else step


def _upper_returns(work: HopWork, node: str) -> list[Step]:
    """And comes back with it: seen to answer, taken back into service, and all of it whole."""
    made = []
    for upper in (one for one in work.uppers if node in one.on):
        laid = work.serves.get(upper.system.name)
        enters = upper.on[node] in upper.laid
        back = START_ON if enters else RETURN
        kinds = (back, "refill", STEADY) if upper.drains else (back, STEADY) if enters else (STEADY,)
        steps = [one_step(upper.system, _of_upper(work, upper), kind, upper.on[node]) for kind in kinds]
        made += [replace(step, to=laid) if enters and laid is not None else step for step in steps]
    return made


def _set_aside(steps: Sequence[Step]) -> list[Step]:
    """Between a node's leaving and the moment at which all is whole again, the system may not be left."""
    made, aside = list[Step](), False
    for number, step in enumerate(steps, 1):
        row = KINDS[step.kind]
        if aside:
            own = any(before.system == step.system and KINDS[before.kind].sets_aside for before in made)
            rest = step.safe_stop_s if number == len(steps) else None
            step = replace(step, aside=row.enters and own, safe_stop_s=rest)
        aside = aside or row.sets_aside
        made.append(step)
    return made
