"""Plans as files: written, and found again by their names."""

from __future__ import annotations

from pathlib import Path

import msgspec

from gallant.core.errors import GallantError, Refused, WrongUse
from gallant.core.records import clean
from gallant.core.work.plan import Plan
from gallant.disk import make_folder, put_whole, why_not
from gallant.operations.ground.workplace import Workplace
from gallant.operations.plan.recorded import plans_made, record_plan, refuse_unrecorded


def written(place: Workplace, plan: Plan) -> str:
    """Write a plan to plans/; gives its path from the estate."""
    folder = place.folder / "plans"
    path = folder / f"{plan.id}.json"
    try:
        make_folder(folder)
        put_whole(path, msgspec.json.format(msgspec.json.encode(plan), indent=1) + b"\n")
    except OSError as error:
        raise GallantError(f"{path} cannot be written: {why_not(error, path)}.") from None
    record_plan(place, plan)  # after the file: what is recorded can be had
    return str(path.relative_to(place.folder))


def _newest(place: Workplace, system: str | None) -> str:
    """The newest plan that was not carried out yet; of a system,
    where one is named. Raises `WrongUse` where there is none."""
    carried_out, made_here = {row.plan.id for row in place.journal.rolls()[0]}, plans_made(place)
    found = []
    for path in (place.folder / "plans").glob("plan-*.json"):
        try:
            plan = msgspec.json.decode(path.read_bytes(), type=Plan)
        except (OSError, msgspec.DecodeError, ValueError):
            continue  # whoever names it is told what is wrong with it
        if plan.id in made_here and plan.id not in carried_out and (system is None or system in plan.systems):
            found.append((plan.made, plan.id))
    if not found:
        raise WrongUse(
            f"No plan {f'of {system} ' if system is not None else ''}waits to be carried out.",
            next=f"gallant plan {system or ''}".rstrip(),
        )
    return max(found)[1]


def load_plan(place: Workplace, name: str | None) -> Plan:
    """A plan by its name, the start of its name, or its path; by a system's name the newest of it, and without any the
    newest that was not carried out. Raises `Refused` for one that was altered."""
    if name is None or name in place.estate.systems:
        name = _newest(place, name)
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
        raise WrongUse(
            f"{path} is not a plan: {clean(str(error), 120)}.", next="gallant plan SYSTEM makes one."
        ) from None
    if not plan.is_whole:
        raise Refused(
            f"{path} was altered: its content is no longer what its name says.",
            "A plan is never edited; what was looked at is what is done.",
            f"gallant plan {' '.join(plan.systems)} makes a new one.",
        )
    if path.parent == place.folder / "plans" and path.stem != plan.id:
        raise Refused(f"{path} has {plan.id}, and the name of another.", next=f"gallant plan --show {plan.id}")
    refuse_unrecorded(place, plan, str(path))
    return plan
