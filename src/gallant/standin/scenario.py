"""A scenario file: the faults that a stand-in world has switched on, by name.

faults:
  - {name: install_fails_at, node: tickets/b, act: install, value: 40}
"""

from __future__ import annotations

from gallant.core.documents import Document, Problem, suggestion
from gallant.core.documents import Invalid as InvalidScenario
from gallant.core.records import Record
from gallant.standin.world import Fault

FAULTS = {
    "refuse_login": "the node refuses the login",
    "slow": "every answer comes `value` real seconds late",
    "install_fails_at": "an install breaks off at `value` percent",
    "no_return": "a node does not come back from its restart",
    "late_return": "a node comes back `value` seconds later than usual",
    "wrong_version_after": "an install leaves the old version behind and says all is well",
    "sync_stuck": "the replica never gets whole after a restart",
    "role_stuck": "a handover is taken and does not happen",
    "disk_full": "an export fails for want of space",
    "clock_off": "the node's clock is `value` seconds ahead",
    "corrupt_package": "a package is altered on its way to the node",
    "swapped_machine": "another machine answers at the node's address",
    "answer_lost": "the node acts, and its answer is lost",
    "answer_held": "the node acts, and answers only when nobody listens any more",
    "never_acts": "the node takes the order, and neither acts nor answers",
    "acts_late": "the node acts `value` real seconds after whoever asked has gone",
}


class Scenario(Record):
    """What goes wrong."""

    faults: tuple[Fault, ...] = ()


def faults_from(text: str, name: str = "scenario") -> list[Fault]:
    """The faults of a scenario's text; raises `InvalidScenario` with positions."""
    document = Document(name, text)
    scenario = document.convert(Scenario)
    for index, fault in enumerate(scenario.faults if scenario else ()):
        if fault.name not in FAULTS:
            document.at(
                ("faults", index, "name"), f"unknown fault {fault.name!r}{suggestion(fault.name, list(FAULTS))}"
            )
    document.finish()
    if scenario is None:
        raise InvalidScenario(name, [Problem(1, 1, "no scenario")])
    return list(scenario.faults)
