"""Figures for a report or a wall: drawn with Matplotlib into a PNG, without a screen."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeAlias

from gallant.core.assess.gaps import STANDINGS
from gallant.core.errors import GallantError
from gallant.disk import replacing, why_not
from gallant.views.ground.palette import ACCENT, BAD, GOOD, ONE, TEXT, TWO, WARN, paler
from gallant.views.ground.words import many

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

    from gallant.operations.assess.gaps import Assessment, Lag
    from gallant.operations.length.durations import Learned

# Axes along which dates run: the library's own types know numbers alone. And keyword arguments of its artists.
Dated: TypeAlias = Any
Look: TypeAlias = dict[str, Any]
# Told apart in grey and by those who do not see red and green, by lightness and by hatching.
COLOURS = {
    "recalled": (BAD, "xx"),
    "blocked": (paler(BAD, 0.3), "//"),
    "unknown": (paler(ACCENT, 0.3), ".."),
    "behind": (TWO, ""),
    "waits for restart": (paler(TWO, 0.5), "--"),
    "ahead": (paler(ONE, 0.4), "\\\\"),
    "current": (paler(GOOD, 0.2), ""),
}
MOST_BARS = 40
LEAST_ROOM, LEGEND_ROOM = 8, 4  # bars


def draw_gaps(result: Assessment, estate: str, now: datetime, path: Path) -> None:
    """How far behind each system is, worst first; and the standing of
    all components, per site. Written whole or not at all."""
    import matplotlib

    matplotlib.use("Agg")
    from matplotlib.figure import Figure

    shown = result.lags[:MOST_BARS]
    height = max(5.0, 1.9 + 0.34 * max(len(shown), len({site for site, _ in result.tallies})))
    figure = Figure(figsize=(12.8, height), dpi=100, layout="constrained")
    left, right = figure.subplots(1, 2, width_ratios=[3, 2])
    rows = max(len(shown), len({site for site, _ in result.tallies}) + LEGEND_ROOM, LEAST_ROOM)
    _lags(left, shown, len(result.lags))
    _standings(right, result.tallies)
    for axes in (left, right):  # bars of one thickness, from the top down, however few there are
        axes.set_ylim(rows - 0.5, -0.5)
    figure.suptitle(f"{estate}: installed against aimed-for, {now:%Y-%m-%d %H:%M}Z", fontsize=13, fontweight="bold")
    save(figure, path)


def save(figure: Figure, path: Path) -> None:
    """Written whole or not at all."""
    try:
        with replacing(path) as file:
            figure.savefig(file, format="png")
    except OSError as error:
        raise GallantError(f"{path} cannot be written: {why_not(error, path)}.") from None


def draw_durations(rows: Sequence[Learned], path: Path) -> None:
    """Announced against taken, of each step of each hop, and the
    room that the next one is given; the farthest off first."""
    import matplotlib

    matplotlib.use("Agg")
    from matplotlib.figure import Figure

    shown = sorted(rows, key=lambda r: -abs(r.took_s - r.announced_s))[:MOST_BARS]
    figure = Figure(figsize=(12.8, max(4.0, 1.6 + 0.36 * len(shown))), dpi=100, layout="constrained")
    axes = figure.subplots()
    places = range(len(shown))
    for at, r in zip(places, shown, strict=True):
        axes.plot(
            [r.p50_s / 60, r.p90_s / 60], [at, at], color=paler(ONE, 0.4), linewidth=7, solid_capstyle="butt", zorder=1
        )
    axes.scatter(
        [r.announced_s / 60 for r in shown], places, marker="|", s=150, color=TEXT, label="announced", zorder=3
    )
    axes.scatter([r.took_s / 60 for r in shown], places, marker="o", s=40, color=WARN, label="taken (median)", zorder=2)
    axes.plot([], [], color=paler(ONE, 0.4), linewidth=7, label="the next: half of all cases to nine of ten")
    axes.set_yticks(list(places), [f"{r.product}  {r.hop}  {r.step} ({r.seen})" for r in shown], fontsize=9)
    axes.set(xlabel="minutes of one node", ylim=(len(shown) - 0.5, -0.5))
    axes.set_xlim(left=0)
    axes.set_title(
        "How long steps take, those that are farthest from what was announced first (times seen)",
        fontsize=11,
        loc="left",
    )
    axes.grid(axis="x", alpha=0.3)
    axes.spines[["top", "right"]].set_visible(False)
    if shown:
        figure.legend(loc="outside lower center", ncols=3, frameon=False, fontsize=9)
    else:
        axes.text(0.5, 0.5, "no step was carried out yet", ha="center", transform=axes.transAxes)
    save(figure, path)


def _lags(axes: Axes, lags: Sequence[Lag], of: int) -> None:
    names = [f"{lag.system}  ({lag.site})" for lag in lags]
    days = [lag.days or 0 for lag in lags]
    bars = axes.barh(names, days, height=0.62)
    for bar, lag in zip(bars, lags, strict=True):
        colour, hatch = COLOURS[lag.standing]
        bar.set(facecolor=colour, hatch=hatch, edgecolor="white")
        axes.annotate(
            _lag_words(lag),
            (bar.get_width(), bar.get_y() + bar.get_height() / 2),
            xytext=(5, 0),
            textcoords="offset points",
            va="center",
            fontsize=9,
        )
    axes.set(xlabel="days from the release that runs to the one it should run", xlim=(0, max([*days, 1]) * 1.45))
    axes.set_title(
        "How far behind each system is, the farthest first" + (f" ({len(lags)} of {of})" if len(lags) < of else ""),
        fontsize=11,
        loc="left",
    )
    axes.spines[["top", "right"]].set_visible(False)
    axes.grid(axis="x", alpha=0.3)
    axes.set_axisbelow(True)
    if not lags:
        axes.text(0.5, 0.5, "nothing was read yet", ha="center", transform=axes.transAxes)


def _lag_words(lag: Lag) -> str:
    if lag.days is None and lag.releases is None:
        return str(lag.standing)
    if not lag.days and not lag.releases:
        return str(lag.standing)
    parts = [f"{lag.days} d"] if lag.days is not None else []
    if lag.releases is not None:
        parts.append(many(lag.releases, "release"))
    return ", ".join(parts) + ("" if lag.standing == "behind" else f", {lag.standing}")


def _standings(axes: Axes, tallies: Mapping[tuple[str, str], Mapping[str, int]]) -> None:
    sites: dict[str, Counter[str]] = {}
    for (site, _), tally in tallies.items():
        sites.setdefault(site, Counter()).update(tally)
    # The site with the largest share of what needs work first.
    order = sorted(sites, key=lambda s: (sites[s]["current"] + sites[s]["ahead"]) / max(1, sites[s].total()))
    begun = [0] * len(order)
    for standing in STANDINGS:
        counts = [sites[site][standing] for site in order]
        if not any(counts):
            continue
        colour, hatch = COLOURS[standing]
        bars = axes.barh(
            order, counts, left=begun, color=colour, hatch=hatch, edgecolor="white", height=0.62, label=standing
        )
        least = max(sum(sites[site].values()) for site in order) / 25  # a count that its part of the bar has room for
        axes.bar_label(bars, [str(c) if c >= least else "" for c in counts], label_type="center", fontsize=9)
        begun = [a + b for a, b in zip(begun, counts, strict=True)]
    axes.set(xlabel="components", xlim=(0, max([*begun, 1]) * 1.05))
    axes.set_title("Standing of all components, per site", fontsize=11, loc="left")
    axes.spines[["top", "right"]].set_visible(False)
    if any(begun):
        axes.legend(loc="lower right", ncols=2, frameon=False, fontsize=9)
