"""A roll as one row, the same wherever rolls are listed, and how its state is marked."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from gallant.views.ground.words import (
    WordMarks,
)

if TYPE_CHECKING:
    from gallant.operations.after.history import Run


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


def history_rows(runs: Sequence[Run]) -> list[dict[str, object]]:
    return [
        {
            "run": r.run,
            "plan": r.plan,
            "began": r.began,
            "ended": r.ended,
            "state": r.state,
            "systems": r.systems,
            "outages": [
                {
                    "service": o.service,
                    "began": o.began,
                    "ended": o.ended,
                    "seconds": o.seconds,
                    "least": o.least,
                    "unseen": o.unseen,
                    "most": o.most,
                    "measured": o.measured,
                }
                for o in r.outages
            ],
            "downs": r.downs,
            "watched": r.watched,
            "unwatched": r.unwatched,
            "blind_seconds": r.blind_s,
            "planned_s": r.spread.whole.p50_s if r.spread is not None else r.estimate_s,
            "within_s": r.spread.whole.p90_s if r.spread is not None else None,
            "undoes": r.undoes,
            "message": r.message,
            "next": r.next,
        }
        for r in runs
    ]
