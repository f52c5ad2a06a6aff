"""What is not over yet after the work."""

from __future__ import annotations

from gallant.core.records import Record

CATALOG, OFFER, HOP, RESTART, BACKUP, PACKAGE = ABOUT = ("catalog", "offer", "hop", "restart", "backup", "package")


class Still(Record):
    """One thing that is still wanted, by what it is about: `system` and
    `node` are empty where it is of no system or of all its nodes."""

    about: str
    what: str
    system: str = ""
    node: str = ""
    next: str | None = None
