"""Approvals of plans by people other than those who made them, where the estate asks for that."""

from __future__ import annotations

from collections.abc import Iterable

from gallant.core.decide.consents import roll_command
from gallant.core.decide.hands import by_others, is_by_hand
from gallant.core.decide.ledger import PLAN
from gallant.core.errors import Refused
from gallant.core.records import Record, clean
from gallant.core.terms import TAG, matches, parse_term
from gallant.core.work.plan import Plan
from gallant.operations.ground.deciding import record
from gallant.operations.ground.workplace import Workplace

APPROVE = "approve"


class Approval(Record):
    """How many others have to approve a plan, and who has; `roll` is the command of somebody who accepts all that it
    needs. `unproven` are the names under which it was approved by none of their own accounts: they do not count."""

    plan: str
    needed: int
    by: tuple[str, ...] = ()
    unproven: tuple[str, ...] = ()
    roll: str

    @property
    def missing(self) -> int:
        """How many approvals are still missing."""
        return max(0, self.needed - len(self.by))


def asked_for(place: Workplace, names: Iterable[str]) -> int:
    """How many others have to approve what is done to some systems."""
    systems = [place.estate.systems[name] for name in names if name in place.estate.systems]
    asked = [(parse_term(f"{TAG}:{tag}"), count) for tag, count in place.estate.approval.items()]
    return max((count for term, count in asked if any(matches(term, system) for system in systems)), default=0)


def approval_of(place: Workplace, plan: Plan) -> Approval:
    """What the estate asks for by the tags of the plan's systems. The way back from a roll that was approved needs none
    of its own: nobody is to wait for a second person while something is broken."""
    needed = asked_for(place, plan.every)
    if not needed or plan.undoes is not None:
        return Approval(plan=plan.id, needed=0, roll=roll_command(plan))
    given = [kept for kept in place.ledger.about([APPROVE], plan.id) if kept.entry.subject == plan.id]
    hands = place.ledger.hands()
    proven = [kept.entry for kept in given if is_by_hand(kept, hands)]
    unproven = dict.fromkeys(kept.entry.by for kept in given if not is_by_hand(kept, hands))
    return Approval(
        plan=plan.id,
        needed=needed,
        by=by_others(_makers(place, plan), proven),
        unproven=tuple(unproven),
        roll=roll_command(plan),
    )


def _makers(place: Workplace, plan: Plan) -> set[str]:
    """Who made a plan: the account, and who asked sudo for it."""
    made = place.ledger.about([PLAN], plan.id)
    return {plan.by, *(kept.entry.sudo_user for kept in made if kept.entry.subject == plan.id and kept.entry.sudo_user)}


def approve(place: Workplace, plan: Plan, reason: str) -> Approval:
    """A named person's approval of a plan as it is, in the ledger. Raises `Refused` for the person who made it."""
    who = place.person
    if own := {who.name, who.sudo_user} & _makers(place, plan):
        raise Refused(
            f"{plan.id} was made by {', '.join(sorted(filter(None, own)))}; nobody approves their own plan.",
            next=f"Somebody else looks at it, from an account of their own, and says: gallant approve {plan.id}",
        )
    if who.name not in approval_of(place, plan).by:
        record(place, APPROVE, plan.id, reason=clean(reason, 400))
    return approval_of(place, plan)


def refuse_unapproved(place: Workplace, plan: Plan) -> None:
    """Raise `Refused` while fewer have approved a plan than the estate asks for."""
    approval = approval_of(place, plan)
    if approval.missing:
        have = f"{', '.join(approval.by)} approved it" if approval.by else "nobody has approved it"
        names = ", ".join(approval.unproven)
        foreign = (
            f" What is there under the name of {names} was not written by that account (gallant ledger verify)."
            if names
            else ""
        )
        raise Refused(
            f"{plan.id} did not start: it needs the approval of {approval.needed} other than {plan.by}, and {have}.",
            f"The estate asks for that (approval:).{foreign}",
            f"Somebody else looks at it, and says: gallant approve {plan.id}",
        )
