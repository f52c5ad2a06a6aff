"""Plans: made from fresh readings, written to a file named by its content, and found again by name."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

import msgspec

from gallant.core.assess.findings import Finding
from gallant.core.assess.notices import Notice
from gallant.core.assess.recalls import FINISH
from gallant.core.errors import GallantError, Refused, Unreached, WrongUse
from gallant.core.estate.systems import System
from gallant.core.readings import Reading
from gallant.core.records import Record, clean
from gallant.core.work.plan import NothingToDo, Plan
from gallant.core.work.planning import make_plan
from gallant.disk import make_folder, put_whole
from gallant.operations.assess import last_readings, product_of, ways_out_of
from gallant.operations.check import check_with
from gallant.operations.notices import left_out, record_despite
from gallant.operations.snapshots import can_snapshot, drivers_of
from gallant.operations.workplace import Workplace


class Planned(Record):
    """The plan, where it was written, and the findings that would stand in a roll's way today.

    `left` is what `gaps` lists of these systems and the plan does not cover; `whole` are the systems that are planned whole
    although only some of their nodes were named.
    """

    plan: Plan
    path: str
    findings: tuple[Finding, ...]
    left: tuple[Notice, ...] = ()
    whole: tuple[str, ...] = ()


class OnlyParts(NothingToDo):
    """Every image is as it should be, and components are not."""

    exit_code = 1


async def plan(place: Workplace, terms: Sequence[str], despite: str | None = None, reason: str = "") -> Planned:
    """Read the systems, make the plan that takes them to their aims, and write it to plans/.

    `despite` is a recalled release that some nodes of the one selected system run already and that the others shall run
    too; `Refused` unless its recall is shown to concern none of them.
    """
    selected = place.select(terms)
    systems = [system for system, _ in selected]
    if not systems:
        raise WrongUse("Nothing is selected, so there is nothing to plan.", next="gallant inventory lists the systems.")
    async with drivers_of(place, systems) as drivers:
        findings, survey = await check_with(place, systems, drivers)
        knows = {s.name: drivers[s.name].knows() for s in systems}
    unread = next((n for n in survey.nodes if n.reading is None), None)
    if unread is not None:
        kind = Unreached if survey.exit_code == Unreached.exit_code else Refused
        raise kind(
            unread.error or f"{unread.system}/{unread.node} was not read.",
            "What is not known is not planned.",
            unread.next,
        )
    # What the rest of the estate ran when it was last read, for the requirements between products.
    rest = [name for name in place.estate.systems if name not in {s.name for s in systems}]
    readings = {**(last_readings(place, rest)[0] if rest else {}), **survey.readings()}
    finishing = _despite(place, systems, survey.readings(), despite) if despite is not None else {}
    left = left_out(place, [s.name for s in systems])
    made = _made(
        left,
        place.estate,
        systems,
        readings,
        place.products,
        place.profile_digests(systems),
        by=place.user,
        now=place.clock.now(),
        bundles=place.bundles,
        despite=finishing,
        knows=knows,
        snapshotted={s.name for s in systems if can_snapshot(place, s)},
        identity=place.identity,
    )
    for system, release in finishing.items():
        record_despite(place, system, release, reason)
    folder = place.folder / "plans"
    path = folder / f"{made.id}.json"
    try:
        make_folder(folder)
        put_whole(path, msgspec.json.format(msgspec.json.encode(made), indent=1) + b"\n")
    except OSError as error:
        raise GallantError(f"{path} cannot be written: {error.strerror}.") from None
    return Planned(
        plan=made,
        path=str(path.relative_to(place.folder)),
        findings=tuple(f for f in findings if f.level in ("stop", "warn") or f.check in ("site-notes", "known-issues")),
        left=tuple(left),
        whole=tuple(s.name for s, nodes in selected if len(nodes) < len(s.nodes)),
    )


def _made(left: Sequence[Notice], *ground: Any, **more: Any) -> Plan:
    """As `make_plan`; where no image is to be updated, what else `gaps` lists is named."""
    try:
        return make_plan(*ground, **more)
    except NothingToDo as error:
        if not left:
            raise
        names = ", ".join(f"{n.name} {'/'.join(n.installed)} → {n.target}" for n in left[:5])
        more_of_them = f" and {len(left) - 5} more" if len(left) > 5 else ""
        systems = " ".join(dict.fromkeys(n.system for n in left))
        raise OnlyParts(
            f"{', '.join(error.systems)}: nothing to do, every system image is what its aim asks for.",
            f"What is left cannot be planned yet, and is updated by hand: {names}{more_of_them}.",
            f"gallant gaps {systems}",
            error.systems,
        ) from None


def _despite(
    place: Workplace, systems: Sequence[System], readings: Mapping[str, Reading], despite: str
) -> dict[str, str]:
    if len(systems) != 1:
        raise WrongUse(
            "A recall is set aside for one system at a time.", next="gallant plan SYSTEM --despite-recall VERSION"
        )
    system = systems[0]
    product = product_of(place, system)
    finish = next((w for w in ways_out_of(place, system, product, readings.values(), None) if w.way == FINISH), None)
    recalled = product.resolve(despite)
    running = {r.version for reading in readings.values() if (r := product.resolve(reading.version)) is not None}
    if recalled is None or finish is None or recalled.version not in running:
        raise Refused(
            f"{system.name}: no node runs {clean(despite, 60)} as a recalled release, so there is nothing of it to finish.",
            "A recalled release is entered by nobody who does not run it already.",
            f"gallant route {system.name}",
        )
    if not finish.open:
        raise Refused(
            f"{system.name}: {recalled.version} is not finished: {finish.why}.", next=f"gallant route {system.name}"
        )
    return {system.name: recalled.version}


def load_plan(place: Workplace, name: str) -> Plan:
    """A plan by its name, the start of its name, or its path. Raises `Refused` for one that was altered."""
    path = Path(name)
    if not path.is_file():
        found = sorted((place.folder / "plans").glob(f"{name}*.json"))
        if len(found) != 1:
            what = f"No plan {clean(name, 80)!r}." if not found else f"{name!r} is the start of {len(found)} plans."
            raise WrongUse(what, next="gallant plan SYSTEM makes one; the plans lie in plans/.")
        path = found[0]
    try:
        plan = msgspec.json.decode(path.read_bytes(), type=Plan)
    except (OSError, msgspec.DecodeError, ValueError) as error:
        raise WrongUse(f"{path} is no plan: {clean(str(error), 120)}.", next="gallant plan SYSTEM makes one.") from None
    if not plan.is_whole:
        raise Refused(
            f"{path} was altered: its content is no longer what its name says.",
            "A plan is never edited; what was looked at is what is done.",
            f"gallant plan {' '.join(plan.systems)} makes a new one.",
        )
    return plan
