"""The words for orders to a device, and who sends each. A profile or a driver may know any of them; a word that nobody
sends is not among them, so that nobody writes an order that will never be given."""

from __future__ import annotations

from collections.abc import Mapping

from gallant.core.steps.kinds import CANCEL, GO_ON, KINDS, PAUSE

# What no kind of step is: sent by a command, by whoever keeps restore points, or to a device that updates itself.
BESIDE_STEPS = {
    "unload": "gallant stock unload; gallant check --mend where a package is in the way",
    "restore": "gallant backup restore, one item of a backup at a time",
    "snapshot": "gallant snapshot take, and a roll before the hops that want a restore point",
    "revert_snapshot": "gallant snapshot revert, and the way back of a roll that took one",
    "remove_snapshot": "gallant snapshot remove, and a look at what is due once its time is over",
    PAUSE: "a roll that is to hold while a device updates its own nodes",
    GO_ON: "a roll that is taken up again after that",
    CANCEL: "a roll that is to hold, where the device cannot stand still",
}
VERBS: Mapping[str, str] = {
    **{row.order: f"the step {row.name}" for row in KINDS.values() if row.driven},
    **BESIDE_STEPS,
}
