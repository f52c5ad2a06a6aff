"""A plan drawn in time, for a change board or a wall: lanes, their
waves, how late each may get, and when none of its windows is open."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import datetime, timedelta
from pathlib import Path

from gallant.core.windows.rules import Span, without
from gallant.core.work.plan import Lane, Plan, steps_of, waves_seconds
from gallant.views.ground.figures import Dated, Look, save
from gallant.views.ground.palette import BAND, LINE, MUTED, ONE, TWO, paler

# Told apart by lightness and by hatching too, in grey and by those who do not see red and green.
QUIET: Look = {"facecolor": paler(ONE, 0.6), "edgecolor": "white"}
LOUD: Look = {"facecolor": TWO, "hatch": "//", "edgecolor": "white"}
CLOSED: Look = {"facecolor": BAND, "hatch": "..", "edgecolor": LINE}
LATE: Look = {"color": MUTED, "linewidth": 2, "marker": "|", "markersize": 9}
LOOKS = (("disturbs its system", LOUD), ("disturbs nothing", QUIET), ("no window open", CLOSED))
MARGIN = 1.04  # of the time shown
LEAST_SHOWN_S = 60.0


def draw_plan(plan: Plan, windows: Mapping[str, Sequence[Span]], begins: datetime, path: Path) -> None:
    """Write a PNG of the plan as if its roll began then; `windows` are
    those of each system that has any. Written whole or not at all."""
    import matplotlib

    matplotlib.use("Agg")
    from matplotlib.figure import Figure
    from matplotlib.lines import Line2D
    from matplotlib.patches import Patch

    figure = Figure(figsize=(12.8, max(3.6, 2.0 + 0.5 * len(plan.lanes))), dpi=100, layout="constrained")
    axes: Dated = figure.subplots()  # whose own types know no dates
    late = {name: spread.p90_s for name, spread in plan.spread.lanes.items()} if plan.spread is not None else {}
    shown_s = max([*plan.ends_s.values(), *late.values(), LEAST_SHOWN_S]) * MARGIN
    last = begins + timedelta(seconds=shown_s)
    for row, lane in enumerate(plan.lanes):
        if lane.system in windows:
            for closed in without([Span(begin=begins, end=last)], windows[lane.system]):
                axes.barh(row, closed.end - closed.begin, left=closed.begin, height=1.0, zorder=0, **CLOSED)
        _waves(axes, row, plan, lane, begins)
        if lane.system in late:
            half = max(plan.ends_s[hop.id] for hop in lane.hops)
            axes.plot([begins + timedelta(seconds=s) for s in (half, late[lane.system])], [row, row], zorder=3, **LATE)
    _frame(axes, plan, begins, last)
    keys = [
        *(Patch(label=label, **look) for label, look in LOOKS),
        Line2D([], [], label="until nine of ten cases are done", **LATE),
    ]
    figure.legend(handles=keys, loc="outside lower center", ncols=4, frameon=False, fontsize=9)
    save(figure, path)


def _waves(axes: Dated, row: int, plan: Plan, lane: Lane, begins: datetime) -> None:
    for hop in lane.hops:
        since = begins + timedelta(seconds=plan.ends_s[hop.id] - waves_seconds(hop.waves))
        axes.text(since, row - 0.3, hop.to, fontsize=8, va="bottom", zorder=4, clip_on=True)
        for wave in hop.waves:
            lasts = timedelta(seconds=waves_seconds((wave,)))
            look = LOUD if any(step.disturbs for step in steps_of((wave,))) else QUIET
            axes.barh(row, lasts, left=since, height=0.5, zorder=2, **look)
            since += lasts


def _frame(axes: Dated, plan: Plan, begins: datetime, last: datetime) -> None:
    from matplotlib import dates

    lanes = len(plan.lanes)
    axes.set_yticks(range(lanes), [lane.system for lane in plan.lanes])
    axes.set(xlim=(begins, last), ylim=(lanes - 0.4, -0.7))
    where = dates.AutoDateLocator()  # type: ignore[no-untyped-call]
    axes.xaxis.set_major_locator(where)
    axes.xaxis.set_major_formatter(dates.ConciseDateFormatter(where))  # type: ignore[no-untyped-call]
    axes.set_xlabel(f"UTC, if it begins {begins:%a %Y-%m-%d %H:%M}")
    axes.set_title(f"{plan.id}: the waves of each system", fontsize=11, loc="left")
    axes.grid(axis="x", alpha=0.3, zorder=1)
    axes.spines[["top", "right"]].set_visible(False)
