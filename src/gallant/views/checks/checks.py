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
from gallant.views.ground.tables import LEVEL_MARKS, next_steps, table
from gallant.views.ground.words import BOLD, DIM, OFF, WordMarks, ago, many, mark, plain, said

if TYPE_CHECKING:
    from gallant.operations.checks.check import Health
    from gallant.operations.checks.mending import Mended
    from gallant.operations.roll.notifying import Told

FINDINGS: Listed[Finding] = Listed(
    "check", "check", beside=("drift", "compared_with"), headings={"finding": "message", "seen": "evidence"}
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


def health_view(health: Health, everything: bool, now: datetime) -> View:
    findings: Sequence[Finding] = health.findings
    counts = {level: sum(f.level == level for f in findings) for level in LEVEL_MARKS}

    def text() -> Drawn:
        if health.compared_with is not None:
            yield from _drift(health, now)
        loud = [f for f in findings if everything or f.level != "pass"]
        if loud:
            several = len({f.system for f in findings}) > 1
            shown = table("level", *(["system"] if several else []), "check", "finding", "seen")
            for f in loud:
                seen = f"{plain(f.evidence)}\n{DIM}{plain(f.waived)}{OFF}" if f.waived else plain(f.evidence)
                whose = [plain(f.system)] if several else []
                shown.add_row(said(LEVEL_MARKS[f.level], f.level), *whose, f.check, plain(f.message), seen)
            yield shown
        yield "  ".join(said(LEVEL_MARKS[level], f"{count} {level}") for level, count in counts.items() if count)
        yield from next_steps(*(f.next for f in loud if f.next and f.level in ("stop", "warn")))
        mends = {f.mend for f in findings if f.mend}
        if mends:
            systems = " ".join(dict.fromkeys(f.system for f in findings if f.mend))
            yield from next_steps(f"gallant check --mend {systems}")
        if findings:
            yield from next_steps(*health.ways)

    rows = [{"what": d.what, "was": d.was, "finding": d.finding} for d in health.drift]
    return FINDINGS.view(
        findings,
        text,
        {"drift": rows, "compared_with": health.compared_with},
        () if everything or not counts["pass"] else ("--all shows the passes too.",),
    )


def _drift(health: Health, now: datetime) -> Iterator[str]:
    if not health.drift:
        yield f"{DIM}As at the check {ago(health.compared_with, now)}.{OFF}"
        yield ""
        return
    yield f"{BOLD}Since the check {ago(health.compared_with, now)}{OFF}"
    for d in health.drift:
        change = d.what if d.was is None or d.what == GONE else f"{d.what}: {d.was} → {d.finding.level}"
        level = f"{d.finding.level} " if d.what in (NEW, GONE) else ""
        whose = "" if len({one.finding.system for one in health.drift}) == 1 else f"{plain(d.finding.system)}: "
        kind = "note" if d.what == NEW and d.finding.level == "note" else DRIFT_MARKS[d.what]
        yield f"  {said(kind, change)}  {level}{whose}{plain(d.finding.message)}"
    yield ""


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
