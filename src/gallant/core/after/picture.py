"""Before against after: what of some systems is gone, new or another, and whether that is a loss.

What was bad before is not blamed on the work. What comes in another order, counts up or moves between the nodes of one
system is no difference; `WELL` and `COUNTED` say which conditions and numbers of a device are. A facet that the table
does not know is well by its words, where they say so.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from datetime import datetime

from gallant.core.checks.complaints import KNOWN_FACETS
from gallant.core.estate.systems import System, node_name
from gallant.core.readings import (
    DOWN_ON_PURPOSE,
    IMAGE,
    IN_SERVICE,
    LINK_WELL,
    LINKS,
    RUNS,
    SPEED,
    Closely,
    Facet,
    Gauge,
    Guest,
    Reading,
)
from gallant.core.records import Record
from gallant.core.work.plan import Hop

LOST, OTHER, BETTER, PLANNED = "lost", "other", "better", "planned"
MEANINGS = (LOST, OTHER, BETTER, PLANNED)  # the worst first
# The states in which a facet of that name is well, and no other.
WELL = {name: row[0] for name, row in KNOWN_FACETS.items()}
# Words in which anything is well, or is not.
GOOD = (
    LINK_WELL
    | RUNS
    | {
        "online",
        "ready",
        "normal",
        "healthy",
        "good",
        "present",
        "mounted",
        "listening",
        "established",
        "saved",
    }
)
BAD = frozenset(
    {"warning", "down", "failed", "faulty", "fault", "error", "offline", "degraded", "critical", "missing", "absent",
     "lost", "dead", "stopped", "inactive", "disconnected"}
)  # fmt: skip
# Numbers of which fewer is a loss: of one node, or of all nodes of a system together.
COUNTED: tuple[tuple[str, bool], ...] = (
    ("replica paths", False),
    ("paths", False),
    ("neighbours", False),
    ("routes", False),
    ("mounts", False),
    ("listening ports", False),
    ("high listening ports", False),
    ("processors", False),
    ("memory", False),
    ("guests", True),
)
NONE_LEFT = ("sessions",)  # numbers that come and go, of which none at all is a loss
# What is well for as long as it is there, whatever is said of it.
THERE = re.compile(r"(?:default route|neighbour at|address|mount|port)(?![a-z])")
ANSWER = "the answer of"  # and a service: the time that it takes
SLOW, SLOW_S = 2.0, 0.2  # an answer is slower that takes so many times as long as before, and so many seconds more
_NUMBERS = re.compile(r"\d+")


class Picture(Record):
    """Some systems at a moment: readings by node, why a node was not read, whether each service (`system service`)
    answered, and after how many real seconds those that did."""

    at: datetime
    readings: dict[str, Reading]
    errors: dict[str, str] = {}
    services: dict[str, bool] = {}
    answers: dict[str, float] = {}


class Unlike(Record):
    """Something that is not as it was: of which system and node (empty: of the whole system), what it is about, how it
    was and is, and what that means. `since` is when it was first seen so."""

    system: str
    node: str
    about: str
    before: str
    after: str
    means: str
    since: datetime

    @property
    def words(self) -> str:
        """Where something is not as it was, and how, in one line."""
        whose = node_name(self.system, self.node) if self.node else self.system
        return f"{whose}: {self.about} {self.before or 'none'} → {self.after or 'gone'}"


Moved = Mapping[tuple[str, str], str]  # (node's name, component) and the version that it was to come to


def moved_by(hops: Iterable[Hop], system: System) -> dict[tuple[str, str], str]:
    """What some hops of a system were to change: by node and component the
    version that it comes to. A restart, or a person's work, brings what ran."""
    return {
        (node_name(system, node), component): to
        for hop in hops
        for node in hop.nodes or tuple(system.nodes)
        for component, to in [(IMAGE, hop.to), *((part.component, part.to) for part in hop.parts)]
    }


def unlike(before: Picture, after: Picture, planned: Moved | None = None) -> list[Unlike]:
    """Everything that differs, losses first. `planned` is what the work
    between was to change; a node in it was to restart, too."""
    found = [
        *_services(before, after),
        *_answers(before, after),
        *_nodes(before, after, planned or {}),
        *_systems(before, after),
    ]
    return sorted(found, key=lambda one: (MEANINGS.index(one.means), one.system, one.node, one.about))


def losses(before: Picture, after: Picture, planned: Moved | None = None) -> list[Unlike]:
    """What is worse than before, and was not planned."""
    return [one for one in unlike(before, after, planned) if one.means == LOST]


def first_seen(now: Sequence[Unlike], then: Sequence[Unlike]) -> list[Unlike]:
    """The same, each with the moment at which an earlier comparison saw it so already."""
    known = {(one.system, one.node, one.about, one.after): one.since for one in then}
    return [
        Unlike(
            system=one.system,
            node=one.node,
            about=one.about,
            before=one.before,
            after=one.after,
            means=one.means,
            since=min(one.since, known.get((one.system, one.node, one.about, one.after), one.since)),
        )
        for one in now
    ]


def _services(before: Picture, after: Picture) -> Iterator[Unlike]:
    for name, answered in before.services.items():
        now = after.services.get(name)
        if now is not None and now != answered:
            system, _, service = name.partition(" ")
            yield Unlike(
                system=system,
                node="",
                about=f"the service {service}",
                before="answers" if answered else "silent",
                after="answers" if now else "silent",
                means=BETTER if now else LOST,
                since=after.at,
            )


def _answers(before: Picture, after: Picture) -> Iterator[Unlike]:
    for name in before.answers.keys() & after.answers.keys():
        was, now = before.answers[name], after.answers[name]
        if now > max(SLOW * was, was + SLOW_S):
            system, _, service = name.partition(" ")
            told = (f"{was * 1000:.0f} ms", f"{now * 1000:.0f} ms")
            yield _whole(system, f"{ANSWER} {service}", *told, LOST, after.at)


def _nodes(before: Picture, after: Picture, planned: Moved) -> Iterator[Unlike]:
    for name, old in before.readings.items():
        new = after.readings.get(name)
        if new is not None:
            yield from _of_node(old, new, planned, _elsewhere(before, after, old))
        elif name in after.errors:
            yield _one(old, "an answer", "read", "", LOST, after.at)


def _elsewhere(before: Picture, after: Picture, own: Reading) -> set[str]:
    """The facets that are well on another node of the system now and were not before: they moved."""
    others = [name for name, r in after.readings.items() if r.system == own.system and r.node != own.node]
    known = [n for n in others if n in before.readings]
    had = {(n, f.name) for n in known for f in _facets_of(before.readings[n], True) if _is_well(f)}
    now = {(n, f.name) for n in known for f in _facets_of(after.readings[n], True) if _is_well(f)}
    return {name for _, name in now - had}


def _of_node(old: Reading, new: Reading, planned: Moved, elsewhere: set[str]) -> Iterator[Unlike]:
    at = new.taken
    if old.state != new.state:
        yield _one(old, "its state", old.state, new.state, LOST if old.state == IN_SERVICE else BETTER, at)
    if old.in_sync != new.in_sync and None not in (old.in_sync, new.in_sync):
        words = ("whole" if old.in_sync else old.sync_word, "whole" if new.in_sync else new.sync_word)
        yield _one(old, "its replica", *words, BETTER if new.in_sync else LOST, at)
    if old.serial != new.serial:
        yield _one(old, "its serial", old.serial, new.serial, OTHER, at)
    if old.boot != new.boot and not any(name == old.name for name, _ in planned):
        yield _one(old, "its start", "the same", "started anew", OTHER, at)
    yield from _versions(old, new, planned)
    yield from _facets(old, new, elsewhere)
    yield from _alarms(old, new)
    yield from _channels(old, new)
    yield from _numbers(old, new)
    yield from _log(old, new)


def _numbers(old: Reading, new: Reading) -> Iterator[Unlike]:
    """Numbers of which fewer is a loss."""
    was, now = ({g.name: g for g in _gauges(reading)} for reading in (old, new))
    counted = {name for name, whole in COUNTED if not whole}
    for name in was:
        if name in now and (name in counted or name.startswith(SPEED)) and was[name].value != now[name].value:
            less = now[name].value < was[name].value
            unit = f" {was[name].unit}".rstrip()
            told = (f"{was[name].value:g}{unit}", f"{now[name].value:g}{unit}")
            yield _one(old, name, *told, LOST if less else BETTER, new.taken)


def _log(old: Reading, new: Reading) -> Iterator[Unlike]:
    """What its own log has since, each by its words once: an entry that
    stops people is a loss, a warning after a restart is not."""
    known = {(entry.at, entry.text) for entry in _closely(old).log}
    told = set[str]()
    for entry in _closely(new).log if old.closely is not None else ():
        words = _NUMBERS.sub("#", entry.text)
        if (entry.at, entry.text) not in known and words not in told:
            told.add(words)
            yield _one(old, "its log", "", entry.text, LOST if entry.level == "stop" else OTHER, new.taken)


def _closely(reading: Reading) -> Closely:
    return reading.closely or Closely()


def _gauges(reading: Reading) -> tuple[Gauge, ...]:
    return (*reading.gauges, *_closely(reading).gauges)


def _facets_of(reading: Reading, both: bool) -> tuple[Facet, ...]:
    """The conditions of a reading; those of a close look where the other has had one too."""
    return (*reading.facets, *_closely(reading).facets) if both else reading.facets


def _versions(old: Reading, new: Reading, planned: Moved) -> Iterator[Unlike]:
    was = {IMAGE: old.version, **{part.name: part.version for part in old.components}}
    now = {IMAGE: new.version, **{part.name: part.version for part in new.components}}
    for name in (*was, *(n for n in now if n not in was)):
        a, b = was.get(name, ""), now.get(name, "")
        if a == b:
            continue
        wanted = planned.get((old.name, name))
        means = PLANNED if wanted is not None else LOST if not b else OTHER
        yield _one(old, "its version" if name == IMAGE else name, a, b, means, new.taken)
    pieces = {part.name: part.serial for part in old.components if part.serial}
    for part in new.components:
        if part.serial and pieces.get(part.name, part.serial) != part.serial:
            yield _one(old, f"the piece {part.name}", pieces[part.name] or "", part.serial, OTHER, new.taken)


def _facets(old: Reading, new: Reading, elsewhere: set[str]) -> Iterator[Unlike]:
    both = all(r.closely is not None and not r.closely.error for r in (old, new))
    was, now = ({f.name: f for f in _facets_of(r, both)} for r in (old, new))
    for name in sorted(was.keys() | now.keys()):
        a, b = was.get(name), now.get(name)
        if a is not None and b is not None and a.state == b.state:
            continue
        good, well = (_is_well(a) if a is not None else None), (_is_well(b) if b is not None else None)
        if b is None:
            means = BETTER if good is False else OTHER if good is None or name in elsewhere else LOST
        elif a is None:
            means = LOST if well is False else OTHER
        else:
            means = LOST if good is not False and well is False else BETTER if good is False and well else OTHER
        yield _one(old, name, a.state if a else "", b.state if b else "", means, new.taken)


def _is_well(facet: Facet) -> bool | None:
    """Whether a facet is well; None where neither the table nor its own word says."""
    state = facet.state.lower()
    if facet.name in WELL:
        return state == WELL[facet.name]
    if THERE.match(facet.name):
        return True
    if LINKS.match(facet.name):
        return None if state in DOWN_ON_PURPOSE else state in LINK_WELL
    return True if state in GOOD else False if state in BAD else None


def _alarms(old: Reading, new: Reading) -> Iterator[Unlike]:
    """Alarms by their words; numbers in them count up by themselves."""
    was = {_NUMBERS.sub("#", alarm.text): alarm for alarm in old.alarms}
    now = {_NUMBERS.sub("#", alarm.text): alarm for alarm in new.alarms}
    for key in sorted(now.keys() - was.keys()):
        means = OTHER if now[key].level == "note" else LOST
        yield _one(old, "its alarm", "", now[key].text, means, new.taken)
    for key in sorted(was.keys() - now.keys()):
        yield _one(old, "its alarm", was[key].text, "", BETTER, new.taken)


def _channels(old: Reading, new: Reading) -> Iterator[Unlike]:
    was = {channel.name: channel.delivers for channel in old.channels or ()}
    for channel in new.channels or ():
        if channel.name in was and was[channel.name] != channel.delivers:
            words = ("delivers", "does not deliver")
            lost = was[channel.name]
            yield _one(
                old, f"the channel {channel.name}", words[not lost], words[lost], LOST if lost else BETTER, new.taken
            )


def _systems(before: Picture, after: Picture) -> Iterator[Unlike]:
    """What belongs to a system as a whole: the addresses that it
    answers for, its roles, numbers of all its nodes together."""
    for system in dict.fromkeys(reading.system for reading in before.readings.values()):
        old = [r for r in before.readings.values() if r.system == system]
        new = [r for r in after.readings.values() if r.system == system]
        if len(new) < len(old):
            continue  # what a node that is not read has is not known
        yield from _guests(system, old, new, after.at)
        for address in sorted(_addresses(old) - _addresses(new)):
            yield _whole(system, "the address", address, "", LOST, after.at)
        for role in sorted({r.role for r in old} - {r.role for r in new}):
            yield _whole(system, "the role", role, "", LOST, after.at)
        for name in (*(name for name, whole in COUNTED if whole), *NONE_LEFT):
            was, now = _sum(old, name), _sum(new, name)
            if was is None or now is None or was == now:
                continue
            if name in NONE_LEFT and now:
                continue
            yield _whole(system, name, f"{was:g}", f"{now:g}", LOST if now < was else BETTER, after.at)


def _guests(system: str, old: Sequence[Reading], new: Sequence[Reading], at: datetime) -> Iterator[Unlike]:
    """What its nodes carry, together: a guest that ran and runs nowhere now is a loss; those that moved are one
    line."""
    was, now = _carried(old), _carried(new)
    ran = {name: node for name, (node, guest) in was.items() if guest.runs}
    runs = {name: node for name, (node, guest) in now.items() if guest.runs}
    for name in sorted(ran.keys() - runs.keys()):
        node, guest = now.get(name, ("", None))
        told = f"{guest.state} on {node}" if guest is not None else "runs nowhere"
        yield _whole(system, f"the guest {name}", f"runs on {ran[name]}", told, LOST, at)
    moved = sum(runs[name] != node for name, node in ran.items() if name in runs)
    more = len(runs.keys() - ran.keys())
    if moved or more:
        kept = len(ran.keys() & runs.keys())
        words = [f"all {kept} run" if kept == len(ran) else f"{kept} of them run"]
        words += [f"{moved} elsewhere"] if moved else []
        words += [f"{more} more"] if more else []
        yield _whole(system, "guests", f"{len(ran)} run", ", ".join(words), OTHER, at)


def _carried(readings: Sequence[Reading]) -> dict[str, tuple[str, Guest]]:
    """Each guest with the node that it is on: of one that several nodes list, where it runs."""
    found: dict[str, tuple[str, Guest]] = {}
    for reading in readings:
        for guest in reading.guests or ():
            if guest.name not in found or guest.runs:
                found[guest.name] = (reading.node, guest)
    return found


def _addresses(readings: Sequence[Reading]) -> set[str]:
    return {address for r in readings for address in r.answers_for or ()}


def _sum(readings: Sequence[Reading], name: str) -> float | None:
    values = [value for r in readings if (value := r.gauge(name)) is not None]
    return sum(values) if values else None


def _one(old: Reading, about: str, before: str, after: str, means: str, at: datetime) -> Unlike:
    return Unlike(system=old.system, node=old.node, about=about, before=before, after=after, means=means, since=at)


def _whole(system: str, about: str, before: str, after: str, means: str, at: datetime) -> Unlike:
    return Unlike(system=system, node="", about=about, before=before, after=after, means=means, since=at)
