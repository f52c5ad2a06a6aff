"""Checks of the system itself: its nodes, roles, replicas, services, and what its route needs."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import timedelta

from gallant.core.checks.facts import Facts, Finding, finding
from gallant.core.checks.register import ALWAYS, NOT_DURING, SEVERAL, check
from gallant.core.estate.backups import good_for
from gallant.core.estate.systems import node_name
from gallant.core.readings import IN_SERVICE

MOST_NAMED = 5


@check(
    "reachable",
    looks_at="every node answers, and as the machine that the estate says",
    why="what was not read is not known, and what is not known is not planned",
    levels="stop",
    phases=ALWAYS,
    firm=True,
)
def _reachable(facts: Facts) -> Iterator[Finding]:
    for node, error in facts.errors.items():
        if node not in facts.alike:
            yield finding(
                facts,
                "stop",
                f"{node_name(facts.system, node)} was not read",
                error,
                facts.remedies.get(node) or f"gallant survey {facts.name}/{node}",
                node,
            )
    if not facts.errors:
        yield finding(
            facts,
            "pass",
            "every node answers as the machine that the estate says",
            ", ".join(r.serial for r in facts.readings.values()),
        )


@check(
    "known-by-sight",
    looks_at="somebody has confirmed each serial that the estate does not name",
    why="a serial that was taken at first sight may have been another machine's from the beginning",
    levels="warn",
)
def _known_by_sight(facts: Facts) -> Iterator[Finding]:
    for node, reading in facts.readings.items():
        if facts.system.nodes[node].held_by == "sight":
            yield finding(
                facts,
                "warn",
                f"nobody has confirmed that {facts.name}/{node} is the machine it should be",
                f"serial {reading.serial}, taken at first sight",
                f"gallant survey {facts.name} --learn-keys",
                node,
            )


@check(
    "distinct",
    looks_at="no two addresses lead to one machine",
    why="work on one machine twice takes both halves of a pair down",
    levels="stop",
    shapes=SEVERAL,
    firm=True,
)
def _distinct(facts: Facts) -> Iterator[Finding]:
    for node, other in facts.alike.items():
        yield finding(
            facts,
            "stop",
            f"{facts.name}/{node} and {other} are one machine",
            facts.errors.get(node, ""),
            f"Look at the addresses of {facts.name}/{node} and {other} in estate.yaml",
            node,
        )
    boots: dict[str, str] = {}
    for node, reading in facts.readings.items():
        other = boots.setdefault(f"{reading.serial} {reading.boot}", node)
        if other != node:
            yield finding(
                facts,
                "stop",
                f"{facts.name}/{node} and {facts.name}/{other} answer alike",
                reading.serial,
                f"Look at the addresses of {facts.name} in estate.yaml",
                node,
            )


@check(
    "in-service",
    looks_at="every node is in service",
    why="a node that is out already is the redundancy that the work would use",
    levels="stop",
    phases=ALWAYS,
)
def _in_service(facts: Facts) -> Iterator[Finding]:
    for node, reading in facts.readings.items():
        good = reading.state == IN_SERVICE
        yield finding(
            facts,
            "pass" if good else "stop",
            f"{reading.name} is {'' if good else 'not '}in service",
            reading.state,
            None if good else f"Look at the console of {reading.name}",
            node,
        )


@check(
    "in-sync",
    looks_at="replicas are whole",
    why="a replica that is not whole cannot take over without losing what is missing",
    levels="stop note",
    phases=ALWAYS,
)
def _in_sync(facts: Facts) -> Iterator[Finding]:
    for node, reading in facts.readings.items():
        if reading.in_sync is None:
            continue
        left = f", about {reading.sync_remaining_s / 60:.0f} min left" if reading.sync_remaining_s else ""
        yield finding(
            facts,
            "pass" if reading.in_sync else "stop" if facts.system.in_service else "note",
            f"the replica of {reading.name} is {'' if reading.in_sync else 'not '}whole",
            f"{reading.sync_word}{left}",
            None if reading.in_sync else f"Wait, then: gallant check {facts.name}",
            node,
        )


@check(
    "roles",
    looks_at="roles are in their usual places",
    why="anyone who looks for the load looks in its usual place; a role elsewhere has a reason",
    levels="warn note",
    phases=NOT_DURING,
    mend="roles",
)
def _roles(facts: Facts) -> Iterator[Finding]:
    wrong = [
        (role, node, facts.readings[node].role)
        for role, node in facts.system.usual.items()
        if node in facts.readings and facts.readings[node].role != role
    ]
    for role, node, found in wrong:
        yield finding(
            facts,
            "warn" if facts.system.in_service else "note",
            f"{facts.name}/{node} is {found}; its usual place is {role}",
            f"{node}: {found}",
            f"gallant check --mend --only roles {facts.name}",
            node,
        )
    if facts.system.usual and not wrong and not facts.errors:
        yield finding(
            facts,
            "pass",
            "roles are in their usual places",
            ", ".join(f"{n}: {r.role}" for n, r in facts.readings.items()),
        )


@check(
    "no-job",
    looks_at="no job runs on any node",
    why="a second order on a busy node fails, or harms the first",
    levels="stop",
    phases=ALWAYS,
    firm=True,
)
def _no_job(facts: Facts) -> Iterator[Finding]:
    busy = [(n, j) for n, r in facts.readings.items() for j in r.running_jobs]
    for node, job in busy:
        yield finding(
            facts,
            "stop",
            f"{facts.name}/{node} is busy: {job.kind}",
            f"job {job.id}, {job.percent:.0f} %, {job.message}",
            f"Wait for it, then: gallant check {facts.name}",
            node,
        )
    if not busy and not facts.errors:
        yield finding(facts, "pass", "no job is running")


@check(
    "restart-pending",
    looks_at="no node would start another version than it runs",
    why="the next restart, no matter who causes it, would change the version",
    levels="warn",
)
def _restart_pending(facts: Facts) -> Iterator[Finding]:
    for node, reading in facts.readings.items():
        if reading.next_version is not None and reading.next_version != reading.version:
            yield finding(
                facts,
                "warn",
                f"{reading.name} would start {reading.next_version} at its next restart",
                f"runs {reading.version}",
                f"gallant gaps {facts.name}",
                node,
            )


@check(
    "versions-even",
    looks_at="all nodes run one version",
    why="nodes of two versions are an update that was never finished",
    levels="warn",
    phases=NOT_DURING,
    shapes=SEVERAL,
)
def _versions_even(facts: Facts) -> Iterator[Finding]:
    versions = {n: r.version for n, r in facts.readings.items()}
    if len(set(versions.values())) > 1:
        yield finding(
            facts,
            "warn",
            "its nodes run different versions",
            ", ".join(f"{n}: {v}" for n, v in versions.items()),
            facts.route.plan or f"gallant route {facts.name}",
        )


@check(
    "space",
    looks_at="free space for the largest package of the route",
    why="an install that runs out of space stops half-way",
    levels="stop",
    mend="packages",
    entering=True,
)
def _space(facts: Facts) -> Iterator[Finding]:
    largest = max((p.bytes for p in facts.route.wanted), default=0)
    needed = largest * facts.limits.free_space_factor
    for node, reading in facts.readings.items():
        free = reading.gauge("free space")
        if free is None or not largest:
            continue
        good = free >= needed
        yield finding(
            facts,
            "pass" if good else "stop",
            f"{reading.name} has {'room' if good else 'no room'} for the largest package of the route",
            f"{free / 1e6:.0f} MB free, {needed / 1e6:.0f} MB wanted",
            None if good else f"Take old packages off {reading.name}, then: gallant check {facts.name}",
            node,
        )


@check(
    "clock",
    looks_at="each node's clock against ours",
    why="certificates, logs and the order of events are wrong when a clock is",
    levels="warn",
    phases=ALWAYS,
)
def _clock(facts: Facts) -> Iterator[Finding]:
    for node, reading in facts.readings.items():
        offset = reading.clock_offset_s
        if offset is None:
            continue
        within = reading.clock_uncertainty_s or 0.0
        good = abs(offset) - within <= facts.limits.clock_offset_s
        yield finding(
            facts,
            "pass" if good else "warn",
            f"the clock of {reading.name} is {'right' if good else 'off'}",
            f"{offset:+.1f} s, known to ±{within:.1f} s, limit {facts.limits.clock_offset_s:g} s",
            None if good else f"Set the time source of {reading.name}",
            node,
        )


@check(
    "service-address",
    looks_at="one node answers for each service address, and it is not a node's own address",
    why="an address that two nodes hold, or that stays with one, does not follow its role",
    levels="stop warn",
    shapes=SEVERAL,
)
def _service_address(facts: Facts) -> Iterator[Finding]:
    """What is told of who answers is held against one; a node that does not say is nobody's proof."""
    told = {r.name: r.answers_for for r in facts.readings.values() if r.answers_for is not None}
    all_told = len(told) == len(facts.system.nodes)
    for name, service in facts.system.services.items():
        address = service.endpoint[0]
        owner = next((n for n, node in facts.system.nodes.items() if node.host == address), None)
        if owner is not None:
            yield finding(
                facts,
                "warn",
                f"the service address {name} is {facts.name}/{owner}'s own",
                f"{address} does not move when {facts.name}/{owner} is worked on",
                f"Give {name} an address that moves with the role, in estate.yaml",
                owner,
            )
            continue
        yield _answering(facts, name, address, [n for n, addresses in told.items() if address in addresses], all_told)


def _answering(facts: Facts, name: str, address: str, answering: list[str], all_told: bool) -> Finding:
    """What the nodes that say they answer for a service address make of it."""
    if len(answering) > 1:
        several = f"{' and '.join(answering)} both" if len(answering) == 2 else f"{', '.join(answering)} all"
        return finding(
            facts,
            "stop",
            f"{several} answer for the service address {name}",
            f"{address}: users reach one or the other by chance",
            f"Take {address} off all nodes of {facts.name} but the one that should have it",
        )
    if all_told and not answering:
        todo = f"Look at the roles: gallant inventory {facts.name}"
        return finding(facts, "stop", f"no node answers for the service address {name}", address, todo)
    if answering:
        return finding(facts, "pass", f"{answering[0]} alone answers for the service address {name}", address)
    return finding(facts, "pass", f"the service address {name} is not a node's own", address)


@check(
    "service-answers",
    looks_at="service addresses answer",
    why="an outage that was there before is taken for one of the work",
    levels="stop",
    phases=ALWAYS,
)
def _service_answers(facts: Facts) -> Iterator[Finding]:
    if not facts.system.in_service:
        for name in [n for n, sample in facts.asked.probes.items() if sample.ok]:
            yield finding(
                facts,
                "stop",
                f"the service {name} answers, and the estate says that {facts.name} is not in service",
                "somebody may depend on it, and all of its nodes would be worked on at once",
                f"Take in_service: no away from {facts.name} in estate.yaml, or its service off the network",
            )
        return
    for name, sample in facts.asked.probes.items():
        yield finding(
            facts,
            "pass" if sample.ok else "stop",
            f"the service {name} {'answers' if sample.ok else 'does not answer'}",
            f"{sample.answer_s * 1000:.0f} ms" if sample.ok else sample.why,
            None if sample.ok else f"gallant survey {facts.name}",
        )


@check(
    "backup",
    looks_at="a fresh sealed backup of the running version",
    why="nothing is disturbed without a way back that was seen to be whole",
    levels="warn",
    mend="backup",
)
def _backup(facts: Facts) -> Iterator[Finding]:
    if facts.around.can_export is False:  # then another check says so, and what is left to do
        return
    versions = {n: r.version for n, r in facts.readings.items()}
    limit = timedelta(hours=facts.limits.backup_age_hours)
    good = good_for(list(facts.around.backups), facts.name, versions, facts.now, limit)
    if good is not None:
        age = (facts.now - good.taken).total_seconds() / 3600
        yield finding(facts, "pass", "a sealed backup of the running version is at hand", f"{good.id}, {age:.1f} h old")
        return
    newest = max((b for b in facts.around.backups if b.system == facts.name), key=lambda b: b.taken, default=None)
    why = (
        "there is none"
        if newest is None
        else (
            "it is not sealed"
            if newest.sealed is None
            else (
                "it is of another version"
                if not versions.items() <= newest.versions.items()
                else (
                    f"it is {(facts.now - newest.taken).total_seconds() / 3600:.1f} h old, the limit is"
                    f" {facts.limits.backup_age_hours:g} h"
                )
            )
        )
    )
    yield finding(
        facts, "warn", "no fresh sealed backup of the running version", why, f"gallant backup take {facts.name}"
    )


@check(
    "stock",
    looks_at="the route's packages and the running release's are in stock",
    why="on the night the old installer is needed, it is not to be had any more",
    levels="stop warn",
    entering=True,
)
def _stock(facts: Facts) -> Iterator[Finding]:
    for name in facts.route.missing:
        yield finding(
            facts, "stop", f"{name} is not in stock", "the route needs it", f"gallant stock fetch {facts.name}"
        )
    for name in facts.route.unkept:
        yield finding(
            facts,
            "warn",
            f"{name}, the running release, is not in stock",
            "a fresh install would have nothing to start from",
            f"gallant stock fetch {facts.name}",
        )
    if facts.route.wanted and not facts.route.missing and not facts.route.unkept:
        yield finding(
            facts,
            "pass",
            "every package of the route is in stock, the running release's too",
            ", ".join(p.name for p in facts.route.wanted),
        )


@check(
    "open-roll",
    looks_at="no other roll of the system is open",
    why="two rolls of one system would take each other's redundancy",
    levels="note",
    firm=True,
)
def _open_roll(facts: Facts) -> Iterator[Finding]:
    if facts.around.open_roll is not None:
        yield finding(
            facts,
            "note",
            f"{facts.around.open_roll} of this system is not finished",
            "",
            f"gallant resume {facts.around.open_roll}",
        )


@check(
    "site-notes",
    looks_at="the site's own notes on the system, its product and the hops ahead",
    why="what went wrong here last time goes wrong again",
    levels="note",
)
def _notes(facts: Facts) -> Iterator[Finding]:
    for note in facts.route.notes:
        when = f"{note.by}, {note.date:%Y-%m-%d}" if note.date else note.by
        yield finding(facts, "note", f"your own note on {note.about}: {note.text}", when)


@check(
    "known-issues",
    looks_at="known issues of the releases to be entered that concern this system",
    why="the publisher has told already what goes wrong with some",
    levels="warn note",
    entering=True,
)
def _issues(facts: Facts) -> Iterator[Finding]:
    for concern in facts.route.issues:
        if concern.nodes or concern.untold:
            loud = bool(concern.nodes) and concern.issue.severity in ("critical", "high")
            yield finding(
                facts,
                "warn" if loud else "note",
                f"known issue of {concern.release}: {concern.issue.text}",
                f"{concern.issue.severity}; {concern.words}",
                f"gallant catalog show {facts.system.product} {concern.release}",
            )


@check(
    "terms",
    looks_at="the terms of the releases to be entered are accepted",
    why="a named person accepts what a publisher asks, not a program",
    levels="stop",
    entering=True,
    firm=True,
)
def _terms(facts: Facts) -> Iterator[Finding]:
    parts = [c for r in facts.readings.values() for c in r.components if c.product == facts.system.product]
    notice = f"{facts.name}:{parts[0].name}" if parts else facts.name
    for version in facts.route.terms:
        yield finding(
            facts,
            "stop",
            f"the publisher's terms {version} are not accepted",
            "no named person has, for this estate",
            f"gallant notice accept {notice} --accept-terms {version}",
        )


@check(
    "channels",
    looks_at="each host has a channel that can deliver updates",
    why="a host whose channels are off installs nothing, or what lay in its cache",
    levels="stop warn note",
    entering=True,
)
def _channels(facts: Facts) -> Iterator[Finding]:
    for node, reading in facts.readings.items():
        if reading.channels is None:
            continue
        bad = [c for c in reading.channels if not c.delivers]
        good = [c for c in reading.channels if c.delivers]
        for channel in bad:
            state = channel.state if channel.enabled else "disabled"
            yield finding(
                facts,
                "warn" if channel.enabled else "note",
                f"the channel {channel.name} of {reading.name} is {state}",
                channel.why,
                f"Look at the channels of {reading.name}",
                node,
            )
        yield finding(
            facts,
            "pass" if good else "stop",
            f"{reading.name} has {'a' if good else 'no'} channel that can deliver updates",
            ", ".join(c.name for c in good or bad) or "it has none at all",
            None if good else f"Enable or mend a channel of {reading.name}, then: gallant check {facts.name}",
            node,
        )


@check(
    "own-files",
    looks_at="nobody else can write what Gallant goes by",
    why="anyone who can write the estate, a profile or a plan has Gallant do what they want",
    levels="warn",
)
def _own_files(facts: Facts) -> Iterator[Finding]:
    if not facts.around.writable:
        yield finding(facts, "pass", "the estate's files are their owner's alone to write")
        return
    more = f" and {len(facts.around.writable) - MOST_NAMED} more" if len(facts.around.writable) > MOST_NAMED else ""
    yield finding(
        facts,
        "warn",
        "others can write what Gallant goes by",
        ", ".join(facts.around.writable[:MOST_NAMED]) + more,
        "gallant doctor --mend",
    )
