"""Core records to tables: the worst and the next thing to do first, every number with its unit."""

from __future__ import annotations

import shutil
from collections.abc import Iterator, Sequence
from datetime import datetime
from typing import Any

from gallant.core.after.compare import NodeVerdict
from gallant.core.assess.notices import Notice
from gallant.core.errors import GallantError
from gallant.core.work.plan import Hop, Lane, Plan, Step, Wave, steps_of, waves_seconds
from gallant.views.output import PIPED_WIDTH, View
from gallant.views.words import (
    BOLD,
    DIM,
    LOUD,
    OFF,
    YELLOW,
    Marks,
    ago,
    clock,
    duration,
    many,
    mark,
    moment,
    plain,
    said,
    styled,
)

NARROW = 100  # columns; below, what only adds to the rest is left out

LEVEL_MARKS = Marks({"stop": "bad", "warn": "work", "note": "note", "pass": "good"})
STATE_MARKS = Marks(
    {
        "finished": "good",
        "running": "going",
        "held": "work",
        "stopped": "bad",
        "cut off": "bad",
        "ended": "note",
    }
)
STEP_MARKS = Marks(
    {
        "done": "good",
        "failed": "bad",
        "not_started": "work",
        "not_sent": "work",
        "open": "going",
        "to come": "quiet",
    }
)


class Grid:
    """A table with a ruled head and no other lines. Cells fold, they are never cut; where the screen is narrow, columns
    that only add to the others (`optional`) are left out."""

    def __init__(self, columns: Sequence[str], right: Sequence[str], optional: Sequence[str]) -> None:
        from rich import box
        from rich.table import Table

        narrow = shutil.get_terminal_size((PIPED_WIDTH, 40)).columns < NARROW
        self.kept = [not (narrow and column in optional) for column in columns]
        self.table = Table(
            box=box.SIMPLE_HEAD, pad_edge=False, padding=(0, 2, 0, 0), header_style="bold", show_edge=False
        )
        for number, column in enumerate(columns):  # what a row is about stays in one piece, however narrow the screen
            if self.kept[number]:
                whole = number == 0 or column in right
                self.table.add_column(
                    column, justify="right" if column in right else "left", overflow="fold", no_wrap=whole
                )

    def title(self, text: str) -> None:
        self.table.title, self.table.title_justify, self.table.title_style = styled(text), "left", "none"

    def add_row(self, *cells: str) -> None:
        self.table.add_row(*(styled(cell) for cell, kept in zip(cells, self.kept, strict=True) if kept))

    def __rich__(self) -> Any:
        return self.table


def table(*columns: str, right: Sequence[str] = (), optional: Sequence[str] = ()) -> Grid:
    return Grid(columns, right, optional)


def next_steps(*commands: str | None) -> list[str]:
    """What to do next, each once, as lines below a table."""
    return [f"{BOLD}next{OFF}  {plain(c)}" for c in dict.fromkeys(commands) if c]


def survey_view(result: Any, now: datetime) -> View:
    rows = [
        {
            "system": n.system,
            "node": n.node,
            "ok": n.reading is not None,
            "version": n.reading.version if n.reading else None,
            "role": n.reading.role if n.reading else None,
            "state": n.reading.state if n.reading else None,
            "last_read": n.last,
            "error": n.error,
            "next": n.next,
        }
        for n in result.nodes
    ]
    failed = [n for n in result.nodes if n.reading is None]

    def text() -> Any:
        shown = table(
            "node",
            "answer",
            "version",
            "role",
            "state",
            "sync",
            "serial",
            "took",
            right=("took",),
            optional=("serial", "took"),
        )
        for n in result.nodes:
            name = f"{n.system}/{n.node}"
            if n.reading is None:
                shown.add_row(f"{BOLD}{name}{OFF}", said("bad", "no reading"), "", "", "", "", "", f"{n.took_s:.2f} s")
                continue
            r = n.reading
            waits = (
                f"{r.version} {YELLOW}▲ next {plain(r.next_version)}{OFF}"
                if r.next_version not in (None, r.version)
                else plain(r.version)
            )
            shown.add_row(
                f"{BOLD}{name}{OFF}",
                said("good", "read"),
                waits,
                r.role,
                _state(r.state),
                _sync(r),
                plain(r.serial),
                f"{n.took_s:.2f} s",
            )
        yield shown
        for n in failed:
            yield f"{mark('bad')} {plain(n.error)} {DIM}(last read: {ago(n.last, now)}){OFF}"
        good = len(result.nodes) - len(failed)
        yield (
            f"{many(good, 'node')} read" + (f", {LOUD}{many(len(failed), 'node')} failed{OFF}" if failed else "") + "."
        )
        yield from next_steps(*(n.next for n in failed)) or next_steps("gallant gaps")

    return View("survey", rows, text)


def _state(state: str) -> str:
    return {"in_service": "in service", "out_of_service": f"{LOUD}out of service{OFF}"}.get(
        state, f"{YELLOW}{state}{OFF}"
    )


def _sync(reading: Any) -> str:
    if reading.in_sync is None:
        return "–"
    return "in sync" if reading.in_sync else f"{YELLOW}{plain(reading.sync_word)}{OFF}"


# --- plans ----------------------------------------------------------------------------------------------------------


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
        yield from _left(planned.left)
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


def _left(left: Sequence[Notice]) -> Iterator[str]:
    """What is not as its aim says and no plan covers yet: all is not well only because every image is."""
    for n in left:
        yield f"{mark('work')} Not in a plan yet, so by hand: {BOLD}{plain(n.name)}{OFF} {plain(', '.join(n.installed))} → {plain(n.target or '–')}."


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


# --- after the work -------------------------------------------------------------------------------------------------


def rolled_view(result: Any, run: Any) -> View:
    rows = history_rows([run])

    def text() -> Any:
        length = f" after {duration((run.ended - run.began).total_seconds())}" if run.ended else ""
        yield ""
        yield f"{BOLD}{result.id}{OFF} {said(STATE_MARKS[result.end.state], result.end.state)}{length}"
        yield plain(result.end.message)
        yield from _outage_lines(run)
        yield from (f"{mark('note')} {plain(remark)}" for remark in result.end.remarks)
        yield from next_steps(result.end.next)

    return View("roll", rows, text, {"message": result.end.message, "next": result.end.next})


MUCH_LONGER = 2.0  # than planned: an outage of which somebody should know why


def _outages_of(run: Any) -> str:
    """Not watched, none and not known are three answers."""
    if run.watched is None and not run.outages:
        return "not known"
    if run.watched == ():
        return "not watched"
    blind = f"; {duration(run.blind_s)} not watched" if run.blind_s >= 1 else ""
    if not run.outages:
        return f"none{blind}"
    return f"{len(run.outages)}, longest {max(o.measured or 0 for o in run.outages):.2f} s{blind}"


def _outage_lines(run: Any) -> Iterator[str]:
    if run.watched is None and not run.outages:
        yield f"{mark('note')} Whether services were out is not known: its journal does not say what was watched."
    elif run.watched and not run.outages:
        yield f"{mark('good')} Services answered all through the watch."
    for o in run.outages:
        planned = run.planned_outage_s
        long = o.measured is not None and planned and o.measured > MUCH_LONGER * planned
        length = f"{o.measured:.2f} s measured" if o.measured is not None else f"{LOUD}still out{OFF}"
        than = f", {LOUD}{o.measured / planned:.1f} times as long as planned{OFF}" if long else ""
        level = "bad" if o.measured is None else "work" if long else "note"
        yield f"{mark(level)} {o.service} was out at {moment(o.began)}: {length}{than} {DIM}({plain(o.why)}){OFF}"
    if run.unwatched:
        yield f"{mark('note')} Not watched: {plain(', '.join(run.unwatched))} has no service to probe."
    if run.blind_s >= 1:
        yield f"{mark('work')} For {duration(run.blind_s)} in between nothing was watched: no process carried {run.run} out."


def verify_view(done: Any) -> View:
    rows: Sequence[NodeVerdict] = done.verdicts

    def text() -> Any:
        shown = table("node", "verdict", "expected", "observed", "problems")
        for r in rows:
            shown.add_row(
                f"{BOLD}{r.system}/{r.node}{OFF}",
                said("good", "as it should be") if r.ok else said("bad", "not so"),
                plain(r.expected or "–"),
                plain(r.observed or "–"),
                plain("; ".join(r.problems)) or "none",
            )
        yield shown
        bad = [r.system for r in rows if not r.ok]
        yield (
            f"{mark('bad')} {many(len(bad), 'node')} of {len(rows)} not as they should be."
            if bad
            else (
                f"{mark('good')} Every node runs the system image that its aim asks for, roles are in their usual places, replicas are whole, services answer."
            )
        )
        for one in done.settled:
            yield f"{mark('note')} {plain(one.system)}: {f'the snapshot {plain(one.name)} ' if one.name else ''}{plain(one.what)}."
        yield from _left(done.left)
        yield from next_steps(
            *(f"gallant check {s}" for s in dict.fromkeys(bad)),
            *(f"gallant gaps {s}" for s in {n.system: 0 for n in done.left}),
        )

    more = {
        "snapshots": list(done.settled),
        "left": [{"notice": n.name, "installed": n.installed, "target": n.target} for n in done.left],
    }
    return View("verify", rows, text, more)


def history_rows(runs: Sequence[Any]) -> list[dict[str, Any]]:
    return [
        {
            "run": r.run,
            "plan": r.plan,
            "began": r.began,
            "ended": r.ended,
            "state": r.state,
            "systems": r.systems,
            "outages": [
                {"service": o.service, "began": o.began, "ended": o.ended, "seconds": o.seconds, "measured": o.measured}
                for o in r.outages
            ],
            "watched": r.watched,
            "unwatched": r.unwatched,
            "blind_seconds": r.blind_s,
            "message": r.message,
            "next": r.next,
        }
        for r in runs
    ]


def history_view(runs: Sequence[Any], damaged: Sequence[GallantError] = ()) -> View:
    def text() -> Any:
        yield from (f"{mark('bad')} {plain(error.what)} {DIM}{plain(error.why or '')}{OFF}" for error in damaged)
        shown = table(
            "roll", "state", "systems", "began", "took", "outages", "plan", optional=("plan", "began"), right=("took",)
        )
        for r in runs:
            shown.add_row(
                f"{BOLD}{r.run}{OFF}",
                said(STATE_MARKS[r.state], r.state),
                ", ".join(r.systems),
                moment(r.began),
                duration((r.ended - r.began).total_seconds()) if r.ended else "–",
                _outages_of(r),
                r.plan,
            )
        yield shown
        if not runs and not damaged:
            yield from next_steps("gallant plan SYSTEM")
        yield from next_steps(
            *(error.next for error in damaged),
            *(r.next for r in runs if r.state in ("held", "stopped", "cut off")),
            *(f"gallant history {r.run}" for r in runs[:1]),
        )

    return View("history", history_rows(runs), text, {"damaged": [error.what for error in damaged]})


def roll_steps_view(run: Any, steps: Sequence[Any]) -> View:
    def text() -> Any:
        length = f" in {duration((run.ended - run.began).total_seconds())}" if run.ended else ""
        yield f"{BOLD}{run.run}{OFF} {said(STATE_MARKS[run.state], run.state)}{length}  {', '.join(run.systems)}  {DIM}{run.plan}{OFF}"
        shown = table(
            "step",
            "state",
            "began",
            "took",
            "estimate",
            "what came of it",
            optional=("estimate", "began"),
            right=("took", "estimate"),
        )
        for s in steps:
            tries = f" ({s.attempts} attempts)" if s.attempts > 1 else ""
            shown.add_row(
                plain(s.step),
                said(STEP_MARKS[s.state], s.state) + tries,
                f"{s.began:%H:%M:%S}Z" if s.began else "–",
                clock(s.seconds) if s.seconds is not None else "–",
                clock(s.estimate),
                plain(s.message),
            )
        yield shown
        if run.message:
            yield plain(run.message)
        yield from _outage_lines(run)
        yield from next_steps(run.next)

    more = {"steps": steps}
    return View("history", history_rows([run]), text, more)


def journal_view(run: str, events: int, problems: Sequence[str]) -> View:
    rows = [{"run": run, "events": events, "ok": not problems, "problems": list(problems)}]

    def text() -> Any:
        if not problems:
            yield said("good", f"the journal of {run} is whole: {events} events, no gap, its grammar holds")
        else:
            yield said("bad", f"the journal of {run} is broken in {many(len(problems), 'place')}")
            yield from (f"  {plain(p)}" for p in problems)

    return View("history-verify", rows, text)


def validated_view(rows: Sequence[Any]) -> View:
    def text() -> Any:
        for r in rows:
            if r.problems:
                yield from (plain(p) for p in r.problems)
            else:
                yield f"{said('good', r.file)}  {DIM}{r.kind}{OFF}"
                if r.gives:
                    yield f"  gives {', '.join(r.gives)}"

    return View("validate", rows, text)


def lines_view(command: str, rows: Sequence[Any], *lines: str) -> View:
    """A short answer in a line or two."""
    return View(command, rows, lambda: lines)
