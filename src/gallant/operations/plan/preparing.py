"""What a plan needs before its window, brought and saved ahead of it:
its packages in stock and on the nodes, a backup of each system."""

from __future__ import annotations

import fcntl
import os
from collections.abc import Sequence
from datetime import datetime

from gallant.core.decide.ledger import BEGUN, ENDED, FAILED
from gallant.core.errors import Refused, WrongUse, worst_exit
from gallant.core.estate.systems import System
from gallant.core.records import Record
from gallant.core.work.plan import Plan
from gallant.disk import opened
from gallant.operations.decide.bookings import moment_of
from gallant.operations.ground.deciding import record
from gallant.operations.ground.workplace import Workplace
from gallant.operations.keep import backups, preloading, stock
from gallant.store.database import state_folder


class Prepared(Record):
    """One thing that was brought or saved: `what` is a package, a
    preload or a backup; `state` as the command for it alone says."""

    what: str
    subject: str
    state: str
    error: str | None = None
    next: str | None = None
    exit_code: int = 0


def book(place: Workplace, plan: Plan, when: str) -> datetime:
    """Have a plan prepared from a time on, by `gallant due`; a second time changes the first."""
    at = moment_of(place, plan.systems[0], when)
    if at <= place.clock.now():
        raise WrongUse(f"{when} is past; it is {place.clock.now():%Y-%m-%d %H:%M}Z now.", next="Name a time to come.")
    record(place, "prepare", plan.id, start=at, reason=", ".join(plan.systems))
    return at


async def prepare(place: Workplace, plan: Plan) -> list[Prepared]:
    """Bring and save what the plan needs; failures first. Raises `Refused` while another process is at it."""
    lock = opened(state_folder(place.folder) / f"prepare-{plan.id}.lock", os.O_RDWR | os.O_CREAT)
    try:
        fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError:
        os.close(lock)
        raise Refused(f"{plan.id} is being prepared by another Gallant on this machine.") from None
    try:
        if not any(kept.entry.state == BEGUN for kept in place.ledger.about(["prepare"], plan.id)[-1:]):
            record(place, "prepare", plan.id, state=BEGUN)
        systems = [place.estate.systems[name] for name in plan.systems if name in place.estate.systems]
        rows = [*await _packages(place, plan), *await _preloads(place, plan, systems)]
        rows += await _backups(place, plan, systems)
        failed = [row for row in rows if row.exit_code]
        said = "; ".join(row.error or row.subject for row in failed[:3])
        record(place, "prepare", plan.id, state=FAILED if failed else ENDED, reason=said)
        return sorted(rows, key=lambda row: not row.exit_code)
    finally:
        os.close(lock)


async def _packages(place: Workplace, plan: Plan) -> list[Prepared]:
    fetched, _ = await stock.fetch(place, [], plan=plan)
    return [
        Prepared(what="package", subject=r.package, state=r.state, error=r.error, next=r.next, exit_code=r.exit_code)
        for r in fetched
    ]


async def _preloads(place: Workplace, plan: Plan, systems: Sequence[System]) -> list[Prepared]:
    """Packages laid on the nodes of those systems that take one ahead of its install."""
    from gallant.drivers.shelf import can

    moved, rows = _moved(plan), []
    for system in systems:
        if system.name in moved and can(system.profile, place.folder, "preload"):
            rows += (await preloading.preload(place, [system.name]))[0]
    return [
        Prepared(what="preload", subject=r.node, state=r.state, error=r.error, next=r.next, exit_code=r.exit_code)
        for r in rows
    ]


async def _backups(place: Workplace, plan: Plan, systems: Sequence[System]) -> list[Prepared]:
    rows = []
    for system in systems:
        rows += (await backups.take(place, [system.name], f"ahead of {plan.id}"))[0]
    return [
        Prepared(
            what="backup",
            subject=r.backup.id if r.backup is not None else r.system,
            state="taken" if r.backup is not None else "failed",
            error=r.error,
            next=r.next,
            exit_code=r.exit_code,
        )
        for r in rows
    ]


def exit_code_of(rows: list[Prepared]) -> int:
    return worst_exit([row.exit_code for row in rows])


def _moved(plan: Plan) -> set[str]:
    """The systems whose image is brought to another release."""
    return {lane.system for lane in plan.lanes if any(hop.image and hop.package is not None for hop in lane.hops)}
