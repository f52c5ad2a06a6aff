"""How a check is registered: a function over facts, with what it looks at, why that matters, and when it is asked."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator

from gallant.core.checks.facts import Facts, Finding
from gallant.core.estate.systems import System
from gallant.core.records import Record
from gallant.core.shapes import SHAPES

BEFOREHAND, LONG_BEFORE = ("ahead", "before"), ("ahead",)
ALWAYS, NOT_DURING = ("ahead", "before", "during", "after"), ("ahead", "before", "after")
UNTIL_DONE = ("ahead", "before", "during")
SEVERAL = tuple(name for name, shape in SHAPES.items() if shape.has_spare)  # whose systems have more than one node
SHARED_LOAD = tuple(name for name, shape in SHAPES.items() if shape.shares_load)

Look = Callable[[Facts], Iterator[Finding]]
REGISTERED: list[tuple[Check, Look]] = []


class Check(Record):
    """What a check looks at and why that matters, in one line each; at which levels it speaks up, and of what.

    `phases` are ahead (days before), before, during and after the work; `shapes` those of the systems
    that it applies to, all where none is named; `mend` names an action of `operations/checks/mending.py`.
    `entering`: it is about releases that are to be entered, and says nothing where none is. `firm`:
    nobody can pass a stop of it with --despite, since it guards a promise.
    """

    id: str
    looks_at: str
    why: str
    levels: tuple[str, ...]
    phases: tuple[str, ...] = ("ahead", "before")
    shapes: tuple[str, ...] = ()
    mend: str | None = None
    entering: bool = False
    firm: bool = False

    def is_asked(self, only: Collection[str], phase: str | None) -> bool:
        """Whether it runs where only some checks, or those of one phase, are wanted."""
        return (not only or self.id in only) and (phase is None or phase in self.phases)

    def applies(self, system: System) -> bool:
        """Whether a system's shape has what the check looks at."""
        return not self.shapes or system.shape in self.shapes


def check(
    id: str,
    *,
    looks_at: str,
    why: str,
    levels: str,
    phases: tuple[str, ...] = BEFOREHAND,
    shapes: tuple[str, ...] = (),
    mend: str | None = None,
    entering: bool = False,
    firm: bool = False,
) -> Callable[[Look], Look]:
    """Register a check; it is all that is needed for it to be run, listed, explained, waived and mended."""

    def registered(look: Look) -> Look:
        made = Check(
            id=id,
            looks_at=looks_at,
            why=why,
            levels=tuple(levels.split()),
            phases=phases,
            shapes=shapes,
            mend=mend,
            entering=entering,
            firm=firm,
        )
        REGISTERED.append((made, look))
        return look

    return registered
