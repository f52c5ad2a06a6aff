"""Writing into the ledger: one way for everything that somebody
decided; each entry is also told to the one who keeps watch.

What a collector was not told, because it was away, is told with
the next entry; what is still waiting is counted and said.
"""

from __future__ import annotations

import contextlib
import os
import socket
from typing import Unpack
from urllib.parse import urlsplit

from gallant.core.decide.ledger import EntryFields, Kept, LedgerEntry
from gallant.core.decide.syslog import framed, json_line, rfc5424
from gallant.core.errors import GallantError
from gallant.core.estate.told import EventPlace
from gallant.core.ports import OneRoll
from gallant.core.work import events
from gallant.disk import appending
from gallant.operations.ground.sealing import seal_now
from gallant.operations.ground.workplace import Workplace

PATIENCE_S = 3.0


def record(place: Workplace, kind: str, subject: str, **more: Unpack[EntryFields]) -> Kept:
    """One entry, on the disk when this returns; see `core.ledger.Entry` for what may stand in it."""
    who = place.person
    entry = LedgerEntry(
        at=place.clock.now(),
        by=who.name,
        uid=who.uid,
        sudo_user=who.sudo_user,
        host=socket.gethostname(),
        kind=kind,
        subject=subject,
        **more,
    )
    kept: Kept = place.ledger.append(entry, [event.to for event in place.estate.events])
    with contextlib.suppress(
        GallantError
    ):  # the decision stands; a journal that cannot be used is told by what needs it
        place.journal.witness(kept.seq, kept.hash)
    tell(place)
    return kept


def end_roll(place: Workplace, roll_id: str, reason: str) -> None:
    """End a roll where it stands, for good. Raises `Refused` while it is running."""
    with place.journal.take_up(roll_id) as journal:
        end_here(place, journal, reason)


def end_here(place: Workplace, journal: OneRoll, reason: str) -> None:
    """The same of the roll that this process has in its hands."""
    now, wall = place.clock.now(), place.clock.real()
    journal.write(events.Entry(kind=events.ENDED, at=now, wall=wall, by=place.user, message=reason))
    record(place, "roll", journal.id, reason=f"ended for good: {reason}", seal=seal_now(journal))


def tell(place: Workplace) -> None:
    """Tell every place what it was not told yet; one that cannot be reached is tried again the next time."""
    for event in place.estate.events:
        waiting = place.ledger.untold(event.to)
        try:
            _send(place, event, waiting)
        except (OSError, GallantError):  # away, or a file that is a link: what waits is counted and said
            continue
        for kept in waiting:
            place.ledger.told(event.to, kept.seq)


def _send(place: Workplace, event: EventPlace, waiting: list[Kept]) -> None:
    if not waiting:
        return
    parts = urlsplit(event.to)
    if not parts.scheme:
        with appending(place.folder / event.to) as file:
            file.write(b"".join(json_line(kept) for kept in waiting))
            file.flush()
            os.fsync(file.fileno())
        return
    messages = [rfc5424(kept, str(os.getpid()), event.enterprise) for kept in waiting]
    where = (parts.hostname or "", parts.port or 0)
    if parts.scheme == "tcp":
        with socket.create_connection(where, PATIENCE_S) as stream:
            stream.sendall(b"".join(framed(message) for message in messages))
        return
    family = socket.AF_INET6 if ":" in where[0] else socket.AF_INET
    with socket.socket(family, socket.SOCK_DGRAM) as sock:
        sock.settimeout(PATIENCE_S)
        sock.connect(where)
        for message in messages:
            sock.send(message)
