"""For how long a node is out by the steps of a track: the one number that plans, sheets, consents and rehearsals
have."""

from __future__ import annotations

from collections.abc import Sequence

from gallant.core.steps.kinds import KINDS
from gallant.core.work.plan import Step


def out_s(steps: Sequence[Step], name: str) -> float:
    """Seconds of estate time for which a node is out in a track: from where it, or the node
    below it, is taken out of service until that is taken back; else for as long as the steps
    take that disturb it. What is started anew elsewhere is down for as long as that takes."""
    total, at = 0.0, 0
    while at < len(steps):
        step = steps[at]
        total += step.anew.get(name, 0.0)
        until = at + 1
        if name in step.disturbs:
            until = _taken_back(steps, at) if step.kind in KINDS and KINDS[step.kind].sets_aside else until
            total += sum(one.estimate_s for one in steps[at:until])
        at = until
    return total


def _taken_back(steps: Sequence[Step], at: int) -> int:
    """The place after the step that takes back what the one at `at` took out of
    service; where none does, after the last that belongs to its turn."""
    own = [n for n in range(at, len(steps)) if steps[n].kind in KINDS and steps[n].subject == steps[at].subject]
    back = next((n for n in own if KINDS[steps[n].kind].takes_back), None)
    last = max((n for n in range(at, len(steps)) if not steps[n].ends_node), default=at)
    return (back if back is not None else last) + 1
