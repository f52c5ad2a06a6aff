"""Files that are written whole or not at all, whatever lies beside them and whatever goes wrong."""

from __future__ import annotations

import errno
import os
import time

import pytest

from gallant.core.errors import Refused
from gallant.disk import LEFT_AFTER_S, make_file, put_whole, replacing


def names(folder) -> set[str]:
    return {path.name for path in folder.iterdir()}


@pytest.mark.parametrize("kind", ["file", "fifo", "link"])
def test_what_somebody_laid_under_the_name_of_a_part_is_not_written_into(tmp_path, kind):
    """It was opened as it was: a file of theirs that everybody may write, or a fifo, for ever."""
    path, part = tmp_path / "page.html", tmp_path / ".page.html.part"
    (tmp_path / "theirs").write_text("theirs")
    {"file": lambda: part.write_text("theirs"), "fifo": lambda: os.mkfifo(part), "link": lambda: part.symlink_to("theirs")}[kind]()  # fmt: skip
    put_whole(path, b"mine")
    assert path.read_bytes() == b"mine"
    assert path.stat().st_mode & 0o777 == 0o600
    assert (tmp_path / "theirs").read_text() == "theirs"
    assert names(tmp_path) == {"page.html", part.name, "theirs"}


@pytest.mark.parametrize("before", [None, b"old"])
def test_what_cannot_be_written_whole_leaves_what_was_there_and_nothing_else(tmp_path, before):
    path = tmp_path / "identity"
    if before is not None:
        path.write_bytes(before)
    with pytest.raises(OSError, match="No space"), replacing(path) as file:
        _fills_up(file)
    with pytest.raises(ValueError, match="another"), replacing(path, _refuses) as file:
        file.write(b"new")
    assert {path.read_bytes() for path in tmp_path.iterdir()} == ({before} if before is not None else set())


def _fills_up(file):
    file.write(b"ne")
    raise OSError(errno.ENOSPC, "No space left on device")


def _refuses(partial):
    assert partial.read_bytes() == b"new"
    raise ValueError("it reads back as another")


def test_what_a_killed_process_left_of_a_file_is_taken_away_and_what_another_is_writing_is_not(tmp_path):
    old, young, others = (tmp_path / f".a[1].json.{name}.part" for name in ("old", "young", "other"))
    others = tmp_path / ".b.json.old.part"
    for path in (old, young, others):
        path.write_bytes(b"half")
    for path in (old, others):
        os.utime(path, (time.time() - 2 * LEFT_AFTER_S,) * 2)
    put_whole(tmp_path / "a[1].json", b"whole")
    assert names(tmp_path) == {"a[1].json", young.name, others.name}


def test_a_link_in_the_place_of_a_file_is_replaced_and_one_that_another_opens_by_its_name_is_refused(tmp_path):
    (tmp_path / "mine").write_text("mine")
    (tmp_path / "link").symlink_to("mine")
    with pytest.raises(Refused, match="is a link"):
        make_file(tmp_path / "link")
    put_whole(tmp_path / "link", b"whole")
    assert ((tmp_path / "mine").read_text(), (tmp_path / "link").is_symlink()) == ("mine", False)
