"""Checks of what lies around a system: whether the work could be begun, what would carry the load, what there is to fall
back on, and whether Gallant itself stands on what it is about to disturb.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from datetime import timedelta

from gallant.core.assess.findings import Facts, Finding, finding
from gallant.core.estate.order import SHAPES

OPENED_WITHIN = timedelta(days=30)
LINKS = re.compile(r"(?:peer link|uplink|path|link|interface)(?![a-z])", re.IGNORECASE)
WELL = frozenset({"up", "active", "optimal", "connected", "ok", "enabled"})
DOWN_ON_PURPOSE = frozenset({"disabled", "not used", "standby"})
SHARED_LOAD = tuple(name for name, shape in SHAPES.items() if shape.shares_load)


def _may_act(facts: Facts) -> Iterator[Finding]:
    for node, error in facts.may_act.items():
        name = f"{facts.name}/{node}"
        if error is None:
            yield finding(facts, "pass", f"{name} lets the account for the work in", "", None, node)
        else:
            yield finding(
                facts, "stop", f"{name} does not let the account for the work in", error, f"gallant survey {name}", node
            )


def _rescue(facts: Facts) -> Iterator[Finding]:
    for node, way in facts.rescue.items():
        name = f"{facts.name}/{node}"
        if way.answers is False:
            yield finding(
                facts,
                "warn",
                f"the other way into {name} does not answer",
                f"{way.how}: {way.why}",
                f"Look at {way.how}, then: gallant check {facts.name}",
                node,
            )
        elif way.how:
            yield finding(facts, "pass", f"there is another way into {name}", way.how, None, node)
        else:
            yield finding(
                facts,
                "warn",
                f"should {name} not come back, nobody could reach it",
                "nobody is on site, no console is named, and it is no guest",
                f"Write under {name} in estate.yaml:  console: https://…  (or ssh://…), then: gallant check {facts.name}",
                node,
            )


def _publisher(facts: Facts) -> Iterator[Finding]:
    for source in facts.sources:
        good = source.state in ("reachable", None)
        yield finding(
            facts,
            "pass" if good else "warn",
            f"the catalog {source.name} is {'followed' if good else f'{source.state} from here'}",
            source.why or "",
            None if good else f"gallant catalog test {source.name}",
        )
    if facts.channels_unknown_here:
        yield finding(facts, "warn", f"no catalog here lists {facts.system.product}", "", "gallant catalog list")


def _memory(facts: Facts) -> Iterator[Finding]:
    least = facts.limits.memory_free_mb * 1e6
    for node, reading in facts.readings.items():
        free = reading.gauge("memory available")
        if free is None:
            continue
        good = free >= least
        yield finding(
            facts,
            "pass" if good else "warn",
            f"{reading.name} has {'enough' if good else 'little'} memory left",
            f"{free / 1e6:.0f} MB available, {least / 1e6:.0f} MB wanted",
            None if good else f"Look what takes it on {reading.name}, then: gallant check {facts.name}",
            node,
        )


def _redundancy(facts: Facts) -> Iterator[Finding]:
    if not facts.system.in_service or facts.errors:
        return
    well = [n for n, r in facts.readings.items() if r.healthy]
    least = SHAPES[facts.system.shape].must_stay(len(facts.system.nodes))
    if len(well) - 1 >= least:
        yield finding(facts, "pass", f"{len(well) - 1} nodes carry on while one is worked on", f"{least} are needed")
    else:
        yield finding(
            facts,
            "stop",
            f"no node of {facts.name} can be taken out",
            f"{len(well)} of {len(facts.system.nodes)} are whole, {least} have to stay",
            f"gallant check {facts.name} --only in-sync --only in-service",
        )


def _links(facts: Facts) -> Iterator[Finding]:
    for node, reading in facts.readings.items():
        links = [f for f in reading.facets if LINKS.match(f.name) and f.state.lower() not in DOWN_ON_PURPOSE]
        if not links:
            continue
        down = [f for f in links if f.state.lower() not in WELL]
        up = len(links) - len(down)
        shown = ", ".join(f"{f.name} {f.state}" for f in down[:6])
        if down:
            level = "stop" if up < 2 and facts.system.in_service else "warn"
            words = f"{reading.name} has {up} of {len(links)} links up"
            yield finding(facts, level, words, shown, f"Look at the links of {reading.name}", node)
        elif up < 2:
            yield finding(facts, "note", f"{reading.name} hangs on one link", links[0].name, None, node)
        else:
            yield finding(facts, "pass", f"{reading.name} has {up} links up", "", None, node)


def _sessions(facts: Facts) -> Iterator[Finding]:
    for node, reading in facts.readings.items():
        count = reading.gauge("sessions")
        if count:
            yield finding(
                facts,
                "note",
                f"{count:.0f} sessions are open on {reading.name}",
                "whoever works there is cut off",
                None,
                node,
            )
        elif count is not None:
            yield finding(facts, "pass", f"nobody is logged in on {reading.name}", "", None, node)


def _requirements(facts: Facts) -> Iterator[Finding]:
    for words in facts.conflicts:
        yield finding(facts, "warn", words, "", f"gallant gaps --conflicts {facts.name}")
    if not facts.conflicts:
        yield finding(facts, "pass", "what it requires of others, and they of it, holds")


def _recalled(facts: Facts) -> Iterator[Finding]:
    for version, words in facts.recalled.items():
        entered = version in facts.entering
        yield finding(
            facts,
            "stop" if entered else "warn",
            f"{version}, which {'it would enter' if entered else 'it runs'}, was recalled",
            words,
            f"gallant route {facts.name}",
        )
    if not facts.recalled:
        yield finding(facts, "pass", "no release that it runs or would enter was recalled")


def _opened(facts: Facts) -> Iterator[Finding]:
    mine = [b for b in facts.backups if b.system == facts.name]
    if not mine:
        return
    last = max((b.opened for b in mine if b.opened is not None), default=None)
    age = None if last is None else facts.now - last
    if age is not None and age <= OPENED_WITHIN:
        yield finding(facts, "pass", "a backup of it was opened lately", f"{age.days} d ago")
    else:
        since = last or min(b.taken for b in mine)
        yield finding(
            facts,
            "warn" if facts.now - since > OPENED_WITHIN else "note",
            f"no backup of it was opened {'for 30 days' if last else 'ever'}",
            "that one can be decrypted and unpacked is known only by doing it",
            f"gallant backup verify {facts.name}",
        )


def _copies(facts: Facts) -> Iterator[Finding]:
    newest = max((b for b in facts.backups if b.system == facts.name), key=lambda b: b.taken, default=None)
    if newest is None:
        return
    known = {copy.place: copy for copy in newest.copies}
    for place in dict.fromkeys((*facts.copy_places, *known)):
        copy = known.get(place)
        if copy is not None and copy.problem is None:
            yield finding(facts, "pass", f"its newest backup lies at {place} too")
        else:
            why = copy.problem if copy is not None else "it was never made"
            todo = f"gallant backup take {facts.name}"
            yield finding(facts, "warn", f"its newest backup has no copy at {place}", why or "", todo)


def _snapshots(facts: Facts) -> Iterator[Finding]:
    for number, kept in enumerate(facts.snapshots):
        hours = kept.age.total_seconds() / 3600
        age = f"{f'{hours:.1f} h' if hours < 48 else f'{hours / 24:.1f} d'} old, kept by {kept.keeper}"
        todo = f"gallant snapshot remove {facts.name} {kept.snapshot.name}"
        if kept.overdue:
            yield finding(facts, "warn", f"the snapshot {kept.snapshot.name} is older than its limit", age, todo)
        elif number == 0 and len(facts.snapshots) > 1:
            yield finding(
                facts, "warn", f"{facts.name} has {len(facts.snapshots)} snapshots; each slows it down", age, todo
            )
        else:
            yield finding(facts, "note", f"the snapshot {kept.snapshot.name} lives", age, todo)
    if not facts.snapshots:
        yield finding(facts, "pass", "no snapshot is left over")


def _snapshot_possible(facts: Facts) -> Iterator[Finding]:
    if facts.no_snapshots_from:
        yield finding(
            facts,
            "warn",
            f"from {facts.no_snapshots_from} on it cannot be snapshotted any more",
            "its backups are the way back then",
            f"gallant backup take {facts.name}",
        )
    elif facts.can_snapshot is False:
        yield finding(
            facts,
            "note",
            "it cannot be snapshotted",
            "its backups are the way back",
            f"gallant backup list {facts.name}",
        )
    elif facts.can_snapshot:
        yield finding(facts, "pass", "it can be snapshotted")


def _capacity(facts: Facts) -> Iterator[Finding]:
    """What the nodes carry together, on one node less: each gauge in percent that all of them have."""
    rows = list(facts.readings.values())
    if len(rows) < 2 or facts.errors:
        return
    ceiling = facts.limits.ceiling_percent
    for name in dict.fromkeys(g.name for g in rows[0].gauges if g.unit == "%"):
        values = [v for r in rows if (v := r.gauge(name)) is not None]
        if len(values) < len(rows):
            continue
        without = sum(values) / (len(values) - 1)
        good = without <= ceiling
        yield finding(
            facts,
            "pass" if good else "stop",
            f"the {name} of {facts.name} {'fits' if good else 'does not fit'} on one node less",
            f"{sum(values) / len(values):.0f} % each now, {without:.0f} % then, ceiling {ceiling:.0f} %",
            None if good else f"Move load away from {facts.name}, then: gallant check {facts.name}",
        )


def _format(facts: Facts) -> Iterator[Finding]:
    for node, reading in facts.readings.items():
        waiting = [
            c for c in reading.components if c.kind == "on-disk format" and c.next_version not in (None, c.version)
        ]
        for part in waiting:
            yield finding(
                facts,
                "warn",
                f"the format of {reading.name}'s {part.name} waits to be raised to {part.next_version}",
                f"{part.version} now; once raised there is no way back",
                f"gallant inventory {reading.name}",
                node,
            )


def _own_path(facts: Facts) -> Iterator[Finding]:
    for words in facts.own_path:
        yield finding(
            facts,
            "stop",
            f"Gallant itself stands on {facts.name}: {words}",
            "it could not see its own work through",
            "Run Gallant from a host that does not depend on it",
        )
    if not facts.own_path:
        yield finding(facts, "pass", f"Gallant's own host, store and names do not depend on {facts.name}")


def _window(facts: Facts) -> Iterator[Finding]:
    if facts.booked is None or facts.needed_s is None:
        return
    length_s = (facts.booked.end - facts.booked.start).total_seconds()
    good, minutes = facts.needed_s <= length_s, f"{facts.needed_s / 60:.0f}"
    yield finding(
        facts,
        "pass" if good else "warn",
        f"the work {'fits' if good else 'does not fit'} into what is booked",
        f"about {minutes} min of work, {length_s / 60:.0f} min booked from {facts.booked.start:%Y-%m-%d %H:%M}Z",
        None
        if good
        else f"gallant notice book {facts.booked.notice} {facts.booked.start:%Y-%m-%dT%H:%MZ} --for {minutes}m",
    )


def _backup_possible(facts: Facts) -> Iterator[Finding]:
    if facts.can_export is False:
        yield finding(
            facts,
            "warn",
            "it cannot be backed up",
            f"its profile {facts.system.profile} lists no exports",
            f"Keep its configuration by hand; gallant roll PLAN --consent no-backup:{facts.name} goes on without",
        )
    elif facts.can_export:
        yield finding(facts, "pass", "it can be backed up", f"by its profile {facts.system.profile}")


def _restored(facts: Facts) -> Iterator[Finding]:
    for half in facts.half_restored:
        yield finding(
            facts,
            "warn",
            f"a restore of {facts.name}/{half.node} did not end well",
            f"{half.backup}, begun {half.began:%Y-%m-%d %H:%MZ}: {half.why}",
            f"gallant backup diff {half.backup}; then: gallant backup restore {half.backup} --node {half.node}",
            half.node,
        )
    if not facts.half_restored:
        yield finding(facts, "pass", "no restore was left half done")


CHECKS: tuple[tuple[str, str, Callable[[Facts], Iterator[Finding]]], ...] = (
    ("own-path", "Gallant's own host, store and names do not stand on what would be disturbed", _own_path),
    ("accounts", "the account for the work is let in", _may_act),
    ("redundancy", "one node can be taken out and enough of the others stay", _redundancy),
    ("capacity", "what the nodes carry together fits on one less", _capacity),
    ("links", "links, uplinks and paths are up, two or more of them", _links),
    ("rescue", "there is another way into a node that does not come back", _rescue),
    ("recalled", "no release that it runs or would enter was recalled", _recalled),
    ("requirements", "requirements between products hold, of third parties too", _requirements),
    ("publisher", "the catalogs of its publisher can be reached from here", _publisher),
    ("memory", "enough memory is left", _memory),
    ("sessions", "how many are logged in", _sessions),
    ("backup-opened", "a backup of it was decrypted and unpacked within 30 days", _opened),
    ("backup-copies", "its newest backup lies in every second place", _copies),
    ("snapshots", "no snapshot is left over", _snapshots),
    ("snapshot-possible", "it can be snapshotted, now and from the next release on", _snapshot_possible),
    ("format", "no on-disk format waits to be raised", _format),
    ("backup-possible", "its configuration can be exported", _backup_possible),
    ("restored", "no restore was cut off, or failed on the way", _restored),
    ("window", "the work fits into what is booked", _window),
)
