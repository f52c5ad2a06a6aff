"""Plans: made from fresh readings, written to a file named by its content, and found again by name."""

from __future__ import annotations

import os
from collections.abc import Sequence
from pathlib import Path

import msgspec

from gallant.core.checks import Finding
from gallant.core.errors import GallantError, Refused, Unreached, WrongUse
from gallant.core.plan import Plan, make_plan
from gallant.core.records import Record, clean
from gallant.operations.assess import last_readings
from gallant.operations.check import check_with
from gallant.operations.workplace import Workplace


class Planned(Record):
    """The plan, where it was written, and the findings that would stand in a roll's way today."""

    plan: Plan
    path: str
    findings: tuple[Finding, ...]


async def plan(place: Workplace, terms: Sequence[str]) -> Planned:
    """Read the systems, make the plan that takes them to their aims, and write it to plans/."""
    systems = place.systems(terms)
    if not systems:
        raise WrongUse("Nothing is selected, so there is nothing to plan.", next="gallant inventory lists the systems.")
    async with place.drivers(systems) as drivers:
        findings, survey = await check_with(place, systems, drivers)
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
    made = make_plan(
        place.estate,
        systems,
        readings,
        place.products,
        place.profile_digests(systems),
        by=place.user,
        now=place.clock.now(),
    )
    folder = place.folder / "plans"
    path = folder / f"{made.id}.json"
    try:
        folder.mkdir(exist_ok=True)
        partial = path.with_suffix(".part")
        partial.write_bytes(msgspec.json.format(msgspec.json.encode(made), indent=1) + b"\n")
        os.replace(partial, path)
    except OSError as error:
        raise GallantError(f"{path} cannot be written: {error.strerror}.") from None
    return Planned(
        plan=made,
        path=str(path.relative_to(place.folder)),
        findings=tuple(f for f in findings if f.level in ("stop", "warn")),
    )


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
