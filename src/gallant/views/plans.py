"""A plan: its waves with their lengths, what is disturbed, what can be undone, what it leaves."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

from gallant.core.work.plan import Hop, Lane, Plan, Step, Wave, steps_of, waves_seconds
from gallant.views.output import View
from gallant.views.tables import LEVEL_MARKS, left_lines, next_steps, table
from gallant.views.words import (
    BOLD,
    DIM,
    OFF,
    clock,
    duration,
    many,
    mark,
    plain,
    said,
)


def plan_rows(plan: Plan) -> list[dict[str, Any]]:
    return [
        {
            "step": s.id,
            "kind": s.kind,
            "system": s.system,
            "node": s.node,
            "to": s.to,
            "estimate": s.estimate_s,
            "deadline": s.deadline_s,
            "disturbs": s.disturbs,
            "interrupts": s.interrupts_s,
            "repeat": s.repeat,
            "undo": s.undo,
            "safe_stop": s.safe_stop_s,
            "expects": s.expects,
        }
        for s in plan.steps()
    ]


def plan_view(planned: Any) -> View:
    plan: Plan = planned.plan

    def text() -> Any:
        yield f"{BOLD}{plan.id}{OFF}  {', '.join(plan.systems)}  about {BOLD}{duration(plan.estimate_s)}{OFF}  {DIM}{planned.path}{OFF}"
        for lane in plan.lanes:
            for hop in lane.hops:
                yield _hop_table(hop)
        for name in planned.whole:
            yield f"{mark('note')} A plan takes the whole of a system: all nodes of {BOLD}{plain(name)}{OFF} are in it, not only those that were named."
        yield from _consequences(plan)
        yield from left_lines(planned.left)
        for f in planned.findings:
            yield f"{said(LEVEL_MARKS[f.level], f.level)} {plain(f.message.rstrip('.'))}: {plain(f.evidence)}"
        stops = [f.next for f in planned.findings if f.level == "stop"]
        yield from next_steps(*stops, f"gallant roll {plan.id}")

    more = {
        "id": plan.id,
        "path": planned.path,
        "systems": plan.systems,
        "estimate": plan.estimate_s,
        "left": [{"notice": n.name, "installed": n.installed, "target": n.target} for n in planned.left],
    }
    return View("plan", plan_rows(plan), text, more)


def _hop_table(hop: Hop) -> Any:
    shown = table(
        "wave",
        "node",
        "steps, each about min:s",
        "disturbs",
        "about",
        "may be left",
        optional=("may be left", "about"),
        right=("about",),
    )
    shown.title(f"{BOLD}{hop.system}  {plain(hop.from_)} → {plain(hop.to)}{OFF}   {duration(waves_seconds(hop.waves))}")
    for number, wave in enumerate(hop.waves, 1):
        for index, track in enumerate(wave.tracks):
            steps = "  ".join(f"{s.kind} {DIM}{clock(s.estimate_s)}{OFF}" for s in track.steps)
            rest = duration(track.steps[-1].safe_stop_s) if track.steps[-1].safe_stop_s else "no"
            about = clock(sum(s.estimate_s for s in track.steps))
            shown.add_row(
                f"{number} {plain(wave.why)}" if index == 0 else "",
                track.node,
                steps,
                _disturbs(track.steps),
                about,
                rest,
            )
    return shown


def _disturbs(steps: Sequence[Step]) -> str:
    nodes = [n for s in steps for n in s.disturbs]
    gap = sum(s.interrupts_s for s in steps)
    out = [f"{', '.join(nodes)} for {duration(sum(s.estimate_s for s in steps if s.disturbs))}"] if nodes else []
    return "; ".join(out + ([f"services {gap:g} s"] if gap else [])) or "nothing"


def _consequences(plan: Plan) -> Any:
    moves = [s for s in plan.steps() if s.interrupts_s]
    if moves:
        yield f"{mark('note')} Services: nowhere for about {moves[0].interrupts_s:g} s at each of {many(len(moves), 'move')} of the active role; answering otherwise."
    alone = [
        w
        for lane in plan.lanes
        for hop in lane.hops
        for w in hop.waves
        if any(s.disturbs and not s.alone for s in steps_of((w,)))
    ]
    for lane in plan.lanes:
        if any(s.alone for hop in lane.hops for s in steps_of(hop.waves)):
            yield f"{mark('note')} {plain(lane.system)} is not in service: nobody waits for its nodes, so all are worked on at once."
    if alone:
        yield f"{mark('note')} Redundancy: one node is away {many(len(alone), 'time')}, about {duration(_away(alone[0]))} each, until its replica is whole."
    for lane in plan.lanes:
        yield f"{mark('note')} {_restore_points(lane)}"
        for hop in lane.hops:
            if hop.one_way:
                yield f"{mark('bad')} {BOLD}No way back from {plain(hop.to)}{OFF}: {plain(hop.one_way_because or 'the publisher gives none')}. Needs --consent one-way:{lane.system}."
            if not hop.snapshots:
                yield f"{mark('work')} On {plain(hop.to)} {lane.system} cannot be snapshotted any more; its backups are the way back."
            if hop.despite_recall:
                yield f"{mark('bad')} {BOLD}{plain(hop.to)} was recalled{OFF} and is finished all the same. Needs --consent recalled:{lane.system}."
        yield from _way_back(lane)


def _way_back(lane: Lane) -> Iterator[str]:
    """What a node keeps of its old release, by its profile."""
    if any(hop.one_way for hop in lane.hops):
        return
    name = plain(lane.system)
    if lane.slots > 1:
        yield f"{mark('good')} {name}: nothing here is one-way; a node keeps its old release in the other slot until the next hop."
    else:
        yield f"{mark('note')} {name}: no step is one-way, but its nodes keep no second image: the way back is to install the old release again."


def _restore_points(lane: Any) -> str:
    """What of each hop is there to go back to, beside its backup."""
    name, before = plain(lane.system), [plain(hop.to) for hop in lane.hops if hop.restore_point]
    if not before:
        return f"No snapshot of {name}: neither its profile nor a host below it knows how, or its release cannot. Its backups are the way back."
    each = "each hop" if len(before) == len(lane.hops) > 1 else " and ".join(before)
    return f"A snapshot of {name} is taken before {each}; the newest stays until all was well for the soak time, and gallant verify removes it then."


def _away(wave: Wave) -> float:
    return sum(s.estimate_s for s in steps_of((wave,)) if s.kind in ("restart", "steady"))
