"""How long services did not answer, against what was planned."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from gallant.views.ground.words import (
    DIM,
    LOUD,
    OFF,
    duration,
    mark,
    moment,
    plain,
)

if TYPE_CHECKING:
    from gallant.core.outages import Outage
    from gallant.operations.after.history import Run, WasDown


MUCH_LONGER = 2.0  # than planned: an outage of which somebody should know why


def outages_of(run: Run) -> str:
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


def outage_lines(run: Run) -> Iterator[str]:
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
