"""Whose an entry is: what each account noted for itself, held against the ledger."""

from __future__ import annotations

from datetime import UTC, datetime

import pytest
from hypothesis import given
from hypothesis import strategies as st

from gallant.core.decide.hands import Hand, by_others, hand_problems, is_by_hand
from gallant.core.decide.ledger import FIRST, Kept, LedgerEntry, next_hash
from gallant.core.records import replace

NOW = datetime(2026, 11, 25, 22, 0, tzinfo=UTC)
NAMES = {1: "anna", 2: "berta", 3: "carl"}


def entry(uid: int | None, by: str | None = None, **more) -> LedgerEntry:
    name = by if by is not None else NAMES[uid]
    return LedgerEntry(at=NOW, by=name, uid=uid, host="keeper", kind="approve", subject="plan-1", **more)


def chained(*entries: LedgerEntry) -> list[Kept]:
    found, before = [], FIRST
    for seq, one in enumerate(entries, 1):
        before = next_hash(before, one)
        found.append(Kept(seq=seq, entry=one, hash=before))
    return found


def hands_of(kept: list[Kept]) -> dict[int, Hand]:
    noted: dict[int, dict[int, str]] = {}
    for one in kept:
        if one.entry.uid is not None:
            noted.setdefault(one.entry.uid, {})[one.seq] = one.hash
    return {uid: Hand(owner=uid, name=NAMES[uid], noted=seqs) for uid, seqs in noted.items()}


@given(st.lists(st.sampled_from([1, 2, 3]), min_size=1, max_size=8), st.data())
def test_what_was_written_by_hand_is_well_and_whatever_is_taken_out_or_put_in_is_told(uids, data):
    kept = chained(*map(entry, uids))
    hands = hands_of(kept)
    assert hand_problems(kept, hands) == []
    assert all(is_by_hand(one, hands) for one in kept)
    at = data.draw(st.integers(0, len(kept) - 1))
    gone = chained(*(one.entry for n, one in enumerate(kept) if n != at))
    assert any(NAMES[kept[at].entry.uid] in told for told in hand_problems(gone, hands))
    forged = chained(*(one.entry for one in kept), entry(data.draw(st.sampled_from([1, 2, 3]))))
    [told] = hand_problems(forged, hands)
    assert told.startswith(f"entry {len(forged)}: {forged[-1].entry.by} is said to have made it, and ")
    assert not is_by_hand(forged[-1], hands)
    changed = chained(*(replace(one.entry, reason="x") if n == at else one.entry for n, one in enumerate(kept)))
    assert not is_by_hand(changed[at], hands)
    assert f"entry {at + 1}" in hand_problems(changed, hands)[0]


@pytest.mark.parametrize(
    ("hand", "why"),
    [
        (None, "no account has noted that"),
        (Hand(owner=3, name="carl", noted={}), "what that account noted is a file of carl"),
        (Hand(owner=2, name="bertha", noted={}), "the account is bertha's"),
        (Hand(owner=2, name="berta", noted={}), "that account noted another entry, or none, under its number"),
    ],
)
def test_an_entry_that_its_account_did_not_write_says_why(hand, why):
    kept = chained(entry(2), entry(2))
    if hand is not None:  # what is no file of the account's own proves nothing, whatever stands in it
        hand = replace(
            hand, noted={one.seq: one.hash for one in kept} if hand.owner != 2 or hand.name != "berta" else {}
        )
    hands = {2: hand} if hand is not None else {}
    assert not is_by_hand(kept[0], hands)
    assert hand_problems(kept, hands)[0] == f"entry 1 and 1 more: berta is said to have made it, and {why}"


def test_an_entry_without_an_account_is_old_before_the_first_with_one_and_nobodys_after_it():
    old, new = entry(None, "anna"), entry(1)
    kept = chained(old, new)
    assert hand_problems(kept, hands_of(kept)) == []
    assert hand_problems(chained(old, old), {}) == []
    late = chained(new, old)
    assert hand_problems(late, hands_of(late)) == [
        "entry 2: anna is said to have made it, and no account has noted that"
    ]


def test_an_entry_from_before_accounts_had_numbers_keeps_its_hash():
    plain = LedgerEntry(at=NOW, by="anna", host="keeper", kind="waive", subject="clock")
    assert next_hash(FIRST, plain) == next_hash(FIRST, replace(plain, uid=None, sudo_user=None))
    assert next_hash(FIRST, plain) != next_hash(FIRST, replace(plain, uid=1))
    assert next_hash(FIRST, plain) == "c2bbb48ee00db7a45ef68ff59db5c7382712620f9f7f6aa491f552847c70565c"


@pytest.mark.parametrize(
    ("entries", "counted"),
    [
        ([entry(2), entry(2), entry(3)], ("berta", "carl")),
        ([entry(1), entry(3)], ("carl",)),  # anna made it
        ([entry(2, sudo_user="anna"), entry(3)], ("carl",)),  # asked for by anna
        ([entry(2, sudo_user="carl"), entry(3)], ("berta",)),  # one person, or may be
        ([entry(3, sudo_user="dora"), entry(2, sudo_user="dora")], ("carl",)),
        ([], ()),
    ],
)
def test_of_two_accounts_that_one_person_may_have_used_one_counts(entries, counted):
    assert by_others({"anna"}, entries) == counted
