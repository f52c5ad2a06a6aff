"""A roll as it goes: the plan's tree on a terminal, plain lines when piped.

Nothing here may reach back into the roll: whatever goes wrong with the screen, a terminal that is gone included, is
swallowed. The journal has everything.
"""

from __future__ import annotations

import contextlib
import sys
from bisect import insort
from collections import Counter, deque
from collections.abc import Callable, Iterator, Sequence
from datetime import datetime
from typing import IO, TYPE_CHECKING, TypeAlias

from gallant.core.outages import Outage, Sample
from gallant.core.records import clean
from gallant.core.steps.kinds import doing
from gallant.core.work import events as e
from gallant.core.work.events import Event
from gallant.core.work.plan import Hop, Plan, Step, Wave, hop_ends, steps_of, waves_seconds
from gallant.views.ground.output import console
from gallant.views.ground.steps import hop_title, step_words
from gallant.views.ground.words import (
    BOLD,
    CYAN,
    DIM,
    GREEN,
    LOUD,
    MARKS,
    OFF,
    clock,
    duration,
    many,
    mark,
    on,
    plain,
    styled,
)

if TYPE_CHECKING:
    from rich.console import Group
    from rich.text import Text

STRIP_CELLS = 60
CELL_S = 0.25  # real seconds that one cell of the strip stands for
LINE_EVERY_PERCENT = 25
FRAMES = 4  # a second
FEW = 3  # steps of a node that stand in a line as they are, also once they are over


class QuietFile:
    """A file whose failures are nobody's business any more."""

    def __init__(self, file: IO[str]) -> None:
        self.file = file

    def write(self, text: str) -> int:
        with contextlib.suppress(OSError, ValueError):
            return self.file.write(text)
        return len(text)

    def flush(self) -> None:
        with contextlib.suppress(OSError, ValueError):
            self.file.flush()

    def isatty(self) -> bool:
        with contextlib.suppress(OSError, ValueError):
            return self.file.isatty()
        return False

    @property
    def encoding(self) -> str:
        return getattr(self.file, "encoding", "utf-8")

    def fileno(self) -> int:
        return self.file.fileno()


class RollSeen:
    """What both views know of a roll: the state of each step, and the service as the watch sees it."""

    def __init__(self) -> None:
        self.roll, self.plan, self.speed = "", None, None  # type: str, Plan | None, float | None
        self.waves: dict[str, tuple[Wave, ...]] = {}
        self.began: dict[str, datetime] = {}
        self.ended: dict[str, datetime] = {}
        self.results: dict[str, str] = {}
        self.messages: dict[str, str] = {}
        self.percents: dict[str, float] = {}
        self.outages: list[Outage] = []
        self.addresses: set[str] = set()  # what is watched that is no service, but a node's own address
        self.strips: dict[str, deque[tuple[float, bool]]] = {}
        self.last_sample: dict[str, Sample] = {}
        self.notices: list[str] = []
        self.now: datetime | None = None
        self.first: datetime | None = None
        self._ratios: dict[str, list[float]] = {}  # by kind of step, how long each took, in estimates of it
        self._pace: dict[str, float] = {}  # the median of those

    def note(self, event: Event) -> None:
        entry = event.entry
        self.now = entry.at
        self.first = self.first or entry.at
        self.addresses |= {one.service for one in entry.watched or () if one.is_address}
        if entry.kind == e.DERIVED and entry.hop and entry.waves:
            self.waves[entry.hop] = entry.waves
        elif entry.kind == e.OUTAGE and entry.outage is not None:
            self.outages.append(entry.outage)
        elif entry.step is not None:
            if entry.kind == e.INTENT:
                self.began[entry.step] = entry.at
                self.results[entry.step] = "open"
                self.percents[entry.step] = 0.0
            elif entry.kind == e.OUTCOME:
                self.ended[entry.step] = entry.at
                self.results[entry.step] = entry.result or ""
                self.messages[entry.step] = entry.message
                self._learn(entry.step)
            elif entry.kind in (e.TOLD, e.LATE):
                self.messages[entry.step] = entry.message

    def _learn(self, step_id: str) -> None:
        """What a step took of its estimate says how long those of its
        kind that are to come will take: the median of them."""
        step = next((s for s in self.steps() if s.id == step_id), None)
        took = self.took(step) if step is not None and self.results[step_id] == "done" else None
        if step is not None and took is not None and step.estimate_s > 0:
            ratios = self._ratios.setdefault(step.kind, [])
            insort(ratios, took / step.estimate_s)
            self._pace[step.kind] = ratios[len(ratios) // 2]

    def hops(self) -> Iterator[tuple[Hop, tuple[Wave, ...]]]:
        for lane in self.plan.lanes if self.plan else ():
            for hop in lane.hops:
                yield hop, self.waves.get(hop.id, hop.waves)

    def steps(self) -> Iterator[Step]:
        for _, waves in self.hops():
            yield from steps_of(waves)

    def state(self, step: Step) -> str:
        return self.results.get(step.id, "to come")

    def remaining_s(self) -> float:
        """What the estimates leave, each by what its kind took of them so far, less the
        part of the running steps that is done: of lanes side by side the longest."""
        lanes = self.plan.lanes if self.plan else ()
        ends = hop_ends(lanes, lambda hop: waves_seconds(self.waves.get(hop.id, hop.waves), self._left_s))
        return max(ends.values(), default=0.0)

    def latest_s(self) -> float:
        """What is left in nine of ten cases: as much longer than what is left as the plan said of the whole, since what
        makes steps late makes those to come late too."""
        spread = self.plan.spread if self.plan else None
        longer = spread.whole.p90_s / spread.whole.p50_s if spread is not None and spread.whole.p50_s > 0 else 1.0
        return self.remaining_s() * max(1.0, longer)

    def _left_s(self, step: Step) -> float:
        if self.state(step) == "done":
            return 0.0
        whole = step.estimate_s * self._pace.get(step.kind, 1.0)
        return whole * (1 - self.percents.get(step.id, 0.0) / 100 * (self.state(step) == "open"))

    def took(self, step: Step) -> float | None:
        began, ended = self.began.get(step.id), self.ended.get(step.id)
        return (ended - began).total_seconds() if began and ended and ended >= began else None


Hops: TypeAlias = Sequence[tuple[Hop, tuple[Wave, ...]]]


class LinesShow:
    """Plain lines on stderr: one for each thing that happened, and now and then how far a step is."""

    def __init__(self, file: IO[str] | None = None, quiet: bool = False, verbose: bool = False) -> None:
        self.file = QuietFile(file or sys.stderr)
        self.quiet, self.verbose = quiet, verbose
        self.seen = RollSeen()
        self._told: dict[str, int] = {}
        self._silent: dict[str, str] = {}  # by step whose node does not answer, what was said of that

    def _line(self, text: str) -> None:
        if not self.quiet:
            moment = f"{self.seen.now:%H:%M:%S}Z " if self.seen.now else ""
            self.file.write(f"{moment}{clean(text, 400)}\n")
            self.file.flush()

    def begin(self, roll_id: str, plan: Plan, simulated: float | None, events: list[Event]) -> None:
        self.seen.roll, self.seen.plan = roll_id, plan
        for event in events:
            self.seen.note(event)
        if simulated:
            self._line(f"time is simulated, {simulated:g} times as fast as the clock on the wall")

    def event(self, event: Event) -> None:
        self.seen.note(event)
        entry = event.entry
        if entry.kind == e.INTENT:
            self._line(f"{self._subject(entry.step)}: begun")
        elif entry.kind == e.OUTCOME:
            step = next((s for s in self.seen.steps() if s.id == entry.step), None)
            took = self.seen.took(step) if step else None
            self._line(
                f"{self._subject(entry.step)}: {entry.result}"
                + (f" in {duration(took)}" if took else "")
                + (f", {entry.message}" if entry.message else "")
            )
        elif entry.kind in (e.TOLD, e.LATE):
            self._line(f"{self._subject(entry.step)}: {entry.message}")
        elif entry.kind == e.DERIVED:
            self._line(f"{entry.hop}: {entry.message}")
        elif entry.kind == e.OUTAGE and entry.outage is not None:
            self._line(self._was_out(entry.outage))
        elif entry.kind in (e.OPENED, e.RESUMED, e.ANSWERED):
            self._line(f"{self.seen.roll} {entry.kind} by {entry.by}")

    def _was_out(self, outage: Outage) -> str:
        if outage.service in self.seen.addresses:  # minutes, in the time that the plan counts in
            lasted = "is away still" if outage.seconds is None else f"was away for {duration(outage.seconds)}"
            return f"{outage.service}: its own address {lasted}"
        measured = f"{outage.measured:.2f} s measured" if outage.measured is not None else "still out"
        return f"service {outage.service}: was out, {measured}"

    def _subject(self, step_id: str | None) -> str:
        step = next((s for s in self.seen.steps() if s.id == step_id), None)
        return f"{step.subject} {plain(doing(step))} ({plain(step.to)})" if step else str(step_id)

    def progress(self, step: str, percent: float, message: str) -> None:
        quarter = int(percent // LINE_EVERY_PERCENT)
        again = self._silent.pop(step, None) is not None
        if self.verbose or again or quarter > self._told.get(step, 0):
            self._told[step] = quarter
            words = ", ".join(text for text in (f"{percent:.0f} %", "answers again" if again else "", message) if text)
            self._line(f"{self._subject(step)}: {words}")

    def unanswered(self, step: str, what: str) -> None:
        if self._silent.get(step) != what:
            self._silent[step] = what
            self._line(f"{self._subject(step)}: {what}")

    def sample(self, sample: Sample) -> None:
        pass

    def waiting(self, began: datetime, ended: datetime, step: str) -> None:
        self.seen.now = ended

    def notice(self, text: str) -> None:
        self._line(text)

    def close(self) -> None:
        pass


class LiveShow:
    """The plan's tree with each step's state, percent and device messages, and a strip of the service address."""

    def __init__(self, file: IO[str] | None = None) -> None:
        from rich.live import Live

        self.seen = RollSeen()
        self._last: list[Text] = []
        self._width = 80
        self._console = console(QuietFile(file or sys.stderr), force=True)  # type: ignore[arg-type]
        self._live = Live(
            get_renderable=self._screen, console=self._console, refresh_per_second=FRAMES, transient=False
        )

    def begin(self, roll_id: str, plan: Plan, simulated: float | None, events: list[Event]) -> None:
        self.seen.roll, self.seen.plan, self.seen.speed = roll_id, plan, simulated
        for event in events:
            self.seen.note(event)
        self._live.start()

    def event(self, event: Event) -> None:
        self.seen.note(event)

    def progress(self, step: str, percent: float, message: str) -> None:
        self.seen.percents[step] = percent
        self.seen.messages[step] = message

    def unanswered(self, step: str, what: str) -> None:
        self.seen.messages[step] = what

    def sample(self, sample: Sample) -> None:
        strip = self.seen.strips.setdefault(sample.service, deque(maxlen=round(STRIP_CELLS * CELL_S / 0.02)))
        strip.append((sample.real, sample.ok))
        self.seen.last_sample[sample.service] = sample

    def waiting(self, began: datetime, ended: datetime, step: str) -> None:
        self.seen.now = ended

    def notice(self, text: str) -> None:
        self.seen.notices.append(text)

    def close(self) -> None:
        with contextlib.suppress(Exception):
            self._live.stop()

    # --- drawing

    def _screen(self) -> Group:
        """The screen as it is now; the last good one, with a word of it, where it cannot be drawn."""
        from rich.console import Group

        try:
            self._last = [styled(line) for line in self._lines()]
        except Exception as error:  # the roll goes on, and so does the screen
            told = (
                f"{mark('bad')} the screen could not be drawn ({type(error).__name__}); gallant history has every step"
            )
            return Group(*self._last, styled(told))
        return Group(*self._last)

    def _lines(self) -> list[str]:
        seen = self.seen
        elapsed = (seen.now - seen.first).total_seconds() if seen.now and seen.first else 0.0
        steps = list(seen.steps())
        done = sum(seen.state(s) == "done" for s in steps)
        simulated = f"   {DIM}×{seen.speed:g}{OFF}" if seen.speed else ""
        within = f", within {clock(seen.latest_s())}" if seen.plan and seen.plan.spread else ""
        systems = seen.plan.systems if seen.plan else ()
        named = ", ".join(systems) if len(systems) < 4 else f"{len(systems)} systems"
        head = (
            f"{BOLD}{seen.roll}{OFF}  {named}  {_bar(100 * done / max(1, len(steps)), 20)} "
            f"{done} of {len(steps)} steps   elapsed {BOLD}{clock(elapsed)}{OFF}   "
            f"left about {BOLD}{clock(seen.remaining_s())}{OFF}{within}{simulated}"
        )
        below = ["", *map(self._strip, seen.strips), *(f"{mark('note')} {plain(text)}" for text in seen.notices)]
        hops = list(seen.hops())
        room = self._console.height - len(below) - 3
        self._width = self._console.width
        # As much as the screen has room for; each hop takes a line at least.
        for drawn in (self._whole, self._folded) if len(hops) <= room else ():
            if (parts := _fitting(drawn(hops), room)) is not None:
                return [head, "", *parts, *below]
        return [head, "", *self._most_urgent(hops, room), *below]

    def _most_urgent(self, hops: Hops, room: int) -> list[str]:
        """What happens now, as far as there is room, and in a line what there was none for."""
        urgent, parts = list(self._by_urgency(hops)), list[str]()
        for number, lines in enumerate(self._tight(urgent)):
            if len(parts) + len(lines) > room - (number + 1 < len(urgent)):
                kinds = Counter(self._kind(waves) for _, waves in urgent[number:])
                told = [f"{kinds[kind]} {word}" for kind, word in _KINDS.items() if kinds[kind]]
                return [*parts, f"{DIM}  and besides: {', '.join(told)}{OFF}"]
            parts += lines
        return parts

    # What a screen shows where it is too small for all: what happens
    # now first, what is over and what is to come in a line.

    def _whole(self, hops: Hops) -> Iterator[list[str]]:
        for hop, waves in hops:
            yield [self._title(hop, waves), *self._rows(hop, waves, lambda steps: True)]

    def _folded(self, hops: Hops) -> Iterator[list[str]]:
        for hop, waves in self._by_urgency(hops):
            if self._kind(waves) in ("good", "quiet"):
                yield [f"{self._title(hop, waves)}  {self._sum(waves)}"]
            else:
                yield [self._title(hop, waves), *self._rows(hop, waves, lambda steps: True, folded=True)]

    def _tight(self, hops: Hops) -> Iterator[list[str]]:
        def is_now(steps: Sequence[Step]) -> bool:
            return any(self.seen.state(s) not in ("done", "to come") for s in steps)

        for hop, waves in hops:
            yield [f"{self._title(hop, waves)}  {self._sum(waves)}", *self._rows(hop, waves, is_now)]

    def _by_urgency(self, hops: Hops) -> Hops:
        order = ("bad", "going", "quiet", "good")
        return sorted(hops, key=lambda one: order.index(self._kind(one[1])))

    def _sum(self, waves: tuple[Wave, ...]) -> str:
        """A hop in a few words: how far it is, and each of its nodes by a sign."""
        steps = list(steps_of(waves))
        done = [s for s in steps if self.seen.state(s) == "done"]
        signs = {}
        for node in dict.fromkeys(s.node for s in steps):
            states = {self.seen.state(s) for s in steps if s.node == node}
            begun = _sign(states)
            signs[node] = "quiet" if begun == "going" and "open" not in states else begun
        nodes = " ".join(f"{node}{mark(sign)}" for node, sign in sorted(signs.items()))
        left = waves_seconds(waves, self.seen._left_s)
        told = (
            f"{len(steps)} steps"
            if len(done) == len(steps)
            else f"{len(done)} of {len(steps)} steps, {clock(left)} left"
        )
        return f"{DIM}{told}{OFF}  {nodes}"

    def _kind(self, waves: tuple[Wave, ...]) -> str:
        return _sign({self.seen.state(s) for s in steps_of(waves)})

    def _title(self, hop: Hop, waves: tuple[Wave, ...]) -> str:
        return f"{mark(self._kind(waves))} {BOLD}{hop.system}  {hop_title(hop)}{OFF}"

    def _rows(
        self, hop: Hop, waves: tuple[Wave, ...], wanted: Callable[[Sequence[Step]], bool], folded: bool = False
    ) -> list[str]:
        """A row for each node's part of a wave, on as many lines as it
        needs; `folded`: one that is over, or not begun, in a word."""
        lines = []
        for track in (t for wave in waves for t in wave.tracks if wanted(t.steps)):
            state = _sign({self.seen.state(s) for s in track.steps})
            if folded and len(track.steps) > FEW and state in ("good", "quiet"):
                lines.append(f"   {DIM}{track.node}{OFF}  {self._in_a_word(track.steps, state)}")
                continue
            lines += self._packed(f"   {DIM}{track.node}{OFF}  ", [self._step(s, hop.system) for s in track.steps])
            for step in (s for s in track.steps if self.seen.state(s) in ("open", "failed")):
                if words := self.seen.messages.get(step.id, ""):
                    lines.append(f"        {CYAN if self.seen.state(step) == 'open' else LOUD}{plain(words)}{OFF}")
        return lines

    def _packed(self, head: str, parts: Sequence[str]) -> list[str]:
        """Parts one after the other, as many a line as the screen has room for; what follows begins below the first."""
        indent = styled(head).cell_len
        lines, room = [head], self._width - indent
        for part in parts:
            wide = styled(part).cell_len
            if room < wide and room < self._width - indent:
                lines.append(" " * indent)
                room = self._width - indent
            lines[-1] += f"{part}   "
            room -= wide + 3
        return [line.rstrip() for line in lines]

    def _in_a_word(self, steps: Sequence[Step], state: str) -> str:
        if state == "quiet":
            return f"{DIM}· {len(steps)} steps, about {clock(sum(s.estimate_s for s in steps))}{OFF}"
        took = sum(self.seen.took(s) or 0.0 for s in steps)
        return f"{mark('good')} {len(steps)} steps {DIM}{clock(took)}{OFF}"

    def _step(self, step: Step, system: str) -> str:
        state, named = self.seen.state(step), step_words(step, system)
        if state == "done":
            took = self.seen.took(step)
            return f"{mark('good')} {named} {DIM}{clock(took) if took is not None else ''}{OFF}"
        if state == "open":
            percent = self.seen.percents.get(step.id, 0.0)
            return f"{mark('going')} {BOLD}{named}{OFF} {_bar(percent, 12)} {percent:.0f} %"
        if state == "to come":
            return f"{DIM}· {named} {clock(step.estimate_s)}{OFF}"
        return f"{on(MARKS['bad'][1])}{MARKS['bad'][0]} {named} {state}{OFF}"

    def _strip(self, name: str) -> str:
        samples, last = self.seen.strips[name], self.seen.last_sample[name]
        cells: dict[int, bool] = {}
        for real, ok in samples:
            cell = int(real / CELL_S)
            cells[cell] = cells.get(cell, True) and ok
        newest = int(last.real / CELL_S)
        drawn = "".join(
            {True: f"{GREEN}▮{OFF}", False: f"{LOUD}×{OFF}", None: f"{DIM}·{OFF}"}[cells.get(newest - i)]
            for i in reversed(range(max(8, min(STRIP_CELLS, self._console.width - 82))))
        )
        measured = [o.measured for o in self.seen.outages if o.service == name and o.measured is not None]
        word = (
            f"{GREEN}answering{OFF} {last.answer_s * 1000:.0f} ms"
            if last.ok
            else f"{LOUD}not answering{OFF} {plain(last.why)}"
        )
        told = f"{many(len(measured), 'outage')}, longest {max(measured):.2f} s" if measured else "no outage"
        return f"service {BOLD}{plain(name)}{OFF}  {drawn}  {word}   {DIM}{told}; a cell is {CELL_S:g} s{OFF}"


_KINDS = {"bad": "failed", "going": "under way", "quiet": "to come", "good": "done"}


def _fitting(blocks: Iterator[list[str]], room: int) -> list[str] | None:
    """All lines of some blocks, where there is room for them; no block is drawn once that is known not to be so."""
    parts = list[str]()
    for lines in blocks:
        parts += lines
        if len(parts) > room:
            return None
    return parts


def _sign(states: set[str]) -> str:
    """What several steps come to: all done, none begun, one failed, or under way."""
    if states == {"done"}:
        return "good"
    if states == {"to come"}:
        return "quiet"
    return "bad" if "failed" in states else "going"


def _bar(percent: float, width: int) -> str:
    full = round(width * min(100.0, max(0.0, percent)) / 100)
    return f"{CYAN}{'━' * full}{OFF}{DIM}{'━' * (width - full)}{OFF}"


def show_for(quiet: bool, verbose: bool) -> LinesShow | LiveShow:
    """The live view where stderr is a terminal, lines where it is not, or where every step of progress is wanted."""
    return LiveShow() if sys.stderr.isatty() and not quiet and not verbose else LinesShow(quiet=quiet, verbose=verbose)
