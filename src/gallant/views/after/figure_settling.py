"""Numbers before and after the work: how they were, how they are, and where they go."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import TYPE_CHECKING

from gallant.core.after.settling import RUNNING_OUT, Judged, Series
from gallant.views.ground.figures import Dated, save
from gallant.views.ground.palette import ACCENT, BAD, GOOD, LINE, MUTED, WARN
from gallant.views.ground.words import duration

if TYPE_CHECKING:
    from gallant.operations.after.settling import Settling

MOST = 4  # numbers in one figure, the worst first
COLOURS = {
    "running out": BAD,
    "slower": BAD,
    "creeping": WARN,
    "still settling": ACCENT,
    "at another level": MUTED,
    "settled": GOOD,
}
MARKERS = {
    "running out": "v",
    "slower": "s",
    "creeping": "D",
    "still settling": "o",
    "at another level": "^",
    "settled": "o",
}
SIZES = {"B": ((1e12, "TB"), (1e9, "GB"), (1e6, "MB"), (1e3, "kB")), "s": ((1e-3, "ms"),)}


def draw_settling(found: Settling, path: Path) -> None:
    """Write a PNG. Written whole or not at all."""
    import matplotlib

    matplotlib.use("Agg")
    from matplotlib.figure import Figure

    shown = found.judged[:MOST]
    columns = 1 if len(shown) < 2 else 2
    rows = max(1, -(-len(shown) // columns))
    figure = Figure(figsize=(12.8, 1.4 + 3.1 * rows), dpi=100, layout="constrained")
    every = figure.subplots(rows, columns, squeeze=False).flatten()
    after = {(s.system, s.node, s.about): s for s in found.after}
    before = {(s.system, s.node, s.about): s for s in found.before}
    for axes, one in zip(every, shown, strict=False):
        key = (one.system, one.node, one.about)
        _draw(axes, one, before.get(key), after[key])
    for axes in every[len(shown) :]:
        axes.set_visible(False)
    names = {label: handle for axes in every for handle, label in zip(*axes.get_legend_handles_labels(), strict=True)}
    figure.legend(list(names.values()), list(names), loc="outside lower center", ncols=4, frameon=False, fontsize=9)
    if not shown:
        every[0].set_visible(True)
        every[0].text(0.5, 0.5, "nothing told a number", ha="center", transform=every[0].transAxes)
    left = len(found.judged) - len(shown)
    more = f"; {left} more, that stand no worse, are not drawn" if left > 0 else ""
    figure.suptitle(
        f"Is it settled?  {found.began:%Y-%m-%d %H:%M} to {found.ended:%H:%M} UTC{more}", fontsize=12, fontweight="bold"
    )
    save(figure, path)


def _draw(axes: Dated, one: Judged, before: Series | None, after: Series) -> None:
    colour = COLOURS[one.state]
    scale, unit = _unit(after, before)
    begin = after.points[0][0]
    minutes = [(at - begin) / 60 for at, _ in after.points]
    values = [value / scale for _, value in after.points]
    axes.plot(minutes, values, MARKERS[one.state], color=colour, markersize=4, label="now")
    if one.before is not None:
        spread = [value / scale for _, value in before.points] if before is not None else []
        axes.axhline(one.before / scale, color=MUTED, linestyle="--", linewidth=1.2, label="level before")
        if len(spread) > 1:
            axes.axhspan(min(spread), max(spread), color=LINE, alpha=0.35, linewidth=0, label="range before")
    span = minutes[-1] or 1.0
    slope = one.per_h / 60 / scale
    level = one.now / scale
    axes.plot([span / 2, span], [level - slope * span / 2, level], color=colour, linewidth=2, label="where it goes")
    low, high = axes.get_ylim()
    if one.unit == "s":
        axes.set_ylim(0, high * 1.1)
    elif high - low < abs(level) * 0.1:  # noise is not made to look like a mountain
        axes.set_ylim(level - abs(level) * 0.08, level + abs(level) * 0.08)
    whose = f"{one.system}/{one.node}" if one.node else one.system
    axes.set_title(f"{whose}  {one.about}: {one.state}{_wait(one, after)}", fontsize=10, loc="left", color=colour)
    axes.set_ylabel(unit or "number")
    axes.set_xlabel("minutes since the sampling began")
    axes.grid(alpha=0.3)
    axes.spines[["top", "right"]].set_visible(False)


def _wait(one: Judged, after: Series) -> str:
    if one.wait_s is None:
        return ""
    until = datetime.fromtimestamp(after.points[-1][0], UTC) + timedelta(seconds=one.wait_s)
    return f", {'in ' if one.state == RUNNING_OUT else ''}about {duration(one.wait_s)} ({until:%a %H:%M} UTC)"


def _unit(after: Series, before: Series | None) -> tuple[float, str]:
    """What values are divided by, and the unit that they have then."""
    largest = max(abs(value) for series in (after, before) if series is not None for _, value in series.points)
    for size, name in SIZES.get(after.unit, ()):
        if after.unit == "s" or largest >= size:
            return size, name
    return 1.0, after.unit
