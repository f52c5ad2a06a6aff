"""What differs between two backups, item by item: text side by
side with its secrets masked, the rest as changed or not."""

from __future__ import annotations

import difflib
from collections.abc import Callable, Mapping

from gallant.core.records import Record

SAME, CHANGED, NEW, GONE = "same", "changed", "new", "gone"
# Beyond this a comparison line by line is of no use to anybody and takes long; the item is said to have changed.
MOST_LINES = 20_000
MASK = "•••"
Mask = Callable[[str], str]


class Pair(Record):
    """One row of two texts side by side; `left` or `right` is None
    where the other has a line more. `at` are line numbers."""

    left: str | None
    right: str | None
    at: tuple[int, int]

    @property
    def differs(self) -> bool:
        """Whether both sides are not the same."""
        return self.left != self.right


class Difference(Record):
    """One item of two backups: `what` became of it, its bytes before
    and after, and the rows that differ where it is text."""

    item: str
    what: str
    before_bytes: int | None = None
    after_bytes: int | None = None
    text: bool = False
    rows: tuple[Pair, ...] = ()


def whole(line: str) -> str:
    """A line of which everything counts."""
    return line


def compare(
    before: Mapping[str, bytes], after: Mapping[str, bytes], mask: Mask, around: int = 0, counts: Mask = whole
) -> list[Difference]:
    """Item by item, those that differ first; of a text the lines that differ, with so
    many `around` each of them. `counts` gives what of a line is compared."""
    found = [
        _one(name, before.get(name), after.get(name), mask, around, counts)
        for name in sorted(before.keys() | after.keys())
    ]
    return sorted(found, key=lambda d: d.what == SAME)


def _one(name: str, old: bytes | None, new: bytes | None, mask: Mask, around: int, counts: Mask) -> Difference:
    def said(what: str, rows: tuple[Pair, ...] | None = None) -> Difference:
        return Difference(
            item=name,
            what=what,
            before_bytes=None if old is None else len(old),
            after_bytes=None if new is None else len(new),
            text=rows is not None,
            rows=rows or (),
        )

    if old is None or new is None:
        return said(NEW if old is None else GONE)
    if old == new:
        return said(SAME)
    texts = _lines(old), _lines(new)
    if texts[0] is None or texts[1] is None:
        return said(CHANGED)
    left, right = ([counts(line) for line in text] for text in (texts[0], texts[1]))
    if counts is not whole and left == right:
        return said(SAME)
    matcher = difflib.SequenceMatcher(None, left, right, autojunk=False)
    return said(CHANGED, _side_by_side(texts[0], texts[1], matcher, mask, around))


def _lines(raw: bytes) -> list[str] | None:
    """The lines of a text; None where it is none, or too long to be read."""
    if b"\0" in raw[:65536]:
        return None
    try:
        lines = raw.decode("utf-8").splitlines()
    except UnicodeDecodeError:
        return None
    return lines if len(lines) <= MOST_LINES else None


def _side_by_side(
    old: list[str], new: list[str], matcher: difflib.SequenceMatcher[str], mask: Mask, around: int
) -> tuple[Pair, ...]:
    rows: list[Pair] = []
    for group in matcher.get_grouped_opcodes(around):
        for tag, a, a_end, b, b_end in group:
            for offset in range(max(a_end - a, b_end - b)):
                left = old[a + offset] if a + offset < a_end else None
                right = new[b + offset] if b + offset < b_end else None
                shown = (_masked(left, mask), _masked(right, mask))
                if tag != "equal" and shown[0] is not None and shown[0] == shown[1]:  # only what is masked differs
                    shown = (shown[0], f"{shown[1]} (another secret)")
                rows.append(Pair(left=shown[0], right=shown[1], at=(a + offset + 1, b + offset + 1)))
    return tuple(rows)


def _masked(line: str | None, mask: Mask) -> str | None:
    return None if line is None else mask(line)
