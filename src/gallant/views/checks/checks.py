"""Checks as people look at them: what changed first, the worst first, each with its next step."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import datetime
from typing import TYPE_CHECKING

from gallant.core.checks.all import CHECKS, check_named
from gallant.core.checks.drift import BETTER, GONE, NEW, WORSE
from gallant.core.checks.facts import Finding
from gallant.core.checks.register import Check
from gallant.core.decide.waivers import Waiver
from gallant.core.documents import suggestion
from gallant.core.errors import WrongUse
from gallant.core.records import clean
from gallant.views.ground.parts import Drawn, Listed, View
from gallant.views.ground.tables import LEVEL_MARKS, MOST_NAMED, Grid, few, next_steps, table, together
from gallant.views.ground.words import BOLD, DIM, OFF, WordMarks, ago, many, mark, plain, said

if TYPE_CHECKING:
    from gallant.operations.checks.check import Health
    from gallant.operations.checks.mending import Mended
    from gallant.operations.roll.notifying import Told

FINDINGS: Listed[Finding] = Listed(
    "check",
    "check",
    beside=("drift", "compared_with"),
    headings={"finding": "message", "seen": "evidence", "systems": "system", "of": "system"},
)
TOLD: Listed[Told] = Listed("check", "check --notify")
MENDED: Listed[Mended] = Listed("mend", "check --mend")
CATALOGUE: Listed[Check] = Listed(
    "check-list",
    "check --list",
    headings={"check": "id", "looks at": "looks_at", "at worst": "levels", "of use": "phases"},
)
WAIVED: Listed[Waiver] = Listed("waive", "waive")

DRIFT_MARKS = WordMarks({NEW: "bad", WORSE: "bad", BETTER: "good", GONE: "good"})


MOST_BY_SYSTEM = 20  # findings of several systems; beyond, each check is one row
MOST_CHECKS, MOST_CHANGES = 24, 8  # rows of a fleet's checks, and of what changed: one screen


def health_view(health: Health, everything: bool, now: datetime, selector: Sequence[str] = ()) -> View:
    """`selector` is what the systems were chosen by."""
    findings: Sequence[Finding] = health.findings
    counts = {level: sum(f.level == level for f in findings) for level in LEVEL_MARKS}

    def text() -> Drawn:
        if health.compared_with is not None:
            changes = list(_drift(health, now))
            yield from changes if everything else few(changes, MOST_CHANGES, "change")
            yield ""
        loud = [f for f in findings if everything or f.level != "pass"]
        several = len({f.system for f in findings}) > 1
        if several and len(loud) > MOST_BY_SYSTEM and not everything:
            yield from _by_check(loud, selector)
        elif loud:
            yield _by_finding(loud, several)
        yield "  ".join(said(LEVEL_MARKS[level], f"{count} {level}") for level, count in counts.items() if count)
        yield from next_steps(*(f.next for f in loud if f.next and f.level in ("stop", "warn")), among=selector)
        if mended := list(dict.fromkeys(f.system for f in findings if f.mend)):
            yield from next_steps(
                " ".join(["gallant check --mend", *(mended if len(mended) <= MOST_NAMED else selector)])
            )
        if findings:
            yield from next_steps(*health.ways)

    rows = [{"what": d.what, "was": d.was, "finding": d.finding} for d in health.drift]
    return FINDINGS.view(
        findings,
        text,
        {"drift": rows, "compared_with": health.compared_with},
        () if everything or not counts["pass"] else ("--all shows the passes too.",),
    )


def _by_finding(loud: Sequence[Finding], several: bool) -> Grid:
    shown = table("level", *(["system"] if several else []), "check", "finding", "seen")
    for f in loud:
        seen = f"{plain(f.evidence)}\n{DIM}{plain(f.waived)}{OFF}" if f.waived else plain(f.evidence)
        whose = [plain(f.system)] if several else []
        shown.add_row(said(LEVEL_MARKS[f.level], f.level), *whose, f.check, plain(f.message), seen)
    return shown


def _by_check(loud: Sequence[Finding], selector: Sequence[str]) -> Drawn:
    """Each check that does not pass in one row: of how many systems, what it says, and the step that mends them all."""
    groups: dict[tuple[str, str], list[Finding]] = {}
    for f in loud:
        groups.setdefault((f.level, f.check), []).append(f)
    shown = table("level", "check", "systems", "of", "finding", "next", right=("systems",), optional=("next",))
    for (level, check), found in list(groups.items())[:MOST_CHECKS]:
        names = list(dict.fromkeys(f.system for f in found))
        whose = f"{plain(', '.join(names[:2]))}{f' and {len(names) - 2} more' if len(names) > 2 else ''}"
        steps = together([f.next for f in found if f.next and f.next.startswith("gallant ")], selector)
        step = plain(steps[0]) if len(steps) == 1 else "–"  # one that mends them all; else each system has its own
        shown.add_row(said(LEVEL_MARKS[level], level), check, str(len(names)), whose, _all_say(found), step)
    yield shown
    if len(groups) > MOST_CHECKS:
        yield f"{mark('note')} {many(len(groups) - MOST_CHECKS, 'more check')}; name a system, or: --json"
    yield f"{DIM}gallant check SYSTEM says what was seen of one of them, --all every finding by itself{OFF}"


def _all_say(found: Sequence[Finding]) -> str:
    """What findings of one check say; where each has its own words, those of the first."""
    several = len({f.message for f in found}) > 1
    return f"{plain(found[0].message)}{f' {DIM}and the like{OFF}' if several else ''}"


def _drift(health: Health, now: datetime) -> Iterator[str]:
    if not health.drift:
        yield f"{DIM}As at the check {ago(health.compared_with, now)}.{OFF}"
        return
    yield f"{BOLD}Since the check {ago(health.compared_with, now)}{OFF}"
    alone = len({one.finding.system for one in health.drift}) == 1
    for d in health.drift:
        change = d.what if d.was is None or d.what == GONE else f"{d.what}: {d.was} → {d.finding.level}"
        level = f"{d.finding.level} " if d.what in (NEW, GONE) else ""
        whose = "" if alone else f"{plain(d.finding.system)}: "
        kind = "note" if d.what == NEW and d.finding.level == "note" else DRIFT_MARKS[d.what]
        yield f"  {said(kind, change)}  {level}{whose}{plain(d.finding.message)}"


def mended_view(done: Sequence[Mended]) -> View:
    def text() -> Drawn:
        for one in done:
            if one.error is not None:
                yield f"{mark('bad')} {plain(one.system)}: {plain(one.error)}"
            else:
                yield f"{said('good', one.system)}  {plain(one.did)}"
        yield from next_steps(*(one.next for one in done))
        if not done:
            yield f"{mark('note')} Nothing was mended."

    return MENDED.view(done, text)


def _phases(check: Check) -> str:
    return "at any time of" if len(check.phases) == 4 else ", ".join(check.phases)


def catalogue_view(explain: str | None) -> View:
    """Every check, or one of them in full; raises `WrongUse` for one that there is not."""
    chosen: list[Check] = [check for check, _ in CHECKS]
    if explain is not None:
        one = check_named(explain)
        if one is None:
            raise WrongUse(
                f"No check {clean(explain, 60)!r}{suggestion(explain, [c.id for c in chosen])}.",
                next="gallant check --list",
            )
        chosen = [one]

    def text() -> Drawn:
        if explain is None:
            shown = table("check", "looks at", "at worst", "of use", "mend", optional=("of use",))
            for c in chosen:
                shown.add_row(
                    f"{BOLD}{c.id}{OFF}",
                    c.looks_at,
                    c.levels[0],
                    _phases(c).removesuffix(" of"),
                    "yes" if c.mend else "",
                )
            yield shown
            yield f"{many(len(chosen), 'check')}."
            yield from next_steps("gallant check --explain CHECK")
            return
        (c,) = chosen
        yield f"{BOLD}{c.id}{OFF}"
        yield f"  looks at   {c.looks_at}"
        yield f"  because    {c.why}"
        yield f"  says       {', '.join(c.levels)}"
        yield f"  of use     {_phases(c)} the work"
        yield f"  applies    to {', '.join(c.shapes) or 'every system'}"
        yield f"  mend       {'gallant check --mend --only ' + c.id if c.mend else 'none; the finding says what to do'}"
        waive = f"gallant waive {c.id} SYSTEM --until DAY --reason TEXT   (a warning, never a stop)"
        yield f"  accept     {waive if 'warn' in c.levels else 'nothing of it'}"

    return CATALOGUE.view(chosen, text)


def waived_view(waiver: Waiver) -> View:
    def text() -> Drawn:
        yield (
            f"{said('good', waiver.system)}  warnings of {waiver.check} are accepted by {plain(waiver.by)} until"
            f" {waiver.until}"
        )
        yield f"  {plain(waiver.reason)}"
        yield from next_steps(f"gallant check {waiver.system.partition('/')[0]}")

    return WAIVED.view([waiver], text)


def told_view(told: Sequence[Told]) -> View:
    """Who was told of a test, those who could not be first."""
    rows = sorted(told, key=lambda one: one.error is None)

    def text() -> Drawn:
        for one in rows:
            yield (
                f"{mark('bad' if one.error else 'good')} {plain(one.place)}"
                f" {f'was not told: {plain(one.error)}' if one.error else 'was told'}."
            )
        if not rows:
            yield "No one is notified: the estate has no notify:."
            yield from next_steps("gallant init shows how, in a new folder")

    return TOLD.view(rows, text)
