"""Writing into the ledger: one way for everything that somebody decided."""

from __future__ import annotations

import socket
from typing import Any

from gallant.core.ledger import Entry, Kept
from gallant.operations.workplace import Workplace


def record(place: Workplace, kind: str, subject: str, **more: Any) -> Kept:
    """One entry, on the disk when this returns; see `core.ledger.Entry` for what may stand in it."""
    entry = Entry(at=place.clock.now(), by=place.user, host=socket.gethostname(), kind=kind, subject=subject, **more)
    kept: Kept = place.ledger.append(entry)
    return kept
