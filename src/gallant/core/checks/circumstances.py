"""Checks of what lies around a system: whether the work could be begun, what would carry the load, what there is to
fall back on, and whether Gallant itself stands on what it is about to disturb.
"""

from __future__ import annotations

from collections.abc import Iterator
from datetime import timedelta

from gallant.core.checks.facts import UNATTENDED, Facts, Finding, finding
from gallant.core.checks.register import ALWAYS, LONG_BEFORE, NOT_DURING, SEVERAL, SHARED_LOAD, check
from gallant.core.estate.capacity import rooms
from gallant.core.shapes import SHAPES

OPENED_WITHIN = timedelta(days=30)


@check(
    "accounts",
    looks_at="the account for the work is let in",
    why="a login that is refused is found in the middle of the work otherwise",
    levels="stop",
)
def _may_act(facts: Facts) -> Iterator[Finding]:
    for node, error in facts.asked.may_act.items():
        name = f"{facts.name}/{node}"
        if error is None:
            yield finding(facts, "pass", f"{name} lets the account for the work in", "", None, node)
        else:
            yield finding(
                facts, "stop", f"{name} does not let the account for the work in", error, f"gallant survey {name}", node
            )


@check(
    "rescue",
    looks_at="there is another way into a node that does not come back",
    why="a node that does not come back is reached by its console, or not at all",
    levels="warn",
)
def _rescue(facts: Facts) -> Iterator[Finding]:
    for node, way in facts.around.rescue.items():
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
                f"no second way into {name} if it does not come back",
                "no console set, nobody on site, and it is not a guest",
                f"Write under {name} in estate.yaml:  console: https://…  (or ssh://…), then: gallant check"
                f" {facts.name}",
                node,
            )


@check(
    "publisher",
    looks_at="the catalogs of its publisher can be reached from here",
    why="a recall that nobody fetches warns nobody",
    levels="warn",
    phases=LONG_BEFORE,
    entering=True,
)
def _publisher(facts: Facts) -> Iterator[Finding]:
    for source in facts.around.sources:
        good = source.state in ("reachable", None)
        yield finding(
            facts,
            "pass" if good else "warn",
            f"the catalog {source.name} is {'followed' if good else f'{source.state} from here'}",
            source.why or "",
            None if good else f"gallant catalog test {source.name}",
        )
    if facts.around.channels_unknown_here:
        yield finding(facts, "warn", f"no catalog here lists {facts.system.product}", "", "gallant catalog list")


@check(
    "memory",
    looks_at="enough memory is left",
    why="an update that has no memory left is ended by the host",
    levels="warn",
)
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


@check(
    "redundancy",
    looks_at="one node can be taken out and enough of the others stay",
    why="the next node can leave only when enough of the others stay",
    levels="stop",
    phases=ALWAYS,
    shapes=SEVERAL,
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


@check(
    "links",
    looks_at="links, uplinks and paths are up, two or more of them",
    why="a node that hangs on one link is gone when its switch restarts",
    levels="stop warn note",
    phases=ALWAYS,
)
def _links(facts: Facts) -> Iterator[Finding]:
    for node, reading in facts.readings.items():
        links = reading.links
        if not links:
            continue
        down = [f for f in links if f.name not in reading.links_up]
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


@check(
    "sessions",
    looks_at="how many are logged in",
    why="anyone who is working there is cut off by a restart",
    levels="note",
)
def _sessions(facts: Facts) -> Iterator[Finding]:
    for node, reading in facts.readings.items():
        count = reading.gauge("sessions")
        if count:
            yield finding(
                facts,
                "note",
                f"{count:.0f} sessions are open on {reading.name}",
                "anyone who works there is cut off",
                None,
                node,
            )
        elif count is not None:
            yield finding(facts, "pass", f"nobody is logged in on {reading.name}", "", None, node)


@check(
    "requirements",
    looks_at="requirements between products hold, of third parties too",
    why="a product that another one stands on is moved in an order, or both fail",
    levels="warn",
)
def _requirements(facts: Facts) -> Iterator[Finding]:
    for words in facts.route.conflicts:
        yield finding(facts, "warn", words, "", f"gallant gaps --conflicts {facts.name}")
    if not facts.route.conflicts:
        yield finding(facts, "pass", "what it requires of others, and they of it, holds")


@check(
    "recalled",
    looks_at="no release that it runs or would enter was recalled",
    why="a publisher that takes a release back has found out why",
    levels="stop warn",
    firm=True,
)
def _recalled(facts: Facts) -> Iterator[Finding]:
    for version, words in facts.route.recalled.items():
        entered = version in facts.route.entering
        yield finding(
            facts,
            "stop" if entered else "warn",
            f"{version}, which {'it would enter' if entered else 'it runs'}, was recalled",
            words,
            f"gallant route {facts.name}",
        )
    if not facts.route.recalled:
        yield finding(facts, "pass", "no release that it runs or would enter was recalled")


@check(
    "backup-opened",
    looks_at="a backup of it was decrypted and unpacked within 30 days",
    why="a backup that was never opened is a hope",
    levels="warn note",
    phases=LONG_BEFORE,
)
def _opened(facts: Facts) -> Iterator[Finding]:
    mine = [b for b in facts.around.backups if b.system == facts.name]
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
            "only opening a backup proves it can be restored",
            f"gallant backup verify {facts.name}",
        )


@check(
    "backup-copies",
    looks_at="its newest backup lies in every second place",
    why="a backup that burns with its host is none",
    levels="warn",
    phases=LONG_BEFORE,
    mend="backup",
)
def _copies(facts: Facts) -> Iterator[Finding]:
    newest = max((b for b in facts.around.backups if b.system == facts.name), key=lambda b: b.taken, default=None)
    if newest is None:
        return
    known = {copy.place: copy for copy in newest.copies}
    for second in dict.fromkeys((*facts.around.copy_places, *known)):
        copy = known.get(second)
        if copy is not None and copy.problem is None:
            yield finding(facts, "pass", f"its newest backup lies at {second} too")
        else:
            why = copy.problem if copy is not None else "it was never made"
            todo = f"gallant backup take {facts.name}"
            yield finding(facts, "warn", f"its newest backup has no copy at {second}", why or "", todo)


@check(
    "snapshots",
    looks_at="no snapshot is left over",
    why="a snapshot that stays grows, and slows its system down",
    levels="warn note",
    phases=NOT_DURING,
    mend="snapshots",
)
def _snapshots(facts: Facts) -> Iterator[Finding]:
    for number, kept in enumerate(facts.around.snapshots):
        hours = kept.age.total_seconds() / 3600
        age = f"{f'{hours:.1f} h' if hours < 48 else f'{hours / 24:.1f} d'} old, kept by {kept.keeper}"
        todo = f"gallant snapshot remove {facts.name} {kept.snapshot.name}"
        if kept.overdue:
            yield finding(facts, "warn", f"the snapshot {kept.snapshot.name} is older than its limit", age, todo)
        elif number == 0 and len(facts.around.snapshots) > 1:
            yield finding(
                facts,
                "warn",
                f"{facts.name} has {len(facts.around.snapshots)} snapshots; each slows it down",
                age,
                todo,
            )
        else:
            yield finding(facts, "note", f"the snapshot {kept.snapshot.name} still exists", age, todo)
    if not facts.around.snapshots:
        yield finding(facts, "pass", "no snapshot is left over")


@check(
    "snapshot-possible",
    looks_at="it can be snapshotted, now and from the next release on",
    why="anyone who counts on a way back finds out in time that there is none",
    levels="warn note",
    entering=True,
)
def _snapshot_possible(facts: Facts) -> Iterator[Finding]:
    if facts.route.no_snapshots_from:
        yield finding(
            facts,
            "warn",
            f"from {facts.route.no_snapshots_from} on it cannot be snapshotted any more",
            "its backups are the way back then",
            f"gallant backup take {facts.name}",
        )
    elif facts.around.can_snapshot is False:
        yield finding(
            facts,
            "note",
            "it cannot be snapshotted",
            "its backups are the way back",
            f"gallant backup list {facts.name}",
        )
    elif facts.around.can_snapshot:
        yield finding(facts, "pass", "it can be snapshotted")


@check(
    "snapshot-room",
    looks_at="room for the restore point, where it will lie",
    why="a restore point that fills its host takes its neighbours down with it",
    levels="stop note",
    entering=True,
)
def _snapshot_room(facts: Facts) -> Iterator[Finding]:
    room = facts.around.snapshot_room
    if room is None or not facts.route.wanted:
        return
    if room.free is None:
        yield finding(facts, "note", f"{room.keeper} does not tell how much room it has for a restore point", "")
        return
    good = room.free >= room.needed
    yield finding(
        facts,
        "pass" if good else "stop",
        f"{room.keeper} has {'room' if good else 'no room'} for the restore point of {facts.name}",
        f"{room.free / 1e6:.0f} MB free, {room.needed / 1e6:.0f} MB wanted",
        (
            None
            if good
            else f"gallant snapshot list {facts.name}; make room on {room.keeper}, then: gallant check {facts.name}"
        ),
    )


@check(
    "capacity",
    looks_at="what the nodes carry together fits on one less",
    why="what a node carried has to fit onto the others while it is away",
    levels="stop",
    shapes=SHARED_LOAD,
)
def _capacity(facts: Facts) -> Iterator[Finding]:
    """What the nodes carry together, on one node less: each gauge in percent that all of them have."""
    rows = list(facts.readings.values())
    if len(rows) < 2 or facts.errors:
        return
    ceiling = facts.limits.ceiling_percent
    for room in rooms(rows, 1):
        good = room.then <= ceiling
        yield finding(
            facts,
            "pass" if good else "stop",
            f"the {room.gauge} of {facts.name} {'fits' if good else 'does not fit'} on one node less",
            f"{room.now:.0f} % each now, {room.then:.0f} % then, ceiling {ceiling:.0f} %",
            None if good else f"Move load away from {facts.name}, then: gallant check {facts.name}",
        )


@check(
    "format",
    looks_at="no on-disk format waits to be raised",
    why="a format that is raised by the way takes the way back with it",
    levels="warn",
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


@check(
    "own-path",
    looks_at="Gallant's own host, store and names do not stand on what would be disturbed",
    why="the work would cut Gallant itself off mid-roll",
    levels="stop",
)
def _own_path(facts: Facts) -> Iterator[Finding]:
    for words in facts.around.own_path:
        yield finding(
            facts,
            "stop",
            f"Gallant itself stands on {facts.name}: {words}",
            "it could not see its own work through",
            "Run Gallant from a host that does not depend on it",
        )
    if not facts.around.own_path:
        yield finding(facts, "pass", f"Gallant's own host, store and names do not depend on {facts.name}")


@check(
    "window",
    looks_at="the work fits into what is booked",
    why="work that does not fit is stopped half-way by the clock",
    levels="warn",
    entering=True,
)
def _window(facts: Facts) -> Iterator[Finding]:
    if facts.around.booked is None or facts.route.needed_s is None:
        return
    length_s = (facts.around.booked.end - facts.around.booked.start).total_seconds()
    good, minutes = facts.route.needed_s <= length_s, f"{facts.route.needed_s / 60:.0f}"
    yield finding(
        facts,
        "pass" if good else "warn",
        f"the work {'fits' if good else 'does not fit'} into what is booked",
        f"about {minutes} min of work, {length_s / 60:.0f} min booked from {facts.around.booked.start:%Y-%m-%d %H:%M}Z",
        (
            None
            if good
            else (
                f"gallant notice book {facts.around.booked.notice} {facts.around.booked.start:%Y-%m-%dT%H:%MZ} --for"
                f" {minutes}m"
            )
        ),
    )


@check(
    "unattended",
    looks_at="what is booked has its secrets when nobody is at a terminal",
    why="work that begins by itself and cannot log in is left undone",
    levels="warn",
)
def _unattended(facts: Facts) -> Iterator[Finding]:
    for one in facts.around.unattended:
        how = UNATTENDED[one.kind].format(where=one.where)
        yield finding(
            facts,
            "warn",
            f"what is booked of {facts.name} cannot log in by itself",
            f"accounts: {one.purpose}: {how}",
            (
                f"Write {one.where}=… into secrets/timer.env"
                if one.kind == "env"
                else "Keep it as file:, secret: in estate.yaml"
            ),
        )
    if facts.around.booked is not None and not facts.around.unattended:
        yield finding(facts, "pass", "what is booked has its secrets when nobody is at a terminal")


@check(
    "backup-possible",
    looks_at="its configuration can be exported",
    why="what cannot be exported is lost with its machine",
    levels="warn",
)
def _backup_possible(facts: Facts) -> Iterator[Finding]:
    if facts.around.can_export is False:
        yield finding(
            facts,
            "warn",
            "it cannot be backed up",
            f"its profile {facts.system.profile} lists no exports",
            f"Keep its configuration by hand; gallant roll PLAN --consent no-backup:{facts.name} goes on without",
        )
    elif facts.around.can_export:
        yield finding(facts, "pass", "it can be backed up", f"by its profile {facts.system.profile}")


@check(
    "restored",
    looks_at="no restore was cut off, or failed on the way",
    why="a node with half of its configuration is neither what it was nor what it should be",
    levels="warn",
)
def _restored(facts: Facts) -> Iterator[Finding]:
    for half in facts.around.half_restored:
        yield finding(
            facts,
            "warn",
            f"a restore of {facts.name}/{half.node} did not end well",
            f"{half.backup}, begun {half.began:%Y-%m-%d %H:%MZ}: {half.why}",
            f"gallant backup diff {half.backup}; then: gallant backup restore {half.backup} --node {half.node}",
            half.node,
        )
    if not facts.around.half_restored:
        yield finding(facts, "pass", "no restore was left half done")
