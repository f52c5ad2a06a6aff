"""Open rolls: which there are, how one is asked to hold, and how one is ended for good."""

from __future__ import annotations

from gallant.core.errors import WrongUse
from gallant.core.records import Record
from gallant.operations.ground.deciding import end_roll
from gallant.operations.ground.workplace import Workplace


class HoldAsked(Record):
    """A roll that was asked to hold: whether a process is there that
    carries it out (`running`), and what keeps that from doing anything."""

    run: str
    running: bool
    trouble: str | None = None
    next: str | None = None


def ask_to_hold(place: Workplace, name: str, now: bool = False) -> HoldAsked:
    """Ask a roll to hold at its next safe stop, or right after the act under way."""
    row = place.journal.roll(name)
    if row.ended is not None:
        raise WrongUse(f"{name} has ended.", next=f"gallant history {name}")
    place.journal.request_hold(name, f"asked for by {place.user}", now)
    carrier = place.journal.carrier(name) if (running := place.journal.is_running(name)) else None
    trouble = carrier.trouble if carrier is not None else None
    return HoldAsked(
        run=name, running=running, trouble=trouble, next=carrier.way_out if carrier is not None and trouble else None
    )


def open_names(place: Workplace) -> list[str]:
    """Every roll that is open, by its name."""
    rolls = place.journal.open_rolls()
    if not rolls:
        raise WrongUse("No roll is open.", next="gallant history lists them.")
    return [roll.id for roll in rolls]


def end_for_good(place: Workplace, roll_id: str | None, reason: str) -> str:
    """End a roll where it stands, so that its systems are free for another plan. Raises `Refused` while it is
    running."""
    name = roll_id or _only_open(place)
    end_roll(place, name, reason)
    return name


def open_roll(place: Workplace, roll_id: str | None) -> str:
    """The roll that is meant: the named one, else the only open one. Raises `WrongUse`."""
    return roll_id or _only_open(place)


def _only_open(place: Workplace) -> str:
    rolls = place.journal.open_rolls()
    if len(rolls) == 1:
        return rolls[0].id
    what = "No roll is open." if not rolls else f"{len(rolls)} rolls are open: {', '.join(r.id for r in rolls)}."
    raise WrongUse(what, next="gallant history lists them; name one.")
