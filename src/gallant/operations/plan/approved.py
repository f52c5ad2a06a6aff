"""Which plan of some work others approved already: a plan that is made at night nobody can have approved."""

from __future__ import annotations

import contextlib
from collections.abc import Collection
from datetime import datetime
from typing import TypeAlias

from gallant.core.errors import GallantError
from gallant.core.work.plan import Plan
from gallant.operations.decide import notices
from gallant.operations.decide.approving import approval_of
from gallant.operations.ground.workplace import Workplace
from gallant.operations.plan.loading import load_plan

Brought: TypeAlias = tuple[str, str, str | None]  # system, component, version


def approved_plan(place: Workplace, wanted: Collection[Brought]) -> str | None:
    """The newest plan that others approved of just some systems, that brings all that is wanted of them and that no
    roll carried out; whether it still fits, its roll finds out."""
    systems = {system for system, _, _ in wanted}
    carried_out = {row.plan.id for row in place.journal.rolls(systems)[0]}
    found = list[Plan]()
    for path in (place.folder / "plans").glob("plan-*.json"):
        with contextlib.suppress(GallantError):
            made = load_plan(place, str(path))
            covers = set(made.systems) == systems and set(wanted) <= notices.brought_by(made)
            if covers and made.id not in carried_out and not approval_of(place, made).missing:
                found.append(made)
    newest = max(found, key=_made, default=None)
    return newest.id if newest is not None else None


def _made(plan: Plan) -> datetime:
    return plan.made
