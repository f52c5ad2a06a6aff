"""A plan: its waves with their lengths, what is disturbed, what can be undone, what it leaves."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import TYPE_CHECKING, Annotated

from gallant.core.steps.away import out_s
from gallant.core.steps.kinds import by_device
from gallant.core.work.plan import Back, Hop, Lane, Plan, Step, steps_of, waves_seconds
from gallant.views.decide.claims import borne_lines
from gallant.views.ground.parts import Drawn, Listed, View
from gallant.views.ground.rows import ListRow, Says, Seconds
from gallant.views.ground.steps import hop_words, step_words
from gallant.views.ground.tables import LEVEL_MARKS, Grid, barred_lines, few, left_lines, next_steps, table
from gallant.views.ground.words import (
    BOLD,
    DIM,
    LOUD,
    OFF,
    YELLOW,
    clock,
    duration,
    many,
    mark,
    plain,
    said,
)
from gallant.views.plan.consequences import consequences

if TYPE_CHECKING:
    from gallant.core.checks.facts import Finding
    from gallant.core.work.paces import Spread
    from gallant.operations.decide.approving import Approval
    from gallant.operations.plan.calls import PlanCalls
    from gallant.operations.plan.making import Planned


class BackRow(ListRow):
    """What a back-out finds once a step is done: how it takes it back, and how long that lasts, or why it cannot."""

    does: str | None
    lasts: Seconds | None
    why_none: tuple[str, ...]


class StepShown(ListRow):
    """A step, in the plan's order."""

    step: str
    kind: str
    system: str
    node: str
    component: str
    to: str
    estimate: Seconds
    deadline: Seconds
    disturbs: tuple[str, ...]
    anew: Annotated[dict[str, float], Says("guests that are started anew elsewhere: for how many seconds each is down")]
    interrupts: Annotated[Seconds, Says("the service address may be unreachable for so long")]
    repeat: str
    undo: str | None
    back: Annotated[BackRow | None, Says("of steps that alter what a node runs")]
    safe_stop: Annotated[Seconds | None, Says("the system may be left so for so long")]
    expects: str


class CallRow(ListRow):
    """A call to a device, in the plan's order."""

    step: str
    at: Annotated[str, Says("the node that is spoken to")]
    doing: str
    call: str


STEPS: Listed[StepShown] = Listed(
    "plan",
    "plan, backout",
    beside=("id", "path", "systems", "estimate", "spread", "left", "barred", "opens", "rolled_by", "windows"),
)
CALLS: Listed[CallRow] = Listed("roll calls", "roll --show-calls", beside=("plan", "reads"))
APPROVED: Listed[Approval] = Listed("approve", "approve", beside=("missing",))


def plan_rows(plan: Plan) -> list[StepShown]:
    """A row for each step; `back` is what a back-out finds once it is done, for those that alter what a node runs."""
    backs = {back.step: back for lane in plan.lanes for back in lane.back if back.component}
    return [
        StepShown(
            step=s.id,
            kind=s.kind,
            system=s.system,
            node=s.node,
            component=s.component,
            to=s.to,
            estimate=s.estimate_s,
            deadline=s.deadline_s,
            disturbs=s.disturbs,
            anew=s.anew,
            interrupts=s.interrupts_s,
            repeat=s.repeat,
            undo=s.undo,
            back=_back_row(backs[s.id]) if s.id in backs else None,
            safe_stop=s.safe_stop_s,
            expects=s.expects,
        )
        for s in plan.steps()
    ]


def _back_row(back: Back) -> BackRow:
    return BackRow(does=back.does or None, lasts=back.lasts_s or None, why_none=tuple(back.why))


def plan_view(planned: Planned) -> View:
    plan: Plan = planned.plan
    more = {
        "id": plan.id,
        "path": planned.path,
        "systems": plan.systems,
        "estimate": plan.estimate_s,
        "spread": plan.spread,
        "left": [
            {"notice": n.notice.name, "installed": n.notice.installed, "target": n.notice.target, "why": n.why}
            for n in planned.left
        ],
        "barred": planned.barred,
        "opens": planned.opens,
        "rolled_by": planned.roll_id,
        "windows": [
            {
                "system": f.system,
                "longest_s": f.longest_s,
                "parts": [{"begin": s.begin, "end": s.end, "needed_s": n} for s, n in f.parts],
            }
            for f in planned.fits
        ],
    }
    return STEPS.view(plan_rows(plan), lambda: _plan_text(planned), more)


# Of a plan of more systems than these, alike ones are one row, and of what is said of each the first lines are shown.
MOST_LANES, MOST_ALIKE, MOST_LINES, MOST_NAMES = 20, 16, 8, 5


def _plan_text(planned: Planned) -> Drawn:
    plan = planned.plan
    told = ", ".join(plan.systems) if len(plan.systems) <= MOST_NAMES else many(len(plan.systems), "system")
    yield f"{BOLD}{plan.id}{OFF}  {told}  {_length(plan)}  {DIM}{planned.path}{OFF}"
    yield from _why_at_all(plan)
    yield from _order(plan)
    bad = mark("bad")
    parts: tuple[tuple[Iterable[str], str], ...] = (
        (_whom(planned), "line"),
        (sorted(consequences(plan), key=lambda line: not line.startswith(bad)), "consequence"),  # a word first
        (_learned(plan), "line"),
        (_window_lines(planned), "line"),
        (borne_lines(planned.borne), "line"),
        (barred_lines(planned.barred), "line"),
        (
            left_lines(
                [one.notice for one in planned.left], {one.notice.name: one.why or "not chosen" for one in planned.left}
            ),
            "component",
        ),
    )
    for lines, word in parts:
        yield from few(list(lines), MOST_LINES, word) if len(plan.lanes) > MOST_LANES else lines
    yield from _in_the_way(planned) if planned.roll_id is None else _rolled(planned)


def _why_at_all(plan: Plan) -> Iterator[str]:
    """Of a plan that brings no release: what it takes back, or what it is for."""
    if plan.undoes is not None:
        yield (
            f"{mark('note')} Takes back what {BOLD}{plain(plan.undoes)}{OFF} did, the newest change first; that"
            " roll ends when this one begins."
        )
    if plan.reason:
        yield f"{mark('note')} {_errand(plan)}: {plain(plan.reason)}"
    if plan.reason or plan.undoes is not None:
        yield ""


def _order(plan: Plan) -> Drawn:
    """The work in the order in which it ends: all systems at a glance, then hop by hop, then the rounds."""
    ends = plan.ends_s
    names = {
        hop.id: f"{hop.system} {plain(hop.to)}{' laid' if hop.lays else ''}" for lane in plan.lanes for hop in lane.hops
    }
    by_end = sorted(plan.lanes, key=lambda lane: min(ends[hop.id] for hop in lane.hops))
    if len(by_end) > MOST_LANES:
        yield from _fleet(by_end, ends, plan.spread)
    else:
        if len(by_end) > 1:
            yield _overview(by_end, ends, names, plan.spread)
        for lane in by_end:
            for hop in lane.hops:
                yield _hop_table(hop, [names[need] for need in hop.needs if need in names])
    if plan.rounds:
        yield from _rounds(plan)


def _whom(planned: Planned) -> Iterator[str]:
    """The systems that come along, and those of which only some nodes are worked on."""
    if planned.along:
        yield (
            f"{mark('note')} Taken along, since the others need {'it' if len(planned.along) == 1 else 'them'}"
            f" first: {BOLD}{plain(', '.join(planned.along))}{OFF}."
        )
    for name, nodes in planned.some.items():
        yield (
            f"{mark('work')} Of {BOLD}{plain(name)}{OFF} only {plain(', '.join(nodes))}, as chosen; its other nodes"
            " stay as they are."
        )


def _length(plan: Plan) -> str:
    """How long it takes: in half of all cases, and in nine of ten."""
    if plan.spread is None:
        return f"about {BOLD}{duration(plan.estimate_s)}{OFF}"
    whole = plan.spread.whole
    return f"about {BOLD}{duration(whole.p50_s)}{OFF}, within {BOLD}{duration(whole.p90_s)}{OFF} in nine cases of ten"


def _learned(plan: Plan) -> Iterator[str]:
    """What its length is known from."""
    if plan.spread is None:
        return
    if not plan.spread.seen:
        yield f"{mark('note')} Never run here: times are the publishers' estimates plus a margin."
        return
    yield (
        f"{mark('note')} Its length is known from {many(plan.spread.seen, 'step')} of this kind that were carried out"
        " before."
    )


def _in_the_way(planned: Planned) -> Drawn:
    """What a roll would be refused for today, then what else was found, and what to do before it."""
    plan: Plan = planned.plan
    stopping = [f for f in planned.findings if f.level == "stop"]
    lines = [_finding_line(plan, f) for f in stopping]
    lines += [
        f"{said('bad', 'stop')} {plain(name)} is not in stock, and the plan needs it" for name in planned.to_fetch
    ]
    lines += [f"{said('bad', 'stop')} {plain(bar.what)}" for bar in planned.bars]
    if planned.approvals:
        have = "has" if planned.approvals == 1 else "have"
        lines.append(
            f"{said('bad', 'stop')} {many(planned.approvals, 'other')} than {plain(plan.by)} {have} to approve it"
        )
    lines += [_finding_line(plan, f) for f in planned.findings if f.level != "stop"]
    yield from few(lines, MOST_LINES, "finding") if len(plan.lanes) > MOST_LANES else lines
    stops = [f.next for f in stopping]
    stops += [f"gallant stock fetch --plan {plan.id}"] if planned.to_fetch and not stops else []
    decide = list(dict.fromkeys(bar.next for bar in planned.bars))
    approve = [f"gallant approve {plan.id}, by somebody else"] if planned.approvals else []
    yield from next_steps(*stops, *decide, *approve, _begin(planned))


def _rolled(planned: Planned) -> Drawn:
    """What became of a plan that a roll took up."""
    if planned.under_way:
        yield f"{mark('going')} {plain(planned.roll_id)} took it up and is not finished."
    else:
        yield f"{mark('note')} {plain(planned.roll_id)} took it up, and has ended."
    yield from next_steps(f"gallant {'resume' if planned.under_way else 'history'} {planned.roll_id}")


def _finding_line(plan: Plan, f: Finding) -> str:
    whose = f"{plain(f.system)}: " if len(plan.systems) > 1 else ""
    return f"{said(LEVEL_MARKS[f.level], f.level)} {whose}{plain(f.message.rstrip('.'))}: {plain(f.evidence)}"


def _begin(planned: Planned) -> str:
    """The roll's command; with the time at which it is not refused, where that is not now."""
    return planned.roll if planned.opens is None else f"From {planned.opens:%Y-%m-%d %H:%M} UTC on: {planned.roll}"


def _window_lines(planned: Planned) -> Iterator[str]:
    """Which windows each lane takes, and what would help one that fits into none."""
    for fit in planned.fits:
        name = f"{BOLD}{plain(fit.system)}{OFF}"
        if not fit.parts:
            yield (
                f"{mark('bad')} {name} fits into none of its windows: from one rest to the next it may take"
                f" {duration(fit.longest_s)}, and that is longer than each, or they are too few. A longer window would"
                " do, or fewer at a time (--only, fewer hops)."
            )
            continue
        took = ", then ".join(
            f"{span.begin:%a %Y-%m-%d %H:%M} to {span.end:%H:%M} UTC ({duration(needed)} of"
            f" {duration(span.length.total_seconds())})"
            for span, needed in fit.parts[:3]
        )
        more = f" and {len(fit.parts) - 3} more" if len(fit.parts) > 3 else ""
        yield f"{mark('note' if len(fit.parts) == 1 else 'work')} Windows of {name}: {took}{more}." + (
            " It rests between them." if len(fit.parts) > 1 else ""
        )


def calls_view(shown: PlanCalls) -> View:
    def text() -> Drawn:
        yield f"{BOLD}{plain(shown.plan)}{OFF}  {DIM}every call in the plan's order; nothing was sent{OFF}"
        for step in shown.steps:
            if step.calls:
                yield f"{BOLD}{plain(step.at)}{OFF}  {plain(step.doing)}  {DIM}{plain(step.step)}{OFF}"
                yield from (f"    {plain(call)}" for call in step.calls)
        yield ""
        for system, calls in shown.reads.items():
            yield f"{BOLD}{plain(system)}{OFF}  read of each node before a step, and while it is waited for"
            yield from (f"    {plain(call)}" for call in calls)
        yield (
            f"{mark('note')} {{field}} is what an earlier answer gives. Logins, and what is asked again after an answer"
            " that was lost, come on top."
        )

    rows = [CallRow(step=s.step, at=s.at, doing=s.doing, call=call) for s in shown.steps for call in s.calls]
    return CALLS.view(rows, text, {"plan": shown.plan, "reads": shown.reads})


def approved_view(approval: Approval) -> View:
    def text() -> Drawn:
        if approval.needed and not approval.by:
            yield said("bad", f"{plain(approval.plan)} is approved by nobody whose own account wrote it.")
        elif approval.needed:
            yield said("good", f"{plain(approval.plan)} is approved by {plain(', '.join(approval.by))}.")
        else:
            yield said("note", f"{plain(approval.plan)} needs no approval; yours stands in the ledger all the same.")
        if approval.missing:
            yield said(
                "work", f"{many(approval.missing, 'other')} still {'has' if approval.missing == 1 else 'have'} to."
            )
        else:
            yield from next_steps(approval.roll)

    return APPROVED.view([approval], text, {"missing": approval.missing})


def _errand(plan: Plan) -> str:
    tasks = dict.fromkeys(hop.by_hand for lane in plan.lanes for hop in lane.hops if hop.by_hand)
    return f"A person's work at each node, {plain(', '.join(tasks))}" if tasks else "Every node is restarted as it is"


def _rounds(plan: Plan) -> Iterator[str]:
    """In which order systems may begin, and what has to be seen in between."""
    for number, each in enumerate(plan.rounds, 1):
        last = number == len(plan.rounds)
        soak = f", then {duration(each.soak_s)} to soak" if each.soak_s and not last else ""
        fail = (
            ""
            if last
            else (
                f"; the next round begins when {'all have' if not each.may_fail else f'all but {each.may_fail} have'}"
                " finished"
            )
        )
        yield (
            f"{mark('note')} Round {number}, {plain(each.name)}:"
            f" {BOLD}{plain(', '.join(each.systems))}{OFF}{soak}{fail}."
        )


def _hop_table(hop: Hop, after: Sequence[str]) -> Grid:
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
    waits = f"   {YELLOW}waits for {' and '.join(after)}{OFF}" if after else ""
    shown.title(f"{BOLD}{hop.system}  {hop_words(hop)}{OFF}   {duration(waves_seconds(hop.waves))}{waits}")
    for number, wave in enumerate(hop.waves, 1):
        for index, track in enumerate(wave.tracks):
            steps = "  ".join(f"{step_words(s, hop.system)} {DIM}{clock(s.estimate_s)}{OFF}" for s in track.steps)
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


def _overview(
    lanes: Sequence[Lane], ends: Mapping[str, float], names: Mapping[str, str], spread: Spread | None
) -> Grid:
    """Many systems at a glance, by when each is at its end: what it
    comes to, when, what it waits for, and what is away meanwhile."""
    shown = table(
        "system", "comes to", "begins", "ends", "within", "waits for", "away",
        right=("begins", "ends", "within"), optional=("waits for", "within"),
    )  # fmt: skip
    for lane in lanes:
        own = {hop.id for hop in lane.hops}
        first = lane.hops[0]
        waits = dict.fromkeys(names[n] for hop in lane.hops for n in hop.needs if n in names and n not in own)
        down = f"{LOUD}down {duration(lane.down_s)}{OFF}" if lane.down_s else _away_at_once(lane)
        shown.add_row(
            f"{BOLD}{plain(lane.system)}{OFF}",
            _comes_to(lane),
            duration(max(0.0, ends[first.id] - waves_seconds(first.waves))),
            duration(max(ends[hop.id] for hop in lane.hops)),
            duration(spread.lanes[lane.system].p90_s) if spread is not None and lane.system in spread.lanes else "–",
            ", ".join(waits),
            down,
        )
    return shown


def _fleet(lanes: Sequence[Lane], ends: Mapping[str, float], spread: Spread | None) -> Drawn:
    """Lanes that come to the same and take the same away in one row, those that end first in front."""
    groups: dict[tuple[str, str], list[Lane]] = {}
    for lane in lanes:
        down = f"down {duration(lane.down_s)}" if lane.down_s else _away_at_once(lane)
        groups.setdefault((_comes_to(lane), down), []).append(lane)
    shown = table(
        "systems", "of", "come to", "begin", "end", "within", "away", right=("systems", "begin", "end", "within")
    )
    for (target, down), members in list(groups.items())[:MOST_ALIKE]:
        names = [lane.system for lane in members]
        whose = f"{BOLD}{plain(', '.join(names[:2]))}{OFF}{f' and {len(names) - 2} more' if len(names) > 2 else ''}"
        begin = min(ends[lane.hops[0].id] - waves_seconds(lane.hops[0].waves) for lane in members)
        within = [spread.lanes[name].p90_s for name in names if spread is not None and name in spread.lanes]
        shown.add_row(
            str(len(members)),
            whose,
            target,
            duration(max(0.0, begin)),
            duration(max(ends[hop.id] for lane in members for hop in lane.hops)),
            duration(max(within)) if within else "–",
            f"{LOUD}{down}{OFF}" if members[0].down_s else down,
        )
    yield shown
    if len(groups) > MOST_ALIKE:
        left = sum(map(len, list(groups.values())[MOST_ALIKE:]))
        yield f"{mark('note')} {many(len(groups) - MOST_ALIKE, 'more row')} of {many(left, 'system')}"
    yield f"{DIM}--json has every step of every system; gallant plan SYSTEM plans one of them alone{OFF}"


def _comes_to(lane: Lane) -> str:
    """The last release of its image, and how many other components go along."""
    image = [plain(hop.to) for hop in lane.hops if hop.image][-1:]
    parts = {part.component for hop in lane.hops for part in hop.parts}
    along = [many(len(parts), "component")] if parts else []
    return " and ".join([*image, *along]) or plain(lane.hops[-1].to)


def _away_at_once(lane: Lane) -> str:
    if any(hop.served for hop in lane.hops):
        return "with its machines"
    waves = [w for hop in lane.hops for w in hop.waves if any(s.disturbs for s in steps_of((w,)))]
    if any(map(by_device, (s for w in waves for s in steps_of((w,))))):
        return "by its own device"
    most = max((sum(any(s.disturbs for s in t.steps) for t in w.tracks) for w in waves), default=0)
    return f"{many(most, 'node')} at a time" if most else "nothing"


def _disturbs(steps: Sequence[Step]) -> str:
    nodes = dict.fromkeys(n for s in steps for n in s.disturbs)
    if any(map(by_device, steps)):
        return f"{many(len(nodes), 'node')}, in its own order"
    gap, lasts = sum(s.interrupts_s for s in steps), dict[float, list[str]]()
    for node in nodes | dict.fromkeys(n for s in steps for n in s.anew):
        lasts.setdefault(out_s(steps, node), []).append(node)
    out = [f"{', '.join(names)} for {duration(seconds)}" for seconds, names in lasts.items()]
    return "; ".join(out + ([f"services {duration(gap) if gap >= 60 else f'{gap:g} s'}"] if gap else [])) or "nothing"
