"""Which backups stay, and what differs between two."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

from hypothesis import given
from hypothesis import strategies as st

from gallant.core.after.differences import CHANGED, GONE, NEW, SAME, compare
from gallant.core.estate.backups import Backup, Keep, fates

NOW = datetime(2026, 11, 25, 22, 0, tzinfo=UTC)


def backup(number: int, taken: datetime, sealed: bool = True, before: str | None = None) -> Backup:
    return Backup(
        id=f"b{number}", system="t", taken=taken, by="x", comment="", before=before, tool="t", versions={}, items=(),
        archive="x", bytes=1, blake3="0", sealed=taken if sealed else None,
    )  # fmt: skip


ages = st.lists(
    st.tuples(st.integers(0, 5000), st.booleans(), st.sampled_from([None, "3.2.4, roll-0001"])), max_size=40
)
keeps = st.builds(
    Keep, last=st.integers(1, 5), daily=st.integers(0, 14), weekly=st.integers(0, 8), before_update=st.integers(0, 3)
)


@given(ages, keeps, st.sets(st.integers(0, 40)))
def test_the_newest_sealed_and_what_a_roll_points_to_are_never_taken_away(made, keep, pinned):
    backups = [backup(n, NOW - timedelta(hours=age), sealed, before) for n, (age, sealed, before) in enumerate(made)]
    found = {f.backup.id: f.kept for f in fates(backups, keep, {f"b{n}" for n in pinned})}
    assert found.keys() == {b.id for b in backups}
    for n in pinned:
        assert found.get(f"b{n}", "") is not None
    sealed = [b for b in backups if b.sealed]
    if sealed:
        newest = max(b.taken for b in sealed)
        assert any(found[b.id] for b in sealed if b.taken == newest)
    going = [b for b in backups if found[b.id] is None]
    newest_first = sorted(backups, key=lambda b: (b.taken, b.id), reverse=True)
    assert not {b.id for b in going} & {b.id for b in newest_first[: keep.last]}


@given(ages, keeps)
def test_what_the_rules_keep_they_keep_again(made, keep):
    backups = [backup(n, NOW - timedelta(hours=age), sealed, before) for n, (age, sealed, before) in enumerate(made)]
    kept = [f.backup for f in fates(backups, keep) if f.kept]
    assert all(f.kept for f in fates(kept, keep))


def test_a_day_and_a_week_are_stood_for_by_their_newest():
    backups = [backup(n, NOW - timedelta(hours=6 * n)) for n in range(60)]
    kept = {f.backup.id: f.kept for f in fates(backups, Keep(last=2, daily=3, weekly=2, before_update=0)) if f.kept}
    assert kept == {"b0": "the newest sealed", "b1": "last", "b4": "daily", "b8": "daily", "b12": "weekly"}


def plain(line: str) -> str:
    return line


def test_items_that_differ_come_first_and_text_stands_side_by_side():
    before = {"a.txt": b"one\ntwo\nthree\n", "b.bin": b"\0\1", "c": b"same", "gone": b"x"}
    after = {"a.txt": b"one\n2\nthree\nfour\n", "b.bin": b"\0\2\3", "c": b"same", "new": b"y"}
    found = {d.item: d for d in compare(before, after, plain)}
    assert {n: d.what for n, d in found.items()} == {
        "a.txt": CHANGED,
        "b.bin": CHANGED,
        "c": SAME,
        "gone": GONE,
        "new": NEW,
    }
    assert [d.what for d in compare(before, after, plain)][-1] == SAME
    assert [(p.left, p.right) for p in found["a.txt"].rows if p.differs] == [("two", "2"), (None, "four")]
    assert (found["b.bin"].text, found["b.bin"].before_bytes, found["b.bin"].after_bytes) == (False, 2, 3)


@given(st.dictionaries(st.sampled_from("abc"), st.binary(max_size=30)))
def test_nothing_differs_from_itself(items):
    assert all(d.what == SAME for d in compare(items, items, plain))


def test_a_secret_is_masked_on_both_sides_and_its_change_is_still_seen():
    def mask(line: str) -> str:
        return "password •••" if line.startswith("password") else line

    found = compare({"c": b"user x\npassword old\n"}, {"c": b"user x\npassword new\n"}, mask)[0]
    assert [p for p in found.rows if p.differs]
    said = " ".join(f"{p.left} {p.right}" for p in found.rows)
    assert "old" not in said
    assert "new" not in said
