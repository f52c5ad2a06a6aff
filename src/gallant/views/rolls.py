"""Rolls after they ran: how each ended, its steps, outages and
what was not watched; and whether all is as it should be."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import datetime
from itertools import groupby
from typing import TYPE_CHECKING

from gallant.core.after.claims import Claim
from gallant.core.after.compare import NodeVerdict
from gallant.core.after.picture import BETTER, LOST, OTHER, PLANNED, Unlike
from gallant.core.after.settling import AT_REST, SETTLED, Judged, valued
from gallant.core.after.still import HOP, RESTART, Still
from gallant.core.assess.lookup import Match
from gallant.core.errors import GallantError
from gallant.views.claims import claim_lines
from gallant.views.parts import Drawn, View
from gallant.views.tables import Grid, left_lines, next_steps, table
from gallant.views.words import (
    BOLD,
    DIM,
    LOUD,
    OFF,
    WordMarks,
    clock,
    duration,
    many,
    mark,
    moment,
    plain,
    said,
)

if TYPE_CHECKING:
    from gallant.core.assess.outages import Outage
    from gallant.core.work.learning import Spread
    from gallant.operations.after.history import Run, StepRow, Totals, WasDown
    from gallant.operations.after.settling import Settling
    from gallant.operations.after.verify import Verified
    from gallant.operations.length.durations import Learned
    from gallant.operations.roll.detaching import Detached
    from gallant.operations.roll.rolling import HoldAsked, RollEnded

STATE_MARKS = WordMarks(
    {
        "finished": "good",
        "running": "going",
        "followed": "going",
        "held": "work",
        "stopped": "bad",
        "cut off": "bad",
        "ended": "note",
    }
)
STEP_MARKS = WordMarks(
    {
        "done": "good",
        "failed": "bad",
        "not_started": "work",
        "not_sent": "work",
        "open": "going",
        "to come": "quiet",
    }
)


def detached_view(done: Detached) -> View:
    def text() -> Drawn:
        yield (
            f"{said('going', str(done.roll))}  goes on by itself; the terminal is yours. {DIM}What it says is in"
            f" {plain(done.log)}{OFF}"
        )
        yield from next_steps(
            f"gallant roll --follow {done.roll}", f"gallant hold {done.roll}", f"gallant history {done.roll}"
        )

    return View("detached", [done], text)


def rolled_view(result: RollEnded, run: Run) -> View:
    rows = history_rows([run])

    def text() -> Drawn:
        length = f" after {duration((run.ended - run.began).total_seconds())}" if run.ended else ""
        yield ""
        yield f"{BOLD}{result.id}{OFF} {said(STATE_MARKS[result.end.state], result.end.state)}{length}"
        yield plain(result.end.message)
        yield from _outage_lines(run)
        yield from (f"{mark('note')} {plain(remark)}" for remark in result.end.remarks)
        yield from unlike_lines(result.unlike)
        yield from match_lines([result.like] if result.like is not None else [])
        yield from next_steps(result.end.next)

    more = {"message": result.end.message, "next": result.end.next, "unlike": result.unlike, "like": result.like}
    return View("roll", rows, text, more)


def asked_view(asked: Sequence[HoldAsked], now: bool) -> View:
    """What was asked of each roll; that it holds is seen in its history."""
    when = "as soon as the act under way has ended" if now else "at its next safe stop"

    def text() -> Drawn:
        for one in asked:
            if not one.running:
                yield said("note", f"No process carries {one.run} out; it stands still already.")
            elif one.trouble is not None:
                yield said("bad", f"{one.run} was asked to hold, and does not: {one.trouble}.")
            else:
                yield said("going", f"{one.run} was asked to hold {when}.")
        yield from next_steps(
            *(one.next for one in asked), f"gallant history{f' {asked[0].run}' if len(asked) == 1 else ''}"
        )

    rows = [{"run": one.run, "state": "holding" if one.running else "still", "trouble": one.trouble} for one in asked]
    return View("hold", rows, text)


MUCH_LONGER = 2.0  # than planned: an outage of which somebody should know why


def _outages_of(run: Run) -> str:
    """Not watched, none and not known are three answers."""
    if run.watched is None and not run.outages:
        return "not known"
    if run.watched == ():
        return "not watched"
    blind = f"; {duration(run.blind_s)} not watched" if run.blind_s >= 1 else ""
    if not run.outages:
        return f"none{blind}"
    return f"{len(run.outages)}, longest {max(o.measured or 0 for o in run.outages):.2f} s{blind}"


LOOSE = (
    0.5  # of what was measured, and half a second: further apart, what an outage lasted is said as what it lay between
)


def between(outage: Outage) -> str:
    """Within what the true length lies, where the service was asked too rarely to know it well."""
    if outage.measured is None or outage.least is None:
        return ""
    if outage.most is None:
        return f", at least {outage.least:.2f} s"
    apart = outage.most - outage.least
    if apart <= max(LOOSE * outage.measured, LOOSE):
        return ""
    why = "Gallant stood still meanwhile" if outage.unseen else f"it was asked about every {apart / 2:.2g} s"
    return f", between {outage.least:.2f} and {outage.most:.2f} s: {why}"


def down_words(down: WasDown) -> str:
    """For how long a system was down, beside what somebody accepted."""
    planned = f"about {duration(down.planned_s)} were planned and accepted"
    if not down.by:
        return f"was not watched while it was down; {planned}"
    if down.goes_on:
        return f"is down still, by {down.by}; {planned}"
    if not down.seen_s:
        return f"was not seen to be down at all, by {down.by}; {planned}"
    return f"was down for {duration(down.seen_s)} in all, by {down.by}; {planned}"


def _down_level(down: WasDown) -> str:
    if down.goes_on:
        return "bad"
    return "note" if down.by and down.seen_s <= down.planned_s else "work"


def _outage_lines(run: Run) -> Iterator[str]:
    for down in run.downs if run.watched is not None and run.state != "running" else ():
        yield f"{mark(_down_level(down))} {plain(down.system)} {plain(down_words(down))}."
    if run.watched is None and not run.outages:
        yield f"{mark('note')} Whether services were out is not known: its journal does not say what was watched."
    elif run.watched and not run.outages:
        yield f"{mark('good')} Services answered all through the watch."
    for o in run.outages:
        planned = run.planned_outage_s
        times = o.measured / planned if o.measured is not None and planned else 0
        length = f"{o.measured:.2f} s measured{between(o)}" if o.measured is not None else f"{LOUD}still out{OFF}"
        than = f", {LOUD}{times:.1f} times as long as planned{OFF}" if times > MUCH_LONGER else ""
        level = "bad" if o.measured is None else "work" if times > MUCH_LONGER else "note"
        yield f"{mark(level)} {o.service} was out at {moment(o.began)}: {length}{than} {DIM}({plain(o.why)}){OFF}"
    if run.unwatched:
        yield (
            f"{mark('note')} Not watched: {plain(', '.join(run.unwatched))}"
            f" ha{'s' if len(run.unwatched) == 1 else 've'} no service to probe."
        )
    if run.blind_s >= 1:
        yield (
            f"{mark('work')} For {duration(run.blind_s)} in between nothing was watched: no process carried {run.run}"
            " out."
        )


def verify_view(done: Verified) -> View:
    rows: Sequence[NodeVerdict] = done.verdicts

    def text() -> Drawn:
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
                f"{mark('good')} Every node runs the system image that its aim asks for, roles are in their usual"
                " places, replicas are whole, services answer."
            )
        )
        yield from unlike_lines(done.unlike)
        if done.against is not None and done.since is not None:
            yield _as_before(done.unlike, done.compared, _called(done.against), done.since)
        if done.settling is not None:
            yield from settling_lines(done.settling)
        if done.kept is not None:
            yield f"{mark('good')} How it is now is kept as {BOLD}{plain(done.kept)}{OFF}."
        yield from still_lines(done.still)
        yield from left_lines(done.left)
        for one in done.settled:
            yield (
                f"{mark('note')} {plain(one.system)}:"
                f" {f'the snapshot {plain(one.name)} ' if one.name else ''}{plain(one.what)}."
            )
        for row in done.backups:
            taken = f"is kept as {row.backup.id}" if row.backup is not None else f"failed: {row.error}"
            yield f"{mark('good' if row.error is None else 'bad')} The backup of {plain(row.system)} {plain(taken)}"
        judged = done.settling.judged if done.settling is not None else ()
        unsettled = dict.fromkeys(one.system for one in judged if one.state not in AT_REST)
        lost = dict.fromkeys(one.system for one in done.unlike if one.means == LOST)
        yield from next_steps(
            *(one.next for one in done.still if one.next and one.about == HOP),
            *(f"gallant check {s}" for s in dict.fromkeys([*bad, *lost, *unsettled])),
            *(f"gallant verify {s} --settle 2h" for s in unsettled),
            *dict.fromkeys(one.next for one in done.still if one.next and one.about != HOP),
            *(f"gallant gaps {s}" for s in {n.system: 0 for n in done.left}),
        )

    more = {
        "still": done.still,
        "settling": done.settling,
        "backups": [
            {"system": r.system, "backup": r.backup.id if r.backup else None, "error": r.error} for r in done.backups
        ],
        "unlike": done.unlike,
        "against": done.against,
        "kept": done.kept,
        "snapshots": list(done.settled),
        "left": [{"notice": n.name, "installed": n.installed, "target": n.target} for n in done.left],
    }
    return View("verify", rows, text, more)


SETTLING_MARKS = WordMarks(
    {
        "settled": "good",
        "at another level": "note",
        "still settling": "going",
        "creeping": "work",
        "slower": "bad",
        "running out": "bad",
    }
)
MOST_STILL = 8


def settling_lines(found: Settling) -> Drawn:
    """Whether it is settled: what is not in a table, what is in one line."""
    lasted = duration((found.ended - found.began).total_seconds())
    moving = [one for one in found.judged if one.state != SETTLED]
    yield ""
    if moving:
        shown = table(
            "number", "stands", "before", "now", "an hour", "in about", right=("before", "now", "an hour", "in about")
        )
        for one in moving:
            words = one.state + (", as before the work" if one.as_before else "")
            shown.add_row(
                f"{BOLD}{plain(one.system)}{f'/{plain(one.node)}' if one.node else ''}{OFF} {plain(one.about)}",
                said(SETTLING_MARKS[one.state], words),
                valued(one.before, one.unit) if one.before is not None else "–",
                valued(one.now, one.unit),
                _an_hour(one),
                duration(one.wait_s) if one.wait_s is not None else "–",
            )
        yield shown
    level = [one for one in found.judged if one.state == SETTLED]
    if not found.judged:
        yield (
            f"{mark('note')} Whether it is settled cannot be told: no node of it tells a number, and no service"
            " answered."
        )
    elif not moving:
        yield (
            f"{mark('good')} {BOLD}Settled{OFF}: {many(len(level), 'number')} watched for {lasted}, none of them moves"
            " away from where it was."
        )
    elif level:
        yield f"{mark('good')} {many(len(level), 'other number')} watched for {lasted}: settled."
    unknown = sum(one.before is None for one in found.judged)
    if unknown:
        yield (
            f"{mark('note')} Of {many(unknown, 'number')} nothing is known of the time before; they were judged by how"
            " they move alone."
        )


def _an_hour(one: Judged) -> str:
    """What a number rises by in an hour, and within what that lies in 99 of 100 cases."""
    if one.least_per_h is None or one.most_per_h is None:
        return _signed(one.per_h, one.unit)
    return (
        f"{_signed(one.per_h, one.unit)} ({_signed(one.least_per_h, one.unit)} to {_signed(one.most_per_h, one.unit)})"
    )


def _signed(value: float, unit: str) -> str:
    return f"{'+' if value > 0 else '−'}{valued(abs(value), unit)}"


def still_lines(still: Sequence[Still]) -> Iterator[str]:
    """What is not over yet; the same of several nodes is one line."""
    groups = dict[tuple[str, str, str], list[str]]()
    for one in still:
        groups.setdefault((one.about, one.system, one.what), []).append(one.node)
    for (about, system, what), nodes in list(groups.items())[:MOST_STILL]:
        of = ",".join(node for node in nodes if node)
        named = f"{BOLD}{plain(f'{system}/{of}' if of else system)}{OFF}: " if system else ""
        yield f"{mark('work' if about == RESTART else 'note')} {named}{plain(what)}."
    if len(groups) > MOST_STILL:
        yield f"{mark('note')} {len(groups) - MOST_STILL} more of that kind; --json names them."


def match_lines(found: Sequence[Match]) -> Iterator[str]:
    """What is known that is like a message, and what helped then."""
    for one in found:
        helped = f"; then: {plain(one.known.helped)}" if one.known.helped else ""
        source = (
            f"{plain(one.known.source)} of {BOLD}{plain(one.known.about)}{OFF}"
            if one.known.source != "roll"
            else f"{BOLD}{plain(one.known.about)}{OFF}"
        )
        by = f"  {DIM}{plain(one.known.by)}{OFF}" if one.known.by else ""
        yield f"{mark('note')} {source}, {100 * one.likeness:.0f} % alike: {plain(one.known.text)}{helped}{by}"


def found_view(text: str, found: Sequence[Match]) -> View:
    def told() -> Drawn:
        if not found:
            yield said("note", "Nothing that is known here is like it.")
            yield from next_steps("gallant note add PRODUCT|SYSTEM TEXT keeps what you learn of it")
            return
        yield from match_lines(found)

    rows = [
        {
            "likeness": m.likeness,
            "source": m.known.source,
            "about": m.known.about,
            "text": m.known.text,
            "helped": m.known.helped,
            "by": m.known.by,
        }
        for m in found
    ]
    return View("catalog find", rows, told, {"asked": text})


MOST_UNLIKE = 20
_MEANS = {LOST: "bad", OTHER: "work", BETTER: "good", PLANNED: "quiet"}


def unlike_lines(found: Sequence[Unlike]) -> Iterator[str]:
    """What is not as it was, losses first; what was planned is no news."""
    shown = [one for one in found if one.means != PLANNED]
    for one in shown[:MOST_UNLIKE]:
        whose = f"{one.system}/{one.node}" if one.node else one.system
        yield (
            f"{mark(_MEANS.get(one.means, 'work'))} {BOLD}{plain(whose)}{OFF} {plain(one.about)}:"
            f" {plain(one.before or 'none')} → {plain(one.after or 'gone')}  {DIM}{one.means}, since"
            f" {moment(one.since)}{OFF}"
        )
    if len(shown) > MOST_UNLIKE:
        yield f"{mark('work')} {len(shown) - MOST_UNLIKE} more differ; --json has them."


def _called(picture: str) -> str:
    roll = picture.removesuffix(".before")
    return f"how it was before {roll}" if roll != picture else f"how it was as {picture}"


def _as_before(found: Sequence[Unlike], systems: int, what: str, since: datetime) -> str:
    lost, planned = sum(one.means == LOST for one in found), sum(one.means == PLANNED for one in found)
    then = f"{plain(what)} ({moment(since)})"
    done = f"; {many(planned, 'change')} as planned" if planned else ""
    if lost:
        return (
            f"{mark('bad')} {many(lost, 'thing')} of {many(systems, 'system')} {'is' if lost == 1 else 'are'} lost"
            f" against {then}{done}."
        )
    return f"{mark('good')} Nothing of {many(systems, 'system')} is lost against {then}{done}."


def history_rows(runs: Sequence[Run]) -> list[dict[str, object]]:
    return [
        {
            "run": r.run,
            "plan": r.plan,
            "began": r.began,
            "ended": r.ended,
            "state": r.state,
            "systems": r.systems,
            "outages": [
                {
                    "service": o.service,
                    "began": o.began,
                    "ended": o.ended,
                    "seconds": o.seconds,
                    "least": o.least,
                    "unseen": o.unseen,
                    "most": o.most,
                    "measured": o.measured,
                }
                for o in r.outages
            ],
            "downs": r.downs,
            "watched": r.watched,
            "unwatched": r.unwatched,
            "blind_seconds": r.blind_s,
            "planned_s": r.spread.whole.p50_s if r.spread is not None else r.estimate_s,
            "within_s": r.spread.whole.p90_s if r.spread is not None else None,
            "undoes": r.undoes,
            "message": r.message,
            "next": r.next,
        }
        for r in runs
    ]


def planned_words(estimate_s: float, spread: Spread | None) -> str:
    """How long a plan said that it takes, and within what in nine of ten cases."""
    if spread is None:
        return duration(estimate_s)
    return f"{duration(spread.whole.p50_s)}, within {duration(spread.whole.p90_s)}"


def durations_view(rows: Sequence[Learned]) -> View:
    def text() -> Drawn:
        if not rows:
            yield said(
                "note", "Nothing was learned yet: no step was carried out here, and no durations were brought in."
            )
            yield from next_steps("gallant plan")
            return
        for (product, hop), group in groupby(rows, key=lambda r: (r.product, r.hop)):
            shown = table(
                "step",
                "seen",
                "announced",
                "taken",
                "next: half",
                "nine of ten",
                right=("seen", "announced", "taken", "next: half", "nine of ten"),
            )
            shown.title(f"{BOLD}{plain(product)}{OFF}  {plain(hop)}")
            for r in group:
                cut = f" {DIM}({r.cut} given up){OFF}" if r.cut else ""
                shown.add_row(
                    f"{BOLD}{plain(r.step)}{OFF}{cut}",
                    str(r.seen),
                    *map(clock, (r.announced_s, r.took_s, r.p50_s, r.p90_s)),
                )
            yield shown
        yield f"{DIM}minutes:seconds of one node; announced and taken are medians (docs/estimates.md){OFF}"

    return View("durations", rows, text)


def history_view(
    runs: Sequence[Run], damaged: Sequence[GallantError] = (), totals: Totals | None = None, chosen: bool = False
) -> View:
    """`chosen`: somebody asked for some of all rolls."""

    def text() -> Drawn:
        yield from (f"{mark('bad')} {plain(error.what)} {DIM}{plain(error.why or '')}{OFF}" for error in damaged)
        shown = table(
            "roll", "state", "systems", "began", "took", "planned", "outages", "plan",
            optional=("plan", "began"), right=("took",),
        )  # fmt: skip
        for r in runs:
            shown.add_row(
                f"{BOLD}{r.run}{OFF}",
                said(STATE_MARKS[r.state], r.state),
                ", ".join(r.systems) + (f", takes back {r.undoes}" if r.undoes else ""),
                moment(r.began),
                duration((r.ended - r.began).total_seconds()) if r.ended else "–",
                planned_words(r.estimate_s, r.spread),
                _outages_of(r),
                r.plan,
            )
        yield shown
        if not runs and not damaged:
            yield from [said("note", "No roll is all of that.")] if chosen else next_steps("gallant plan")
        if totals is not None and len(runs) > 1:
            yield from _totals_lines(totals)
        yield from next_steps(
            *(error.next for error in damaged),
            *(r.next for r in runs if r.state in ("held", "stopped", "cut off")),
            *(f"gallant history {r.run}" for r in runs[:1]),
        )

    return View("history", history_rows(runs), text, {"damaged": [error.what for error in damaged], "totals": totals})


MOST_MONTHS = 6


def _totals_lines(totals: Totals) -> Iterator[str]:
    told = ", ".join(f"{count} {state}" for state, count in totals.states.items())
    inside = ""
    if totals.with_windows:
        share = 100 * totals.in_window / totals.with_windows
        inside = f"; {share:.0f} % of {totals.with_windows} that have windows ended in the one that they began in"
    yield f"{mark('note')} {many(sum(totals.states.values()), 'roll')}: {told}{inside}."
    for one in totals.outages[:MOST_MONTHS]:
        yield (
            f"{mark('note')} {one.month}: {BOLD}{plain(one.service)}{OFF} was out {many(one.outages, 'time')},"
            f" {one.seconds:.1f} s in all."
        )


def roll_steps_view(run: Run, steps: Sequence[StepRow], claims: Sequence[Claim] = ()) -> View:
    def text() -> Drawn:
        length = f" in {duration((run.ended - run.began).total_seconds())}" if run.ended else ""
        yield (
            f"{BOLD}{run.run}{OFF} {said(STATE_MARKS[run.state], run.state)}{length}  {', '.join(run.systems)} "
            f" {DIM}{run.plan}{OFF}"
        )
        if run.undoes is not None:
            yield f"{mark('note')} It takes back {run.undoes}."
        for _, group in groupby(steps, key=lambda s: s.hop):
            yield _hop_table(list(group))
        if run.message:
            yield plain(run.message)
        yield from _outage_lines(run)
        yield from claim_lines(claims)
        yield from next_steps(run.next, f"gallant history {run.run} --draft" if claims else None)

    more = {"steps": steps, "claims": claims}
    return View("history", history_rows([run]), text, more)


def _hop_table(steps: Sequence[StepRow]) -> Grid:
    """The steps of one hop by its waves: what was done at which node, when, for how long, and what came of it."""
    shown = table(
        "wave", "node", "step", "state", "began", "took", "estimate", "what came of it",
        right=("took", "estimate"), optional=("estimate", "began"),
    )  # fmt: skip
    shown.title(f"{BOLD}{plain(steps[0].system)}  {plain(steps[0].brings)}{OFF}")
    last: tuple[int, str] | None = None
    for s in steps:
        tries = f" ({s.attempts} attempts)" if s.attempts > 1 else ""
        node = s.subject.rpartition("/")[2] if s.subject.startswith(f"{s.system}/") else s.subject
        shown.add_row(
            f"{s.wave} {plain(s.why)}" if last is None or last[0] != s.wave else "",
            plain(node) if last != (s.wave, node) else "",
            plain(s.doing),
            said(STEP_MARKS[s.state], s.state) + tries,
            f"{s.began:%H:%M:%S}Z" if s.began else "–",
            clock(s.seconds) if s.seconds is not None else "–",
            clock(s.estimate),
            plain(s.message) + (f" {DIM}{plain(s.step)}{OFF}" if s.state not in ("done", "to come") else ""),
        )
        last = (s.wave, node)
    return shown


def journal_view(run: str, events: int, problems: Sequence[str]) -> View:
    rows = [{"run": run, "events": events, "ok": not problems, "problems": list(problems)}]

    def text() -> Drawn:
        if not problems:
            yield said("good", f"the journal of {run} is whole: {events} events, no gap, its grammar holds")
        else:
            yield said("bad", f"the journal of {run} is broken in {many(len(problems), 'place')}")
            yield from (f"  {plain(p)}" for p in problems)

    return View("history-verify", rows, text)
