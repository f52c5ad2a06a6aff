"""What a plan needs before its window, brought and saved ahead of it:
its packages in stock and on the nodes, a backup of each system."""

from __future__ import annotations

import fcntl
import os
from datetime import datetime

from gallant.core.decide.ledger import BEGUN, ENDED, FAILED
from gallant.core.errors import Refused, WrongUse, worst_exit
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
    from gallant.drivers.shelf import can

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
        fetched, _ = await stock.fetch(place, [], plan=plan)
        rows = [
            Prepared(
                what="package", subject=r.package, state=r.state, error=r.error, next=r.next, exit_code=r.exit_code
            )
            for r in fetched
        ]
        laid = [s.name for s in systems if can(s.profile, place.folder, "preload") and s.name in _moved(plan)]
        for name in laid:
            put, _ = await preloading.preload(place, [name])
            rows += [
                Prepared(
                    what="preload", subject=r.node, state=r.state, error=r.error, next=r.next, exit_code=r.exit_code
                )
                for r in put
            ]
        for system in systems:
            taken, _ = await backups.take(place, [system.name], f"ahead of {plan.id}")
            rows += [
                Prepared(
                    what="backup",
                    subject=r.backup.id if r.backup is not None else r.system,
                    state="taken" if r.backup is not None else "failed",
                    error=r.error,
                    next=r.next,
                    exit_code=r.exit_code,
                )
                for r in taken
            ]
        failed = [row for row in rows if row.exit_code]
        said = "; ".join(row.error or row.subject for row in failed[:3])
        record(place, "prepare", plan.id, state=FAILED if failed else ENDED, reason=said)
        return sorted(rows, key=lambda row: not row.exit_code)
    finally:
        os.close(lock)


def exit_code_of(rows: list[Prepared]) -> int:
    return worst_exit([row.exit_code for row in rows])


def _moved(plan: Plan) -> set[str]:
    """The systems whose image is brought to another release."""
    return {lane.system for lane in plan.lanes if any(hop.image and hop.package is not None for hop in lane.hops)}
