"""Checks of what the nodes themselves say is not as it should be: alarms, what ends soon, configuration that would be
lost at a restart, a device that updates itself, packages and files that a person has put aside.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from datetime import timedelta

from gallant.core.checks.facts import Facts, Finding, finding
from gallant.core.checks.register import ALWAYS, UNTIL_DONE, check
from gallant.core.readings import RUNNING, SAVED

# Facets by which drivers and profiles say these things.
UPDATES_ITSELF = "updates itself"
PUT_ASIDE_NEXT = {
    "replaced": "Restart those services on",
    "unknown": "Look at the resolver of",
    "attached": "Take it off at the console of",
}


@check(
    "alarms",
    looks_at="no node complains of anything",
    why="hardware that is failing fails when it is restarted",
    levels="stop warn note",
    phases=ALWAYS,
)
def _alarms(facts: Facts) -> Iterator[Finding]:
    for node, reading in facts.readings.items():
        for alarm in reading.alarms:
            level = alarm.level if alarm.level in ("stop", "warn", "note") else "warn"
            todo = alarm.next or f"Look at the console of {reading.name}"
            found_by = f"check {alarm.check} of its profile {facts.system.profile}" if alarm.check else ""
            yield finding(facts, level, f"{reading.name} says: {alarm.text}", found_by, todo, node)
        if not reading.alarms:
            yield finding(facts, "pass", f"{reading.name} has no alarm", "", None, node)


@check(
    "readiness",
    looks_at="the device's own readiness test for the next release",
    why="the device knows its own obstacles best",
    levels="stop warn note",
    entering=True,
)
def _readiness(facts: Facts) -> Iterator[Finding]:
    for node, said in facts.asked.tested.items():
        name = f"{facts.name}/{node}"
        minutes = f"it announces {facts.asked.announced[node]:g} min" if node in facts.asked.announced else ""
        for alarm in said:
            level = alarm.level if alarm.level in ("stop", "warn", "note") else "warn"
            yield finding(
                facts, level, f"{name}'s own readiness test says: {alarm.text}", minutes, f"Mend it at {name}", node
            )
        if not said:
            yield finding(facts, "pass", f"{name}'s own readiness test finds nothing", minutes, None, node)


@check(
    "expiries",
    looks_at="no password, account, certificate or licence ends soon, or before the booked work does",
    why="a password or certificate that ends locks out anyone who comes to mend",
    levels="stop warn",
)
def _expiries(facts: Facts) -> Iterator[Finding]:
    soon = timedelta(days=facts.limits.expiry_days)
    for node, reading in facts.readings.items():
        way = facts.around.rescue.get(node)
        for expiry in reading.expiries:
            left = expiry.ends - facts.now
            what = f"the {expiry.kind} {expiry.name} of {reading.name}"
            todo = f"Renew it on {reading.name}"
            if "console" in expiry.name.lower() and way is not None and way.how:
                todo += f"; the other way in is {way.how}"
            until = f"{expiry.ends:%Y-%m-%d}"
            in_the_window = facts.around.booked is not None and expiry.ends <= facts.around.booked.end
            if left <= timedelta(0):
                yield finding(facts, "stop", f"{what} is over", until, todo, node)
            elif in_the_window:
                yield finding(facts, "stop", f"{what} ends before the booked work does", until, todo, node)
            elif left <= soon:
                yield finding(facts, "warn", f"{what} ends in {left.days} d", until, todo, node)
            else:
                yield finding(facts, "pass", f"{what} is good", f"until {until}", None, node)


# A facet that devices know by name: the state in which all is well, what is said then and else, and what to do.
KNOWN_FACETS = {
    RUNNING: (
        SAVED,
        "runs what it would start with",
        "runs something else than it would start with",
        "Save the configuration, or undo it (a restart would lose it), at",
    ),
    UPDATES_ITSELF: ("off", "does not update itself", "may update itself meanwhile", "Switch it off at"),
    "time source": ("synchronised", "follows a time source", "follows no time source", "Look at the time source of"),
    "spare slot": (
        "ready",
        "has a spare slot that is ready",
        "has no spare slot that is ready",
        "Look at the slots of",
    ),
    "configuration session": (
        "none",
        "is being configured by nobody",
        "is being configured by somebody",
        "Ask who works on",
    ),
    "synchronous partner": (
        "does not block",
        "writes on while its partner is away",
        "stops writing while its partner is away",
        "Let its partner go on alone for the work, at",
    ),
}


def _known_facet(name: str) -> Callable[[Facts], Iterator[Finding]]:
    """The check of one of `KNOWN_FACETS`; a node that does not say anything of it gives no finding."""
    well, good, bad, todo = KNOWN_FACETS[name]

    def check(facts: Facts) -> Iterator[Finding]:
        for node, reading in facts.readings.items():
            state = next((f.state for f in reading.facets if f.name == name), None)
            if state == well:
                yield finding(facts, "pass", f"{reading.name} {good}", f"{name}: {state}", None, node)
            elif state is not None:
                yield finding(
                    facts, "warn", f"{reading.name} {bad}", f"{name}: {state}", f"{todo} {reading.name}", node
                )

    return check


@check(
    "put-aside",
    looks_at="packages kept back, conffiles changed by hand, services on replaced libraries",
    why="what a person put aside, an update does not bring, or overwrites",
    levels="warn note",
)
def _put_aside(facts: Facts) -> Iterator[Finding]:
    """Packages kept back, conffiles changed by hand, services on replaced libraries; each kind in one line a node."""
    for node, reading in facts.readings.items():
        for kind, state, words, level in (
            ("package ", "kept back", "keeps back", "note"),
            ("conffile ", "changed", "has changed by hand", "note"),
            ("libraries of ", "replaced", "runs replaced libraries in", "warn"),
            ("name resolution ", "unknown", "cannot find by name", "warn"),
            ("virtual medium ", "attached", "still has attached", "warn"),
        ):
            names = [f.name.removeprefix(kind) for f in reading.facets if f.name.startswith(kind) and f.state == state]
            if names:
                some = ", ".join(names[:6]) + (f" and {len(names) - 6} more" if len(names) > 6 else "")
                todo = PUT_ASIDE_NEXT.get(state)
                yield finding(
                    facts, level, f"{reading.name} {words} {some}", state, todo and f"{todo} {reading.name}", node
                )


@check(
    "oddities",
    looks_at="in which ways a device does not speak as its protocol has it",
    why="a device that does not keep to its protocol may not do so elsewhere",
    levels="note",
)
def _oddities(facts: Facts) -> Iterator[Finding]:
    for node, reading in facts.readings.items():
        for oddity in reading.oddities:
            yield finding(facts, "note", f"{reading.name} {oddity}", "understood all the same", None, node)


check(
    "saved",
    looks_at="each node runs the configuration that it would start with",
    why="a restart loses what was configured and never saved",
    levels="warn",
    mend="saved",
)(_known_facet(RUNNING))

check(
    "updates-itself",
    looks_at="no device updates itself meanwhile",
    why="a device that updates itself does so in the middle of the work",
    levels="warn",
    phases=UNTIL_DONE,
)(_known_facet(UPDATES_ITSELF))

check(
    "time-source",
    looks_at="each node's clock follows a time source",
    why="a clock without a source runs away until something refuses it",
    levels="warn",
)(_known_facet("time source"))

check(
    "spare-slot",
    looks_at="the spare slot of each node is ready",
    why="a node whose other slot is not ready has nothing to fall back to",
    levels="warn",
)(_known_facet("spare slot"))

check(
    "configuring",
    looks_at="nobody is configuring a node",
    why="what somebody is configuring meanwhile is lost, or is half of it in the backup",
    levels="warn",
)(_known_facet("configuration session"))

check(
    "partner",
    looks_at="no synchronous partner would block writes",
    why="a partner that insists on both copies stops writing while one is away",
    levels="warn",
)(_known_facet("synchronous partner"))
