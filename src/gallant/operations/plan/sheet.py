"""A change sheet: everything about a plan that somebody signs for, as facts; nothing is contacted for it."""

from __future__ import annotations

import itertools
from collections.abc import Iterator
from datetime import datetime

from gallant.core.assess.issues import Concern
from gallant.core.catalog.products import Package
from gallant.core.checks.all import CHECKS
from gallant.core.checks.facts import Finding
from gallant.core.decide.consents import Needed, consents_needed
from gallant.core.estate.notes import notes_on
from gallant.core.estate.systems import Note
from gallant.core.length.spread import is_disruptive, late_s
from gallant.core.plan.lanes import dependents
from gallant.core.readings import IMAGE
from gallant.core.records import Record
from gallant.core.steps.kinds import KINDS, doing
from gallant.core.windows.rules import Span
from gallant.core.work.plan import Back, Hop, Lane, Plan, Step, steps_of, waves_seconds
from gallant.operations.decide.approving import Approval, approval_of
from gallant.operations.decide.notices import carried_out
from gallant.operations.ground.last import issues_here, last_readings
from gallant.operations.ground.workplace import Workplace
from gallant.operations.plan.making import Planned
from gallant.operations.plan.windows import windows_of_plan


class SheetChange(Record, rename={"from_": "from"}):
    """What one component comes from and to, by one hop; `one_way` is why there is no way back from it."""

    system: str
    component: str
    from_: str
    to: str
    severity: str | None
    one_way: tuple[str, ...] = ()


class SheetStep(Record):
    """One step: when it begins at the earliest (seconds from the beginning), how long it takes
    in half and in nine of ten cases, how it is undone and how long that takes, or why it
    cannot be (`one_way`; `barred`: an earlier step left no way back already). `by_hand`: a
    person does it. `dark`: its node does not answer meanwhile; `console` is another way in."""

    at_s: float
    system: str
    node: str
    wave: str
    does: str
    p50_s: float
    p90_s: float
    disturbs: tuple[str, ...]
    undo: str | None
    undo_s: float
    one_way: tuple[str, ...] = ()
    barred: bool = False
    by_hand: str = ""
    dark: bool = False
    console: str | None = None


class Hit(Record):
    """What the work on a system means for others: it is down for so long (0: it carries on), or has a node less, in
    nine of ten cases for `late_s`, those that use it, how often and for how long it has one node less (`with_machines`:
    when those below it have), the sessions that were open on it when it was last read (None: it does not say), and the
    way back at any point (`one_way`: as long as there is one)."""

    system: str
    down_s: float
    late_s: float
    used_by: tuple[str, ...]
    falls: dict[str, float]
    lone_times: int
    lone_s: float
    sessions: int | None
    back_s: float
    one_way: bool
    windows: tuple[Span, ...] | None
    with_machines: bool = False


class ChecksStood(Record):
    """How the checks of a system stood when they were last run (`at` None: never)."""

    system: str
    at: datetime | None
    findings: tuple[Finding, ...]


class File(Record):
    """A package that is brought."""

    name: str
    release: str
    bytes: int
    sha256: str


class Sheet(Record):
    """Everything that stands on it. `gates` are the checks that stop a
    roll; `decided` who accepted or booked what, with the day."""

    planned: Planned
    approval: Approval
    changes: tuple[SheetChange, ...]
    issues: tuple[Concern, ...]
    notes: tuple[Note, ...]
    hits: tuple[Hit, ...]
    consents: tuple[Needed, ...]
    checked: tuple[ChecksStood, ...]
    gates: tuple[str, ...]
    lines: tuple[SheetStep, ...]
    files: tuple[File, ...]
    decided: tuple[tuple[str, str, str, datetime], ...]
    own_path: tuple[str, ...]
    estate: str
    now: datetime

    @property
    def by_hand(self) -> tuple[SheetStep, ...]:
        """The steps that a person does."""
        return tuple(line for line in self.lines if line.by_hand)

    @property
    def dark(self) -> tuple[SheetStep, ...]:
        """The steps in which a service may not answer."""
        return tuple(line for line in self.lines if line.dark)


def sheet_of(place: Workplace, planned: Planned) -> Sheet:
    """What a change sheet says of a plan."""
    made, estate = planned.plan, place.estate
    about = carried_out(place, made) if planned.roll_id is None else []
    severity = {n.name: n.severity for n in about}
    changes = tuple(c for lane in made.lanes for c in _changes(lane, severity))
    decided = [
        (n.name, kept.entry.kind, kept.entry.by, kept.entry.at)
        for n in about
        for kept in place.ledger.about(["accept", "book"], n.name)[-1:]
        if kept.entry.subject == n.name
    ]
    gallant_on = (estate.gallant_on or "").partition("/")[0]
    return Sheet(
        planned=planned,
        approval=approval_of(place, made),
        changes=changes,
        issues=tuple(itertools.chain.from_iterable(_issues(place, lane) for lane in made.lanes)),
        notes=tuple(dict.fromkeys(note for lane in made.lanes for note in _notes(place, lane))),
        hits=tuple(_hit(place, made, lane) for lane in made.lanes),
        consents=tuple(consents_needed(made, made.systems)),
        checked=tuple(_checked(place, lane.system) for lane in made.lanes),
        gates=tuple(check.id for check, _ in CHECKS if "stop" in check.levels),
        lines=tuple(sorted(_lines(place, made), key=lambda line: line.at_s)),
        files=tuple(_files(made)),
        decided=tuple(decided),
        own_path=tuple(lane.system for lane in made.lanes if gallant_on in (lane.system, *lane.also, *lane.hit)),
        estate=estate.name,
        now=place.clock.now(),
    )


def _changes(lane: Lane, severity: dict[str, str | None]) -> Iterator[SheetChange]:
    for hop in lane.hops:
        if (hop.image and not hop.lays) or hop.restarts or hop.by_hand:
            yield SheetChange(
                system=lane.system,
                component=IMAGE,
                from_=hop.from_,
                to=hop.to,
                severity=severity.get(f"{lane.system}:{IMAGE}"),
                one_way=_one_way(lane, hop, IMAGE),
            )
        for part in hop.parts:
            yield SheetChange(
                system=lane.system,
                component=part.component,
                from_=part.from_,
                to=part.to,
                severity=severity.get(f"{lane.system}:{part.component}"),
                one_way=_one_way(lane, hop, part.component),
            )


def _one_way(lane: Lane, hop: Hop, component: str) -> tuple[str, ...]:
    """Why there is no way back from what the hop brings of a component, as its last node has it."""
    named = [one.component for step in steps_of(hop.waves) if step.component == component for one in step.brings]
    steps = {step.id for step in steps_of(hop.waves)}
    own = (b for b in lane.back if b.step in steps and (b.component == component or component in named))
    return tuple(dict.fromkeys(why for back in own for why in back.why))


def _issues(place: Workplace, lane: Lane) -> Iterator[Concern]:
    """The known issues of what is entered that concern these nodes, or may."""
    system = place.estate.systems.get(lane.system)
    product = place.products.get(system.product) if system is not None else None
    if system is None or product is None:
        return
    entered = [r for hop in lane.hops if hop.image and (r := product.resolve(hop.to)) is not None]
    readings = last_readings(place, [lane.system])[0]
    yield from (c for c in issues_here(place, system, product, entered, readings.values()) if c.nodes or c.untold)


def _notes(place: Workplace, lane: Lane) -> Iterator[Note]:
    system = place.estate.systems.get(lane.system)
    product = place.products.get(system.product) if system is not None else None
    if system is not None and product is not None:
        yield from notes_on(place.estate, system, product, [(hop.from_, hop.to) for hop in lane.hops if hop.image])


def _hit(place: Workplace, made: Plan, lane: Lane) -> Hit:
    waves = [wave for hop in lane.hops for wave in hop.waves if any(s.disturbs for s in steps_of((wave,)))]
    lone, own = waves if not lane.down_s else [], place.estate.systems.get(lane.system)
    readings = last_readings(place, [lane.system])[0].values() if lane.system in place.estate.systems else ()
    counts = [count for r in readings if (count := r.gauge("sessions")) is not None]
    spans = windows_of_plan(place, made).get(lane.system)
    return Hit(
        system=lane.system,
        down_s=lane.down_s,
        late_s=_late_s(lane),
        used_by=tuple(dependents(place.estate, own)) if own is not None else lane.hit,
        falls=lane.falls,
        lone_times=len(lone),
        lone_s=sum(waves_seconds((wave,)) for wave in lone),
        sessions=int(sum(counts)) if counts else None,
        back_s=max((back.lasts_s for back in lane.back), default=0.0),
        one_way=bool(lane.one_way),
        with_machines=any(hop.served for hop in lane.hops),
        windows=None if spans is None else tuple(span for span in spans if span.end > place.clock.now())[:3],
    )


def _late_s(lane: Lane) -> float:
    """For how long, in nine of ten cases, a system is down; of one that carries on, for how long it has a node less:
    until each wave that disturbs it is whole again."""
    if lane.down_s:
        return sum(late_s(hop, s) for hop in lane.hops for s in steps_of(hop.waves) if is_disruptive(s))
    return sum(
        max(sum(late_s(hop, s) for s in track.steps) for track in wave.tracks)
        for hop in lane.hops
        for wave in hop.waves
        if any(s.disturbs for s in steps_of((wave,)))
    )


def _checked(place: Workplace, system: str) -> ChecksStood:
    found = place.readings.findings_before(system, place.clock.now())
    rows = [f for f in found[1] if f.level in ("stop", "warn")] if found is not None else []
    return ChecksStood(system=system, at=found[0] if found is not None else None, findings=tuple(rows))


def _lines(place: Workplace, made: Plan) -> Iterator[SheetStep]:
    ends = made.ends_s
    for lane in made.lanes:
        backs = {back.step: back for back in lane.back}
        for hop in lane.hops:
            begins = ends[hop.id] - waves_seconds(hop.waves)
            for wave in hop.waves:
                for track in wave.tracks:
                    at = begins
                    for step in track.steps:
                        yield _line(place, hop, wave.why, step, at, backs.get(step.id))
                        at += step.estimate_s
                begins += waves_seconds((wave,))


def _line(place: Workplace, hop: Hop, why: str, step: Step, at: float, back: Back | None) -> SheetStep:
    kind, system = KINDS.get(step.kind), place.estate.systems.get(step.system)
    node = system.nodes.get(step.node) if system is not None else None
    late = late_s(hop, step)
    return SheetStep(
        at_s=at,
        system=step.system,
        node=step.node,
        wave=why,
        does=doing(step),
        p50_s=step.estimate_s,
        p90_s=late,
        disturbs=step.disturbs,
        undo=step.undo if back is None else back.does or None,
        undo_s=back.lasts_s if back is not None else late if step.undo is not None else 0.0,
        one_way=back.why if back is not None else (),
        barred=back is not None and back.is_barred,
        by_hand=(step.task or step.expects) if kind is not None and kind.by_person else "",
        dark=kind is not None and kind.away,
        console=node.console if node is not None else None,
    )


def _files(made: Plan) -> Iterator[File]:
    seen = set[str]()
    for lane in made.lanes:
        for hop in lane.hops:
            own: list[tuple[str, Package | None]] = [(hop.to, hop.package), *((p.to, p.package) for p in hop.parts)]
            for release, package in own:
                if package is not None and package.sha256 not in seen:
                    seen.add(package.sha256)
                    yield File(name=package.name, release=release, bytes=package.bytes, sha256=package.sha256)
