"""The ledger, looked at: listed, taken out as JSON Lines, and held against what others were told."""

from __future__ import annotations

import json
import os
import re
from pathlib import Path

from gallant.core.decide.hands import hand_problems
from gallant.core.decide.ledger import Kept, against, broken_at, chain_problems
from gallant.core.decide.syslog import json_line
from gallant.core.errors import GallantError, WrongUse
from gallant.core.records import Record
from gallant.disk import opened, why_not
from gallant.operations.ground.workplace import Workplace

_TOLD = re.compile(r'seq="(\d+)"[^\]]*?hash="([0-9a-f]{64})"')


class LedgerLook(Record):
    """Entries, newest first; what is wrong with the chain; and how many entries each place was not told yet. `entries`
    is how many there are; `whole`: the whole chain was looked at, and not the links of its newest ones alone."""

    kept: tuple[Kept, ...]
    problems: tuple[str, ...]
    untold: dict[str, int]
    entries: int
    whole: bool


class ChainVerified(Record):
    """Whether the chain is whole. `broken` is the first entry that is not; `witnessed` how many a file had."""

    entries: int
    newest: str
    broken: int | None
    problems: tuple[str, ...]
    witnessed: int | None = None

    @property
    def blind(self) -> bool:
        """Whether an end that was cut off here and in the journal could not be seen."""
        return self.witnessed is None


MOST_AT_ONCE = 2_000  # entries; a longer chain is looked through only where that is asked for


def look(place: Workplace, newest: int | None = None) -> LedgerLook:
    """The entries that can be read, and what is wrong with the others; no more than the `newest` of a long chain."""
    count, untold = place.ledger.count(), place.ledger.count_untold()
    if newest is not None and count > MOST_AT_ONCE:
        found, wrong = place.ledger.newest(newest + 1)
        kept = found[1:]
        problems = [*(error.what for error in wrong), *(chain_problems(kept, found[0]) if kept else ())]
        return LedgerLook(kept=tuple(kept[::-1]), problems=tuple(problems), untold=untold, entries=count, whole=False)
    kept, problems = _read(place)
    shown = tuple(kept[::-1][:newest])
    return LedgerLook(kept=shown, problems=tuple(problems), untold=untold, entries=count, whole=True)


def _read(place: Workplace) -> tuple[list[Kept], list[str]]:
    """Every entry that can be read, and what is wrong with the chain and
    with who wrote it; hands are looked at where all can be read."""
    kept, wrong = place.ledger.readable()
    by_whom = [] if wrong else hand_problems(kept, place.ledger.hands())
    return kept, [*(error.what for error in wrong), *chain_problems(kept), *by_whom]


def export(place: Workplace, into: Path) -> int:
    """Every entry with its number and hash, a line each; gives how many. An existing file is not overwritten."""
    kept = place.ledger.entries()
    try:
        with os.fdopen(opened(into, os.O_WRONLY | os.O_CREAT | os.O_EXCL), "wb") as file:
            file.writelines(json_line(one) for one in kept)
    except FileExistsError:
        raise WrongUse(f"{into} is there already; it is not overwritten.", next="Name another file.") from None
    except OSError as error:
        raise GallantError(f"{into} cannot be written: {why_not(error, into)}.") from None
    return len(kept)


def verify(place: Workplace, file: Path | None) -> ChainVerified:
    """The chain in itself, and against a file of what was told: an export, JSON lines, or a collector's syslog."""
    kept, problems = _read(place)
    witnessed = None
    if (seen := place.journal.witnessed()) is not None:
        problems = [*against(kept, dict([seen])), *problems]
    if file is not None:
        told = witnesses(file)
        problems = [*against(kept, told), *problems]
        witnessed = len(told)
    return ChainVerified(
        entries=len(kept),
        newest=kept[-1].hash if kept else "",
        broken=broken_at(kept),
        problems=tuple(problems),
        witnessed=witnessed,
    )


def witnesses(file: Path) -> dict[int, str]:
    """Number to hash of every entry that a file tells of; raises `WrongUse` where it tells of none."""
    found: dict[int, str] = {}
    try:
        text = file.read_text("utf-8", "replace")
    except OSError as error:
        raise WrongUse(f"{file} cannot be read: {error.strerror}.") from None
    for line in text.splitlines():
        if match := _TOLD.search(line):
            found[int(match[1])] = match[2]
            continue
        try:
            said = json.loads(line)
        except ValueError:
            continue
        if isinstance(said, dict) and isinstance(said.get("seq"), int) and isinstance(said.get("hash"), str):
            found[said["seq"]] = said["hash"]
    if not found:
        raise WrongUse(f"{file} tells of no entry of a ledger.", next="gallant ledger export FILE writes such a file.")
    return found
