"""What a plan means for services and for each system, and what there is to go back to; in words for who reads it."""

from __future__ import annotations

from collections.abc import Iterator

from gallant.core.steps.away import out_s
from gallant.core.steps.kinds import LOOK_OVER, by_device
from gallant.core.work.plan import BACKOUT, Hop, Lane, Plan, Wave, steps_of
from gallant.views.ground.words import BOLD, OFF, duration, many, mark, plain


def consequences(plan: Plan) -> Iterator[str]:
    """What the work means for services, for redundancy and for each system, and what there is to go back to."""
    moves = [s for s in plan.steps() if s.interrupts_s and not s.disturbs]
    if moves:
        yield (
            f"{mark('note')} Services: nowhere for about {moves[0].interrupts_s:g} s at each of"
            f" {many(len(moves), 'move')} of the active role; answering otherwise."
        )
    for lane in plan.lanes:
        if any(s.alone for hop in lane.hops for s in steps_of(hop.waves)):
            yield (
                f"{mark('note')} {plain(lane.system)} is not in service: nobody waits for its nodes, so all are worked"
                " on at once."
            )
    yield from _redundancy(plan)
    without = [one.system for one in plan.lanes if one.enters and not any(hop.restore_point for hop in one.hops)]
    if without:
        yield (
            f"{mark('note')} No snapshot of {plain(', '.join(without))}: neither a profile nor a host below knows how,"
            " or the release cannot. Backups are the way back."
        )
    for lane in plan.lanes:
        yield from _of_lane(lane)


def _redundancy(plan: Plan) -> Iterator[str]:
    """How often, and for how long, some nodes are away while the others carry the service."""
    hops = (hop for lane in plan.lanes if not lane.down_s for hop in lane.hops)
    alone = [wave for hop in hops for wave in hop.waves if _takes_redundancy(wave)]
    if not alone:
        return
    most = max(sum(any(s.disturbs for s in t.steps) for t in wave.tracks) for wave in alone)
    who = "one node is" if most == 1 else f"up to {most} nodes are"
    yield (
        f"{mark('note')} Redundancy: {who} away {many(len(alone), 'time')}, about"
        f" {duration(max(map(_away, alone)))} each, until all is whole again."
    )


def _takes_redundancy(wave: Wave) -> bool:
    return any(step.disturbs and not step.alone and not by_device(step) for step in steps_of((wave,)))


def _of_lane(lane: Lane) -> Iterator[str]:
    """What a lane means for those who depend on its system, and what there is to go back to."""
    yield from _downtime(lane)
    yield from _of_guests(lane)
    if lane.mute:
        names = ", ".join(f"{lane.system}/{node}" for node in lane.mute)
        yield (
            f"{mark('work')} {plain(names)} list{'s' if len(lane.mute) == 1 else ''} nothing of its work: whether an"
            " install took effect is seen only after its restart."
        )
    if lane.enters and (told := _restore_points(lane)):
        yield f"{mark('note')} {told}"
    yield from _ways_back(lane) if lane.kind == BACKOUT else ()
    yield from _before_work(lane)
    if lane.by_device:
        yield (
            f"{mark('work')} {BOLD}{plain(lane.system)} brings its nodes to a release by itself{OFF}: one order a hop,"
            f" in an order of its own. {_STOPS_BY.get(lane.stops_by or '', '')}"
        )
    for hop in lane.hops:
        yield from _of_hop(lane.system, hop)
    if lane.enters:
        yield from _way_back(lane)


def _downtime(lane: Lane) -> Iterator[str]:
    """What is down meanwhile: the system itself, and those that stand on it."""
    if lane.down_s:
        hit = f" Hit by it: {plain(', '.join(lane.hit))}." if lane.hit else ""
        yield (
            f"{mark('bad')} {BOLD}{plain(lane.system)} is down for about {duration(lane.down_s)}{OFF}: nothing of it"
            f" carries on.{hit} Needs --consent downtime:{lane.system}."
        )
    for name, seconds in lane.falls.items():
        yield (
            f"{mark('bad')} {BOLD}{plain(name)} is down for about {duration(seconds)}{OFF} in all: it stands on"
            f" {plain(lane.system)}. Needs --consent downtime:{name}."
        )


def _before_work(lane: Lane) -> Iterator[str]:
    """What its nodes show that has to be known, or dealt with, before the work."""
    for node, channels in lane.closed.items():
        yield (
            f"{mark('bad')} {BOLD}{plain(lane.system)}/{plain(node)}: {plain(', '.join(channels))}"
            f" {'is' if len(channels) == 1 else 'are'} disabled{OFF}, and something of this comes through it: enable it"
            " before, and disable it after."
        )
    for node, waiting in lane.due.items():
        yield (
            f"{mark('work')} {plain(lane.system)}/{plain(node)}: {plain(', '.join(waiting))}"
            f" {'is' if len(waiting) == 1 else 'are'} due: what was configured waits to be applied, and may take effect"
            " with this work."
        )


MOST_GUESTS = 6  # of one node that are named


def _of_guests(lane: Lane) -> Iterator[str]:
    """What is down meanwhile of what its nodes carry, by name: those
    that cannot move one by one, all others by their node."""
    for down in (d for d in lane.guests if d.why):
        yield (
            f"{mark('work')} {BOLD}{plain(down.guest)}{OFF} cannot move from {plain(down.node)} ({plain(down.why)}),"
            f" and is down for about {duration(down.down_s)}."
        )
    free = [down for down in lane.guests if not down.why]
    for node, lasts, elsewhere in dict.fromkeys((d.node, d.down_s, d.elsewhere) for d in free):
        names = [plain(d.guest) for d in free if (d.node, d.down_s, d.elsewhere) == (node, lasts, elsewhere)]
        more = f" and {len(names) - MOST_GUESTS} more" if len(names) > MOST_GUESTS else ""
        does = "each started anew elsewhere, and down for" if elsewhere else "down, since its guests are not moved, for"
        yield (
            f"{mark('work')} {plain(node)}: {many(len(names), 'guest')} {does} about {duration(lasts)}:"
            f" {', '.join(names[:MOST_GUESTS])}{more}."
        )


# What can be done about a device that works by itself, and what cannot.
_STOPS_BY = {
    "pause": (
        "Should it take more nodes than its shape tolerates, or one while another is not whole, it is told to pause"
        " between two nodes, as at a hold; which node is next cannot be chosen."
    ),
    "cancel": (
        "Should it take more nodes than its shape tolerates, or one while another is not whole, it is told to give up,"
        " as at a hold; which node is next cannot be chosen."
    ),
    "": (
        "Once begun it cannot be stopped from here: should it take more nodes than its shape tolerates, Gallant can"
        " only say so, and holds when it is done."
    ),
}


def _of_hop(system: str, hop: Hop) -> Iterator[str]:
    """What cannot be undone, or is done against somebody's word."""
    if hop.lays:
        yield (
            f"{mark('note')} {plain(system)}: {plain(hop.to)} is laid on its nodes first, and the restart of each"
            f" machine below enters it: a node is emptied once. From then on it enters {plain(hop.to)} at any start."
        )
        return
    for node, channels in hop.channels.items():
        yield (
            f"{mark('bad')} {BOLD}{plain(system)}/{plain(node)}: {plain(', '.join(channels))}{OFF} is enabled before"
            f" the work and disabled after it. Needs --consent channel:{system}."
        )
    if hop.settings:
        looks = any(step.kind == LOOK_OVER for step in steps_of(hop.waves))
        then = "; a step has somebody look at them" if looks else ""
        yield (
            f"{mark('work')} New in {plain(hop.to)} of {plain(system)}, worth a look{then}:"
            f" {plain('; '.join(one.words for one in hop.settings))}."
        )
    if not hop.snapshots:
        yield (
            f"{mark('work')} On {plain(hop.to)} {system} cannot be snapshotted any more; its backups are the way back."
        )
    if hop.despite_recall:
        yield (
            f"{mark('bad')} {BOLD}{plain(hop.to)} was recalled{OFF} and is"
            f" {'what ran before' if hop.back else 'finished all the same'}. Needs --consent recalled:{system}."
        )


def _ways_back(lane: Lane) -> Iterator[str]:
    """By which way each hop goes back."""
    name = plain(lane.system)
    yield from dict.fromkeys(line for hop in lane.hops for line in _hop_back(name, hop))
    if any(hop.rewinds is None for hop in lane.hops):
        yield (
            f"{mark('note')} Settings of {name} are not touched: gallant backup diff {name} shows what differs then,"
            " gallant backup restore brings it back."
        )


def _hop_back(name: str, hop: Hop) -> Iterator[str]:
    kinds = {step.kind for step in steps_of(hop.waves)}
    back = f"{name} to {plain(hop.to)}"
    if hop.rewinds is not None:
        yield (
            f"{mark('bad')} {BOLD}{back}: by its restore point{OFF}, so that everything since then is lost on it. Needs"
            f" --consent loses:{name}."
        )
    if "fall_back" in kinds:
        yield f"{mark('good')} {back}: its other slot holds it still; nothing is installed."
    if "install" in kinds and hop.package is not None:
        yield (
            f"{mark('note')} {back}: installed again from {plain(hop.package.name)}; its replicas are brought up to"
            " date from its peers."
        )


def _way_back(lane: Lane) -> Iterator[str]:
    """What a back-out finds once its steps are done, as the planner of back-outs has it."""
    name = plain(lane.system)
    if none := lane.one_way:
        yield f"{mark('bad')} {BOLD}{name}{OFF}: {plain('; '.join(none).rstrip('.'))}. Needs --consent one-way:{name}."
    if bound := dict.fromkeys(why for back in lane.back if not back.component for why in back.why):
        yield f"{mark('work')} {name} cannot go back by itself once others went on: {plain('; '.join(bound))}."
    for waits in dict.fromkeys(back.waits for back in lane.back if back.waits):
        yield f"{mark('work')} {name}: while its work begins, nothing could be taken back: {plain(waits)}"
    renewed = next((hop.to for hop in lane.hops if hop.renews_spare), None)
    if renewed is not None:
        yield (
            f"{mark('work')} {name}: at the end its spare slot is brought to {plain(renewed)} too; from then on no slot"
            " holds the old release."
        )
    ways = [back for back in lane.back if back.does]
    if ways:
        longest = max(ways, key=lambda back: back.lasts_s)
        what = "what is done before that" if none else "each of its steps"
        yield (
            f"{mark('note' if none else 'good')} {name}: gallant backout takes back {what}, in at most"
            f" {duration(longest.lasts_s)} (first {plain(longest.does)})."
        )


def _restore_points(lane: Lane) -> str | None:
    """What of each hop is there to go back to, besides its backup."""
    name, before = plain(lane.system), [plain(hop.to) for hop in lane.hops if hop.restore_point]
    if not before:
        return None
    each = "each hop" if len(before) == len(lane.hops) > 1 else " and ".join(before)
    return (
        f"A snapshot of {name} is taken before {each}; the newest stays until all was well for the soak time, and"
        " gallant verify removes it then."
    )


def _away(wave: Wave) -> float:
    return max(
        max((out_s(t.steps, node) for s in t.steps for node in s.disturbs), default=0.0)
        + sum(s.estimate_s for s in t.steps if s.ends_node)
        for t in wave.tracks
    )
