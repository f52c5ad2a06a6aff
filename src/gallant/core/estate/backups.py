"""What is known of one backup: the record that its manifest holds, and that guards, checks and keep rules look at."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Sequence, Set
from datetime import datetime, timedelta
from typing import Annotated

import msgspec

from gallant.core.records import Record, replace, to_json_without

SIGNED = b"gallant-backup-v1\0"
_FILE_NAME = re.compile(r"[A-Za-z0-9_][A-Za-z0-9._-]{0,127}")


class Item(Record):
    """One export within a backup: its name, the node it is of, size in bytes and SHA-256 before compression."""

    name: str
    node: str
    bytes: int
    sha256: str

    def __post_init__(self) -> None:
        if not _FILE_NAME.fullmatch(self.name) or not _FILE_NAME.fullmatch(self.node):
            raise ValueError("an item and its node are plain file names")

    @property
    def path(self) -> str:
        """Where it lies in the archive."""
        return f"{self.node}/{self.name}"


class Copy(Record):
    """A backup in a second place: when it was read back there, or what stood in the way."""

    place: str
    sealed: datetime | None = None
    problem: str | None = None


Raw = bytes  # a record below has a field of that name


class Backup(Record):
    """A system's exported configuration, kept off the system.

    `versions` and `serials` are by node; `bytes` and `blake3` are those of the stored archive, which may be an earlier
    backup's where every item and the recipients were the same; `recipients` are age public keys, none for a plain one.
    `before` is the release that was to be entered, and `roll` the roll that took it for that. `signature` (Ed25519,
    hexadecimal) is over everything but itself and what later verification finds out: `sealed` and `opened` are when the
    stored bytes were last read back whole, and decrypted and unpacked, or None; `copies` is how the copies stand.
    """

    schema: str = "gallant.backup/1"
    id: str
    system: str
    product: str = ""
    taken: datetime
    by: str
    comment: str
    before: str | None = None
    roll: str | None = None
    tool: str
    versions: dict[str, str]
    serials: dict[str, str] = {}
    items: tuple[Item, ...]
    archive: str
    bytes: int
    blake3: str
    recipients: tuple[str, ...] = ()
    key: str = ""
    signature: str = ""
    sealed: datetime | None = None
    opened: datetime | None = None
    copies: tuple[Copy, ...] = ()

    def __post_init__(self) -> None:
        for name in (self.id, self.system, self.archive):
            if not _FILE_NAME.fullmatch(name):
                raise ValueError("id, system and archive are plain file names")

    @property
    def encrypted(self) -> bool:
        """Whether it was sealed for somebody."""
        return bool(self.recipients)

    def signed_part(self) -> Raw:
        """What the signature is over."""
        said = replace(self, signature="", sealed=None, opened=None, copies=())
        return SIGNED + to_json_without(said, "roll")

    def holds_the_same(self, other: Backup) -> bool:
        """Whether nothing but time has passed between the two: every item, and for whom it is encrypted."""
        return self.items == other.items and self.recipients == other.recipients


def good_for(
    backups: Sequence[Backup], system: str, versions: dict[str, str], now: datetime, limit: timedelta
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


class Keep(Record):
    """How many backups of a system are kept: the newest, one of each day and of each week, and those before updates."""

    last: Annotated[int, msgspec.Meta(ge=1)] = 5
    daily: Annotated[int, msgspec.Meta(ge=0)] = 14
    weekly: Annotated[int, msgspec.Meta(ge=0)] = 8
    before_update: Annotated[int, msgspec.Meta(ge=0)] = 3


class BackupFate(Record):
    """What becomes of a backup when the rules are applied, and by which of them; `kept` None: it goes."""

    backup: Backup
    kept: str | None


def fates(backups: Iterable[Backup], keep: Keep, pinned: Set[str] = frozenset()) -> list[BackupFate]:
    """Of one system's backups, newest first, which stay. `pinned` are ids that a roll points to.

    The newest that is sealed always stays: rules are for the many, and a way back is never counted away. A day or a
    week is the calendar's, in UTC (ISO 8601), and its newest backup stands for it.
    """
    newest_first = sorted(backups, key=lambda b: (b.taken, b.id), reverse=True)
    kept: dict[str, str] = {b.id: "a roll points to it" for b in newest_first if b.id in pinned}
    sealed = [b for b in newest_first if b.sealed is not None]
    for b in sealed[:1]:
        kept.setdefault(b.id, "the newest sealed")
    rules: tuple[tuple[str, int, list[Backup]], ...] = (
        ("last", keep.last, newest_first),
        ("daily", keep.daily, _newest_of_each(sealed, lambda b: b.taken.date())),
        ("weekly", keep.weekly, _newest_of_each(sealed, lambda b: b.taken.isocalendar()[:2])),
        ("before an update", keep.before_update, [b for b in sealed if b.before is not None]),
    )
    for rule, count, ordered in rules:
        for b in ordered[:count]:
            kept.setdefault(b.id, rule)
    return [BackupFate(backup=b, kept=kept.get(b.id)) for b in newest_first]


def _newest_of_each(newest_first: Sequence[Backup], of: Callable[[Backup], object]) -> list[Backup]:
    seen: dict[object, Backup] = {}
    for b in newest_first:
        seen.setdefault(of(b), b)
    return list(seen.values())
