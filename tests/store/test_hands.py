"""An account's hand: a file of its own in which it notes the entries that it made."""

from __future__ import annotations

import os
import stat

import pytest

from gallant.core.errors import GallantError
from gallant.store.hands import hands_in, note

A, B = "a" * 64, "b" * 64


def own(tmp_path):
    return tmp_path / "hands" / str(os.getuid())


def test_what_was_noted_is_read_and_what_was_cut_in_a_line_takes_nothing_with_it(tmp_path):
    note(tmp_path, 1, A)
    with own(tmp_path).open("a") as file:
        file.write(f"2 {A[:20]}")  # the power went
    note(tmp_path, 2, B)
    hand = hands_in(tmp_path)[os.getuid()]
    assert (hand.owner, hand.noted) == (os.getuid(), {1: A, 2: B})
    assert stat.S_IMODE(own(tmp_path).stat().st_mode) == 0o600  # nobody else works here
    assert (tmp_path / "hands").stat().st_mode & stat.S_ISVTX


def test_in_a_groups_folder_all_may_read_it_and_its_owner_alone_writes(tmp_path):
    tmp_path.chmod(0o2770)
    note(tmp_path, 1, A)
    assert stat.S_IMODE(own(tmp_path).stat().st_mode) == 0o644
    assert stat.S_IMODE((tmp_path / "hands").stat().st_mode) == 0o3770


@pytest.mark.parametrize("lie", ["link", "hard link", "fifo"])
def test_what_somebody_laid_in_its_place_is_not_written_and_says_nothing(tmp_path, lie):
    (tmp_path / "hands").mkdir()
    theirs = tmp_path / "theirs"
    theirs.write_text(f"7 {A}\n")
    if lie == "fifo":
        os.mkfifo(own(tmp_path))
    else:
        (os.link if lie == "hard link" else os.symlink)(theirs, own(tmp_path))
    if lie != "fifo":  # a fifo would be waited for by whoever opens it to write alone
        with pytest.raises(GallantError):
            note(tmp_path, 1, B)
    assert theirs.read_text() == f"7 {A}\n"
    assert not any(hand.noted for hand in hands_in(tmp_path).values())


def test_where_it_cannot_be_written_no_decision_is(tmp_path):
    (tmp_path / "hands").write_text("a file in its place")
    with pytest.raises(GallantError, match="cannot be written"):
        note(tmp_path, 1, A)
    assert hands_in(tmp_path) == {}
