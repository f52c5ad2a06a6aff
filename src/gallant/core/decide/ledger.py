"""The ledger: who decided what, when and from which host, as a chain in which no entry can be changed or left out.

Each entry's hash is over the hash before it and the entry's own JSON (SHA-256), so that anyone who holds the newest
hash can tell whether anything before it was touched.
"""

from __future__ import annotations

import hashlib
from collections.abc import Iterable, Mapping
from datetime import datetime
from typing import TypedDict

from gallant.core.records import Record, to_json_without

FIRST = "0" * 64
KINDS = (
    "accept",
    "book",
    "cancel",
    "assign",
    "skip",
    "reopen",
    "terms",
    "despite-recall",
    "prune",
    "restore",
    "snapshot",
    "waive",
    "consent",
    "roll",
    "vouch",
    "despite-booking",
    "despite-check",
    "approve",
    "catalog",
    "outside-window",
    "due",
    "prepare",
    "verify",
    "close",
    "plan",
)
DECISIONS = KINDS[:6]  # on a notice
CLOSE = "close"  # of a notice, by a roll
PLAN = "plan"  # one that was made here: `target` is the digest of all of it
BEGUN, FAILED, ENDED, TAKEN, REMOVED, REVERTED, INTENDED = STATES = (
    "begun",
    "failed",
    "done",
    "taken",
    "removed",
    "reverted",
    "intended",
)


class LedgerEntry(Record):
    """One decision. `subject` is what it is about (a notice, a system, a version of terms), `target` the
    release that it was made for, `until` a release or a day, `start` and `end` those of a booking. `state`
    is how far work that takes a while has come, or what was done: see `STATES`. `by` is the account that
    the kernel says, `uid` its number, and `sudo_user` who asked sudo for it, as the environment says;
    `seal` is of a roll's journal as it was then: how many entries, a colon, their SHA-256."""

    at: datetime
    by: str
    host: str
    kind: str
    subject: str
    target: str | None = None
    person: str | None = None
    until: str | None = None
    start: datetime | None = None
    end: datetime | None = None
    reason: str = ""
    state: str | None = None
    uid: int | None = None
    sudo_user: str | None = None
    seal: str | None = None

    @property
    def who(self) -> str:
        """Who it was, for a person."""
        return f"{self.by} (sudo: {self.sudo_user})" if self.sudo_user else self.by

    @property
    def why(self) -> str:
        """State and reason, for a person."""
        return ": ".join(part for part in (self.state, self.reason) if part)


class EntryMore(TypedDict, total=False):
    """What may be said of an entry besides its kind, its subject and its target, by the names of its fields."""

    person: str | None
    until: str | None
    start: datetime | None
    end: datetime | None
    reason: str
    state: str | None
    seal: str | None


class EntryFields(EntryMore, total=False):
    """The same with its target."""

    target: str | None


class Kept(Record):
    """An entry in its place: `seq` counts from 1 without a gap."""

    seq: int
    entry: LedgerEntry
    hash: str


def next_hash(before: str, entry: LedgerEntry) -> str:
    """The hash of an entry: of the entry before it and of all its own fields (SHA-256)."""
    return hashlib.sha256(
        before.encode() + b"\0" + to_json_without(entry, "state", "uid", "sudo_user", "seal")
    ).hexdigest()


def chain_problems(kept: Iterable[Kept], after: Kept | None = None) -> list[str]:
    """What is wrong with a chain, in words; empty where it is whole. `after`: the entry before the first of these,
    where they are the end of a longer one."""
    problems: list[str] = []
    before, expected = (after.hash, after.seq + 1) if after is not None else (FIRST, 1)
    for one in kept:
        if one.seq != expected:
            problems.append(f"entry {expected} is missing: after it comes {one.seq}")
        if one.hash != next_hash(before, one.entry):
            problems.append(
                f"entry {one.seq} ({one.entry.kind} of {one.entry.subject}) is not what was written, or what was"
                " before it"
            )
        before, expected = one.hash, one.seq + 1
    return problems


def broken_at(kept: Iterable[Kept]) -> int | None:
    """The first entry of a chain that does not follow from the one before it; None where all do."""
    before, expected = FIRST, 1
    for one in kept:
        if one.seq != expected or one.hash != next_hash(before, one.entry):
            return expected
        before, expected = one.hash, one.seq + 1
    return None


def against(kept: Iterable[Kept], witnessed: Mapping[int, str]) -> list[str]:
    """What differs from what somebody else was told at the time, by number: a chain written anew is whole in itself,
    and only anyone who kept an old hash can tell. The first difference comes first."""
    here = {one.seq: one.hash for one in kept}
    problems = []
    for seq in sorted(witnessed):
        if seq not in here:
            problems.append(
                f"entry {seq} was noted elsewhere and is not here any more: the end of the chain was cut off"
            )
        elif here[seq] != witnessed[seq]:
            problems.append(f"entry {seq} is not the one that was noted elsewhere: the chain was written anew")
    return problems
