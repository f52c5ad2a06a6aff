"""A roll's journal, sealed in the ledger whenever its roll comes to
rest: what is taken back or carried on is what was written then."""

from __future__ import annotations

from collections.abc import Sequence

from gallant.core.errors import GallantError, Refused
from gallant.core.ports import OneRoll
from gallant.core.records import digest
from gallant.core.work.events import Event
from gallant.operations.ground.workplace import Workplace
from gallant.store.copies import was_brought_back


def seal_of(events: Sequence[Event]) -> str:
    """How many entries a journal has, and the SHA-256 of all of them."""
    return f"{len(events)}:{digest(tuple(event.entry for event in events))}"


def seal_now(journal: OneRoll) -> str | None:
    """The seal of a journal that this process writes; None where it cannot be read now: the roll has ended all the
    same."""
    try:
        return seal_of(journal.events())
    except GallantError:
        return None


def seal_problem(place: Workplace, roll_id: str, events: Sequence[Event]) -> str | None:
    """How a journal differs from what the ledger has of it; None where it does not, or was never sealed. What was
    written after the seal is not held against it."""
    sealed = [
        k.entry.seal for k in place.ledger.about(["roll"], roll_id) if k.entry.subject == roll_id and k.entry.seal
    ]
    if not sealed:
        return None
    count = int(sealed[-1].partition(":")[0])
    if (
        len(events) < count
    ):  # a copy that took the place of a damaged journal is older; the nodes are looked at, whatever it says
        return (
            None
            if was_brought_back(place.folder, "journal.db")
            else f"the ledger has {count} entries of it, and here are {len(events)}"
        )
    return (
        None
        if seal_of(events[:count]) == sealed[-1]
        else f"its first {count} entries are not those that the ledger has"
    )


def refuse_altered(place: Workplace, roll_id: str) -> None:
    """Raise `Refused` where a journal is not the one that was written."""
    problem = seal_problem(place, roll_id, place.journal.events(roll_id))
    if problem is not None:
        raise Refused(
            f"The journal of {roll_id} was changed: {problem}.",
            "What was done would be carried on, or taken back, by what somebody wrote there.",
            "gallant ledger verify shows who; bring state/journal.db back from a copy (gallant doctor), "
            f"or end it and plan anew: gallant hold {roll_id} --for-good --reason WHY",
        )
