"""Past rolls, their steps, their durations and their totals."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from itertools import groupby
from typing import TYPE_CHECKING

from gallant.core.after.claims import Claim
from gallant.core.errors import GallantError
from gallant.views.decide.claims import claim_lines
from gallant.views.ground.parts import Drawn, Listed, View
from gallant.views.ground.rows import ListRow
from gallant.views.ground.tables import Grid, next_steps, table
from gallant.views.ground.words import (
    BOLD,
    DIM,
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
from gallant.views.roll.outages import outage_lines, outages_of
from gallant.views.roll.runs import STATE_MARKS, RunRow

if TYPE_CHECKING:
    from gallant.core.work.paces import Spread
    from gallant.operations.after.history import Run, StepRow, Totals
    from gallant.operations.length.durations import Learned


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


class JournalRow(ListRow):
    """A roll's journal, and what is wrong with it."""

    run: str
    events: int
    ok: bool
    problems: tuple[str, ...]


DURATIONS: Listed[Learned] = Listed(
    "durations",
    "history --durations",
    headings={"announced": "announced_s", "taken": "took_s", "next: half": "p50_s", "nine of ten": "p90_s"},
)
ROLLS: Listed[RunRow] = Listed(
    "history",
    "history",
    beside=("damaged", "totals", "steps", "claims"),
    headings={"roll": "run", "planned": "planned_s", "took": "took_s"},
)
JOURNAL: Listed[JournalRow] = Listed("history-verify", "history --verify")


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

    return DURATIONS.view(rows, text)


def _rolls_table(runs: Sequence[Run]) -> Grid:
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
            outages_of(r),
            r.plan,
        )
    return shown


def history_view(
    runs: Sequence[Run],
    damaged: Sequence[GallantError] = (),
    totals: Totals | None = None,
    chosen: bool = False,
    older: int = 0,
) -> View:
    """`chosen`: somebody asked for some of all rolls; `older`: how many are not shown, of those that were asked for."""

    def text() -> Drawn:
        yield from (f"{mark('bad')} {plain(error.what)} {DIM}{plain(error.why or '')}{OFF}" for error in damaged)
        yield _rolls_table(runs)
        if older:
            yield (
                f"{mark('note')} The newest {len(runs)}; {many(older, 'older roll')} not shown: gallant history --all has"
                " every one, --since 30d those of a time"
            )
        if not runs and not damaged:
            yield from [said("note", "No roll is all of that.")] if chosen else next_steps("gallant plan")
        if totals is not None and len(runs) > 1:
            yield from _totals_lines(totals)
        yield from next_steps(
            *(error.next for error in damaged),
            *(r.next for r in runs if r.state in ("held", "stopped", "cut off")),
            *(f"gallant history {r.run}" for r in runs[:1]),
        )

    return ROLLS.view(
        list(map(RunRow.of, runs)), text, {"damaged": [error.what for error in damaged], "totals": totals}
    )


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
        yield from outage_lines(run)
        yield from claim_lines(claims)
        yield from next_steps(run.next, f"gallant history {run.run} --draft" if claims else None)

    more = {"steps": steps, "claims": claims}
    return ROLLS.view([RunRow.of(run)], text, more)


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
    rows = [JournalRow(run=run, events=events, ok=not problems, problems=tuple(problems))]

    def text() -> Drawn:
        if not problems:
            yield said("good", f"the journal of {run} is whole: {events} events, no gap, its grammar holds")
        else:
            yield said("bad", f"the journal of {run} is broken in {many(len(problems), 'place')}")
            yield from (f"  {plain(p)}" for p in problems)

    return JOURNAL.view(rows, text)
