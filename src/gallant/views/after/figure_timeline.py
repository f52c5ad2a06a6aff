"""What a roll did in time: each system's steps as they were, what was out, and when it stood."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from gallant.views.ground.figures import Dated, Look, save
from gallant.views.ground.palette import BAD, BAND, LINE
from gallant.views.plan.figure_plan import LOUD, QUIET

if TYPE_CHECKING:
    from gallant.operations.after.report import RollReport

OUT: Look = {"color": BAD, "marker": "v", "markersize": 8, "linestyle": "none"}
STOOD: Look = {"facecolor": BAND, "hatch": "..", "edgecolor": LINE}


def draw_timeline(roll: RollReport, path: Path) -> None:
    """Write a PNG. Written whole or not at all."""
    import matplotlib

    matplotlib.use("Agg")
    from matplotlib.figure import Figure
    from matplotlib.lines import Line2D
    from matplotlib.patches import Patch

    systems = list(roll.run.systems)
    figure = Figure(figsize=(12.8, max(2.6, 1.7 + 0.45 * len(systems))), dpi=100, layout="constrained")
    axes: Dated = figure.subplots()
    _draw_what_was(axes, roll, systems)
    _draw_frame(axes, roll, systems)
    keys = [
        Patch(label="disturbed its system", **LOUD),
        Patch(label="disturbed nothing", **QUIET),
        Patch(label="stood still", **STOOD),
        Line2D([], [], label="a service was out", **OUT),
    ]
    figure.legend(handles=keys, loc="outside lower center", ncols=4, frameon=False, fontsize=9)
    save(figure, path)


def _draw_what_was(axes: Dated, roll: RollReport, systems: Sequence[str]) -> None:
    """Each system's steps, when the roll stood still, and when a service was out."""
    disturbing = {s.id for s in roll.plan.steps() if s.disturbs}
    for stop in roll.stops:
        if stop.went_on is not None and stop.went_on > stop.at:
            axes.barh(
                len(systems) / 2 - 0.5, stop.went_on - stop.at, left=stop.at, height=len(systems), zorder=0, **STOOD
            )
    for step in roll.steps:
        if step.began is not None and step.ended is not None and step.system in systems:
            look = LOUD if step.step in disturbing else QUIET
            axes.barh(
                systems.index(step.system), step.ended - step.began, left=step.began, height=0.5, zorder=2, **look
            )
    for outage in roll.run.outages:
        axes.plot([outage.began], [-0.65], zorder=3, **OUT)


def _draw_frame(axes: Dated, roll: RollReport, systems: Sequence[str]) -> None:
    from matplotlib import dates

    axes.set_yticks(range(len(systems)), systems)
    axes.set_ylim(len(systems) - 0.4, -0.9)
    where = dates.AutoDateLocator()  # type: ignore[no-untyped-call]
    axes.xaxis.set_major_locator(where)
    axes.xaxis.set_major_formatter(dates.ConciseDateFormatter(where))  # type: ignore[no-untyped-call]
    axes.grid(axis="x", alpha=0.3)
    axes.spines[["top", "right"]].set_visible(False)
    axes.set_xlabel("UTC")
    axes.set_title(f"{roll.run.run}: as it was", fontsize=11, loc="left")
