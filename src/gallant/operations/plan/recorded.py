"""Plans as the ledger has them: what was made here, with its whole content. A file of that form is none by itself."""

from __future__ import annotations

from collections.abc import Iterator

from gallant.core.decide.ledger import PLAN
from gallant.core.errors import GallantError, Refused
from gallant.core.work.plan import Plan
from gallant.operations.ground.deciding import record
from gallant.operations.ground.workplace import Workplace
from gallant.store.copies import was_brought_back


def record_plan(place: Workplace, plan: Plan) -> None:
    """Write down that a plan was made, once. Raises `GallantError` where
    another one has its name, of which only twelve digits of the digest are."""
    known = set(_digests(place, plan))
    if known - {plan.digest}:
        raise GallantError(f"Another plan is named {plan.id} already.", next="Make it once more: it is dated anew.")
    if not known:
        record(place, PLAN, plan.id, target=plan.digest, reason=", ".join(plan.systems))


def refuse_unrecorded(place: Workplace, plan: Plan, path: str) -> None:
    """Raise `Refused` for a plan of another estate, that nobody made
    here, or that is not the one that was made under its name."""
    if plan.basis.estate != place.identity:
        raise Refused(
            f"{path} is no plan of this estate: it was made for another estate.",
            "Two estates may have systems of the same names.",
            f"gallant plan {' '.join(plan.systems)} makes one here.",
        )
    known = set(_digests(place, plan))
    if plan.digest in known:
        return
    what = f"the ledger has another {plan.id}" if known else f"the ledger has no {plan.id}"
    raise Refused(
        f"{path} is no plan that was made here: {what}.",
        "What is approved and carried out is what this estate planned, to the letter.",
        f"gallant plan {' '.join(plan.systems)} makes one.",
    )


def refuse_replaced(place: Workplace, plan: Plan, roll_id: str) -> None:
    """Raise `Refused` where the plan of a roll is not one that was made
    here. A ledger that a copy took the place of may have lost it."""
    if any(True for _ in _digests(place, plan)) or not was_brought_back(place.folder, "ledger.db"):
        refuse_unrecorded(place, plan, f"The plan of {roll_id}")


def plans_made(place: Workplace) -> set[str]:
    """The names of all plans that were made here."""
    return {kept.entry.subject for kept in place.ledger.about([PLAN])}


def _digests(place: Workplace, plan: Plan) -> Iterator[str]:
    for kept in place.ledger.about([PLAN], plan.id):
        if kept.entry.subject == plan.id and kept.entry.target is not None:
            yield kept.entry.target
