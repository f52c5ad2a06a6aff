"""Whether a system is as it should be after the work: versions, services, what changed, how values settle."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import datetime
from typing import TYPE_CHECKING

from gallant.core.after.compare import NodeVerdict
from gallant.core.after.picture import LOST, PLANNED, Unlike
from gallant.core.after.settling import AT_REST, SETTLED, Judged, valued
from gallant.core.after.still import HOP, RESTART, Still
from gallant.views.ground.parts import Drawn, Listed, View
from gallant.views.ground.tables import Grid, few, left_lines, next_steps, table
from gallant.views.ground.words import (
    BOLD,
    OFF,
    WordMarks,
    duration,
    many,
    mark,
    moment,
    plain,
    said,
)
from gallant.views.roll.unlike import unlike_lines

if TYPE_CHECKING:
    from gallant.operations.after.settling import Settling
    from gallant.operations.after.verify import Verified

VERDICTS: Listed[NodeVerdict] = Listed(
    "verify",
    "verify",
    beside=("still", "settling", "backups", "unlike", "against", "kept", "snapshots", "left"),
    headings={"verdict": "ok"},
)


def verify_view(done: Verified) -> View:
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
    return VERDICTS.view(done.verdicts, lambda: _verify_text(done), more)


MOST_NODES = 30  # with a line each


def _verify_text(done: Verified) -> Drawn:
    # Of many nodes those that are not well; that the others are is what the line below says.
    bad = [row for row in done.verdicts if not row.ok]
    if len(done.verdicts) <= MOST_NODES:
        yield _verdict_table(done.verdicts)
    elif bad:
        yield _verdict_table(bad[:MOST_NODES])
    yield _closing(done.verdicts)
    yield from unlike_lines(done.unlike)
    if done.against is not None and done.since is not None:
        yield _as_before(done.unlike, done.compared, _called(done.against), done.since)
    if done.settling is not None:
        yield from settling_lines(done.settling)
    if done.kept is not None:
        yield f"{mark('good')} How it is now is kept as {BOLD}{plain(done.kept)}{OFF}."
    yield from still_lines(done.still)
    yield from few(list(left_lines(done.left)), MOST_NODES, "component")
    yield from _way_back_lines(done)
    yield from _next_of(done)


def _verdict_table(rows: Sequence[NodeVerdict]) -> Grid:
    shown = table("node", "verdict", "expected", "observed", "problems")
    for r in rows:
        shown.add_row(
            f"{BOLD}{r.system}/{r.node}{OFF}",
            said("good", "as it should be") if r.ok else said("bad", "not so"),
            plain(r.expected or "–"),
            plain(r.observed or "–"),
            plain("; ".join(r.problems)) or "none",
        )
    return shown


def _closing(rows: Sequence[NodeVerdict]) -> str:
    bad = sum(not row.ok for row in rows)
    if bad:
        return f"{mark('bad')} {many(bad, 'node')} of {len(rows)} not as they should be."
    return (
        f"{mark('good')} Every node runs the system image that its aim asks for, roles are in their usual"
        " places, replicas are whole, services answer."
    )


def _way_back_lines(done: Verified) -> Iterator[str]:
    """What became of restore points, and the backups that were taken of how it is now."""
    for one in done.settled:
        named = f"the snapshot {plain(one.name)} " if one.name else ""
        yield f"{mark('note')} {plain(one.system)}: {named}{plain(one.what)}."
    for row in done.backups:
        taken = f"is kept as {row.backup.id}" if row.backup is not None else f"failed: {row.error}"
        yield f"{mark('good' if row.error is None else 'bad')} The backup of {plain(row.system)} {plain(taken)}"


def _next_of(done: Verified) -> list[str]:
    """What to do next: what the work left undone first, then what is not well, then what is behind."""
    judged = done.settling.judged if done.settling is not None else ()
    unsettled = dict.fromkeys(one.system for one in judged if one.state not in AT_REST)
    lost = [one.system for one in done.unlike if one.means == LOST]
    bad = [row.system for row in done.verdicts if not row.ok]
    return next_steps(
        *(one.next for one in done.still if one.next and one.about == HOP),
        *(f"gallant check {s}" for s in dict.fromkeys([*bad, *lost, *unsettled])),
        *(f"gallant verify {s} --settle 2h" for s in unsettled),
        *dict.fromkeys(one.next for one in done.still if one.next and one.about != HOP),
        *(f"gallant gaps {s}" for s in dict.fromkeys(n.system for n in done.left)),
    )


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
            f"{mark('note')} It is not known whether it has settled: no node gave a number, and no service answered."
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
