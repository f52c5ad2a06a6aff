"""A scenario file: the faults that a stand-in world has switched on, by name.

faults:
  - {name: install_fails_at, node: tickets/b, act: install, value: 40}
"""

from __future__ import annotations

from pathlib import Path

from gallant.core.documents import Document, Problem, document_of, suggestion
from gallant.core.documents import Invalid as InvalidScenario
from gallant.core.errors import WrongUse
from gallant.core.records import Record
from gallant.standin.world import Fault

FAULTS = {
    "refuse_login": "the node refuses the login",
    "slow": "every answer comes `value` real seconds late",
    "install_fails_at": "an install breaks off at `value` percent",
    "no_return": (
        "a node does not come back from its restart; somebody walks over and switches it on `value` seconds later"
    ),
    "late_return": "a node comes back `value` seconds later than usual",
    "wrong_version_after": "an install leaves the old version behind and says all is well",
    "sync_stuck": "the replica never gets whole after a restart",
    "role_stuck": "a handover is taken and does not happen",
    "disk_full": "an export fails for want of space",
    "clock_off": "the node's clock is `value` seconds ahead",
    "corrupt_package": "a package is altered on its way to the node",
    "swapped_machine": "another machine answers at the node's address",
    "drop_connection_at": "the connection breaks off at one kind of request",
    "flapping_service": "the service address comes and goes every `value` seconds",
    "expired_password": "the account's password has expired",
    "alarm": "the node complains of a failed fan",
    "unwell": "the node says that `act` is not as it should be",
    "loses_link": "path `value` of the node stays down after its restart",
    "leaks": "the node loses `value` bytes of memory a second after its restart",
    "slow_answers": "the service answers `value` real seconds late after the node's restart",
    "answer_lost": "the node acts, and its answer is lost",
    "answer_held": "the node acts, and answers only when nobody listens any more",
    "never_acts": "the node takes the order, and neither acts nor answers",
    "empty_word": "the node says that it did `act`, and did nothing",
    "careless": "a cluster that updates its own members takes two at once",
    "acts_late": "the node acts `value` real seconds after the one who asked has gone",
}


# A scenario for each fault that a stranger may want to see, at the node and the moment at which it says most.
SCENARIOS: dict[str, Fault] = {
    fault.name: fault
    for fault in (
        Fault(name="refuse_login", node="tickets/b"),
        Fault(name="slow", value=0.3),
        Fault(name="install_fails_at", node="tickets/b", act="install", nth=1, value=40),
        Fault(name="no_return", node="tickets/b", act="restart", nth=1, value=4 * 3600),
        Fault(name="late_return", node="tickets/b", act="restart", nth=1, value=600),
        Fault(name="wrong_version_after", node="tickets/b", act="install", nth=1),
        Fault(name="sync_stuck", node="tickets/b", act="restart", nth=1),
        Fault(name="role_stuck", node="tickets/a", act="yield", nth=1),
        Fault(name="disk_full", node="tickets/a", act="export"),
        Fault(name="clock_off", node="tickets/b", value=7200),
        Fault(name="corrupt_package", node="tickets/b", act="upload", nth=1),
        Fault(name="swapped_machine", node="tickets/b"),
        Fault(name="answer_lost", node="tickets/b", act="install", nth=1),
        Fault(name="drop_connection_at", node="tickets/b", act="upload", nth=1),
        Fault(name="flapping_service", node="tickets", value=300),
        Fault(name="expired_password", node="tickets/b"),
        Fault(name="alarm", node="tickets/b"),
        Fault(name="unwell", node="tickets/b", act="path 2"),
        Fault(name="loses_link", node="tickets/b", act="restart", nth=2, value=1),
        Fault(name="leaks", node="tickets/b", act="restart", nth=2, value=150_000),
        Fault(name="slow_answers", node="tickets/b", act="restart", nth=2, value=0.4),
    )
}


class Scenario(Record):
    """What goes wrong."""

    faults: tuple[Fault, ...] = ()


def scenario(name: str) -> list[Fault]:
    """The faults of a built-in scenario, or of a file; raises `WrongUse` for a name that is neither."""
    if name in SCENARIOS:
        return [SCENARIOS[name]]
    path = Path(name)
    if not path.is_file():
        raise WrongUse(
            f"No scenario {name!r}{suggestion(name, list(SCENARIOS))}.",
            next="gallant demo --list names them; or give a YAML file.",
        )
    return faults_from(path.read_text("utf-8", "replace"), name)


def faults_from(text: str | bytes | Document, name: str = "scenario") -> list[Fault]:
    """The faults of a scenario's text; raises `InvalidScenario` with positions."""
    document = document_of(name, text)
    scenario = document.convert(Scenario)
    for index, fault in enumerate(scenario.faults if scenario else ()):
        if fault.name not in FAULTS:
            document.at(
                ("faults", index, "name"), f"unknown fault {fault.name!r}{document.suggestion(fault.name, FAULTS)}"
            )
    document.finish()
    if scenario is None:
        raise InvalidScenario(name, [Problem(1, 1, "no scenario")])
    return list(scenario.faults)
