"""What came of a rehearsal: in a terminal, and as a histogram with the window."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import timedelta
from pathlib import Path
from typing import TYPE_CHECKING

from gallant.core.length.rehearsing import Rehearsal
from gallant.core.readings import IMAGE
from gallant.views.ground.figures import Dated, save
from gallant.views.ground.palette import ACCENT, BAD, GOOD, MUTED, ONE, TEXT, paler
from gallant.views.ground.parts import Drawn, Listed, View
from gallant.views.ground.tables import next_steps, table
from gallant.views.ground.words import BOLD, DIM, OFF, duration, many, mark, plain

if TYPE_CHECKING:
    from gallant.core.length.rehearsing import Share

REHEARSED: Listed[Rehearsal] = Listed("rehearsal", "rehearse")

SURE = 0.9  # of all nights, from which on a plan is called one that fits
BINS = 40
LOOKS = (
    ("done", paler(ONE, 0.4), ""),
    ("held", paler(ACCENT, 0.5), ".."),
    ("stopped", paler(BAD, 0.2), "//"),
)  # told apart in grey, too


def rehearsal_view(found: Rehearsal) -> View:
    def text() -> Drawn:
        yield (
            f"{BOLD}{found.plan}{OFF} rehearsed {many(found.runs, 'time')} from {found.begins:%a %Y-%m-%d %H:%M}"
            f" UTC{DIM}  {_known(found)}{OFF}"
        )
        yield ""
        shown = table("of all nights", "", "what that means", right=("",))
        for share, state, words in _rows(found):
            shown.add_row(f"{mark(state)} {words[0]}", f"{100 * share:.0f} %", words[1])
        yield shown
        if found.p50_s is not None and found.p90_s is not None:
            half, most = (found.begins + timedelta(seconds=s) for s in (found.p50_s, found.p90_s))
            yield (
                f"Done in half of them by {BOLD}{half:%H:%M}{OFF} ({duration(found.p50_s)}), in nine of ten by "
                f"{BOLD}{most:%H:%M}{OFF} ({duration(found.p90_s)})."
            )
        if found.away_s[1]:
            usual, longest = (duration(seconds) for seconds in found.away_s)
            yield (
                f"The longest that a service is away at a time: {usual} in half of the nights, no more than {longest}"
                " in nine of ten."
            )
        for name, (usual_s, most_s) in found.down_s.items():
            yield (
                f"{BOLD}{plain(name)}{OFF} is down for {duration(usual_s)} in all in half of the nights that finish,"
                f" for no more than {duration(most_s)} in nine of ten."
            )
        yield from _places("It stops most often at", found.stops)
        yield from _places("It is held most often before", found.holds)
        yield from _places("What decides when it is done:", found.decides)
        yield from next_steps(*_next(found))

    return REHEARSED.view([found], text)


def _next(found: Rehearsal) -> Iterator[str]:
    """What its window does not hold is put into several."""
    if found.until is not None and found.in_window + found.stopped < SURE:
        yield "gallant plan --all"
    yield f"gallant plan --show {found.plan}"
    if found.in_window:
        yield f"gallant roll {found.plan}"


def _known(found: Rehearsal) -> str:
    return (
        f"known from {many(found.seen, 'step')} carried out here"
        if found.seen
        else "by the publishers' word: nothing of it was carried out here before"
    )


def _rows(found: Rehearsal) -> Iterator[tuple[float, str, tuple[str, str]]]:
    if found.until is None:
        yield found.finished, "good" if found.finished >= SURE else "work", ("finished", "no window ends it")
    else:
        state = "good" if found.in_window >= SURE else "work"
        yield found.in_window, state, ("finished in its window", f"until {found.until:%a %H:%M} UTC")
        if found.finished - found.in_window > 0:
            yield (
                found.finished - found.in_window,
                "work",
                ("finished after it", "work that returns a system to service may pass the end"),
            )
    if found.held:
        yield found.held, "work", ("held", "what is left waits for the next window, or for somebody")
    yield (
        found.stopped,
        "bad" if found.stopped > 1 - SURE else "note",
        ("stopped", "a step failed or took too long; what needs it did not start"),
    )


def _places(words: str, places: Sequence[Share]) -> Iterator[str]:
    if places:
        yield f"{words} {', '.join(f'{_called(one)} ({100 * one.share:.3g} %)' for one in places)}."
        if places[0].why:
            yield f"{DIM}There: {plain(places[0].why.splitlines()[0])}{OFF}"


def _called(one: Share) -> str:
    what = one.kind.replace("_", " ") + ("" if one.component == IMAGE else f" {one.component}")
    return f"{BOLD}{plain(one.system)}/{plain(one.node)}{OFF} {plain(what)}"


def draw_rehearsal(found: Rehearsal, path: Path) -> None:
    """A histogram of when it is done, with the window. Written whole or not at all."""
    import matplotlib

    matplotlib.use("Agg")
    from matplotlib.figure import Figure

    figure = Figure(figsize=(12.8, 5.6), dpi=100, layout="constrained")
    axes: Dated = figure.subplots()
    _draw_nights(axes, found)
    for part, at, line in (("half", found.p50_s, "--"), ("nine of ten", found.p90_s, "-")):
        if at is not None:
            when = found.begins + timedelta(seconds=at)
            axes.axvline(when, color=TEXT, linestyle=line, linewidth=1.6, label=f"{part} by {when:%H:%M}")
    axes.axvline(found.begins, color=MUTED, linewidth=1, linestyle=":", label=f"begins {found.begins:%a %H:%M}")
    if found.until is not None:
        ends = f"window, until {found.until:%a %H:%M}"
        axes.axvspan(found.begins, found.until, color=GOOD, alpha=0.10, linewidth=0, label=ends)
        axes.axvline(found.until, color=BAD, linewidth=2.2, label="the window ends")
    _draw_frame(axes, found)
    figure.legend(loc="outside lower center", ncols=4, frameon=False, fontsize=9)
    save(figure, path)


def _draw_nights(axes: Dated, found: Rehearsal) -> None:
    every = [
        (ends, look) for ends, look in zip((found.ends_s, found.held_s, found.stopped_s), LOOKS, strict=True) if ends
    ]
    if every:
        axes.hist(
            [[found.begins + timedelta(seconds=at) for at in ends] for ends, _ in every],
            bins=BINS,
            stacked=True,
            color=[look[1] for _, look in every],
            hatch=[look[2] for _, look in every],
            edgecolor="white",
            label=[f"{look[0]} ({100 * len(ends) / found.runs:.0f} %)" for ends, look in every],
        )


def _draw_frame(axes: Dated, found: Rehearsal) -> None:
    from matplotlib import dates

    where = dates.AutoDateLocator()  # type: ignore[no-untyped-call]
    axes.xaxis.set_major_locator(where)
    axes.xaxis.set_major_formatter(dates.ConciseDateFormatter(where))  # type: ignore[no-untyped-call]
    axes.set_xlabel("UTC")
    axes.set_ylabel("nights")
    axes.grid(axis="y", alpha=0.3)
    axes.spines[["top", "right"]].set_visible(False)
    axes.set_title(f"{found.plan}: when {found.runs} nights are over", fontsize=12, loc="left")
