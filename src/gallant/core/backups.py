"""What is known of one backup: the record that its manifest holds and that guards and checks look at."""

from __future__ import annotations

from datetime import datetime, timedelta

from gallant.core.records import Record


class Item(Record):
    """One export within a backup: its file name in the archive, size in bytes and SHA-256 before compression."""

    name: str
    node: str
    bytes: int
    sha256: str


class Backup(Record):
    """A system's exported configuration, kept off the system.

    `versions` are by node; `bytes` and `sha256` are those of the stored archive; `sealed` and `opened` are when the
    stored bytes were last read back whole, and unpacked, or None.
    """

    schema: str = "gallant.backup/1"
    id: str
    system: str
    taken: datetime
    by: str
    comment: str
    tool: str
    versions: dict[str, str]
    items: tuple[Item, ...]
    archive: str
    bytes: int
    sha256: str
    encrypted: bool = False
    sealed: datetime | None = None
    opened: datetime | None = None


def good_for(
    backups: list[Backup], system: str, versions: dict[str, str], now: datetime, limit: timedelta
) -> Backup | None:
    """The newest sealed backup, younger than the limit, of the versions that these nodes run; None where none is.

    `versions` may lack nodes that do not answer: nothing is said of them, so nothing of theirs is compared.
    """
    fit = [
        b
        for b in backups
        if b.system == system and b.sealed and now - b.taken <= limit and versions.items() <= b.versions.items()
    ]
    return max(fit, key=lambda b: b.taken, default=None)
