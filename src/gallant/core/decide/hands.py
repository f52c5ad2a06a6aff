"""Hands: what each account itself noted of the entries that it made, in a file that nobody else can write.

The ledger of a group is one file that all of its members write, and so can write anew.
What a member cannot do is write as another account: an entry is somebody's when the
hand of that account has its number and its hash, and the account owns that hand.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping

from gallant.core.decide.ledger import Kept, LedgerEntry
from gallant.core.records import Record

CUT = "it was taken out or written anew, or a command was cut off as it wrote it"


class Hand(Record):
    """One account's: `owner` is the number of the account that owns the file,
    `name` that account's name, `noted` the hash of each entry by its number."""

    owner: int
    name: str
    noted: dict[int, str]


def is_by_hand(kept: Kept, hands: Mapping[int, Hand]) -> bool:
    """Whether the account that an entry names wrote it."""
    uid = kept.entry.uid
    hand = hands.get(uid) if uid is not None else None
    return (
        hand is not None and (hand.owner, hand.name) == (uid, kept.entry.by) and hand.noted.get(kept.seq) == kept.hash
    )


def hand_problems(kept: Collection[Kept], hands: Mapping[int, Hand]) -> list[str]:
    """Where the entries and the hands differ, in words; empty where they do not.
    Entries before the first with an account's number are older than hands."""
    first = next((one.seq for one in kept if one.entry.uid is not None), None)
    here = {one.seq: one.hash for one in kept}
    foreign: dict[tuple[str, str], list[int]] = {}
    for one in kept:
        if first is not None and one.seq >= first and not is_by_hand(one, hands):
            foreign.setdefault((one.entry.by, _against(one.entry, hands)), []).append(one.seq)
    said = [f"{_numbers(seqs)}: {by} is said to have made it, and {why}" for (by, why), seqs in foreign.items()]
    lost = ((hand.name, _lost(here, hand)) for uid, hand in sorted(hands.items()) if hand.owner == uid)
    return [
        *said,
        *(
            f"{_numbers(seqs)}: {name} noted it, and the ledger does not have it so ({CUT})"
            for name, seqs in lost
            if seqs
        ),
    ]


def _numbers(seqs: list[int]) -> str:
    return f"entry {seqs[0]}" + (f" and {len(seqs) - 1} more" if len(seqs) > 1 else "")


def _against(entry: LedgerEntry, hands: Mapping[int, Hand]) -> str:
    hand = hands.get(entry.uid) if entry.uid is not None else None
    if hand is None:
        return "no account has noted that"
    if hand.owner != entry.uid:
        return f"what that account noted is a file of {hand.name}"
    if hand.name != entry.by:
        return f"the account is {hand.name}'s"
    return "that account noted another entry, or none, under its number"


def _lost(here: Mapping[int, str], hand: Hand) -> list[int]:
    """The numbers under which an account noted what the ledger does not have."""
    return sorted(seq for seq, digest in hand.noted.items() if here.get(seq) != digest)


def by_others(makers: Collection[str], entries: Iterable[LedgerEntry]) -> tuple[str, ...]:
    """The people who made some entries, each once, in their order; none of `makers`. Somebody who asked sudo for
    another account counts as both: what either of two accounts did may be one person's."""
    known, found = set(makers), list[str]()
    for entry in entries:
        names = {entry.by, entry.sudo_user or entry.by}
        if not names & known:
            found.append(entry.by)
            known |= names
    return tuple(found)
