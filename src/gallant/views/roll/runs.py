"""A roll as one row, the same wherever rolls are listed, and how its state is marked."""

from __future__ import annotations

from datetime import datetime
from typing import TYPE_CHECKING, Annotated

from gallant.core.outages import Outage
from gallant.views.ground.rows import Counts, ListRow, Says
from gallant.views.ground.words import (
    WordMarks,
)

if TYPE_CHECKING:
    from gallant.operations.after.history import Run, WasDown

STATE_MARKS = WordMarks(
    {
        "finished": "good",
        "running": "going",
        "followed": "going",
        "held": "work",
        "stopped": "bad",
        "cut off": "bad",
        "ended": "note",
    }
)


class RunRow(ListRow):
    """A roll, the newest first."""

    run: str
    plan: str
    began: datetime
    ended: datetime | None
    state: str
    systems: tuple[str, ...]
    outages: Annotated[tuple[Outage, ...], Says("unseen: this process stood still meanwhile")]
    downs: tuple[WasDown, ...]
    watched: tuple[str, ...] | None
    unwatched: tuple[str, ...]
    blind_seconds: Annotated[float, Counts("s")]
    planned_s: float
    within_s: Annotated[float | None, Says("in nine of ten cases")]
    undoes: Annotated[str | None, Says("the roll that it takes back")]
    message: str
    next: str | None
    took_s: Annotated[float | None, Says("null: it has not ended")]

    @classmethod
    def of(cls, r: Run) -> RunRow:
        return cls(
            run=r.run,
            plan=r.plan,
            began=r.began,
            ended=r.ended,
            state=r.state,
            systems=r.systems,
            outages=r.outages,
            downs=r.downs,
            watched=r.watched,
            unwatched=r.unwatched,
            blind_seconds=r.blind_s,
            planned_s=r.spread.whole.p50_s if r.spread is not None else r.estimate_s,
            within_s=r.spread.whole.p90_s if r.spread is not None else None,
            undoes=r.undoes,
            message=r.message,
            next=r.next,
            took_s=(r.ended - r.began).total_seconds() if r.ended else None,
        )
