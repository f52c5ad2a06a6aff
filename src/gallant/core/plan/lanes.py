"""A lane with what its hops mean for those who depend on the system, and the order of lanes that stand on one
another."""

from __future__ import annotations

import itertools
from collections.abc import Mapping, Sequence

from gallant.core.estate.stacks import falls, systems_above
from gallant.core.estate.systems import Estate, System, node_name
from gallant.core.plan.ground import Ground
from gallant.core.plan.guests import Carrying, downs
from gallant.core.records import replace
from gallant.core.shapes import SHAPES
from gallant.core.steps.away import out_s
from gallant.core.steps.kinds import CANCEL, KINDS, LOSING, PAUSE, SAVE_CONFIG, by_device, nodes_of
from gallant.core.work.plan import DEVICE_LED, UPDATE, Down, Hop, Lane, steps_of

DUE = "due"  # a facet in this state: something was configured, and waits to be applied


def lane_of(
    ground: Ground,
    system: System,
    hops: tuple[Hop, ...],
    left: Mapping[str, str],
    also: tuple[str, ...],
    kind: str = UPDATE,
) -> Lane:
    """A lane with what its hops mean for those who depend on the system."""
    down, knows = _down_s(system, hops), ground.known_of(system)
    led = any(by_device(step) for hop in hops for step in steps_of(hop.waves))
    return Lane(
        system=system.name,
        kind=DEVICE_LED if led and kind == UPDATE else kind,
        stops_by=next((word for word in (PAUSE, CANCEL) if word in knows.capabilities), "") if led else None,
        slots=knows.slots,
        hops=hops,
        down_s=down,
        hit=dependents(ground.estate, system) if down else (),
        left=dict(left),
        mute=_mute(ground, system, hops),
        also=also,
        closed=_closed(ground, system, hops),
        due=_due(ground, system, hops),
        falls=_falls(ground.estate, system, hops),
        loses=_loses(ground, hops),
        guests=_guests(ground, system, hops),
    )


def _closed(ground: Ground, system: System, hops: Sequence[Hop]) -> dict[str, tuple[str, ...]]:
    """The channels that are disabled where something of the lane comes through them, and that no step opens."""
    image, found = ground.image_of(system), dict[str, tuple[str, ...]]()
    for hop in hops:
        release = image.resolve(hop.to) if hop.image else None
        wanted = {part.channel for part in hop.parts} | ({release.channel} if release is not None else set())
        for node in {step.node for step in steps_of(hop.waves)} - hop.channels.keys():
            reading = ground.of(system).get(node)
            names = [c.name for c in (reading.channels or ()) if not c.enabled and c.name in wanted] if reading else []
            if names:
                found[node] = tuple(dict.fromkeys([*found.get(node, ()), *names]))
    return dict(sorted(found.items()))


def _due(ground: Ground, system: System, hops: Sequence[Hop]) -> dict[str, tuple[str, ...]]:
    """What waits to be applied on the nodes that are worked on, by node: it may take effect with the work."""
    concerned = {
        n for hop in hops for step in steps_of(hop.waves) if step.system == system.name for n in nodes_of(step)
    }
    found = {n: tuple(f.name for f in r.facets if f.state == DUE) for n, r in ground.of(system).items()}
    return {n: names for n, names in found.items() if names and n in concerned}


def _loses(ground: Ground, hops: Sequence[Hop]) -> tuple[str, ...]:
    """The nodes that go down with what they never saved, where no step saves it."""
    steps = [step for hop in hops for step in steps_of(hop.waves)]
    saved = {step.subject for step in steps if step.kind == SAVE_CONFIG}
    down = dict.fromkeys(name for step in steps if LOSING in step.guards for name in step.disturbs)
    readings = {name: ground.readings.get(name) for name in down if name not in saved}
    return tuple(name for name, reading in readings.items() if reading is not None and reading.unsaved)


def _falls(estate: Estate, system: System, hops: Sequence[Hop]) -> dict[str, float]:
    """The systems that stand on this one and are down with it, and for how long in all."""
    found: dict[str, float] = {}
    for track in (track for hop in hops for wave in hop.waves for track in wave.tracks):
        names = dict.fromkeys(n for s in track.steps for n in (*s.disturbs, *s.anew))
        for name in (n for n in names if not n.startswith(f"{system.name}/")):
            for fallen in falls(estate, [name]):
                found[fallen] = found.get(fallen, 0.0) + out_s(track.steps, name)
    return found


def _guests(ground: Ground, system: System, hops: Sequence[Hop]) -> tuple[Down, ...]:
    names = (system.name, *systems_above(ground.estate, system))
    systems = [ground.estate.systems[name] for name in names]
    readings = {s.name: {n: r for n in s.nodes if (r := ground.readings.get(node_name(s, n)))} for s in systems}
    knows = {s.name: ground.known_of(s) for s in systems}
    return tuple(downs(Carrying(estate=ground.estate, readings=readings, knows=knows), hops))


def one_after_the_other(estate: Estate, lanes: Sequence[Lane]) -> list[Lane]:
    """Two systems of which one stands on the other are never worked on at once. The lower one
    goes first, unless some requirement or the management of it by the upper one says
    otherwise. Lanes that wait for one another already, by turns, are ordered hop by hop."""
    done, at = list(lanes), {lane.system: n for n, lane in enumerate(lanes)}
    stands = [
        (lower, at[name])
        for lower, lane in enumerate(lanes)
        for name in systems_above(estate, estate.systems[lane.system])
        if name in at
    ]
    for lower, upper in sorted(stands):
        one, two = done[lower], done[upper]
        if any(two.system in hop.serves for hop in one.hops):
            continue  # they go hand in hand
        manages = estate.systems[one.system].managed_by == two.system or not SHAPES[
            estate.systems[two.system].shape
        ].tolerates(len(estate.systems[two.system].nodes))
        down, up = leads_to(done, one, two), leads_to(done, two, one)
        if down and up:
            _by_turns(done, lower, upper)
            continue
        first, then = (upper, lower) if down or (manages and not up) else (lower, upper)
        _wait(done, then, 0, done[first].hops[-1].id)
    return done


def _by_turns(lanes: list[Lane], one: int, other: int) -> None:
    """Hops of two lanes that neither wait for the other yet: the other's then waits."""
    for at in range(len(lanes[other].hops)):
        for hop in lanes[one].hops:
            its = lanes[other].hops[at].id
            if its not in waited_for(lanes, [hop.id]) and hop.id not in waited_for(lanes, [its]):
                _wait(lanes, other, at, hop.id)


def _wait(lanes: list[Lane], lane: int, at: int, need: str) -> None:
    hops = lanes[lane].hops
    if need not in hops[at].needs:
        waits = replace(hops[at], needs=(*hops[at].needs, need))
        lanes[lane] = replace(lanes[lane], hops=(*hops[:at], waits, *hops[at + 1 :]))


def leads_to(lanes: Sequence[Lane], one: Lane, other: Lane) -> bool:
    """Whether some hop of the first lane waits, in however many steps, for a hop of the other."""
    return not waited_for(lanes, [hop.id for hop in one.hops]).isdisjoint(hop.id for hop in other.hops)


def waited_for(lanes: Sequence[Lane], hops: Sequence[str]) -> set[str]:
    """The hops that some of these wait for, in however many steps; one of its own where hops wait in a circle."""
    needs = {hop.id: hop.needs for lane in lanes for hop in lane.hops}
    for lane in lanes:  # hops of one lane wait for one another
        needs |= {b.id: (*needs[b.id], a.id) for a, b in itertools.pairwise(lane.hops)}
    waiting, seen = [need for hop in hops for need in needs.get(hop, ())], set[str]()
    while waiting:
        at = waiting.pop()
        if at not in seen:
            seen.add(at)
            waiting += needs.get(at, ())
    return seen


def _mute(ground: Ground, system: System, hops: Sequence[Hop]) -> tuple[str, ...]:
    """The nodes that are installed on, and show nothing of that before they have restarted."""
    concerned = {step.node for hop in hops for step in steps_of(hop.waves) if KINDS[step.kind].alters}
    return tuple(n for n, reading in ground.of(system).items() if n in concerned and not reading.tells_work)


def _down_s(system: System, hops: Sequence[Hop]) -> float:
    """For how long a system's service is down in all; 0 where something of it carries on."""
    if not system.in_service or SHAPES[system.shape].tolerates(len(system.nodes)):
        return 0.0
    tracks = [track.steps for hop in hops for wave in hop.waves for track in wave.tracks]
    return sum(max(out_s(steps, node_name(system, node)) for node in system.nodes) for steps in tracks)


def dependents(estate: Estate, system: System) -> tuple[str, ...]:
    """Every system that uses this one, or stands on one of its nodes, or depends on such a system."""
    found: dict[str, None] = {}
    waiting = [system.name]
    while waiting:
        below = estate.systems[waiting.pop()]
        for other in _next_above(estate, below):
            if other != system.name and other not in found:
                found[other] = None
                waiting.append(other)
    return tuple(found)


def _next_above(estate: Estate, system: System) -> list[str]:
    """Those that use a system or stand on it themselves, in the order of the file."""
    above = {other.name for other in estate.users.get(system.name, ())}
    above |= {other.name for node in system.nodes for other, _ in estate.upper_nodes.get(node_name(system, node), ())}
    return sorted(above, key=estate.place_of.__getitem__)
